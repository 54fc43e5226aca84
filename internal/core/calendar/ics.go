package calendar

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
)

// maxICS is the largest iCalendar file that is read, in bytes.
const maxICS = 4 << 20

// ReadICS reads the all-day events of an iCalendar file (RFC 5545), as common
// calendar programs export them, as entries. Events that are no whole days, or
// that were cancelled, are left out; notes say which.
func ReadICS(text []byte) (entries []Entry, notes []string, err error) {
	if len(text) > maxICS {
		return nil, nil, fmt.Errorf("the file is larger than %d MB", maxICS>>20)
	}
	if !bytes.Contains(bytes.ToUpper(text), []byte("BEGIN:VCALENDAR")) {
		return nil, nil, errors.New("this is no iCalendar file: it has no BEGIN:VCALENDAR")
	}
	file, err := ics.ParseCalendar(bytes.NewReader(text))
	if err != nil {
		return nil, nil, fmt.Errorf("read the iCalendar file: %w", err)
	}
	// An event with a RECURRENCE-ID stands for one time of a series.
	replaced := map[string][]string{}
	for _, e := range file.Events() {
		if p := e.GetProperty(ics.ComponentPropertyRecurrenceId); p != nil {
			replaced[e.Id()] = append(replaced[e.Id()], p.Value)
		}
	}
	left := 0
	for _, e := range file.Events() {
		if p := e.GetProperty(ics.ComponentPropertyStatus); p != nil && strings.EqualFold(p.Value, "CANCELLED") {
			left++
			continue
		}
		entry, ok, err := readEvent(e, replaced[e.Id()])
		if err != nil {
			return nil, nil, err
		}
		if !ok {
			notes = append(notes, fmt.Sprintf("%q is not a whole day and was left out", entry.Label))
			continue
		}
		entries = append(entries, entry)
		if len(entries) > 5000 {
			return nil, nil, errors.New("the file has more than 5000 whole-day events")
		}
	}
	if left > 0 {
		notes = append(notes, fmt.Sprintf("%d cancelled events were left out", left))
	}
	return entries, notes, nil
}

// readEvent makes an entry of an event; ok is false when it is no whole days.
func readEvent(e *ics.VEvent, replaced []string) (entry Entry, ok bool, err error) {
	if p := e.GetProperty(ics.ComponentPropertySummary); p != nil {
		entry.Label = strings.TrimSpace(ics.FromText(p.Value))
		if len(entry.Label) > 200 {
			entry.Label = strings.ToValidUTF8(entry.Label[:200], "")
		}
	}
	start := e.GetProperty(ics.ComponentPropertyDtStart)
	if start == nil {
		return entry, false, fmt.Errorf("the event %q has no DTSTART", entry.Label)
	}
	from, whole := wholeDay(start.Value)
	if !whole {
		return entry, false, nil
	}
	entry.Date = from.Format(time.DateOnly)
	entry.Days = 1
	if end := e.GetProperty(ics.ComponentPropertyDtEnd); end != nil {
		to, whole := wholeDay(end.Value)
		if !whole {
			return entry, false, nil
		}
		entry.Days = max(int(to.Sub(from).Hours()/24), 1)
	} else if d := e.GetProperty(ics.ComponentPropertyDuration); d != nil {
		n, unit := 0, ""
		if _, err := fmt.Sscanf(strings.TrimPrefix(d.Value, "+"), "P%d%1s", &n, &unit); err != nil || n < 1 ||
			unit != "D" && unit != "W" {
			return entry, false, nil
		}
		if unit == "W" {
			n *= 7
		}
		entry.Days = n
	} else if len(start.Value) > 8 {
		return entry, false, nil // a time without a length is a moment
	}
	if entry.Days == 1 {
		entry.Days = 0
	}
	// The recurrence goes on as the lines that a rule is written in.
	var lines []string
	day := func(name, value string) {
		for _, one := range strings.Split(value, ",") {
			if d, whole := wholeDay(one); whole || len(one) >= 8 {
				if !whole {
					if d, err = time.Parse("20060102", one[:8]); err != nil {
						continue
					}
				}
				lines = append(lines, name+";VALUE=DATE:"+d.Format("20060102"))
			}
		}
	}
	for _, p := range e.GetProperties(ics.ComponentPropertyRrule) {
		lines = append(lines, "RRULE:"+p.Value)
	}
	for _, p := range e.GetProperties(ics.ComponentPropertyRdate) {
		day("RDATE", p.Value)
	}
	if len(lines) > 0 {
		for _, p := range e.GetProperties(ics.ComponentPropertyExdate) {
			day("EXDATE", p.Value)
		}
		if e.GetProperty(ics.ComponentPropertyRecurrenceId) == nil {
			for _, value := range replaced {
				day("EXDATE", value)
			}
		}
		entry.Rule = "DTSTART;VALUE=DATE:" + from.Format("20060102") + "\n" + strings.Join(lines, "\n")
		if _, err := entry.recurrence(); err != nil {
			return entry, false, fmt.Errorf("the event %q: %w", entry.Label, err)
		}
	}
	return entry, true, nil
}

// wholeDay reads a date, or a time at midnight, which some programs write for
// whole days.
func wholeDay(value string) (time.Time, bool) {
	value = strings.TrimSuffix(strings.TrimSpace(value), "Z")
	date, clock, timed := strings.Cut(value, "T")
	d, err := time.Parse("20060102", date)
	return d, err == nil && (!timed || clock == "000000")
}
