package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"time"
)

// dayVariable says on which day the tests live; package world reads it (world.Day).
const dayVariable = "IRONBELL_DAY"

// dayOfTests is a day, in the form of RFC 3339, and why it is one of them.
type dayOfTests struct {
	at, why string
	tried   bool
}

// days are those on which the tests of the whole live, one for each run. Each was chosen since something is
// different on it. Drawn are those on which the whole was tried and its faults mended; the others are given by the
// variable, until that was done.
var days = []dayOfTests{
	{"", "today, as it is", true},
	{"2028-02-29T09:30:00Z", "29 February", true},
	{"2027-12-31T23:58:00Z", "two minutes before the new year", false},
	{"2027-12-31T13:05:00Z", "31 December", false},
	{"2027-03-10T10:20:00Z", "a Wednesday", false},
	{"2027-05-09T08:40:00Z", "a Sunday", false},
	{"2027-08-31T10:15:00Z", "the last of a month", false},
	{"2027-03-28T00:52:00Z", "the night in which the clocks go forward, eight minutes before", false},
	{"2027-10-31T00:40:00Z", "the night in which the clocks go back, within the hour that comes twice", false},
	{"2027-06-16T22:58:00Z", "23:58 of a summer's day in London, when another date is written in UTC than an hour later", false},
}

// chooseDay draws a day, unless one is given, and says how it is given again.
func chooseDay() error {
	text, given := os.LookupEnv(dayVariable)
	why := "as given"
	if !given {
		tried := slices.DeleteFunc(slices.Clone(days), func(d dayOfTests) bool { return !d.tried })
		d := tried[rand.N(len(tried))] //nolint:gosec // a day of tests is no secret
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
