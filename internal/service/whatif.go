package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/forecast"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/store/db"
)

// WouldBe is a change that somebody thinks of. What is nil stays as it is.
type WouldBe struct {
	Job      *JobWouldBe
	Calendar *CalendarWouldBe
	Limits   map[string]int // all of them
	Freeze   *job.Freeze
	Lift     int64 // a freeze that ends now
}

// JobWouldBe is a job as somebody would save it.
type JobWouldBe struct {
	Name, Owner string
	On          bool
	job.Definition
}

// CalendarWouldBe is a calendar as somebody would save it.
type CalendarWouldBe struct {
	Name string
	calendar.Definition
}

// WhatIf is what a change would do to the rings to come.
type WhatIf struct {
	forecast.Difference
	From      time.Time
	Was, Will Foreseen
	Notes     []string
}

// WhatIf tells which rings of a time would go, come, move, begin later or become late by a
// change, and where runs would clash, by comparing two forecasts. Nothing is changed. It is for
// those who may make the change. Its error is a *fault.Invalid when it is about what was written.
func (fo *Foresight) WhatIf(ctx context.Context, who job.Person, c WouldBe, from, to time.Time,
	atOnce, limit int,
) (WhatIf, error) {
	var out WhatIf
	if from.IsZero() {
		from = fo.now()
	}
	if to.IsZero() {
		days := ForecastDays
		if c.Calendar != nil {
			days = whatIfDays - 1 // its days come once a year
		}
		to = from.AddDate(0, 0, days)
	}
	if !to.After(from) || to.Sub(from) > whatIfDays*24*time.Hour+time.Hour {
		return out, fault.WrongField("the question", "to",
			fmt.Errorf("it ends after it begins, and looks at most %d days ahead", whatIfDays))
	}
	out.From = from
	ch, err := fo.read(ctx, who, c)
	if err != nil {
		return out, err
	}
	// Whoever writes on asks anew, and no longer waits for what was asked before.
	select {
	case fo.turns <- struct{}{}:
		defer func() { <-fo.turns }()
	case <-ctx.Done():
		return out, ctx.Err()
	}
	var also []int64
	if ch.was != nil {
		also = append(also, ch.was.ID)
	}
	o, err := fo.outlook(ctx, "", from, to, ch.labels, also...)
	if err != nil {
		return out, err
	}
	limits, frozen := o.limits, o.frozen
	if c.Limits != nil {
		limits = c.Limits
	}
	if ch.freeze != nil && !ch.freeze.From.After(to) && (ch.freeze.To == nil || ch.freeze.To.After(from)) {
		frozen = append(slices.Clone(frozen), *ch.freeze)
	}
	if c.Lift != 0 {
		frozen = fo.lifted(frozen, c.Lift)
	}
	s := sides{o: &o, frozen: frozen, fo: fo, calendar: ch.calendar}
	s.was.Room, s.will.Room = room(atOnce, o.limits, o.frozen), room(atOnce, limits, frozen)
	s.add(ch)
	out.Was, out.Will = s.was, s.will
	out.Difference = forecast.Compare(s.was.Plan, s.will.Plan, s.pairs, from, to, limit)
	if out.To.Before(to) {
		out.Notes = append(out.Notes, fmt.Sprintf("There are very many rings; these are those until %s.",
			out.To.UTC().Format("15:04 MST on Mon 2 January 2006")))
	}
	if len(s.unread) > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("Not looked at, since their rules cannot be read as it would be: %s.",
			strings.Join(s.unread, ", ")))
	}
	return out, nil
}

// lifted are freezes as they are when one of them ends now.
func (fo *Foresight) lifted(frozen []job.Freeze, id int64) []job.Freeze {
	frozen = slices.Clone(frozen)
	now := fo.now()
	for i := range frozen {
		if frozen[i].ID == id && frozen[i].LiftedAt == nil {
			frozen[i].LiftedAt = &now
		}
	}
	return frozen
}

// read is a change that was looked through.
type read struct {
	was      *job.Job // nil when there is none of the name
	job      *job.Job
	carries  []string // labels of the job
	calendar *calendar.Calendar
	freeze   *job.Freeze
	labels   []string // that would be limited or frozen
}

// read looks a change through and asks who may make it.
func (fo *Foresight) read(ctx context.Context, who job.Person, c WouldBe) (read, error) {
	var out read
	if c.Job == nil && c.Calendar == nil && c.Limits == nil && c.Freeze == nil && c.Lift == 0 {
		return out, fault.WrongField("the question", "job",
			errors.New("nothing is said of what would change: a job, a calendar, limits, a freeze, or one that is lifted"))
	}
	if c.Job != nil {
		if err := fo.readJob(ctx, who, *c.Job, &out); err != nil {
			return out, err
		}
	}
	if c.Calendar != nil {
		if err := access.May(who, access.Administer, "", ""); err != nil {
			return out, err
		}
		name, err := fo.store.Called(ctx, "calendar", c.Calendar.Name)
		if err != nil {
			return out, err
		}
		if out.calendar, err = fo.calendars.compile(name, c.Calendar.Definition); err != nil {
			return out, err
		}
	}
	if c.Limits != nil {
		if err := fo.freezes.checkLimits(ctx, who, c.Limits); err != nil {
			return out, err
		}
		out.labels = slices.Collect(maps.Keys(c.Limits))
	}
	if c.Freeze != nil {
		f, err := fo.freezes.readFreeze(ctx, who, *c.Freeze)
		if err != nil {
			return out, err
		}
		out.freeze, out.labels = &f, append(out.labels, f.Label)
	}
	if c.Lift != 0 {
		return out, fo.mayLift(ctx, who, c.Lift)
	}
	return out, nil
}

func (fo *Foresight) mayLift(ctx context.Context, who job.Person, id int64) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	all, err := fo.store.Freezes(ctx, false)
	if err == nil && !slices.ContainsFunc(all, func(f job.Freeze) bool { return f.ID == id }) {
		err = &db.NotFound{Kind: "freeze", Name: strconv.FormatInt(id, 10)}
	}
	return err
}

// readJob looks a job through as far as its rings and what holds its runs back go: it may be
// half written otherwise.
func (fo *Foresight) readJob(ctx context.Context, who job.Person, w JobWouldBe, out *read) error {
	name, err := fo.store.Called(ctx, "job", w.Name)
	if err != nil {
		return err
	}
	v := &fault.Invalid{What: fmt.Sprintf("job %q", name)}
	c, err := fo.jobs.check(ctx, v, who, name, w.Owner, false, w.Definition)
	if err != nil {
		return err
	}
	v.Wrong = slices.DeleteFunc(v.Wrong, func(f fault.Wrong) bool {
		return !strings.HasPrefix(f.Where, "triggers") && !strings.HasPrefix(f.Where, "calendars") &&
			f.Where != "zone" && f.Where != "deadline" && !strings.HasPrefix(f.Where, "deadline.")
	})
	if err := v.Err(); err != nil {
		return err
	}
	out.job = &job.Job{ID: c.old.ID, Name: name, On: w.On, Definition: c.Definition}
	if c.old.ID != 0 {
		out.was = &c.old
	} else {
		out.job.ID = newJob
	}
	out.carries = c.uses.Labels
	return nil
}

// newJob is the id of a job that has none yet: its place is after all others.
const newJob = math.MaxInt64

// NumberOf is the id of a job of a forecast; 0 when it has none yet.
func NumberOf(j job.Job) int64 {
	if j.ID == newJob {
		return 0
	}
	return j.ID
}

// sides are the triggers of a forecast as they are and as they would be.
type sides struct {
	fo       *Foresight
	o        *outlook
	frozen   []job.Freeze       // as it would be
	calendar *calendar.Calendar // as it would be, or nil

	was, will Foreseen
	pairs     []forecast.Pair
	unread    []string
}

// add adds all jobs, in the order of their numbers on both sides.
func (s *sides) add(c read) {
	changed := c.job == nil
	for _, j := range s.o.jobs {
		if !changed && j.ID >= c.job.ID {
			s.changed(c.was, *c.job, c.carries)
			changed = true
		}
		if c.job == nil || j.ID != c.job.ID {
			s.same(j)
		}
	}
	if !changed {
		s.changed(c.was, *c.job, c.carries)
	}
}

// same adds a job that stays as it is.
func (s *sides) same(j job.Job) {
	labels := s.o.labels[j.ID]
	for i, r := range s.fo.jobs.Rules(j) {
		if r.Notation() == "" {
			continue
		}
		t := j.Triggers[i]
		after, ok := s.rule(j, t.Timing, r)
		if !ok {
			s.unread = append(s.unread, j.Name)
		}
		s.pairs = append(s.pairs, forecast.Pair{Was: len(s.was.Jobs), Will: len(s.will.Jobs)})
		s.was.add(s.o.entry(j, t, r, labels, s.o.frozen), j, t.ID)
		s.will.add(s.o.entry(j, t, after, labels, s.frozen), j, t.ID)
	}
}

// rule is a rule of a job as it would be: by the calendar as it would be when the job goes by it.
func (s *sides) rule(j job.Job, t job.Timing, is rule.Rule) (rule.Rule, bool) {
	if s.calendar == nil || !slices.Contains(j.Calendars, s.calendar.Name()) {
		return is, true
	}
	all := make([]*calendar.Calendar, 0, len(j.Calendars))
	for _, name := range j.Calendars {
		c := s.calendar
		if name != c.Name() {
			var err error
			if c, err = s.fo.times.Calendar([]string{name}); err != nil {
				return rule.Rule{}, false
			}
		}
		all = append(all, c)
	}
	place, err := zone.Load(j.Zone)
	if err != nil {
		return rule.Rule{}, false
	}
	return t.Read(&fault.Invalid{}, "", place, calendar.Combine(all...))
}

// changed adds a job that changes. Its triggers of the same timing are pairs, and the rest in
// their order.
func (s *sides) changed(was *job.Job, will job.Job, carries []string) {
	var before, after []placed
	if was != nil && was.On {
		for i, r := range s.fo.jobs.Rules(*was) {
			if t := was.Triggers[i]; r.Notation() != "" {
				before = append(before, placed{len(s.was.Jobs), timingOf(*was, t)})
				s.was.add(s.o.entry(*was, t, r, s.o.labels[was.ID], s.o.frozen), *was, t.ID)
			}
		}
	}
	if will.On {
		for _, t := range will.Triggers {
			if t.Rule == "" {
				continue
			}
			is, err := s.fo.times.Rule(t.Timing, will.Zone, will.Calendars)
			r, ok := s.rule(will, t.Timing, is)
			if err != nil && s.calendar == nil || !ok {
				s.unread = append(s.unread, will.Name)
				continue
			}
			after = append(after, placed{len(s.will.Jobs), timingOf(will, t)})
			s.will.add(s.o.entry(will, t, r, carries, s.frozen), will, t.ID)
		}
	}
	s.pairs = append(s.pairs, pairs(before, after)...)
}

// placed is a trigger of one side.
type placed struct {
	at     int // in its side
	timing string
}

// timingOf is all that says when a trigger rings.
func timingOf(j job.Job, t job.Trigger) string {
	text, err := json.Marshal([]any{t.Timing, j.Zone, j.Calendars})
	if err != nil {
		return "" // there are no such values in it
	}
	return string(text)
}

func pairs(before, after []placed) []forecast.Pair {
	var out []forecast.Pair
	var rest []placed
	for _, a := range after {
		at := slices.IndexFunc(before, func(b placed) bool { return b.timing == a.timing })
		if at < 0 {
			rest = append(rest, a)
			continue
		}
		out = append(out, forecast.Pair{Was: before[at].at, Will: a.at})
		before = slices.Delete(before, at, at+1)
	}
	for i := range max(len(before), len(rest)) {
		p := forecast.Pair{Was: -1, Will: -1}
		if i < len(before) {
			p.Was = before[i].at
		}
		if i < len(rest) {
			p.Will = rest[i].at
		}
		out = append(out, p)
	}
	return out
}
