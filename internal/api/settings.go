package api

import (
	"context"
	"net/http"

	"ironbell/internal/service"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"

	"github.com/danielgtaylor/huma/v2"
)

// BounceRequest is the mailbox for bounces, with its password.
type BounceRequest struct {
	deliver.Bounces
	Password *string `json:"password,omitempty" maxLength:"10000" doc:"kept as it is when left out"`
}

// BouncePage is the mailbox for bounces, with how the last look went.
type BouncePage struct {
	deliver.Bounces
	Last wire.LastDone `json:"last"`
}

// HeartbeatPage is where the sign of life goes, with how the last one went.
type HeartbeatPage struct {
	job.Heartbeat
	Last wire.LastDone `json:"last"`
}

// settings registers what an installation is set to for its signs to the outside.
func (s *server) settings(a huma.API) {
	tags := []string{"service"}
	huma.Register(a, huma.Operation{OperationID: "show-bounces", Method: http.MethodGet, Path: "/api/settings/bounces", Summary: "Show which mailbox bounces come to, and how the last look into it went", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*struct{ Body BouncePage }, error) {
			b, t, err := s.Service.Settings.Bounces(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body BouncePage }{BouncePage{b, wire.LastDone{At: t.TakenAt, Word: t.Word}}}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "save-bounces", Method: http.MethodPut, Path: "/api/settings/bounces", Summary: "Say which mailbox bounces come to", Tags: tags, DefaultStatus: http.StatusNoContent, Errors: []int{403, 422}},
		func(ctx context.Context, in *struct{ Body BounceRequest }) (*struct{}, error) {
			who, _ := person(ctx)
			return nil, s.orProblem(s.Service.Settings.SaveBounces(ctx, who, in.Body.Bounces, in.Body.Password, s.Vault))
		})
	huma.Register(a, huma.Operation{OperationID: "show-heartbeat", Method: http.MethodGet, Path: "/api/settings/heartbeat", Summary: "Show where the sign of life goes, and how the last one went", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*struct{ Body HeartbeatPage }, error) {
			h, t, err := s.Service.Settings.Heartbeat(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body HeartbeatPage }{HeartbeatPage{h, wire.LastDone{At: t.TakenAt, Word: t.Word}}}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "save-heartbeat", Method: http.MethodPut, Path: "/api/settings/heartbeat", Summary: "Say where a sign of life goes, so that silence is noticed elsewhere", Tags: tags, DefaultStatus: http.StatusNoContent, Errors: []int{403, 422}},
		func(ctx context.Context, in *struct{ Body job.Heartbeat }) (*struct{}, error) {
			who, _ := person(ctx)
			return nil, s.orProblem(s.Service.Settings.SaveHeartbeat(ctx, who, in.Body))
		})
	huma.Register(a, huma.Operation{OperationID: "show-keeping", Method: http.MethodGet, Path: "/api/settings/keeping", Summary: "Show for how many days is kept what belongs to no single job", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*struct{ Body job.KeepingSettings }, error) {
			k, err := s.Store.Keeping(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body job.KeepingSettings }{k}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "save-keeping", Method: http.MethodPut, Path: "/api/settings/keeping", Summary: "Say for how many days is kept what belongs to no single job", Description: "Closed alerts, the record of changes, links that ended, events. Runs, logs and files are kept as their jobs say.", Tags: tags, DefaultStatus: http.StatusNoContent, Errors: []int{403, 422}},
		func(ctx context.Context, in *struct{ Body job.KeepingSettings }) (*struct{}, error) {
			who, _ := person(ctx)
			return nil, s.orProblem(s.Service.Settings.SaveKeeping(ctx, who, in.Body))
		})
	huma.Register(a, huma.Operation{OperationID: "show-copy", Method: http.MethodGet, Path: "/api/settings/copy", Summary: "Tell whether this installation is a copy that nobody has spoken of", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*struct{ Body wire.Copy }, error) {
			is, err := s.Service.Installation.Is(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			out := wire.Copy{Since: is.Copy, Why: is.Why}
			if is.Copy == nil && is.Test != nil {
				out.Test, out.Named = true, is.Test.Named
			}
			return &struct{ Body wire.Copy }{out}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "say-copy", Method: http.MethodPost, Path: "/api/settings/copy", Summary: "Say what a copy is, and let it work", Description: "all: it goes on in place of the first one. one address, none: it is for tests, and acts on nothing outside itself but what is named; what waited in the queues of the original ends in it. It can be said again of a copy for tests.", Tags: tags, DefaultStatus: http.StatusNoContent, Errors: []int{403, 422}},
		func(ctx context.Context, in *struct{ Body wire.CopyRequest }) (*struct{}, error) {
			who, _ := person(ctx)
			return nil, s.orProblem(s.Service.Installation.SaySo(ctx, who, service.Said{Sending: job.Sending(in.Body.Sending), OnlyTo: in.Body.OnlyTo, Named: in.Body.Named}))
		})
	huma.Register(a, huma.Operation{OperationID: "show-programs", Method: http.MethodGet, Path: "/api/settings/programs", Summary: "Tell what keeps the programs of tasks apart from the service, on the node that answers", Tags: tags},
		func(context.Context, *struct{}) (*struct{ Body engine.Programs }, error) {
			return &struct{ Body engine.Programs }{s.Node.Programs()}, nil
		})
}
