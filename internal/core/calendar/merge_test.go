package calendar_test

import (
	"testing"

	"ironbell/internal/core/calendar"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestReadDaysAreMerged(t *testing.T) {
	dredging := calendar.Entry{Label: "Winter dredging", Date: "2027-01-18", Days: 5}
	closed := calendar.Entry{Label: "Slipway", Rule: "on the first tuesday of every month"}
	christmas := calendar.Entry{Date: "2026-12-25"}
	named := calendar.Entry{Label: "Christmas", Date: "2026-12-25", Days: 1}
	merged, added, missing := calendar.Merge([]calendar.Entry{dredging, closed, christmas},
		[]calendar.Entry{named, {Label: "Founders' Day", Date: "2026-11-30"}})
	assert.Equal(t, []calendar.Entry{
		dredging, closed, {Label: "Christmas", Date: "2026-12-25"}, {Label: "Founders' Day", Date: "2026-11-30"},
	}, merged)
	assert.Equal(t, []calendar.Entry{{Label: "Founders' Day", Date: "2026-11-30"}}, added)
	assert.Equal(t, []calendar.Entry{dredging, closed}, missing)
}

// Nothing that a calendar has goes, nothing is there twice, and reading again adds nothing.
func TestMergingIsSafe(t *testing.T) {
	entry := rapid.Custom(func(t *rapid.T) calendar.Entry {
		return calendar.Entry{
			Label: rapid.SampledFrom([]string{"", "a", "b"}).Draw(t, "label"),
			Date:  rapid.SampledFrom([]string{"2026-12-24", "2026-12-25", "2026-12-26"}).Draw(t, "date"),
			Days:  rapid.IntRange(0, 2).Draw(t, "days"),
		}
	})
	distinct := rapid.SliceOfNDistinct(entry, 0, 6, func(e calendar.Entry) calendar.Entry {
		return calendar.Entry{Date: e.Date, Days: max(e.Days, 1)}
	})
	rapid.Check(t, func(t *rapid.T) {
		had, read := distinct.Draw(t, "had"), distinct.Draw(t, "read")
		merged, added, missing := calendar.Merge(had, read)
		assert.Len(t, merged, len(had)+len(added))
		assert.Len(t, read, len(merged)-len(missing))
		again, none, _ := calendar.Merge(merged, read)
		assert.Equal(t, merged, again)
		assert.Empty(t, none)
	})
}
