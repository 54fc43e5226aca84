package api

import (
	"context"
	"net/http"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/store/queue"

	"github.com/danielgtaylor/huma/v2"
)

// queue registers what shows and steers the work that waits: the queue, limits,
// freezes, and what the kinds of task are for.
func (s *server) queue(a huma.API) {
	tags := subject("queue")
	huma.Register(a, tags.get("show-queue", "/api/queue", "Show what works and what waits"), s.showQueue)
	huma.Register(a, tags.get("list-freezes", "/api/freezes", "List freezes"), s.listFreezes)
	huma.Register(a,
		tags.post("freeze", "/api/freezes", "Freeze everything, a source, a destination or a tag", refuses(403, 422),
			answers(http.StatusCreated),
			says("From then on nothing that carries the label begins; what works goes on to its end. Rings meanwhile "+
				"wait, or are passed over, as the freeze says. Alerts go out all the same.")), s.freeze)
	huma.Register(a, tags.post("lift-freeze", "/api/freezes/{freeze}/lift", "End a freeze now", refuses(403, 404)),
		s.liftFreeze)
	huma.Register(a, tags.get("show-limits", "/api/limits", "Show how much may work at once"), s.showLimits)
	huma.Register(a,
		tags.put("save-limits", "/api/limits", "Say how much may work at once", refuses(403, 422),
			says("A map from service, source:name, destination:name or tag:name to the number of parts that may work "+
				"at the same time, over all nodes; for a destination also of lines to it. It replaces all limits.")),
		s.saveLimits)
	huma.Register(a, tags.get("list-task-kinds", "/api/task-kinds", "Say what each kind of task is for"),
		s.listTaskKinds)
}

func (s *server) showQueue(ctx context.Context, _ *struct{}) (*struct{ Body wire.Queue }, error) {
	working, waiting, waits, err := s.Store.Queue(ctx, longestQueue)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.Queue{Working: queueLines(working), Waiting: queueLines(waiting), Waits: waits, Freezes: []job.Freeze{}}
	for i := range out.Working {
		out.Working[i].Reason = "works on " + out.Working[i].Node
	}
	// What waits says what holds it up now.
	runs := make([]job.Run, len(waiting))
	for i, l := range waiting {
		runs[i] = job.Run{ID: l.RunID, State: job.RunWaiting, Reason: l.Reason}
	}
	if err := s.Service.Runs.WaitsNow(ctx, runs); err != nil {
		return nil, s.problem(err)
	}
	for i := range runs {
		out.Waiting[i].Reason = runs[i].Reason
	}
	if out.Limits, err = s.Service.Freezes.Limits(ctx); err != nil {
		return nil, s.problem(err)
	}
	freezes, err := s.Store.Freezes(ctx, false)
	if err != nil {
		return nil, s.problem(err)
	}
	out.Freezes = append(out.Freezes, freezes...)
	return &struct{ Body wire.Queue }{out}, nil
}

func (s *server) listFreezes(ctx context.Context, in *struct {
	Past bool `query:"past" doc:"those that have ended, too"`
},
) (*struct{ Body []job.Freeze }, error) {
	all, err := s.Store.Freezes(ctx, in.Past)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Freeze }{all}, nil
}

func (s *server) freeze(ctx context.Context,
	in *struct{ Body wire.FreezeRequest },
) (*struct{ Body job.Freeze }, error) {
	who, _ := person(ctx)
	f, err := freezeOf(in.Body)
	if err != nil {
		return nil, err
	}
	if f, err = s.Service.Freezes.Freeze(ctx, who, f); err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Freeze }{f}, nil
}

func freezeOf(asked wire.FreezeRequest) (job.Freeze, error) {
	f := job.Freeze{Label: asked.Label, To: asked.To, Rings: asked.Rings, Reason: asked.Reason}
	for _, at := range []*time.Time{asked.From, asked.To} {
		if at != nil {
			if err := known(*at); err != nil {
				return f, err
			}
		}
	}
	if asked.From != nil {
		f.From = *asked.From
	}
	return f, nil
}

func (s *server) liftFreeze(ctx context.Context, in *struct {
	Freeze int64 `path:"freeze"`
},
) (*struct{ Body job.Freeze }, error) {
	who, _ := person(ctx)
	f, err := s.Service.Freezes.Lift(ctx, who, in.Freeze)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Freeze }{f}, nil
}

func (s *server) showLimits(ctx context.Context, _ *struct{}) (*struct{ Body map[string]int }, error) {
	limits, err := s.Service.Freezes.Limits(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body map[string]int }{limits}, nil
}

func (s *server) saveLimits(ctx context.Context,
	in *struct{ Body map[string]int },
) (*struct{ Body map[string]int }, error) {
	who, _ := person(ctx)
	if err := s.Service.Freezes.SaveLimits(ctx, who, in.Body); err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body map[string]int }{in.Body}, nil
}

func (s *server) listTaskKinds(context.Context, *struct{}) (*struct{ Body []wire.TaskKind }, error) {
	out := []wire.TaskKind{}
	for _, h := range s.Node.Help() {
		out = append(out, wire.TaskKind(h))
	}
	return &struct{ Body []wire.TaskKind }{out}, nil
}

const longestQueue = 500

func queueLines(lines []queue.Line) []wire.QueueLine {
	out := make([]wire.QueueLine, len(lines))
	for i, l := range lines {
		out[i] = wire.QueueLine(l)
	}
	return out
}
