package render

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
)

// TextStyle is how a text file is written.
type TextStyle struct {
	job.TextForm
	Charset string // name of the encoding at IANA
	comma   byte
	end     string
}

// readText checks the settings of a text file and fills in what was left out.
func readText(v *fault.Invalid, o job.Output, l *locale.Locale) TextStyle {
	s := TextStyle{end: "\r\n", comma: ','}
	if o.Text != nil {
		s.TextForm = *o.Text
	}
	switch {
	case s.Delimiter != "":
		if len(s.Delimiter) != 1 || s.Delimiter[0] == '"' || s.Delimiter[0] == '\r' || s.Delimiter[0] == '\n' ||
			s.Delimiter[0] >= 0x80 || s.Delimiter[0] == 0 {
			v.Add("text.delimiter",
				"%q cannot stand between cells; use one ASCII character that is no quote and no line end", s.Delimiter)
			break
		}
		if s.comma = s.Delimiter[0]; s.Delimiter == l.Decimal {
			v.Add("text.delimiter",
				"numbers of the locale %s have %q before their decimals, so it cannot stand between cells, too; use "+
					"a semicolon or a tab", l.Name, l.Decimal)
		}
	case o.Format == "tsv":
		s.comma = '\t'
	case l.DecimalComma():
		s.comma = ';' // the comma is taken
	}
	if s.LineEnd == job.EndLF {
		s.end = "\n"
	}
	var err error
	if s.Charset, _, err = encodingOf(s.Encoding); err != nil {
		v.Add("text.encoding", "%s", err)
	}
	return s
}

// textWriter writes delimited text as RFC 4180 has it, in the locale, the
// encoding and with the marks that the output names. Cells that a spreadsheet
// would take for a formula are defused by an apostrophe in front, unless
// another system reads the file.
type textWriter struct {
	out    *encoder
	style  *Style
	plan   *shape.Plan
	forms  []*locale.Form
	plain  []bool // the cells of this column never need quotes and are written as they come
	defuse []bool
	marks  [256]bool // characters for which a cell stands in quotes
	buf    []byte
	cell   []byte
}

// flushAt is how many bytes are gathered before they are written.
const flushAt = 64 << 10

func newText(w io.Writer, _ *Head, s *Style) (Writer, error) {
	out, err := newEncoder(w, s.Text.Encoding, s.Text.Unfit)
	if err != nil {
		return nil, err
	}
	t := &textWriter{out: out, style: s, buf: make([]byte, 0, flushAt+(8<<10))}
	t.marks[s.Text.comma], t.marks['"'], t.marks['\r'], t.marks['\n'] = true, true, true, true
	return t, nil
}

func (t *textWriter) Begin(p *shape.Plan) error {
	t.plan = p
	if p.Kind == job.SectionText {
		t.buf = append(t.buf, p.Text...)
		t.buf = append(t.buf, t.style.Text.end...)
		return nil
	}
	cells, err := t.style.exact(p)
	if t.style.Text.Numbers == job.NumbersShown {
		cells, _, err = t.style.forms(p, false)
	}
	if err != nil {
		return err
	}
	t.forms, t.plain, t.defuse = cells, make([]bool, len(p.Columns)), make([]bool, len(p.Columns))
	for i, c := range p.Columns {
		// Without a locale, digits and dates are handed on untouched.
		raw := t.style.Locale.Name == "" && c.Date == "" && (t.style.Zone == nil || c.Kind.Numeric()) && c.Kind != rows.Text &&
			c.Kind != rows.YesNo && t.style.Text.Numbers != job.NumbersShown
		if raw {
			t.forms[i] = nil
		}
		t.plain[i] = raw && t.style.Text.Quote != job.QuoteAll && !marksOf(t.style.Text.comma)
		t.defuse[i] = c.Kind == rows.Text && !t.style.ForSystem
	}
	if t.style.Text.NoHeader {
		return nil
	}
	for i, c := range p.Columns {
		text := []byte(t.style.head(c))
		if !t.style.ForSystem && formula(text) {
			text = append([]byte{'\''}, text...)
		}
		if err := t.put(i, text); err != nil {
			return err
		}
	}
	return t.endLine()
}

// marksOf tells whether a delimiter may stand in digits or dates.
func marksOf(c byte) bool {
	return c >= '0' && c <= '9' || c == '.' || c == '-' || c == '+' || c == ':' || c == ' ' || c >= 'A' && c <= 'z'
}

func (t *textWriter) Line(line *shape.Line) error {
	for i, c := range line.Cells {
		if t.plain[i] {
			if i > 0 {
				t.buf = append(t.buf, t.style.Text.comma)
			}
			if !c.Null {
				t.buf = append(t.buf, c.Text...)
			}
			continue
		}
		text := c.Text
		switch {
		case c.Null:
			text = nil
		case t.forms[i] != nil && t.plan.Columns[i].Kind != rows.Text:
			t.cell = t.forms[i].Append(t.cell[:0], c)
			text = t.cell
		case t.defuse[i] && formula(text):
			t.cell = append(append(t.cell[:0], '\''), text...)
			text = t.cell
		}
		if err := t.put(i, text); err != nil {
			return err
		}
	}
	return t.endLine()
}

// put writes a cell, in quotes when it needs them.
func (t *textWriter) put(i int, text []byte) error {
	if i > 0 {
		t.buf = append(t.buf, t.style.Text.comma)
	}
	quote := t.style.Text.Quote == job.QuoteAll
	if !quote {
		for _, c := range text {
			if t.marks[c] {
				quote = true
				break
			}
		}
	}
	if !quote {
		t.buf = append(t.buf, text...)
		return nil
	}
	if t.style.Text.Quote == job.QuoteNone {
		return fault.New(fault.Task, "write the text file",
			fmt.Sprintf("a cell of column %q holds the delimiter, a quote or a line end, and the output says that "+
				"nothing stands in quotes", t.plan.Columns[i].Name),
			"Choose another delimiter, or quotes where they are needed.")
	}
	t.buf = append(t.buf, '"')
	for _, c := range text {
		if c == '"' {
			t.buf = append(t.buf, '"')
		}
		t.buf = append(t.buf, c)
	}
	t.buf = append(t.buf, '"')
	return nil
}

func (t *textWriter) endLine() error {
	t.buf = append(t.buf, t.style.Text.end...)
	if len(t.buf) < flushAt {
		return nil
	}
	return t.flush()
}

func (t *textWriter) flush() error {
	_, err := t.out.Write(t.buf)
	t.buf = t.buf[:0]
	return err
}

func (t *textWriter) End() error { return nil }

func (t *textWriter) Close() error {
	if err := t.flush(); err != nil {
		return err
	}
	return t.out.Close()
}

// Says tells what did not fit the encoding.
func (t *textWriter) Says() []string { return t.out.says() }

// formula tells whether a spreadsheet would take a text for a formula. Blanks and signs
// that are not seen in front of it count as little as they do there.
func formula(text []byte) bool {
	if len(text) == 0 {
		return false
	}
	if text[0] == '\t' || text[0] == '\r' || text[0] == '\n' {
		return true
	}
	text = bytes.TrimLeftFunc(text,
		func(r rune) bool { return unicode.IsSpace(r) || unicode.In(r, unicode.Cf, unicode.Cc) })
	r, _ := utf8.DecodeRune(text)
	// A full-width form of these is read as one, too, in some locales.
	return strings.ContainsRune("=+-@＝＋－＠", r) && len(text) > 0
}
