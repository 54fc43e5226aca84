package api

import (
	"context"
	"net/http"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/store/people"

	"github.com/danielgtaylor/huma/v2"
)

const mineJobs = 1000 // of one's own that are listed

// mine registers what concerns the signed-in person alone.
func (s *server) mine(a huma.API) {
	tags := subject("recipients")
	huma.Register(a,
		tags.get("show-mine", "/api/mine", "Show what you receive and may join, what you own, and what waits for you"),
		s.showMine)
	huma.Register(a,
		tags.post("join-job", "/api/jobs/{job}/join", "Get the mails of a job that is open to you",
			refuses(403, 404, 422), answers(http.StatusNoContent)), s.joinJob(true))
	huma.Register(a,
		tags.post("unjoin-job", "/api/jobs/{job}/unjoin", "No longer get the mails of a job that you joined",
			refuses(404, 422), answers(http.StatusNoContent)), s.joinJob(false))
}

func (s *server) joinJob(join bool) func(ctx context.Context, in *JobPath) (*struct{}, error) {
	return func(ctx context.Context, in *JobPath) (*struct{}, error) {
		who, _ := person(ctx)
		return nil, s.orProblem(s.Service.People.Join(ctx, who, in.Job, join))
	}
}

func (s *server) showMine(ctx context.Context, _ *struct{}) (*struct{ Body wire.Mine }, error) {
	who, _ := person(ctx)
	m, err := s.Service.People.Mine(ctx, who, recordDays)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.Mine{
		Receives: receivesOf(m.Receives), Open: make([]wire.OpenJob, len(m.Open)),
		Alerts: append([]job.Alert{}, m.Alerts...), Unknown: askingOf(m.Unknown), Consents: askingOf(m.Consents),
	}
	for i, o := range m.Open {
		out.Open[i] = wire.OpenJob{JobID: o.ID, Job: o.Name, Owner: o.Owner, On: o.On, Joined: o.Joined && !o.Left}
		if j, err := s.Store.Job(ctx, o.Name); err == nil {
			out.Open[i].Says = s.Service.Jobs.WhenInWords(j)
		}
	}
	jobs, err := s.Store.JobsOwned(ctx, who.ID, mineJobs)
	if err == nil {
		out.Jobs, err = s.linesOf(ctx, jobs)
	}
	if err == nil {
		out.Reports, err = s.Store.ReportsOwned(ctx, who.ID, mineJobs)
	}
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.Mine }{out}, nil
}

func askingOf(all []people.Asking) []wire.Asking {
	out := make([]wire.Asking, len(all))
	for i, a := range all {
		out[i] = wire.Asking{Delivery: a.ID, Run: a.RunID, JobID: a.JobID, Job: a.Job, Address: a.Address, Since: a.Since}
	}
	return out
}

func receivesOf(gets []people.Gets) []wire.Receives {
	out := make([]wire.Receives, len(gets))
	for i, g := range gets {
		out[i] = wire.Receives{
			Job: g.Job, JobID: g.JobID, Sent: g.Sent, LastAt: g.LastAt, Last: g.LastWord, Left: g.Left,
			MayLeave: g.MayLeave,
		}
	}
	return out
}
