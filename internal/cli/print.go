package cli

import (
	"fmt"
	"strings"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/wallclock"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// glyphs give each state a sign of its own beside its word.
var glyphs = map[string]string{
	"waiting": "◷", "running": "▶", "delivering": "➤", "done": "■", "sent": "■", "partly": "◧", "blank": "□",
	"failed": "▲", "bounced": "▲",
	"cancelled": "×", "passed over": "»", "unknown": "?", "sending": "➤", "offered": "➤", "taken": "➤", "declined": "×",
	"lost": "×", "open": "▲", "acknowledged": "◷", "closed": "■",
}

func glyph(state string) string {
	if g, ok := glyphs[state]; ok {
		return g
	}
	return "·"
}

func stateWord[T ~string](s T) string { return glyph(string(s)) + " " + string(s) }

func outcome(s job.RunState, reason string) string {
	if reason == "" || strings.HasPrefix(reason, string(s)) {
		return orWord(reason, string(s))
	}
	return string(s) + ": " + reason
}

func orWord(a, b string) string {
	if a == "" {
		return b
	}
	return a
}

func zoneOf(name string) *time.Location {
	z, err := zone.Load(name)
	if err != nil {
		return time.UTC
	}
	return z
}

// wall says a time with its zone; times of other days with their date.
func wall(t time.Time, z *time.Location) string {
	t = t.In(z)
	now := wallclock.Now().In(z)
	switch {
	case t.Format(time.DateOnly) == now.Format(time.DateOnly):
		return t.Format("15:04:05 MST")
	case t.Year() == now.Year():
		return t.Format("Mon 2 Jan 15:04 MST")
	default:
		return t.Format("Mon 2 Jan 2006 15:04 MST")
	}
}

// wall tells a time in the zone of the person who reads it.
func (i IO) wall(t time.Time) string { return wall(t, i.zone()) }

func seconds(s float64) string {
	d := time.Duration(s * float64(time.Second))
	if d < 100*time.Millisecond {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	if d < 10*time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

func newTable(i IO, head ...any) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(i.Out)
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	t.SetStyle(style)
	t.AppendHeader(table.Row(head))
	return t
}

func heading(i IO, title string) { fmt.Fprintf(i.Out, "\n%s\n", title) }

func printJobs(i IO, jobs []wire.JobLine) {
	if len(jobs) == 0 {
		fmt.Fprintln(i.Out, "There is no such job.")
		return
	}
	t := newTable(i, "Id", "Job", "Owner", "", "Next ring", "Last outcome", "When")
	t.SetColumnConfigs([]table.ColumnConfig{
		{Name: "Last outcome", WidthMax: 44, WidthMaxEnforcer: text.WrapSoft},
		{Name: "When", WidthMax: 36, WidthMaxEnforcer: text.WrapSoft},
	})
	for _, j := range jobs {
		on, next, last := "off", "", "has not run yet"
		if j.On {
			on = "on"
		}
		if j.NextDue != nil {
			next = i.wall(*j.NextDue)
		}
		if j.Last != nil {
			last = stateWord(j.Last.State) + ", " + i.wall(j.Last.Due)
		}
		t.AppendRow(table.Row{
			j.ID, j.Name, j.Owner, on, next, last,
			orWord(strings.Join(j.Readings, "; "), "on demand"),
		})
	}
	t.Render()
}

func printSwitched(i IO, j job.Job) {
	if !j.On {
		fmt.Fprintf(i.Out, "%s is off. Its settings are kept; what works now goes on to its end.\n", j.Name)
		return
	}
	fmt.Fprintf(i.Out, "%s is on.", j.Name)
	for _, t := range j.Triggers {
		if t.NextDue != nil {
			fmt.Fprintf(i.Out, " It rings next %s (%s).", wall(*t.NextDue, zoneOf(j.Zone)), t.Reading)
		}
	}
	fmt.Fprintln(i.Out)
}

func printJob(i IO, p wire.JobPage) {
	z := zoneOf(p.Zone)
	on := "off"
	if p.On {
		on = "on"
	}
	fmt.Fprintf(i.Out, "%s  (%s, version %d, owner %s)\n", p.Name, on, p.Version, p.Owner)
	heading(i, "When, in "+p.Zone)
	for _, t := range p.Triggers {
		next := ""
		if t.NextDue != nil {
			next = ", next " + wall(*t.NextDue, z)
		}
		rule := ""
		if t.Rule != "" && !strings.EqualFold(strings.TrimSpace(t.Rule), t.Reading) {
			rule = "  (" + t.Rule + ")"
		}
		fmt.Fprintf(i.Out, "  %s%s%s\n", t.Reading, rule, next)
		for name, value := range t.Values {
			fmt.Fprintf(i.Out, "    %s = %v\n", name, value)
		}
	}
	if len(p.Triggers) == 0 {
		fmt.Fprintln(i.Out, "  on demand only")
	}
	if len(p.Values) > 0 {
		heading(i, "Values")
		for name, value := range p.Values {
			fmt.Fprintf(i.Out, "  %s = %v\n", name, value)
		}
	}
	heading(i, "Tasks")
	for n, t := range p.Tasks {
		who := ""
		if p.ReadAs[t.Name] != "" {
			who = ", read as " + p.ReadAs[t.Name]
		}
		fmt.Fprintf(i.Out, "  %s: %s%s%s\n", t.Name, taskWords(t), who, chainWords(p.Tasks, n))
	}
	heading(i, "When things go wrong")
	retry := "passing failures are not tried again"
	if p.Retry.Times > 0 {
		retry = fmt.Sprintf("passing failures are tried again %d times, %s apart", p.Retry.Times, p.Retry.Wait)
		if p.Retry.Growth > 1 {
			retry += fmt.Sprintf(", each wait %g times the one before", p.Retry.Growth)
		}
		if p.Retry.Until != "" {
			retry += ", until " + p.Retry.Until
		}
	}
	if d := p.Deadline; d.At != "" || d.Within > 0 {
		by := d.At
		if d.Within > 0 {
			by = d.Within.String() + " after it is due"
		}
		fmt.Fprintf(i.Out, "  must have arrived by %s; the owner is told before that if it will not\n", by)
	}
	fmt.Fprintf(i.Out,
		"  %s\n  if blank: %s   after an outage: %s   if the last run still works: %s   if an answer is lost: %s\n",
		retry, p.IfBlank, p.AfterOutage, p.Overlap, p.IfUnknown)
	if p.Last != nil {
		heading(i, "Last run")
		fmt.Fprintf(i.Out, "  %s  %s  due %s  %s\n", p.Last.ID, stateWord(p.Last.State), wall(p.Last.Due, z),
			p.Last.Reason)
	}
	if len(p.Upcoming) > 0 {
		heading(i, "Next rings")
		for _, at := range p.Upcoming[:min(5, len(p.Upcoming))] {
			fmt.Fprintf(i.Out, "  %s (%s)\n", at.In(z).Format("Mon 2 Jan 2006 15:04 MST"), humanize.Time(at))
		}
	}
}

func printRuns(i IO, runs []job.Run) {
	if len(runs) == 0 {
		fmt.Fprintln(i.Out, "There are no such runs.")
		return
	}
	t := newTable(i, "Run", "Job", "State", "Due", "Took", "Why in this state")
	t.SetColumnConfigs([]table.ColumnConfig{{Name: "Why in this state", WidthMax: 60, WidthMaxEnforcer: text.WrapSoft}})
	for _, r := range runs {
		if r.Rehearsal {
			r.Job += " (rehearsal)"
		}
		t.AppendRow(table.Row{
			r.ID.String(), r.Job, stateWord(r.State), i.wall(r.Due),
			took(r.StartedAt, r.EndedAt), r.Reason,
		})
	}
	t.Render()
}

func took(from, to *time.Time) string {
	if from == nil || to == nil {
		return ""
	}
	return seconds(to.Sub(*from).Seconds())
}

func printRun(i IO, p wire.RunPage) {
	z := zoneOf(p.Zone)
	mark := ""
	if p.Rehearsal {
		mark = "  REHEARSAL: its results go only to the one who asked"
	}
	fmt.Fprintf(i.Out, "%s  run %s  %s %s%s\n", p.Job, p.ID, glyph(string(p.State)), outcome(p.State, p.Reason), mark)
	fmt.Fprintf(i.Out, "%s Due %s", p.Why, wall(p.Due, z))
	if p.StartedAt != nil {
		fmt.Fprintf(i.Out, ", started %s later", seconds(max(p.StartedAt.Sub(p.Due).Seconds(), 0)))
	}
	if p.EndedAt != nil && p.StartedAt != nil {
		fmt.Fprintf(i.Out, ", took %s", took(p.StartedAt, p.EndedAt))
	}
	fmt.Fprintln(i.Out, ".")
	if p.Deadline != nil {
		fmt.Fprintf(i.Out, "Must have arrived by %s.\n", wall(*p.Deadline, z))
	}
	if len(p.Missing) > 0 {
		fmt.Fprintf(i.Out, "Still waits for %s.\n", strings.Join(p.Missing, " and "))
	}
	if len(p.Attempts) > 0 {
		heading(i, "Attempts")
		t := newTable(i, "Task", "Try", "State", "Began", "Took", "Rows", "What it did, or what went wrong")
		t.SetColumnConfigs([]table.ColumnConfig{{Number: 7, WidthMax: 70, WidthMaxEnforcer: text.WrapSoft}})
		for _, a := range p.Attempts {
			rows := ""
			if a.Rows != nil {
				rows = humanize.Comma(*a.Rows)
			}
			note := a.Note
			if a.Class != "" {
				note = a.Class + ": " + note
			}
			t.AppendRow(table.Row{
				a.Task, a.Try, stateWord(a.State), wall(a.StartedAt, z),
				took(&a.StartedAt, a.EndedAt), rows, note,
			})
		}
		t.Render()
	}
	if len(p.Artifacts) > 0 {
		heading(i, "Files")
		t := newTable(i, "Id", "Name", "Size", "Rows")
		for _, f := range p.Artifacts {
			t.AppendRow(table.Row{f.ID, f.Name, humanize.Bytes(uint64(max(f.Size, 0))), humanize.Comma(f.Rows)})
		}
		t.Render()
	}
	if len(p.Deliveries) > 0 {
		heading(i, "Deliveries")
		t := newTable(i, "Id", "To", "State", "Tries", "At", "The other side said")
		t.SetColumnConfigs([]table.ColumnConfig{{Number: 6, WidthMax: 70, WidthMaxEnforcer: text.WrapSoft}})
		for _, d := range p.Deliveries {
			at := d.ReadyAt
			word := stateWord(d.State)
			if d.State == job.DeliveryWaiting {
				word += ", next"
			}
			if d.SettledAt != nil {
				at = *d.SettledAt
			}
			t.AppendRow(table.Row{d.ID, d.Address, word, d.Tries, wall(at, z), d.Answer})
		}
		t.Render()
		all := 0
		for _, n := range p.DeliveryCounts {
			all += n
		}
		if all > len(p.Deliveries) {
			fmt.Fprintf(i.Out,
				"  %d of %d are shown, those that went wrong first; ironbell deliveries -run %s lists them all.\n",
				len(p.Deliveries), all, p.ID)
		}
	}
	for _, a := range p.Alerts {
		heading(i, fmt.Sprintf("Alert %d, %s", a.ID, a.State))
		fmt.Fprintf(i.Out, "  %s\n", a.Happened)
		if a.Advice != "" {
			fmt.Fprintf(i.Out, "  %s\n", a.Advice)
		}
		if a.Told != "" {
			fmt.Fprintf(i.Out, "  Telling: %s\n", a.Told)
		}
	}
}

func printAlerts(i IO, alerts []job.Alert) {
	if len(alerts) == 0 {
		fmt.Fprintln(i.Out, "Nothing needs attention.")
		return
	}
	for n, a := range alerts {
		if n > 0 {
			fmt.Fprintln(i.Out)
		}
		fmt.Fprintf(i.Out, "%s alert %d, %s: %s. %s\n", glyph(string(a.State)), a.ID, a.State, a.Job, a.Happened)
		for _, line := range [][2]string{
			{"since", i.wall(a.OpenedAt) + times(a.Count)},
			{"for", a.ForWhom},
			{"so far", a.Tried},
			{"do", a.Advice},
			{"telling", a.Told},
			{"acknowledged by", a.AcknowledgedBy},
		} {
			if line[1] != "" {
				fmt.Fprintf(i.Out, "    %-15s %s\n", line[0], line[1])
			}
		}
	}
}

func times(n int) string {
	if n < 2 {
		return ""
	}
	return fmt.Sprintf(", %d times", n)
}

func printLine(i IO, l job.LogLine, z *time.Location) {
	word := l.Text
	if l.State != "" {
		word = stateWord(l.State) + ": " + l.Text
	}
	if l.Task != "" {
		word = l.Task + ": " + word
	}
	fmt.Fprintf(i.Out, "%s  %s\n", l.At.In(z).Format("15:04:05.000 MST"), word)
}

// taskWords says what a task does.
func taskWords(t job.Task) string {
	switch {
	case t.Report != nil:
		var outputs []string
		for _, o := range t.Report.Outputs {
			outputs = append(outputs, o.Format)
		}
		return fmt.Sprintf("report %q as %s", t.Report.Report, strings.Join(outputs, ", "))
	case t.Collect != nil:
		text := fmt.Sprintf("collect %s of %s from %q", orWord(string(t.Collect.Take), "newest"), t.Collect.Pattern,
			orWord(t.Collect.Destination, t.Collect.Source))
		if a := t.Collect.Afterwards; a == job.AfterwardsMove || a == job.AfterwardsRemove {
			text += ", then " + string(a) + " them there"
		}
		return text
	case t.Fetch != nil:
		return "fetch " + t.Fetch.URL
	case t.Query != nil:
		return fmt.Sprintf("run a statement on %q", t.Query.Source)
	case t.Program != nil:
		return "run program " + strings.Join(append([]string{t.Program.Program}, t.Program.Arguments...), " ")
	case t.Deliver != nil:
		return fmt.Sprintf("deliver over %q to %s", t.Deliver.Destination, strings.Join(t.Deliver.To, ", "))
	case t.Call != nil:
		return fmt.Sprintf("call %q", t.Call.Destination)
	case t.Emit != nil:
		return "raise the event " + t.Emit.Type
	}
	return string(t.Kind)
}

// chainWords says where a task stands in its chain, when that is not its place
// in the list.
func chainWords(tasks []job.Task, n int) string {
	t, words := tasks[n], ""
	switch {
	case t.After == nil:
	case len(t.After) == 0 && n > 0:
		words += ", at once"
	case len(t.After) > 0:
		words += ", after " + strings.Join(t.After, " and ")
	}
	if t.OnlyIf != "" {
		words += ", only if " + t.OnlyIf
	}
	if t.IfFailed == job.FailedGoOn {
		words += "; if it fails, the job goes on"
	}
	return words
}
