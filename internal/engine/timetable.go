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
// given the ring that it waited for. Dates from that one on are still to come, or
// from a little before it when slack says that its date may have moved; one that
// now lies in the past rings at once, the latest of several.
func again(r rule.Rule, waited store.NextRing, now time.Time, slack time.Duration) *store.NextRing {
	// Closed days move rings that come once a day or less often, and no farther than this.
	farthest := slack
	if r.Moves() {
		farthest = 800 * 24 * time.Hour
	}
	first := waited.Nominal.Add(-slack)
	var past *store.NextRing
	for at := waited.Nominal.Add(-farthest).Add(-time.Second); ; {
		ring, ok := r.Step(at)
		if !ok {
			return past
		}
		at = ring.Due
		if ring.Nominal.Before(first) {
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
			ring := again(r, waited, now, 0)
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

// zoneBatch is how many triggers are reckoned anew in one transaction.
const zoneBatch = 500

// reckonZones reckons the due times to come anew that other zone data gave, batch by
// batch. What is due already stands, and is decided on by the clock. While a node
// with newer data works, what that node reckoned is left alone: the newest data wins.
func (e *Engine) reckonZones(ctx context.Context) error {
	var was string
	known, err := e.store.Setting(ctx, zoneSetting, &was)
	if err != nil {
		return err
	}
	if newer, err := e.store.NewerZones(ctx, e.zones); err != nil || newer {
		return err
	}
	if !known {
		was = e.zones // nothing was reckoned before
	}
	if was == e.zones {
		mixed, err := e.store.OtherZonesAlive(ctx, e.zones)
		if err != nil || known && !mixed {
			return err
		}
	}
	moved, total := []string{}, 0
	for after, more := int64(0), true; more && ctx.Err() == nil; {
		err := e.store.Do(ctx, func(t *store.Tx) error {
			batch, err := t.ReckonedBy(ctx, after, e.zones, was, was != e.zones, zoneBatch)
			if more = len(batch) == zoneBatch; err != nil || len(batch) == 0 {
				return err
			}
			after = batch[len(batch)-1].ID
			said, err := e.reckonBatch(ctx, t, batch)
			total += len(said)
			moved = append(moved, said[:min(len(said), max(0, maxMoved-len(moved)))]...)
			return err
		})
		if err != nil {
			return err
		}
	}
	if ctx.Err() != nil || was == e.zones && total == 0 {
		if known {
			return ctx.Err()
		}
	}
	if total > 0 || was != e.zones {
		e.o.Log.Warn("the time zone data is new; due times were reckoned again", "moved", total, "rings", moved)
	}
	return e.store.Do(ctx, func(t *store.Tx) error {
		if was != e.zones || total > 0 {
			if err := t.Audit(ctx, "ironbell", "reckon again", "setting", zoneSetting, map[string]string{"zones": was}, map[string]any{"zones": e.zones, "count": total, "moved": moved}); err != nil {
				return err
			}
		}
		return t.PutSetting(ctx, zoneSetting, e.zones)
	})
}

// maxMoved bounds how many rings are named that new zone data moved.
const maxMoved = 1000

// reckonBatch reckons locked triggers anew by this node's zone data and tells which
// rings moved.
func (e *Engine) reckonBatch(ctx context.Context, t *store.Tx, batch []store.OtherZones) (moved []string, err error) {
	if err := e.times.refresh(ctx, t); err != nil {
		return nil, err
	}
	now := e.o.Now()
	next, stand := map[int64]*store.NextRing{}, []int64{}
	for _, o := range batch {
		r, err := e.times.rule(o.Timing.V, o.Zone, o.Calendars.V)
		if err != nil || !o.NextDue.After(now) {
			// What cannot be read is set apart when it is due. What is due stands; the
			// clock knows by the zone data beside it what it was reckoned by.
			if err != nil {
				stand = append(stand, o.ID)
			}
			continue
		}
		waited := store.NextRing{Due: o.NextDue, Nominal: o.NextDue}
		if o.NextNominal != nil {
			waited.Nominal = *o.NextNominal
		}
		ring := again(r, waited, now, zoneSlack(r))
		if ring != nil && ring.Due.Equal(waited.Due) && ring.Nominal.Equal(waited.Nominal) {
			stand = append(stand, o.ID)
			continue
		}
		next[o.ID] = ring
		to := "none"
		if ring != nil {
			to = ring.Due.In(r.Location()).Format("Mon 2 Jan 2006 15:04 MST")
		}
		moved = append(moved, fmt.Sprintf("%s: %s becomes %s", o.Job, waited.Due.In(r.Location()).Format("Mon 2 Jan 2006 15:04 MST"), to))
	}
	if err := t.KeepDue(ctx, stand, e.zones); err != nil {
		return nil, err
	}
	return moved, t.MoveTriggers(ctx, next, e.zones)
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
