// Package timetable keeps rules, calendars and zones in memory as the records have them
// now, and reckons with them when triggers ring next: the first time, again when a rule or a
// calendar changed under them, and again when the zone data did.
//
// A Timetable is asked by the clock, by what saves jobs and by what looks ahead; Refresh,
// which costs two small queries while nothing has changed, comes before whatever must go
// by the newest records.
package timetable

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/civil"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/store/records"
)

// WhenSetting is the setting of what an administrator says of all rules, a
// job.WhenSettings.
const WhenSetting = "when"

const maxRuleCache = 100_000

// Timetable keeps what deciding on rings needs: the calendars in their newest
// versions, the settings, and rules that were read. Any number of goroutines may
// use it; Refresh brings it up to date. The zero value has read nothing yet.
type Timetable struct {
	mu        sync.Mutex
	stamps    map[string]string // of the calendars that are kept, by name
	calendars map[string]*calendar.Calendar
	combined  map[string]*calendar.Calendar
	rules     map[string]rule.Rule
	settings  job.WhenSettings

	begun   int // how many refreshes have begun
	applied int // the latest of them whose records are kept
}

// Records is where calendars are read from: the store, or a transaction.
type Records interface {
	CalendarStamps(ctx context.Context) (map[string]string, error)
	Calendar(ctx context.Context, name string) (records.Calendar, error)
	Setting(ctx context.Context, key string, to any) (bool, error)
}

// Refresh reads the calendars that have changed, and the settings. One that began before
// another and is slower changes nothing any more: what it read is older. What a transaction has
// changed and not committed is read into a timetable of its own.
func (t *Timetable) Refresh(ctx context.Context, from Records) error {
	t.mu.Lock()
	t.begun++
	turn := t.begun
	t.mu.Unlock()
	var settings job.WhenSettings
	if _, err := from.Setting(ctx, WhenSetting, &settings); err != nil {
		return err
	}
	stamps, err := from.CalendarStamps(ctx)
	if err != nil {
		return err
	}
	t.mu.Lock()
	if t.applied > turn {
		t.mu.Unlock()
		return nil
	}
	var changed []string
	for name, stamp := range stamps {
		if t.stamps[name] != stamp {
			changed = append(changed, name)
		}
	}
	removed := len(t.stamps) > len(stamps)
	t.settings = settings.WithDefaults()
	if len(changed) == 0 && !removed {
		t.applied = turn
		t.mu.Unlock()
		return nil
	}
	t.mu.Unlock()
	fresh := map[string]*calendar.Calendar{}
	for _, name := range changed {
		c, err := from.Calendar(ctx, name)
		if err != nil {
			return err
		}
		if fresh[name], err = calendar.Compile(name, c.Definition); err != nil {
			return fmt.Errorf("lay out calendar %q: %w", name, err)
		}
		stamps[name] = c.Stamp()
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.applied > turn {
		return nil
	}
	t.applied = turn
	kept := make(map[string]*calendar.Calendar, len(stamps))
	for name, stamp := range stamps {
		if c, ok := fresh[name]; ok {
			kept[name] = c
		} else if t.stamps[name] == stamp {
			kept[name] = t.calendars[name]
		} else {
			delete(stamps, name) // another refresh came between; the next one reads it
		}
	}
	t.stamps, t.calendars, t.combined, t.rules = stamps, kept, nil, nil
	return nil
}

// Missing says that a calendar is named that there is not.
type Missing struct{ Calendar string }

func (e *Missing) Error() string {
	return fmt.Sprintf("there is no calendar %q; an administrator can add it", e.Calendar)
}

// Calendar gives the calendars of some names as one; nil for no names.
func (t *Timetable) Calendar(names []string) (*calendar.Calendar, error) {
	if len(names) == 0 {
		return nil, nil //nolint:nilnil // no calendar is a calendar of its own: Monday to Friday
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.lockedCalendar(names)
}

// Opens gives what tells whether a day is open in the calendars of some names: every day without names. Days are
// numbered as package civil numbers them.
func (t *Timetable) Opens(names []string) (func(day int64) bool, error) {
	c, err := t.Calendar(names)
	if err != nil {
		return nil, err
	}
	return func(day int64) bool {
		if c == nil {
			return true
		}
		y, m, date := civil.Date(day)
		return c.Open(y, m).Has(date)
	}, nil
}

func (t *Timetable) lockedCalendar(names []string) (*calendar.Calendar, error) {
	key := strings.Join(names, "\x00")
	if c, ok := t.combined[key]; ok {
		return c, nil
	}
	all := make([]*calendar.Calendar, len(names))
	for i, name := range names {
		c, ok := t.calendars[name]
		if !ok {
			return nil, &Missing{name}
		}
		all[i] = c
	}
	if t.combined == nil || len(t.combined) > 1000 {
		t.combined = map[string]*calendar.Calendar{}
	}
	t.combined[key] = calendar.Combine(all...)
	return t.combined[key], nil
}

// Rule reads a timing, or gives what was read before.
func (t *Timetable) Rule(timing job.Timing, zoneName string, calendars []string) (rule.Rule, error) {
	text, err := json.Marshal(struct {
		T job.Timing
		Z string
		C []string
	}{timing, zoneName, calendars})
	if err != nil {
		return rule.Rule{}, fmt.Errorf("name the rule: %w", err)
	}
	key := string(text)
	t.mu.Lock()
	defer t.mu.Unlock()
	if r, ok := t.rules[key]; ok {
		return r, nil
	}
	z, err := zone.Load(zoneName)
	if err != nil {
		return rule.Rule{}, err
	}
	var c rule.Calendar
	if len(calendars) > 0 {
		if c, err = t.lockedCalendar(calendars); err != nil {
			return rule.Rule{}, err
		}
	}
	v := &fault.Invalid{}
	r, ok := timing.Read(v, "", z, c)
	if !ok {
		return rule.Rule{}, v.Err()
	}
	if t.rules == nil || len(t.rules) >= maxRuleCache {
		t.rules = map[string]rule.Rule{}
	}
	t.rules[key] = r
	return r, nil
}

// Read reads a timing that somebody writes. Its error is a *fault.Invalid when it is about
// what was written.
func (t *Timetable) Read(timing job.Timing, zoneName string, calendars []string) (rule.Rule, error) {
	z, err := zone.Load(zoneName)
	if err != nil {
		return rule.Rule{}, fault.WrongField("the rule", "zone", err)
	}
	var c rule.Calendar
	if len(calendars) > 0 {
		if c, err = t.Calendar(calendars); err != nil {
			return rule.Rule{}, fault.WrongField("the question", "calendars", err)
		}
	}
	v := &fault.Invalid{What: "the rule"}
	r, ok := timing.Read(v, "", z, c)
	if !ok {
		return r, v.Err()
	}
	return r, nil
}

// Forget lets the next Refresh read everything anew.
func (t *Timetable) Forget() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.stamps, t.combined, t.rules = nil, nil, nil
}

// Settings are what an administrator says of all rules.
func (t *Timetable) Settings() job.WhenSettings {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.settings.WithDefaults()
}

// Frame is what the moments of a job are reckoned in that keeps some calendars. One that is
// missing was told of when the job was saved, and is left out.
func (t *Timetable) Frame(calendars []string) moment.Frame {
	c, err := t.Calendar(calendars)
	if err != nil || c == nil {
		return t.Settings().Frame(nil)
	}
	return t.Settings().Frame(c)
}
