package api

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"ironbell/internal/store/records"

	"ironbell/internal/service"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/report"

	"github.com/danielgtaylor/huma/v2"
)

func placeOf(p records.Place) wire.Place {
	note := ""
	if p.Protocol == "sqlserver" {
		note = report.Untested
	}
	if p.Writes != "" {
		note = "This login can write: " + p.Writes + "."
	}
	var rests *wire.Rest
	if p.RestsSince != nil {
		rests = &wire.Rest{Since: *p.RestsSince, Answer: p.RestAnswer, Advice: p.RestAdvice, LookAt: p.ProbeAt}
	}
	var tested *wire.Tested
	if p.TestedAt != nil {
		tested = &wire.Tested{At: *p.TestedAt, OK: p.TestAnswer == "", Answer: p.TestAnswer}
	}
	return wire.Place{Pin: p.Pin, Rests: rests, Tested: tested, Note: note, ID: p.ID, Name: p.Name, Protocol: p.Protocol, Settings: p.Settings, Sealed: len(p.Secret) > 0, Revision: p.Revision, UpdatedAt: p.UpdatedAt}
}

// places registers sources and destinations, which are handled alike.
func (s *server) places(a huma.API) {
	for _, k := range []struct {
		kind         records.PlaceKind
		path, plural string
	}{{records.Source, "/api/sources", "sources"}, {records.Destination, "/api/destinations", "destinations"}} {
		kind := k.kind
		tags := []string{k.plural}
		huma.Register(a, huma.Operation{OperationID: "list-" + k.plural, Method: http.MethodGet, Path: k.path, Summary: "List " + k.plural + " by name", Tags: tags},
			func(ctx context.Context, _ *struct{}) (*struct{ Body []wire.Place }, error) {
				rows, err := s.Store.Places(ctx, kind)
				if err != nil {
					return nil, s.problem(err)
				}
				places := make([]wire.Place, len(rows))
				for i, p := range rows {
					places[i] = placeOf(p)
				}
				return &struct{ Body []wire.Place }{places}, nil
			})
		huma.Register(a, huma.Operation{OperationID: "save-" + string(kind), Method: http.MethodPut, Path: k.path + "/{name}", Summary: "Add or change a " + string(kind), Tags: tags, Errors: []int{403, 422}},
			func(ctx context.Context, in *struct {
				Name string `path:"name" maxLength:"200"`
				Body wire.PlaceRequest
			},
			) (*struct{ Body wire.Place }, error) {
				who, _ := person(ctx)
				p, err := s.Service.Places.Save(ctx, who, kind, in.Name, in.Body.Protocol, in.Body.Settings, in.Body.Password, s.Vault)
				if err != nil {
					return nil, s.problem(err)
				}
				return &struct{ Body wire.Place }{placeOf(p)}, nil
			})
		huma.Register(a, huma.Operation{OperationID: "test-" + string(kind), Method: http.MethodPost, Path: k.path + "/{name}/test", Summary: "Ask a " + string(kind) + " for an answer, and say exactly what it answered", Tags: tags},
			func(ctx context.Context, in *struct {
				Name string `path:"name" maxLength:"200"`
				Mail bool   `query:"mail" doc:"of a mail server: send a mail to you, too"`
			},
			) (*struct{ Body wire.Answer }, error) {
				who, _ := person(ctx)
				said, err := s.Service.Places.Test(ctx, who, kind, in.Name, in.Mail)
				if err != nil {
					var refused *service.Refused
					if errors.As(err, &refused) {
						return &struct{ Body wire.Answer }{wire.Answer{Said: refused.Error(), Advice: refused.Advice, Steps: said}}, nil
					}
					return nil, s.problem(err)
				}
				return &struct{ Body wire.Answer }{wire.Answer{OK: true, Said: strings.Join(said, "; "), Steps: said}}, nil
			})
	}
	huma.Register(a, huma.Operation{OperationID: "list-protocols", Method: http.MethodGet, Path: "/api/protocols", Summary: "List the protocols of destinations, with what each can be told", Tags: []string{"destinations"}},
		func(context.Context, *struct{}) (*struct{ Body []job.Protocol }, error) {
			return &struct{ Body []job.Protocol }{deliver.Describe()}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "remove-destination", Method: http.MethodDelete, Path: "/api/destinations/{name}", Summary: "Remove a destination that nothing ever went to", Tags: []string{"destinations"}, DefaultStatus: http.StatusNoContent, Errors: []int{403, 404, 422}},
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200"`
		},
		) (*struct{}, error) {
			who, _ := person(ctx)
			return nil, s.orProblem(s.Service.Places.RemoveDestination(ctx, who, in.Name))
		})
	huma.Register(a, huma.Operation{OperationID: "save-alert-settings", Method: http.MethodPut, Path: "/api/settings/alerts", Summary: "Say over which destination alerts go", Tags: []string{"service"}},
		func(ctx context.Context, in *struct{ Body job.AlertSettings }) (*struct{ Body job.AlertSettings }, error) {
			who, _ := person(ctx)
			if err := s.Service.Settings.SaveAlerts(ctx, who, in.Body); err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body job.AlertSettings }{in.Body}, nil
		})
}
