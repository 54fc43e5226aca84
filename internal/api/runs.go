package api

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/chain"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/render"
	"ironbell/internal/service"
	"ironbell/internal/store/history"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) runs(a huma.API) {
	tags := subject("runs")
	huma.Register(a, tags.get("list-runs", "/api/runs", "List runs, newest first"), s.listRuns)
	huma.Register(a,
		tags.get("show-run", "/api/runs/{run}", "Show a run with its attempts, files, deliveries and alerts"),
		s.showRun)
	huma.Register(a, tags.get("run-log", "/api/runs/{run}/log", "Read a run's log"), s.runLog)
	huma.Register(a,
		tags.post("run-again", "/api/runs/{run}/again",
			"Let a run go on where it failed or was held, or make it again as a whole", refuses(403, 422),
			says("A run that goes on keeps what was done and what was sent: nobody gets a second copy. A whole one "+
				"is a new run of the same date.")), s.runAgain)
	huma.Register(a,
		tags.post("cancel-run", "/api/runs/{run}/cancel", "Cancel a run", refuses(403, 422),
			says("What has not begun does not begin, what works is stopped; what is being handed over may still arrive.")), s.cancelRun)
	huma.Register(a, huma.Operation{
		OperationID: "fetch-file", Method: http.MethodGet, Path: "/api/files/{file}",
		Summary: "Fetch a file that a run made", Tags: tags.tags(),
		Responses: map[string]*huma.Response{"200": {
			Description: "The file", Content: map[string]*huma.MediaType{"application/octet-stream": {}},
		}},
	}, s.fetchFile)
}

func (s *server) listRuns(ctx context.Context, in *struct {
	Job    string   `query:"job" maxLength:"200" doc:"id or name"`
	State  []string `query:"state" enum:"waiting,running,delivering,done,partly,blank,failed,cancelled,passed over"`
	Before string   `query:"before" maxLength:"30" doc:"older than this run, to read on"`
	Limit  int      `query:"limit" minimum:"1" maximum:"1000" default:"100"`
},
) (*struct{ Body []job.Run }, error) {
	f := history.RunFilter{States: in.State, Limit: in.Limit}
	if in.Before != "" {
		id, err := runID(in.Before)
		if err != nil {
			return nil, err
		}
		f.Before = id
	}
	if in.Job != "" {
		j, err := s.Store.Job(ctx, in.Job)
		if err != nil {
			return nil, s.problem(err)
		}
		f.JobID = j.ID
	}
	runs, err := s.Store.Runs(ctx, f)
	if err == nil {
		err = s.Service.Runs.WaitsNow(ctx, runs)
	}
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Run }{runs}, nil
}

func (s *server) showRun(ctx context.Context, in *RunPath) (*struct{ Body wire.RunPage }, error) {
	id, err := runID(in.Run)
	if err != nil {
		return nil, err
	}
	page, err := s.runPage(ctx, id)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.RunPage }{page}, nil
}

func (s *server) runLog(ctx context.Context, in *struct {
	RunPath
	After int64 `query:"after" minimum:"0" doc:"number of the last line that is known"`
},
) (*struct{ Body []job.LogLine }, error) {
	id, err := runID(in.Run)
	if err != nil {
		return nil, err
	}
	lines, err := s.Store.RunLog(ctx, id, in.After)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.LogLine }{lines}, nil
}

func (s *server) runAgain(ctx context.Context, in *struct {
	RunPath
	Body wire.AgainRequest
},
) (*struct{ Body job.Run }, error) {
	id, err := runID(in.Run)
	if err != nil {
		return nil, err
	}
	who, _ := person(ctx)
	run, err := s.Service.Runs.Again(ctx, who, id, service.More(in.Body))
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Run }{run}, nil
}

func (s *server) cancelRun(ctx context.Context, in *RunPath) (*struct{ Body job.Run }, error) {
	id, err := runID(in.Run)
	if err != nil {
		return nil, err
	}
	who, _ := person(ctx)
	run, err := s.Service.Runs.Cancel(ctx, who, id)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Run }{run}, nil
}

func (s *server) fetchFile(ctx context.Context, in *struct {
	File int64 `path:"file"`
},
) (*huma.StreamResponse, error) {
	f, err := s.artifact(ctx, in.File)
	if err != nil {
		return nil, s.problem(err)
	}
	who, _ := person(ctx)
	if err := s.Service.Runs.MayFetch(ctx, who, f.RunID, f.Key); err != nil {
		return nil, s.problem(err)
	}
	if f.RemovedAt != nil {
		return nil,
			huma.NewError(http.StatusGone,
				fmt.Sprintf("The file %q was removed on %s: its job keeps files for so long. Run it again for the "+
					"same date to make it anew.", f.Name, f.RemovedAt.UTC().Format("2 January 2006 15:04 MST")))
	}
	return s.file(ctx, f,
		func(ctx context.Context, f job.Artifact) (io.ReadSeekCloser, error) { return s.Files.Open(ctx, f.Key) },
		func() {}, nil), nil
}

func (s *server) runPage(ctx context.Context, id job.RunID) (wire.RunPage, error) {
	run, err := s.Store.Run(ctx, id)
	if err != nil {
		return wire.RunPage{}, err
	}
	told := []job.Run{run}
	if err := s.Service.Runs.WaitsNow(ctx, told); err != nil {
		return wire.RunPage{}, err
	}
	run = told[0]
	page := wire.RunPage{Run: run, Tasks: []wire.TaskLine{}, Values: job.Values{}, Deliveries: []job.Delivery{}}
	if page.Attempts, err = s.Store.Attempts(ctx, id); err != nil {
		return page, err
	}
	if page.Artifacts, err = s.Store.Artifacts(ctx, id, 0); err != nil {
		return page, err
	}
	page.Comparable = slices.ContainsFunc(page.Artifacts,
		func(f job.Artifact) bool { return f.Format == render.RowsKept && f.RemovedAt == nil })
	page.Artifacts = slices.DeleteFunc(page.Artifacts, func(f job.Artifact) bool { return f.Format == render.RowsKept })
	if page.DeliveryCounts, err = s.Store.DeliveryCounts(ctx, id); err != nil {
		return page, err
	}
	const shown = 1000
	if page.Deliveries, err = s.Store.DeliveriesOfRun(ctx, id, shown); err != nil {
		return page, err
	}
	slices.SortFunc(page.Deliveries, func(a, b job.Delivery) int {
		if wrong := cmp.Compare(unwell(a), unwell(b)); wrong != 0 {
			return wrong
		}
		return strings.Compare(a.Address, b.Address)
	})
	links, err := s.Store.LinksOfRun(ctx, id)
	if err != nil {
		return page, err
	}
	for _, l := range links {
		page.Links = append(page.Links, linkOf(l))
	}
	page.PartCount = max(run.Parts, 1)
	if run.Parts > 1 {
		const most = 500
		if page.Parts, err = s.Store.Parts(ctx, id, most); err != nil {
			return page, err
		}
	}
	if page.Alerts, err = s.Store.AlertsOfRun(ctx, id); err != nil {
		return page, err
	}
	last, err := s.Store.LastRuns(ctx, []int64{run.JobID})
	if err != nil {
		return page, err
	}
	_, page.Usual = lastOf(last, run.JobID)
	def, err := s.Store.JobAt(ctx, run.JobID, run.JobVersion)
	if isNotFound(err) {
		return page, nil // the job is gone; its runs stay readable
	}
	c := chain.Read(def.Tasks, &fault.Invalid{})
	for _, t := range def.Tasks {
		line := wire.TaskLine{Name: t.Name, Kind: t.Kind, After: c.Follows(t.Name), OnlyIf: t.OnlyIf}
		if t.Report != nil {
			line.Report = t.Report.Report
		}
		page.Tasks = append(page.Tasks, line)
	}
	if run.State == job.RunWaiting && err == nil {
		page.Missing, err = s.Service.Runs.Missing(ctx, run)
	}
	if def.Values != nil {
		page.Values = def.Values
	}
	return page, err
}

// RunPath names a run in an address.
type RunPath struct {
	Run string `path:"run" maxLength:"30" doc:"number of the run, such as 2611-48211"`
}

// runID reads a run's number from an address.
func runID(text string) (job.RunID, error) {
	id, ok := job.ParseRunID(text)
	if !ok {
		return 0,
			huma.NewError(http.StatusUnprocessableEntity,
				fmt.Sprintf("%q is no number of a run; write it as 2611-42", text))
	}
	return id, nil
}

// unwell sorts deliveries that went wrong before the others.
func unwell(d job.Delivery) int {
	switch {
	case d.State == job.DeliverySent:
		return 2
	case d.State.Open():
		return 1
	}
	return 0
}
