package job

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Freeze is a time in which what carries a label does not begin.
type Freeze struct {
	ID        int64      `json:"id" db:"id"`
	Label     string     `json:"label" db:"label" doc:"service for everything, or source:name, destination:name, tag:name"`
	From      time.Time  `json:"from" db:"from_at"`
	To        *time.Time `json:"to,omitempty" db:"to_at" doc:"until it is lifted when left out"`
	Rings     string     `json:"rings" db:"rings" enum:"wait,pass over" doc:"what becomes of rings meanwhile"`
	Reason    string     `json:"reason,omitempty" db:"reason"`
	By        string     `json:"by" db:"by_name"`
	CreatedAt time.Time  `json:"created_at" db:"created_at"`
	LiftedAt  *time.Time `json:"lifted_at,omitempty" db:"lifted_at"`
	LiftedBy  string     `json:"lifted_by,omitempty" db:"lifted_by"`
}

// PassesOver tells whether rings are passed over meanwhile, and do not wait.
func (f Freeze) PassesOver() bool { return f.Rings == "pass over" }

// FreezeOf is the freeze that holds what carries some labels at an instant.
func FreezeOf(frozen []Freeze, labels []string, at time.Time) *Freeze {
	for i, f := range frozen {
		ended := f.To != nil && !f.To.After(at) || f.LiftedAt != nil && !f.LiftedAt.After(at)
		if slices.Contains(labels, f.Label) && !f.From.After(at) && !ended {
			return &frozen[i]
		}
	}
	return nil
}

// Reading says in words what a freeze does.
func (f Freeze) Reading() string {
	what := strings.Replace(f.Label, ":", " ", 1)
	if f.Label == "service" {
		what = "everything"
	}
	text := fmt.Sprintf("%s is frozen", what)
	if f.To != nil {
		text += " until " + f.To.UTC().Format("Mon 2 January 15:04 MST")
	}
	text += ", by " + f.By
	if f.Reason != "" {
		text += ": " + f.Reason
	}
	return text
}
