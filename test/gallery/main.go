// Command gallery makes files of reports that are hard to lay out, in the formats that people open, and one page
// that shows them all:
//
//	make gallery
package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"html"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironbell/internal/aside"
	"ironbell/internal/core/job"
	"ironbell/internal/core/shape"
	"ironbell/internal/core/zone"
	"ironbell/internal/house"
	"ironbell/internal/proof"
	"ironbell/internal/render"
	"ironbell/internal/workbook"
)

func main() {
	aside.Main(map[string]aside.Task{proof.Task: proof.Draw, house.Task: house.Weigh, workbook.Task: workbook.Do}) // when this program was started to draw a file
	out := flag.String("out", ".gallery", "`folder` for the files and the page")
	only := flag.String("only", "", "only reports with this `part` in their name")
	flag.Parse()
	if err := run(*out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "gallery:", err)
		os.Exit(1)
	}
}

// formats are those that a report is shown in unless it says others.
var formats = []string{"pdf", "pptx", "xlsx", "png", "html-mail", ownWorkbook}

func run(out, only string) error {
	if err := os.MkdirAll(out, 0o750); err != nil {
		return fmt.Errorf("make the folder: %w", err)
	}
	var page strings.Builder
	page.WriteString(`<!doctype html><meta charset="utf-8"><title>Hard reports</title><style>
body{font:14px/1.4 sans-serif;margin:12px;background:#ddd}h2{font-size:15px;margin:14px 0 4px}
.row{display:flex;gap:8px}.box{width:300px;height:230px;overflow:hidden;background:#fff;border:1px solid #999;position:relative}
.box iframe{width:900px;height:690px;border:0;transform:scale(.3333);transform-origin:0 0;background:#fff}
.box b{position:absolute;right:2px;bottom:2px;background:#ffd;font-size:11px;padding:0 3px}
.said{color:#a33;font-size:12px;padding:4px}</style>
`)
	n := 0
	for _, r := range reports() {
		if !strings.Contains(r.name, only) {
			continue
		}
		n++
		fmt.Fprintf(&page, "<h2>%d. %s</h2><div class=row>\n", n, html.EscapeString(r.name))
		for _, format := range formats {
			name, said, err := r.write(out, n, format)
			if err != nil {
				return fmt.Errorf("%s as %s: %w", r.name, format, err)
			}
			shown := `<div class=said>` + html.EscapeString(strings.Join(said, "; ")) + `</div>`
			if name != "" {
				shown = fmt.Sprintf(`<iframe loading=eager src=%q></iframe>`, name)
			}
			fmt.Fprintf(&page, `<div class=box>%s<b>%s</b></div>`+"\n", shown, format)
			if name != "" && len(said) > 0 {
				fmt.Printf("%d. %s, %s: %s\n", n, r.name, format, strings.Join(said, "; "))
			}
		}
		page.WriteString("</div>\n")
	}
	at := filepath.Join(out, "index.html")
	if err := os.WriteFile(at, []byte(page.String()), 0o600); err != nil {
		return fmt.Errorf("write the page: %w", err)
	}
	fmt.Printf("%d reports; look at them in %s\n", n, at)
	return nil
}

// write makes a file of a report and a page that shows it; a report that the format refuses has none, and says why.
func (r hard) write(out string, n int, format string) (page string, said []string, err error) {
	o := r.output
	if o.Format = format; format == ownWorkbook {
		o.Format, o.Workbook, o.DataOnly, o.Formulas, o.Columns = "xlsx", ownWorkbook, false, false, nil
	}
	switch {
	case format == "pptx" && o.Page != nil && o.Page.Grid:
		o.Page = &job.Page{Grid: true}
	case format != "pdf":
		o.Page = nil
	}
	sections := r.sections
	if format == "png" {
		sections = sections[:1]
	}
	made, said, err := file(o, r, sections)
	if err != nil {
		return "", []string{err.Error()}, nil //nolint:nilerr // what is refused is shown
	}
	style, err := render.Read(o)
	if err != nil {
		return "", nil, err
	}
	name := fmt.Sprintf("%02d-%s", n, strings.ReplaceAll(format, " ", "-"))
	if err := os.WriteFile(filepath.Join(out, name+style.Format.Ending), made, 0o600); err != nil {
		return "", nil, err
	}
	kind, _, _ := strings.Cut(style.MediaType(), ";")
	if kind == "text/html" {
		return name + style.Format.Ending, said, nil
	}
	if kind == "image/png" {
		return name + ".png", said, nil
	}
	var shown bytes.Buffer
	if err := proof.Write(context.Background(), &shown, kind, bytes.NewReader(made)); err != nil {
		return "", []string{"it could not be drawn: " + err.Error()}, nil //nolint:nilerr // and so is what cannot be drawn
	}
	return name + "-shown.html", said, os.WriteFile(filepath.Join(out, name+"-shown.html"), shown.Bytes(), 0o600)
}

// file makes the file of a report.
func file(o job.Output, r hard, sections []section) ([]byte, []string, error) {
	style, err := render.Read(o)
	if err != nil {
		return nil, nil, err
	}
	place, err := zone.Load("Europe/London")
	if err != nil {
		return nil, nil, err
	}
	if r.look != nil {
		style.Look = r.look
	}
	if o.Workbook != "" {
		if style.Book, err = own(sections); err != nil {
			return nil, nil, err
		}
	}
	var out bytes.Buffer
	w, err := style.Open(&out, &render.Head{
		Report: r.name, Title: r.name, Run: "2611-48", AsOf: time.Date(2026, 11, 23, 8, 15, 0, 0, place),
		Identity: "ferry_reports at tarnwick", Zone: place,
		Values: []job.Bound{{Name: "from", Label: "From", Type: job.TypeDate, Text: "2026-11-16"}},
	})
	if err != nil {
		return nil, nil, err
	}
	for _, s := range sections {
		plan, err := shape.Fit(s.Section, s.form, s.columns)
		if err != nil {
			return nil, nil, err
		}
		plan.Text = s.Text
		laid, flat := []shape.Sink{w}, []shape.Sink(nil)
		if style.Format.FlatFor(o) {
			laid, flat = nil, laid
		}
		shaper, err := shape.NewShaper(plan, laid, flat)
		if err != nil {
			return nil, nil, err
		}
		for _, row := range s.rows {
			if err := shaper.Row(row); err != nil {
				return nil, nil, err
			}
		}
		if _, err := shaper.End(); err != nil {
			return nil, nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, nil, err
	}
	var said []string
	if s, ok := w.(render.Speaker); ok {
		said = s.Says()
	}
	return out.Bytes(), said, nil
}
