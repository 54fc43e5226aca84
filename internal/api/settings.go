package api

import (
	"context"
	"net/http"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/service"

	"github.com/danielgtaylor/huma/v2"
)

// settings registers what an installation is set to for its signs to the outside.
func (s *server) settings(a huma.API) {
	tags := subject("service")
	huma.Register(a,
		tags.get("show-bounces", "/api/settings/bounces",
			"Show which mailbox bounces come to, and how the last look into it went"), s.showBounces)
	huma.Register(a,
		tags.put("save-bounces", "/api/settings/bounces", "Say which mailbox bounces come to", refuses(403, 422),
			answers(http.StatusNoContent)), s.saveBounces)
	huma.Register(a,
		tags.get("show-heartbeat", "/api/settings/heartbeat",
			"Show where the sign of life goes, and how the last one went"), s.showHeartbeat)
	huma.Register(a,
		tags.put("save-heartbeat", "/api/settings/heartbeat",
			"Say where a sign of life goes, so that silence is noticed elsewhere", refuses(403, 422),
			answers(http.StatusNoContent)), s.saveHeartbeat)
	huma.Register(a,
		tags.get("show-keeping", "/api/settings/keeping",
			"Show for how many days is kept what belongs to no single job"), s.showKeeping)
	huma.Register(a,
		tags.put("save-keeping", "/api/settings/keeping", "Say for how many days is kept what belongs to no single job",
			refuses(403, 422), answers(http.StatusNoContent),
			says("Closed alerts, the record of changes, links that ended, events. Runs, logs and files are kept as "+
				"their jobs say.")), s.saveKeeping)
	huma.Register(a,
		tags.get("show-copy", "/api/settings/copy",
			"Tell whether this installation is a copy that nobody has spoken of"), s.showCopy)
	huma.Register(a,
		tags.post("say-copy", "/api/settings/copy", "Say what a copy is, and let it work", refuses(403, 422),
			answers(http.StatusNoContent),
			says("all: it goes on in place of the first one. one address, none: it is for tests, and acts on nothing "+
				"outside itself but what is named; what waited in the queues of the original ends in it. It can be "+
				"said again of a copy for tests.")), s.sayCopy)
	huma.Register(a,
		tags.get("show-programs", "/api/settings/programs",
			"Tell what keeps the programs of tasks apart from the service, on the node that answers"), s.showPrograms)
}

func (s *server) showBounces(ctx context.Context, _ *struct{}) (*struct{ Body BouncePage }, error) {
	b, t, err := s.Service.Settings.Bounces(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body BouncePage }{BouncePage{b, wire.LastDone{At: t.TakenAt, Word: t.Word}}}, nil
}

func (s *server) saveBounces(ctx context.Context, in *struct{ Body BounceRequest }) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.orProblem(s.Service.Settings.SaveBounces(ctx, who, in.Body.Bounces, in.Body.Password, s.Vault))
}

func (s *server) showHeartbeat(ctx context.Context, _ *struct{}) (*struct{ Body HeartbeatPage }, error) {
	h, t, err := s.Service.Settings.Heartbeat(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body HeartbeatPage }{HeartbeatPage{h, wire.LastDone{At: t.TakenAt, Word: t.Word}}}, nil
}

func (s *server) saveHeartbeat(ctx context.Context, in *struct{ Body job.Heartbeat }) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.orProblem(s.Service.Settings.SaveHeartbeat(ctx, who, in.Body))
}

func (s *server) showKeeping(ctx context.Context, _ *struct{}) (*struct{ Body job.KeepingSettings }, error) {
	k, err := s.Store.Keeping(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.KeepingSettings }{k}, nil
}

func (s *server) saveKeeping(ctx context.Context, in *struct{ Body job.KeepingSettings }) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.orProblem(s.Service.Settings.SaveKeeping(ctx, who, in.Body))
}

func (s *server) showCopy(ctx context.Context, _ *struct{}) (*struct{ Body wire.Copy }, error) {
	is, err := s.Service.Installation.Is(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.Copy{Since: is.Copy, Why: is.Why}
	if is.Copy == nil && is.Test != nil {
		out.Test, out.Named = true, is.Test.Named
	}
	return &struct{ Body wire.Copy }{out}, nil
}

func (s *server) sayCopy(ctx context.Context, in *struct{ Body wire.CopyRequest }) (*struct{}, error) {
	who, _ := person(ctx)
	return nil,
		s.orProblem(s.Service.Installation.SaySo(ctx, who, service.Said{
			Sending: job.Sending(in.Body.Sending), OnlyTo: in.Body.OnlyTo, Named: in.Body.Named,
		}))
}

func (s *server) showPrograms(context.Context, *struct{}) (*struct{ Body engine.Programs }, error) {
	return &struct{ Body engine.Programs }{s.Node.Programs()}, nil
}

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
