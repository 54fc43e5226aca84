package job

import (
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/moment"
	"ironbell/internal/core/rule"
)

// Timing says when a trigger rings: a rule, and what is said beside its text.
type Timing struct {
	Rule   string   `json:"rule,omitempty" maxLength:"2000" doc:"when it rings: in words, as five cron fields, or as iCalendar DTSTART and RRULE lines"`
	Start  string   `json:"start,omitempty" maxLength:"30" doc:"first date or time, such as 2026-12-01 or 2026-12-01 06:00, in the job's zone"`
	End    string   `json:"end,omitempty" maxLength:"30" doc:"last date, which is included, or time"`
	Count  int      `json:"count,omitempty" minimum:"0" maximum:"100000" doc:"how many rings from the start"`
	Hours  []string `json:"hours,omitempty" maxItems:"10" doc:"permitted hours outside which it starts no run, such as 06:00-22:00"`
	Closed string   `json:"closed,omitempty" enum:"skip,before,after" doc:"what to do when the day is closed: pass over, or move to the open day before or after"`
}

// Read reads the timing in a zone, with a calendar of open days that may be nil.
// What is wrong is said of its fields, below where.
func (t Timing) Read(v *fault.Invalid, where string, zone *time.Location, c rule.Calendar) (rule.Rule, bool) {
	o := rule.Options{Zone: zone, Calendar: c, Count: t.Count, Closed: rule.Closed(t.Closed)}
	before := len(v.Wrong)
	var err error
	if o.Start, err = readBound(t.Start, zone, false); err != nil {
		v.Add(where+"start", "%s", err)
	}
	if o.End, err = readBound(t.End, zone, true); err != nil {
		v.Add(where+"end", "%s", err)
	}
	for i, text := range t.Hours {
		h, err := readHours(text)
		if err != nil {
			v.Add(fmt.Sprintf("%shours[%d]", where, i), "%s", err)
		}
		o.Hours = append(o.Hours, h)
	}
	if t.Closed != "" && t.Closed != string(rule.Skip) && t.Closed != string(rule.Before) &&
		t.Closed != string(rule.After) {
		v.Add(where+"closed", "%q is no way with closed days; use skip, before or after", t.Closed)
	}
	if len(v.Wrong) > before {
		return rule.Rule{}, false
	}
	r, err := o.Parse(t.Rule)
	if err != nil {
		v.Add(where+"rule", "%q: %s", t.Rule, err)
		return r, false
	}
	return r, true
}

// Opens is the first instant from one on that lies in the permitted hours: the instant itself without any,
// and for one that lies in them. It is for what starts by no rule.
func (t Timing) Opens(zone *time.Location, at time.Time) (time.Time, error) {
	if len(t.Hours) == 0 {
		return at, nil
	}
	var wrong fault.Invalid
	r, ok := Timing{Rule: "* * * * *", Hours: t.Hours}.Read(&wrong, "", zone, nil)
	if !ok {
		return at, fmt.Errorf("read the permitted hours: %w", wrong.Err())
	}
	return r.Permitted(at), nil
}

// readBound reads a date, or a date and time. As an end a date means its whole day.
func readBound(text string, zone *time.Location, end bool) (time.Time, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return time.Time{}, nil
	}
	if t, err := time.ParseInLocation(time.DateOnly, text, zone); err == nil && civil.Known(t.Year()) {
		if end {
			t = t.AddDate(0, 0, 1).Add(-time.Second)
		}
		return t, nil
	}
	for _, layout := range []string{"2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02 15:04:05", time.RFC3339} {
		if t, err := time.ParseInLocation(layout, text, zone); err == nil && civil.Known(t.Year()) {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no date; write it as 2026-12-01 or 2026-12-01 06:00", text)
}

// readHours reads "06:00-22:00" or "06:00 to 22:00".
func readHours(text string) (rule.Hours, error) {
	from, to, ok := strings.Cut(text, " to ")
	if !ok {
		from, to, ok = strings.Cut(text, "-")
	}
	a, err := time.Parse("15:04", strings.TrimSpace(from))
	b, err2 := time.Parse("15:04", strings.TrimSpace(to))
	if !ok || err != nil || err2 != nil {
		return rule.Hours{}, fmt.Errorf("%q are no hours; write them as 06:00-22:00", text)
	}
	second := func(t time.Time) int64 { return int64(t.Hour()*3600 + t.Minute()*60) }
	return rule.Hours{From: second(a), To: second(b)}, nil
}

// WhenSettings are what an administrator says of all rules.
type WhenSettings struct {
	Floor     Duration `json:"floor,omitempty" doc:"shortest time that a rule may leave between two rings, such as 1m"`
	Many      int      `json:"many,omitempty" minimum:"1" maximum:"86400" doc:"rings a day from which the editor warns"`
	WeekStart string   `json:"week_start,omitempty" enum:"monday,tuesday,wednesday,thursday,friday,saturday,sunday" doc:"first day of the week for moments such as start of week"`
}

// WithDefaults fills in what was left out.
func (s WhenSettings) WithDefaults() WhenSettings {
	if s.Floor == 0 {
		s.Floor = Duration(time.Minute)
	}
	if s.Many == 0 {
		s.Many = 288
	}
	if s.WeekStart == "" {
		s.WeekStart = "monday"
	}
	return s
}

// Frame is what moments are reckoned in, with a calendar that may be nil.
func (s WhenSettings) Frame(c moment.Calendar) moment.Frame {
	f := moment.DefaultFrame
	for d := time.Sunday; d <= time.Saturday; d++ {
		if strings.EqualFold(d.String(), s.WeekStart) {
			f.WeekStart = d
		}
	}
	f.Calendar = c
	return f
}

// Floored tells whether a rule keeps to the floor, and otherwise adds why not.
func (s WhenSettings) Floored(v *fault.Invalid, where string, r rule.Rule) {
	floor := time.Duration(s.WithDefaults().Floor)
	if r.Spacing() < floor {
		v.Add(where+"rule",
			"%q rings every %s, and an administrator has set %s as the least; ring less often, or ask them to change it", r, Duration(r.Spacing()), Duration(floor))
	}
}
