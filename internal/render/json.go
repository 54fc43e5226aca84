package render

import (
	"encoding/json"
	"fmt"
	"io"
	"time"
	"unicode/utf8"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
)

// jsonWriter writes one JSON object (RFC 8259): what the file is, and its
// sections with their columns and rows. A row is an object by column. Numbers
// keep all their digits; dates and times are as RFC 3339 has them.
type jsonWriter struct {
	out      io.Writer
	buf      []byte
	sections int
	rows     int64
	keys     [][]byte
	kinds    []rows.Kind
	compact  bool // rows are lists, for the file of kept rows
}

func newJSON(w io.Writer, h *Head, s *Style) (Writer, error) {
	j := &jsonWriter{out: w, buf: make([]byte, 0, flushAt+(8<<10))}
	values := map[string]any{}
	for _, b := range h.Values {
		switch {
		case b.Null:
			values[b.Name] = nil
		case b.Texts != nil:
			values[b.Name] = b.Texts
		default:
			values[b.Name] = b.Text
		}
	}
	head, err := json.Marshal(struct {
		Report   string         `json:"report"`
		Title    string         `json:"title,omitempty"`
		Run      string         `json:"run,omitempty"`
		AsOf     string         `json:"as_of"`
		Identity string         `json:"identity,omitempty"`
		Values   map[string]any `json:"values"`
	}{h.Report, h.Title, h.Run, h.AsOf.Format(time.RFC3339), h.Identity, values})
	if err != nil {
		return nil, fmt.Errorf("write the JSON file: %w", err)
	}
	j.buf = append(append(j.buf, head[:len(head)-1]...), ",\n\"sections\":["...)
	return j, nil
}

func (j *jsonWriter) Begin(p *shape.Plan) error {
	type column struct {
		Name  string    `json:"name"`
		Label string    `json:"label,omitempty"`
		Type  rows.Kind `json:"type"`
		Unit  string    `json:"unit,omitempty"`
	}
	columns := make([]column, 0, len(p.Columns))
	for _, c := range p.Columns {
		columns = append(columns, column{Name: c.Name, Label: c.Label, Type: c.Kind, Unit: c.Unit})
	}
	j.columns(p)
	head, err := json.Marshal(struct {
		Section string          `json:"section"`
		Title   string          `json:"title,omitempty"`
		Form    job.Form        `json:"form,omitempty"`
		Kind    job.SectionKind `json:"kind"`
		Text    string          `json:"text,omitempty"`
		Columns []column        `json:"columns"`
		Key     []int           `json:"key,omitempty"`
	}{p.Section, p.Title, p.Form, p.Kind, p.Text, columns, p.Key})
	if err != nil {
		return fmt.Errorf("write the JSON file: %w", err)
	}
	if j.sections++; j.sections > 1 {
		j.buf = append(j.buf, ',')
	}
	j.buf = append(append(append(j.buf, '\n'), head[:len(head)-1]...), ",\"rows\":["...)
	return nil
}

// columns prepares what stands before each value of a row.
func (j *jsonWriter) columns(p *shape.Plan) {
	j.keys, j.kinds, j.rows = nil, nil, 0
	for i, c := range p.Columns {
		key := []byte{}
		if i > 0 {
			key = append(key, ',')
		}
		if !j.compact {
			key = append(appendText(key, []byte(c.Name)), ':')
		}
		j.keys, j.kinds = append(j.keys, key), append(j.kinds, c.Kind)
	}
}

func (j *jsonWriter) Line(line *shape.Line) error {
	if j.rows++; j.rows > 1 {
		j.buf = append(j.buf, ',')
	}
	j.buf = append(j.buf, '\n')
	if j.row(line); len(j.buf) < flushAt {
		return nil
	}
	return j.flush()
}

// row writes the values of a line.
func (j *jsonWriter) row(line *shape.Line) {
	open, end := byte('{'), byte('}')
	if j.compact {
		open, end = '[', ']'
	}
	j.buf = append(j.buf, open)
	for i, c := range line.Cells {
		j.buf = append(j.buf, j.keys[i]...)
		j.buf = appendValue(j.buf, j.kinds[i], c)
	}
	j.buf = append(j.buf, end)
}

func (j *jsonWriter) End() error {
	j.buf = append(j.buf, "]}"...)
	return nil
}

func (j *jsonWriter) flush() error {
	_, err := j.out.Write(j.buf)
	j.buf = j.buf[:0]
	return err
}

func (j *jsonWriter) Close() error {
	j.buf = append(j.buf, "]}\n"...)
	return j.flush()
}

func appendValue(dst []byte, kind rows.Kind, c rows.Cell) []byte {
	if c.Null {
		return append(dst, "null"...)
	}
	switch kind {
	case rows.Whole, rows.Number:
		if number(c.Text) {
			return append(dst, c.Text...)
		}
	case rows.YesNo:
		if c.True() {
			return append(dst, "true"...)
		}
		return append(dst, "false"...)
	case rows.Instant, rows.Local:
		if len(c.Text) > 19 && c.Text[10] == ' ' || len(c.Text) == 19 {
			return appendInstant(dst, c.Text, kind)
		}
	}
	return appendText(dst, c.Text)
}

// appendInstant turns 2026-07-01 06:30:00+01 into the form of RFC 3339.
func appendInstant(dst, text []byte, kind rows.Kind) []byte {
	dst = append(dst, '"')
	dst = append(append(append(dst, text[:10]...), 'T'), text[11:]...)
	if n := len(text); kind == rows.Instant && (text[n-3] == '+' || text[n-3] == '-') {
		dst = append(dst, ":00"...)
	}
	return append(dst, '"')
}

// number tells whether digits are a number as JSON writes them.
func number(text []byte) bool {
	i := 0
	if i < len(text) && text[i] == '-' {
		i++
	}
	if i >= len(text) || text[i] < '0' || text[i] > '9' ||
		text[i] == '0' && i+1 < len(text) && text[i+1] >= '0' && text[i+1] <= '9' {
		return false
	}
	for ; i < len(text); i++ {
		if c := text[i]; (c < '0' || c > '9') && c != '.' && c != 'e' && c != 'E' && c != '+' && c != '-' {
			return false
		}
	}
	return text[len(text)-1] != '.'
}

// jsonLines writes each row as a JSON object on a line of its own (RFC 8259; the lines are those of JSON text
// sequences without their marks), with columns by name as jsonWriter writes them, and nothing else.
type jsonLines struct{ jsonWriter }

func newJSONLines(w io.Writer, _ *Head, _ *Style) (Writer, error) {
	return &jsonLines{jsonWriter{out: w, buf: make([]byte, 0, flushAt+(8<<10))}}, nil
}

func (j *jsonLines) Begin(p *shape.Plan) error {
	if p.Kind == job.SectionText {
		j.buf = append(appendText(append(j.buf, `{"text":`...), []byte(p.Text)), "}\n"...)
		return nil
	}
	j.columns(p)
	return nil
}

func (j *jsonLines) Line(line *shape.Line) error {
	j.row(line)
	if j.buf = append(j.buf, '\n'); len(j.buf) < flushAt {
		return nil
	}
	return j.flush()
}

func (j *jsonLines) End() error   { return nil }
func (j *jsonLines) Close() error { return j.flush() }

const hex = "0123456789abcdef"

// appendText writes a text in quotes.
func appendText(dst, text []byte) []byte {
	dst = append(dst, '"')
	from := 0
	for i := 0; i < len(text); {
		c := text[i]
		if c >= 0x20 && c != '"' && c != '\\' && c < utf8.RuneSelf {
			i++
			continue
		}
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRune(text[i:])
			if r != utf8.RuneError || size > 1 {
				i += size
				continue
			}
			dst = append(append(dst, text[from:i]...), `\ufffd`...)
			i++
			from = i
			continue
		}
		dst = append(dst, text[from:i]...)
		switch c {
		case '"', '\\':
			dst = append(dst, '\\', c)
		case '\n':
			dst = append(dst, '\\', 'n')
		case '\r':
			dst = append(dst, '\\', 'r')
		case '\t':
			dst = append(dst, '\\', 't')
		default:
			dst = append(dst, '\\', 'u', '0', '0', hex[c>>4], hex[c&15])
		}
		i++
		from = i
	}
	return append(append(dst, text[from:]...), '"')
}
