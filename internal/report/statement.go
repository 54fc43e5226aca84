package report

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironbell/internal/core/job"
)

// Statement is a query in which the parameters, written :name, stand as the
// database's own placeholders. Values never become part of the text.
type Statement struct {
	Text  string   // with $1, $2 ...
	Names []string // which parameter each placeholder takes
	marks []mark   // where Text and the query as written run apart
}

type mark struct{ text, written int }

// Prepare finds the parameters in a query as a person wrote it. What looks like
// one inside of a literal, a quoted name, a comment or a dollar quote is left
// alone, and so are casts (::) and array slices.
func Prepare(query string, params []job.Parameter) (Statement, error) {
	s := Statement{}
	var out strings.Builder
	place := map[string]int{}
	depth := 0 // of square brackets, in which a colon is a slice
	for i := 0; i < len(query); {
		if end := quoted(query, i); end > i {
			out.WriteString(query[i:end])
			i = end
			continue
		}
		switch c := query[i]; {
		case c == '[':
			depth++
		case c == ']' && depth > 0:
			depth--
		case c == ':' && i+1 < len(query) && (query[i+1] == ':' || query[i+1] == '='):
			out.WriteString(query[i : i+2])
			i += 2
			continue
		case c == ':' && i+1 < len(query) && isLetter(query[i+1]) && (depth == 0 || !isNamePart(lastOf(query, i)) && lastOf(query, i) != ')'):
			end := i + 1
			for end < len(query) && isNamePart(query[end]) {
				end++
			}
			name := query[i+1 : end]
			at := slices.IndexFunc(params, func(p job.Parameter) bool { return p.Name == name })
			if at < 0 {
				return Statement{}, &UnknownParameter{Name: name, Line: 1 + strings.Count(query[:i], "\n"), Known: params}
			}
			n, known := place[name]
			if !known {
				s.Names = append(s.Names, name)
				n = len(s.Names)
				place[name] = n
			}
			out.WriteString("$" + strconv.Itoa(n) + "::" + castOf(params[at].Type))
			i = end
			s.marks = append(s.marks, mark{text: out.Len(), written: i})
			continue
		}
		out.WriteByte(query[i])
		i++
	}
	s.Text = out.String()
	return s, nil
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
// begins at i (PostgreSQL 15 documentation, section 4.1), or i when none does.
func quoted(q string, i int) int {
	rest := q[i:]
	switch {
	case rest[0] == '\'':
		escapes := i > 0 && (q[i-1] == 'e' || q[i-1] == 'E') && (i < 2 || !isNamePart(q[i-2]))
		for j := i + 1; j < len(q); j++ {
			switch {
			case escapes && q[j] == '\\':
				j++
			case q[j] == '\'' && j+1 < len(q) && q[j+1] == '\'':
				j++
			case q[j] == '\'':
				return j + 1
			}
		}
		return len(q)
	case rest[0] == '"':
		if end := strings.IndexByte(rest[1:], '"'); end >= 0 {
			return i + end + 2
		}
		return len(q)
	case strings.HasPrefix(rest, "--"):
		if end := strings.IndexByte(rest, '\n'); end >= 0 {
			return i + end
		}
		return len(q)
	case strings.HasPrefix(rest, "/*"):
		depth := 0
		for j := i; j < len(q); j++ {
			if strings.HasPrefix(q[j:], "/*") {
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
	case rest[0] == '$' && (i == 0 || !isNamePart(q[i-1])):
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
