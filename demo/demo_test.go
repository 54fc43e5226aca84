package demo

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheSameSeedMakesTheSameCompanyThatEndsYesterday(t *testing.T) {
	zone, err := time.LoadLocation(Zone)
	require.NoError(t, err)
	today := time.Date(2026, 11, 23, 9, 0, 0, 0, zone)
	first, second := generate(7, today), generate(7, today)
	require.Equal(t, first, second)
	assert.NotEqual(t, first, generate(8, today))
	by := map[string][][]any{}
	for _, f := range first {
		by[f.name] = f.rows
		for _, row := range f.rows {
			require.Len(t, row, len(f.columns), f.name)
		}
	}
	assert.Len(t, by["ports"], 5)
	assert.Len(t, by["vessels"], 6)
	assert.Len(t, by["routes"], 7)
	sailings := by["sailings"]
	assert.InDelta(t, 63_000, len(sailings), 3_000)
	last := time.Time{}
	departures := map[any]int{}
	for _, s := range sailings {
		due, ok := s[3].(time.Time)
		require.True(t, ok)
		if due.After(last) {
			last = due
		}
		departures[by["routes"][s[1].(int)-1][2]]++
	}
	assert.Equal(t, "2026-11-22", last.In(zone).Format(time.DateOnly))
	assert.Len(t, departures, 5, "ships leave from every port")
	breaches := 0
	for _, d := range by["crew_duty"] {
		if d[4].(float64) < 10 {
			breaches++
			assert.True(t, d[1].(time.Time).Before(today.AddDate(0, 0, -5)), "the last days have none")
		}
	}
	assert.Positive(t, breaches)
}
