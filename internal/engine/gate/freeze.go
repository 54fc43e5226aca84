package gate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/store/records"
)

// FreezeOf is the freeze that holds what carries some labels at an instant.
func FreezeOf(frozen []records.Freeze, labels []string, at time.Time) *records.Freeze {
	for i, f := range frozen {
		ended := f.To != nil && !f.To.After(at) || f.LiftedAt != nil && !f.LiftedAt.After(at)
		if slices.Contains(labels, f.Label) && !f.From.After(at) && !ended {
			return &frozen[i]
		}
	}
	return nil
}

// HeldBack says in words what a freeze does.
func HeldBack(f records.Freeze) string {
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
