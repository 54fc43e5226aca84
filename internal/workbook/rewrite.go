package workbook

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// element is an element of a part that is being rewritten.
type element struct {
	name   string // without its prefix
	prefix string // with its colon
	path   []string
	attrs  []xml.Attr

	drop    bool                // it and what it holds go
	changed bool                // its attributes are written anew
	text    func(string) string // what its own text becomes
	end     string              // what stands before its end
	after   string              // what stands after it
}

func (e *element) attr(name string) string {
	for _, a := range e.attrs {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// set sets an attribute that has no prefix; nothing takes it away.
func (e *element) set(name, value string) {
	e.changed = true
	for i, a := range e.attrs {
		if a.Name.Local == name && a.Name.Space == "" {
			if value == "" {
				e.attrs = append(e.attrs[:i:i], e.attrs[i+1:]...)
			} else {
				e.attrs[i].Value = value
			}
			return
		}
	}
	if value != "" {
		e.attrs = append(e.attrs, xml.Attr{Name: xml.Name{Local: name}, Value: value})
	}
}

// in tells whether it stands in an element of this name.
func (e *element) in(name string) bool {
	for _, p := range e.path {
		if p == name {
			return true
		}
	}
	return false
}

var errForm = errors.New("it has a document type, which no workbook has")

// tokens reads the tokens of a part with the places at which they stand.
type tokens struct {
	data     []byte
	d        *xml.Decoder
	from, to int
}

func newTokens(data []byte) *tokens {
	return &tokens{data: data, d: xml.NewDecoder(bytes.NewReader(data))}
}

// next gives the next token; io.EOF at the end.
func (t *tokens) next() (xml.Token, error) {
	t.from = int(t.d.InputOffset())
	tok, err := t.d.RawToken()
	t.to = int(t.d.InputOffset())
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("it cannot be read as XML: %w", err)
	}
	if _, is := tok.(xml.Directive); is {
		return nil, errForm
	}
	return tok, err //nolint:wrapcheck // the end
}

// raw is the token as it stands.
func (t *tokens) raw() []byte { return t.data[t.from:t.to] }

// closed tells whether the start that was read is its end, too.
func (t *tokens) closed() bool { return t.to >= 2 && t.data[t.to-2] == '/' }

// skip reads to behind the end of the element whose start was read.
func (t *tokens) skip() error {
	for depth := 1; depth > 0; {
		tok, err := t.next()
		if err != nil {
			return cut(err)
		}
		switch tok.(type) {
		case xml.StartElement:
			depth++
		case xml.EndElement:
			depth--
		}
	}
	return nil
}

func cut(err error) error {
	if errors.Is(err, io.EOF) {
		return errors.New("one of its parts ends in the middle")
	}
	return err
}

// rewritten is a part with some of its elements changed; all else stays as it is, byte by byte.
func rewritten(data []byte, on func(*element)) ([]byte, error) {
	var out bytes.Buffer
	out.Grow(len(data))
	t := newTokens(data)
	var path []string
	var open []*element
	var words []byte // the text of the innermost element, where that changes
	for {
		tok, err := t.next()
		if errors.Is(err, io.EOF) {
			return out.Bytes(), nil
		}
		if err != nil {
			return nil, err
		}
		switch tok := tok.(type) {
		case xml.StartElement:
			if n := len(open); n > 0 && open[n-1].text != nil {
				// What others make of a text that is parted so is not known.
				return nil, fmt.Errorf("it has %s within %s", tok.Name.Local, open[n-1].name)
			}
			e := &element{name: tok.Name.Local, path: path, attrs: tok.Attr}
			if tok.Name.Space != "" {
				e.prefix = tok.Name.Space + ":"
			}
			on(e)
			if e.drop {
				if err := t.skip(); err != nil {
					return nil, err
				}
				continue
			}
			closed := t.closed()
			if closed && e.end != "" {
				var end bytes.Buffer
				writeName(&end, tok.Name)
				e.changed, e.end, closed = true, e.end+"</"+end.String()+">", false
			}
			if e.changed {
				writeStart(&out, tok.Name, e.attrs, closed)
			} else {
				out.Write(t.raw())
			}
			path, open, words = append(path[:len(path):len(path)], e.name), append(open, e), nil
		case xml.EndElement:
			if len(open) == 0 {
				out.Write(t.raw()) // of a fragment
				continue
			}
			e := open[len(open)-1]
			if e.text != nil {
				writeText(&out, e.text(string(words)))
			}
			out.WriteString(e.end)
			out.Write(t.raw())
			out.WriteString(e.after)
			path, open, words = path[:len(path)-1], open[:len(open)-1], nil
		case xml.CharData:
			if len(open) > 0 && open[len(open)-1].text != nil {
				words = append(words, tok...)
				continue
			}
			out.Write(t.raw())
		default:
			out.Write(t.raw())
		}
	}
}

func writeStart(out *bytes.Buffer, name xml.Name, attrs []xml.Attr, closed bool) {
	out.WriteByte('<')
	writeName(out, name)
	for _, a := range attrs {
		out.WriteByte(' ')
		writeName(out, a.Name)
		out.WriteString(`="`)
		writeText(out, a.Value)
		out.WriteByte('"')
	}
	if closed {
		out.WriteByte('/')
	}
	out.WriteByte('>')
}

func writeName(out *bytes.Buffer, name xml.Name) {
	if name.Space != "" {
		out.WriteString(name.Space + ":")
	}
	out.WriteString(name.Local)
}

func writeText(out *bytes.Buffer, text string) {
	_ = xml.EscapeText(out, []byte(text)) // a buffer takes everything
}

// cellText is a text as a cell holds it: what would be read as an escape is escaped
// (ECMA-376 part 1, 22.9.2.19).
func cellText(text string) string {
	if !strings.Contains(text, "_x") {
		return text
	}
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '_' && i+6 < len(text) && text[i+1] == 'x' && text[i+6] == '_' && isHex(text[i+2:i+6]) {
			out.WriteString("_x005F")
		}
		out.WriteByte(text[i])
	}
	return out.String()
}

func isHex(s string) bool {
	return strings.Trim(s, "0123456789abcdefABCDEF") == ""
}

// each gives the elements of a name that stand in an element, as they are.
func (t *tokens) each(in, name string, give func(raw []byte)) error {
	inside := false
	for {
		tok, err := t.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch tok := tok.(type) {
		case xml.StartElement:
			switch {
			case tok.Name.Local == in:
				inside = true
			case inside && tok.Name.Local == name:
				from := t.from
				if err := t.skip(); err != nil {
					return err
				}
				give(t.data[from:t.to])
			}
		case xml.EndElement:
			if tok.Name.Local == in {
				inside = false
			}
		}
	}
}
