package workbook

import (
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// kind is what a piece of a formula is.
type kind int

const (
	other     kind = iota
	reference      // of cells: Sheet!A1 or A1:B2
	structure      // of a table: Sailings[litres]
	function       // a name before an opening bracket
	name           // any other name
)

// piece is a piece of a formula. All of them together are the formula again.
type piece struct {
	kind   kind
	text   string
	sheet  string // of a reference: as it is written, with its sign ! and its quotes
	first  end    // of a reference
	last   end    // of a reference to more than one cell
	range_ bool   // it is written as two ends
}

// pieces takes a formula apart (ECMA-376 part 1, 18.17.2).
func pieces(formula string) []piece {
	var out []piece
	put := func(p piece) {
		if n := len(out); p.kind == other && n > 0 && out[n-1].kind == other {
			out[n-1].text += p.text
			return
		}
		out = append(out, p)
	}
	for rest := formula; rest != ""; {
		p := nextPiece(rest)
		put(p)
		rest = rest[len(p.text):]
	}
	return out
}

func nextPiece(s string) piece {
	switch c := s[0]; {
	case c == '"':
		return piece{text: s[:quoted(s, '"')]}
	case c == '\'':
		n := quoted(s, '\'')
		if n < len(s) && s[n] == '!' {
			if p, ok := referenceAt(s, n+1); ok {
				return p
			}
			return piece{kind: name, text: s[:n+1+wordLength(s[n+1:])]}
		}
		return piece{text: s[:n]}
	case c == '[':
		return piece{kind: structure, text: s[:bracketed(s)]}
	case c >= '0' && c <= '9' || c == '.':
		return piece{text: s[:number(s)]}
	case c == '$' || isWordStart(s):
		if p, ok := referenceAt(s, 0); ok {
			return p
		}
		n := max(wordLength(s), 1)
		switch {
		case n < len(s) && s[n] == '!':
			if p, ok := referenceAt(s, n+1); ok {
				return p
			}
			return piece{kind: name, text: s[:n+1+wordLength(s[n+1:])]}
		case n < len(s) && s[n] == '(':
			return piece{kind: function, text: s[:n]}
		case n < len(s) && s[n] == '[':
			return piece{kind: structure, text: s[:n+bracketed(s[n:])]}
		case c == '$':
			return piece{text: s[:n]}
		}
		return piece{kind: name, text: s[:n]}
	}
	_, n := utf8.DecodeRuneInString(s)
	return piece{text: s[:n]}
}

// referenceAt reads a reference that begins after a sheet of n bytes.
func referenceAt(s string, n int) (piece, bool) {
	p := piece{kind: reference, sheet: s[:n]}
	first, size := readEnd(s[n:])
	if size == 0 {
		return p, false
	}
	p.first, p.last = first, first
	n += size
	if n < len(s) && s[n] == ':' {
		if last, size := readEnd(s[n+1:]); size > 0 && !goesOn(s[n+1+size:]) {
			p.last, p.range_ = last, true
			p.text = s[:n+1+size]
			return p, true
		}
	}
	p.text = s[:n]
	return p, !goesOn(s[n:])
}

// goesOn tells whether what looked like a reference is the beginning of a longer word.
func goesOn(s string) bool {
	return s != "" && (s[0] == '(' || s[0] == '!' || s[0] == '[' || s[0] == '_' || s[0] == '.' || s[0] == '\\' || isWordStart(s) || s[0] >= '0' && s[0] <= '9')
}

func isWordStart(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return r == '_' || r == '\\' || unicode.IsLetter(r)
}

// wordLength is the length of the name that a text begins with.
func wordLength(s string) int {
	for i, r := range s {
		if r != '_' && r != '\\' && r != '.' && r != '?' && r != '$' && !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) {
			return i
		}
	}
	return len(s)
}

// number is the length of the number that a text begins with.
func number(s string) int {
	n := 0
	for n < len(s) && (s[n] >= '0' && s[n] <= '9' || s[n] == '.') {
		n++
	}
	if n+1 < len(s) && s[n]|0x20 == 'e' {
		m := n + 1
		if s[m] == '+' || s[m] == '-' {
			m++
		}
		if m < len(s) && s[m] >= '0' && s[m] <= '9' {
			for n = m; n < len(s) && s[n] >= '0' && s[n] <= '9'; n++ {
			}
		}
	}
	return n
}

// quoted is the length of what stands in quotes, where two of them stand for one.
func quoted(s string, quote byte) int {
	for i := 1; i < len(s); i++ {
		if s[i] != quote {
			continue
		}
		if i+1 < len(s) && s[i+1] == quote {
			i++
			continue
		}
		return i + 1
	}
	return len(s)
}

// bracketed is the length of what stands in square brackets, where an apostrophe
// takes the meaning of what follows it away.
func bracketed(s string) int {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '\'':
			i++
		case '[':
			depth++
		case ']':
			if depth--; depth == 0 {
				return i + 1
			}
		}
	}
	return len(s)
}

// write writes a reference as it stands.
func (p piece) write() string {
	if !p.range_ {
		return p.sheet + p.first.String()
	}
	return p.sheet + p.first.String() + ":" + p.last.String()
}

// onSheet is the sheet that a reference names; empty for that of the formula.
func (p piece) onSheet() string { return unquoted(strings.TrimSuffix(p.sheet, "!")) }

func unquoted(s string) string {
	if len(s) > 1 && s[0] == '\'' && s[len(s)-1] == '\'' {
		return strings.ReplaceAll(s[1:len(s)-1], "''", "'")
	}
	return s
}

// sheetMark writes a sheet before a reference.
func sheetMark(sheet string) string { return "'" + strings.ReplaceAll(sheet, "'", "''") + "'!" }

// shifted is a formula as it is in another cell, so many rows and columns on. What
// would leave the sheet is #REF!, as programs have it.
func shifted(formula string, rows, cols int) string {
	if rows == 0 && cols == 0 {
		return formula
	}
	var out strings.Builder
	for _, p := range pieces(formula) {
		if p.kind != reference {
			out.WriteString(p.text)
			continue
		}
		ok := p.first.shift(rows, cols)
		ok = p.last.shift(rows, cols) && ok
		if !ok {
			out.WriteString(p.sheet + "#REF!")
			continue
		}
		out.WriteString(p.write())
	}
	return out.String()
}

func (e *end) shift(rows, cols int) bool {
	if !e.fixedRow {
		e.row += rows
	}
	if !e.fixedCol {
		e.col += cols
	}
	return e.row >= 1 && e.row <= mostRows && e.col >= 1 && e.col <= mostColumns
}

// refused are the functions that ask somebody outside or run something.
var refused = map[string]bool{
	"WEBSERVICE": true, "RTD": true, "CALL": true, "REGISTER": true, "REGISTER.ID": true, "EXEC": true, "IMAGE": true,
	"SQL.REQUEST": true, "STOCKHISTORY": true, "PY": true, "CUBEVALUE": true, "CUBEMEMBER": true, "CUBESET": true,
	"CUBESETCOUNT": true, "CUBERANKEDMEMBER": true, "CUBEMEMBERPROPERTY": true, "CUBEKPIMEMBER": true, "EVALUATE": true,
	"TRANSLATE": true, "COPILOT": true, "DDE": true, "DDEADD": true, "INITIATE": true, "POKE": true, "EXECUTE": true,
}

// plainName is the name of a function without the mark of younger ones.
func plainName(text string) string {
	return strings.TrimPrefix(strings.TrimPrefix(strings.ToUpper(text), "_XLFN."), "_XLWS.")
}

// reaches tells how a formula reaches out of its workbook; empty when it does not.
func reaches(formula string) string {
	rest := formula
	for _, p := range pieces(formula) {
		rest = rest[len(p.text):]
		switch p.kind {
		case function:
			if refused[plainName(p.text)] {
				return "it asks outside by " + plainName(p.text)
			}
		case reference, name:
			if strings.ContainsAny(p.text, "[]") {
				return "it reads another workbook"
			}
		case structure:
			// [1]Sheet!A1 and [Book.xlsx]Sheet!A1 begin as a table's column does.
			if n := wordLength(rest); strings.HasPrefix(p.text, "[") && strings.HasPrefix(rest[n:], "!") {
				return "it reads another workbook"
			}
		case other:
			if strings.Contains(withoutStrings(p.text), "|") {
				return "it asks another program"
			}
		}
	}
	return ""
}

func withoutStrings(s string) string {
	var out strings.Builder
	for i := 0; i < len(s); {
		if s[i] == '"' {
			i += quoted(s[i:], '"')
			continue
		}
		out.WriteByte(s[i])
		i++
	}
	return out.String()
}

// cellName says where a cell is, as people read it.
func cellName(sheet string, a at) string { return sheet + "!" + a.String() }

func itoa(n int) string { return strconv.Itoa(n) }
