package job

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Wait says what must have happened elsewhere so that a job starts.
type Wait struct {
	For    []Condition `json:"for" minItems:"1" maxItems:"20"`
	Need   Need        `json:"need,omitempty" enum:"all,any" doc:"whether all of it must have happened, or any; all when left out"`
	Match  Match       `json:"match,omitempty" enum:"same day,window" doc:"what belongs together: the same business day, or what happens within a window; same day when left out"`
	Within Duration    `json:"within,omitempty" doc:"length of the window, and how long a run that rang waits; 24h when left out"`
	Once   bool        `json:"use_once,omitempty" doc:"what happened counts for one ring only; otherwise it counts for all rings of its day, or within the window"`
	Take   Values      `json:"take,omitempty" doc:"values of the run out of the event that completes it, as texts with moving parts, such as {event.data.port}"`

	Gather     Duration `json:"gather,omitempty" doc:"waits until nothing more came for so long, so that many make one run"`
	GatherMost Duration `json:"gather_at_most,omitempty" doc:"how long it gathers at most, from the first on; ten times gather when left out"`
	Quiet      Duration `json:"quiet_after,omitempty" doc:"how long after a start what happens starts no other"`
	Outside    Outside  `json:"outside,omitempty" enum:"wait,pass over" doc:"what becomes of what happens outside of the permitted hours of a trigger without a rule; wait when left out"`
	WhileOff   bool     `json:"while_off,omitempty" doc:"what happens starts the job also while it is off, and rings by no rule"`
	Latest     string   `json:"latest,omitempty" maxLength:"5" doc:"time of day until which a run that rang waits at most, such as 09:30; otherwise as long as within says"`
	InVain     InVain   `json:"in_vain,omitempty" enum:"pass over,fail,go on" doc:"what a run does that waited in vain, of which its owner is told; pass over when left out"`

	IfLate IfLate `json:"if_late,omitempty" enum:"alert,show" doc:"what becomes of it when something has not come on a day by the hour by which it usually is there: the owner gets an alert, or it is only shown, as that a job has not ended always is; alert when left out"`

	Otherwise Values `json:"otherwise,omitempty" doc:"values to take where the event lacks the field that take names; without one the run fails and says which"`
}

// Condition is one thing that may happen: an event of a type, an outcome of a job, something
// with files or with a query's answer, or a start of the service.
type Condition struct {
	Event   string     `json:"event,omitempty" maxLength:"200" doc:"type of an event, such as example.tarnwick.ledger.closed"`
	Source  string     `json:"source,omitempty" maxLength:"500" doc:"its source; when left out any sender, and the owner of the job; what other people and their jobs report starts it only when it is named"`
	Subject string     `json:"subject,omitempty" maxLength:"500" doc:"its subject; any when left out"`
	OnlyIf  string     `json:"only_if,omitempty" maxLength:"1000" doc:"what must hold of the event, such as event.data.cm > 300; of a file event.data.path, name, folder, size, modified and replaced, of an answer event.data.value, before and row"`
	Job     string     `json:"job,omitempty" maxLength:"200" doc:"name of a job"`
	Ends    []RunState `json:"ends,omitempty" enum:"done,partly,blank,failed,cancelled" maxItems:"5" doc:"outcomes of the job that count; done when left out"`

	Files *FileWatch  `json:"files,omitempty" doc:"files of a place"`
	Query *QueryWatch `json:"query,omitempty" doc:"the answer of a statement"`
	Start StartOf     `json:"start,omitempty" enum:"any node,first node" doc:"a start of the service: of any node, or of the first after all were down"`
}

// Need says how many conditions must hold.
type Need string

// Match says which happenings belong together.
type Match string

// Outside says what becomes of what happens outside of permitted hours.
type Outside string

// InVain says what a run does that waited in vain.
type InVain string

// IfLate says what becomes of it when something is late by its own past.
type IfLate string

// The choices; the first of each is the default.
const (
	NeedAll Need = "all"
	NeedAny Need = "any"

	MatchDay    Match = "same day"
	MatchWindow Match = "window"

	OutsideWait     Outside = "wait"
	OutsidePassOver Outside = "pass over"

	VainPassOver InVain = "pass over"
	VainFail     InVain = "fail"
	VainGoOn     InVain = "go on"

	LateAlert IfLate = "alert"
	LateShow  IfLate = "show"
)

// lacks is the key of what stands in place of a value that an event lacked.
const lacks = "lacks"

// Lacking stands among the values of a run in place of one that was to be taken from an event that lacks
// it: the run fails with it, and never takes a default in silence.
func Lacking(why string) any { return map[string]any{lacks: why} }

// Lacks tells why a value is none.
func Lacks(v any) (why string, is bool) {
	m, ok := v.(map[string]any)
	if !ok || len(m) != 1 {
		return "", false
	}
	why, is = m[lacks].(string)
	return why, is
}

// gatherTimes is how much longer than its pause it is gathered when nothing is said.
const gatherTimes = 10

// DefaultWithin is how long what happened waits for the rest of it.
const DefaultWithin = 24 * time.Hour

// WithDefaults fills in what was left out.
func (w Wait) WithDefaults() Wait {
	w.Need, w.Match = orElse(w.Need, NeedAll), orElse(w.Match, MatchDay)
	w.Outside, w.InVain = orElse(w.Outside, OutsideWait), orElse(w.InVain, VainPassOver)
	w.IfLate = orElse(w.IfLate, LateAlert)
	if w.GatherMost == 0 {
		w.GatherMost = gatherTimes * w.Gather
	}
	if w.Within == 0 {
		w.Within = Duration(DefaultWithin)
	}
	return w
}

// Outcomes are the outcomes of the job that count.
func (c Condition) Outcomes() []RunState {
	if len(c.Ends) == 0 {
		return []RunState{RunDone}
	}
	return c.Ends
}

// Event is something that happened outside, as CloudEvents 1.0 describes it.
type Event struct {
	ID       string          `json:"id" db:"event_id"`
	Source   string          `json:"source" db:"source"`
	Type     string          `json:"type" db:"type"`
	Subject  string          `json:"subject,omitempty" db:"subject"`
	Time     time.Time       `json:"time" db:"time"`
	Data     json.RawMessage `json:"data,omitempty" db:"data" doc:"JSON; text and bytes (in base64) as a string"`
	Media    string          `json:"datacontenttype,omitempty" db:"media" doc:"media type of the data; application/json when left out"`
	Received time.Time       `json:"received" db:"received_at"`

	// Extensions are further attributes, by name: texts, numbers and booleans.
	Extensions map[string]any `json:"extensions,omitempty" db:"-"`
}

// Facts are what an event says, by name. Read from JSON they keep whole numbers exactly as they are written.
type Facts map[string]any

// UnmarshalJSON reads facts.
func (f *Facts) UnmarshalJSON(text []byte) error {
	v, err := Exact(text)
	if err != nil {
		return err
	}
	m, ok := v.(map[string]any)
	if !ok && v != nil {
		return errors.New("facts are no JSON object")
	}
	*f = m
	return nil
}

// Exact reads JSON and keeps whole numbers as int64, since a float64 holds but 15 digits of an account's or a
// shipment's number, and as a text of digits where they do not fit. Other numbers are float64.
func Exact(text []byte) (any, error) {
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	var v any
	if err := decoder.Decode(&v); err != nil {
		return nil, fmt.Errorf("read JSON: %w", err)
	}
	return exact(v)
}

func exact(v any) (any, error) {
	var err error
	switch v := v.(type) {
	case json.Number:
		if n, err := strconv.ParseInt(v.String(), 10, 64); err == nil {
			return n, nil
		}
		if !strings.ContainsAny(v.String(), ".eE") {
			return v.String(), nil
		}
		f, err := v.Float64()
		if err != nil {
			return nil, fmt.Errorf("the number %s is too large", v)
		}
		return f, nil
	case map[string]any:
		for name, one := range v {
			if v[name], err = exact(one); err != nil {
				return nil, err
			}
		}
	case []any:
		for i, one := range v {
			if v[i], err = exact(one); err != nil {
				return nil, err
			}
		}
	}
	return v, nil
}
