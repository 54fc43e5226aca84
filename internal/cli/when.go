package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/wallclock"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// What the commands about time tell at most, and by default.
const (
	maxFires     = 10_000
	manyADay     = 288 // rings a day from which when warns
	forecastRows = 40
	maxFileSize  = 4 << 20
)

// whenSaid is what when says to programs.
type whenSaid struct {
	Reading  string   `json:"reading"`
	Notation string   `json:"notation"`
	Warnings []string `json:"warnings"`
	Fires    []string `json:"fires"`
}

func whenCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	zoneName := f.String("zone", "", "time `zone` of the rule, such as Europe/London; the machine's when left out")
	from := f.String("from", "", "rings strictly after this `time` (RFC 3339); now when left out")
	count := f.Int("count", 5, "how many rings, up to 10000")
	file := f.String("calendar", "",
		"iCalendar `file` whose whole-day events are closed days; Monday to Friday are open otherwise")
	return func(_ context.Context, i IO, args []string) (int, error) {
		if len(args) == 0 {
			return 0, &Usage{"it takes a rule; put it in quotes behind --"}
		}
		if *count < 0 || *count > maxFires {
			return 0, &Usage{fmt.Sprintf("-count is from 0 to %d", maxFires)}
		}
		after := wallclock.Now()
		if *from != "" {
			var err error
			if after, err = time.Parse(time.RFC3339, *from); err != nil {
				return 0, &Usage{fmt.Sprintf("-from %q is no time of RFC 3339, such as 2026-12-01T06:00:00Z", *from)}
			}
		}
		if *zoneName == "" {
			*zoneName = machineZone()
		}
		z, err := zone.Load(*zoneName)
		if err != nil {
			return 0, &Usage{err.Error()}
		}
		o := rule.Options{Zone: z}
		if *file != "" {
			if o.Calendar, err = calendarFile(*file); err != nil {
				return 0, err
			}
		}
		r, err := o.Parse(strings.Join(args, " "))
		var wrong *rule.Error
		if errors.As(err, &wrong) {
			pointAt(i.Err, wrong)
			return exitUsage, nil
		}
		if err != nil {
			return 0, fmt.Errorf("read the rule: %w", err)
		}
		said := whenSaid{
			Reading: r.Reading(), Notation: string(r.Notation()),
			Warnings: append([]string{}, r.Warnings(after, manyADay)...), Fires: []string{},
		}
		var fires []time.Time
		for at := after; len(fires) < *count; {
			next, ok := r.Next(at)
			if !ok {
				break
			}
			fires, at = append(fires, next), next
			said.Fires = append(said.Fires, next.Format(time.RFC3339))
		}
		if *asJSON {
			return exitOK, printJSON(i.Out, said)
		}
		printWhen(i, r, said, after, fires)
		return exitOK, nil
	}
}

// machineZone is the name of the machine's own time zone, or UTC.
func machineZone() string {
	names := []string{os.Getenv("TZ")}
	if text, err := os.ReadFile("/etc/timezone"); err == nil {
		names = append(names, strings.TrimSpace(string(text)))
	}
	if link, err := os.Readlink("/etc/localtime"); err == nil {
		if _, name, ok := strings.Cut(link, "zoneinfo/"); ok {
			names = append(names, name)
		}
	}
	for _, name := range names {
		if _, err := zone.Load(name); err == nil {
			return name
		}
	}
	return "UTC"
}

func readFile(path string) ([]byte, error) {
	f, err := os.Open(path) //nolint:gosec // the file that the caller named
	if err != nil {
		return nil, fmt.Errorf("open the file: %w", err)
	}
	defer func() { _ = f.Close() }() // it was only read
	text, err := io.ReadAll(io.LimitReader(f, maxFileSize+1))
	if err != nil {
		return nil, fmt.Errorf("read the file: %w", err)
	}
	return text, nil
}

func calendarFile(path string) (*calendar.Calendar, error) {
	text, err := readFile(path)
	if err != nil {
		return nil, err
	}
	entries, _, err := calendar.ReadICS(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	name := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	c, err := calendar.Compile(name, calendar.Definition{Closed: entries})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return c, nil
}

// pointAt says what is wrong with a rule, with its text and a mark under the
// column.
func pointAt(w io.Writer, e *rule.Error) {
	begin := strings.LastIndexByte(e.Text[:min(e.Column-1, len(e.Text))], '\n') + 1
	line, _, _ := strings.Cut(e.Text[begin:], "\n")
	before := e.Text[begin:min(e.Column-1, len(e.Text))]
	fmt.Fprintf(w, "ironbell when: %s\n  %s\n  %s^\n", e, strings.ReplaceAll(line, "\t", " "),
		strings.Repeat(" ", len([]rune(before))))
}

func printWhen(i IO, r rule.Rule, said whenSaid, after time.Time, fires []time.Time) {
	fmt.Fprintf(i.Out, "%s\n  %s in %s. It rings %s.\n", phrase.Upper(said.Reading), notationWord(said.Notation),
		r.Location(), r.Often(after))
	for _, w := range said.Warnings {
		fmt.Fprintf(i.Out, "  ! %s\n", w)
	}
	if len(fires) == 0 {
		fmt.Fprintf(i.Out, "\nNo rings after %s.\n", after.In(r.Location()).Format("Mon 2 Jan 2006 15:04 MST"))
		return
	}
	heading(i, fmt.Sprintf("Next rings after %s", after.In(r.Location()).Format("Mon 2 Jan 2006 15:04:05 MST")))
	for _, at := range fires {
		clock := "15:04"
		if at.Second() != 0 {
			clock = "15:04:05"
		}
		why := ""
		if ring, ok := r.Step(at.Add(-time.Second)); ok && ring.Moved() {
			why = "  " + r.Reason(ring)
		}
		fmt.Fprintf(i.Out, "  %s%s\n", at.Format("Mon _2 Jan 2006  "+clock+" MST  -07:00"), why)
	}
}

func notationWord(n string) string {
	return map[string]string{
		"words": "Written in words", "cron": "Written as cron", "icalendar": "Written as iCalendar",
	}[n]
}

func forecastCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	days := f.Int("days", 7, "how many days, up to 92")
	zoneName := f.String("zone", "", "time `zone` to show it in; your own when left out")
	part := f.String("job", "", "only jobs with this `part` in their name")
	limit := f.Int("limit", forecastRows, "how many rings at most, up to 5000")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) > 0 {
			return 0, &Usage{"it takes no arguments; choose jobs with -job"}
		}
		if *days < 1 || *days > 92 {
			return 0, &Usage{"-days is from 1 to 92"}
		}
		now := wallclock.Now()
		fc, err := i.connect().Forecast(ctx, client.ForecastFilter{
			From: now, To: now.AddDate(0, 0, *days), Zone: *zoneName, Job: *part, Limit: *limit,
		})
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, fc, printForecast)
	}
}

// begins says when a run begins that waits, and for what.
func begins(r wire.Coming, z *time.Location) string {
	switch {
	case r.Waits == "" || r.Passed:
		return ""
	case r.Joins && r.Begins != nil:
		return r.Begins.In(z).Format("; joins a run that begins Mon 2 Jan 15:04")
	case r.Begins != nil:
		return r.Begins.In(z).Format("; begins Mon 2 Jan 15:04: ") + r.Waits
	}
	return "; " + r.Waits
}

// expectedRows bounds how much of what is expected is printed; -json gives all of it.
const expectedRows = 12

// printExpected tells by when what jobs wait for is usually there.
func printExpected(i IO, all []job.Expected, z *time.Location) {
	if len(all) == 0 {
		return
	}
	heading(i, "Usually there by then")
	t := newTable(i, "When", "Job", "Waits for", "Going by the past")
	t.SetColumnConfigs([]table.ColumnConfig{
		{Number: 3, WidthMax: 44, WidthMaxEnforcer: text.WrapSoft},
		{Number: 4, WidthMax: 44, WidthMaxEnforcer: text.WrapSoft},
	})
	now := wallclock.Now()
	for _, e := range all[:min(len(all), expectedRows)] {
		mark, why := "", e.Why
		switch {
		case e.Came != nil:
			why = "came at " + e.Came.In(z).Format("15:04 MST")
		case e.Late != nil && !now.Before(*e.Late):
			mark, why = "▲ ", "has not come; "+e.Why
		}
		t.AppendRow(table.Row{mark + e.By.In(z).Format("Mon 2 Jan 15:04 MST"), e.Job, e.Reading, why})
	}
	t.Render()
	if more := len(all) - expectedRows; more > 0 {
		fmt.Fprintf(i.Out, "%d more; -json gives them.\n", more)
	}
}

func printForecast(i IO, f wire.Forecast) {
	z := zoneOf(f.Zone)
	fmt.Fprintf(i.Out, "%d rings from %s to %s, in %s", f.Total, f.From.In(z).Format("Mon 2 Jan 15:04"),
		f.To.In(z).Format("Mon 2 Jan 15:04"), f.Zone)
	if f.Moved > 0 {
		fmt.Fprintf(i.Out, "; %d moved by a calendar", f.Moved)
	}
	if f.Passed > 0 {
		fmt.Fprintf(i.Out, "; %d passed over", f.Passed)
	}
	fmt.Fprintln(i.Out, ".")
	if len(f.Rings) > 0 {
		t := newTable(i, "When", "Job", "Usually", "Rule, and why it is not where the rule has it")
		t.SetColumnConfigs([]table.ColumnConfig{{Number: 4, WidthMax: 66, WidthMaxEnforcer: text.WrapSoft}})
		for _, r := range f.Rings {
			usual, why := "", r.Reading
			if r.Usual != nil {
				usual = seconds(*r.Usual)
			}
			mark := ""
			switch {
			case r.Passed:
				mark, why = "» ", "passed over: "+r.Reason
			case r.Reason != "":
				why = r.Reason
			}
			why += begins(r, z)
			t.AppendRow(table.Row{mark + r.At.In(z).Format("Mon 2 Jan 15:04 MST"), r.Job, usual, why})
		}
		t.Render()
	}
	if shown := len(f.Rings); shown < f.Total+f.Passed {
		fmt.Fprintf(i.Out, "%d more; -limit shows them.\n", f.Total+f.Passed-shown)
	}
	printExpected(i, f.Expected, z)
	if len(f.Minutes) > 0 {
		heading(i, "Busiest minutes")
		for _, m := range f.Minutes[:min(3, len(f.Minutes))] {
			fmt.Fprintf(i.Out, "  %s  %d rings\n", m.At.In(z).Format("Mon 2 Jan 15:04 MST"), m.Rings)
		}
	}
	if len(f.Clashes) > 0 {
		heading(i, fmt.Sprintf("Clashes: more runs at work than the %d at once", f.AtOnce))
		for _, c := range f.Clashes[:min(5, len(f.Clashes))] {
			fmt.Fprintf(i.Out, "  %s to %s  %d at once: %s\n", c.From.In(z).Format("Mon 2 Jan 15:04:05"),
				c.To.In(z).Format("15:04:05 MST"), c.Most, strings.Join(c.Jobs, ", "))
		}
	}
}

func calendarsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		all, err := i.connect().Calendars(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, all, func(i IO, all []wire.Calendar) {
			if len(all) == 0 {
				fmt.Fprintln(i.Out, "There are no calendars yet. Without one, Monday to Friday are open.")
				return
			}
			t := newTable(i, "Calendar", "Version", "Jobs", "Open", "Next closed day")
			for _, c := range all {
				next := ""
				if len(c.Closings) > 0 {
					next = c.Closings[0].Date + "  " + c.Closings[0].Label
				}
				t.AppendRow(table.Row{c.Name, c.Version, c.Jobs, weekOf(c), next})
			}
			t.Render()
		})
	}
}

func weekOf(c wire.Calendar) string {
	if len(c.Week) == 0 {
		return "mon to fri"
	}
	return strings.Join(c.Week, ", ")
}

func calendarCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	file := f.String("read", "", "take closed days from this iCalendar `file`, beside those it has")
	replace := f.Bool("replace", false, "with -read: in place of those it has, its rules included")
	try := f.Bool("try", false, "with -read: save nothing, and tell what would change")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name, err := only(args, "calendar")
		if err != nil {
			return 0, err
		}
		c := i.connect()
		if *file == "" {
			page, err := c.Calendar(ctx, name)
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, page, printCalendar)
		}
		body, err := readFile(*file)
		if err != nil {
			return 0, err
		}
		read, err := c.ReadICS(ctx, string(body), name)
		if err != nil {
			return 0, err
		}
		var d calendar.Definition
		var p *client.Problem
		if page, err := c.Calendar(ctx, name); err == nil {
			d = page.Definition
		} else if !errors.As(err, &p) || p.Status != 404 {
			return 0, err
		}
		d.Closed = read.Merged
		if *replace {
			d.Closed = read.Entries
		}
		rings, err := c.WhatIf(ctx, wire.WhatIfRequest{Calendar: &wire.WhatIfCalendar{Name: name, Definition: d}})
		if err != nil {
			return 0, err
		}
		saved, err := c.SaveCalendar(ctx, name, d, *try)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, saved, func(i IO, s wire.CalendarSaved) {
			defer printWhatIf(i, rings)

			word := "saved"
			if !s.Saved {
				word = "not saved, only tried"
			}
			fmt.Fprintf(i.Out, "%s, with %d entries from %s, of which %d are new: %s.\n", name, len(read.Entries), *file,
				len(read.Added), word)
			switch n := len(read.Missing); {
			case n > 0 && *replace:
				fmt.Fprintf(i.Out, "  ! %s of the calendar that the file does not have %s removed: %s\n",
					phrase.Count(n, "closed day"), gone(*try, n), entryNames(read.Missing))
			case n > 0:
				fmt.Fprintf(i.Out, "  %s of the calendar that the file does not have: kept. -replace removes %s: %s\n",
					phrase.Count(n, "closed day"), phrase.Plural(n, "it", "them"), entryNames(read.Missing))
			}
			for _, n := range read.Notes {
				fmt.Fprintf(i.Out, "  ! %s\n", n)
			}
		})
	}
}

func gone(try bool, n int) string {
	if try {
		return "would be"
	}
	return phrase.Plural(n, "was", "were")
}

func entryNames(all []calendar.Entry) string {
	names := make([]string, len(all))
	for i, e := range all {
		names[i] = cmp.Or(e.Label, e.Date, e.Rule)
	}
	return phrase.Few(names)
}

func printCalendar(i IO, p wire.CalendarPage) {
	fmt.Fprintf(i.Out, "%s, version %d: open %s\n", p.Name, p.Version, weekOf(p.Calendar))
	for _, part := range []struct {
		title   string
		entries []calendar.Entry
	}{{"Closed", p.Closed}, {"Open besides", p.Open}} {
		if len(part.entries) > 0 {
			heading(i, part.title)
			for _, e := range part.entries {
				when := e.Date
				if e.Rule != "" {
					when = strings.ReplaceAll(e.Rule, "\n", " ")
				}
				if e.Days > 1 {
					when += fmt.Sprintf(", %d days", e.Days)
				}
				fmt.Fprintf(i.Out, "  %-30s %s\n", e.Label, when)
			}
		}
	}
	heading(i, "Closed days of the coming year")
	for _, c := range p.Closings {
		fmt.Fprintf(i.Out, "  %s  %s\n", c.Date, c.Label)
	}
	heading(i, "Jobs that go by it")
	fmt.Fprintf(i.Out, "  %s\n", orWord(strings.Join(p.UsedBy, ", "), "none"))
}

func feedCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	end := f.Bool("end", false, "end the link")
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		c := i.connect()
		if *end {
			if err := c.EndFeed(ctx); err != nil {
				return 0, err
			}
			fmt.Fprintln(i.Out, "Your link to the forecast has ended.")
			return exitOK, nil
		}
		feed, err := c.MakeFeed(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, feed, func(i IO, feed wire.Feed) {
			fmt.Fprintf(i.Out,
				"%s\n\nSubscribe to it in your calendar program. Whoever has the link sees the jobs' names and when "+
					"they ring;\nit is shown only here, and the one before has ended. ironbell feed -end ends it.\n",
				feed.Address)
		})
	}
}
