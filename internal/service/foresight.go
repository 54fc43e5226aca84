package service

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"ironbell/internal/core/forecast"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/event"
)

// Bounds of what is looked ahead.
const (
	ForecastDays = 92      // of a forecast
	whatIfDays   = 366     // of what a change would do
	foreseenJobs = 200_000 // jobs that are looked at
	whatIfAtOnce = 2       // questions that are answered at the same time
)

// Foreseen are the triggers that a forecast looks ahead for, beside what is told of their jobs.
type Foreseen struct {
	forecast.Plan
	Jobs     []job.Job // of each entry
	Triggers []int64
	Readings []string
}

func (f *Foreseen) add(e forecast.Entry, j job.Job, trigger int64) {
	f.Entries, f.Jobs = append(f.Entries, e), append(f.Jobs, j)
	f.Triggers, f.Readings = append(f.Triggers, trigger), append(f.Readings, e.Rule.Reading())
}

// Forecast gathers the triggers of the jobs that are on and have a part in their name, with
// what holds their runs back. atOnce is how many runs the service works at once. What runs wait
// for is foreseen when all jobs are looked at, since they wait for each other.
func (fo *Foresight) Forecast(ctx context.Context, part string, from, to time.Time, atOnce int) (Foreseen, error) {
	o, err := fo.outlook(ctx, part, from, to, nil)
	if err != nil {
		return Foreseen{}, err
	}
	f := Foreseen{Plan: forecast.Plan{Room: forecast.Room{AtOnce: atOnce}}}
	if part == "" {
		f.Room = room(atOnce, o.limits, o.frozen)
	}
	for _, j := range o.jobs {
		for i, r := range fo.jobs.Rules(j) {
			if r.Notation() != "" { // it can be read
				f.add(o.entry(j, j.Triggers[i], r, o.labels[j.ID], o.frozen), j, j.Triggers[i].ID)
			}
		}
	}
	return f, nil
}

// outlook is what is known of the time ahead.
type outlook struct {
	jobs   []job.Job // that are on and ring by rules
	usual  map[int64]time.Duration
	labels map[int64][]string // of the jobs that carry one that is limited or frozen
	limits map[string]int
	frozen []job.Freeze
}

// outlook reads what is known of a time; more are labels that matter beside those that are
// limited or frozen now, and also are jobs that need not be on.
func (fo *Foresight) outlook(ctx context.Context, part string, from, to time.Time, more []string, also ...int64,
) (outlook, error) {
	var o outlook
	if err := fo.times.Refresh(ctx, fo.store); err != nil {
		return o, err
	}
	jobs, err := fo.store.Jobs(ctx, part, foreseenJobs)
	if err != nil {
		return o, err
	}
	var ids []int64
	for _, j := range jobs {
		if j.On && len(j.Triggers) > 0 {
			o.jobs, ids = append(o.jobs, j), append(ids, j.ID)
		}
	}
	// In the order in which they were made, in which rings of one instant get their runs.
	slices.SortFunc(o.jobs, func(a, b job.Job) int { return cmp.Compare(a.ID, b.ID) })
	last, err := fo.store.LastRuns(ctx, append(ids, also...))
	if err != nil {
		return o, err
	}
	o.usual = make(map[int64]time.Duration, len(last))
	for id, l := range last {
		if l.Usual != nil {
			o.usual[id] = job.Seconds(*l.Usual)
		}
	}
	if o.frozen, err = fo.store.FreezeOver(ctx, from, to); err != nil {
		return o, err
	}
	if o.limits, err = fo.freezes.Limits(ctx); err != nil {
		return o, err
	}
	labels := append(slices.Collect(maps.Keys(o.limits)), more...)
	for _, f := range o.frozen {
		labels = append(labels, f.Label)
	}
	if len(labels) > 0 {
		o.labels, err = fo.store.Carriers(ctx, labels)
	}
	return o, err
}

// room is what keeps runs waiting.
func room(atOnce int, limits map[string]int, frozen []job.Freeze) forecast.Room {
	r := forecast.Room{AtOnce: atOnce, Limits: limits}
	for _, f := range frozen {
		one := forecast.Frozen{Label: f.Label, From: f.From, Says: f.Reading()}
		for _, end := range []*time.Time{f.To, f.LiftedAt} {
			if end != nil && (one.To.IsZero() || end.Before(one.To)) {
				one.To = *end
			}
		}
		r.Frozen = append(r.Frozen, one)
	}
	return r
}

// entry is a trigger of a job to look ahead for, with the labels that the job carries.
func (o *outlook) entry(j job.Job, t job.Trigger, r rule.Rule, labels []string, frozen []job.Freeze,
) forecast.Entry {
	e := forecast.Entry{Rule: r, Usual: o.usual[j.ID], Work: forecast.Work{
		Job: int(j.ID), Values: t.Values.Over(j.Values).Key(), Labels: labels,
		Overlap: overlaps[cmp.Or(j.Overlap, job.OverlapWait)], Each: j.AfterOutage == job.OutageEach,
		Delay: time.Duration(j.Delay), Sooner: time.Duration(j.Priority) * policy.Ageing,
	}}
	if t.Wait != nil {
		e.Work.Held = "waits for " + event.WaitReading(*t.Wait)
	}
	if passes(frozen, labels) {
		e.Over = func(due time.Time) string {
			if f := job.FreezeOf(frozen, labels, due); f != nil && f.PassesOver() {
				return f.Reading()
			}
			return ""
		}
	}
	if place, err := zone.Load(j.Zone); err == nil && j.Deadline != (job.Deadline{}) {
		e.Work.Deadline = func(due time.Time) time.Time {
			at, _ := policy.DeadlineOf(j.Deadline, due.In(place))
			return at
		}
	}
	return e
}

// passes tells whether a freeze may pass over what carries some labels.
func passes(frozen []job.Freeze, labels []string) bool {
	return slices.ContainsFunc(frozen, func(f job.Freeze) bool { return slices.Contains(labels, f.Label) })
}

var overlaps = map[job.Overlap]forecast.Overlap{
	job.OverlapWait: forecast.Waits, job.OverlapPassOver: forecast.PassesOver, job.OverlapTogether: forecast.Together,
}
