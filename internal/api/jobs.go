package api

import (
	"context"
	"net/http"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/service"
	"ironbell/internal/store/history"
	"ironbell/internal/store/records"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) jobs(a huma.API) {
	tags := subject("jobs")
	huma.Register(a, tags.get("list-jobs", "/api/jobs", "List jobs by name"), s.listJobs)
	huma.Register(a, tags.get("show-job", "/api/jobs/{job}", "Show a job"), s.showJob)
	huma.Register(a,
		tags.put("save-job", "/api/jobs/{job}", "Add a job, or change the one of this name", refuses(403, 422),
			upTo(maxBody)), s.saveJob)
	huma.Register(a,
		tags.post("try-job", "/api/jobs/{job}/ahead", "Say what a job would do, before it is saved", refuses(403),
			upTo(maxBody),
			says("Its next rings, the names of its files, who gets them, and what is missing. Nothing is saved and "+
				"nothing is sent.")), s.tryJob)
	huma.Register(a,
		tags.get("look-ahead", "/api/jobs/{job}/ahead", "Say what a job will do when it rings next", refuses(403, 404)),
		s.lookAhead)
	huma.Register(a,
		tags.post("ask-job", "/api/jobs/{job}/values", "Say which values a job takes, and what each would be by itself",
			refuses(403, 404, 422), upTo(maxBody),
			says("For its next ring, for the ring of one of its triggers, or for a date; of the job as it is saved or of "+
				"one that is being written. With the choices that there are and what is wrong.")), s.askJob)
	huma.Register(a,
		tags.post("switch-job", "/api/jobs/{job}/switch", "Switch a job on or off",
			says("Takes effect at once. Every setting is kept.")), s.switchJob)
	huma.Register(a,
		tags.post("ring-job", "/api/jobs/{job}/ring", "Ring a job now", answers(http.StatusCreated),
			says("Works for a job that is switched off, too.")), s.ringJob)
	huma.Register(a,
		tags.post("run-past", "/api/jobs/{job}/past", "Run a job for past dates, as if it had rung then",
			answers(http.StatusCreated),
			says("Makes a run for each time at which the job's rules ring on these dates, with its date and the "+
				"trigger's values; at most 400. A single date on which they do not ring makes one run for that date.")),
		s.runPast)
	huma.Register(a, tags.get("why-job", "/api/jobs/{job}/why", "Say why a job ran, or did not"), s.whyJob)
}

func (s *server) listJobs(ctx context.Context, in *struct {
	Search string `query:"search" maxLength:"200" doc:"a part of the name"`
	Limit  int    `query:"limit" minimum:"1" maximum:"5000" default:"500"`
},
) (*struct{ Body []wire.JobLine }, error) {
	lines, err := s.jobLines(ctx, in.Search, in.Limit)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []wire.JobLine }{lines}, nil
}

func (s *server) showJob(ctx context.Context, in *JobPath) (*struct{ Body wire.JobPage }, error) {
	page, err := s.jobPage(ctx, in.Job)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.JobPage }{page}, nil
}

func (s *server) askJob(ctx context.Context, in *struct {
	JobPath
	Body wire.AskedRequest
},
) (*struct{ Body wire.AskedValues }, error) {
	who, _ := person(ctx)
	f := service.AskFor{Trigger: -1, Given: in.Body.Values}
	if in.Body.Trigger != nil {
		f.Trigger = *in.Body.Trigger
	}
	if in.Body.Date != nil {
		f.Nominal = *in.Body.Date
	}
	var d *job.Definition
	if in.Body.Definition != nil {
		d = &in.Body.Definition.Definition
	}
	asked, err := s.Service.Jobs.Asked(ctx, who, in.Job, d, f)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.AskedValues{Zone: asked.Zone, Nominal: asked.Nominal, Values: make([]wire.Asked, len(asked.Values))}
	for i, a := range asked.Values {
		out.Values[i] = wire.Asked{Offered: a.Offered, BySelf: a.BySelf, From: a.From}
	}
	return &struct{ Body wire.AskedValues }{out}, nil
}

func (s *server) saveJob(ctx context.Context, in *struct {
	JobPath
	Body wire.JobRequest
},
) (*struct{ Body job.Job }, error) {
	who, _ := person(ctx)
	j, err := s.Service.Jobs.Save(ctx, who, in.Job, in.Body.Owner, in.Body.On, in.Body.Definition)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Job }{j}, nil
}

func (s *server) tryJob(ctx context.Context, in *struct {
	JobPath
	Body wire.JobRequest
},
) (*struct{ Body job.Ahead }, error) {
	who, _ := person(ctx)
	out, err := s.Service.Jobs.Ahead(ctx, who, in.Job, in.Body.Owner, in.Body.On, in.Body.Definition)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Ahead }{out}, nil
}

func (s *server) lookAhead(ctx context.Context, in *JobPath) (*struct{ Body job.Ahead }, error) {
	who, _ := person(ctx)
	out, err := s.Service.Jobs.AheadOf(ctx, who, in.Job)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Ahead }{out}, nil
}

func (s *server) switchJob(ctx context.Context, in *struct {
	JobPath
	Body wire.SwitchRequest
},
) (*struct{ Body job.Job }, error) {
	who, _ := person(ctx)
	j, err := s.Service.Jobs.Switch(ctx, who, in.Job, in.Body.On)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Job }{j}, nil
}

func (s *server) ringJob(ctx context.Context, in *struct {
	JobPath
	Body wire.RingRequest
},
) (*struct{ Body job.Run }, error) {
	who, _ := person(ctx)
	runs, err := s.Service.Runs.Ring(ctx, who, in.Job, service.Ask{Values: in.Body.Values, Rehearse: in.Body.Rehearse})
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Run }{runs[0]}, nil
}

func (s *server) runPast(ctx context.Context, in *struct {
	JobPath
	Body wire.PastRequest
},
) (*struct{ Body []job.Run }, error) {
	who, _ := person(ctx)
	runs, err := s.Service.Runs.Ring(ctx, who, in.Job, service.Ask{
		Values: in.Body.Values, Rehearse: in.Body.Rehearse, From: in.Body.From, To: in.Body.To,
	})
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Run }{runs}, nil
}

func (s *server) whyJob(ctx context.Context, in *struct {
	JobPath
	At string `query:"at" maxLength:"30" doc:"a date, or a date and time in the job's zone, such as 2026-12-25 06:15; the last and next rings when left out"`
},
) (*struct{ Body wire.Why }, error) {
	j, reasons, err := s.Service.Jobs.Why(ctx, in.Job, in.At)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.Why{Job: j.Name, Zone: j.Zone, Reasons: []wire.Reason{}}
	for _, r := range reasons {
		out.Reasons = append(out.Reasons, wire.Reason(r))
	}
	return &struct{ Body wire.Why }{out}, nil
}

func (s *server) jobLines(ctx context.Context, search string, limit int) ([]wire.JobLine, error) {
	jobs, err := s.Store.Jobs(ctx, search, limit)
	if err != nil {
		return nil, err
	}
	return s.linesOf(ctx, jobs)
}

func (s *server) linesOf(ctx context.Context, jobs []job.Job) ([]wire.JobLine, error) {
	ids := make([]int64, len(jobs))
	for i, j := range jobs {
		ids[i] = j.ID
	}
	last, err := s.lastRuns(ctx, ids)
	if err != nil {
		return nil, err
	}
	lines := make([]wire.JobLine, len(jobs))
	for i, j := range jobs {
		j = s.Service.Jobs.Described(j)
		line := wire.JobLine{ID: j.ID, Name: j.Name, Owner: j.Owner, On: j.On, Zone: j.Zone, Readings: []string{}}
		for _, t := range j.Triggers {
			line.Readings = append(line.Readings, t.Reading)
			if t.NextDue != nil && (line.NextDue == nil || t.NextDue.Before(*line.NextDue)) {
				line.NextDue = t.NextDue
			}
		}
		line.Last, line.Usual = lastOf(last, j.ID)
		lines[i] = line
	}
	return lines, nil
}

// lastRuns are the newest runs of jobs, with what they wait for now.
func (s *server) lastRuns(ctx context.Context, jobs []int64) (map[int64]history.LastRun, error) {
	last, err := s.Store.LastRuns(ctx, jobs)
	if err != nil {
		return nil, err
	}
	runs := make([]job.Run, 0, len(last))
	for _, l := range last {
		runs = append(runs, job.Run{ID: l.ID, JobID: l.JobID, State: l.State, Reason: l.Reason})
	}
	err = s.Service.Runs.WaitsNow(ctx, runs)
	for _, r := range runs {
		l := last[r.JobID]
		l.Reason = r.Reason
		last[r.JobID] = l
	}
	return last, err
}

func (s *server) jobPage(ctx context.Context, name string) (wire.JobPage, error) {
	j, err := s.Store.Job(ctx, name)
	if err != nil {
		return wire.JobPage{}, err
	}
	page := wire.JobPage{Job: s.Service.Jobs.Described(j)}
	last, err := s.lastRuns(ctx, []int64{j.ID})
	if err != nil {
		return page, err
	}
	page.Last, page.Usual = lastOf(last, j.ID)
	now := s.Now()
	passing, err := s.Service.Jobs.Passing(ctx, now, now.AddDate(0, 0, 90))
	if err != nil {
		return page, err
	}
	page.Upcoming = s.Service.Jobs.Upcoming(j, passing, now, now.AddDate(0, 0, 90), 20)
	if page.Rings, err = s.Store.Rings(ctx, j.ID, now.AddDate(1, 0, 0), 50); err != nil {
		return page, err
	}
	page.ReadAs, err = s.readAs(ctx, j.Tasks)
	return page, err
}

// readAs says as whom each report task reads.
func (s *server) readAs(ctx context.Context, tasks []job.Task) (map[string]string, error) {
	said := map[string]string{}
	for _, t := range tasks {
		if t.Report == nil {
			continue
		}
		r, err := s.Store.Report(ctx, t.Report.Report)
		if isNotFound(err) {
			continue // the run will say so
		}
		if err != nil {
			return nil, err
		}
		identity := r.Identity
		if t.Report.Identity != "" {
			identity = t.Report.Identity
		}
		if identity != "" {
			said[t.Name] = identity + " of " + r.Source
			continue
		}
		said[t.Name] = "the login of " + r.Source
		switch source, err := s.Store.Place(ctx, records.Source, r.Source); {
		case err != nil && !isNotFound(err):
			return nil, err
		case err == nil && source.Writes != "":
			said[t.Name] += ", which can write"
		}
	}
	return said, nil
}

// JobPath names a job in an address.
type JobPath struct {
	Job string `path:"job" maxLength:"200" doc:"id or name"`
}

func lastOf(all map[int64]history.LastRun, id int64) (*wire.LastRun, *float64) {
	l, ok := all[id]
	if !ok {
		return nil, nil
	}
	return &wire.LastRun{ID: l.ID, State: l.State, Reason: l.Reason, Due: l.Due}, l.Usual
}
