package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
)

func workbooksCommand(f *flag.FlagSet) runner {
	send := f.String("send", "", "`file` (.xlsx) that the report is to fill")
	name := f.String("name", "", "`name` of the workbook in the report; that of the file when left out")
	get := f.String("get", "", "`name` of a workbook of the report to be written into this folder, as it was sent")
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		report, err := only(args, "report")
		if err != nil {
			return 0, err
		}
		if *get != "" {
			return getWorkbook(ctx, i, report, *get)
		}
		c := i.connect()
		if *send != "" {
			data, err := os.ReadFile(*send)
			if err != nil {
				return 0, fmt.Errorf("the file cannot be read: %w", err)
			}
			sent, err := c.AddWorkbook(ctx, filepath.Base(*send), data)
			if err != nil {
				return 0, err
			}
			if err := putWorkbook(ctx, i, report, cmp.Or(*name, strings.TrimSuffix(sent.Name, filepath.Ext(sent.Name))), sent.ID); err != nil {
				return 0, err
			}
		}
		all, err := c.Workbooks(ctx, report)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, all, showWorkbooks)
	}
}

// putWorkbook saves a report with a workbook, in place of the one of its name.
func putWorkbook(ctx context.Context, i IO, report, name, id string) error {
	page, err := i.connect().ShowReport(ctx, report)
	if err != nil {
		return err
	}
	d := page.ReportDefinition
	if at := slices.IndexFunc(d.Workbooks, func(w job.Workbook) bool { return w.Name == name }); at >= 0 {
		d.Workbooks[at].File = id
	} else {
		d.Workbooks = append(d.Workbooks, job.Workbook{Name: name, File: id})
	}
	_, err = i.connect().SaveReport(client.BeganFrom(ctx, page.Revision), report, wire.ReportRequest{Owner: page.Owner, ReportDefinition: d})
	return err
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return humanize.Comma(int64(n)) + " " + what + "s"
}

func getWorkbook(ctx context.Context, i IO, report, name string) (int, error) {
	content, err := i.connect().Workbook(ctx, report, name)
	if err != nil {
		return 0, err
	}
	defer func() { _ = content.Close() }() // only read from
	path := strings.Map(func(r rune) rune {
		if r == '/' || r == filepath.Separator {
			return '-'
		}
		return r
	}, name) + ".xlsx"
	n, err := writeFile(path, content)
	if err != nil {
		return 0, err
	}
	fmt.Fprintf(i.Out, "%s  ·  %s\n", path, humanize.Bytes(uint64(max(n, 0))))
	return exitOK, nil
}

func showWorkbooks(i IO, all []job.WorkbookPlan) {
	if len(all) == 0 {
		fmt.Fprintln(i.Out, "The report fills no workbook; send one with -send FILE.")
	}
	for n, w := range all {
		if n > 0 {
			fmt.Fprintln(i.Out)
		}
		hidden := 0
		for _, s := range w.File.Sheets {
			if s.Hidden {
				hidden++
			}
		}
		about := fmt.Sprintf("%s (%s, %s), %s, %s", w.Workbook, w.File.Name, humanize.Bytes(uint64(max(w.File.Size, 0))),
			counted(len(w.File.Sheets), "sheet"), counted(w.File.Formulas, "formula"))
		if hidden > 0 {
			about += fmt.Sprintf(", %d of the sheets hidden", hidden)
		}
		fmt.Fprintln(i.Out, about)
		t := newTable(i)
		t.AppendHeader(table.Row{"Name", "At", "Takes", "Notes"})
		for _, take := range w.Takes {
			t.AppendRow(table.Row{take.Name, take.At, cmp.Or(take.Takes, "–"), take.Notes})
		}
		t.Render()
		for _, said := range w.File.Says {
			fmt.Fprintln(i.Out, said)
		}
		if len(w.File.Unreckoned) > 0 {
			fmt.Fprintf(i.Out, "Values cannot stand in place of its formulas: %s\n", w.File.Unreckoned[0])
		}
	}
}
