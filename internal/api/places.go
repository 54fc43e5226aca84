package api

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/report"
	"ironbell/internal/service"
	"ironbell/internal/store/records"

	"github.com/danielgtaylor/huma/v2"
)

// places registers sources and destinations, which are handled alike.
func (s *server) places(a huma.API) {
	for _, kind := range []records.PlaceKind{records.Source, records.Destination} {
		one := string(kind)
		all, path := one+"s", "/api/"+one+"s"
		tags := subject(all)
		huma.Register(a, tags.get("list-"+all, path, "List "+all+" by name"), s.listPlaces(kind))
		huma.Register(a, tags.put("save-"+one, path+"/{name}", "Add or change a "+one, refuses(403, 422)),
			s.savePlace(kind))
		huma.Register(a,
			tags.post("test-"+one, path+"/{name}/test",
				"Ask a "+one+" for an answer, and say exactly what it answered"), s.testPlace(kind))
	}
	huma.Register(a,
		subject("destinations").get("list-protocols", "/api/protocols",
			"List the protocols of destinations, with what each can be told"), s.listProtocols)
	huma.Register(a,
		subject("sources").get("list-drivers", "/api/drivers",
			"List the drivers of sources, with what each can be told"), s.listDrivers)
	huma.Register(a,
		subject("destinations").delete("remove-destination", "/api/destinations/{name}",
			"Remove a destination that no job sends to; it can be brought back for 30 days", refuses(403, 404, 422),
			answers(http.StatusNoContent)), s.removeDestination)
	huma.Register(a,
		subject("service").put("save-alert-settings", "/api/settings/alerts", "Say over which destination alerts go"),
		s.saveAlertSettings)
}

func (s *server) listPlaces(kind records.PlaceKind) func(ctx context.Context, _ *struct{}) (*struct{ Body []wire.Place }, error) {
	return func(ctx context.Context, _ *struct{}) (*struct{ Body []wire.Place }, error) {
		rows, err := s.Store.Places(ctx, kind)
		if err != nil {
			return nil, s.problem(err)
		}
		places := make([]wire.Place, len(rows))
		for i, p := range rows {
			places[i] = placeOf(p)
		}
		return &struct{ Body []wire.Place }{places}, nil
	}
}

func (s *server) savePlace(kind records.PlaceKind) func(ctx context.Context, in *placeToSave) (*struct{ Body wire.Place }, error) {
	return func(ctx context.Context, in *placeToSave) (*struct{ Body wire.Place }, error) {
		who, _ := person(ctx)
		p, err := s.Service.Places.Save(ctx, who, kind, in.Name, in.Body.Protocol, in.Body.Settings, in.Body.Password,
			s.Vault)
		if err != nil {
			return nil, s.problem(err)
		}
		return &struct{ Body wire.Place }{placeOf(p)}, nil
	}
}

func (s *server) testPlace(kind records.PlaceKind) func(ctx context.Context, in *placeToTest) (*struct{ Body wire.Answer }, error) {
	return func(ctx context.Context, in *placeToTest) (*struct{ Body wire.Answer }, error) {
		who, _ := person(ctx)
		said, err := s.Service.Places.Test(ctx, who, kind, in.Name, in.Mail)
		if err != nil {
			var refused *service.Refused
			if errors.As(err, &refused) {
				return &struct{ Body wire.Answer }{wire.Answer{
					Said: refused.Error(), Advice: refused.Advice, Steps: said,
				}}, nil
			}
			return nil, s.problem(err)
		}
		return &struct{ Body wire.Answer }{wire.Answer{OK: true, Said: strings.Join(said, "; "), Steps: said}}, nil
	}
}

func (s *server) listProtocols(context.Context, *struct{}) (*struct{ Body []job.Protocol }, error) {
	return &struct{ Body []job.Protocol }{deliver.Describe()}, nil
}

func (s *server) listDrivers(context.Context, *struct{}) (*struct{ Body []job.Driver }, error) {
	return &struct{ Body []job.Driver }{report.Describe()}, nil
}

func (s *server) removeDestination(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
},
) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.removed(ctx, who, "destination", in.Name)
}

func (s *server) saveAlertSettings(ctx context.Context,
	in *struct{ Body job.AlertSettings },
) (*struct{ Body job.AlertSettings }, error) {
	who, _ := person(ctx)
	if err := s.Service.Settings.SaveAlerts(ctx, who, in.Body); err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.AlertSettings }{in.Body}, nil
}

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
	return wire.Place{
		Pin: p.Pin, Rests: rests, Tested: tested, Note: note, ID: p.ID, Name: p.Name, Protocol: p.Protocol,
		Settings: p.Settings, Sealed: len(p.Secret) > 0, Revision: p.Revision, UpdatedAt: p.UpdatedAt,
	}
}

// placeToSave is what is asked.
type placeToSave struct {
	Name string `path:"name" maxLength:"200"`
	Body wire.PlaceRequest
}

// placeToTest is what is asked.
type placeToTest struct {
	Name string `path:"name" maxLength:"200"`
	Mail bool   `query:"mail" doc:"of a mail server: send a mail to you, too"`
}
