package wire

import (
	"time"
)

// LastDone is when something was done last, and how that went.
type LastDone struct {
	At   *time.Time `json:"at,omitempty"`
	Word string     `json:"word,omitempty"`
}

// Copy tells whether this installation is a copy of another one.
type Copy struct {
	Since *time.Time `json:"since,omitempty" doc:"since when it stands still for that"`
	Why   string     `json:"why,omitempty" doc:"why it is taken for a copy"`
	Test  bool       `json:"test,omitempty" doc:"it is a copy for tests"`
	Named []string   `json:"named,omitempty" doc:"what a copy for tests acts on outside itself"`
}

// CopyRequest says what a copy is.
type CopyRequest struct {
	Sending string `json:"sending" enum:"all,one address,none" doc:"what leaves it from now on"`
	OnlyTo  string `json:"only_to,omitempty" maxLength:"254" doc:"the one address"`

	Named []string `json:"named,omitempty" maxItems:"200" doc:"what a copy for tests acts on: destination:NAME, source:NAME (statements), program:NAME, event:TYPE"`
}

// Node is a node of the service, as it says itself.
type Node struct {
	Name       string    `json:"name"`
	Version    string    `json:"version"`
	Zones      string    `json:"zones" doc:"version of its zone data"`
	StartedAt  time.Time `json:"started_at"`
	SeenAt     time.Time `json:"seen_at"`
	Finishing  bool      `json:"finishing,omitempty" doc:"it takes no more work"`
	Parts      int       `json:"parts" doc:"of runs, that it works on"`
	Deliveries int       `json:"deliveries" doc:"that it hands over"`
}

// FinishRequest lets a node finish, or work on.
type FinishRequest struct {
	Node string `json:"node" minLength:"1" maxLength:"200"`
	Work bool   `json:"work,omitempty" doc:"it takes work again"`
}
