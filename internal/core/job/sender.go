package job

import (
	"strings"
	"time"
)

// Sender is a program outside that reports events, with what it may send and what it is known by.
type Sender struct {
	ID   int64  `json:"id" db:"id"`
	Name string `json:"name" db:"name"`
	SenderDefinition
	Keys      []SenderKey `json:"keys" db:"-" doc:"what it is known by, the newest first"`
	UpdatedAt time.Time   `json:"updated_at" db:"updated_at"`
	Revision  int64       `json:"revision" db:"revision"`

	LastAt     *time.Time `json:"last_at,omitempty" db:"last_at" doc:"when its last event was taken"`
	Day        int        `json:"day" db:"day" doc:"events taken in the last 24 hours"`
	Refused    int64      `json:"refused" db:"refused" doc:"how often it was refused since it was saved; at least"`
	RefusedAt  *time.Time `json:"refused_at,omitempty" db:"refused_at" doc:"when it was last refused"`
	RefusedWhy string     `json:"refused_why,omitempty" db:"refused_why" doc:"what it was told then"`
}

// SenderDefinition is what is said of a sender.
type SenderDefinition struct {
	Note  string       `json:"note,omitempty" maxLength:"500" doc:"which program it is, and whose"`
	Sends []EventGrant `json:"sends" minItems:"1" maxItems:"50" doc:"the sources and types that it may send"`
	Type  string       `json:"type,omitempty" maxLength:"200" doc:"the type of what it posts that names none; it must be among those that it may send"`
	Pace  int          `json:"pace,omitempty" minimum:"0" maximum:"1000000" doc:"how many events it may send a minute, at each node; 6000 when left out"`
}

// EventGrant lets a sender report events of one source: of a type, or of all that begin with
// what stands before a * at its end.
type EventGrant struct {
	Source string `json:"source" minLength:"1" maxLength:"500" doc:"as the events have it"`
	Type   string `json:"type" minLength:"1" maxLength:"200" doc:"such as example.tarnwick.tide, or example.tarnwick.*"`
}

// Lets tells whether an event may be reported.
func (g EventGrant) Lets(source, kind string) bool {
	if g.Source != source {
		return false
	}
	if begin, all := strings.CutSuffix(g.Type, "*"); all {
		return strings.HasPrefix(kind, begin)
	}
	return g.Type == kind
}

// DefaultPace is how many events a sender may send a minute.
const DefaultPace = 6000

// EveryMinute is how many events it may send a minute, at each node.
func (d SenderDefinition) EveryMinute() int {
	if d.Pace == 0 {
		return DefaultPace
	}
	return d.Pace
}

// Lets tells whether it may send an event.
func (d SenderDefinition) Lets(source, kind string) bool {
	for _, g := range d.Sends {
		if g.Lets(source, kind) {
			return true
		}
	}
	return false
}

// SourceOf is the source of what it posts of a type that names no source: the first from which it
// may send that type. It is empty when there is none.
func (d SenderDefinition) SourceOf(kind string) string {
	for _, g := range d.Sends {
		if g.Lets(g.Source, kind) {
			return g.Source
		}
	}
	return ""
}

// SenderKey is something that a sender is known by. What it is itself is shown once.
type SenderKey struct {
	ID       int64         `json:"id" db:"id"`
	Kind     SenderKeyKind `json:"kind" db:"kind" enum:"token,key"`
	MadeAt   time.Time     `json:"made_at" db:"made_at"`
	MadeBy   string        `json:"made_by" db:"made_by" doc:"sign-in name"`
	EndsAt   *time.Time    `json:"ends_at,omitempty" db:"ends_at" doc:"until when it holds; left out when it has no end"`
	SenderID int64         `json:"-" db:"sender_id"`
	Sealed   []byte        `json:"-" db:"sealed"`
}

// SenderKeyKind is a way in which a sender is known.
type SenderKeyKind string

// The kinds.
const (
	SenderToken   SenderKeyKind = "token" // sent with each request, as Authorization: Bearer
	SenderSigning SenderKeyKind = "key"   // signs each request, as Standard Webhooks has it
)
