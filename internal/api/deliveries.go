package api

import (
	"context"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/service"
	"ironbell/internal/store/db"
	"ironbell/internal/store/deliveries"
	"ironbell/internal/store/records"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) deliveries(a huma.API) {
	tags := subject("deliveries")
	huma.Register(a, tags.get("list-deliveries", "/api/deliveries", "List deliveries, newest first"), s.listDeliveries)
	huma.Register(a,
		tags.post("settle-delivery", "/api/deliveries/{delivery}/settle",
			"Settle a delivery whose answer was lost, or send a failed one again", refuses(403, 422)), s.settleDelivery)
	huma.Register(a,
		tags.post("allow-delivery", "/api/deliveries/{delivery}/allow", "Say yes or no to mail to an address outside the allowed domains",
			refuses(403, 422),
			says("It takes a second person: not its owners, not whoever rang, and nobody who saved a record through "+
				"which it goes there since the address was allowed last. A yes holds for these bytes to this "+
				"address; with until, for all that the job sends to the address over this destination until then, or "+
				"until the job, one of its reports or the destination is saved. A no is kept as declined.")),
		s.allowDelivery)
	huma.Register(a,
		tags.post("resend-run", "/api/runs/{run}/resend", "Send again what a run could not deliver", refuses(403, 404),
			says("All deliveries that failed or bounced go out again. Who has it gets it no second time.")),
		s.resendRun)
	huma.Register(a,
		subject("destinations").get("show-destination", "/api/destinations/{name}",
			"Show a destination and what goes there"), s.showDestination)
	huma.Register(a, subject("service").get("show-alert-settings", "/api/settings/alerts", "Show how alerts are sent"),
		s.showAlertSettings)
	huma.Register(a,
		subject("service").get("show-mail-settings", "/api/settings/mail", "Show the house's own settings of mail"),
		s.showMailSettings)
	huma.Register(a,
		subject("service").put("save-mail-settings", "/api/settings/mail",
			"Say what holds for all mail: its templates, the domains it goes to, and what leaves this installation",
			refuses(403, 422)), s.saveMailSettings)
	huma.Register(a,
		tags.post("release-deliveries", "/api/deliveries/release",
			"Send or drop what was kept back since nothing left the installation", refuses(403)), s.releaseDeliveries)
	s.links(a)
}

func (s *server) listDeliveries(ctx context.Context, in *struct {
	State       []string `query:"state" enum:"waiting,sending,offered,taken,sent,failed,bounced,unknown,declined"`
	Destination string   `query:"destination" maxLength:"200" doc:"name of the destination"`
	Address     string   `query:"address" maxLength:"1000" doc:"mail address or path, exactly"`
	KeptBack    string   `query:"kept_back" enum:"rest,yes,silent,turn" doc:"only those that are kept back for this reason"`
	Run         string   `query:"run" maxLength:"30"`
	Before      int64    `query:"before" minimum:"0" doc:"ids below this one, to read on"`
	Limit       int      `query:"limit" minimum:"1" maximum:"1000" default:"100"`
},
) (*struct{ Body []job.Delivery }, error) {
	f := deliveries.DeliveryFilter{
		States: in.State, Destination: in.Destination, Address: in.Address, KeptBack: job.KeptBack(in.KeptBack),
		Before: in.Before, Limit: in.Limit,
	}
	if in.Run != "" {
		var err error
		if f.RunID, err = runID(in.Run); err != nil {
			return nil, err
		}
	}
	list, err := s.Store.Deliveries(ctx, f)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Delivery }{list}, nil
}

func (s *server) settleDelivery(ctx context.Context, in *struct {
	Delivery int64 `path:"delivery"`
	Body     wire.SettleRequest
},
) (*struct{ Body job.Delivery }, error) {
	who, _ := person(ctx)
	d, err := s.Service.Deliveries.Settle(ctx, who, in.Delivery, service.Verdict(in.Body.As))
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Delivery }{d}, nil
}

func (s *server) allowDelivery(ctx context.Context, in *struct {
	Delivery int64 `path:"delivery"`
	Body     wire.AllowRequest
},
) (*struct{ Body job.Delivery }, error) {
	who, _ := person(ctx)
	d, err := s.Service.Deliveries.Allow(ctx, who, in.Delivery, service.Consent{Yes: in.Body.Yes, Until: in.Body.Until})
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Delivery }{d}, nil
}

func (s *server) resendRun(ctx context.Context, in *RunPath) (*struct{ Body wire.Count }, error) {
	id, err := runID(in.Run)
	if err != nil {
		return nil, err
	}
	who, _ := person(ctx)
	n, err := s.Service.Runs.ResendFailed(ctx, who, id)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.Count }{wire.Count{N: int64(n)}}, nil
}

func (s *server) showDestination(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
},
) (*struct{ Body wire.DestinationPage }, error) {
	page, err := s.destination(ctx, in.Name)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.DestinationPage }{page}, nil
}

func (s *server) showAlertSettings(ctx context.Context, _ *struct{}) (*struct{ Body job.AlertSettings }, error) {
	var settings job.AlertSettings
	if _, err := s.Store.Setting(ctx, db.AlertSetting, &settings); err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.AlertSettings }{settings.WithDefaults()}, nil
}

func (s *server) showMailSettings(ctx context.Context, _ *struct{}) (*struct{ Body job.MailSettings }, error) {
	settings, err := s.Store.MailSettings(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.MailSettings }{settings}, nil
}

func (s *server) saveMailSettings(ctx context.Context,
	in *struct{ Body job.MailSettings },
) (*struct{ Body job.MailSettings }, error) {
	who, _ := person(ctx)
	if err := s.Service.Settings.SaveMail(ctx, who, in.Body); err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.MailSettings }{in.Body}, nil
}

func (s *server) releaseDeliveries(ctx context.Context,
	in *struct{ Body wire.ReleaseRequest },
) (*struct{ Body wire.Count }, error) {
	who, _ := person(ctx)
	n, err := s.Service.Deliveries.ReleaseSilent(ctx, who, in.Body.Send)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.Count }{wire.Count{N: n}}, nil
}

func (s *server) destination(ctx context.Context, name string) (wire.DestinationPage, error) {
	p, err := s.Store.Place(ctx, records.Destination, name)
	page := wire.DestinationPage{
		Place: placeOf(p), Kind: string(deliver.KindOf(p.Protocol)), Uses: []wire.DestinationUse{},
	}
	if err != nil {
		return page, err
	}
	uses, err := s.Store.DestinationUses(ctx, p.ID, recordDays)
	if err != nil {
		return page, err
	}
	for _, u := range uses {
		page.Uses = append(page.Uses, wire.DestinationUse(u))
	}
	waiting, err := s.Store.WaitingFor(ctx, p.ID)
	if err != nil {
		return page, err
	}
	page.Waiting = waiting.Deliveries
	page.Latest, err = s.Store.Deliveries(ctx, deliveries.DeliveryFilter{Destination: name, Limit: 50})
	return page, err
}

// recordDays is how far back pages look that sum up what went where.
const recordDays = 30
