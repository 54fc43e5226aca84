package locale_test

import (
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/rows"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNumbersDatesAndWordsOfEachLocale(t *testing.T) {
	two := 2
	day := time.Date(2026, 3, 9, 14, 5, 0, 0, time.UTC)
	for name, want := range map[string][]string{
		"":      {"1,234,567.50", "-0.13", "2026-03-09", "2026-03-09 14:05", "9 March 2026", "yes"},
		"en-GB": {"1,234,567.50", "-0.13", "9 Mar 2026", "9 Mar 2026 14:05", "9 March 2026", "yes"},
		"en-US": {"1,234,567.50", "-0.13", "Mar 9, 2026", "Mar 9, 2026 2:05 pm", "9 March 2026", "yes"},
		"en-IN": {"12,34,567.50", "-0.13", "09-Mar-2026", "09-Mar-2026 2:05 pm", "9 March 2026", "yes"},
		"de":    {"1.234.567,50", "-0,13", "09.03.2026", "09.03.2026 14:05", "9 März 2026", "ja"},
		"de-CH": {"1’234’567.50", "-0.13", "09.03.2026", "09.03.2026 14:05", "9 März 2026", "ja"},
		"fr":    {"1\u202f234\u202f567,50", "-0,13", "9 mars 2026", "9 mars 2026 14:05", "9 mars 2026", "oui"},
		"pl":    {"1\u00a0234\u00a0567,50", "-0,13", "9 mar 2026", "9 mar 2026 14:05", "9 marca 2026", "tak"},
		"sv":    {"1\u00a0234\u00a0567,50", "-0,13", "9 mars 2026", "9 mars 2026 14:05", "9 mars 2026", "ja"},
	} {
		l, err := locale.Load(name)
		require.NoError(t, err)
		write := func(kind rows.Kind, c job.Column, text string) string {
			f, err := l.Form(kind, c, nil, true)
			require.NoError(t, err)
			return f.Text(rows.Cell{Text: []byte(text)})
		}
		got := []string{
			write(rows.Number, job.Column{Decimals: &two}, "1234567.4951"),
			write(rows.Number, job.Column{Decimals: &two}, "-.125"),
			write(rows.Date, job.Column{}, day.Format(time.DateOnly)),
			write(rows.Local, job.Column{}, day.Format(time.DateTime)),
			write(rows.Date, job.Column{Date: "%-d %B %Y"}, day.Format(time.DateOnly)),
			write(rows.YesNo, job.Column{}, "t"),
		}
		assert.Equal(t, want, got, name)
	}
	_, err := locale.Load("xx")
	require.ErrorContains(t, err, `no locale "xx"; there are cs, da`)
	for _, name := range locale.Names() {
		l, err := locale.Load(name)
		require.NoError(t, err)
		assert.NotEmpty(t, l.Decimal, name)
		assert.NotEmpty(t, l.Words.Page, name)
	}
}

func TestNumbersAreRoundedByTheirDigits(t *testing.T) {
	l, err := locale.Load("")
	require.NoError(t, err)
	places := func(n int) *int { return &n }
	for _, c := range []struct {
		column job.Column
		text   string
		want   string
	}{
		{job.Column{}, "1234567890123456789.987654321", "1,234,567,890,123,456,789.987654321"},
		{job.Column{Decimals: places(0)}, "999.5", "1,000"},
		{job.Column{Decimals: places(0)}, "-0.4", "0"},
		{job.Column{Decimals: places(3)}, "7", "7.000"},
		{job.Column{Percent: true}, "0.25", "25\u00a0%"},
		{job.Column{Percent: true, Decimals: places(1)}, "0.93456", "93.5\u00a0%"},
		{job.Column{Percent: true}, "1", "100\u00a0%"},
		{job.Column{Unit: "l", Decimals: places(0)}, "12345.6", "12,346\u00a0l"},
		{job.Column{Unit: "£", UnitFirst: true}, "-12.50", "-£12.50"},
		{job.Column{Ungrouped: true}, "2026", "2026"},
		{job.Column{}, "1e+20", "100,000,000,000,000,000,000"},
		{job.Column{}, "NaN", "NaN"},
		{job.Column{}, "-Infinity", "-Infinity"},
	} {
		f, err := l.Form(rows.Number, c.column, nil, true)
		require.NoError(t, err)
		assert.Equal(t, c.want, f.Text(rows.Cell{Text: []byte(c.text)}), c.text)
	}
}

func TestInstantsStandInTheZoneOfTheOutput(t *testing.T) {
	l, err := locale.Load("")
	require.NoError(t, err)
	zone, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	f, err := l.Form(rows.Instant, job.Column{}, zone, true)
	require.NoError(t, err)
	assert.Equal(t, "2026-07-01 00:30", f.Text(rows.Cell{Text: []byte("2026-06-30 23:30:00+00")}))
	assert.Equal(t, "infinity", f.Text(rows.Cell{Text: []byte("infinity")}))
	_, err = l.Form(rows.Date, job.Column{Date: "%Q"}, nil, true)
	require.Error(t, err)
}
