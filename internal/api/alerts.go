package api

import (
	"context"

	"ironbell/internal/core/job"

	"github.com/danielgtaylor/huma/v2"
)

// alertPath names an alert in an address.
type alertPath struct {
	Alert int64 `path:"alert"`
}

// alerts registers what needs somebody.
func (s *server) alerts(a huma.API) {
	tags := subject("alerts")
	huma.Register(a, tags.get("list-alerts", "/api/alerts", "List alerts, the latest first"), s.listAlerts)
	huma.Register(a, tags.get("show-alert", "/api/alerts/{alert}", "Show an alert", refuses(404)), s.showAlert)
	huma.Register(a,
		tags.post("acknowledge-alert", "/api/alerts/{alert}/acknowledge", "Acknowledge an alert", refuses(403, 404)),
		s.acknowledgeAlert(false))
	huma.Register(a, tags.post("close-alert", "/api/alerts/{alert}/close", "Close an alert", refuses(403, 404)),
		s.acknowledgeAlert(true))
}

func (s *server) acknowledgeAlert(end bool) func(ctx context.Context, in *alertPath) (*struct{ Body job.Alert }, error) {
	return func(ctx context.Context, in *alertPath) (*struct{ Body job.Alert }, error) {
		who, _ := person(ctx)
		alert, err := s.Service.Alerts.Acknowledge(ctx, who, in.Alert, end)
		if err != nil {
			return nil, s.problem(err)
		}
		return &struct{ Body job.Alert }{alert}, nil
	}
}

func (s *server) listAlerts(ctx context.Context, in *struct {
	State []string `query:"state" enum:"open,acknowledged,closed" doc:"open and acknowledged when left out"`
	Limit int      `query:"limit" minimum:"1" maximum:"1000" default:"100"`
},
) (*struct{ Body []job.Alert }, error) {
	if len(in.State) == 0 {
		in.State = []string{string(job.AlertOpen), string(job.AlertAcknowledged)}
	}
	list, err := s.Store.Alerts(ctx, in.State, in.Limit)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Alert }{list}, nil
}

func (s *server) showAlert(ctx context.Context, in *struct {
	Alert int64 `path:"alert"`
},
) (*struct{ Body job.Alert }, error) {
	alert, err := s.Store.Alert(ctx, in.Alert)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Alert }{alert}, nil
}
