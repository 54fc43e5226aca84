package api

import (
	"context"
	"mime"
	"net/http"
	"strconv"

	"ironbell/internal/core/job"
	"ironbell/internal/workbook"

	"github.com/danielgtaylor/huma/v2"
)

// workbooks registers the spreadsheets of owners, which outputs fill.
func (s *server) workbooks(a huma.API) {
	tags := subject("reports")
	huma.Register(a,
		tags.post("add-workbook", "/api/workbooks", "Upload a workbook that reports fill", refuses(403, 422), upTo(workbook.MaxPacked+1024),
			says("An .xlsx of 20 MB at most (200 MB unpacked), without macros, links to other workbooks, connections, pivot tables and "+
				"files within it. It is looked through in a process of its own; the answer says which tables and cells it has. One that "+
				"no report has is kept for 30 days.")), s.addWorkbook)
	huma.Register(a,
		tags.get("list-workbooks", "/api/reports/{report}/workbooks", "Show what each workbook of a report takes", refuses(404)),
		s.listWorkbooks)
	huma.Register(a, huma.Operation{
		OperationID: "download-workbook", Method: http.MethodGet, Path: "/api/reports/{report}/workbooks/{workbook}",
		Summary: "Download a workbook of a report, as it was sent", Tags: tags.tags(), Errors: []int{403, 404, 422},
		Responses: map[string]*huma.Response{"200": {
			Description: "The file", Content: map[string]*huma.MediaType{"application/octet-stream": {}},
		}},
	}, s.downloadWorkbook)
}

func (s *server) addWorkbook(ctx context.Context, in *struct {
	Name    string `query:"name" required:"true" minLength:"1" maxLength:"200" doc:"of the file"`
	RawBody []byte `contentType:"application/octet-stream"`
},
) (*struct{ Body job.WorkbookFile }, error) {
	who, _ := person(ctx)
	f, err := s.Service.Reports.AddWorkbook(ctx, who, in.Name, in.RawBody)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.WorkbookFile }{f}, nil
}

func (s *server) listWorkbooks(ctx context.Context, in *struct{ ReportPath }) (*struct{ Body []job.WorkbookPlan }, error) {
	r, err := s.Store.Report(ctx, in.Report)
	if err != nil {
		return nil, s.problem(err)
	}
	all, err := s.Service.Reports.Plans(ctx, r)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.WorkbookPlan }{all}, nil
}

func (s *server) downloadWorkbook(ctx context.Context, in *struct {
	ReportPath
	Workbook string `path:"workbook" maxLength:"100"`
},
) (*huma.StreamResponse, error) {
	who, _ := person(ctx)
	f, data, err := s.Service.Reports.Workbook(ctx, who, in.Report, in.Workbook)
	if err != nil {
		return nil, s.problem(err)
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet")
		hc.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}))
		hc.SetHeader("Content-Length", strconv.Itoa(len(data)))
		hc.SetHeader("X-Content-Type-Options", "nosniff")
		_, _ = hc.BodyWriter().Write(data) // a reader that left needs no answer
	}}, nil
}
