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

	Otherwise Values `json:"otherwise,omitempty" doc:"values to take where the event lacks the field that take names; without one the run fails and says which"`
}

// Condition is one thing that may happen: an event of a type, or an outcome of
// a job.
type Condition struct {
	Event   string     `json:"event,omitempty" maxLength:"200" doc:"type of an event, such as example.tarnwick.ledger.closed"`
	Source  string     `json:"source,omitempty" maxLength:"500" doc:"its source; when left out any sender, and the owner of the job; what other people and their jobs report starts it only when it is named"`
	Subject string     `json:"subject,omitempty" maxLength:"500" doc:"its subject; any when left out"`
	OnlyIf  string     `json:"only_if,omitempty" maxLength:"1000" doc:"what must hold of the event, such as event.data.cm > 300"`
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
