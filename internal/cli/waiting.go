package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"ironbell/internal/core/job"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// lookedAt is what was seen of one condition.
type lookedAt struct {
	Reading string     `json:"reading"`
	Seen    job.Looked `json:"seen"`
}

func waitingCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	look := f.Bool("look", false, "look at each condition of the job now, and start nothing")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name := strings.Join(args, " ")
		if !*look {
			all, err := i.connect().Waiting(ctx, name)
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, all, printWaiting)
		}
		if name == "" {
			return 0, errors.New("say of which job: ironbell waiting -look \"Tide gauges\"")
		}
		j, err := i.connect().Job(ctx, name)
		if err != nil {
			return 0, err
		}
		all, err := i.connect().Waiting(ctx, name)
		if err != nil {
			return 0, err
		}
		var seen []lookedAt
		for _, t := range j.Triggers {
			if t.Wait == nil {
				continue
			}
			for at, c := range t.Wait.For {
				one, err := i.connect().LookNow(ctx, c)
				if err != nil {
					return 0, err
				}
				reading := ""
				if len(all) > 0 && at < len(all[0].Conditions) {
					reading = all[0].Conditions[at].Reading
				}
				seen = append(seen, lookedAt{reading, one})
			}
			if len(all) > 0 {
				all = all[1:]
			}
		}
		return show(i, *asJSON, seen, printLooked)
	}
}

func printWaiting(i IO, all []job.Waiting) {
	if len(all) == 0 {
		fmt.Fprintln(i.Out, "No job waits for anything but the time. ironbell help chains shows how one does.")
		return
	}
	t := newTable(i, "Job", "How far", "Waits for", "Came, or looked at")
	t.SetColumnConfigs([]table.ColumnConfig{
		{Name: "How far", WidthMax: 40, WidthMaxEnforcer: text.WrapSoft},
		{Name: "Waits for", WidthMax: 40, WidthMaxEnforcer: text.WrapSoft},
		{Name: "Came, or looked at", WidthMax: 44, WidthMaxEnforcer: text.WrapSoft},
	})
	for _, w := range all {
		for n, c := range w.Conditions {
			name, far := w.Job, w.Sentence
			if n > 0 {
				name, far = "", ""
			}
			t.AppendRow(table.Row{name, far, c.Reading, conditionText(i, c)})
		}
		t.AppendSeparator()
	}
	t.Render()
}

// conditionText says what came of a condition, and when it usually comes.
func conditionText(i IO, c job.WaitingCondition) string {
	said := "not yet"
	switch {
	case c.Failing != "":
		return fmt.Sprintf("cannot be seen since %s: %s", i.wallOr(c.Since, "now"), c.Failing)
	case c.Came != nil:
		return i.wall(*c.Came) + ": " + c.What
	case c.Looked != nil:
		said = fmt.Sprintf("looked at %s, again at %s", i.wall(*c.Looked), i.wallOr(c.Next, "once"))
		if c.Note != "" {
			said += "; " + c.Note
		}
	case c.Next != nil:
		said = "not looked at yet"
	}
	switch {
	case c.Missed:
		said += "; late: usually there by " + c.Usual.In(i.zone()).Format("15:04 MST")
	case c.Usual != nil:
		said += "; usually there by " + c.Usual.In(i.zone()).Format("15:04 MST")
	}
	if c.Last != nil {
		said += fmt.Sprintf("; last came on %s", i.wall(*c.Last))
	}
	return said
}

func printLooked(i IO, all []lookedAt) {
	if len(all) == 0 {
		fmt.Fprintln(i.Out, "The job waits for nothing but the time.")
	}
	for n, l := range all {
		if n > 0 {
			fmt.Fprintln(i.Out)
		}
		fmt.Fprintf(i.Out, "%s\n  %s\n", l.Reading, l.Seen.Sentence)
		switch {
		case len(l.Seen.Files) > 0:
			t := newTable(i, "File", "Bytes", "Changed")
			for _, f := range l.Seen.Files {
				t.AppendRow(table.Row{f.Path, humanize.Comma(f.Size), i.wall(f.Changed)})
			}
			t.Render()
		case l.Seen.Number != 0:
			fmt.Fprintf(i.Out, "  no. %d: %s\n  ironbell events -play %d plays it again\n", l.Seen.Number,
				ends(strings.Join(l.Seen.Rows[0], "  "), 200), l.Seen.Number)
		case len(l.Seen.Rows) > 0:
			head := make([]any, len(l.Seen.Columns))
			for k, c := range l.Seen.Columns {
				head[k] = c
			}
			t := newTable(i, head...)
			for _, r := range l.Seen.Rows {
				row := make(table.Row, len(r))
				for k, v := range r {
					row[k] = ends(v, 60)
				}
				t.AppendRow(row)
			}
			t.Render()
		}
	}
}
