package api

import (
	"context"
	"fmt"
	"io"
	"net/http"

	"ironbell/internal/store/db"
	"ironbell/internal/store/deliveries"
	"ironbell/internal/store/history"
	"ironbell/internal/store/records"

	"ironbell/internal/service"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"

	"github.com/danielgtaylor/huma/v2"
)

// recordDays is how far back pages look that sum up what went where.
const recordDays = 30

func (s *server) deliveries(a huma.API) {
	tags := []string{"deliveries"}
	huma.Register(a, huma.Operation{OperationID: "list-deliveries", Method: http.MethodGet, Path: "/api/deliveries", Summary: "List deliveries, newest first", Tags: tags},
		func(ctx context.Context, in *struct {
			State       []string `query:"state" enum:"waiting,sending,offered,taken,sent,failed,bounced,unknown,declined"`
			Destination string   `query:"destination" maxLength:"200" doc:"name of the destination"`
			Address     string   `query:"address" maxLength:"1000" doc:"mail address or path, exactly"`
			KeptBack    string   `query:"kept_back" enum:"rest,yes,silent" doc:"only those that are kept back for this reason"`
			Run         string   `query:"run" maxLength:"30"`
			Before      int64    `query:"before" minimum:"0" doc:"ids below this one, to read on"`
			Limit       int      `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		},
		) (*struct{ Body []job.Delivery }, error) {
			f := deliveries.DeliveryFilter{States: in.State, Destination: in.Destination, Address: in.Address, KeptBack: job.KeptBack(in.KeptBack), Before: in.Before, Limit: in.Limit}
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
		})
	huma.Register(a, huma.Operation{OperationID: "settle-delivery", Method: http.MethodPost, Path: "/api/deliveries/{delivery}/settle", Summary: "Settle a delivery whose answer was lost, or send a failed one again", Tags: tags, Errors: []int{403, 422}},
		func(ctx context.Context, in *struct {
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
		})
	huma.Register(a, huma.Operation{OperationID: "allow-delivery", Method: http.MethodPost, Path: "/api/deliveries/{delivery}/allow", Summary: "Say yes or no to mail that leaves the house", Description: "It takes a second person: not its owners, not whoever rang, and nobody who saved a record through which it goes there since the address was allowed last. A yes holds for these bytes to this address; with until, for all that the job sends to the address over this destination until then, or until the job, one of its reports or the destination is saved. A no is kept as declined.", Tags: tags, Errors: []int{403, 422}},
		func(ctx context.Context, in *struct {
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
		})
	huma.Register(a, huma.Operation{OperationID: "resend-run", Method: http.MethodPost, Path: "/api/runs/{run}/resend", Summary: "Send again what a run could not deliver", Description: "All deliveries that failed or bounced go out again. Who has it gets it no second time.", Tags: tags, Errors: []int{403, 404}},
		func(ctx context.Context, in *RunPath) (*struct{ Body wire.Count }, error) {
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
		})
	huma.Register(a, huma.Operation{OperationID: "show-destination", Method: http.MethodGet, Path: "/api/destinations/{name}", Summary: "Show a destination and what goes there", Tags: []string{"destinations"}},
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200"`
		},
		) (*struct{ Body wire.DestinationPage }, error) {
			page, err := s.destination(ctx, in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body wire.DestinationPage }{page}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "show-alert-settings", Method: http.MethodGet, Path: "/api/settings/alerts", Summary: "Show how alerts are sent", Tags: []string{"service"}},
		func(ctx context.Context, _ *struct{}) (*struct{ Body job.AlertSettings }, error) {
			var settings job.AlertSettings
			if _, err := s.Store.Setting(ctx, db.AlertSetting, &settings); err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body job.AlertSettings }{settings.WithDefaults()}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "show-mail-settings", Method: http.MethodGet, Path: "/api/settings/mail", Summary: "Show the house's own settings of mail", Tags: []string{"service"}},
		func(ctx context.Context, _ *struct{}) (*struct{ Body job.MailSettings }, error) {
			settings, err := s.Store.MailSettings(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body job.MailSettings }{settings}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "save-mail-settings", Method: http.MethodPut, Path: "/api/settings/mail", Summary: "Say what holds for all mail: its templates, the domains it goes to, and what leaves this installation", Tags: []string{"service"}, Errors: []int{403, 422}},
		func(ctx context.Context, in *struct{ Body job.MailSettings }) (*struct{ Body job.MailSettings }, error) {
			who, _ := person(ctx)
			if err := s.Service.Settings.SaveMail(ctx, who, in.Body); err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body job.MailSettings }{in.Body}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "release-deliveries", Method: http.MethodPost, Path: "/api/deliveries/release", Summary: "Send or drop what was kept back since nothing left the installation", Tags: tags, Errors: []int{403}},
		func(ctx context.Context, in *struct{ Body wire.ReleaseRequest }) (*struct{ Body wire.Count }, error) {
			who, _ := person(ctx)
			n, err := s.Service.Deliveries.ReleaseSilent(ctx, who, in.Body.Send)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body wire.Count }{wire.Count{N: n}}, nil
		})
	s.links(a)
}

func (s *server) destination(ctx context.Context, name string) (wire.DestinationPage, error) {
	p, err := s.Store.Place(ctx, records.Destination, name)
	page := wire.DestinationPage{Place: placeOf(p), Kind: string(deliver.KindOf(p.Protocol)), Uses: []wire.DestinationUse{}}
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

func linkOf(l history.Link) wire.Link {
	words := "everybody who can sign in to Iron Bell"
	if l.Audience == job.LinkNamed {
		words = fmt.Sprintf("only the %d whom the mail went to", len(l.Named.V))
	}
	if l.Archive {
		words += ", with the files of earlier runs"
	}
	return wire.Link{
		ID: l.ID, RunID: l.RunID, Job: l.Job, For: l.Audience, Words: words, Named: l.Named.V, EndsAt: l.EndsAt, CreatedAt: l.CreatedAt, WithdrawnAt: l.WithdrawnAt, WithdrawnBy: l.WithdrawnBy,
		Ended: l.Ended, Follows: l.Follows, LastAt: l.LastAt,
	}
}

func (s *server) links(a huma.API) {
	tags := []string{"links"}
	huma.Register(a, huma.Operation{OperationID: "follow-link", Method: http.MethodGet, Path: "/api/links/{token}", Summary: "Show what a link leads to", Tags: tags, Errors: []int{403, 404, 410}},
		func(ctx context.Context, in *struct {
			Token string `path:"token" maxLength:"100"`
		},
		) (*struct{ Body wire.LinkPage }, error) {
			l, err := s.follow(ctx, in.Token, "followed")
			if err != nil {
				return nil, err
			}
			files, earlier, err := s.leadsTo(ctx, l)
			if err != nil {
				return nil, s.problem(err)
			}
			page := wire.LinkPage{Link: linkOf(l), Files: files}
			for _, e := range earlier {
				page.Earlier = append(page.Earlier, wire.EarlierFiles{RunID: e.RunID, Due: e.Due, Zone: e.Zone, Files: e.Files})
			}
			page.Named = nil // who else got it is nobody's business
			return &struct{ Body wire.LinkPage }{page}, nil
		})
	huma.Register(a, huma.Operation{
		OperationID: "fetch-linked-file", Method: http.MethodGet, Path: "/api/links/{token}/files/{file}", Summary: "Fetch a file that a link leads to", Tags: tags, Errors: []int{403, 404, 410},
		Responses: map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{"application/octet-stream": {}}}},
	},
		func(ctx context.Context, in *struct {
			Token string `path:"token" maxLength:"100"`
			File  int64  `path:"file"`
		},
		) (*huma.StreamResponse, error) {
			l, err := s.follow(ctx, in.Token, "")
			if err != nil {
				return nil, err
			}
			files, earlier, err := s.leadsTo(ctx, l)
			if err != nil {
				return nil, s.problem(err)
			}
			for _, e := range earlier {
				files = append(files, e.Files...)
			}
			for _, f := range files {
				if f.ID != in.File {
					continue
				}
				if f.RemovedAt != nil {
					return nil, huma.NewError(http.StatusGone, fmt.Sprintf("The file %q was removed on %s: its job keeps files for so long.", f.Name, f.RemovedAt.UTC().Format("2 January 2006 15:04 MST")))
				}
				who, _ := person(ctx)
				if err := s.Store.NoteLinkUse(ctx, l.ID, who.Name, "fetched "+f.Name); err != nil {
					return nil, s.problem(err)
				}
				return s.file(ctx, f, func(ctx context.Context, f job.Artifact) (io.ReadSeekCloser, error) { return s.Files.Open(ctx, f.Key) }, func() {}, nil), nil
			}
			return nil, huma.NewError(http.StatusNotFound, "The link leads to no such file.")
		})
	huma.Register(a, huma.Operation{OperationID: "withdraw-links", Method: http.MethodPost, Path: "/api/runs/{run}/links/withdraw", Summary: "End the links to a run's files, or one of them", Tags: tags, Errors: []int{403, 404}},
		func(ctx context.Context, in *struct {
			RunPath
			Body wire.WithdrawRequest
		},
		) (*struct{ Body wire.Count }, error) {
			id, err := runID(in.Run)
			if err != nil {
				return nil, err
			}
			who, _ := person(ctx)
			n, err := s.Service.Runs.WithdrawLinks(ctx, who, id, in.Body.Link)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body wire.Count }{wire.Count{N: n}}, nil
		})
}

// leadsTo lists the files that a link leads to, and those of earlier runs.
func (s *server) leadsTo(ctx context.Context, l history.Link) (files []job.Artifact, earlier []history.Earlier, err error) {
	if files, err = s.Store.LinkFiles(ctx, l); err != nil || !l.Archive {
		return files, nil, err
	}
	earlier, err = s.Store.EarlierFiles(ctx, l)
	return files, earlier, err
}

// follow finds a link and decides whether who is signed in may follow it. Each
// following, and each refusal, is recorded.
func (s *server) follow(ctx context.Context, token, what string) (history.Link, error) {
	who, _ := person(ctx)
	l, err := s.Store.LinkByHash(ctx, history.LinkHash(token))
	if err != nil {
		if isNotFound(err) {
			return l, huma.NewError(http.StatusNotFound, "There is no such link. Check that it was copied whole.")
		}
		return l, s.problem(err)
	}
	refuse := func(word string, status int, text string) (history.Link, error) {
		if err := s.Store.NoteLinkUse(ctx, l.ID, who.Name, word); err != nil {
			return l, s.problem(err)
		}
		return l, huma.NewError(status, text)
	}
	switch {
	case l.WithdrawnAt != nil:
		return refuse("withdrawn", http.StatusGone, fmt.Sprintf("This link was withdrawn on %s. Ask who sent it for the right one.", l.WithdrawnAt.UTC().Format("2 January 2006 15:04 MST")))
	case l.Ended:
		return refuse("ended", http.StatusGone, fmt.Sprintf("This link ended on %s. Ask the owner of %s for the files.", l.EndsAt.UTC().Format("2 January 2006 15:04 MST"), l.Job))
	case !l.For(who):
		return refuse("refused", http.StatusForbidden, "This link is only for those whom the mail went to, and you are signed in as "+who.Name+".")
	}
	if what != "" {
		if err := s.Store.NoteLinkUse(ctx, l.ID, who.Name, what); err != nil {
			return l, s.problem(err)
		}
	}
	return l, nil
}
