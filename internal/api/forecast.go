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
	"ironbell/internal/service"

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

// coming is a ring as it is told of, of a job and by a rule.
func coming(r forecast.Ring, e forecast.Entry, j job.Job) wire.Coming {
	c := wire.Coming{
		JobID: service.NumberOf(j), Job: j.Name, At: r.Due, Reading: e.Rule.Reading(), Passed: r.Passed,
		Reason: cmp.Or(r.Over, e.Rule.Reason(r.Ring)), Waits: r.Waits, Late: r.Late,
		Joins: r.Joins,
	}
	if e.Usual > 0 {
		usual := e.Usual.Seconds()
		c.Usual = &usual
	}
	if r.Moved() {
		nominal := r.Nominal
		c.Nominal = &nominal
	}
	if !r.Begins.IsZero() {
		begins := r.Begins
		c.Begins = &begins
	}
	return c
}

func (s *server) forecast(ctx context.Context, from, to time.Time, zoneName, search string,
	limit int,
) (wire.Forecast, error) {
	out := wire.Forecast{
		Rings: []wire.Coming{}, Hours: []wire.HourLoad{}, Minutes: []wire.Busy{}, Clashes: []wire.Clash{},
		Expected: []job.Expected{}, Zone: zoneName,
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
	if !to.After(from) || to.Sub(from) > service.ForecastDays*24*time.Hour+time.Hour {
		return out,
			huma.NewError(http.StatusUnprocessableEntity,
				fmt.Sprintf("A forecast ends after it begins, and tells at most %d days.", service.ForecastDays))
	}
	if out.AtOnce, err = s.atOnce(ctx); err != nil {
		return out, err
	}
	out.From, out.To = from.In(z), to.In(z)
	f, err := s.Service.Foresight.Forecast(ctx, search, from, to, out.AtOnce)
	if err != nil {
		return out, err
	}
	sum := forecast.Look(f.Entries, f.Room, from, to, limit)
	out.Total, out.Moved, out.Passed = sum.Total, sum.Moved, sum.Passed
	for _, r := range sum.Rings {
		out.Rings = append(out.Rings, coming(r, f.Entries[r.Entry], f.Jobs[r.Entry]))
	}
	if search == "" { // what runs wait for is known of all together
		out.Joined, out.Waiting, out.Stuck, out.Late = sum.Joined, sum.Waiting, sum.Stuck, sum.Late
	} else {
		for i := range out.Rings {
			r := &out.Rings[i]
			r.Begins, r.Waits, r.Joins, r.Late = nil, "", false, false
		}
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
		out.Clashes = append(out.Clashes, clashOf(c, f.Jobs, z))
	}
	out.Expected, err = s.Service.Foresight.Expected(ctx, search, from, to, s.Now(), service.MaxExpected)
	return out, err
}

// atOnce is how many parts all nodes together work at once that take work.
func (s *server) atOnce(ctx context.Context) (int, error) {
	nodes, err := s.Store.Nodes(ctx)
	all := 0
	for _, n := range nodes {
		if !n.Finishing {
			all += n.Workers
		}
	}
	return max(all, s.Node.Workers()), err
}

func clashOf(c forecast.Clash, jobs []job.Job, z *time.Location) wire.Clash {
	out := wire.Clash{From: c.From.In(z), To: c.To.In(z), Most: c.Most, Jobs: []string{}}
	for _, i := range c.Entries {
		out.Jobs = append(out.Jobs, jobs[i].Name)
	}
	return out
}
