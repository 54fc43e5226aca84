package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/forecast"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) forecastOf(ctx context.Context, in *struct {
	From  time.Time `query:"from" doc:"now when left out"`
	To    time.Time `query:"to" doc:"seven days later when left out; at most 92 days"`
	Zone  string    `query:"zone" doc:"the zone of the signed-in person when left out"`
	Job   string    `query:"job" maxLength:"200" doc:"a part of the job's name"`
	Limit int       `query:"limit" minimum:"0" maximum:"5000" default:"1000"`
},
) (*struct{ Body wire.Forecast }, error) {
	who, _ := person(ctx)
	if err := known(in.From, in.To); err != nil {
		return nil, err
	}
	f, err := s.forecast(ctx, in.From, in.To, cmp.Or(in.Zone, who.Zone), in.Job, in.Limit)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.Forecast }{f}, nil
}

// foreseen are the triggers to look ahead for, beside what is told of their jobs.
type foreseen struct {
	entries  []forecast.Entry
	jobs     []job.Job // of each entry
	triggers []int64
	readings []string
}

// foresee gathers the triggers of the jobs that are on.
func (s *server) foresee(ctx context.Context, search string, from, to time.Time) (foreseen, error) {
	var f foreseen
	passing, err := s.Service.Jobs.Passing(ctx, from, to)
	if err != nil {
		return f, err
	}
	jobs, err := s.Store.Jobs(ctx, search, 200_000)
	if err != nil {
		return f, err
	}
	var on []job.Job
	var ids []int64
	for _, j := range jobs {
		if j.On && len(j.Triggers) > 0 {
			on, ids = append(on, j), append(ids, j.ID)
		}
	}
	last, err := s.Store.LastRuns(ctx, ids)
	if err != nil {
		return f, err
	}
	for _, j := range on {
		_, usual := lastOf(last, j.ID)
		for i, r := range s.Service.Jobs.Rules(j) {
			if r.Notation() == "" {
				continue // it can no longer be read
			}
			e := forecast.Entry{Rule: r}
			if passing.Any() {
				e.Over = func(due time.Time) string { return passing.Over(j.ID, due) }
			}
			if usual != nil {
				e.Usual = job.Seconds(*usual)
			}
			f.entries, f.jobs, f.readings = append(f.entries, e), append(f.jobs, j), append(f.readings, r.Reading())
			f.triggers = append(f.triggers, j.Triggers[i].ID)
		}
	}
	return f, nil
}

func (f foreseen) coming(r forecast.Ring) wire.Coming {
	j, e := f.jobs[r.Entry], f.entries[r.Entry]
	c := wire.Coming{
		JobID: j.ID, Job: j.Name, At: r.Due, Reading: f.readings[r.Entry], Passed: r.Passed,
		Reason: cmp.Or(r.Over, e.Rule.Reason(r.Ring)),
	}
	if e.Usual > 0 {
		usual := e.Usual.Seconds()
		c.Usual = &usual
	}
	if r.Moved() {
		nominal := r.Nominal
		c.Nominal = &nominal
	}
	return c
}

func (s *server) forecast(ctx context.Context, from, to time.Time, zoneName, search string,
	limit int,
) (wire.Forecast, error) {
	out := wire.Forecast{
		Rings: []wire.Coming{}, Hours: []wire.HourLoad{}, Minutes: []wire.Busy{}, Clashes: []wire.Clash{},
		Zone: zoneName, AtOnce: s.Node.Workers(),
	}
	z, err := zone.Load(zoneName)
	if err != nil {
		return out, huma.NewError(http.StatusUnprocessableEntity, err.Error())
	}
	if from.IsZero() {
		from = s.Now()
	}
	if to.IsZero() {
		to = from.AddDate(0, 0, 7)
	}
	if !to.After(from) || to.Sub(from) > forecastDays*24*time.Hour+time.Hour {
		return out,
			huma.NewError(http.StatusUnprocessableEntity,
				fmt.Sprintf("A forecast ends after it begins, and tells at most %d days.", forecastDays))
	}
	out.From, out.To = from.In(z), to.In(z)
	f, err := s.foresee(ctx, search, from, to)
	if err != nil {
		return out, err
	}
	sum := forecast.Look(f.entries, from, to, out.AtOnce, limit)
	out.Total, out.Moved, out.Passed = sum.Total, sum.Moved, sum.Passed
	for _, r := range sum.Rings {
		out.Rings = append(out.Rings, f.coming(r))
	}
	for _, h := range sum.Hours {
		out.Hours = append(out.Hours, wire.HourLoad{
			At: h.At.In(z), Rings: h.Rings, Busiest: h.Busiest.In(z), Most: h.Most, Working: h.Working,
		})
	}
	for _, m := range sum.Minutes {
		out.Minutes = append(out.Minutes, wire.Busy{At: m.At.In(z), Rings: m.Rings})
	}
	for _, c := range sum.Clashes {
		clash := wire.Clash{From: c.From.In(z), To: c.To.In(z), Most: c.Most, Jobs: []string{}}
		for _, i := range c.Entries {
			clash.Jobs = append(clash.Jobs, f.jobs[i].Name)
		}
		out.Clashes = append(out.Clashes, clash)
	}
	return out, nil
}
