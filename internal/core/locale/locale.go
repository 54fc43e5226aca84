// Package locale writes numbers, dates and fixed words as a language and a
// country do. The data are those of the Unicode CLDR, through a package that
// carries them. Without a locale, numbers have a point and commas, and dates
// stand as 2026-11-23 (ISO 8601), which reads the same everywhere.
//
// A Locale is immutable and may be used by several goroutines; a Form belongs
// to one.
package locale

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-playground/locales"
	"github.com/go-playground/locales/cs"
	"github.com/go-playground/locales/da"
	"github.com/go-playground/locales/de"
	"github.com/go-playground/locales/de_AT"
	"github.com/go-playground/locales/de_CH"
	"github.com/go-playground/locales/el"
	"github.com/go-playground/locales/en"
	"github.com/go-playground/locales/en_GB"
	"github.com/go-playground/locales/en_IE"
	"github.com/go-playground/locales/en_IN"
	"github.com/go-playground/locales/en_US"
	"github.com/go-playground/locales/es"
	"github.com/go-playground/locales/es_MX"
	"github.com/go-playground/locales/fi"
	"github.com/go-playground/locales/fr"
	"github.com/go-playground/locales/fr_CA"
	"github.com/go-playground/locales/fr_CH"
	"github.com/go-playground/locales/it"
	"github.com/go-playground/locales/nb"
	"github.com/go-playground/locales/nl"
	"github.com/go-playground/locales/pl"
	"github.com/go-playground/locales/pt"
	"github.com/go-playground/locales/pt_PT"
	"github.com/go-playground/locales/sv"
)

var all = map[string]func() locales.Translator{
	"cs": cs.New, "da": da.New, "de": de.New, "de-AT": de_AT.New, "de-CH": de_CH.New, "el": el.New, "en": en.New,
	"en-GB": en_GB.New, "en-IE": en_IE.New,
	"en-IN": en_IN.New, "en-US": en_US.New, "es": es.New, "es-MX": es_MX.New, "fi": fi.New, "fr": fr.New,
	"fr-CA": fr_CA.New, "fr-CH": fr_CH.New,
	"it": it.New, "nb": nb.New, "nl": nl.New, "pl": pl.New, "pt": pt.New, "pt-PT": pt_PT.New, "sv": sv.New,
}

// Locale is how one language and country write.
type Locale struct {
	Name    string // as BCP 47 has it; empty for the neutral one
	Lang    string // of documents: Name, or en
	Decimal string // mark before the decimals
	Words   Words

	group  string // mark between thousands
	first  int    // digits of the last group
	others int    // digits of the groups before it
	data   locales.Translator
}

// Names lists the locales that there are.
func Names() []string {
	names := make([]string, 0, len(all))
	for name := range all {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Load finds a locale by its name, such as de or en-GB; the empty name is the
// neutral one. The error lists those that there are.
func Load(name string) (*Locale, error) {
	if name == "" {
		return &Locale{Lang: "en", Decimal: ".", Words: (*Locale)(nil).words(), group: ",", first: 3, others: 3}, nil
	}
	name = strings.ReplaceAll(name, "_", "-")
	make, ok := all[name]
	if !ok {
		return nil, fmt.Errorf("there is no locale %q; there are %s", name, strings.Join(Names(), ", "))
	}
	l := &Locale{Name: name, Lang: name, data: make()}
	l.Words = l.words()
	// The marks are read off a number, since the package keeps them to itself.
	sample := l.data.FmtNumber(123456789.5, 1)
	digits := 0
	var groups []int
	rest := sample
	for rest != "" {
		r, size := utf8.DecodeRuneInString(rest)
		switch {
		case r >= '0' && r <= '9':
			digits++
		case strings.TrimLeft(rest[size:], "0123456789") == "":
			l.Decimal = string(r)
			groups = append(groups, digits)
			digits = 0
		default:
			l.group = string(r)
			groups = append(groups, digits)
			digits = 0
		}
		rest = rest[size:]
	}
	l.first, l.others = 3, 3
	if n := len(groups); n > 1 {
		l.first, l.others = groups[n-1], groups[max(n-2, 0)]
		if n == 2 {
			l.others = l.first
		}
	}
	return l, nil
}

// Count writes a whole number with the marks between its thousands.
func (l *Locale) Count(n int64) string {
	digits := strconv.FormatInt(n, 10)
	sign := ""
	if n < 0 {
		sign, digits = "-", digits[1:]
	}
	for at := len(digits) - l.first; at > 0; at -= l.others {
		digits = digits[:at] + l.group + digits[at:]
	}
	return sign + digits
}

// DecimalComma tells whether a comma stands before the decimals, so that it
// cannot stand between cells, too.
func (l *Locale) DecimalComma() bool { return l.Decimal == "," }

// Date writes a day in the middle form of the locale.
func (l *Locale) Date(t time.Time) string {
	if l.data == nil {
		return t.Format(time.DateOnly)
	}
	return l.data.FmtDateMedium(t)
}

// Clock writes a time of day.
func (l *Locale) Clock(t time.Time) string {
	if l.data == nil {
		return t.Format("15:04")
	}
	return l.data.FmtTimeShort(t)
}

// Month is the short name of a month, as dates have it.
func (l *Locale) Month(t time.Time) string {
	if l.data == nil {
		return t.Format("Jan")
	}
	return l.data.MonthAbbreviated(t.Month())
}

// DateTime writes a day and a time of day.
func (l *Locale) DateTime(t time.Time) string { return l.Date(t) + " " + l.Clock(t) }
