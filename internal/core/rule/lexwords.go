package rule

import (
	"strconv"
	"strings"
	"time"
)

// tokenKind tells the pieces of a worded rule apart.
type tokenKind uint8

const (
	endToken     tokenKind = iota
	wordToken              // letters, in lower case
	numberToken            // 15
	ordinalToken           // 1st, first
	clockToken             // 06:00, 17:30:15, 6am: seconds of the day
	minuteToken            // :05, :05:30: seconds of the hour
	dateToken              // 2026-12-01: days since 1970
	offsetToken            // +01:00: seconds east of Greenwich
	commaToken
)

type token struct {
	kind   tokenKind
	text   string // as written
	word   string // in lower case
	value  int64
	column int // counted from 1
}

var ordinals = map[string]int64{
	"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5, "sixth": 6, "seventh": 7, "eighth": 8, "ninth": 9,
	"tenth": 10,
}

// lex parts a worded rule. What it does not know becomes a word, which the
// parser then refuses with its column.
func lex(text string) []token {
	var out []token
	for i := 0; i < len(text); {
		switch c := text[i]; c {
		case ' ', '\t', '\n', '\r':
			i++
		case ',', ';':
			out = append(out, token{kind: commaToken, text: string(c), column: i + 1})
			i++
		default:
			end := i
			for end < len(text) && !strings.ContainsRune(" \t\r\n,;", rune(text[end])) {
				end++
			}
			out = append(out, classify(text[i:end], i+1)...)
			i = end
		}
	}
	return append(out, token{kind: endToken, column: len(text) + 1})
}

// firstYear is the first year that a rule may name. Before it, zones had the time of
// their longitude, and a day of the year 0 can be one of the year before.
const firstYear = 1900

// classify makes tokens of a run of characters without blanks.
func classify(text string, column int) []token {
	t := token{text: text, word: strings.ToLower(strings.TrimSuffix(text, ".")), column: column}
	word := t.word
	if date, clock, both := strings.Cut(word, "t"); both && isDate(date) {
		return append(classify(date, column), classify(clock, column+len(date)+1)...)
	}
	switch {
	case isDate(word):
		if d, err := time.Parse(time.DateOnly, word); err == nil && d.Year() >= firstYear {
			t.kind, t.value = dateToken, d.Unix()/86400
			return []token{t}
		}
	case word == "noon":
		t.kind, t.value = clockToken, 12*3600
		return []token{t}
	case word == "midnight":
		t.kind = clockToken
		return []token{t}
	case strings.HasPrefix(word, ":"):
		if v, ok := sixties(word[1:]); ok && v < 3600 {
			t.kind, t.value = minuteToken, v
			return []token{t}
		}
	case strings.HasPrefix(word, "+") || strings.HasPrefix(word, "-"):
		if v, ok := clock(word[1:]); ok && v <= 15*3600 {
			t.kind, t.value = offsetToken, v
			if word[0] == '-' {
				t.value = -v
			}
			return []token{t}
		}
	}
	if v, ok := clock(word); ok {
		t.kind, t.value = clockToken, v
		return []token{t}
	}
	if n, err := strconv.ParseInt(word, 10, 64); err == nil && word[0] >= '0' && word[0] <= '9' {
		t.kind, t.value = numberToken, n
		return []token{t}
	}
	if v, ok := ordinal(word); ok {
		t.kind, t.value = ordinalToken, v
		return []token{t}
	}
	// "mon-fri" and "1-5" are ranges.
	if a, b, both := strings.Cut(word, "-"); both && a != "" && b != "" && len(word) < 30 &&
		!strings.ContainsAny(b, "-/") {
		left, right := classify(a, column), classify(b, column+len(a)+1)
		if len(left) == 1 && len(right) == 1 && left[0].kind == right[0].kind {
			return []token{left[0], {kind: wordToken, text: "-", word: "to", column: column + len(a)}, right[0]}
		}
	}
	t.kind = wordToken
	if word == "business" || word == "working" {
		t.word = "open" // as people say it
	}
	return []token{t}
}

func ordinal(word string) (int64, bool) {
	if n, ok := ordinals[word]; ok {
		return n, true
	}
	for _, suffix := range []string{"st", "nd", "rd", "th"} {
		if digits, ok := strings.CutSuffix(word, suffix); ok {
			if n, err := strconv.ParseInt(digits, 10, 32); err == nil && n >= 0 {
				return n, true
			}
		}
	}
	return 0, false
}

func isDate(text string) bool {
	return len(text) == 10 && text[4] == '-' && text[7] == '-' && strings.Trim(text, "0123456789-") == ""
}

// clock reads 6:00, 06:00, 06:00:30, 6am and 6:30pm as seconds of the day.
func clock(word string) (int64, bool) {
	half := int64(-1)
	for i, suffix := range []string{"am", "pm"} {
		if rest, ok := strings.CutSuffix(word, suffix); ok {
			word, half = rest, int64(i)
		}
	}
	hours, rest, colon := strings.Cut(word, ":")
	h, err := strconv.ParseUint(hours, 10, 8)
	if err != nil || len(hours) > 2 || !colon && half < 0 {
		return 0, false
	}
	minutes := int64(0)
	if colon {
		var ok bool
		if minutes, ok = sixties(rest); !ok {
			return 0, false
		}
	}
	switch {
	case half < 0 && h > 23 || half >= 0 && (h < 1 || h > 12):
		return 0, false
	case half >= 0:
		h = h%12 + uint64(12*half)
	}
	return int64(h)*3600 + minutes, true
}

// sixties reads 05 or 05:30 as seconds.
func sixties(text string) (int64, bool) {
	total := int64(0)
	parts := strings.Split(text, ":")
	if len(parts) > 2 {
		return 0, false
	}
	for i, unit := range []int64{60, 1} {
		if i == len(parts) {
			break
		}
		n, err := strconv.ParseUint(parts[i], 10, 8)
		if err != nil || len(parts[i]) != 2 || n > 59 {
			return 0, false
		}
		total += int64(n) * unit
	}
	return total, true
}
