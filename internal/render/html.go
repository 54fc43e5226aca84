package render

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"fmt"
	"html"
	"io"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/shape"
	"ironbell/internal/house"
	"ironbell/internal/typeface"
)

// htmlWriter writes HTML (WHATWG): a whole page with a style sheet, also for
// printing, or the body of a mail with inline styles only, since mail programs
// drop style sheets. Tables have captions and header cells with their scope.
type htmlWriter struct {
	out    *bufio.Writer
	head   *Head
	style  *Style
	mail   bool
	inline map[string]string // looks of elements, in a mail
	limit  int
	said   []string
	faces  string // rules for typefaces, of a page that is printed here

	reading
	begun bool // the table's head is written
	n     int64
	total int64      // lines of all sections, shown or not
	early []textLine // of a chart, kept until it is drawn
	err   error
}

func newPage(w io.Writer, h *Head, s *Style) (Writer, error) {
	p := &htmlWriter{out: bufio.NewWriterSize(w, 64<<10), head: h, style: s, limit: MaxPage}
	if s.Format.Name == "pdf" {
		p.faces = s.Look.FaceRule()
	}
	p.top()
	return p, p.err
}

func newMailTable(w io.Writer, h *Head, s *Style) (Writer, error) {
	return &htmlWriter{
		out: bufio.NewWriterSize(w, 64<<10), head: h, style: s, mail: true, limit: MailTableMax,
		inline: inlineStyles(s.Look),
	}, nil
}

const sheet = `:root{color-scheme:light}
body{font:14px/1.45 "Segoe UI","Helvetica Neue",Helvetica,"DejaVu Sans",Arial,sans-serif;color:#24272b;background:#fff;margin:32px auto;max-width:1100px;padding:0 24px}
h1{font-size:26px;line-height:1.2;margin:0 0 6px}
.about{color:#5d6167;margin:0;font-size:13px}
header{border-bottom:3px solid #86561b;padding-bottom:12px;margin-bottom:24px}
section{margin:0 0 32px}
h2{font-size:17px;margin:0 0 8px}
table{border-collapse:collapse;font-size:13px;font-variant-numeric:tabular-nums}
caption{text-align:left;font-size:17px;font-weight:600;padding:0 0 8px}
th,td{padding:4px 14px 4px 0;border-bottom:1px solid #e5ddcd;vertical-align:top;text-align:left}
thead th{color:#5d6167;border-bottom:2px solid #86561b;vertical-align:bottom}
.n{text-align:right}
.w{white-space:pre-wrap}
.sub th,.sub td{font-weight:600}
.total th,.total td{font-weight:600;border-top:2px solid #86561b}
.good{color:#1f6b4f;font-weight:600}.warning{color:#8a5f00;font-weight:600}.bad{color:#a8321a;font-weight:600}.strong{font-weight:600}.faint{color:#6b6f76}
.figures{display:flex;flex-wrap:wrap;gap:16px 48px;margin:0}
.figures dt{color:#5d6167;font-size:13px}.figures dd{margin:0}.figures .big{font-size:30px;font-weight:600;line-height:1.2}
figure{margin:0 0 12px}figure svg,figure img{max-width:100%;height:auto}
.none{color:#5d6167}
caption.behind{font-size:12px;font-weight:400;color:#5d6167;padding:0 0 4px}
.logo{float:right;margin:0 0 8px 24px}
footer{color:#5d6167;font-size:12px;border-top:1px solid #e5ddcd;padding-top:8px}
`

func (w *htmlWriter) printf(format string, args ...any) {
	if w.err == nil {
		_, w.err = fmt.Fprintf(w.out, format, args...)
	}
}

func (w *htmlWriter) text(s string) {
	if w.err == nil {
		_, w.err = w.out.WriteString(s)
	}
}

// as gives an element its look: a class in a page, an inline style in a mail.
func (w *htmlWriter) as(class string) string {
	if !w.mail {
		if class == "" {
			return ""
		}
		return ` class="` + class + `"`
	}
	return ` style="` + w.inline[class] + `"`
}

// inlineStyles are the looks of a mail's elements.
func inlineStyles(l *house.Look) map[string]string {
	const cell = "padding:4px 10px 4px 0;border-bottom:1px solid #e5ddcd;vertical-align:top;text-align:left"
	styles := map[string]string{
		"td": cell, "td n": cell + ";text-align:right", "td w": cell + ";white-space:pre-wrap",
		"th": "padding:4px 10px 4px 0;border-bottom:2px solid " +
			"#86561b;vertical-align:bottom;font-weight:600;color:#5d6167;text-align:left",
		"th n": "padding:4px 10px 4px 0;border-bottom:2px solid " +
			"#86561b;vertical-align:bottom;font-weight:600;color:#5d6167;text-align:right",
		"sub":     cell + ";font-weight:600",
		"sub n":   cell + ";font-weight:600;text-align:right",
		"total":   cell + ";font-weight:600;border-top:2px solid #86561b",
		"total n": cell + ";font-weight:600;border-top:2px solid #86561b;text-align:right",
		"good":    "color:#1f6b4f;font-weight:600", "warning": "color:#8a5f00;font-weight:600",
		"bad": "color:#a8321a;font-weight:600", "strong": "font-weight:600", "faint": "color:#6b6f76",
		"table": "border-collapse:collapse;font:14px/1.4 'Segoe " +
			"UI',Helvetica,Arial,sans-serif;color:#24272b;margin:0 0 18px",
		"caption": "text-align:left;font-weight:600;padding:0 0 6px",
		"behind":  "text-align:left;color:#5d6167;padding:0 0 6px",
		"big":     "font-size:26px;font-weight:600;line-height:1.2", "none": "color:#5d6167",
	}
	for class, style := range styles {
		styles[class] = l.CSS(style)
	}
	return styles
}

// page sets what printing needs.
func (w *htmlWriter) pageRule() string {
	size := "A4"
	direction := ""
	if p := w.style.Page; p != nil {
		if p.Size != "" {
			size = p.Size
		}
		if p.Direction == "sideways" {
			direction = " landscape"
		}
	}
	quote := func(s string) string {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\22 `, "\n", " ", "<", `\3c `).Replace(s) + `"`
	}
	left := w.head.Title
	if w.head.Run != "" {
		left += "  ·  " + w.style.Locale.Words.Run + " " + w.head.Run
	}
	foot := quote(left)
	if house := joined(w.style.Look.Footer, w.style.Look.Legal); house != "" {
		foot += ` "\a " ` + quote(house)
	}
	words := w.style.Locale.Words
	return fmt.Sprintf(`@page{size:%s%s;margin:16mm 15mm 22mm;@bottom-left{content:%s;width:84%%;white-space:pre-wrap;font:7.5pt sans-serif;color:#5d6167}@bottom-right{content:%s counter(page) %s counter(pages);font:7.5pt sans-serif;color:#5d6167}}
@media print{body{margin:0;max-width:none;padding:0;font-size:9.5pt}table{font-size:8.5pt}thead{display:table-header-group}tr,figure,dl{break-inside:avoid}footer{display:none}}
`, size, direction, foot, quote(words.Page+" "), quote(" "+words.Of+" "))
}

// top writes the head of a page.
func (w *htmlWriter) top() {
	words := w.style.Locale.Words
	w.printf("<!doctype html>\n<html lang=\"%s\">\n<head>\n<meta charset=\"utf-8\">\n<meta "+
		"http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'; "+
		"img-src data:; font-src data:\">\n", w.style.Locale.Lang)
	w.printf("<meta name=\"viewport\" content=\"width=device-width\">\n<meta name=\"generator\" content=\"Iron "+
		"Bell\">\n<title>%s</title>\n<style>\n%s%s</style>\n</head>\n<body>\n", html.EscapeString(w.head.Title),
		w.style.Look.CSS(sheet), w.style.Look.CSS(w.pageRule())+w.faces)
	w.printf("<header>\n%s<h1>%s</h1>\n<p class=\"about\">%s %s", w.logo(), html.EscapeString(w.head.Title), words.AsOf,
		html.EscapeString(w.head.asOf(w.style.Locale)))
	if w.head.Run != "" {
		w.printf("  ·  %s %s", words.Run, html.EscapeString(w.head.Run))
	}
	if w.head.Identity != "" {
		w.printf("  ·  %s %s", words.Identity, html.EscapeString(w.head.Identity))
	}
	w.printf("</p>\n")
	if values := w.head.valuesLine(); values != "" {
		w.printf("<p class=\"about\">%s</p>\n", html.EscapeString(values))
	}
	w.printf("</header>\n<main>\n")
}

// logo is the picture of the house in the head of a page.
func (w *htmlWriter) logo() string {
	l := w.style.Look.Logo
	if l == nil {
		return ""
	}
	wide, high := l.Within(220, 52)
	return fmt.Sprintf("<img class=\"logo\" alt=\"%s\" width=\"%.0f\" height=\"%.0f\" src=\"%s%s\">\n",
		html.EscapeString(w.style.Look.Name), wide, high, PictureMark, base64.StdEncoding.EncodeToString(l.PNG))
}

func (w *htmlWriter) Begin(p *shape.Plan) error {
	w.begun, w.n, w.early = false, 0, nil
	if err := w.reading.begin(w.style, p, "HTML", 3*MaxColumns); err != nil {
		return err
	}
	if !w.mail {
		w.printf("<section>\n")
	}
	return w.err
}

func (w *htmlWriter) Line(line *shape.Line) error {
	if done, err := w.take(w.style, line); done || err != nil {
		return err
	}
	w.n++
	w.total++
	if w.total > int64(w.limit) {
		if w.mail {
			return nil // said at the end
		}
		return tooMuch("HTML page", w.limit, "rows",
			"Choose xlsx or csv for this output, or the summary of the section.")
	}
	if w.chart != nil {
		w.early = append(w.early, shownLine(w.plan, line, w.forms, w.totals, w.style.Locale))
		return nil
	}
	if !w.begun {
		w.begin()
	}
	w.row(shownLine(w.plan, line, w.forms, w.totals, w.style.Locale))
	return w.err
}

// begin writes the head of a table.
func (w *htmlWriter) begin() {
	w.begun = true
	caption := "caption"
	if w.chart != nil {
		caption = "behind" // the title stands above the drawing
	}
	if !w.mail && caption == "caption" {
		caption = ""
	}
	w.printf("<table%s>\n<caption%s>%s</caption>\n<thead><tr>", w.as(map[bool]string{true: "table"}[w.mail]),
		w.as(caption), html.EscapeString(w.plan.Title))
	for _, c := range w.plan.Columns {
		class := map[bool]string{true: "n"}[c.Kind.Numeric()]
		if w.mail {
			class = strings.TrimSpace("th " + class)
		}
		w.printf("<th scope=\"col\"%s>%s</th>", w.as(class), html.EscapeString(w.style.head(c)))
	}
	w.text("</tr></thead>\n<tbody>\n")
}

func (w *htmlWriter) row(line textLine) {
	kind := map[shape.LineKind]string{shape.Subtotal: "sub", shape.GrandTotal: "total"}[line.kind]
	if w.mail || kind == "" {
		w.text("<tr>")
	} else {
		w.text("<tr" + w.as(kind) + ">")
	}
	for i, text := range line.cells {
		class := ""
		switch {
		case w.plan.Columns[i].Kind.Numeric():
			class = "n"
		case strings.Contains(text, "\n"):
			class = "w"
		}
		tag := "td"
		if line.kind != shape.Data && i == 0 {
			tag = `th scope="row"`
		}
		if w.mail {
			class = strings.TrimSpace(orWord(kind, "td") + " " + class)
		}
		if typeface.Leftward(text) {
			tag += ` dir="rtl"`
		}
		w.text("<" + tag + w.as(class) + ">")
		if i < len(line.marks) && line.marks[i] != job.MarkNone {
			w.text("<span" + w.as(string(line.marks[i])) + ">" + html.EscapeString(text) + "</span>")
		} else {
			w.text(html.EscapeString(text))
		}
		w.text("</" + tag[:2] + ">")
	}
	w.text("</tr>\n")
}

func orWord(word, otherwise string) string {
	if word == "" {
		return otherwise
	}
	return word
}

func (w *htmlWriter) End() error {
	switch w.plan.Kind {
	case job.SectionText:
		w.prose()
	case job.SectionFigures:
		w.figures()
	default:
		if w.chart != nil && len(w.chart.along) > 0 {
			if err := w.drawChart(); err != nil {
				return err
			}
		}
		if w.chart != nil && len(w.chart.along) > 0 && w.plan.Chart.WithoutTable {
			break
		}
		if !w.begun {
			w.begin()
		}
		for _, line := range w.early {
			w.row(line)
		}
		w.text("</tbody></table>\n")
		if w.n == 0 {
			w.printf("<p%s>%s</p>\n", w.as("none"), w.style.Locale.Words.NoRows)
		}
	}
	if !w.mail {
		w.text("</section>\n")
	}
	return w.err
}

func (w *htmlWriter) title() {
	if w.plan.Title == w.head.Title && !w.mail {
		return
	}
	if w.mail {
		w.printf("<p style=\"font-weight:600;margin:0 0 6px\">%s</p>\n", html.EscapeString(w.plan.Title))
		return
	}
	w.printf("<h2>%s</h2>\n", html.EscapeString(w.plan.Title))
}

// prose writes a text: an empty line begins a paragraph.
func (w *htmlWriter) prose() {
	w.title()
	for _, paragraph := range strings.Split(w.plan.Text, "\n\n") {
		w.printf("<p dir=\"auto\">%s</p>\n", strings.ReplaceAll(html.EscapeString(strings.TrimSpace(paragraph)), "\n", "<br>\n"))
	}
}

func (w *htmlWriter) figures() {
	w.title()
	if len(w.shown) == 0 {
		w.printf("<p%s>%s</p>\n", w.as("none"), w.style.Locale.Words.NoRows)
		return
	}
	if w.mail {
		// A list would fall apart in old mail programs; a row of cells does not.
		w.text(`<table role="presentation"` + w.as("table") + "><tr>\n")
		for i, f := range w.shown {
			if i%4 == 0 && i > 0 {
				w.text("</tr><tr>\n")
			}
			w.printf("<td style=\"padding:0 28px 10px 0;vertical-align:top\"><span"+
				"%s>%s</span><br><span%s>%s</span><br><span%s>%s</span></td>\n",
				w.as("none"), html.EscapeString(f.label), w.as("big"), html.EscapeString(f.text),
				w.as(orWord(string(f.mark), "faint")), html.EscapeString(f.change))
		}
		w.text("</tr></table>\n")
		return
	}
	w.text("<dl class=\"figures\">\n")
	for _, f := range w.shown {
		w.printf("<div><dt>%s</dt><dd class=\"big\">%s</dd>", html.EscapeString(f.label), html.EscapeString(f.text))
		if f.change != "" {
			w.printf("<dd class=\"%s\">%s</dd>", orWord(string(f.mark), "faint"), html.EscapeString(f.change))
		}
		w.text("</div>\n")
	}
	w.text("</dl>\n")
}

// drawChart sets the chart above its table: drawn in a page, as a picture in a mail.
func (w *htmlWriter) drawChart() error {
	w.title()
	alt := html.EscapeString(w.chart.alt())
	w.said = append(w.said, w.chart.says()...)
	if !w.mail {
		svg, err := w.chart.svg(900, 300)
		if err != nil {
			return err
		}
		svg = strings.Replace(svg, "<svg", `<svg role="img" aria-label="`+alt+`"`, 1)
		w.text("<figure>" + svg + "</figure>\n")
		return w.err
	}
	var picture bytes.Buffer
	if err := w.chart.png(&picture, 680*0.75, 260*0.75, 192); err != nil {
		return err
	}
	// The message takes it out of here and names it by its content id.
	w.printf("<p style=\"margin:0 0 12px\"><img width=\"680\" height=\"260\" alt=\"%s\" src=\"%s%s\"></p>\n", alt,
		PictureMark, base64.StdEncoding.EncodeToString(picture.Bytes()))
	return w.err
}

// PictureMark begins a picture in the body of a mail; base64 follows up to the
// closing quote. Whoever composes the message puts a content id in its place,
// since mail programs do not show data addresses.
const PictureMark = "data:image/png;base64,"

func (w *htmlWriter) Close() error {
	switch {
	case w.mail && w.total > int64(w.limit):
		say := w.style.Locale.Say
		where := say("Add a file to the job's outputs to get them all.")
		if len(w.head.Files) > 0 {
			where = say("All of them are in %s.", strings.Join(w.head.Files, ", "))
		}
		first := say("Shown here are the first %s of %s rows.", w.style.Locale.Count(int64(w.limit)), w.style.Locale.Count(w.total))
		w.printf("<p style=\"color:#8a5f00\">%s</p>\n", html.EscapeString(first+" "+where))
	case !w.mail:
		w.printf("</main>\n<footer>%s", html.EscapeString(w.head.Title))
		if w.head.Run != "" {
			w.printf("  ·  %s %s", w.style.Locale.Words.Run, html.EscapeString(w.head.Run))
		}
		for _, line := range []string{w.style.Look.Footer, w.style.Look.Legal} {
			if line != "" {
				w.printf("<br>\n%s", html.EscapeString(line))
			}
		}
		w.text("</footer>\n</body>\n</html>\n")
	}
	if w.err == nil {
		w.err = w.out.Flush()
	}
	if w.err != nil {
		return fmt.Errorf("write the HTML: %w", w.err)
	}
	return nil
}

// Says tells what a reader of the file should know.
func (w *htmlWriter) Says() []string { return w.said }
