// Package job holds the records of the domain, the checks that need nothing but
// the record itself, and the moves of their states (states.go). It does no I/O.
package job

import (
	"encoding/json"
	"fmt"
	"time"
)

// Job is what is to be done and how it behaves.
type Job struct {
	ID        int64     `json:"id" db:"id"`
	Name      string    `json:"name" db:"name"`
	Owner     string    `json:"owner" db:"owner" doc:"sign-in name of the person who is told of failures"`
	On        bool      `json:"on" db:"is_on"`
	Version   int       `json:"version" db:"version"`
	UpdatedAt time.Time `json:"updated_at" db:"updated_at"`
	Revision  int64     `json:"revision,omitempty" db:"revision" doc:"rises with each change; give it back in If-Match when you save" required:"false"`

	RemovedAt *time.Time `json:"removed_at,omitempty" db:"removed_at" doc:"when it was removed; it can be brought back for 30 days" required:"false"`
	Definition
}

// Definition is the part of a job that is saved anew as a version.
type Definition struct {
	Zone       string    `json:"zone" doc:"time zone of the job's rules and dates, such as Europe/London"`
	Calendars  []string  `json:"calendars,omitempty" maxItems:"10" doc:"names of the calendars of open days; a day is open when all of them say so; Monday to Friday when left out"`
	Tags       []string  `json:"tags,omitempty" maxItems:"20" doc:"words by which jobs are found, limited and frozen together"`
	Triggers   []Trigger `json:"triggers,omitempty" maxItems:"50"`
	Values     Values    `json:"values,omitempty" doc:"values of the reports' parameters, by name"`
	Own        []string  `json:"own,omitempty" maxItems:"100" doc:"names of values that are the job's own, beside the parameters of its reports: for its texts, conditions and programs"`
	Split      Split     `json:"split,omitzero" doc:"runs the job once for each value of a list or row of a query"`
	Tasks      []Task    `json:"tasks" maxItems:"50"`
	SideBySide int       `json:"side_by_side,omitempty" minimum:"0" maximum:"20" doc:"tasks of one part that may work at the same time; 4 when left out"`

	Retry       Retry       `json:"retry,omitzero"`
	IfBlank     IfBlank     `json:"if_blank,omitempty" enum:"hold,send,retry,fail" doc:"what to do when nothing was found; hold when left out"`
	BlankThen   IfBlank     `json:"blank_then,omitempty" enum:"hold,send,fail" doc:"what to do when it is still blank after the retries; hold when left out"`
	Usual       Usual       `json:"usual,omitzero" doc:"what a result must have to count as usual"`
	IfUnusual   IfBlank     `json:"if_unusual,omitempty" enum:"hold,send,retry,fail" doc:"what to do when the result is unusual; hold when left out"`
	UnusualThen IfBlank     `json:"unusual_then,omitempty" enum:"hold,send,fail" doc:"what to do when it is still unusual after the retries; hold when left out"`
	AlertOn     []string    `json:"alert_on,omitempty" enum:"blank,unusual,success" maxItems:"5" doc:"what the owner is told of beside failures"`
	SecondOwner string      `json:"second_owner,omitempty" maxLength:"100" doc:"sign-in name of who is told when the owner takes an alert not on"`
	Urgent      bool        `json:"urgent,omitempty" doc:"quiet hours do not hold back its alerts"`
	Patience    Retry       `json:"patience,omitzero" doc:"how deliveries are tried again that failed and may pass; 8 tries over 4 hours, at growing intervals, when left out"`
	GiveUpAfter Duration    `json:"give_up_after,omitempty" doc:"how long deliveries wait for a destination that is down; 24h when left out"`
	IfUnknown   IfUnknown   `json:"if_unknown,omitempty" enum:"ask,resend" doc:"what to do with a delivery whose answer was lost; ask when left out"`
	AfterOutage AfterOutage `json:"after_outage,omitempty" enum:"once,each,none" doc:"what to do with rings that were missed; once when left out"`
	Overlap     Overlap     `json:"overlap,omitempty" enum:"wait,pass over,together" doc:"what to do when the last run still works; wait when left out"`
	Priority    int         `json:"priority,omitempty" minimum:"-100" maximum:"100" doc:"higher goes first; one point is worth a minute of waiting"`
	Delay       Duration    `json:"delay,omitempty" doc:"how long a run waits after it was due before it begins"`
	TimeLimit   Duration    `json:"time_limit,omitempty" doc:"longest time for one task, such as 10m; 30m when left out"`
	RunLimit    Duration    `json:"run_limit,omitempty" doc:"longest time from the start of a run to the end of its tasks; deliveries spend none of it; none when left out"`
	Deadline    Deadline    `json:"deadline,omitzero" doc:"when a run must have arrived; its owner is told before it is too late"`
	Keep        Keep        `json:"keep,omitzero" doc:"how long its runs and files are kept"`
	Personal    bool        `json:"personal,omitempty" doc:"an own schedule: it sends a report that is open to its owner to its owner alone, and says nothing else"`
	Joiners     []string    `json:"joiners,omitempty" maxItems:"200" doc:"who may join its mails by themselves, and leave them again: person:login, group:name, post:name or under:name; nobody when left out"`
}

// Usual says what a result must have so that it does not count as unusual.
type Usual struct {
	AtLeast int64   `json:"at_least,omitempty" minimum:"0" doc:"rows at least"`
	Share   float64 `json:"share,omitempty" minimum:"0" maximum:"1" doc:"least share of the median of the last 20 good runs, such as 0.5; it counts from 5 good runs on"`
}

// Deadline says when a run must have arrived: at a time of day, or so long
// after it was due.
type Deadline struct {
	At     string   `json:"at,omitempty" maxLength:"5" doc:"time of day in the job's zone, such as 09:00: the first one after the run was due"`
	Within Duration `json:"within,omitempty" doc:"time after the run was due, such as 2h"`
}

// Keep says for how many days what a job leaves behind is kept.
type Keep struct {
	Runs  int `json:"runs,omitempty" minimum:"0" maximum:"3660" doc:"days that its runs are kept; 400 when left out"`
	Log   int `json:"log,omitempty" minimum:"0" maximum:"3660" doc:"days that the logs of its runs are kept; 90 when left out"`
	Files int `json:"files,omitempty" minimum:"0" maximum:"3660" doc:"days that its files and messages are kept; 90 when left out"`
}

// Trigger starts a job: by a rule, by what happens elsewhere, or by both.
type Trigger struct {
	ID int64 `json:"id,omitempty" doc:"given by the service" required:"false"`
	Timing
	Wait        *Wait      `json:"wait,omitempty" doc:"what must have happened; with a rule, a run that rang waits for it"`
	Values      Values     `json:"values,omitempty" doc:"values that go before the job's"`
	Reading     string     `json:"reading,omitempty" doc:"the rule in words, given by the service" required:"false"`
	NextDue     *time.Time `json:"next_due,omitempty" doc:"when it rings next, given by the service" required:"false"`
	NextNominal *time.Time `json:"-"`
}

// Retry says how passing failures are tried again.
type Retry struct {
	Times   int      `json:"times,omitempty" minimum:"0" maximum:"100" doc:"tries after the first"`
	Wait    Duration `json:"wait,omitempty" doc:"time before the first of them, such as 10m"`
	Growth  float64  `json:"growth,omitempty" minimum:"0" maximum:"10" doc:"how much longer each wait is than the one before, such as 2; 1 when left out"`
	Longest Duration `json:"longest,omitempty" doc:"longest wait; none when left out"`
	Until   string   `json:"until,omitempty" maxLength:"5" doc:"time of day in the job's zone after which nothing is tried again, such as 09:00"`
}

// IfBlank says what to do when nothing was found.
type IfBlank string

// IfUnknown says what to do with a delivery whose answer was lost.
type IfUnknown string

// AfterOutage says what to do with rings that were missed.
type AfterOutage string

// Overlap says what to do when the last run of the job still works.
type Overlap string

// The choices by name; the first of each is its default.
const (
	BlankHold  IfBlank = "hold"
	BlankSend  IfBlank = "send"
	BlankRetry IfBlank = "retry"
	BlankFail  IfBlank = "fail"

	UnknownAsk    IfUnknown = "ask"
	UnknownResend IfUnknown = "resend"

	OutageOnce AfterOutage = "once"
	OutageEach AfterOutage = "each"
	OutageNone AfterOutage = "none"

	OverlapWait     Overlap = "wait"
	OverlapPassOver Overlap = "pass over"
	OverlapTogether Overlap = "together"
)

// Defaults of a job's limits.
const (
	DefaultGiveUp     = 24 * time.Hour
	DefaultTimeLimit  = 30 * time.Minute
	DefaultRetryWait  = 5 * time.Minute
	DefaultSideBySide = 4
)

// DefaultPatience is how deliveries are tried again when their job does not say: 8
// tries over four hours.
var DefaultPatience = Retry{Times: 7, Wait: Duration(115 * time.Second), Growth: 2}

// WithDefaults fills in what was left out.
func (d Definition) WithDefaults() Definition {
	d.IfBlank, d.BlankThen = orElse(d.IfBlank, BlankHold), orElse(d.BlankThen, BlankHold)
	d.IfUnusual, d.UnusualThen = orElse(d.IfUnusual, BlankHold), orElse(d.UnusualThen, BlankHold)
	d.IfUnknown = orElse(d.IfUnknown, UnknownAsk)
	d.AfterOutage = orElse(d.AfterOutage, OutageOnce)
	d.Overlap = orElse(d.Overlap, OverlapWait)
	if d.SideBySide == 0 {
		d.SideBySide = DefaultSideBySide
	}
	if d.TimeLimit == 0 {
		d.TimeLimit = Duration(DefaultTimeLimit)
	}
	if d.GiveUpAfter == 0 {
		d.GiveUpAfter = Duration(DefaultGiveUp)
	}
	for _, r := range []*Retry{&d.Retry, &d.Patience} {
		if r.Times > 0 && r.Wait == 0 {
			r.Wait = Duration(DefaultRetryWait)
		}
	}
	return d
}

func orElse[T ~string](text, otherwise T) T {
	if text == "" {
		return otherwise
	}
	return text
}

// WithDefaults fills in what was left out.
func (k Keep) WithDefaults() Keep {
	set := func(days *int, otherwise int) {
		if *days == 0 {
			*days = otherwise
		}
	}
	set(&k.Runs, 400)
	set(&k.Log, 90)
	set(&k.Files, 90)
	return k
}

// Duration is a length of time, written as "90s" or "1h30m".
type Duration time.Duration

// MarshalText writes "10m0s" as "10m".
func (d Duration) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

func (d Duration) String() string {
	text := time.Duration(d).String()
	for _, zero := range []string{"m0s", "h0m"} {
		if n := len(text) - len(zero); n > 0 && text[n:] == zero {
			text = text[:n+1]
		}
	}
	return text
}

// UnmarshalText reads a positive length of time of at most thirty days.
func (d *Duration) UnmarshalText(text []byte) error {
	v, err := time.ParseDuration(string(text))
	if err != nil || v < 0 || v > 30*24*time.Hour {
		return fmt.Errorf("%q is no length of time; write it as 90s, 10m or 1h30m, at most 720h", text)
	}
	*d = Duration(v)
	return nil
}

// Values are the values of parameters, by name. A value is a text, a number,
// yes or no, or null.
type Values map[string]any

// Over gives the values with those of v put before the ones of base.
func (v Values) Over(base Values) Values {
	all := make(Values, len(base)+len(v))
	for name, value := range base {
		all[name] = value
	}
	for name, value := range v {
		all[name] = value
	}
	return all
}

// Key is a text that is equal for equal values, to tell runs apart.
func (v Values) Key() string {
	if len(v) == 0 {
		return ""
	}
	text, err := json.Marshal(v) // map keys come sorted
	if err != nil {
		return fmt.Sprintf("%v", map[string]any(v))
	}
	return string(text)
}
