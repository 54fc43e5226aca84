package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
)

// WhenSetting is the setting of what an administrator says of all rules, a
// job.WhenSettings; zoneSetting is the version of the zone data by which the due
// times were reckoned.
const (
	WhenSetting = "when"
	zoneSetting = "zones"
)

const maxRuleCache = 100_000

// timetable keeps what deciding on rings needs: the calendars in their newest
// versions, the settings, and rules that were read. Any number of goroutines may
// use it; refresh brings it up to date.
type timetable struct {
	mu        sync.Mutex
	stamps    map[string]string // of the calendars that are kept, by name
	calendars map[string]*calendar.Calendar
	combined  map[string]*calendar.Calendar
	rules     map[string]rule.Rule
	settings  job.WhenSettings
}

// records is where calendars are read from: the store, or a transaction.
type records interface {
	CalendarStamps(ctx context.Context) (map[string]string, error)
	Calendar(ctx context.Context, name string) (store.Calendar, error)
	Setting(ctx context.Context, key string, to any) (bool, error)
}

// refresh reads the calendars that have changed, and the settings.
func (t *timetable) refresh(ctx context.Context, from records) error {
	var settings job.WhenSettings
	if _, err := from.Setting(ctx, WhenSetting, &settings); err != nil {
		return err
	}
	stamps, err := from.CalendarStamps(ctx)
	if err != nil {
		return err
	}
	t.mu.Lock()
	var changed []string
	for name, stamp := range stamps {
		if t.stamps[name] != stamp {
			changed = append(changed, name)
		}
	}
	removed := len(t.stamps) > len(stamps)
	t.settings = settings.WithDefaults()
	t.mu.Unlock()
	if len(changed) == 0 && !removed {
		return nil
	}
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
	kept := make(map[string]*calendar.Calendar, len(stamps))
	for name := range stamps {
		if c, ok := fresh[name]; ok {
			kept[name] = c
		} else if c, ok := t.calendars[name]; ok {
			kept[name] = c
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

// calendar gives the calendars of some names as one; nil for no names.
func (t *timetable) calendar(names []string) (*calendar.Calendar, error) {
	if len(names) == 0 {
		return nil, nil //nolint:nilnil // no calendar is a calendar of its own: Monday to Friday
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.lockedCalendar(names)
}

func (t *timetable) lockedCalendar(names []string) (*calendar.Calendar, error) {
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

// rule reads a timing, or gives what was read before.
func (t *timetable) rule(timing job.Timing, zoneName string, calendars []string) (rule.Rule, error) {
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

// When gives the settings of all rules.
func (e *Engine) When() job.WhenSettings {
	e.times.mu.Lock()
	defer e.times.mu.Unlock()
	return e.times.settings.WithDefaults()
}

// frame is what the moments of a job are reckoned in.
func (e *Engine) frame(calendars []string) moment.Frame {
	c, err := e.times.calendar(calendars)
	if err != nil || c == nil {
		return e.When().Frame(nil) // a calendar that is missing was told of when the job was saved
	}
	return e.When().Frame(c)
}

// Frame reads the calendars anew and gives what moments are reckoned in.
func (e *Engine) Frame(ctx context.Context, calendars []string) (moment.Frame, error) {
	if err := e.times.refresh(ctx, e.store); err != nil {
		return moment.Frame{}, err
	}
	if _, err := e.times.calendar(calendars); err != nil {
		return moment.Frame{}, wrongField("calendars", err)
	}
	return e.frame(calendars), nil
}

func wrongField(where string, err error) error {
	v := &fault.Invalid{What: "the question"}
	v.Add(where, "%s", err)
	return v.Err()
}

// Rule reads a timing in a zone with the calendars of some names. Its error is a
// *fault.Invalid when it is about what was written.
func (e *Engine) Rule(ctx context.Context, timing job.Timing, zoneName string, calendars []string) (rule.Rule, error) {
	if err := e.times.refresh(ctx, e.store); err != nil {
		return rule.Rule{}, err
	}
	v := &fault.Invalid{What: "the rule"}
	z, err := zone.Load(zoneName)
	if err != nil {
		v.Add("zone", "%s", err)
		return rule.Rule{}, v.Err()
	}
	var c rule.Calendar
	if len(calendars) > 0 {
		if c, err = e.times.calendar(calendars); err != nil {
			return rule.Rule{}, wrongField("calendars", err)
		}
	}
	r, ok := timing.Read(v, "", z, c)
	if !ok {
		return r, v.Err()
	}
	return r, nil
}

// firstRing is the next ring of a rule after an instant, or the next that is
// passed over, which is decided on, too.
func firstRing(r rule.Rule, after time.Time) *store.NextRing {
	ring, ok := r.Step(after)
	if !ok {
		return nil
	}
	return &store.NextRing{Due: ring.Due, Nominal: ring.Nominal}
}

// again reckons when a trigger rings next by a rule that has changed under it,
// given the ring that it waited for. Dates from that one on are still to come;
// one that now lies in the past rings at once, the latest of several.
func again(r rule.Rule, waited store.NextRing, now time.Time) *store.NextRing {
	const farthest = 800 * 24 * time.Hour // closed days move a ring no farther
	var past *store.NextRing
	for at := waited.Nominal.Add(-farthest).Add(-time.Second); ; {
		ring, ok := r.Step(at)
		if !ok {
			return past
		}
		at = ring.Due
		if ring.Nominal.Before(waited.Nominal) {
			continue
		}
		if ring.Due.After(now) {
			if past != nil {
				return past
			}
			return &store.NextRing{Due: ring.Due, Nominal: ring.Nominal}
		}
		if !ring.Passed {
			past = &store.NextRing{Due: now.Truncate(time.Second), Nominal: ring.Nominal}
		}
	}
}

// reckon reckons the next rings of jobs anew and tells which have moved.
func (e *Engine) reckon(jobs []job.Job, now time.Time) (next map[int64]*store.NextRing, moved []string) {
	next = map[int64]*store.NextRing{}
	for _, j := range jobs {
		for _, t := range j.Triggers {
			if !j.On || t.NextDue == nil {
				continue
			}
			r, err := e.times.rule(t.Timing, j.Zone, j.Calendars)
			if err != nil {
				e.o.Log.Error("a trigger can no longer be read and keeps its next ring", "job", j.Name, "rule", t.Rule, "error", err)
				continue
			}
			waited := store.NextRing{Due: *t.NextDue, Nominal: *t.NextDue}
			if t.NextNominal != nil {
				waited.Nominal = *t.NextNominal
			}
			ring := again(r, waited, now)
			if ring != nil && ring.Due.Equal(waited.Due) && ring.Nominal.Equal(waited.Nominal) {
				continue
			}
			next[t.ID] = ring
			to := "none"
			if ring != nil {
				to = ring.Due.In(r.Location()).Format("Mon 2 Jan 2006 15:04 MST")
			}
			moved = append(moved, fmt.Sprintf("%s: %s becomes %s", j.Name, waited.Due.In(r.Location()).Format("Mon 2 Jan 2006 15:04 MST"), to))
		}
	}
	return next, moved
}

// reckonZones reckons all due times anew when the zone data is not that by which
// they were reckoned.
func (e *Engine) reckonZones(ctx context.Context) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		var was string
		known, err := t.Setting(ctx, zoneSetting, &was)
		if err != nil || was == zone.Version() {
			return err
		}
		if known {
			jobs, err := t.Jobs(ctx, "", 1_000_000)
			if err != nil {
				return err
			}
			ids := make([]int64, len(jobs))
			for i, j := range jobs {
				ids[i] = j.ID
			}
			if err := t.LockTriggers(ctx, ids); err != nil {
				return err
			}
			next, moved := e.reckon(jobs, e.o.Now())
			if err := t.MoveTriggers(ctx, next); err != nil {
				return err
			}
			e.o.Log.Warn("the time zone data is new; due times were reckoned again", "moved", len(moved), "rings", moved)
			if err := t.Audit(ctx, "ironbell", "reckon again", "setting", zoneSetting, map[string]string{"zones": was}, map[string]any{"zones": zone.Version(), "moved": moved}); err != nil {
				return err
			}
		}
		return t.PutSetting(ctx, zoneSetting, zone.Version())
	})
}

// prepare reads the calendars and reckons what new zone data has moved. It goes
// on until the database answers.
func (e *Engine) prepare(ctx context.Context) {
	for ctx.Err() == nil {
		err := e.times.refresh(ctx, e.store)
		if err == nil {
			err = e.reckonZones(ctx)
		}
		if err == nil {
			err = e.knowItself(ctx)
		}
		if err == nil {
			return
		}
		e.failed(ctx, "make ready", err)
	}
}

// isMissing tells whether an error says that there is no such record.
func isMissing(err error) bool {
	var missing *store.NotFound
	return errors.As(err, &missing)
}
