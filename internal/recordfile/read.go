package recordfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// Read reads a file. The body is whatever stands below the head: whether a record of its
// kind can be that is not asked here. An error is an *Invalid.
func Read(text []byte) (File, error) {
	e := &Invalid{}
	top := parse(e, text)
	if top == nil {
		return File{}, e
	}
	f := File{top: top}
	f.head(e)
	if len(e.Wrong) > 0 {
		return f, e
	}
	var body bytes.Buffer
	body.WriteByte('{')
	for i, k := range top.keys {
		if k.text == formField || k.text == recordField || k.text == revisionField {
			continue
		}
		if body.Len() > 1 {
			body.WriteByte(',')
		}
		body.Write(quoted(k.text))
		body.WriteByte(':')
		top.items[i].json(&body)
	}
	body.WriteByte('}')
	f.Body = body.Bytes()
	return f, nil
}

// head reads the head of a file.
func (f *File) head(e *Invalid) {
	form := f.top.field(formField)
	switch n, err := strconv.Atoi(textOf(form)); {
	case form == nil:
		e.add(1, 1, "", "this is no record of Iron Bell: its first line is %s: %d, the number of the form", formField, Form)
		return
	case err != nil:
		e.add(form.line, form.column, formField, "it is the number of the form: write %d", Form)
		return
	case n != Form:
		e.add(form.line, form.column, formField,
			"the file has form %d, and this service reads form %d alone; it comes from another version of Iron Bell, "+
				"which can show the record anew", n, Form)
		return
	}
	record := f.top.field(recordField)
	f.Kind, f.Name, _ = strings.Cut(textOf(record), " ")
	f.Name = strings.TrimSpace(f.Name)
	switch {
	case record == nil:
		e.add(form.line, form.column, "", "the record's kind and name are missing: write them as %s: job Morning departures",
			recordField)
	case record.kind != isText || f.Name == "":
		e.add(record.line, record.column, recordField, "write the kind and the name, such as job Morning departures")
	}
	if r := f.top.field(revisionField); r != nil {
		n, err := strconv.ParseInt(textOf(r), 10, 64)
		if err != nil || n < 0 {
			e.add(r.line, r.column, revisionField, "it is the number of the revision that the change began from")
		}
		f.Revision = &n
	}
}

// A node is a value of a file, with its place.
type node struct {
	kind         kind
	line, column int
	text         string
	keys         []*node // of a mapping
	items        []*node // of a mapping, beside its keys, or of a list
}

type kind int

const (
	isText kind = iota
	isNumber
	isBool
	isNull
	isList
	isMapping
)

func textOf(n *node) string {
	if n == nil {
		return ""
	}
	return n.text
}

// field finds a field of a mapping; nil when there is none.
func (n *node) field(name string) *node {
	for i, k := range n.keys {
		if k.text == name {
			return n.items[i]
		}
	}
	return nil
}

// step goes one step along a place such as a.b[0].c and gives what is left of it.
func (n *node) step(where string) (next *node, rest string, ok bool) {
	if number, after, is := strings.Cut(where, "]"); is && strings.HasPrefix(where, "[") {
		i, err := strconv.Atoi(number[1:])
		if n.kind != isList || err != nil || i < 0 || i >= len(n.items) {
			return nil, "", false
		}
		return n.items[i], strings.TrimPrefix(after, "."), true
	}
	// A key may hold dots and brackets itself: the longest that fits is meant.
	best := -1
	for i, k := range n.keys {
		after, is := strings.CutPrefix(where, k.text)
		if is && (after == "" || after[0] == '.' || after[0] == '[') &&
			(best < 0 || len(k.text) > len(n.keys[best].text)) {
			best, rest = i, strings.TrimPrefix(after, ".")
		}
	}
	if best < 0 {
		return nil, "", false
	}
	return n.items[best], rest, true
}

func quoted(text string) []byte {
	out, err := json.Marshal(text)
	if err != nil {
		return []byte(`""`) // a string can always be written
	}
	return out
}

func (n *node) json(out *bytes.Buffer) {
	switch n.kind {
	case isText:
		out.Write(quoted(n.text))
	case isNumber, isBool, isNull:
		out.WriteString(n.text)
	case isList:
		out.WriteByte('[')
		for i, item := range n.items {
			if i > 0 {
				out.WriteByte(',')
			}
			item.json(out)
		}
		out.WriteByte(']')
	case isMapping:
		out.WriteByte('{')
		for i, k := range n.keys {
			if i > 0 {
				out.WriteByte(',')
			}
			out.Write(quoted(k.text))
			out.WriteByte(':')
			n.items[i].json(out)
		}
		out.WriteByte('}')
	}
}

// parse reads the one document of a text; nil when something is wrong with it.
func parse(e *Invalid, text []byte) *node {
	switch at := bytes.IndexByte(text, 0); {
	case len(text) > MaxBytes:
		e.add(0, 0, "", "the file has %d bytes; a record has %d at most", len(text), MaxBytes)
		return nil
	case !utf8.Valid(text):
		line, column := firstBad(text)
		e.add(line, column, "", "this byte is no UTF-8; save the file as UTF-8")
		return nil
	case at >= 0:
		line, column := placeOf(text, at)
		e.add(line, column, "", "a NUL stands here, which no text can hold")
		return nil
	}
	loader, err := yaml.NewLoader(bytes.NewReader(text), yaml.WithV4Defaults(), yaml.WithUniqueKeys(false))
	if err != nil {
		e.add(0, 0, "", "%s", err)
		return nil
	}
	var doc, second yaml.Node
	if err := loader.Load(&doc); err != nil {
		if errors.Is(err, io.EOF) {
			e.add(0, 0, "", "the file is empty")
		} else {
			e.syntax(text, err)
		}
		return nil
	}
	switch err := loader.Load(&second); {
	case err == nil:
		e.add(second.Line, max(second.Column, 1), "", "a second document begins here; a file holds one record")
		return nil
	case !errors.Is(err, io.EOF):
		e.syntax(text, err)
		return nil
	}
	if len(doc.Content) != 1 || doc.Content[0].Kind != yaml.MappingNode {
		e.add(1, 1, "", "a record is a list of fields, each with a colon behind its name; the first is %s: %d", formField, Form)
		return nil
	}
	top := e.read(doc.Content[0], "", 0)
	if len(e.Wrong) > 0 {
		return nil
	}
	return top
}

// syntax tells of a text that is no YAML.
func (e *Invalid) syntax(text []byte, err error) {
	var at *yaml.LoadError
	if !errors.As(err, &at) {
		e.add(0, 0, "", "this is no YAML: %s", err)
		return
	}
	line, column := at.Mark.Line, at.Mark.Column
	lines := bytes.Split(text, []byte("\n"))
	// The parser notices a tab where the next word should be: told is where it stands.
	for l := max(line-1, 1); l <= min(line+1, len(lines)); l++ {
		indent := lines[l-1][:len(lines[l-1])-len(bytes.TrimLeft(lines[l-1], " \t"))]
		if tab := bytes.IndexByte(indent, '\t'); tab >= 0 {
			e.add(l, tab+1, "", "a tab stands here; YAML goes in by blanks alone, two for each step")
			return
		}
	}
	sentence := at.Message
	if at.ContextMsg != "" {
		sentence = at.ContextMsg + ": " + sentence
	}
	e.add(max(line, 1), max(column, 1), "", "this is no YAML: %s", sentence)
}

// read takes over what the parser read, and refuses what could be read in two ways.
func (e *Invalid) read(y *yaml.Node, where string, depth int) *node {
	n := &node{line: y.Line, column: y.Column}
	switch {
	case depth > maxDepth:
		e.add(y.Line, y.Column, where, "it goes in by more than %d steps", maxDepth)
		return n
	case y.Kind == yaml.AliasNode:
		e.add(y.Line, y.Column, where, "*%s stands for something elsewhere; write it out: a file says all that it means",
			y.Value)
		return n
	case y.Anchor != "":
		e.add(y.Line, y.Column, where, "&%s marks it for use elsewhere, which is not read; leave it out", y.Anchor)
		return n
	case y.Style&yaml.TaggedStyle != 0:
		e.add(y.Line, y.Column, where, "%s is a tag, which is not read; leave it out, and write texts in quotes", y.Tag)
		return n
	}
	switch y.Kind {
	case yaml.SequenceNode:
		n.kind = isList
		for i, item := range y.Content {
			n.items = append(n.items, e.read(item, fmt.Sprintf("%s[%d]", where, i), depth+1))
		}
	case yaml.MappingNode:
		n.kind = isMapping
		e.fields(n, y, where, depth)
	default:
		n.text, n.kind = y.Value, isText
		if y.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) == 0 {
			var doubt string
			if n.kind, doubt = plain(y.Value); doubt != "" {
				e.add(y.Line, y.Column, where, "%s", doubt)
			}
			switch n.kind {
			case isBool:
				n.text = strings.ToLower(n.text)
			case isNull:
				n.text = "null"
			}
		}
	}
	return n
}

func (e *Invalid) fields(n *node, y *yaml.Node, where string, depth int) {
	had := make(map[string]int, len(y.Content)/2)
	for i := 0; i+1 < len(y.Content); i += 2 {
		key, value := y.Content[i], y.Content[i+1]
		below := key.Value
		if where != "" {
			below = where + "." + key.Value
		}
		switch {
		case key.Kind != yaml.ScalarNode || key.Anchor != "" || key.Style&yaml.TaggedStyle != 0:
			e.add(key.Line, key.Column, where, "the name of a field is a plain text")
			continue
		case key.Value == "<<":
			e.add(key.Line, key.Column, where, "<< takes fields from elsewhere, which is not read; write them out")
			continue
		case had[key.Value] > 0:
			e.add(key.Line, key.Column, where, "%s stands here a second time; the first is in line %d", key.Value,
				had[key.Value])
			continue
		}
		had[key.Value] = key.Line
		item := e.read(value, below, depth+1)
		if value.Kind != yaml.ScalarNode || item.line == 0 {
			item.line, item.column = key.Line, key.Column // where one looks for it
		}
		n.keys = append(n.keys, &node{text: key.Value, line: key.Line, column: key.Column})
		n.items = append(n.items, item)
	}
}

var (
	number = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][-+]?[0-9]+)?$`) // RFC 8259 section 6
	// Numbers of YAML 1.1 or 1.2 that are none of ours.
	doubtful = regexp.MustCompile(`^[-+]?(0[xob]?[0-9a-fA-F_]+|[0-9][0-9_]*(\.[0-9_]*)?([eE][-+]?[0-9]+)?|` +
		`\.[0-9_]+([eE][-+]?[0-9]+)?|\.(inf|Inf|INF|nan|NaN|NAN))$`)
)

// plain tells what a text without quotes is (YAML 1.2.2 section 10.3), and whether it could
// be read in two ways.
func plain(text string) (k kind, doubt string) {
	switch text {
	case "", "~", "null", "Null", "NULL":
		return isNull, ""
	case "true", "True", "TRUE", "false", "False", "FALSE":
		return isBool, ""
	}
	switch {
	case number.MatchString(text):
		return isNumber, ""
	case doubtful.MatchString(text):
		// What stands here is not repeated: it may be a password.
		return isText, "this could be a number or a text; put it in quotes, or write the number without zeros before it"
	}
	return isText, ""
}

// firstBad is the place of the first byte that is no UTF-8.
func firstBad(text []byte) (line, column int) {
	at := 0
	for at < len(text) {
		r, size := utf8.DecodeRune(text[at:])
		if r == utf8.RuneError && size <= 1 {
			break
		}
		at += size
	}
	return placeOf(text, at)
}

// placeOf is the line and column of a byte.
func placeOf(text []byte, at int) (line, column int) {
	before := text[:at]
	start := bytes.LastIndexByte(before, '\n') + 1
	return 1 + bytes.Count(before, []byte("\n")), 1 + utf8.RuneCount(before[start:])
}
