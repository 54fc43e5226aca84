package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

func reportsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		reports, err := i.connect().Reports(ctx)
		if err != nil {
			return 0, err
		}
		found := []job.Report{}
		for _, r := range reports {
			if len(args) == 0 || strings.Contains(strings.ToLower(r.Name), strings.ToLower(strings.Join(args, " "))) {
				found = append(found, r)
			}
		}
		return show(i, *asJSON, found, func(i IO, reports []job.Report) {
			if len(reports) == 0 {
				fmt.Fprintln(i.Out, "No report has such a name.")
				return
			}
			t := newTable(i, "Report", "Owner", "Source", "Sections", "Version", "Saved")
			for _, r := range reports {
				t.AppendRow(table.Row{
					r.Name, r.Owner, readAs(r), sectionNames(r.Sections), r.Version,
					i.wall(r.UpdatedAt),
				})
			}
			t.Render()
		})
	}
}

func readAs(r job.Report) string {
	if r.Identity != "" {
		return r.Source + " as " + r.Identity
	}
	return r.Source
}

func sectionNames(sections []job.Section) string {
	names := make([]string, len(sections))
	for i, s := range sections {
		names[i] = s.Name
	}
	return strings.Join(names, ", ")
}

func reportCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name, err := only(args, "report")
		if err != nil {
			return 0, err
		}
		page, err := i.connect().ShowReport(ctx, name)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, page, printReport)
	}
}

func printReport(i IO, p wire.ReportPage) {
	fmt.Fprintf(i.Out, "%s\nversion %d of %s, owner %s, read from %s\n", p.Name, p.Version,
		i.wall(p.UpdatedAt), p.Owner, readAs(p.Report))
	if len(p.Parameters) > 0 {
		heading(i, "It asks for")
		t := newTable(i, "Name", "Label", "Takes", "When left out")
		for _, q := range p.Parameters {
			t.AppendRow(table.Row{q.Name, q.Label, takes(q), otherwise(q)})
		}
		t.Render()
	}
	heading(i, "Sections")
	t := newTable(i, "Section", "Kind", "Grouped by", "Hidden columns", "Detail")
	for _, s := range p.Sections {
		var hidden []string
		for _, c := range s.Columns {
			if c.Hidden {
				hidden = append(hidden, c.Name)
			}
		}
		kind := string(s.Kind)
		if kind == "" {
			kind = string(job.SectionTable)
		}
		if s.Chart != nil {
			kind += ", " + string(s.Chart.Form)
		}
		t.AppendRow(table.Row{
			s.Name, kind, strings.Join(s.Group, ", "), strings.Join(hidden, ", "),
			map[bool]string{true: "yes"}[s.Detail != nil],
		})
	}
	t.Render()
	heading(i, "Jobs that use it")
	if len(p.Jobs) == 0 {
		fmt.Fprintln(i.Out, "None.")
		return
	}
	jobs := newTable(i, "Job", "Owner", "")
	for _, j := range p.Jobs {
		jobs.AppendRow(table.Row{j.Job, j.Owner, map[bool]string{true: "on", false: "off"}[j.On]})
	}
	jobs.Render()
}

// takes says in words what a parameter takes.
func takes(p job.Parameter) string {
	what := string(p.Type)
	if c := p.Choices; c != nil {
		values := make([]string, 0, len(c.List))
		for _, one := range c.List {
			values = append(values, one.Value)
		}
		what = "one of " + strings.Join(values, ", ")
		if c.SQL != "" {
			what = "one of a query's " + string(p.Type) + "s"
		}
	}
	if p.Several {
		what = strings.Replace("several: "+what, "one of ", "", 1)
	}
	if p.All {
		what += ", or all"
	}
	return what
}

func otherwise(p job.Parameter) string {
	switch {
	case p.Default != nil:
		return strings.Trim(fmt.Sprint(p.Default), "[]")
	case p.Required:
		return "must be given"
	}
	return "none"
}

// look are the flags by which somebody looks at a report.
type look struct {
	values   valueFlag
	identity *string
	date     *string
	zone     *string
}

func lookFlags(f *flag.FlagSet) *look {
	l := &look{values: valueFlag{}}
	f.Var(l.values, "value",
		"a value, as `name=value`; a name that comes again makes a list, all stands for every choice")
	l.identity = f.String("identity", "", "`identity` of the source as which it is read, in place of the report's")
	l.date = f.String("date", "", "`date` from which moments are reckoned, such as 2026-11-03; today when left out")
	l.zone = f.String("zone", "", "`zone` in which they are reckoned; your own when left out")
	return l
}

func (l *look) request() (wire.LookRequest, error) {
	r := wire.LookRequest{Values: job.Values(l.values), Identity: *l.identity, Zone: *l.zone}
	if *l.date != "" {
		at, err := time.Parse(time.DateOnly, *l.date)
		if err != nil {
			return r, &Usage{Sentence: fmt.Sprintf("%q is no date; write it as 2026-11-03", *l.date)}
		}
		at = at.Add(12 * time.Hour) // it is that day in every zone
		r.Date = &at
	}
	return r, nil
}

func previewCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	l := lookFlags(f)
	rows := f.Int64("rows", 20, "`number` of rows of each section, at most 1000")
	section := f.String("section", "", "only this `section`")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name, err := only(args, "report")
		if err != nil {
			return 0, err
		}
		r := wire.PreviewRequest{Rows: *rows}
		if r.LookRequest, err = l.request(); err != nil {
			return 0, err
		}
		if *section != "" {
			r.Sections = []string{*section}
		}
		p, err := i.connect().Preview(ctx, name, r)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, p, printPreview)
	}
}

func printPreview(i IO, p job.Preview) {
	fmt.Fprintf(i.Out, "%s\nread as %s\n", p.Title, p.ReadAs)
	for _, b := range p.Values {
		from := ""
		if b.From != "" {
			from = " (" + b.From + ")"
		}
		fmt.Fprintf(i.Out, "  %s: %s%s\n", b.Label, b.Reads(), from)
	}
	for _, s := range p.Sections {
		heading(i, fmt.Sprintf("%s  ·  %d ms", s.Title, s.TookMS))
		if s.Kind == job.SectionText {
			fmt.Fprintln(i.Out, s.Text)
			continue
		}
		if len(s.Figures) > 0 {
			t := newTable(i, "Figure", "Now", "Change")
			for _, f := range s.Figures {
				t.AppendRow(table.Row{f.Label, f.Text, f.Change})
			}
			t.Render()
			continue
		}
		head := make([]any, len(s.Columns))
		var right []table.ColumnConfig
		for n, c := range s.Columns {
			head[n] = c.Head
			if c.Kind.Numeric() {
				right = append(right, table.ColumnConfig{
					Number: n + 1, Align: text.AlignRight, AlignHeader: text.AlignRight,
				})
			}
		}
		t := newTable(i, head...)
		t.SetColumnConfigs(right)
		for _, line := range s.Lines {
			row := make(table.Row, len(line.Cells))
			for n, cell := range line.Cells {
				row[n] = emphasised(cell, n, line)
			}
			t.AppendRow(row)
		}
		t.Render()
		switch {
		case len(s.Lines) == 0:
			fmt.Fprintln(i.Out, "No rows.")
		case s.More:
			fmt.Fprintf(i.Out, "The first %d rows; there are more, and no totals are shown for that.\n", len(s.Lines))
		}
	}
}

// emphasised marks a cell that its report warns of; the terminal's colours are
// left alone.
func emphasised(cell string, n int, line job.PreviewLine) string {
	if n < len(line.Marks) && cell != "" && (line.Marks[n] == job.MarkBad || line.Marks[n] == job.MarkWarning) {
		return cell + " !"
	}
	return cell
}

func renderCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	l := lookFlags(f)
	out := job.Output{}
	f.StringVar(&out.Format, "as", "pdf", "`format`: csv, tsv, json, jsonl, xlsx, pdf, html, html-mail, png or pptx")
	f.StringVar(&out.Locale, "locale", "", "how numbers, dates and words are written, such as `de` or en-GB")
	f.BoolVar(&out.DataOnly, "data-only", false, "of xlsx: heads and rows alone")
	f.StringVar(&out.Workbook, "workbook", "", "of xlsx: fill this `workbook` of the report")
	f.BoolVar(&out.Values, "values-only", false, "of a workbook: values in place of its formulas")
	f.BoolFunc("without-hidden", "of a workbook: its hidden sheets are removed", func(string) error {
		out.Hidden = job.HiddenRemoved
		return nil
	})
	f.BoolVar(&out.Tagged, "tagged", false, "of pdf: with structure for screen readers")
	f.BoolVar(&out.ForSystem, "for-system", false, "another system reads it: nothing is defused, heads are names")
	encoding := f.String("encoding", "", "of csv and tsv, such as `windows-1252`")
	delimiter := f.String("delimiter", "", "of csv and tsv, one `character`")
	section := f.String("section", "", "only this `section`")
	form := f.String("form", "", "of that section: `summary` or detail")
	to := f.String("o", "", "`file` to write; its own name in this folder when left out, - for standard output")
	cost := f.Bool("cost", false, "write nothing, and say what it costs: rows, time, size")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name, err := only(args, "report")
		if err != nil {
			return 0, err
		}
		asked, err := l.request()
		if err != nil {
			return 0, err
		}
		if *section != "" {
			out.Sections = []job.Chosen{{Section: *section, Form: job.Form(*form)}}
		} else if *form != "" {
			return 0, &Usage{Sentence: "-form belongs to one section: name it with -section"}
		}
		if *encoding != "" || *delimiter != "" {
			out.Text = &job.TextForm{Encoding: *encoding, Delimiter: *delimiter}
		}
		if *cost {
			c, err := i.connect().Cost(ctx, name, wire.CostRequest{LookRequest: asked, Outputs: []job.Output{out}})
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, c, printCost)
		}
		r, err := i.connect().Render(ctx, name, wire.RenderRequest{LookRequest: asked, Output: out})
		if err != nil {
			return 0, err
		}
		defer func() { _ = r.Content.Close() }() // only read from
		if *to == "-" {
			_, err := io.Copy(i.raw, r.Content) // a file, not a text for the terminal
			return exitOK, err
		}
		path := *to
		if path == "" {
			path = r.Name
		}
		n, err := writeFile(path, r.Content)
		if err != nil {
			return 0, err
		}
		fmt.Fprintf(i.Out, "%s  ·  %s rows, %s\n", path, humanize.Comma(r.Rows), humanize.Bytes(uint64(max(n, 0))))
		for _, text := range r.Says {
			fmt.Fprintf(i.Out, "  %s\n", text)
		}
		return exitOK, nil
	}
}

// writeFile writes a file whole or not at all.
func writeFile(path string, content io.Reader) (int64, error) {
	part := path + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600) //nolint:gosec // the path is what the user said
	if err != nil {
		return 0, fmt.Errorf("write %s: %w", path, err)
	}
	n, err := io.Copy(f, content)
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = os.Rename(part, path)
	}
	if err != nil {
		_ = os.Remove(part) // the first fault is the one to tell
		return 0, fmt.Errorf("write %s: %w", path, err)
	}
	return n, nil
}

func printCost(i IO, c wire.Cost) {
	fmt.Fprintf(i.Out, "%s rows in %s; nothing was kept\n", humanize.Comma(c.Rows),
		(time.Duration(c.TookMS) * time.Millisecond).String())
	t := newTable(i, "File", "Rows", "Size")
	for _, f := range c.Files {
		t.AppendRow(table.Row{f.Name, humanize.Comma(f.Rows), humanize.Bytes(uint64(max(f.Size, 0)))})
	}
	t.Render()
	for _, text := range c.Says {
		fmt.Fprintf(i.Out, "%s\n", text)
	}
	for _, u := range c.Unfit {
		fmt.Fprintf(i.Out, "%s: %s. %s\n", u.Format, u.Why, u.Advice)
	}
}

func compareCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	task := f.String("task", "", "`task` whose rows are compared; the first that kept its rows when left out")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) == 0 || len(args) > 2 {
			return 0,
				&Usage{Sentence: "say which run, and perhaps with which earlier one; without it the last " +
					"good run before"}
		}
		ids := make([]job.RunID, 2)
		for n, text := range args {
			id, ok := job.ParseRunID(text)
			if !ok {
				return 0, &Usage{Sentence: fmt.Sprintf("%q is no run; its number looks like 2611-42", text)}
			}
			ids[n] = id
		}
		c, err := i.connect().Compare(ctx, ids[0], ids[1], *task)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, c, printCompared)
	}
}

func printCompared(i IO, c wire.Compared) {
	z := zoneOf(c.After.Zone)
	fmt.Fprintf(i.Out, "%s, task %s\nrun %s of %s, compared with run %s of %s\n", c.After.Job, c.Task, c.After.ID,
		wall(c.After.Due, z), c.Before.ID, wall(c.Before.Due, z))
	for _, d := range c.Sections {
		heading(i, d.Section)
		fmt.Fprintf(i.Out, "%s rows, before %s: %d came, %d went, %d changed, %d are the same\n",
			humanize.Comma(int64(d.After)), humanize.Comma(int64(d.Before)), d.Came, d.Went, d.Changed, d.Same)
		if d.Note != "" {
			fmt.Fprintln(i.Out, d.Note)
		}
		for _, gone := range d.GoneHeads {
			fmt.Fprintf(i.Out, "the column %s is gone\n", gone)
		}
		for _, came := range d.NewHeads {
			fmt.Fprintf(i.Out, "the column %s is new\n", came)
		}
		if len(d.Totals) > 0 {
			t := newTable(i, "Total of", "Before", "Now", "Change")
			for _, total := range d.Totals {
				t.AppendRow(table.Row{total.Column, total.Before, total.After, total.Change})
			}
			t.Render()
		}
		if len(d.Cells) > 0 {
			t := newTable(i, strings.Join(d.Key, ", "), "Column", "Before", "Now")
			for _, cell := range d.Cells {
				t.AppendRow(table.Row{strings.Join(cell.Key, ", "), cell.Column, cell.Before, cell.After})
			}
			t.Render()
		}
		for sign, rows := range map[string][][]string{"+": d.CameRows, "-": d.WentRows} {
			for _, row := range rows[:min(len(rows), 10)] {
				fmt.Fprintf(i.Out, "%s %s\n", sign, strings.Join(row, "  "))
			}
			if len(rows) > 10 {
				fmt.Fprintf(i.Out, "%s and more; -json lists them\n", sign)
			}
		}
	}
}

func sourcesCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	test := f.Bool("test", false, "ask the source for an answer")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		c := i.connect()
		if len(args) == 0 {
			sources, err := c.Sources(ctx)
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, sources, func(i IO, sources []wire.Place) {
				t := newTable(i, "Source", "Driver", "Saved", "")
				for _, s := range sources {
					t.AppendRow(table.Row{s.Name, s.Protocol, i.wall(s.UpdatedAt), s.Note})
				}
				t.Render()
			})
		}
		name, err := only(args, "source")
		if err != nil {
			return 0, err
		}
		if *test {
			a, err := c.TestSource(ctx, name)
			if err != nil {
				return 0, err
			}
			fmt.Fprintln(i.Out, a.Said)
			if !a.OK {
				return 0, errors.New("the source refused")
			}
			return exitOK, nil
		}
		list, err := c.Identities(ctx, name)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, list, func(i IO, list []wire.Identity) {
			if len(list) == 0 {
				fmt.Fprintf(i.Out, "%s has no identities: reports read as its own login.\n", name)
				return
			}
			t := newTable(i, "Identity", "Login", "May be chosen by")
			for _, one := range list {
				who := "administrators"
				if len(one.Choosers) > 0 {
					who += ", " + strings.Join(one.Choosers, ", ")
				}
				t.AppendRow(table.Row{one.Name, one.Login, who})
			}
			t.Render()
		})
	}
}
