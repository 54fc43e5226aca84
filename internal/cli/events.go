package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/wallclock"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

func eventCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	source := f.String("source", "", "where it comes from, as a URI `reference`; your own source when left out")
	subject := f.String("subject", "", "what it is about")
	id := f.String("id", "", "tells it from others of its source; made when left out")
	data := valueFlag{}
	f.Var(data, "data", "data of the event, as `name=value`; may be given several times")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		kind, err := only(args, "type of event")
		if err != nil {
			return 0, err
		}
		c := i.connect()
		if *source == "" {
			me, err := c.Me(ctx)
			if err != nil {
				return 0, err
			}
			*source = me.OwnSource()
		}
		event := map[string]any{
			"specversion": "1.0", "type": kind, "source": *source, "id": orWord(*id, strings.ToLower(rand.Text())),
			"time": wallclock.Now().Format(time.RFC3339Nano), "data": map[string]any(data),
		}
		if *subject != "" {
			event["subject"] = *subject
		}
		h, err := c.Report(ctx, event)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, h, printHeard)
	}
}

func printHeard(i IO, h wire.Heard) {
	switch {
	case !h.Fresh:
		fmt.Fprintln(i.Out, "This event was reported before; nothing was started again.")
	case len(h.Started) == 0:
		fmt.Fprintln(i.Out, "The event is recorded. No job started by it now.")
		for _, note := range h.Notes {
			fmt.Fprintln(i.Out, "  "+note)
		}
	default:
		var ids []string
		for _, id := range h.Started {
			ids = append(ids, id.String())
		}
		fmt.Fprintf(i.Out, "The event is recorded. It started: %s\n", strings.Join(ids, ", "))
	}
}

func eventsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	kind := f.String("type", "", "only events of this `type`")
	sender := f.String("sender", "", "only what this `sender` reported")
	play := f.Int64("play", 0, "play the event of this `number` again: it starts what it starts")
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		if *play != 0 {
			h, err := i.connect().PlayEvent(ctx, *play)
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, h, printHeard)
		}
		all, err := i.connect().Events(ctx, client.EventFilter{Type: *kind, Sender: *sender})
		if err != nil {
			return 0, err
		}
		if len(all) == 0 && *kind+*sender != "" && !*asJSON {
			fmt.Fprintln(i.Out, "No such event is on record.")
			return exitOK, nil
		}
		return show(i, *asJSON, all, printEvents)
	}
}

func printEvents(i IO, all []wire.Event) {
	if len(all) == 0 {
		fmt.Fprintln(i.Out, "No events were reported. Programs report them as senders: ironbell sender -h shows how one is made; "+
			"ironbell event -h reports one by hand.")
		return
	}
	t := newTable(i, "No.", "Received", "Type", "Source", "By", "Data", "Started")
	t.SetColumnConfigs([]table.ColumnConfig{
		{Name: "Data", WidthMax: 36, WidthMaxEnforcer: text.WrapSoft},
		{Name: "Started", WidthMax: 44, WidthMaxEnforcer: text.WrapSoft},
	})
	for _, e := range all {
		var ids []string
		for _, id := range e.Started {
			ids = append(ids, id.String())
		}
		what := e.Source
		if e.Subject != "" {
			what += " about " + e.Subject
		}
		t.AppendRow(table.Row{
			e.Number, i.wall(e.Received), e.Type, what, reportedBy(e), ends(string(e.Data), 80), startedText(e, ids),
		})
	}
	t.Render()
}

// startedText says what an event started, or why nothing.
func startedText(e wire.Event, ids []string) string {
	switch {
	case len(ids) > 0 && e.Note != "":
		return strings.Join(ids, ", ") + "; " + e.Note
	case len(ids) > 0:
		return strings.Join(ids, ", ")
	case e.Note != "":
		return "nothing: " + e.Note
	}
	return "nothing: no job that is on waited for it"
}

func reportedBy(e wire.Event) string {
	switch {
	case e.Played != nil:
		return fmt.Sprintf("%s, no. %d again", e.Reporter, *e.Played)
	case e.Run != nil:
		return "run " + e.Run.String()
	case e.Sender != "":
		return e.Sender
	}
	if e.Reporter == "" {
		return "the service"
	}
	return e.Reporter
}

func sendersCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		all, err := i.connect().Senders(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, all, func(i IO, all []job.Sender) {
			if len(all) == 0 {
				fmt.Fprintln(i.Out, "No program reports events. ironbell sender -h shows how one is made.")
				return
			}
			t := newTable(i, "Sender", "May send", "Known by", "Last event", "In 24 h", "Refused")
			t.SetColumnConfigs([]table.ColumnConfig{{Name: "Refused", WidthMax: 48, WidthMaxEnforcer: text.WrapSoft}})
			for _, s := range all {
				t.AppendRow(table.Row{
					s.Name, grants(s), strings.Join(knownBy(i, s), "\n"), i.wallOr(s.LastAt, "none yet"), s.Day, refusal(i, s),
				})
			}
			t.Render()
		})
	}
}

func grants(s job.Sender) string {
	lines := make([]string, len(s.Sends))
	for i, g := range s.Sends {
		lines[i] = g.Type + " of " + g.Source
	}
	return strings.Join(lines, "\n")
}

func knownBy(i IO, s job.Sender) []string {
	known := make([]string, len(s.Keys))
	for n, k := range s.Keys {
		known[n] = fmt.Sprintf("%s %d", k.Kind, k.ID)
		if k.EndsAt != nil {
			known[n] += " until " + i.wall(*k.EndsAt)
		}
	}
	if len(known) == 0 {
		return []string{"nothing yet: it cannot send"}
	}
	return known
}

func refusal(i IO, s job.Sender) string {
	if s.RefusedAt == nil {
		return ""
	}
	return fmt.Sprintf("%s refused %s, last %s: %s", glyph("failed"), phrase.Count(int(s.Refused), "time"), i.wall(*s.RefusedAt), s.RefusedWhy)
}

func senderCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	var sends grantFlag
	f.Var(&sends, "sends",
		"what it may send, as `SOURCE=TYPE`, in which TYPE may end with *; may be given several times, and replaces what was said before")
	note := f.String("note", "", "which program it is, and whose")
	kind := f.String("type", "", "the `type` of what it posts that names none")
	pace := f.Int("pace", 0, "how many events it may send a minute, at each node (default 6000)")
	token := f.Bool("token", false, "make a token for it, which is shown once")
	key := f.Bool("key", false, "make a key that it signs with, which is shown once")
	given := f.String("given-key", "", "take this `key`, which the other side made: whsec_ and base64; - reads it from the input")
	overlap := f.Int("overlap", 0, "for how many `hours` a token or key of before holds on; it ends at once when left out")
	end := f.Int64("end", 0, "end the token or key of this `number`")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name, err := only(args, "sender")
		if err != nil {
			return 0, err
		}
		c := i.connect()
		if err := changeSender(ctx, c, f, name, job.SenderDefinition{
			Note: *note, Sends: sends, Type: *kind, Pace: *pace,
		}); err != nil {
			return 0, err
		}
		if *end != 0 {
			if err := c.EndSenderKey(ctx, name, *end); err != nil {
				return 0, err
			}
		}
		if *token || *key || *given != "" {
			return newSenderKey(ctx, i, name, *token, *given, *overlap, *asJSON)
		}
		s, err := c.Sender(ctx, name)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, s, printSender)
	}
}

// changeSender saves what the flags say of a sender, over what it is; nothing when they say nothing.
func changeSender(ctx context.Context, c *client.Client, f *flag.FlagSet, name string, said job.SenderDefinition) error {
	given := map[string]bool{}
	f.Visit(func(one *flag.Flag) { given[one.Name] = true })
	if !given["sends"] && !given["note"] && !given["type"] && !given["pace"] {
		return nil
	}
	old, err := c.Sender(ctx, name)
	var p *client.Problem
	if err != nil && (!errors.As(err, &p) || p.Status != 404) {
		return err
	}
	d := old.SenderDefinition
	if given["sends"] {
		d.Sends = said.Sends
	}
	if given["note"] {
		d.Note = said.Note
	}
	if given["type"] {
		d.Type = said.Type
	}
	if given["pace"] {
		d.Pace = said.Pace
	}
	_, err = c.SaveSender(ctx, name, d)
	return err
}

func newSenderKey(ctx context.Context, i IO, name string, token bool, given string, overlap int, asJSON bool) (int, error) {
	r := wire.SenderKeyRequest{Kind: job.SenderSigning, OverlapHours: overlap}
	switch {
	case token:
		r.Kind = job.SenderToken
	case given == "-":
		text, err := AskPassword(i)
		if err != nil {
			return 0, err
		}
		r.Key = strings.TrimSpace(text)
	default:
		r.Key = given
	}
	made, err := i.connect().NewSenderKey(ctx, name, r)
	if err != nil {
		return 0, err
	}
	return show(i, asJSON, made, func(i IO, made wire.SenderSecret) {
		fmt.Fprintln(i.Out, made.Secret)
		at := i.connect().URL() + "/api/senders/" + url.PathEscape(name) + "/events"
		if made.Kind == job.SenderToken {
			fmt.Fprintf(i.Err, "It is shown this once. Send it as Authorization: Bearer to %s; it can only report events.\n", at)
			return
		}
		fmt.Fprintf(i.Err, "It is shown this once. Sign what is posted to %s with it, as Standard Webhooks has it.\n", at)
	})
}

func printSender(i IO, s job.Sender) {
	rows := [][2]string{
		{"may send", strings.ReplaceAll(grants(s), "\n", "; ")},
		{"at most", strconv.Itoa(s.EveryMinute()) + " events a minute, at each node"},
		{"known by", strings.Join(knownBy(i, s), "; ")},
		{"sends to", i.connect().URL() + "/api/senders/" + url.PathEscape(s.Name) + "/events"},
		{"last event", i.wallOr(s.LastAt, "none yet")},
		{"in 24 h", phrase.Count(s.Day, "event")},
	}
	if s.Note != "" {
		rows = append([][2]string{{"what it is", s.Note}}, rows...)
	}
	if s.Type != "" {
		rows = append(rows, [2]string{"else", "what it posts that names no type is " + s.Type})
	}
	if s.RefusedAt != nil {
		rows = append(rows, [2]string{"refused", refusal(i, s)})
	}
	fmt.Fprintln(i.Out, s.Name)
	for _, r := range rows {
		fmt.Fprintf(i.Out, "  %-11s %s\n", r[0], r[1])
	}
}

// grantFlag collects the events that a sender may report.
type grantFlag []job.EventGrant

func (g *grantFlag) String() string { return "" }

func (g *grantFlag) Set(text string) error {
	source, kind, ok := strings.Cut(text, "=")
	if !ok || source == "" || kind == "" {
		return errors.New("write it as /cranes/7=example.crane.*")
	}
	*g = append(*g, job.EventGrant{Source: source, Type: kind})
	return nil
}
