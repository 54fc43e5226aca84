package job

import (
	"strings"
	"time"
)

// SignIn is a way in that a person has open: the session of a browser, or the token of a
// program.
type SignIn struct {
	ID      int64        `json:"id" db:"id"`
	Kind    SignInKind   `json:"kind" db:"kind" enum:"session,token"`
	Name    string       `json:"name" db:"name" doc:"what the token is for, or which browser it is"`
	Address string       `json:"address,omitempty" db:"address" doc:"from which it was made"`
	BeganAt time.Time    `json:"began_at" db:"began_at"`
	UsedAt  *time.Time   `json:"used_at,omitempty" db:"used_at" doc:"when it was last used, to ten minutes"`
	EndsAt  *time.Time   `json:"ends_at,omitempty" db:"ends_at" doc:"left out when it has no end"`
	Sends   []EventGrant `json:"sends,omitempty" db:"-" doc:"the events that the token may report; it may then do nothing else"`
}

// SignInKind is one of the two kinds of way in.
type SignInKind string

// The kinds.
const (
	Session SignInKind = "session"
	Token   SignInKind = "token"
)

// EventGrant lets a token report events of one source: of a type, or of all that begin with
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

// HouseSource begins the sources of events that are ours.
const HouseSource = "/ironbell/"

// OwnSource is the source of events that a person may report without anybody's leave.
func (p Person) OwnSource() string { return HouseSource + "people/" + strings.ToLower(p.Login) }
