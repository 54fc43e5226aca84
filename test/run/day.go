package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"time"
)

// dayVariable says on which day the tests live; package world reads it (world.Day).
const dayVariable = "IRONBELL_DAY"

// days are those on which the tests of the whole live, one for each run. Each was chosen since something is
// different on it.
var days = []struct{ at, why string }{
	{"", "today, as it is"},
	{"2027-03-10T10:20:00Z", "a Wednesday"},
	{"2027-05-09T08:40:00Z", "a Sunday"},
	{"2027-08-31T10:15:00Z", "the last of a month"},
	{"2027-12-31T13:05:00Z", "31 December"},
	{"2027-12-31T23:58:00Z", "two minutes before the new year"},
	{"2028-02-29T09:30:00Z", "29 February"},
	{"2027-03-28T00:52:00Z", "the night in which the clocks go forward, eight minutes before"},
	{"2027-10-31T00:40:00Z", "the night in which the clocks go back, within the hour that comes twice"},
	{"2027-06-16T22:58:00Z", "23:58 of a summer's day in London, when another date is written in UTC than an hour later"},
}

// chooseDay draws a day, unless one is given, and says how it is given again.
func chooseDay() error {
	text, given := os.LookupEnv(dayVariable)
	why := "as given"
	if !given {
		d := days[rand.N(len(days))] //nolint:gosec // a day of tests is no secret
		text, why = d.at, d.why
	}
	if err := os.Setenv(dayVariable, text); err != nil {
		return fmt.Errorf("set the day of the tests: %w", err)
	}
	if text == "" {
		fmt.Printf("The tests of the whole live today (%s). %s= gives it again.\n", why, dayVariable)
		return nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return fmt.Errorf("%s: %w; it takes a time such as 2028-02-29T23:58:00Z, or nothing for today", dayVariable, err)
	}
	fmt.Printf("The tests of the whole live on %s (%s). %s=%s gives it again.\n",
		at.Format("Monday, 2 January 2006, 15:04 MST"), why, dayVariable, text)
	return nil
}
