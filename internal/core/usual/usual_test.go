package usual_test

import (
	"slices"
	"testing"
	"time"

	"ironbell/internal/core/usual"
	"ironbell/internal/core/zone"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func london(t require.TestingT) *time.Location {
	place, err := zone.Load("Europe/London")
	require.NoError(t, err)
	return place
}

func always(int64) bool { return true }

// days gives instants on the last n days before a date that are chosen, each at hour:minute plus a shift.
func days(before time.Time, n int, chosen func(time.Time) bool, hour int, minutes ...int) (all []time.Time) {
	for d := before.AddDate(0, 0, -1); len(all) < n; d = d.AddDate(0, 0, -1) {
		if chosen(d) {
			all = append(all, time.Date(d.Year(), d.Month(), d.Day(), hour, minutes[len(all)%len(minutes)], 0, 0, d.Location()))
		}
	}
	return all
}

func isMonday(d time.Time) bool  { return d.Weekday() == time.Monday }
func isWorkday(d time.Time) bool { return d.Weekday() != time.Saturday && d.Weekday() != time.Sunday }

func TestWhatComesOnMondaysIsUsualOnMondays(t *testing.T) {
	place := london(t)
	monday := time.Date(2026, 11, 30, 0, 0, 0, 0, place)
	today := usual.Day(monday, place)
	p := usual.Of(days(monday, 5, isMonday, 7, 50, 58, 52, 55, 51), place)
	h, ok := p.On(today, today, always)
	require.True(t, ok)
	assert.Equal(t, "usually there by 07:55 GMT, as on 5 of the last 5 Mondays", h.Says())
	assert.Equal(t, "08:10", h.Late.Format("15:04"), "a quarter of an hour is never late")
	// A week on it is the same; on Tuesdays there is nothing, and on a Monday that is closed neither.
	h, ok = p.On(today+7, today, always)
	assert.True(t, ok)
	assert.Equal(t, "Mon 7 Dec 07:55 GMT", h.By.Format("Mon 2 Jan 15:04 MST"))
	_, ok = p.On(today+1, today, always)
	assert.False(t, ok)
	_, ok = p.On(today, today, func(day int64) bool { return day != today })
	assert.False(t, ok)
	// Mondays that were closed are no days on which it failed to come.
	closed := map[int64]bool{today - 7: true, today - 14: true}
	_, ok = usual.Of(days(monday.AddDate(0, 0, -14), 4, isMonday, 8, 0), place).On(today, today,
		func(day int64) bool { return !closed[day] })
	assert.True(t, ok)
	_, ok = usual.Of(days(monday.AddDate(0, 0, -14), 4, isMonday, 8, 0), place).On(today, today, always)
	assert.False(t, ok, "it did not come on two of six Mondays")
}

func TestAWeekOfWorkingDaysIsEnoughToBeginWith(t *testing.T) {
	place := london(t)
	thursday := time.Date(2026, 11, 26, 0, 0, 0, 0, place)
	today := usual.Day(thursday, place)
	_, ok := usual.Of(days(thursday, 4, isWorkday, 6, 30), place).On(today, today, always)
	assert.False(t, ok, "four days say nothing")
	p := usual.Of(days(thursday, 5, isWorkday, 6, 30), place)
	h, ok := p.On(today, today, always)
	require.True(t, ok)
	assert.Equal(t, "usually there by 06:30 GMT, as on 5 of the last 5 working days", h.Says())
	_, ok = p.On(today+2, today, always) // a Saturday
	assert.False(t, ok)
}

func TestOneDayOutOfTheWayMovesNothing(t *testing.T) {
	place := london(t)
	day := time.Date(2026, 11, 26, 0, 0, 0, 0, place)
	all := days(day, 10, func(time.Time) bool { return true }, 8, 0, 4, 2)
	all = append(all, days(day, 1, isWorkday, 23, 59)...) // of a day that has its own already
	all[3] = all[3].Add(14 * time.Hour)
	today := usual.Day(day, place)
	h, ok := usual.Of(all, place).On(today, today, always)
	require.True(t, ok)
	assert.Equal(t, "08:04", h.By.Format("15:04"))
	// What comes around the hour of midnight is not late before the day is over.
	h, ok = usual.Of(days(day, 10, isWorkday, 23, 50), place).On(today, today, always)
	require.True(t, ok)
	assert.True(t, h.Late.IsZero())
}

func TestTheHourIsThatOfTheWallClock(t *testing.T) {
	place := london(t)
	// Summer time ended on 25 October 2026.
	monday := time.Date(2026, 10, 26, 0, 0, 0, 0, place)
	today := usual.Day(monday, place)
	h, ok := usual.Of(days(monday, 10, isWorkday, 8, 0), place).On(today, today, always)
	require.True(t, ok)
	assert.Equal(t, "08:00 GMT", h.By.Format("15:04 MST"))
}

// Whatever the past is: the usual hour lies within the hours of the past, lateness after it and within the day,
// the order in which the past is told does not matter, and no later day changes what was usual before it.
func TestTheUsualLiesWithinThePast(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		place := london(rt)
		start := time.Date(2026, time.Month(rapid.IntRange(1, 12).Draw(rt, "month")), 1, 0, 0, 0, 0, place)
		var all []time.Time
		low, high := 24*60, 0
		for n := range rapid.IntRange(1, 70).Draw(rt, "days") {
			if rapid.IntRange(0, 9).Draw(rt, "comes") == 0 {
				continue
			}
			d := start.AddDate(0, 0, n)
			minute := rapid.IntRange(3*60, 23*60).Draw(rt, "minute")
			low, high = min(low, minute), max(high, minute)
			all = append(all, time.Date(d.Year(), d.Month(), d.Day(), 0, minute, 0, 0, place))
		}
		open := func(day int64) bool { return day%7 != int64(start.Day()) }
		today := usual.Day(start, place) + int64(rapid.IntRange(5, 80).Draw(rt, "today"))
		day := today + int64(rapid.IntRange(0, 14).Draw(rt, "ahead"))
		h, ok := usual.Of(all, place).On(day, today, open)
		reversed := slices.Clone(all)
		slices.Reverse(reversed)
		again, same := usual.Of(reversed, place).On(day, today, open)
		assert.Equal(rt, ok, same)
		assert.Equal(rt, h, again)
		before := slices.DeleteFunc(slices.Clone(all), func(at time.Time) bool { return usual.Day(at, place) >= today })
		again, same = usual.Of(before, place).On(day, today, open)
		assert.Equal(rt, ok, same)
		assert.Equal(rt, h, again)
		if !ok {
			return
		}
		assert.Equal(rt, day, usual.Day(h.By, place))
		minute := h.By.Hour()*60 + h.By.Minute()
		assert.LessOrEqual(rt, low, minute)
		assert.GreaterOrEqual(rt, high, minute)
		assert.LessOrEqual(rt, h.Came, h.Of)
		assert.GreaterOrEqual(rt, 5*h.Came, 4*h.Of)
		if !h.Late.IsZero() {
			assert.False(rt, h.Late.Before(h.By.Add(15*time.Minute)))
			assert.Equal(rt, day, usual.Day(h.Late, place))
		}
	})
}
