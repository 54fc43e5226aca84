package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/civil"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/people"
)

// Reason is one thing that happened to a job, did not, or will, with its cause.
type Reason struct {
	At       time.Time    `json:"at"`
	What     string       `json:"what" enum:"ring,run,coming,switch,now" doc:"a decision on a due time, a run without one, a due time to come, a switch, or how things stand"`
	Sentence string       `json:"sentence" doc:"what happened and why"`
	Run      *job.RunID   `json:"run,omitempty"`
	State    job.RunState `json:"state,omitempty" doc:"of the run"`
}

const (
	maxReasons = 50
	whyForm    = "Mon 2 January 2006 15:04 MST"
)

// Why says why a job ran, or did not, around a time: a date, a date and time in
// the job's zone, or nothing for its last and next rings. The first reason
// answers; the rest is what lies around it.
func (js *Jobs) Why(ctx context.Context, name, at string) (job.Job, []Reason, error) {
	j, err := js.store.Job(ctx, name)
	if err != nil {
		return j, nil, err
	}
	place, err := zone.Load(j.Zone)
	if err != nil {
		return j, nil, err
	}
	if err := js.times.Refresh(ctx, js.store); err != nil {
		return j, nil, err
	}
	if at == "" {
		reasons, err := js.whyNow(ctx, j, place)
		return j, reasons, err
	}
	from, to, err := readAt(at, place)
	if err != nil {
		return j, nil, &fault.Invalid{Wrong: []fault.Wrong{{Where: "at", Sentence: err.Error()}}}
	}
	reasons, err := js.whyAt(ctx, j, place, from, to)
	return j, reasons, err
}

// readAt reads a date, or a date and time, which stands for its minute.
func readAt(text string, place *time.Location) (from, to time.Time, err error) {
	text = strings.TrimSpace(text)
	if t, err := time.ParseInLocation(time.DateOnly, text, place); err == nil && civil.Known(t.Year()) {
		return t, t.AddDate(0, 0, 1), nil
	}
	for _, layout := range []string{"2006-01-02 15:04", "2006-01-02T15:04", time.RFC3339} {
		if t, err := time.ParseInLocation(layout, text, place); err == nil && civil.Known(t.Year()) {
			t = t.In(place).Truncate(time.Minute)
			return t, t.Add(time.Minute), nil
		}
	}
	return from, to, fmt.Errorf("%q is no time; write it as 2026-12-25 or 2026-12-25 06:15", text)
}

// whyNow says how a job stands, what was decided last and what comes next.
func (js *Jobs) whyNow(ctx context.Context, j job.Job, place *time.Location) ([]Reason, error) {
	now := js.now()
	stands := Reason{At: now, What: "now", Sentence: "It is switched on."}
	switch {
	case !j.On:
		off, err := js.store.LastSwitch(ctx, j.Name, now)
		if err != nil {
			return nil, err
		}
		stands.Sentence = "It is switched off and rings not: " + saidSwitch(off, place) + "."
	case len(j.Triggers) == 0:
		stands.Sentence = "It has no trigger and runs on demand only."
	default:
		frozen, err := js.store.FreezeOver(ctx, now, now)
		if err != nil {
			return nil, err
		}
		labels, err := js.store.Labels(ctx, j.ID)
		if err != nil {
			return nil, err
		}
		if f := job.FreezeOf(frozen, labels, now); f != nil {
			stands.Sentence = "It is switched on and held back: " + f.Reading() + "."
		}
	}
	past, err := js.happenedTo(ctx, j, place, time.Time{}, now.Add(time.Second), 10)
	if err != nil {
		return nil, err
	}
	coming, err := js.coming(ctx, j, place, now, now.AddDate(0, 0, 90), 3)
	if err != nil {
		return nil, err
	}
	return append(append([]Reason{stands}, coming...), past...), nil
}

// whyAt says what happened in a span of time, and if nothing did, why not.
func (js *Jobs) whyAt(ctx context.Context, j job.Job, place *time.Location, from, to time.Time) ([]Reason, error) {
	now := js.now()
	reasons, err := js.happenedTo(ctx, j, place, from, to, maxReasons)
	if err != nil {
		return nil, err
	}
	slices.Reverse(reasons)
	if to.After(now) && j.On {
		coming, err := js.coming(ctx, j, place, maxTime(from.Add(-time.Second), now), to, maxReasons)
		if err != nil {
			return nil, err
		}
		reasons = append(reasons, coming...)
	}
	if len(reasons) > 0 {
		return reasons, nil
	}
	nothing, err := js.whyNothing(ctx, j, place, from, to)
	if err != nil {
		return nil, err
	}
	around := []Reason{nothing}
	before, err := js.happenedTo(ctx, j, place, time.Time{}, from, 2)
	if err != nil {
		return nil, err
	}
	around = append(around, before...)
	if j.On {
		coming, err := js.coming(ctx, j, place, maxTime(to.Add(-time.Second), now), to.AddDate(0, 0, 90), 2)
		if err != nil {
			return nil, err
		}
		around = append(around, coming...)
	}
	return around, nil
}

// saidRun says the state of a run with its reason, and nothing twice.
func saidRun(r job.Run) string {
	reason := strings.TrimSuffix(r.Reason, ".")
	if strings.HasPrefix(reason, string(r.State)) {
		return reason
	}
	return string(r.State) + ", " + reason
}

// saidSwitch says who switched a job, and when.
func saidSwitch(s people.Switched, place *time.Location) string {
	if s.At.IsZero() {
		return "it was saved so"
	}
	return fmt.Sprintf("%s switched it %s on %s", s.Who, map[bool]string{true: "off", false: "on"}[s.Off],
		s.At.In(place).Format(whyForm))
}

func maxTime(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// whyNothing says why a job has no decision in a span of time.
func (js *Jobs) whyNothing(ctx context.Context, j job.Job, place *time.Location, from, to time.Time) (Reason, error) {
	r := Reason{At: from, What: "now"}
	first, err := js.store.FirstSaved(ctx, j.Name)
	if err != nil {
		return r, err
	}
	now := js.now()
	switched, err := js.store.LastSwitch(ctx, j.Name, to)
	if err != nil {
		return r, err
	}
	span := from.In(place).Format("on Mon 2 January 2006")
	if to.Sub(from) <= time.Minute {
		span = "at " + from.In(place).Format(whyForm)
	}
	rings := false
	for i, rule := range js.Rules(j) {
		if j.Triggers[i].Rule == "" {
			continue
		}
		if step, ok := rule.Step(from.Add(-time.Second)); ok && step.Due.Before(to) {
			rings = true
		}
	}
	switch {
	case !first.IsZero() && first.After(to):
		r.Sentence = fmt.Sprintf("Not rung: the job was first saved on %s.", first.In(place).Format(whyForm))
	case switched.Off && !switched.At.IsZero():
		r.Sentence = fmt.Sprintf("Not rung: the job was switched off then: %s.", saidSwitch(switched, place))
	case !j.On && from.After(now):
		r.Sentence = fmt.Sprintf("It will not ring %s: it is switched off.", span)
	case len(j.Triggers) == 0:
		r.Sentence = "Not rung: it has no trigger and runs on demand only."
	case rings:
		r.Sentence = fmt.Sprintf("Its rules name a time %s now, but they, or their calendar, were changed since, or "+
			"the job was saved or switched on after it: nothing was due then.", span)
	default:
		var readings []string
		for _, t := range js.Described(j).Triggers {
			readings = append(readings, t.Reading)
		}
		r.Sentence = fmt.Sprintf("Not rung: its rules name no time %s. It rings %s (%s).", span,
			strings.Join(readings, "; "), j.Zone)
	}
	return r, nil
}

// happenedTo lists the decisions and runs of a span of due times, newest first.
func (js *Jobs) happenedTo(ctx context.Context, j job.Job, place *time.Location, from, to time.Time,
	limit int,
) ([]Reason, error) {
	rings, err := js.store.Rings(ctx, j.ID, to, limit)
	if err != nil {
		return nil, err
	}
	runs, err := js.store.Runs(ctx, history.RunFilter{JobID: j.ID, From: from, To: to, Limit: 4 * limit})
	if err != nil {
		return nil, err
	}
	if err := js.asked.WaitsNow(ctx, runs); err != nil {
		return nil, err
	}
	byID := map[job.RunID]job.Run{}
	for _, r := range runs {
		byID[r.ID] = r
	}
	var reasons []Reason
	told := map[job.RunID]bool{}
	for _, ring := range rings {
		if ring.Due.Before(from) {
			continue
		}
		r := Reason{At: ring.Due, What: "ring", Run: ring.RunID}
		when := ring.Due.In(place).Format(whyForm)
		switch ring.Decision {
		case job.RingPassedOver:
			r.Sentence = fmt.Sprintf("Not rung at %s: %s.", when, ring.Reason)
		case job.RingJoined:
			r.Sentence = fmt.Sprintf("Rang at %s and %s.", when, ring.Reason)
		default:
			r.Sentence = fmt.Sprintf("Rang at %s, %s.", when, ring.Reason)
		}
		if ring.RunID != nil {
			run, ok := byID[*ring.RunID]
			if !ok {
				if run, err = js.store.Run(ctx, *ring.RunID); err != nil && !db.IsMissing(err) {
					return nil, err
				}
				ok = err == nil
			}
			if ok {
				r.State = run.State
				r.Sentence += fmt.Sprintf(" Run %s: %s.", run.ID, saidRun(run))
			} else {
				r.Sentence += fmt.Sprintf(" Run %s is kept no longer.", *ring.RunID)
			}
			told[*ring.RunID] = true
		}
		reasons = append(reasons, r)
	}
	for _, run := range runs {
		if told[run.ID] ||
			run.TriggerID != nil && run.Again == nil && from.IsZero() && len(rings) == limit &&
				run.Due.Before(rings[len(rings)-1].Due) {
			continue
		}
		id := run.ID
		reasons = append(reasons, Reason{
			At: run.Due, What: "run", Run: &id, State: run.State,
			Sentence: fmt.Sprintf("%s Run %s, due %s: %s.", run.Why, run.ID, run.Due.In(place).Format(whyForm),
				saidRun(run)),
		})
	}
	slices.SortStableFunc(reasons, func(a, b Reason) int { return b.At.Compare(a.At) })
	return reasons[:min(len(reasons), limit)], nil
}

// coming lists the due times of a job in (after, until) with what will be
// decided on them as things stand.
func (js *Jobs) coming(ctx context.Context, j job.Job, place *time.Location, after, until time.Time,
	limit int,
) ([]Reason, error) {
	passing, err := js.Passing(ctx, after, until)
	if err != nil {
		return nil, err
	}
	var reasons []Reason
	for i, rule := range js.Rules(j) {
		if j.Triggers[i].Rule == "" {
			continue
		}
		n := 0
		for ring, ok := rule.Step(after); ok && ring.Due.Before(until) && n < limit; ring, ok = rule.Step(ring.Due) {
			n++
			r := Reason{At: ring.Due, What: "coming"}
			when := ring.Due.In(place).Format(whyForm)
			switch {
			case ring.Passed:
				r.Sentence = fmt.Sprintf("It will not ring at %s: %s.", when, rule.Reason(ring))
			case passing.Over(j.ID, ring.Due) != "":
				r.Sentence = fmt.Sprintf("It will not ring at %s: %s, and rings are passed over meanwhile.", when,
					passing.Over(j.ID, ring.Due))
			case passing.Waits(j.ID, ring.Due) != "":
				r.Sentence = fmt.Sprintf("It will ring at %s, and wait: %s.", when, passing.Waits(j.ID, ring.Due))
			case ring.Moved():
				r.Sentence = fmt.Sprintf("It will ring at %s: %s.", when, rule.Reason(ring))
			default:
				r.Sentence = fmt.Sprintf("It will ring at %s, by its rule: %s.", when, rule.Reading())
			}
			reasons = append(reasons, r)
		}
	}
	slices.SortStableFunc(reasons, func(a, b Reason) int { return a.At.Compare(b.At) })
	return reasons[:min(len(reasons), limit)], nil
}
