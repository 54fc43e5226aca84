package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/wallclock"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

func whyCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	at := f.String("at", "",
		"a date or a date and time in the job's zone, such as `2026-12-25`; its last and next rings when left out")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name, err := only(args, "job")
		if err != nil {
			return 0, err
		}
		w, err := i.connect().Why(ctx, name, *at)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, w, printWhy)
	}
}

func printWhy(i IO, w wire.Why) {
	for n, r := range w.Reasons {
		sign := "·"
		if r.State != "" {
			sign = glyph(string(r.State))
		} else if r.What == "ring" {
			sign = glyph("passed over")
		}
		if n == 1 && w.Reasons[0].What == "now" {
			fmt.Fprintln(i.Out)
		}
		fmt.Fprintf(i.Out, "%s %s\n", sign, r.Sentence)
	}
}

func againCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	whole := f.Bool("whole", false, "make a new run of the same date from the start")
	anyway := f.Bool("anyway", false, "send what is blank or unusual as it is")
	follow := f.Bool("follow", false, "follow the run until its outcome")
	values := valueFlag{}
	f.Var(values, "value", "a value of the new run, as `name=value`; may be given several times, with -whole")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		id, err := runArgument(args)
		if err != nil {
			return 0, err
		}
		c := i.connect()
		run, err := c.Again(ctx, id, wire.AgainRequest{Whole: *whole, Anyway: *anyway, Values: job.Values(values)})
		if err != nil {
			return 0, err
		}
		if *follow {
			return followRun(ctx, i, c, run.ID, *asJSON)
		}
		return show(i, *asJSON, run, func(i IO, r job.Run) {
			fmt.Fprintf(i.Out, "Run %s of %s %s. Follow it with: ironbell follow %s\n", r.ID, r.Job, r.Reason, r.ID)
		})
	}
}

func cancelCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		id, err := runArgument(args)
		if err != nil {
			return 0, err
		}
		run, err := i.connect().Cancel(ctx, id)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, run, func(i IO, r job.Run) {
			fmt.Fprintf(i.Out, "Run %s of %s is %s.\n", r.ID, r.Job, outcome(r.State, r.Reason))
		})
	}
}

func queueCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		q, err := i.connect().Queue(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, q, printQueue)
	}
}

func printQueue(i IO, q wire.Queue) {
	for _, part := range []struct {
		title, none string
		lines       []wire.QueueLine
	}{
		{fmt.Sprintf("At work: %d", len(q.Working)), "Nothing is at work.", q.Working},
		{fmt.Sprintf("Waiting: %d", q.Waits), "Nothing waits.", q.Waiting},
	} {
		if len(part.lines) == 0 {
			fmt.Fprintln(i.Out, part.none)
			continue
		}
		fmt.Fprintln(i.Out, part.title)
		t := newTable(i, "Run", "Job", "Due", "Begins", "Why")
		t.SetColumnConfigs([]table.ColumnConfig{{Name: "Why", WidthMax: 70, WidthMaxEnforcer: text.WrapSoft}})
		for n, l := range part.lines {
			if n == 30 {
				t.AppendRow(table.Row{"", fmt.Sprintf("and %d more", len(part.lines)-n)})
				break
			}
			begins := "next"
			if l.StartedAt != nil {
				begins = i.wall(*l.StartedAt)
			} else if l.ReadyAt.After(wallclock.Now()) {
				begins = i.wall(l.ReadyAt)
			}
			name := l.Job
			if l.Rehearsal {
				name += " (rehearsal)"
			}
			t.AppendRow(table.Row{l.RunID.String(), name, i.wall(l.Due), begins, l.Reason})
		}
		t.Render()
	}
	if len(q.Limits) > 0 {
		heading(i, "Limits")
		printLimits(i, q.Limits)
	}
	if len(q.Freezes) > 0 {
		heading(i, "Frozen")
		printFreezes(i, q.Freezes)
	}
}

func printLimits(i IO, limits map[string]int) {
	if len(limits) == 0 {
		fmt.Fprintln(i.Out, "No limits are set; each node works as many parts at once as its -workers says.")
	}
	for _, label := range slices.Sorted(maps.Keys(limits)) {
		fmt.Fprintf(i.Out, "  %s: %d at once\n", label, limits[label])
	}
}

func limitsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	try := tryFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		c := i.connect()
		limits, err := c.Limits(ctx)
		if err != nil {
			return 0, err
		}
		for _, a := range args {
			label, number, ok := strings.Cut(a, "=")
			n, err := strconv.Atoi(number)
			if !ok || err != nil && number != "none" {
				return 0,
					&Usage{fmt.Sprintf("%q is no limit; write it as source:tarnwick=2, or =none to take it away", a)}
			}
			if number == "none" {
				delete(limits, label)
				continue
			}
			limits[label] = n
		}
		if *try {
			return whatIf(ctx, i, *asJSON, wire.WhatIfRequest{Limits: limits})
		}
		if len(args) > 0 {
			if err := c.SaveLimits(ctx, limits); err != nil {
				return 0, err
			}
		}
		return show(i, *asJSON, limits, printLimits)
	}
}

func tryFlag(f *flag.FlagSet) *bool {
	return f.Bool("try", false, "change nothing, and tell what would become of the rings to come")
}

// whatIf shows what a change would do.
func whatIf(ctx context.Context, i IO, asJSON bool, r wire.WhatIfRequest) (int, error) {
	w, err := i.connect().WhatIf(ctx, r)
	if err != nil {
		return 0, err
	}
	return show(i, asJSON, w, printWhatIf)
}

func freezeCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	from := f.String("from", "",
		"when it begins, such as `2026-12-24 18:00` in your time zone; now when left out")
	to := f.String("to", "", "when it ends; until it is lifted when left out")
	rings := f.String("rings", "wait", "what becomes of rings meanwhile: `wait` or pass over")
	reason := f.String("reason", "", "why, in words")
	try := tryFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		label, err := only(args, "label")
		if err != nil {
			return 0, err
		}
		here, err := i.askedZone(ctx)
		if err != nil {
			return 0, err
		}
		r := wire.FreezeRequest{Label: label, Rings: *rings, Reason: *reason}
		if r.From, err = readTime(*from, here); err != nil {
			return 0, err
		}
		if r.To, err = readTime(*to, here); err != nil {
			return 0, err
		}
		if *try {
			return whatIf(ctx, i, *asJSON, wire.WhatIfRequest{Freeze: &r})
		}
		frozen, err := i.connect().Freeze(ctx, r)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, []job.Freeze{frozen}, printFreezes)
	}
}

// readTime reads a time of a zone; nil when there is none.
func readTime(text string, z *time.Location) (*time.Time, error) {
	if text == "" {
		return nil, nil //nolint:nilnil // no time is a time of its own
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04", "2006-01-02T15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(layout, text, z); err == nil {
			return &t, nil
		}
	}
	return nil, &Usage{fmt.Sprintf("%q is no time; write it as 2026-12-24 18:00", text)}
}

func freezesCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	past := f.Bool("past", false, "those that have ended, too")
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		all, err := i.connect().Freezes(ctx, *past)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, all, printFreezes)
	}
}

func printFreezes(i IO, all []job.Freeze) {
	if len(all) == 0 {
		fmt.Fprintln(i.Out, "Nothing is frozen.")
		return
	}
	for _, f := range all {
		end := "until it is lifted: ironbell lift " + strconv.FormatInt(f.ID, 10)
		if f.To != nil {
			end = "until " + i.wall(*f.To)
		}
		if f.LiftedAt != nil {
			end = fmt.Sprintf("lifted %s by %s", i.wall(*f.LiftedAt), f.LiftedBy)
		}
		what := map[bool]string{true: "everything", false: f.Label}[f.Label == "service"]
		why := ""
		if f.Reason != "" {
			why = ": " + f.Reason
		}
		fmt.Fprintf(i.Out, "%d  %s, from %s %s; rings %s; by %s%s\n", f.ID, what, i.wall(f.From), end,
			f.Rings, f.By, why)
	}
}

func liftCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	try := tryFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		word, err := only(args, "freeze")
		if err != nil {
			return 0, err
		}
		id, err := strconv.ParseInt(word, 10, 64)
		if err != nil {
			return 0, &Usage{fmt.Sprintf("%q is no number of a freeze; ironbell freezes lists them", word)}
		}
		if *try {
			return whatIf(ctx, i, *asJSON, wire.WhatIfRequest{Lift: id})
		}
		lifted, err := i.connect().Lift(ctx, id)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, []job.Freeze{lifted}, printFreezes)
	}
}

func kindsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		kinds, err := i.connect().TaskKinds(ctx)
		if err != nil {
			return 0, err
		}
		if len(args) == 1 {
			kinds = slices.DeleteFunc(kinds, func(k wire.TaskKind) bool { return string(k.Kind) != args[0] })
		}
		if len(kinds) == 0 {
			return 0, &Usage{fmt.Sprintf("%q is no kind of task; ironbell kinds lists them", args[0])}
		}
		return show(i, *asJSON, kinds, printKinds)
	}
}

func printKinds(i IO, kinds []wire.TaskKind) {
	for _, k := range kinds {
		if len(kinds) > 1 {
			fmt.Fprintf(i.Out, "%-8s  %s\n", k.Kind, k.Summary)
			continue
		}
		fmt.Fprintf(i.Out, "%s: %s\n\n%s\n\n", k.Kind, k.Summary, text.WrapSoft(k.Text, 100))
		example, err := json.MarshalIndent(k.Example, "", "  ")
		if err == nil {
			fmt.Fprintf(i.Out, "%s\n", example)
		}
	}
}

// ask makes runs as the flags of ring say: now, in rehearsal, or for past dates.
func ask(ctx context.Context, c *client.Client, name string, values job.Values, rehearse bool,
	from, to string,
) ([]job.Run, error) {
	if from != "" {
		return c.Past(ctx, name, wire.PastRequest{
			RingRequest: wire.RingRequest{Values: values, Rehearse: rehearse}, From: from, To: to,
		})
	}
	if to != "" {
		return nil, &Usage{"-to needs -for, the first date"}
	}
	act := c.Ring
	if rehearse {
		act = c.Rehearse
	}
	run, err := act(ctx, name, values)
	return []job.Run{run}, err
}
