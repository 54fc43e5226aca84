package moment_test

import (
	"testing"
	"time"

	"ironbell/internal/core/moment"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMoments(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	nominal := time.Date(2026, 3, 31, 6, 15, 0, 0, london) // a Tuesday, summer time
	for text, want := range map[string]string{
		"now":                             "2026-03-31T06:15:00+01:00",
		"today":                           "2026-03-31T00:00:00+01:00",
		"yesterday":                       "2026-03-30T00:00:00+01:00",
		"tomorrow":                        "2026-04-01T00:00:00+01:00",
		"today - 3 days":                  "2026-03-28T00:00:00Z",
		"now - 6 hours":                   "2026-03-31T00:15:00+01:00",
		"start of month":                  "2026-03-01T00:00:00Z",
		"start of last month":             "2026-02-01T00:00:00Z",
		"end of last month":               "2026-02-28T00:00:00Z",
		"end of next month":               "2026-04-30T00:00:00+01:00",
		"start of month - 1 month":        "2026-02-01T00:00:00Z",
		"today - 1 month":                 "2026-02-28T00:00:00Z", // the day that February lacks becomes its last
		"today + 1 year":                  "2027-03-31T00:00:00+01:00",
		"start of week":                   "2026-03-30T00:00:00+01:00",
		"end of this week":                "2026-04-05T00:00:00+01:00",
		"start of week - 8 weeks":         "2026-02-02T00:00:00Z",
		"Start of Quarter":                "2026-01-01T00:00:00Z",
		"end of last quarter":             "2025-12-31T00:00:00Z",
		"start of year + 1 month - 1 day": "2026-01-31T00:00:00Z",
	} {
		m, err := moment.Parse(text)
		if assert.NoError(t, err, text) {
			assert.Equal(t, want, m.At(nominal).Format(time.RFC3339), text)
			assert.Equal(t, text, m.String())
		}
	}
}

func TestNoMoments(t *testing.T) {
	for text, want := range map[string]string{
		"":                       "write an anchor",
		"noon":                   `begins with "noon"`,
		"start month":            `after "start" comes of`,
		"start of":               `after "start" comes of`,
		"start of fortnight":     `"fortnight" is no period`,
		"start of last":          "the period is missing",
		"today - three days":     `"three" is no number`,
		"today - 3 moons":        `"moons" is no unit`,
		"today 3 days":           "after the anchor come steps",
		"today - 999999999 days": "is no number from 0 to 100000",
	} {
		_, err := moment.Parse(text)
		assert.ErrorContains(t, err, want, text)
	}
}
