package api

import (
	"context"
	"errors"
	"io"
	"mime"
	"net/http"
	"strconv"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/service"
	"ironbell/internal/store/records"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) reports(a huma.API) {
	tags := subject("reports")
	huma.Register(a, tags.get("list-reports", "/api/reports", "List reports by name"), s.listReports)
	huma.Register(a, tags.get("show-report", "/api/reports/{report}", "Show a report and the jobs that use it"),
		s.showReport)
	huma.Register(a,
		tags.put("save-report", "/api/reports/{report}", "Add a report, or save a new version of the one of this name",
			refuses(403, 422), upTo(maxReport)), s.saveReport)
	huma.Register(a,
		tags.post("check-report", "/api/reports/{report}/check",
			"Look at a report before it is saved: what is wrong, what its queries give, which jobs would no longer fit",
			refuses(403), upTo(maxReport)), s.checkReport)
	huma.Register(a,
		tags.post("list-choices", "/api/reports/{report}/choices",
			"List what a report asks for, with the choices that there are and what each value comes to",
			refuses(403, 422), upTo(maxBody)), s.listChoices)
	huma.Register(a,
		tags.post("preview-report", "/api/reports/{report}/preview",
			"Show the first rows of a report; end the request to end its queries", refuses(403, 422),
			upTo(maxBody)), s.previewReport)
	huma.Register(a,
		tags.post("cost-report", "/api/reports/{report}/cost",
			"Make the files of a report and throw them away, to see what they cost: rows, time, size",
			refuses(403, 422), upTo(maxBody)), s.costReport)
	huma.Register(a, huma.Operation{
		OperationID: "render-report", Method: http.MethodPost, Path: "/api/reports/{report}/render",
		Summary: "Make one file of a report", Tags: tags.tags(), Errors: []int{403, 422}, MaxBodyBytes: maxBody,
		Responses: map[string]*huma.Response{"200": {
			Description: "The file; headers say its name, rows and checksum",
			Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{
				Type:   "string",
				Format: "binary",
			}}},
		}},
	}, s.renderReport)
	huma.Register(a, subject("sources").get("list-tables", "/api/sources/{name}/tables",
		"List the tables that a source has for queries, with their columns", refuses(403, 404, 422)), s.listTables)
	huma.Register(a,
		subject("runs").get("compare-runs", "/api/runs/{run}/compare",
			"Compare the rows of a run with those of an earlier run of its job", refuses(404, 422)), s.compareRuns)
}

func (s *server) listReports(ctx context.Context, _ *struct{}) (*struct{ Body []job.Report }, error) {
	reports, err := s.Store.Reports(ctx, 5000)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Report }{reports}, nil
}

func (s *server) showReport(ctx context.Context, in *struct{ ReportPath }) (*struct{ Body wire.ReportPage }, error) {
	page, err := s.reportPage(ctx, in.Report)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.ReportPage }{page}, nil
}

func (s *server) saveReport(ctx context.Context, in *struct {
	Report string `path:"report" maxLength:"200"`
	Body   wire.ReportRequest
},
) (*struct{ Body job.Report }, error) {
	who, _ := person(ctx)
	r, err := s.Service.Reports.Save(ctx, who, in.Report, in.Body.Owner, in.Body.ReportDefinition, in.Body.Anyway)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Report }{r}, nil
}

func (s *server) checkReport(ctx context.Context, in *struct {
	Report string `path:"report" maxLength:"200"`
	Body   wire.ReportRequest
},
) (*struct{ Body wire.ReportCheck }, error) {
	who, _ := person(ctx)
	c, err := s.Service.Reports.Check(ctx, who, in.Report, in.Body.Owner, in.Body.ReportDefinition)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.ReportCheck{
		OK: len(c.Wrong)+len(c.Jobs) == 0, Wrong: wrongs(c.Wrong), Sections: append([]job.Described{}, c.Described...), Jobs: []wire.JobTrouble{},
		Workbooks: append([]job.WorkbookPlan{}, c.Workbooks...),
	}
	for _, j := range c.Jobs {
		out.Jobs = append(out.Jobs, wire.JobTrouble{Job: j.Job, On: j.On, Wrong: wrongs(j.Wrong)})
	}
	return &struct{ Body wire.ReportCheck }{out}, nil
}

func (s *server) listChoices(ctx context.Context, in *struct {
	ReportPath
	Body wire.LookRequest
},
) (*struct{ Body []job.Offered }, error) {
	who, _ := person(ctx)
	offers, err := s.Service.Reports.Offers(ctx, who, in.look(in.Body))
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Offered }{offers}, nil
}

func (s *server) previewReport(ctx context.Context, in *struct {
	ReportPath
	Body wire.PreviewRequest
},
) (*struct{ Body job.Preview }, error) {
	who, _ := person(ctx)
	if in.Body.Rows == 0 {
		in.Body.Rows = 50
	}
	p, err := s.Service.Reports.Preview(ctx, who, in.look(in.Body.LookRequest), in.Body.Sections, in.Body.Rows)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Preview }{p}, nil
}

func (s *server) costReport(ctx context.Context, in *struct {
	ReportPath
	Body wire.CostRequest
},
) (*struct{ Body wire.Cost }, error) {
	who, _ := person(ctx)
	made, err := s.Service.Reports.Make(ctx, who, in.look(in.Body.LookRequest), in.Body.Outputs)
	if err == nil {
		defer made.Remove()
		return &struct{ Body wire.Cost }{wire.Cost{
			Rows: made.Rows, TookMS: made.Took.Milliseconds(), Files: made.Files, Says: made.Says,
		}}, nil
	}
	// One that cannot hold it must not hide what the others come to.
	var unfit *fault.Fault
	if !errors.As(err, &unfit) || len(in.Body.Outputs) == 1 {
		return nil, s.problem(err)
	}
	c := wire.Cost{Files: []job.Artifact{}}
	for _, o := range in.Body.Outputs {
		one, err := s.Service.Reports.Make(ctx, who, in.look(in.Body.LookRequest), []job.Output{o})
		if errors.As(err, &unfit) {
			c.Unfit = append(c.Unfit, wire.Unfit{Format: o.Format, Why: fault.Reason(err), Advice: unfit.Advice})
			continue
		}
		if err != nil {
			return nil, s.problem(err)
		}
		c.Rows, c.TookMS = max(c.Rows, one.Rows), c.TookMS+one.Took.Milliseconds()
		c.Files, c.Says = append(c.Files, one.Files...), append(c.Says, one.Says...)
		one.Remove()
	}
	return &struct{ Body wire.Cost }{c}, nil
}

func (s *server) renderReport(ctx context.Context, in *struct {
	ReportPath
	Body wire.RenderRequest
},
) (*huma.StreamResponse, error) {
	who, _ := person(ctx)
	made, err := s.Service.Reports.Make(ctx, who, in.look(in.Body.LookRequest), []job.Output{in.Body.Output})
	if err != nil {
		return nil, s.problem(err)
	}
	if len(made.Files) != 1 {
		made.Remove()
		v := &fault.Invalid{What: "output"}
		v.Add("output.sections", "%s holds one section in a file, and this would be %d files; name one section",
			in.Body.Output.Format, len(made.Files))
		return nil, s.problem(v)
	}
	return s.file(ctx, made.Files[0], made.Open, made.Remove, made.Says), nil
}

func (s *server) compareRuns(ctx context.Context, in *struct {
	Run  string `path:"run"`
	With string `query:"with" doc:"the earlier run; the last good one before it when left out"`
	Task string `query:"task" doc:"the first that kept its rows when left out"`
},
) (*struct{ Body wire.Compared }, error) {
	after, err := runID(in.Run)
	if err != nil {
		return nil, err
	}
	var before job.RunID
	if in.With != "" {
		if before, err = runID(in.With); err != nil {
			return nil, err
		}
	}
	who, _ := person(ctx)
	c, err := s.Service.Runs.Compare(ctx, who, after, before, in.Task)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.Compared }{wire.Compared(c)}, nil
}

func (s *server) reportPage(ctx context.Context, name string) (wire.ReportPage, error) {
	r, err := s.Store.Report(ctx, name)
	if err != nil {
		return wire.ReportPage{}, err
	}
	page := wire.ReportPage{Report: r, Jobs: []wire.ReportUse{}}
	jobs, err := s.Store.JobsUsing(ctx, "report", r.ID)
	for _, j := range jobs {
		page.Jobs = append(page.Jobs, wire.ReportUse{Job: j.Name, Owner: j.Owner, On: j.On})
	}
	return page, err
}

// file answers with a file. done is called when it has been read.
func (s *server) file(ctx context.Context, f job.Artifact,
	open func(context.Context, job.Artifact) (io.ReadSeekCloser, error), done func(),
	says []string,
) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		defer done()
		in, err := open(ctx, f)
		if err != nil {
			hc.SetStatus(http.StatusInternalServerError)
			s.Log.Error("a file could not be read", "file", f.Name, "error", err)
			return
		}
		defer func() { _ = in.Close() }() // only read from
		hc.SetHeader("Content-Type", f.MediaType)
		// Never shown as a page of ours: a report may hold anything.
		hc.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}))
		hc.SetHeader("Content-Length", strconv.FormatInt(f.Size, 10))
		// A page of a report is shown by nobody but itself: nothing in it runs.
		hc.SetHeader("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src data:; sandbox")
		hc.SetHeader("X-Content-Type-Options", "nosniff")
		hc.SetHeader("Ironbell-Rows", strconv.FormatInt(f.Rows, 10))
		hc.SetHeader("Ironbell-SHA256", f.SHA256)
		for _, text := range says {
			hc.AppendHeader("Ironbell-Says", mime.QEncoding.Encode("utf-8", text))
		}
		if _, err := io.Copy(hc.BodyWriter(), in); err != nil {
			s.Log.Info("a reader left before its file ended", "file", f.Name, "error", err)
		}
	}}
}

func (s *server) identities(a huma.API) {
	tags := subject("sources")
	of := func(i records.Identity) wire.Identity {
		if i.Choosers == nil {
			i.Choosers = []string{}
		}
		return wire.Identity{
			Source: i.Source, Name: i.Name, Login: i.Login, Choosers: i.Choosers, Sealed: len(i.Secret) > 0,
			UpdatedAt: i.UpdatedAt,
		}
	}
	huma.Register(a,
		tags.get("list-identities", "/api/sources/{name}/identities", "List the identities of a source by name"),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200"`
		},
		) (*struct{ Body []wire.Identity }, error) {
			list, err := s.Store.Identities(ctx, in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			out := make([]wire.Identity, len(list))
			for i, one := range list {
				out[i] = of(one)
			}
			return &struct{ Body []wire.Identity }{out}, nil
		})
	huma.Register(a,
		tags.put("save-identity", "/api/sources/{name}/identities/{identity}",
			"Add or change an identity of a source; a login that could get out of its rows is refused",
			refuses(403, 404, 422)),
		func(ctx context.Context, in *struct {
			Name     string `path:"name" maxLength:"200"`
			Identity string `path:"identity" maxLength:"200"`
			Body     wire.IdentityRequest
		},
		) (*struct{ Body wire.Identity }, error) {
			who, _ := person(ctx)
			i, err := s.Service.Places.SaveIdentity(ctx, who, in.Name, in.Identity, in.Body.Login, in.Body.Choosers,
				in.Body.Password, s.Vault)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body wire.Identity }{of(i)}, nil
		})
}

// reportPath is the part of an address that names a report.
type reportPath struct {
	Report string `path:"report" maxLength:"200" doc:"id or name"`
}

func (p reportPath) look(r wire.LookRequest) service.Look {
	l := service.Look{Report: p.Report, Definition: r.Definition, Identity: r.Identity, Values: r.Values, Zone: r.Zone}
	if r.Date != nil {
		l.Date = *r.Date
	}
	return l
}

// ReportPath is reportPath where a request's other parts stand beside it.
type ReportPath = reportPath

func wrongs(list []fault.Wrong) []wire.Wrong {
	out := make([]wire.Wrong, len(list))
	for i, w := range list {
		out[i] = wire.Wrong{Where: w.Where, Sentence: w.Sentence}
	}
	return out
}

func (s *server) listTables(ctx context.Context, in *struct {
	Name     string `path:"name" maxLength:"200"`
	Identity string `query:"identity" maxLength:"200" doc:"as which it is asked; the source's own login when left out"`
},
) (*struct{ Body []wire.Table }, error) {
	who, _ := person(ctx)
	all, err := s.Service.Reports.Tables(ctx, who, in.Name, in.Identity)
	if err != nil {
		return nil, s.problem(err)
	}
	out := make([]wire.Table, len(all))
	for i, t := range all {
		out[i] = wire.Table{Schema: t.Schema, Name: t.Name, Columns: make([]wire.TableColumn, len(t.Columns))}
		for k, c := range t.Columns {
			out[i].Columns[k] = wire.TableColumn(c)
		}
	}
	return &struct{ Body []wire.Table }{out}, nil
}
