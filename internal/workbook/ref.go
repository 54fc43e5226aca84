package workbook

import (
	"strconv"
	"strings"
)

// Bounds of a sheet (ECMA-376 part 1, 18.3.1.73 and 18.3.1.4).
const (
	mostRows    = 1 << 20
	mostColumns = 1 << 14
)

// at is a place of a sheet, counted from one.
type at struct{ row, col int }

func (a at) String() string { return letters(a.col) + strconv.Itoa(a.row) }

// area is a rectangle of a sheet.
type area struct{ first, last at }

func (a area) String() string {
	if a.first == a.last {
		return a.first.String()
	}
	return a.first.String() + ":" + a.last.String()
}

func (a area) rows() int { return a.last.row - a.first.row + 1 }

func (a area) holds(p at) bool {
	return p.row >= a.first.row && p.row <= a.last.row && p.col >= a.first.col && p.col <= a.last.col
}

// letters are those of a column: A for 1.
func letters(col int) string {
	var out []byte
	for ; col > 0; col = (col - 1) / 26 {
		out = append([]byte{byte('A' + (col-1)%26)}, out...)
	}
	return string(out)
}

// end is one end of a reference as it is written, such as $C7.
type end struct {
	at

	fixedRow, fixedCol bool
}

func (e end) String() string {
	col, row := "", ""
	if e.fixedCol {
		col = "$"
	}
	if e.fixedRow {
		row = "$"
	}
	return col + letters(e.col) + row + strconv.Itoa(e.row)
}

// readEnd reads one end at the beginning of a text; n is its length, 0 for none.
func readEnd(s string) (e end, n int) {
	if strings.HasPrefix(s, "$") {
		e.fixedCol, n = true, 1
	}
	from := n
	for n < len(s) && n-from < 3 && isLetter(s[n]) {
		e.col = e.col*26 + int(s[n]&^0x20-'A') + 1
		n++
	}
	if n == from || e.col > mostColumns {
		return e, 0
	}
	if n < len(s) && s[n] == '$' {
		e.fixedRow = true
		n++
	}
	from = n
	for n < len(s) && n-from < 8 && s[n] >= '0' && s[n] <= '9' {
		e.row = e.row*10 + int(s[n]-'0')
		n++
	}
	if n == from || e.row < 1 || e.row > mostRows {
		return e, 0
	}
	return e, n
}

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

// readAt reads the place that a text is.
func readAt(s string) (at, bool) {
	e, n := readEnd(s)
	return e.at, n > 0 && n == len(s)
}

// readArea reads the rectangle that a text is.
func readArea(s string) (area, bool) {
	from, to, two := strings.Cut(s, ":")
	first, ok := readAt(from)
	if !ok {
		return area{}, false
	}
	if !two {
		return area{first, first}, true
	}
	last, ok := readAt(to)
	return area{first, last}, ok && last.row >= first.row && last.col >= first.col
}
