package workbook

import (
	"maps"
	"regexp"
	"slices"
	"strings"
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

// mostOver is how many cells a formula is reckoned over: each is held in memory.
const mostOver = 500_000

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
			if wide, _ := readArea(a); wide.rows()*(wide.last.col-wide.first.col+1) > mostOver {
				return "it reckons over more than half a million cells"
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
