package rule_test

import (
	"os"
	"strings"
	"testing"

	"ironbell/internal/core/rule"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every example of the documentation can be read, and so can its reading.
func TestTheDocumentationsExamples(t *testing.T) {
	text, err := os.ReadFile("../../../docs/when.md")
	require.NoError(t, err)
	examples := 0
	for _, block := range strings.Split(string(text), "```rules\n")[1:] {
		lines, _, _ := strings.Cut(block, "```")
		for _, line := range strings.Split(strings.TrimSpace(lines), "\n") {
			examples++
			r, err := rule.Parse(line, zoneNamed(t, "Europe/London"))
			if assert.NoError(t, err, line) {
				again, err := rule.Parse(r.Reading(), zoneNamed(t, "Europe/London"))
				assert.NoError(t, err, r.Reading())
				assert.Equal(t, r.Reading(), again.Reading())
			}
		}
	}
	assert.Greater(t, examples, 45)
}

// A text that is too long, or that nests its ranges, costs no more than its length.
func TestLongTexts(t *testing.T) {
	for _, text := range []string{
		"on day " + strings.Repeat("1, ", 3000) + "2 at 06:00",
		"on mon at " + strings.Repeat("06:00 and ", 900) + "07:00",
		strings.Repeat("1-", 4000) + "1",
		strings.Repeat(", ", 4900),
		strings.Repeat("a", 200_000),
	} {
		_, err := rule.Parse(text, zoneNamed(t, "Europe/London"))
		if err != nil {
			var e *rule.Error
			require.ErrorAs(t, err, &e)
			assert.Less(t, len(e.Error()), 20_000)
		}
	}
	_, err := rule.Parse(strings.Repeat("a", 200_000), zoneNamed(t, "Europe/London"))
	assert.ErrorContains(t, err, "a rule has at most 10000 characters")
}

// BenchmarkParse shows that reading takes time in proportion to the text.
func BenchmarkParse(b *testing.B) {
	z := zoneNamed(b, "Europe/London")
	for _, n := range []int{1, 10, 100} {
		texts := map[string]string{
			"words": "on weekdays at 06:00" + strings.Repeat(" and 06:00", 9*n),
			"cron":  "0" + strings.Repeat(",15", 30*n) + " 6 * * 1-5",
			"ical":  "DTSTART:20261201T060000\nRRULE:FREQ=DAILY;BYMINUTE=0" + strings.Repeat(",15", 9*n),
		}
		for name, text := range texts {
			b.Run(name, func(b *testing.B) {
				b.SetBytes(int64(len(text)))
				for range b.N {
					if _, err := rule.Parse(text, z); err != nil {
						b.Fatal(err)
					}
				}
			})
		}
	}
	for _, text := range []string{
		"0 0 30 2 *", "on open day 28 of every month at 06:00", "on weekends at 06:00 skip closed days",
		"every day at 06:00 within 07:00 to 08:00",
		"on feb 29 if day 100 of every year at 06:00", "every 9999 years on feb 30 at 06:00 from 2026-01-01",
		"on the fifth monday of february if day 1 of every month at 06:00",
		"DTSTART:20261201T080000Z\nRRULE:FREQ=HOURLY;INTERVAL=2;BYHOUR=9",
		"DTSTART:20261201T080000\nRRULE:FREQ=MINUTELY;INTERVAL=7;BYMONTH=2;BYMONTHDAY=30",
	} {
		b.Run("never: "+text, func(b *testing.B) {
			for range b.N {
				if r, err := rule.Parse(text, z); err == nil {
					b.Fatal(r.Reading())
				}
			}
		})
	}
}
