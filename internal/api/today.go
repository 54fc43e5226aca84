package api

import (
	"context"
	"net/http"
	"slices"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/civil"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/service"
	"ironbell/internal/store/history"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) today(a huma.API) {
	huma.Register(a,
		subject("runs").get("day", "/api/day", "A day of the tape: what ran, what is to come, what needs attention"),
		s.dayOf)
}

func (s *server) dayOf(ctx context.Context, in *struct {
	Date string `query:"date" format:"date" doc:"today when left out"`
	Zone string `query:"zone" doc:"whose midnight counts; the zone of the signed-in person when left out"`
},
) (*struct{ Body wire.Day }, error) {
	who, _ := person(ctx)
	if in.Zone == "" {
		in.Zone = who.Zone
	}
	zone, err := zone.Load(in.Zone)
	if err != nil {
		return nil, huma.NewError(http.StatusUnprocessableEntity, err.Error())
	}
	now := s.Now().In(zone)
	at := now
	if in.Date != "" {
		if at, err = time.ParseInLocation(time.DateOnly, in.Date, zone); err != nil || !civil.Known(at.Year()) {
			return nil, huma.NewError(http.StatusUnprocessableEntity, in.Date+" is no date; write it as 2026-11-23")
		}
	}
	day, err := s.day(ctx, at, now)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.Day }{day}, nil
}

func (s *server) day(ctx context.Context, at, now time.Time) (wire.Day, error) {
	y, m, d := at.Date()
	from := time.Date(y, m, d, 0, 0, 0, 0, at.Location())
	to := time.Date(y, m, d+1, 0, 0, 0, 0, at.Location())
	day := wire.Day{
		Date: from.Format(time.DateOnly), Zone: at.Location().String(), From: from, To: to, Now: now,
		Runs: []wire.Mark{}, Upcoming: []wire.Coming{}, Next: []wire.Coming{}, Running: []wire.Mark{},
	}
	runs, err := s.Store.Runs(ctx, history.RunFilter{From: from, To: to, Limit: maxMarks})
	if err == nil {
		err = s.Service.Runs.WaitsNow(ctx, runs)
	}
	if err != nil {
		return day, err
	}
	if day.Counts, err = s.Store.CountByState(ctx, from, to); err != nil {
		return day, err
	}
	if day.Attention, err = s.Store.Alerts(ctx, []string{string(job.AlertOpen), string(job.AlertAcknowledged)},
		50); err != nil {
		return day, err
	}
	jobs, err := s.Store.Jobs(ctx, "", 5000)
	if err != nil {
		return day, err
	}
	ids := make([]int64, len(jobs))
	for i, j := range jobs {
		ids[i] = j.ID
	}
	last, err := s.Store.LastRuns(ctx, ids)
	if err != nil {
		return day, err
	}
	working, err := s.Store.Runs(ctx, history.RunFilter{States: []string{"running", "delivering"}, Limit: 50})
	if err == nil {
		err = s.Service.Runs.WaitsNow(ctx, working)
	}
	if err != nil {
		return day, err
	}
	for _, r := range working {
		day.Running = append(day.Running, mark(r, last))
	}
	var late []float64
	for _, r := range runs {
		day.Runs = append(day.Runs, mark(r, last))
		if r.TriggerID != nil && r.StartedAt != nil {
			late = append(late, r.StartedAt.Sub(r.Due).Seconds())
		}
	}
	slices.Reverse(day.Runs)
	if len(late) > 0 {
		slices.Sort(late)
		median := max(late[len(late)/2], 0)
		day.Lateness = &median
	}
	passing, err := s.Service.Jobs.Passing(ctx, now, now.AddDate(0, 0, 7))
	if err != nil {
		return day, err
	}
	day.Upcoming = s.coming(jobs, passing, last, now, to, maxComing)
	day.Next = s.coming(jobs, passing, last, now, now.AddDate(0, 0, 7), 8)
	return day, nil
}

// coming lists the rings of all jobs in (after, until], earliest first.
func (s *server) coming(jobs []job.Job, passing service.Passing, last map[int64]history.LastRun, after, until time.Time,
	limit int,
) []wire.Coming {
	all := []wire.Coming{}
	for _, j := range jobs {
		_, usual := lastOf(last, j.ID)
		described := s.Service.Jobs.Described(j)
		reading := ""
		for i, t := range described.Triggers {
			if i > 0 {
				reading += "; "
			}
			reading += t.Reading
		}
		for _, at := range s.Service.Jobs.Upcoming(j, passing, after, until, limit) {
			all = append(all, wire.Coming{JobID: j.ID, Job: j.Name, At: at, Usual: usual, Reading: reading})
		}
	}
	slices.SortStableFunc(all, func(a, b wire.Coming) int { return a.At.Compare(b.At) })
	return all[:min(len(all), limit)]
}

const (
	maxMarks  = 3000
	maxComing = 2000
)

func mark(r job.Run, last map[int64]history.LastRun) wire.Mark {
	_, usual := lastOf(last, r.JobID)
	if r.Rehearsal {
		r.Job += " (rehearsal)"
	}
	return wire.Mark{
		ID: r.ID, JobID: r.JobID, Job: r.Job, State: r.State, Reason: r.Reason, Due: r.Due, StartedAt: r.StartedAt,
		EndedAt: r.EndedAt, Usual: usual,
	}
}
