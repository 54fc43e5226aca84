package rows_test

import (
	"testing"
	"time"

	"ironbell/internal/core/rows"

	"github.com/stretchr/testify/assert"
)

func cell(text string) rows.Cell { return rows.Cell{Text: []byte(text)} }

func TestWhenReadsWhatHasAPlaceInTheCalendar(t *testing.T) {
	for _, c := range []struct {
		kind rows.Kind
		text string
		want string
	}{
		{rows.Date, "2026-07-01", "2026-07-01T00:00:00Z"},
		{rows.Local, "2026-07-01 06:30:00", "2026-07-01T06:30:00Z"},
		{rows.Local, "2026-07-01 06:30:00.123456", "2026-07-01T06:30:00.123456Z"},
		{rows.Instant, "2026-07-01 06:30:00+01", "2026-07-01T06:30:00+01:00"},
		{rows.Instant, "2026-07-01 06:30:00.5+05:30", "2026-07-01T06:30:00.5+05:30"},
		{rows.Instant, "1900-01-01 00:00:00-00:01:15", "1900-01-01T00:00:00-00:01"},
		{rows.Time, "06:30:00", "0000-01-01T06:30:00Z"},
	} {
		got, ok := cell(c.text).When(c.kind)
		if assert.True(t, ok, c.text) {
			assert.Equal(t, c.want, got.Format(time.RFC3339Nano), c.text)
		}
	}
	for kind, texts := range map[rows.Kind][]string{
		rows.Date:    {"infinity", "-infinity", "0044-03-15 BC", "10000-01-01", ""},
		rows.Instant: {"infinity", "0044-03-15 06:30:00+00 BC", "12026-01-01 00:00:00+00"},
		rows.Text:    {"2026-07-01"},
	} {
		for _, text := range texts {
			_, ok := cell(text).When(kind)
			assert.False(t, ok, "%s %q", kind, text)
		}
	}
}

func TestCellsAreReadAsTheirKind(t *testing.T) {
	assert.True(t, cell("t").True())
	assert.True(t, cell("true").True())
	assert.False(t, cell("f").True())
	assert.False(t, cell("").True())
	assert.True(t, rows.Whole.Numeric() && rows.Number.Numeric())
	assert.False(t, rows.Date.Numeric())
}
