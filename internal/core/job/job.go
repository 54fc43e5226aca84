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
	Definition
}

// Definition is the part of a job that is saved anew as a version.
type Definition struct {
	Zone        string      `json:"zone" doc:"time zone of the job's rules and dates, such as Europe/London"`
	Calendars   []string    `json:"calendars,omitempty" maxItems:"10" doc:"names of the calendars of open days; a day is open when all of them say so; Monday to Friday when left out"`
	Triggers    []Trigger   `json:"triggers,omitempty" maxItems:"50"`
	Values      Values      `json:"values,omitempty" doc:"values of the reports' parameters, by name"`
	Tasks       []Task      `json:"tasks" maxItems:"50"`
	Retry       Retry       `json:"retry,omitzero"`
	IfBlank     IfBlank     `json:"if_blank,omitempty" enum:"hold,send,fail" doc:"what to do when nothing was found; hold when left out"`
	IfUnknown   IfUnknown   `json:"if_unknown,omitempty" enum:"ask,resend" doc:"what to do with a delivery whose answer was lost; ask when left out"`
	AfterOutage AfterOutage `json:"after_outage,omitempty" enum:"once,each,none" doc:"what to do with rings that were missed; once when left out"`
	Overlap     Overlap     `json:"overlap,omitempty" enum:"wait,pass over,together" doc:"what to do when the last run still works; wait when left out"`
	Priority    int         `json:"priority,omitempty" minimum:"-100" maximum:"100" doc:"higher goes first"`
	TimeLimit   Duration    `json:"time_limit,omitempty" doc:"longest time for one task, such as 10m; 30m when left out"`
}

// Trigger is a rule with values of its own.
type Trigger struct {
	ID int64 `json:"id,omitempty" doc:"given by the service" required:"false"`
	Timing
	Values      Values     `json:"values,omitempty" doc:"values that go before the job's"`
	Reading     string     `json:"reading,omitempty" doc:"the rule in words, given by the service" required:"false"`
	NextDue     *time.Time `json:"next_due,omitempty" doc:"when it rings next, given by the service" required:"false"`
	NextNominal *time.Time `json:"-"`
}

// Task is one step of a job. Tasks run one after another.
type Task struct {
	Name    string       `json:"name" minLength:"1" maxLength:"100"`
	Kind    TaskKind     `json:"kind" enum:"report,deliver"`
	Report  *ReportTask  `json:"report,omitempty" doc:"for the kind report"`
	Deliver *DeliverTask `json:"deliver,omitempty" doc:"for the kind deliver"`
}

// TaskKind names a kind of task.
type TaskKind string

// The kinds.
const (
	KindReport  TaskKind = "report"
	KindDeliver TaskKind = "deliver"
)

// ReportTask runs a report and makes a file of each output.
type ReportTask struct {
	Report  string   `json:"report" minLength:"1" doc:"name of the report"`
	Outputs []Output `json:"outputs" minItems:"1" maxItems:"20"`
}

// Output is one file that a report task makes.
type Output struct {
	Format string `json:"format" enum:"csv,xlsx,html-mail"`
	Name   string `json:"name,omitempty" maxLength:"300" doc:"file name with moving parts; the report's name and the date when left out"`
}

// DeliverTask hands the files of the tasks before it over to recipients.
type DeliverTask struct {
	Destination string   `json:"destination" minLength:"1" doc:"name of the destination"`
	To          []string `json:"to" minItems:"1" maxItems:"10000" doc:"mail addresses"`
	Subject     string   `json:"subject,omitempty" maxLength:"500" doc:"with moving parts; the job's name and the date when left out"`
	Body        string   `json:"body,omitempty" maxLength:"100000" doc:"plain text with moving parts"`
}

// Retry says how passing failures are tried again.
type Retry struct {
	Times int      `json:"times,omitempty" minimum:"0" maximum:"100" doc:"tries after the first"`
	Wait  Duration `json:"wait,omitempty" doc:"time between two tries, such as 10m"`
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
	BlankHold IfBlank = "hold"
	BlankSend IfBlank = "send"
	BlankFail IfBlank = "fail"

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
	DefaultTimeLimit = 30 * time.Minute
	DefaultRetryWait = 5 * time.Minute
)

// WithDefaults fills in what was left out.
func (d Definition) WithDefaults() Definition {
	if d.IfBlank == "" {
		d.IfBlank = BlankHold
	}
	if d.IfUnknown == "" {
		d.IfUnknown = UnknownAsk
	}
	if d.AfterOutage == "" {
		d.AfterOutage = OutageOnce
	}
	if d.Overlap == "" {
		d.Overlap = OverlapWait
	}
	if d.TimeLimit == 0 {
		d.TimeLimit = Duration(DefaultTimeLimit)
	}
	if d.Retry.Times > 0 && d.Retry.Wait == 0 {
		d.Retry.Wait = Duration(DefaultRetryWait)
	}
	return d
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
