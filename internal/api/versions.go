package api

import (
	"context"
	"encoding/json"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/store/records"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) versions(a huma.API) {
	jobs, reports := subject("jobs"), subject("reports")
	huma.Register(a, jobs.get("list-job-versions", "/api/jobs/{job}/versions",
		"List the versions of a job, the newest first", refuses(404)), s.listJobVersions)
	huma.Register(a, jobs.get("show-job-version", "/api/jobs/{job}/versions/{version}",
		"Show what a job said in one version", refuses(404)), s.showJobVersion)
	huma.Register(a, reports.get("list-report-versions", "/api/reports/{report}/versions",
		"List the versions of a report, the newest first", refuses(404)), s.listReportVersions)
	huma.Register(a, reports.get("show-report-version", "/api/reports/{report}/versions/{version}",
		"Show what a report said in one version", refuses(404)), s.showReportVersion)
}

func (s *server) listJobVersions(ctx context.Context, in *JobPath) (*struct{ Body []job.Saved }, error) {
	j, err := s.Store.Job(ctx, in.Job)
	if err != nil {
		return nil, s.problem(err)
	}
	return s.saved(s.Store.Versions(ctx, records.JobVersions, j.ID))
}

func (s *server) listReportVersions(ctx context.Context, in *struct{ ReportPath }) (*struct{ Body []job.Saved }, error) {
	r, err := s.Store.Report(ctx, in.Report)
	if err != nil {
		return nil, s.problem(err)
	}
	return s.saved(s.Store.Versions(ctx, records.ReportVersions, r.ID))
}

func (s *server) saved(all []job.Saved, err error) (*struct{ Body []job.Saved }, error) {
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Saved }{all}, nil
}

func (s *server) showJobVersion(ctx context.Context, in *struct {
	JobPath
	Version int `path:"version" minimum:"1"`
},
) (*struct{ Body wire.JobVersion }, error) {
	j, err := s.Store.Job(ctx, in.Job)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.JobVersion{Version: in.Version}
	if err := s.version(ctx, records.JobVersions, j.ID, in.Version, &out.Definition); err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.JobVersion }{out}, nil
}

func (s *server) showReportVersion(ctx context.Context, in *struct {
	ReportPath
	Version int `path:"version" minimum:"1"`
},
) (*struct{ Body wire.ReportVersion }, error) {
	r, err := s.Store.Report(ctx, in.Report)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.ReportVersion{Version: in.Version}
	if err := s.version(ctx, records.ReportVersions, r.ID, in.Version, &out.Definition); err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.ReportVersion }{out}, nil
}

// version reads what a record said in one version.
func (s *server) version(ctx context.Context, kind records.Versioned, id int64, version int, to any) error {
	text, err := s.Store.Version(ctx, kind, id, version)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, to)
}
