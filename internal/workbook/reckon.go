package workbook

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
)

// known are the functions that are reckoned here: those of which the results were
// held against an office program. Others, and those whose results change by
// themselves, are left to the program that opens the workbook.
var known = set(`
	ABS AND CEILING CEILING.MATH CHAR CHOOSE CODE COLUMN COLUMNS CONCAT CONCATENATE COUNT COUNTA COUNTBLANK DATE DATEDIF
	DAY DAYS EDATE EOMONTH EVEN EXACT EXP FALSE FIND FLOOR FLOOR.MATH GCD HOUR IF IFERROR IFNA IFS INDEX INT ISBLANK
	ISERROR ISEVEN ISNA ISODD ISOWEEKNUM LCM LEFT LEN LN LOG LOG10 LOWER MAX MID MIN MINUTE MOD MONTH MROUND NA
	NETWORKDAYS NOT ODD OR PI POWER PRODUCT PROPER QUOTIENT REPLACE REPT RIGHT ROUND ROUNDDOWN ROUNDUP ROW ROWS SEARCH
	SECOND SIGN SQRT SUBSTITUTE SUBTOTAL SUM SUMPRODUCT SUMSQ SWITCH TEXT TEXTJOIN TRIM TRUE TRUNC UPPER VALUE
	WEEKDAY WEEKNUM WORKDAY XOR YEAR`, touchy)

// touchy are those that the reckoning gets wrong where a text looks like a number,
// such as 0042.
var touchy = set(`
	AVERAGE AVERAGEIF AVERAGEIFS COUNTIF COUNTIFS HLOOKUP ISNUMBER ISTEXT LARGE LOOKUP MATCH MAXIFS MEDIAN MINIFS N
	PERCENTILE QUARTILE RANK SMALL STDEV STDEV.S SUMIF SUMIFS T VAR VLOOKUP XLOOKUP`)

// criteria are those that take a condition as a text.
var criteria = set(`AVERAGEIF AVERAGEIFS COUNTIF COUNTIFS MAXIFS MINIFS SUMIF SUMIFS`)

func set(names string, others ...map[string]bool) map[string]bool {
	all := map[string]bool{}
	for f := range strings.FieldsSeq(names) {
		all[f] = true
	}
	for _, o := range others {
		maps.Copy(all, o)
	}
	return all
}

// textForms are the forms of TEXT that are the same in every language.
var textForms = regexp.MustCompile(`^"(?:#,##)?0(?:\.0+)?%?"$|^"0+"$|^"(?:y{2}|y{4}|m{1,2}|d{1,2}|[-./])+"$`)

// unreckoned tells why a formula of a sheet is not reckoned here; empty when it is.
func (b *book) unreckoned(s sheet, f *formula) string {
	if f.kind == "array" {
		return "it is an array formula"
	}
	for _, p := range pieces(f.text) {
		if why := b.unknown(s, p); why != "" {
			return why
		}
	}
	return b.unfit(s, f.text)
}

// unknown tells what of a piece of a formula is not known here.
func (b *book) unknown(s sheet, p piece) string {
	switch p.kind {
	case function:
		if !known[plainName(p.text)] {
			return "it asks for " + plainName(p.text)
		}
	case name:
		if _, ok := b.meaning(s, p.text); !ok && !strings.EqualFold(p.text, "TRUE") && !strings.EqualFold(p.text, "FALSE") {
			return "it speaks of " + short(p.text)
		}
	case structure:
		if _, err := b.resolved(p.text, s.name, at{}); err != nil {
			return "it speaks of " + short(p.text)
		}
	case reference:
		if p.sheet != "" && !slices.ContainsFunc(b.sheets, func(o sheet) bool { return strings.EqualFold(o.name, p.onSheet()) && b.cells(o) }) {
			return "it speaks of " + short(p.text)
		}
	case other:
		if plain := withoutStrings(p.text); strings.ContainsAny(plain, "{}@#~:;") {
			return "it has " + short(strings.TrimSpace(plain))
		}
	}
	return ""
}

// call is a function, or a bracket without one, around what is being read.
type call struct {
	name  string
	args  int
	first string // the range that is its first argument
}

// unfit tells what of a formula is reckoned otherwise than office programs do it:
// ranges that are worked on cell by cell, and empty texts that are compared.
func (b *book) unfit(s sheet, text string) string {
	all := tokensOf(text)
	around := []call{{}}
	for i, t := range all {
		before, after := "", ""
		if i > 0 {
			before = all[i-1].text
		}
		if i+1 < len(all) {
			after = all[i+1].text
		}
		in := &around[len(around)-1]
		switch {
		case t.kind == function || t.text == "(":
			if t.text == "(" && i > 0 && all[i-1].kind == function {
				continue
			}
			around = append(around, call{name: plainName(strings.TrimSuffix(t.text, "(")), args: 1})
			if t.kind == function && len(all) > i+2 && all[i+2].text == "," {
				return "one of its arguments is left out"
			}
		case t.text == ",":
			if in.args++; after == "," || after == ")" {
				return "one of its arguments is left out"
			}
		case t.text == ")":
			if len(around) == 1 {
				return "its brackets do not match"
			}
			if a, ok := readArea(in.first); in.name == "INDEX" && in.args == 2 && ok && a.first.col != a.last.col {
				return "it takes INDEX of a row"
			}
			if in.name == "XLOOKUP" && in.args > 4 {
				return "it has an XLOOKUP with more than four arguments"
			}
			around = around[:len(around)-1]
		case strings.HasPrefix(t.text, `"`):
			if in.name == "TEXT" && in.args == 2 && !textForms.MatchString(t.text) {
				return "it writes a number as " + short(t.text)
			}
			if t.text == `""` && (criteria[in.name] || in.name == "MATCH" || in.name == "SWITCH" || strings.ContainsAny(before+after, "=<>")) {
				return "it compares with an empty text"
			}
		default:
			a, many := b.many(s, t)
			if !many {
				if in.name == "TEXT" && in.args == 2 {
					return "it writes a number as a cell says"
				}
				continue
			}
			if before != "(" && before != "," || after != ")" && after != "," || in.name == "" {
				return "it works on a range cell by cell"
			}
			if in.args == 1 {
				in.first = a
			}
		}
	}
	return ""
}

// many tells whether a piece stands for several cells, and which.
func (b *book) many(s sheet, p piece) (string, bool) {
	means := p.text
	switch p.kind {
	case name:
		means, _ = b.meaning(s, p.text)
	case structure:
		means, _ = b.resolved(p.text, s.name, at{})
	case reference:
	default:
		return "", false
	}
	_, ref, ok := strings.Cut(means, "!")
	if !ok {
		ref = means
	}
	a, ok := readArea(strings.ReplaceAll(ref, "$", ""))
	return a.String(), ok && a.first != a.last
}

// tokensOf are the pieces of a formula, with what stands between them taken apart and
// without spaces.
func tokensOf(text string) (out []piece) {
	for _, p := range pieces(text) {
		if p.kind != other {
			out = append(out, p)
			continue
		}
		for rest := p.text; rest != ""; {
			n := 1
			switch c := rest[0]; {
			case c == '"':
				n = quoted(rest, '"')
			case c >= '0' && c <= '9' || c == '.':
				n = number(rest)
			}
			if t := strings.TrimSpace(rest[:n]); t != "" {
				out = append(out, piece{text: t})
			}
			rest = rest[n:]
		}
	}
	return out
}

// meaning is what a name stands for on a sheet, where that is a plain reference, a number, or the rows of a table.
func (b *book) meaning(s sheet, text string) (string, bool) {
	found := -1
	for i, n := range b.defined {
		if strings.EqualFold(n.name, text) && (n.scope == s.index || n.scope < 0 && found < 0) {
			found = i
		}
	}
	if found < 0 {
		for _, t := range b.tables {
			if strings.EqualFold(t.name, text) {
				return sheetMark(t.sheet) + t.grown().String(), true
			}
		}
		return "", false
	}
	means := b.defined[found].text
	if _, err := strconv.ParseFloat(means, 64); err == nil {
		return means, true
	}
	all := pieces(means)
	return means, len(all) == 1 && all[0].kind == reference && all[0].sheet != "" && !strings.Contains(all[0].sheet, ":")
}

var errStructure = errors.New("it names no rows of a table")

// resolved writes what a formula in a cell says of a table as a plain reference
// (ECMA-376 part 1, 18.17.2.3, and MS-XLSX 2.2.2.1 of structured references).
func (b *book) resolved(text, sheetName string, of at) (string, error) {
	open := strings.IndexByte(text, '[')
	if open < 0 || !strings.HasSuffix(text, "]") {
		return "", errStructure
	}
	var t *table
	for _, o := range b.tables {
		if strings.EqualFold(o.name, text[:open]) || open == 0 && o.sheet == sheetName && o.whole().holds(of) {
			t = o
		}
	}
	if t == nil {
		return "", errStructure
	}
	a := t.grown()
	first, last := t.area.first.col, t.area.last.col
	var rows []area
	columns := 0
	for _, word := range words(text[open+1 : len(text)-1]) {
		whole := t.whole()
		line := func(row int) area { return area{at{row, first}, at{row, last}} }
		switch strings.ToLower(word) {
		case "#all":
			rows = append(rows, whole)
		case "#data":
			rows = append(rows, a)
		case "#headers":
			rows = append(rows, line(t.area.first.row))
		case "#totals":
			if !t.totals {
				return "", errStructure
			}
			rows = append(rows, line(whole.last.row))
		case "#this row":
			rows = append(rows, line(max(of.row, 1)))
		default:
			i := slices.IndexFunc(t.columns, func(c string) bool { return strings.EqualFold(c, word) })
			if columns++; i < 0 || columns > 2 {
				return "", errStructure
			}
			if columns == 1 {
				first = t.area.first.col + i
			}
			last = t.area.first.col + i
		}
	}
	for i, r := range rows {
		if i == 0 {
			a = r
			continue
		}
		a.first.row, a.last.row = min(a.first.row, r.first.row), max(a.last.row, r.last.row)
	}
	a.first.col, a.last.col = min(first, last), max(first, last)
	return sheetMark(t.sheet) + a.String(), nil
}

// words are those of a reference to a table, without their brackets.
func words(s string) (out []string) {
	if !strings.HasPrefix(s, "[") {
		if s == "" {
			return nil
		}
		return []string{unescaped(s)}
	}
	for s != "" {
		n := bracketed(s)
		if s[0] == '[' && n > 1 {
			out = append(out, unescaped(s[1:n-1]))
			s = s[n:]
			continue
		}
		s = s[1:] // a comma, a colon, a space
	}
	return out
}

func unescaped(s string) string {
	var out strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\'' && i+1 < len(s) {
			i++
		}
		out.WriteByte(s[i])
	}
	return out.String()
}

// plainly is a formula with plain references alone.
func (b *book) plainly(s sheet, of at, text string) (string, error) {
	var out strings.Builder
	for _, p := range pieces(strings.TrimLeft(text, "+ ")) { // a sign before all of it says nothing
		switch p.kind {
		case structure:
			means, err := b.resolved(p.text, s.name, of)
			if err != nil {
				return "", err
			}
			out.WriteString(means)
		case name:
			if means, ok := b.meaning(s, p.text); ok {
				out.WriteString(means)
			} else {
				out.WriteString(p.text)
			}
		default:
			out.WriteString(p.text)
		}
	}
	return out.String(), nil
}

// mostReckonedBytes are those of sheets that are held in memory to be reckoned.
const mostReckonedBytes = 64 << 20

// reckoned are the values of formulas by the place where they stand.
type reckoned map[string]map[at]Value

var errLong = errors.New("its formulas take longer than the time that there is for them")

// reckon works out what all formulas come to. What is not reckoned here is told
// to unfit, and its cell has no value.
func (b *book) reckon(limit time.Duration, most int, unfit func(sheet string, p at, why string)) (reckoned, error) {
	size := 0
	for _, s := range b.sheets {
		size += len(b.parts[s.part])
	}
	if size > mostReckonedBytes {
		return nil, fmt.Errorf("its sheets have %d MB; at most %d are reckoned here", size>>20, mostReckonedBytes>>20)
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	type asked struct {
		sheet  string
		at     at
		touchy bool
		over   []piece // what its SUBTOTAL is reckoned over
	}
	var all []asked
	numbers, err := b.numbersAsTexts()
	if err != nil {
		return nil, err
	}
	plain := &book{pack: &pack{
		names: b.names, parts: maps.Clone(b.parts), types: b.types, links: b.links, contents: b.contents,
	}, sheets: b.sheets}
	for _, s := range b.sheets {
		if !b.cells(s) {
			continue
		}
		out, err := newSplicer(nil, func(p at, f *formula) (*formula, Value) {
			why := b.unreckoned(s, f)
			text := ""
			if why == "" {
				var err error
				if text, err = b.plainly(s, p, f.text); err != nil {
					why = err.Error()
				}
			}
			if why != "" {
				unfit(s.name, p, why)
				return nil, Value{Kind: Fault, Text: "#N/A"}
			}
			one := asked{sheet: s.name, at: p}
			subtotal := false
			for _, p := range pieces(text) {
				one.touchy = one.touchy || p.kind == function && touchy[plainName(p.text)]
				subtotal = subtotal || p.kind == function && plainName(p.text) == "SUBTOTAL"
				if p.kind == reference {
					one.over = append(one.over, p)
				}
			}
			if !subtotal {
				one.over = nil
			}
			all = append(all, one)
			return &formula{text: text}, Value{}
		}).sheet(b.parts[s.part], func(*element) {})
		if err != nil {
			return nil, err
		}
		plain.parts[s.part] = out
	}
	got := reckoned{}
	if len(all) == 0 {
		return got, nil
	}
	if len(all) > most {
		return nil, fmt.Errorf("%d of its cells reckon; at most %d are reckoned here", len(all), most)
	}
	var packed bytes.Buffer
	if err := plain.write(&packed); err != nil {
		return nil, err
	}
	file, err := excelize.OpenReader(bytes.NewReader(packed.Bytes()), excelize.Options{
		UnzipSizeLimit: 2 * MaxUnpacked, UnzipXMLSizeLimit: 2 * MaxUnpacked, RawCellValue: true,
	})
	if err != nil {
		return nil, fmt.Errorf("its formulas cannot be reckoned: %w", err)
	}
	const beside = "reckoned beside"
	if _, err := file.NewSheet(beside); err != nil {
		return nil, fmt.Errorf("its formulas cannot be reckoned: %w", err)
	}
	for i, a := range all {
		ref := sheetMark(a.sheet) + a.at.String()
		for col, text := range map[string]string{"A": "TYPE(" + ref + ")", "B": ref} {
			if err := file.SetCellFormula(beside, col+itoa(i+1), text); err != nil {
				return nil, fmt.Errorf("its formulas cannot be reckoned: %w", err)
			}
		}
	}
	numbered := numbers
	for i, a := range all {
		if ctx.Err() != nil {
			return nil, errLong
		}
		v, err := reckonOne(file, beside, i+1)
		if err != nil {
			unfit(a.sheet, a.at, err.Error())
			continue
		}
		numbered = numbered || v.Kind == Words && looksLikeNumber(v.Text)
		if got[a.sheet] == nil {
			got[a.sheet] = map[at]Value{}
		}
		got[a.sheet][a.at] = v
	}
	subtotals := slices.DeleteFunc(slices.Clone(all), func(a asked) bool { return a.over == nil })
	for _, a := range all {
		if numbered && a.touchy {
			unfit(a.sheet, a.at, "it looks among texts that are written as numbers, such as 0042")
		}
		// Office programs pass over subtotals within a subtotal.
		if slices.ContainsFunc(a.over, func(p piece) bool {
			return slices.ContainsFunc(subtotals, func(o asked) bool {
				on := p.onSheet()
				return (on == o.sheet || on == "" && a.sheet == o.sheet) && area{p.first.at, p.last.at}.holds(o.at)
			})
		}) {
			unfit(a.sheet, a.at, "it has subtotals among what it is reckoned over")
		}
	}
	return got, nil
}

func looksLikeNumber(text string) bool {
	_, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
	return err == nil
}

// longNumber is a number within a text with more digits than a sheet knows.
var longNumber = regexp.MustCompile(`[0-9]*\.[0-9]{13,}`)

// faults are the values that stand for errors (ECMA-376 part 1, 18.17.3).
var faults = []string{"#DIV/0!", "#N/A", "#NAME?", "#NULL!", "#NUM!", "#REF!", "#VALUE!"}

func reckonOne(file *excelize.File, beside string, row int) (v Value, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("it cannot be reckoned (%v)", r)
		}
	}()
	kind, failed := file.CalcCellValue(beside, "A"+itoa(row))
	text, err := file.CalcCellValue(beside, "B"+itoa(row))
	if slices.Contains(faults, text) && kind != "2" {
		return Value{Kind: Fault, Text: text}, nil
	}
	if err == nil {
		err = failed
	}
	if err != nil {
		if slices.Contains(faults, err.Error()) {
			return Value{Kind: Fault, Text: err.Error()}, nil
		}
		return v, fmt.Errorf("it cannot be reckoned (%w)", err)
	}
	switch kind {
	case "2":
		if longNumber.MatchString(text) {
			return v, fmt.Errorf("it puts a number that is not rounded into a text (%s)", short(text))
		}
		return Value{Kind: Words, Text: text}, nil
	case "4":
		v = Value{Kind: YesNo}
		if strings.EqualFold(text, "TRUE") || text == "1" {
			v.Number = 1
		}
		return v, nil
	}
	if text == "" {
		return Value{Kind: Number}, nil // a reference to nothing is nought
	}
	if v.Number, err = strconv.ParseFloat(text, 64); err != nil {
		return v, fmt.Errorf("it cannot be reckoned (%q)", short(text))
	}
	v.Kind = Number
	return v, nil
}

// numbersAsTexts tells whether some cell holds a text that looks like a number.
func (b *book) numbersAsTexts() (found bool, err error) {
	texts, err := b.texts()
	if err != nil {
		return false, err
	}
	for _, s := range b.sheets {
		if !b.cells(s) {
			continue
		}
		if err := walk(b.parts[s.part], func(r *row) error {
			for _, c := range r.cells {
				switch c.kind {
				case "s":
					n, err := strconv.Atoi(strings.TrimSpace(c.value))
					found = found || err == nil && n >= 0 && n < len(texts) && looksLikeNumber(texts[n])
				case "inlineStr":
					found = found || looksLikeNumber(c.value)
				}
			}
			return nil
		}); err != nil {
			return false, err
		}
	}
	return found, nil
}

// texts are those that cells name by their number (18.4.9).
func (b *book) texts() ([]string, error) {
	part := b.sharedPart()
	if part == "" {
		return nil, nil
	}
	var read struct {
		All []struct {
			Text string   `xml:"t"`
			Runs []string `xml:"r>t"`
		} `xml:"si"`
	}
	if err := decode(b.parts[part], &read); err != nil {
		return nil, fmt.Errorf("its texts cannot be read: %w", err)
	}
	out := make([]string, len(read.All))
	for i, t := range read.All {
		out[i] = t.Text + strings.Join(t.Runs, "")
	}
	return out, nil
}

// sharedPart is the part of the texts that cells name by their number.
func (b *book) sharedPart() string {
	for _, l := range b.links[b.contents] {
		if b.types[l.target] == sheets+"sharedstrings+xml" {
			return l.target
		}
	}
	return ""
}
