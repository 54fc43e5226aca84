package report

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"ironbell/internal/core/job"
)

// Statement is a query in which the parameters, written :name, stand as the
// database's own placeholders. Values never become part of the text. A parameter
// of several values becomes a list of placeholders, for IN (:name); of one that
// takes the word all, :name_all tells whether it was given.
type Statement struct {
	Text  string // with $1, $2 ... or ?
	Args  []any  // of each placeholder: text, a bool of name_all, or nil
	marks []mark // where Text and the query as written run apart
}

type mark struct{ text, written int }

// dialect is how a database writes.
type dialect struct {
	place     func(n int, t job.ValueType) string // placeholder of the n-th argument
	reuse     bool                                // a placeholder may stand twice
	backslash bool                                // \' is a quote in every literal, and "..." is one
	dashBlank bool                                // -- begins a comment only before a blank
	// a word needs no blank after a number, and blanks of Unicode part words: both refused
	loose        bool
	executable   bool                                   // comments that begin with /*! or /*M! are run: refused
	unicodeNames bool                                   // names may be written U&"...", in which signs hide: refused
	backtick     bool                                   // quotes names
	brackets     bool                                   // quote names
	dollars      bool                                   // $tag$ quotes text
	hash         bool                                   // # begins a comment
	forbidden    map[string]string                      // words that a query may not hold, and why
	nested       bool                                   // a comment may hold another
	onlySelect   bool                                   // the first word must be one that reads
	oneStatement bool                                   // a semicolon ends the query
	value        func(text string, t job.ValueType) any // how a value is handed over; as text when nil
}

var postgresDialect = dialect{
	place: func(n int, t job.ValueType) string { return "$" + strconv.Itoa(n) + "::" + castOf(t) },
	reuse: true, dollars: true, nested: true, unicodeNames: true,
	// What a query could run another statement with, or change its own settings.
	forbidden: map[string]string{
		"set_config": "changes settings", "query_to_xml": "runs a text as a query",
		"query_to_xmlschema":         "runs a text as a query",
		"query_to_xml_and_xmlschema": "runs a text as a query", "ts_stat": "runs a text as a query",
		"dblink": "connects elsewhere", "dblink_exec": "connects elsewhere",
		"pg_advisory_lock": "holds others up", "pg_advisory_lock_shared": "holds others up",
		"pg_try_advisory_lock": "holds others up", "pg_try_advisory_lock_shared": "holds others up",
		"pg_advisory_xact_lock": "holds others up", "pg_advisory_xact_lock_shared": "holds others up",
		"pg_try_advisory_xact_lock": "holds others up", "pg_try_advisory_xact_lock_shared": "holds others up",
		"pg_terminate_backend": "ends other people's work", "pg_cancel_backend": "ends other people's work",
	},
}

// isNumber is what a number may be, up to its point.
var isNumber = regexp.MustCompile(`^(0[xX][0-9a-fA-F]*|[0-9]+([eE][0-9]*)?)$`)

// maxArgs bounds how many placeholders a statement has.
const maxArgs = 30_000

// Prepare finds the parameters in a PostgreSQL query as a person wrote it. What
// looks like one inside of a literal, a quoted name, a comment or a dollar quote
// is left alone, and so are casts (::) and array slices. Without values, as when
// a query is described, arguments are null.
func Prepare(query string, params []job.Parameter, values []job.Bound) (Statement, error) {
	return postgresDialect.prepare(query, params, values)
}

func (d dialect) prepare(query string, params []job.Parameter, values []job.Bound) (Statement, error) {
	s := Statement{}
	var out strings.Builder
	known := map[string]string{} // how a name is written that stands already
	depth := 0                   // of square brackets, in which a colon is a slice
	first, ended := true, false
	for i := 0; i < len(query); {
		if ended && d.oneStatement && d.says(query, i) {
			return Statement{}, errors.New("a query is one statement; this one goes on after its semicolon")
		}
		if err := d.hides(query, i); err != nil {
			return Statement{}, err
		}
		if end := d.quoted(query, i); end > i {
			if query[i] == '"' && !d.backslash || query[i] == '`' {
				if err := d.allows(strings.Trim(query[i:end], "\"`")); err != nil {
					return Statement{}, err
				}
			}
			out.WriteString(query[i:end])
			i = end
			continue
		}
		c := query[i]
		switch {
		case isLetter(c) && !isNamePart(lastOf(query, i)):
			end := i
			for end < len(query) && (isNamePart(query[end]) || d.dollars && query[end] == '$') {
				end++
			}
			word := query[i:end]
			if err := d.allows(word); err != nil {
				return Statement{}, err
			}
			if first && d.onlySelect &&
				!slices.Contains([]string{"select", "with", "values", "show", "explain"}, strings.ToLower(word)) {
				return Statement{},
					fmt.Errorf("a query begins with SELECT, WITH or VALUES; this one begins with %s",
						strings.ToUpper(word))
			}
			first = false
			out.WriteString(word)
			i = end
			continue
		case d.loose && c >= '0' && c <= '9' && !isNamePart(lastOf(query, i)):
			end := i
			for end < len(query) && isNamePart(query[end]) {
				end++
			}
			if !isNumber.MatchString(query[i:end]) {
				return Statement{},
					fmt.Errorf("%q begins as a number and goes on as a word; put a blank between", query[i:end])
			}
			out.WriteString(query[i:end])
			i = end
			continue
		case c == ';':
			ended = true
		case c == '[':
			depth++
		case c == ']' && depth > 0:
			depth--
		case c == ':' && i+1 < len(query) && (query[i+1] == ':' || query[i+1] == '='):
			out.WriteString(query[i : i+2])
			i += 2
			continue
		case c == ':' && i+1 < len(query) && isLetter(query[i+1]) &&
			(depth == 0 || !isNamePart(lastOf(query, i)) && lastOf(query, i) != ')'):
			end := i + 1
			for end < len(query) && isNamePart(query[end]) {
				end++
			}
			name := query[i+1 : end]
			text, had := known[name]
			if !had || !d.reuse {
				var err error
				if text, err = d.argument(&s, name, params, values); err != nil {
					var unknown *UnknownParameter
					if errors.As(err, &unknown) {
						unknown.Line = 1 + strings.Count(query[:i], "\n")
					}
					return Statement{}, err
				}
				known[name] = text
			}
			out.WriteString(text)
			i = end
			s.marks = append(s.marks, mark{text: out.Len(), written: i})
			continue
		}
		out.WriteByte(c)
		i++
	}
	s.Text = out.String()
	return s, nil
}

// hides tells whether something begins at i that the server would read and a person, or
// we, would not.
func (d dialect) hides(query string, i int) error {
	rest := query[i:]
	switch {
	case d.executable && (strings.HasPrefix(rest, "/*!") || strings.HasPrefix(rest, "/*M!")):
		return errors.New("a report's query may not use /*! ... */, which the server runs")
	case d.unicodeNames && len(rest) > 2 && rest[0]|0x20 == 'u' && rest[1] == '&' && rest[2] == '"' &&
		!isNamePart(lastOf(query, i)):
		return errors.New("a report's query may not use names with U&\"...\"; write the name as it is")
	}
	return nil
}

// says tells whether what stands at i is more than blank, a semicolon or a comment.
func (d dialect) says(query string, i int) bool {
	c := query[i]
	return !strings.ContainsRune(" \t\r\n\f\v;", rune(c)) &&
		(d.quoted(query, i) == i || c != '-' && c != '/' && c != '#')
}

// allows tells whether a query may hold a word.
func (d dialect) allows(word string) error {
	if d.loose && strings.ContainsFunc(word, func(r rune) bool { return r >= 0x80 && unicode.IsSpace(r) }) {
		return fmt.Errorf("a blank that is none of ASCII stands in %q; write a plain one", word)
	}
	if why, no := d.forbidden[strings.ToLower(word)]; no {
		return fmt.Errorf("a report's query may not use %s, which %s", strings.ToLower(word), why)
	}
	return nil
}

// argument adds the argument of a name and gives how it is written.
func (d dialect) argument(s *Statement, name string, params []job.Parameter, values []job.Bound) (string, error) {
	at := slices.IndexFunc(params, func(p job.Parameter) bool { return p.Name == name })
	asksAll := false
	if at < 0 {
		at = slices.IndexFunc(params, func(p job.Parameter) bool { return p.All && p.Name+"_all" == name })
		asksAll = true
	}
	if at < 0 {
		return "", &UnknownParameter{Name: name, Known: params}
	}
	p := params[at]
	var bound *job.Bound
	if i := slices.IndexFunc(values, func(b job.Bound) bool { return b.Name == p.Name }); i >= 0 {
		bound = &values[i]
	}
	add := func(value any, t job.ValueType) string {
		if text, ok := value.(string); ok && d.value != nil {
			value = d.value(text, t)
		}
		s.Args = append(s.Args, value)
		return d.place(len(s.Args), t)
	}
	switch {
	case asksAll:
		return add(strconv.FormatBool(bound != nil && bound.All), job.TypeYesNo), nil
	case bound == nil || bound.Null:
		return add(nil, p.Type), nil
	case bound.Texts == nil && !bound.All:
		return add(bound.Text, p.Type), nil
	case len(bound.Texts) == 0:
		return add(nil, p.Type), nil // in (null) holds for nothing
	case len(s.Args)+len(bound.Texts) > maxArgs:
		return "", fmt.Errorf("the values of :%s are too many for one query, which takes %d", name, maxArgs)
	}
	places := make([]string, len(bound.Texts))
	for i, text := range bound.Texts {
		places[i] = add(text, p.Type)
	}
	return strings.Join(places, ", "), nil
}

// UnknownParameter says that a query speaks of a parameter that the report does
// not have.
type UnknownParameter struct {
	Name  string
	Line  int
	Known []job.Parameter
}

func (e *UnknownParameter) Error() string {
	names := make([]string, len(e.Known))
	for i, p := range e.Known {
		names[i] = ":" + p.Name
	}
	has := "it has none"
	if len(names) > 0 {
		has = "it has " + strings.Join(names, ", ")
	}
	return fmt.Sprintf("line %d speaks of :%s, which is no parameter of the report; %s", e.Line, e.Name, has)
}

// written maps a place in Text, counted in characters from 1 as PostgreSQL
// reports it, to line and column of the query as it was written.
func (s Statement) written(query string, position int) (line, column int) {
	at := 0
	for n := 1; n < position && at < len(s.Text); n++ {
		at++
		for at < len(s.Text) && s.Text[at]&0xc0 == 0x80 {
			at++
		}
	}
	shift := 0
	for _, m := range s.marks {
		if m.text > at {
			break
		}
		shift = m.written - m.text
	}
	at = min(max(at+shift, 0), len(query))
	start := strings.LastIndexByte(query[:at], '\n') + 1
	return 1 + strings.Count(query[:at], "\n"), 1 + at - start
}

// quoted gives the end of a literal, quoted name, comment or dollar quote that
// begins at i (PostgreSQL 15 documentation, section 4.1, and what others do in
// its place), or i when none does.
func (d dialect) quoted(q string, i int) int {
	rest := q[i:]
	switch {
	case rest[0] == '\'', rest[0] == '"' && d.backslash:
		mark := rest[0]
		escapes := d.backslash || i > 0 && (q[i-1] == 'e' || q[i-1] == 'E') && (i < 2 || !isNamePart(q[i-2]))
		for j := i + 1; j < len(q); j++ {
			switch {
			case escapes && q[j] == '\\':
				j++
			case q[j] == mark && j+1 < len(q) && q[j+1] == mark:
				j++
			case q[j] == mark:
				return j + 1
			}
		}
		return len(q)
	case rest[0] == '`' && d.backtick, rest[0] == '[' && d.brackets:
		close := map[byte]byte{'`': '`', '[': ']'}[rest[0]]
		if end := strings.IndexByte(rest[1:], close); end >= 0 {
			return i + end + 2
		}
		return len(q)
	case rest[0] == '#' && d.hash:
		if end := strings.IndexByte(rest, '\n'); end >= 0 {
			return i + end
		}
		return len(q)
	case rest[0] == '"':
		if end := strings.IndexByte(rest[1:], '"'); end >= 0 {
			return i + end + 2
		}
		return len(q)
	case strings.HasPrefix(rest, "--") && (!d.dashBlank || len(rest) == 2 || rest[2] <= ' '):
		if end := strings.IndexByte(rest, '\n'); end >= 0 {
			return i + end
		}
		return len(q)
	case strings.HasPrefix(rest, "/*"):
		depth := 0
		for j := i; j < len(q); j++ {
			if strings.HasPrefix(q[j:], "/*") && (depth == 0 || d.nested) {
				depth++
				j++
			} else if strings.HasPrefix(q[j:], "*/") {
				depth--
				j++
				if depth == 0 {
					return j + 1
				}
			}
		}
		return len(q)
	case d.dollars && rest[0] == '$': // within a name it was read with that
		tag := 1
		for tag < len(rest) && isNamePart(rest[tag]) && (tag > 1 || isLetter(rest[tag])) {
			tag++
		}
		if tag >= len(rest) || rest[tag] != '$' {
			return i
		}
		if end := strings.Index(rest[tag+1:], rest[:tag+1]); end >= 0 {
			return i + tag + 1 + end + tag + 1
		}
		return len(q)
	}
	return i
}

func isLetter(c byte) bool { return c == '_' || c|0x20 >= 'a' && c|0x20 <= 'z' || c >= 0x80 }

func isNamePart(c byte) bool { return isLetter(c) || c >= '0' && c <= '9' }

// lastOf is the byte before i.
func lastOf(q string, i int) byte {
	if i == 0 {
		return 0
	}
	return q[i-1]
}

// castOf is the PostgreSQL type of a parameter.
func castOf(t job.ValueType) string {
	switch t {
	case job.TypeWhole:
		return "bigint"
	case job.TypeNumber:
		return "numeric"
	case job.TypeDate:
		return "date"
	case job.TypeInstant:
		return "timestamptz"
	case job.TypeYesNo:
		return "boolean"
	default:
		return "text"
	}
}
