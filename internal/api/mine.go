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
	huma.Register(a,
		tags.post("add-own-schedule", "/api/own-schedules", "Have a report that is open to you sent to yourself",
			refuses(403, 404, 422), answers(http.StatusCreated),
			says("It is a job of yours, with you alone as recipient: switched, rung and removed as others. When the "+
				"report is no longer open to you its runs fail and say so.")), s.schedule)
	huma.Register(a,
		tags.put("change-own-schedule", "/api/own-schedules/{job}", "Change an own schedule", refuses(403, 404, 422)),
		s.changeSchedule)
}

func (s *server) schedule(ctx context.Context, in *struct{ Body job.OwnSchedule }) (*struct{ Body job.Job }, error) {
	return s.keepSchedule(ctx, "", in.Body)
}

func (s *server) changeSchedule(ctx context.Context, in *struct {
	JobPath
	Body job.OwnSchedule
},
) (*struct{ Body job.Job }, error) {
	return s.keepSchedule(ctx, in.Job, in.Body)
}

func (s *server) keepSchedule(ctx context.Context, name string, o job.OwnSchedule) (*struct{ Body job.Job }, error) {
	who, _ := person(ctx)
	j, err := s.Service.Jobs.Schedule(ctx, who, name, o)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Job }{j}, nil
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
	ids := make([]int64, len(m.Open))
	for i, o := range m.Open {
		ids[i] = o.ID
	}
	open, err := s.Store.JobsByID(ctx, ids)
	if err != nil {
		return nil, s.problem(err)
	}
	says := make(map[int64]string, len(open))
	for _, j := range open {
		says[j.ID] = s.Service.Jobs.WhenInWords(j)
	}
	for i, o := range m.Open {
		out.Open[i] = wire.OpenJob{
			JobID: o.ID, Job: o.Name, Owner: o.Owner, Says: says[o.ID], On: o.On, Joined: o.Joined && !o.Left,
		}
	}
	out.ToSchedule = make([]wire.OpenReport, len(m.Reports))
	for i, r := range m.Reports {
		out.ToSchedule[i] = wire.OpenReport{Report: r.Name, Title: r.Called(), Owner: r.Owner, Asks: len(r.Parameters)}
	}
	jobs, err := s.Store.JobsOwned(ctx, who.ID, mineJobs)
	var lines []wire.JobLine
	if err == nil {
		lines, err = s.linesOf(ctx, jobs)
	}
	out.Jobs, out.Schedules = []wire.JobLine{}, []wire.OwnScheduleLine{}
	for i, line := range lines {
		if o, ok := job.OwnOf(jobs[i].Definition, jobs[i].Owner); ok {
			out.Schedules = append(out.Schedules, wire.OwnScheduleLine{JobLine: line, OwnSchedule: o})
		} else {
			out.Jobs = append(out.Jobs, line)
		}
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
