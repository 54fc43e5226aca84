package api

import (
	"context"
	"net/http"
	"strconv"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/render"
	"ironbell/internal/service"
	"ironbell/internal/store/db"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
)

// archive registers what is kept of what jobs made.
func (s *server) archive(a huma.API) {
	huma.Register(a,
		subject("jobs").get("show-archive", "/api/jobs/{job}/archive",
			"List what a job made and is kept, by date and version", refuses(404)), s.showArchive)
	huma.Register(a,
		subject("links").post("make-link", "/api/runs/{run}/links", "Make a link to files of a run",
			refuses(403, 404, 422), answers(http.StatusCreated),
			says("Nobody is written to. Where links lead to a file, whoever none of them lets in gets it from the "+
				"job's owner alone.")), s.makeLink)
}

func (s *server) showArchive(ctx context.Context, in *struct {
	JobPath
	Before string `query:"before" maxLength:"30" doc:"older than this run, to read on"`
	Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"30"`
},
) (*struct{ Body wire.Archive }, error) {
	j, err := s.Store.Job(ctx, in.Job)
	if err != nil {
		return nil, s.problem(err)
	}
	var before job.RunID
	if in.Before != "" {
		if before, err = runID(in.Before); err != nil {
			return nil, err
		}
	}
	runs, err := s.Store.Archive(ctx, j.ID, before, in.Limit+1, render.RowsKept)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.Archive{Job: j.Name, Days: j.Keep.WithDefaults().Files, Runs: []wire.Archived{}, More: len(runs) > in.Limit}
	for _, r := range runs[:min(len(runs), in.Limit)] {
		one := wire.Archived{
			Run: r.RunID, Nominal: r.Nominal, Due: r.Due, Zone: r.Zone, State: r.State, Version: r.Version,
			Open: r.Open, Withdrawn: r.Withdrawn, Reports: []wire.ArchivedReport{}, Files: []wire.ArchivedFile{},
		}
		for _, p := range r.Reports.V {
			one.Reports = append(one.Reports, wire.ArchivedReport(p))
		}
		for _, f := range r.Files {
			one.Files = append(one.Files, wire.ArchivedFile{
				Artifact: f.Artifact, PartName: f.PartName, Until: f.CreatedAt.AddDate(0, 0, out.Days),
			})
		}
		out.Runs = append(out.Runs, one)
	}
	return &struct{ Body wire.Archive }{out}, nil
}

func (s *server) makeLink(ctx context.Context, in *struct {
	RunPath
	Body wire.LinkRequest
},
) (*struct{ Body wire.NewLink }, error) {
	id, err := runID(in.Run)
	if err != nil {
		return nil, err
	}
	who, _ := person(ctx)
	token, l, err := s.Service.Records.Link(ctx, who, service.LinkWish{
		Run: id, Files: in.Body.Files, For: in.Body.For, Named: in.Body.Named, Days: in.Body.Days,
	})
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.NewLink }{wire.NewLink{Link: linkOf(l), Address: s.URL + "/l/" + token}}, nil
}

// artifact finds a file that a run made for people. Rows that are kept to compare runs by hold
// what no file shows, such as hidden columns.
func (s *server) artifact(ctx context.Context, id int64) (job.Artifact, error) {
	f, err := s.Store.Artifact(ctx, id)
	if err == nil && f.Format == render.RowsKept {
		return job.Artifact{}, &db.NotFound{Kind: "file", Name: strconv.FormatInt(id, 10)}
	}
	return f, err
}

// lookAtFile shows a file that is kept in a frame, as frame shows one that is being made.
func (s *server) lookAtFile(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("X-Frame-Options", "SAMEORIGIN")
	h.Set("Content-Security-Policy", framePolicy)
	id, err := strconv.ParseInt(chi.URLParam(r, "file"), 10, 64)
	if err != nil {
		frameSays(w, http.StatusNotFound, "There is no such file.")
		return
	}
	f, err := s.artifact(r.Context(), id)
	if err == nil {
		who, _ := person(r.Context())
		err = s.Service.Runs.MayFetch(r.Context(), who, f.RunID, f.Key)
	}
	if err != nil {
		frameSays(w, http.StatusForbidden, s.problem(err).Error())
		return
	}
	if f.RemovedAt != nil {
		frameSays(w, http.StatusGone, "The file is not kept any more.")
		return
	}
	file, err := s.Files.Open(r.Context(), f.Key)
	if err != nil {
		s.Log.Error("a file could not be read", "file", f.Name, "error", err)
		frameSays(w, http.StatusInternalServerError, "The file could not be read; the service's log says why.")
		return
	}
	defer func() { _ = file.Close() }() // only read from
	s.showFile(w, r, f, file)
}
