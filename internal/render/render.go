// Package render turns laid-out sections into files. Each format stands in a
// file of its own and in one line of the table below. The writers of data
// formats stream: their memory does not grow with the number of rows. Those of
// pages and slides have a stated limit, beyond which they say which format fits
// better.
package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/shape"
	"ironbell/internal/core/zone"
	"ironbell/internal/house"

	"github.com/dustin/go-humanize"
)

// Head is what a file says of itself.
type Head struct {
	Report   string // its name
	Title    string // what stands above it
	Run      string // the run's number; empty in a preview
	AsOf     time.Time
	Values   []job.Bound
	Identity string         // who read the data, such as reports_ro at tarnwick
	Files    []string       // the files beside it, for a table in a mail that is cut short; set before Close
	Zone     *time.Location // in which instants came from the source
	Browser  Browser        // prints tagged PDFs; nil where there is none
}

// Writer makes one file out of one or more sections. It belongs to one
// goroutine. Close finishes the file and must be called once.
type Writer interface {
	shape.Sink
	Close() error
}

// Speaker is a writer that has something to say about its file when it is
// closed, such as characters that did not fit.
type Speaker interface{ Says() []string }

// Format is a form of output.
type Format struct {
	Name      string
	MediaType string
	Ending    string // of file names, with its dot
	Split     bool   // a file holds one section only
	Flat      bool   // rows alone, without subtotals
	New       func(io.Writer, *Head, *Style) (Writer, error)
}

// formats is the table of all formats.
var formats = []Format{
	{Name: "csv", MediaType: "text/csv", Ending: ".csv", Split: true, Flat: true, New: newText},
	{Name: "tsv", MediaType: "text/tab-separated-values", Ending: ".tsv", Split: true, Flat: true, New: newText},
	{Name: "json", MediaType: "application/json", Ending: ".json", Flat: true, New: newJSON},
	{Name: "jsonl", MediaType: "application/jsonl", Ending: ".jsonl", Split: true, Flat: true, New: newJSONLines},
	{
		Name: "xlsx", MediaType: "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", Ending: ".xlsx",
		New: newXLSX,
	},
	{Name: "pdf", MediaType: "application/pdf", Ending: ".pdf", New: newPDF},
	{Name: "html", MediaType: "text/html; charset=utf-8", Ending: ".html", New: newPage},
	{Name: MailTable, MediaType: "text/html; charset=utf-8", Ending: ".html", New: newMailTable},
	{Name: "png", MediaType: "image/png", Ending: ".png", Split: true, New: newPicture},
	{
		Name: "pptx", MediaType: "application/vnd.openxmlformats-officedocument.presentationml.presentation",
		Ending: ".pptx", New: newSlides,
	},
	{Name: RowsKept, MediaType: "application/x-ndjson+gzip", Ending: ".rows", Flat: true, New: newRowsFile},
}

// MailTable is the name of the format that stands in the body of a mail.
const MailTable = "html-mail"

// RowsKept is the name of the form in which the rows of a run are kept, to
// compare two runs by. It goes to nobody.
const RowsKept = "rows"

// Limits of the formats that are pages: what stands on more is not read.
const (
	MaxPDF       = 20_000 // rows
	MaxTagged    = 6_000
	MaxPage      = 50_000
	MaxSlides    = 60 // slides
	MaxPicture   = 200
	MaxChart     = 2_000 // points along the axis
	MaxColumns   = 40    // of a page, a slide or a picture
	MailTableMax = 5_000
)

// ByName finds a format.
func ByName(name string) (Format, error) {
	var names []string
	for _, f := range formats {
		if f.Name == name {
			return f, nil
		}
		if f.Name != RowsKept {
			names = append(names, f.Name)
		}
	}
	return Format{}, fmt.Errorf("there is no format %q; there are %s", name, strings.Join(names, ", "))
}

// FlatFor tells whether an output takes rows alone.
func (f Format) FlatFor(o job.Output) bool {
	return f.Flat || f.Name == "xlsx" && (o.DataOnly || o.Workbook != "")
}

// Style is how an output is written.
type Style struct {
	job.Output
	Format Format
	Locale *locale.Locale
	Zone   *time.Location // in which instants are shown; nil when that is the zone in which they come
	Text   TextStyle
	Look   *house.Look // how it looks; the service's own way unless it is set
	Book   *Book       // that is filled, of an output that names a workbook
}

// Read checks the settings of an output. The error is a *fault.Invalid that
// names each field.
func Read(o job.Output) (*Style, error) {
	v := &fault.Invalid{What: "output"}
	s := &Style{Output: o, Look: house.Plain()}
	var err error
	if s.Format, err = ByName(o.Format); err != nil {
		v.Add("format", "%s", err)
		return nil, v.Err()
	}
	if s.Locale, err = locale.Load(o.Locale); err != nil {
		v.Add("locale", "%s", err)
		return nil, v.Err()
	}
	if o.Zone != "" {
		if s.Zone, err = zone.Load(o.Zone); err != nil {
			v.Add("zone", "%s", err)
		}
	}
	text := o.Format == "csv" || o.Format == "tsv"
	for _, field := range []struct {
		given, fits bool
		name, of    string
	}{
		{o.Text != nil, text, "text", "csv and tsv"},
		{o.Page != nil, o.Format == "pdf" || o.Format == "html" || o.Format == "pptx", "page", "pdf, html and pptx"},
		{o.DataOnly, o.Format == "xlsx", "data_only", "xlsx"},
		{o.Formulas, o.Format == "xlsx" && !o.DataOnly && o.Workbook == "", "formulas", "xlsx with its totals"},
		{o.Workbook != "", o.Format == "xlsx", "workbook", "xlsx"},
		{o.DataOnly && o.Workbook != "", false, "data_only", "sheets that are made anew, and this fills a workbook"},
		{o.Values, o.Workbook != "", "values_only", "a workbook that is filled"},
		{o.Hidden != "", o.Workbook != "", "hidden_sheets", "a workbook that is filled"},
		{o.Tagged, o.Format == "pdf", "tagged", "pdf"},
	} {
		if field.given && !field.fits {
			v.Add(field.name, "it belongs to %s; this is %s", field.of, o.Format)
		}
	}
	if len(o.Columns) > 0 && (!s.Format.FlatFor(o) || o.Workbook != "") {
		v.Add("columns", "they belong to csv, tsv, json, jsonl and to xlsx with data_only; this is laid out, and its sections say "+
			"which columns they show")
	}
	for i, name := range o.Columns {
		if slices.Contains(o.Columns[:i], name) {
			v.Add("columns", "%q stands there twice", name)
		}
	}
	readPage(v, o)
	if text {
		s.Text = readText(v, o, s.Locale)
	}
	return s, v.Err()
}

// readPage checks what only pages of our own writer have.
func readPage(v *fault.Invalid, o job.Output) {
	p := o.Page
	if p == nil {
		return
	}
	if o.Format == "pptx" {
		if *p != (job.Page{Grid: true}) {
			v.Add("page", "of pptx it says grid alone, for one slide that is composed")
		}
		return
	}
	for field, given := range map[string]bool{
		"page.wide": p.Wide != "" && p.Wide != job.WideSmaller, "page.one_page": p.OnePage, "page.grid": p.Grid, "page.contents": p.Contents,
	} {
		if given && (o.Format != "pdf" || o.Tagged) {
			v.Add(field, "it belongs to a PDF that is not tagged")
		}
	}
	if p.Grid && !p.OnePage {
		v.Add("page.grid", "it belongs to one page; say one_page, too")
	}
	if p.OnePage && p.Contents {
		v.Add("page.contents", "one page needs no list of what stands on it")
	}
	if p.OnePage && p.Wide == job.WideParted {
		v.Add("page.wide", "parted tables take several pages, and one_page says one")
	}
}

// MediaType is the media type of the file.
func (s *Style) MediaType() string {
	if s.Format.Name == "csv" || s.Format.Name == "tsv" {
		return s.Format.MediaType + "; charset=" + s.Text.Charset
	}
	return s.Format.MediaType
}

// head is what stands above a column.
func (s *Style) head(c shape.Column) string {
	if s.ForSystem {
		return c.Name
	}
	return c.Head()
}

// exact gives the form of each column for a file of data: every digit, without units and percent signs.
func (s *Style) exact(p *shape.Plan) ([]*locale.Form, error) {
	q := *p
	q.Columns = slices.Clone(p.Columns)
	for i := range q.Columns {
		c := &q.Columns[i]
		c.Percent, c.Decimals, c.Unit = false, nil, ""
	}
	cells, _, err := s.forms(&q, false)
	return cells, err
}

// forms gives the form of each column of a plan, and of its totals.
func (s *Style) forms(p *shape.Plan, grouped bool) (cells, totals []*locale.Form, err error) {
	for _, c := range p.Columns {
		form, err := s.Locale.Form(c.Kind, c.Column, s.Zone, grouped)
		if err != nil {
			return nil, nil,
				fault.Wrap(err, fault.Lasting, fault.Task, fmt.Sprintf("read the date form of column %q", c.Name),
					"Correct it in the report.")
		}
		cells = append(cells, form)
		total := form
		if c.Total == job.TotalCount {
			if total, err = s.Locale.Form("whole", job.Column{}, nil, grouped); err != nil {
				return nil, nil, err
			}
		}
		totals = append(totals, total)
	}
	return cells, totals, nil
}

// valuesLine says in one line which values were used.
func (h *Head) valuesLine() string {
	parts := make([]string, 0, len(h.Values))
	for _, b := range h.Values {
		parts = append(parts, b.Label+": "+b.Reads())
	}
	return strings.Join(parts, "  ·  ")
}

// asOf says as of when the file is, with its zone.
func (h *Head) asOf(l *locale.Locale) string { return l.DateTime(h.AsOf) + " " + h.AsOf.Format("MST") }

// Near tells what fits better once a file has most of the rows that its format holds; empty before that.
func (s *Style) Near(rows int64) string {
	const most = 0.8
	limit := map[string]int64{"pdf": MaxPDF, "html": MaxPage, "png": MaxPicture}[s.Format.Name]
	if s.Format.Name == "pdf" && s.Tagged {
		limit = MaxTagged
	}
	if limit == 0 || float64(rows) < most*float64(limit) {
		return ""
	}
	return fmt.Sprintf("it has %s of the %s rows that it holds at most; choose xlsx or csv, or the summary of its sections, before "+
		"it has more", humanize.Comma(rows), humanize.Comma(limit))
}

// tooMuch says that a format cannot hold so many rows, and which can.
func tooMuch(format string, limit int, what, better string) error {
	return fault.New(fault.Task, "write the "+format,
		fmt.Sprintf("it holds at most %s %s, and there are more", humanize.Comma(int64(limit)), what), better)
}

// tooWide says that a page cannot hold so many columns.
func tooWide(format string, n, most int) error {
	return fault.New(fault.Task, "write the "+format,
		fmt.Sprintf("the section has %d columns, and at most %d can be read side by side", n, most),
		"Choose xlsx or csv for this output, or hide columns of the section.")
}
