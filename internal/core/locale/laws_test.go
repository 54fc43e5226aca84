package locale_test

import (
	"math/big"
	"strings"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/rows"

	"pgregory.net/rapid"
)

// A number is rounded exactly, half away from zero, whatever its digits and
// whatever marks a locale sets between them.
func TestAnyNumberIsRoundedExactly(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		name := rapid.SampledFrom(append(locale.Names(), "")).Draw(r, "locale")
		l, err := locale.Load(name)
		if err != nil {
			r.Fatal(err)
		}
		text := rapid.StringMatching(`-?[0-9]{1,20}(\.[0-9]{1,15})?`).Draw(r, "number")
		places := rapid.IntRange(0, 12).Draw(r, "places")
		percent := rapid.Bool().Draw(r, "percent")
		f, err := l.Form(rows.Number, job.Column{Decimals: &places, Percent: percent}, nil, true)
		if err != nil {
			r.Fatal(err)
		}
		said := f.Text(rows.Cell{Text: []byte(text)})
		digits := strings.Map(func(c rune) rune {
			switch {
			case c >= '0' && c <= '9' || c == '-':
				return c
			case string(c) == l.Decimal:
				return '.'
			}
			return -1
		}, said)
		if places == 0 {
			digits = strings.ReplaceAll(digits, ".", "") // a mark between thousands that is the decimal's elsewhere
		}
		got, ok := new(big.Rat).SetString(digits)
		if !ok {
			r.Fatalf("%s became %q", text, said)
		}
		want, _ := new(big.Rat).SetString(text)
		if percent {
			want.Mul(want, big.NewRat(100, 1))
		}
		// FloatString rounds half away from zero, as people do.
		if want.FloatString(places) != got.FloatString(places) &&
			strings.Trim(want.FloatString(places), "-0.") != strings.Trim(got.FloatString(places), "-0.") {
			r.Fatalf("%s with %d places became %q, not %s", text, places, said, want.FloatString(places))
		}
	})
}
