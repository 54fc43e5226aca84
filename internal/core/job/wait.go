package job

import (
	"encoding/json"
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
}

// Condition is one thing that may happen: an event of a type, or an outcome of
// a job.
type Condition struct {
	Event   string     `json:"event,omitempty" maxLength:"200" doc:"type of an event, such as example.tarnwick.ledger.closed"`
	Source  string     `json:"source,omitempty" maxLength:"500" doc:"its source; any when left out"`
	Subject string     `json:"subject,omitempty" maxLength:"500" doc:"its subject; any when left out"`
	Job     string     `json:"job,omitempty" maxLength:"200" doc:"name of a job"`
	Ends    []RunState `json:"ends,omitempty" enum:"done,partly,blank,failed,cancelled" maxItems:"5" doc:"outcomes of the job that count; done when left out"`
}

// Need says how many conditions must hold.
type Need string

// Match says which happenings belong together.
type Match string

// The choices; the first of each is the default.
const (
	NeedAll Need = "all"
	NeedAny Need = "any"

	MatchDay    Match = "same day"
	MatchWindow Match = "window"
)

// DefaultWithin is how long what happened waits for the rest of it.
const DefaultWithin = 24 * time.Hour

// WithDefaults fills in what was left out.
func (w Wait) WithDefaults() Wait {
	w.Need, w.Match = orElse(w.Need, NeedAll), orElse(w.Match, MatchDay)
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
	Data     json.RawMessage `json:"data,omitempty" db:"data"`
	Received time.Time       `json:"received" db:"received_at"`
}
