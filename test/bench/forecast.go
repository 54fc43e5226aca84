package main

import (
	"fmt"
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/forecast"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
)

// forecastDays is how far the forecast looks.
const forecastDays = 7

// forecast measures a look at a week of jobs that ring once a day under a calendar, against asking each rule for
// its rings one after another.
func (b *bench) forecast(jobs int) error {
	place, err := zone.Load("Europe/London")
	if err != nil {
		return err
	}
	open, err := calendar.Compile("Harbour", calendar.Definition{Closed: []calendar.Entry{
		{Label: "slipway", Rule: "on the first tuesday of every month"}, {Label: "Christmas Day", Rule: "on 25 dec"},
	}})
	if err != nil {
		return err
	}
	entries := make([]forecast.Entry, jobs)
	for i := range entries {
		how := []rule.Closed{rule.Skip, rule.Before, rule.After}[i%3]
		r, err := (rule.Options{Zone: place, Calendar: open, Closed: how}).Parse(
			fmt.Sprintf("every day at %02d:%02d:%02d", i/3600%24, i/60%60, i%60))
		if err != nil {
			return err
		}
		entries[i] = forecast.Entry{Rule: r, Usual: time.Duration(i%90) * time.Second}
	}
	from := time.Date(2026, 11, 23, 0, 0, 0, 0, place)
	to := from.AddDate(0, 0, forecastDays)
	var ours, bare []time.Duration
	for round := range 4 {
		began := time.Now()
		rang := 0
		for i := range entries {
			for at, ok := entries[i].Rule.Next(from.Add(-1)); ok && at.Before(to); at, ok = entries[i].Rule.Next(at) {
				rang++
			}
		}
		floor := time.Since(began)
		began = time.Now()
		s := forecast.Look(entries, forecast.Room{AtOnce: 80}, from, to, 1000)
		if s.Total+s.Passed < rang/2 {
			return fmt.Errorf("the forecast knows %d rings of %d", s.Total+s.Passed, rang)
		}
		if round > 0 { // the first one warms up
			ours, bare = append(ours, time.Since(began)), append(bare, floor)
		}
	}
	b.took(fmt.Sprintf("forecast of a week of %d jobs, against each rule's own rings", jobs), middle(ours).Seconds(), middle(bare).Seconds(), "s", "")
	return nil
}
