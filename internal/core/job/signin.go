package job

import (
	"strings"
	"time"
)

// SignIn is a way in that a person has open: the session of a browser, or the token of a
// program.
type SignIn struct {
	ID      int64      `json:"id" db:"id"`
	Kind    SignInKind `json:"kind" db:"kind" enum:"session,token"`
	Name    string     `json:"name" db:"name" doc:"what the token is for, or which browser it is"`
	Address string     `json:"address,omitempty" db:"address" doc:"from which it was made"`
	BeganAt time.Time  `json:"began_at" db:"began_at"`
	UsedAt  *time.Time `json:"used_at,omitempty" db:"used_at" doc:"when it was last used, to ten minutes"`
	EndsAt  *time.Time `json:"ends_at,omitempty" db:"ends_at" doc:"left out when it has no end"`
}

// SignInKind is one of the two kinds of way in.
type SignInKind string

// The kinds.
const (
	Session SignInKind = "session"
	Token   SignInKind = "token"
)

// HouseSource begins the sources of events that are ours.
const HouseSource = "/ironbell/"

// JobSource begins the sources of the events that jobs raise.
const JobSource = "/jobs/"

// IsHouse tells whether a source is ours, which nobody outside may report.
func IsHouse(source string) bool {
	source = strings.ToLower(source)
	return strings.HasPrefix(source, HouseSource) || strings.HasPrefix(source, JobSource)
}

// OwnSource is the source of events that a person may report without anybody's leave.
func (p Person) OwnSource() string { return HouseSource + "people/" + strings.ToLower(p.Login) }
