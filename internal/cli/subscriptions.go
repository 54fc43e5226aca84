package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

func subscriptionsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		all, err := i.connect().Subscriptions(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, all, func(i IO, all []job.Subscription) {
			if len(all) == 0 {
				fmt.Fprintln(i.Out, "Our own events go nowhere. ironbell subscription -h shows how a subscription is made.")
				return
			}
			t := newTable(i, "Subscription", "Events", "To", "State", "Last taken", "In 24 h", "Given up")
			t.SetColumnConfigs([]table.ColumnConfig{{Name: "State", WidthMax: 40, WidthMaxEnforcer: text.WrapSoft}})
			for _, s := range all {
				t.AppendRow(table.Row{
					s.Name, strings.Join(s.Types, "\n"), s.Destination, howFar(s), i.wallOr(s.LastAt, "none yet"), s.Sent, s.Failed,
				})
			}
			t.Render()
		})
	}
}

// howFar says how far a subscription is with what was published.
func howFar(s job.Subscription) string {
	switch {
	case s.Off:
		return glyph("waiting") + " off, " + phrase.Count(int(s.Behind), "event") + " behind"
	case s.Stands != "":
		return glyph("failed") + " stands still: " + s.Stands
	case s.Open > 0 && s.Behind > 0:
		return fmt.Sprintf("%s %d on their way, %s to be looked at", glyph("waiting"), s.Open, phrase.Count(int(s.Behind), "event"))
	case s.Open > 0:
		return fmt.Sprintf("%s %d on their way", glyph("waiting"), s.Open)
	case s.Behind > 0:
		return glyph("waiting") + " " + phrase.Count(int(s.Behind), "event") + " to be looked at"
	}
	return glyph("done") + " has all that it wants"
}

func subscriptionCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	var types listFlag
	f.Var(&types, "type", "a `type` of events, which may end with *; may be given several times, and replaces those of before")
	to := f.String("to", "", "`destination` that they go to: of the protocol http, with a key to sign with")
	onlyIf := f.String("only-if", "", "what must hold of an event, such as `event.data.state == 'failed'`")
	note := f.String("note", "", "which program receives them, and whose")
	off := f.Bool("off", false, "hand nothing on until it is on again")
	on := f.Bool("on", false, "go on with what was published since it was switched off")
	replay := f.String("replay", "", "hand on again what was published since this `point`: a date, a date with a time, or an event's number")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name, err := only(args, "subscription")
		if err != nil {
			return 0, err
		}
		if *off && *on {
			return 0, &Usage{"-on and -off go against each other"}
		}
		c := i.connect()
		if *replay != "" {
			return replaySubscription(ctx, i, name, *replay, *asJSON)
		}
		if err := changeSubscription(ctx, c, f, name, job.SubscriptionDefinition{
			Note: *note, Destination: *to, Types: types, OnlyIf: *onlyIf, Off: *off && !*on,
		}); err != nil {
			return 0, err
		}
		s, err := c.Subscription(ctx, name)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, s, printSubscription)
	}
}

// listFlag collects texts.
type listFlag []string

func (l *listFlag) String() string { return "" }

func (l *listFlag) Set(text string) error {
	*l = append(*l, text)
	return nil
}

// changeSubscription saves what the flags say, over what it is; nothing when they say nothing.
func changeSubscription(ctx context.Context, c *client.Client, f *flag.FlagSet, name string, said job.SubscriptionDefinition) error {
	given := map[string]bool{}
	f.Visit(func(one *flag.Flag) { given[one.Name] = true })
	delete(given, "json")
	if len(given) == 0 {
		return nil
	}
	old, err := c.Subscription(ctx, name)
	var p *client.Problem
	if err != nil && (!errors.As(err, &p) || p.Status != 404) {
		return err
	}
	d := old.SubscriptionDefinition
	for flag, change := range map[string]func(){
		"type": func() { d.Types = said.Types }, "to": func() { d.Destination = said.Destination },
		"only-if": func() { d.OnlyIf = said.OnlyIf }, "note": func() { d.Note = said.Note },
		"off": func() { d.Off = said.Off }, "on": func() { d.Off = said.Off },
	} {
		if given[flag] {
			change()
		}
	}
	_, err = c.SaveSubscription(ctx, name, d)
	return err
}

func replaySubscription(ctx context.Context, i IO, name, point string, asJSON bool) (int, error) {
	no, numbered := strconv.ParseInt(point, 10, 64)
	var since time.Time
	if numbered != nil {
		here, err := i.askedZone(ctx)
		if err != nil {
			return 0, err
		}
		if since, err = pointIn(point, here); err != nil {
			return 0, err
		}
		no = 0
	}
	r, err := i.connect().Replay(ctx, name, since, no)
	if err != nil {
		return 0, err
	}
	return show(i, asJSON, r, func(i IO, r job.Replayed) {
		if r.Events == 0 {
			fmt.Fprintln(i.Out, "Nothing was published since then; nothing is handed on again.")
			return
		}
		fmt.Fprintf(i.Out, "%s %s looked at again for %q, from no. %d on; those that it wants are handed on in their order, with the ids "+
			"that they had.\n", phrase.Count(r.Events, "event"), phrase.Plural(r.Events, "is", "are"), name, r.First)
	})
}

// pointIn reads a date, or a date with a time, in a zone; or an instant with its own.
func pointIn(point string, here *time.Location) (time.Time, error) {
	for _, form := range []string{time.DateOnly, "2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02 15:04:05", time.RFC3339} {
		if at, err := time.ParseInLocation(form, point, here); err == nil {
			return at, nil
		}
	}
	return time.Time{}, &Usage{fmt.Sprintf("%q is no point to replay from: write 2027-03-31, \"2027-03-31 06:00\", or the number of an "+
		"event, as ironbell published lists them", point)}
}

func printSubscription(i IO, s job.Subscription) {
	rows := [][2]string{
		{"events", strings.Join(s.Types, ", ")},
		{"go to", s.Destination},
		{"state", howFar(s)},
		{"last taken", i.wallOr(s.LastAt, "none yet")},
		{"in 24 h", fmt.Sprintf("%d taken, %d given up", s.Sent, s.Failed)},
	}
	if s.Note != "" {
		rows = append([][2]string{{"what it is", s.Note}}, rows...)
	}
	if s.OnlyIf != "" {
		rows = append(rows, [2]string{"only if", s.OnlyIf})
	}
	fmt.Fprintln(i.Out, s.Name)
	for _, r := range rows {
		fmt.Fprintf(i.Out, "  %-11s %s\n", r[0], r[1])
	}
}

func publishedCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	kind := f.String("type", "", "only events of this `type`")
	before := f.Int64("before", 0, "only those before this `number`")
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		all, err := i.connect().Published(ctx, *kind, *before)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, all, func(i IO, all []job.Published) {
			if len(all) == 0 {
				fmt.Fprintln(i.Out, "Nothing was published. Our own events are kept from the first subscription on: ironbell subscription -h")
				return
			}
			t := newTable(i, "No.", "At", "Type", "About", "Data")
			t.SetColumnConfigs([]table.ColumnConfig{{Name: "Data", WidthMax: 60, WidthMaxEnforcer: text.WrapSoft}})
			for _, e := range all {
				t.AppendRow(table.Row{e.No, i.wall(e.At), e.Type, e.Subject, shortened(string(e.Data), 110)})
			}
			t.Render()
		})
	}
}
