package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/phrase"
	"ironbell/internal/recordfile"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

const (
	whatIfRows    = 20 // changed rings that are printed
	whatIfClashes = 5
	whatIfRecords = 20 // of which it is asked what they would change
)

// ringsOf asks what a record would change of the rings to come when it was saved as a file has
// it; ok is false for kinds that change none.
func ringsOf(ctx context.Context, c *client.Client, f recordfile.File) (w wire.WhatIf, ok bool, err error) {
	r := wire.WhatIfRequest{}
	switch f.Kind {
	case "job":
		r.Job = &wire.WhatIfJob{Name: f.Name}
		err = json.Unmarshal(f.Body, &r.Job.JobRequest)
	case "calendar":
		r.Calendar = &wire.WhatIfCalendar{Name: f.Name}
		err = json.Unmarshal(f.Body, &r.Calendar.Definition)
	default:
		return w, false, nil
	}
	if err != nil {
		return w, false, fmt.Errorf("read the %s: %w", f.Kind, err)
	}
	w, err = c.WhatIf(ctx, r)
	return w, true, err
}

func printWhatIf(i IO, w wire.WhatIf) {
	z := zoneOf(w.Zone)
	fmt.Fprintf(i.Out, "Until %s: %s\n", w.To.In(z).Format("Mon 2 Jan 2006 15:04 MST"), w.Says)
	for _, n := range w.Notes {
		fmt.Fprintf(i.Out, "  ! %s\n", n)
	}
	all := changedRings(w.Counts)
	switch {
	case len(w.Rings) == 0:
	case all <= whatIfRows:
		t := whatIfTable(i, "Change", "Job", "As it is", "As it would be")
		for _, r := range w.Rings {
			t.AppendRow(table.Row{whatWord(r), jobOf(r), ringWords(r.Was, r.What, z), ringWords(r.Will, r.What, z)})
		}
		t.Render()
	default:
		t := whatIfTable(i, "Job", "Rings that change", "The first of them, as it is", "As it would be")
		for _, j := range w.Jobs {
			t.AppendRow(table.Row{
				j.Job, countWords(j.Counts), ringWords(j.First.Was, j.First.What, z), ringWords(j.First.Will, j.First.What, z),
			})
		}
		t.Render()
	}
	if len(w.Clashes) > 0 {
		heading(i, fmt.Sprintf("Clashes: more runs at work than the %d at once", w.AtOnce))
		for _, c := range w.Clashes[:min(whatIfClashes, len(w.Clashes))] {
			was := ""
			if c.Was > 0 && c.What != "ends" {
				was = fmt.Sprintf(", %d as it is", c.Was)
			}
			fmt.Fprintf(i.Out, "  %-6s  %s to %s  %d at once%s\n", c.What, c.From.In(z).Format("Mon 2 Jan 15:04:05"),
				c.To.In(z).Format("15:04:05 MST"), c.Most, was)
		}
	}
	if all > 0 {
		fmt.Fprintf(i.Out, "The load: %s\n   it was: %s\n", loadWords(w.After, z), loadWords(w.Before, z))
	}
}

func whatIfTable(i IO, heads ...any) table.Writer {
	t := newTable(i, heads...)
	t.SetColumnConfigs([]table.ColumnConfig{
		{Number: 2, WidthMax: 30, WidthMaxEnforcer: text.WrapSoft},
		{Number: 3, WidthMax: 42, WidthMaxEnforcer: text.WrapSoft},
		{Number: 4, WidthMax: 42, WidthMaxEnforcer: text.WrapSoft},
	})
	return t
}

// countWords says of how many rings what becomes.
func countWords(c wire.RingCounts) string {
	var said []string
	for _, n := range []struct {
		count int
		word  string
	}{
		{c.Gone, "gone"},
		{c.New, "new"},
		{c.Moved, "moved"},
		{c.Later, "later"},
		{c.Sooner, "sooner"},
		{c.Joined, "joined"},
		{c.Apart, "apart"},
		{c.Late, "late"},
		{c.OnTime, "on time"},
	} {
		if n.count > 0 {
			said = append(said, fmt.Sprintf("%d %s", n.count, n.word))
		}
	}
	return strings.Join(said, ", ")
}

func changedRings(c wire.RingCounts) int {
	return c.Gone + c.New + c.Moved + c.Later + c.Sooner + c.Joined + c.Apart
}

func whatWord(r wire.RingChange) string {
	word := r.What
	if r.Late && word != "late" {
		word += ", late"
	}
	if r.OnTime && word != "on time" {
		word += ", on time"
	}
	return word
}

func jobOf(r wire.RingChange) string {
	if r.Will != nil {
		return r.Will.Job
	}
	return r.Was.Job
}

// ringWords says when a ring rings, or why it does not, and when its run begins if that matters.
func ringWords(r *wire.Coming, what string, z *time.Location) string {
	switch {
	case r == nil:
		return ""
	case r.Passed:
		return "passed over: " + r.Reason
	}
	said := r.At.In(z).Format("Mon 2 Jan 15:04 MST")
	if what == "gone" || what == "new" || what == "moved" {
		return said
	}
	if r.Joins {
		begins := "does not begin as far as can be seen"
		if r.Begins != nil {
			begins = r.Begins.In(z).Format("begins Mon 2 Jan 15:04")
		}
		return said + ", joins a run that " + begins
	}
	if r.Begins == nil {
		return said + ", does not begin as far as can be seen: " + r.Waits
	}
	if r.Begins.Sub(r.At) >= time.Minute {
		said += r.Begins.In(z).Format(", begins Mon 2 Jan 15:04")
	}
	if r.Waits != "" {
		said += ": " + r.Waits
	}
	return said
}

func loadWords(l wire.Load, z *time.Location) string {
	said := phrase.Count(l.Rings, "ring")
	if l.Hour != nil {
		said += fmt.Sprintf(", most of them in the hour of %s (%d)", l.Hour.In(z).Format("Mon 2 Jan 15:04"), l.Most)
	}
	for _, n := range []struct {
		count int
		words string
	}{{l.Joined, "join a run that waits"}, {l.Waiting, "wait"}, {l.Stuck, "do not begin as far as can be seen"}, {l.Late, "miss their deadline"}} {
		if n.count > 0 {
			said += fmt.Sprintf(", %d %s", n.count, n.words)
		}
	}
	if l.Working > 0 {
		said += "; at most " + phrase.Count(l.Working, "run") + " at work at once"
	}
	return said
}
