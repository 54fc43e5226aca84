// Package usual tells by when a thing that happens is usually there, going by the days on which it
// was, and from when on it is late by its own past.
package usual

import (
	"fmt"
	"math"
	"slices"
	"time"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/zone"
)

// Bounds of what is gone by.
const (
	Days = 60 // how far the past is looked at

	alike    = 8  // days of one weekday
	fewAlike = 4  // of these, without which nothing is said of the weekday
	working  = 10 // working days, while too few of the weekday are known
	fewWork  = 5
	slack    = 15 // minutes that are never late
)

// Hour is when a thing is usually there on one day.
type Hour struct {
	By   time.Time // by then it was there on four days of five
	Late time.Time // from then on it is late; zero when the day ends before
	Came int       // on how many such days it came
	Of   int       // out of so many
	Like string    // what they are, such as Mondays
}

// Says tells the hour in words, without its day.
func (h Hour) Says() string {
	return fmt.Sprintf("usually there by %s, as on %d of the last %d %s", h.By.Format("15:04 MST"), h.Came, h.Of, h.Like)
}

// Past is when a thing came: the first time of each day, on a wall clock of its zone.
type Past struct {
	at    map[int64]int // minute of the day, by the day's number
	first int64
	place *time.Location
}

// Of gathers a past, in any order; of several instants of one day the first counts.
func Of(all []time.Time, place *time.Location) Past {
	p := Past{at: make(map[int64]int, len(all)), first: math.MaxInt64, place: place}
	for _, t := range all {
		day, minute := dayOf(t, place)
		if m, known := p.at[day]; !known || minute < m {
			p.at[day] = minute
		}
		p.first = min(p.first, day)
	}
	return p
}

// Day is the number of the day of an instant, as package civil counts them.
func Day(t time.Time, place *time.Location) int64 {
	day, _ := dayOf(t, place)
	return day
}

// Came tells whether it came on a day.
func (p Past) Came(day int64) bool {
	_, came := p.at[day]
	return came
}

// On tells when it is usual on a day, going by the days before today that are open; ok is false when
// nothing is. What is usual on a weekday goes first; while too few of them are known, the working days
// together are gone by. On a day that is closed nothing is usual.
func (p Past) On(day, today int64, open func(day int64) bool) (h Hour, ok bool) {
	if !open(day) || len(p.at) == 0 {
		return Hour{}, false
	}
	weekday := civil.Weekday(day)
	h, minutes := p.among(today, alike, func(d int64) bool { return civil.Weekday(d) == weekday && open(d) })
	h.Like = time.Weekday(weekday).String() + "s"
	if h.Of < fewAlike && isWorking(weekday) {
		h, minutes = p.among(today, working, func(d int64) bool { return isWorking(civil.Weekday(d)) && open(d) })
		h.Like = "working days"
		if h.Of < fewWork {
			return Hour{}, false
		}
	}
	if h.Of < fewAlike || 5*h.Came < 4*h.Of {
		return Hour{}, false
	}
	slices.Sort(minutes)
	by, middle := minutes[(4*h.Came+4)/5-1], minutes[(h.Came+1)/2-1]
	h.By = p.instant(day, by)
	// Who comes at scattered times is waited for longer.
	if late := by + max(slack, 2*(by-middle)); late < 24*60 {
		h.Late = p.instant(day, late)
	}
	return h, true
}

// among looks at the last so many days before today that are of a kind, no further back than it is known.
func (p Past) among(today int64, most int, is func(day int64) bool) (h Hour, minutes []int) {
	for d := today - 1; d >= p.first && d >= today-Days && h.Of < most; d-- {
		if !is(d) {
			continue
		}
		h.Of++
		if m, came := p.at[d]; came {
			h.Came++
			minutes = append(minutes, m)
		}
	}
	return h, minutes
}

func isWorking(weekday int) bool { return weekday != int(time.Sunday) && weekday != int(time.Saturday) }

// dayOf is the day of an instant, and the minute by which it was there.
func dayOf(t time.Time, place *time.Location) (day int64, minute int) {
	wall := t.Unix() + zone.Of(place).At(t.Unix()).Offset
	day, second := civil.Split(wall)
	return day, min((int(second)+59)/60, 24*60-1)
}

// Begins is the instant at which a day begins.
func Begins(day int64, place *time.Location) time.Time {
	return time.Unix(zone.Of(place).Instant(day*civil.Day), 0).In(place)
}

func (p Past) instant(day int64, minute int) time.Time {
	return time.Unix(zone.Of(p.place).Instant(day*civil.Day+int64(minute)*60), 0).In(p.place)
}
