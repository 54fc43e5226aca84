package render

import (
	"bufio"
	"fmt"
	"html"
	"io"
	"strings"

	"ironbell/internal/core/rows"

	"github.com/dustin/go-humanize"
)

// MailTableRows is how many rows a table in the body of a mail shows at most.
const MailTableRows = 5000

// mailTable writes HTML for the body of a mail: tables with inline styles only,
// since mail programs drop style sheets.
type mailTable struct {
	out     *bufio.Writer
	head    *Head
	columns []rows.Column
	n       int64 // rows of this section
	total   int64 // rows of all sections, shown or not
	err     error
}

func newMailTable(w io.Writer, h *Head) (Writer, error) {
	return &mailTable{out: bufio.NewWriterSize(w, 64<<10), head: h}, nil
}

const (
	cellStyle   = "padding:4px 10px 4px 0;border-bottom:1px solid #e5ddcd;vertical-align:top"
	headerStyle = "padding:4px 10px 4px 0;border-bottom:2px solid #86561b;vertical-align:bottom;font-weight:600;color:#5d6167"
)

func (m *mailTable) printf(format string, args ...any) {
	if m.err == nil {
		_, m.err = fmt.Fprintf(m.out, format, args...)
	}
}

func (m *mailTable) Columns(section string, columns []rows.Column) error {
	m.endTable()
	m.columns, m.n = columns, 0
	m.printf("<table style=\"border-collapse:collapse;font:14px/1.4 'Segoe UI',Helvetica,Arial,sans-serif;color:#24272b;margin:0 0 18px\">\n")
	m.printf("<caption style=\"text-align:left;font-weight:600;padding:0 0 6px\">%s</caption>\n<thead><tr>", html.EscapeString(section))
	for _, c := range columns {
		m.printf("<th scope=\"col\" style=\"%s;text-align:%s\">%s</th>", headerStyle, align(c.Kind), html.EscapeString(c.Name))
	}
	m.printf("</tr></thead>\n<tbody>\n")
	return m.err
}

func align(k rows.Kind) string {
	if k.Numeric() {
		return "right"
	}
	return "left"
}

func (m *mailTable) Row(row rows.Row) error {
	m.n++
	m.total++
	if m.total > MailTableRows {
		return nil
	}
	m.printf("<tr>")
	for i, c := range row {
		text := string(c.Text)
		if m.columns[i].Kind == rows.YesNo && !c.Null {
			text = yesNo(c)
		}
		if m.columns[i].Kind == rows.Instant {
			if t, ok := c.When(rows.Instant); ok && !c.Null {
				text = t.Format("2006-01-02 15:04")
			}
		}
		m.printf("<td style=\"%s;text-align:%s\">%s</td>", cellStyle, align(m.columns[i].Kind), html.EscapeString(text))
	}
	m.printf("</tr>\n")
	return m.err
}

func (m *mailTable) endTable() {
	if m.columns == nil {
		return
	}
	m.printf("</tbody></table>\n")
	if m.n == 0 {
		m.printf("<p style=\"color:#5d6167\">No rows.</p>\n")
	}
	m.columns = nil
}

func (m *mailTable) Close() error {
	m.endTable()
	if m.total > MailTableRows {
		where := "Add a file to the job's outputs to get them all."
		if len(m.head.Files) > 0 {
			where = "All of them are in " + strings.Join(m.head.Files, ", ") + "."
		}
		m.printf("<p style=\"color:#8a5f00\">Shown here are the first %s of %s rows. %s</p>\n",
			humanize.Comma(MailTableRows), humanize.Comma(m.total), html.EscapeString(where))
	}
	if m.err == nil {
		m.err = m.out.Flush()
	}
	if m.err != nil {
		return fmt.Errorf("write the mail's table: %w", m.err)
	}
	return nil
}
