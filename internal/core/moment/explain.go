package moment

import (
	"fmt"
	"strings"
	"time"
)

// Explain says in a sentence how the moment is reckoned from a nominal instant:
// "Tue 31 March 2026 06:15 BST; start of month: Sun 1 March 2026; back 1 month:
// Sun 1 February 2026".
func (m Moment) Explain(nominal time.Time, f Frame) string {
	parts := []string{say(nominal)}
	t := m.anchor.at(nominal, f)
	if m.anchor.kind != "now" {
		parts = append(parts, m.anchor.String()+": "+say(t))
	}
	for _, s := range m.steps {
		t = f.add(t, s.n, s.unit)
		parts = append(parts, s.String()+": "+say(t))
	}
	return strings.Join(parts, "; ")
}

// Explain says how both ends of the range are reckoned.
func (r Range) Explain(nominal time.Time, f Frame) string {
	return "From " + r.from.Explain(nominal, f) + ". To " + r.to.Explain(nominal, f)
}

func say(t time.Time) string {
	if h, m, s := t.Clock(); h+m+s == 0 {
		return t.Format("Mon 2 January 2006")
	}
	return t.Format("Mon 2 January 2006 15:04 MST")
}

func (a anchor) String() string {
	which := map[int]string{-1: "last ", 1: "next "}[a.shift]
	switch a.kind {
	case "now":
		return "now"
	case "start", "end":
		return a.kind + " of " + which + a.period
	case "weekday":
		if a.shift == 0 {
			which = "this "
		}
		return which + a.weekday.String()
	case "whole":
		return a.name
	case "open":
		return "open day " + map[int]string{-1: "before ", 1: "after "}[a.shift] + a.base.String()
	default:
		return map[int]string{-1: "yesterday", 0: "today", 1: "tomorrow"}[a.shift]
	}
}

func (s step) String() string {
	way, n := "forward", s.n
	if n < 0 {
		way, n = "back", -n
	}
	plural := "s"
	if n == 1 {
		plural = ""
	}
	return fmt.Sprintf("%s %d %s%s", way, n, s.unit, plural)
}
