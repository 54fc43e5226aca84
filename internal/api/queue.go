package api

import (
	"context"
	"net/http"
	"time"

	"ironbell/internal/store/queue"
	"ironbell/internal/store/records"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/danielgtaylor/huma/v2"
)

const longestQueue = 500

// queue registers what shows and steers the work that waits: the queue, limits,
// freezes, and what the kinds of task are for.
func (s *server) queue(a huma.API) {
	tags := []string{"queue"}
	huma.Register(a, huma.Operation{OperationID: "show-queue", Method: http.MethodGet, Path: "/api/queue", Summary: "Show what works and what waits", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*struct{ Body wire.Queue }, error) {
			working, waiting, waits, err := s.Store.Queue(ctx, longestQueue)
			if err != nil {
				return nil, s.problem(err)
			}
			out := wire.Queue{Working: queueLines(working), Waiting: queueLines(waiting), Waits: waits, Freezes: []wire.Freeze{}}
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
			for _, f := range freezes {
				out.Freezes = append(out.Freezes, wire.Freeze(f))
			}
			return &struct{ Body wire.Queue }{out}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "list-freezes", Method: http.MethodGet, Path: "/api/freezes", Summary: "List freezes", Tags: tags},
		func(ctx context.Context, in *struct {
			Past bool `query:"past" doc:"those that have ended, too"`
		},
		) (*struct{ Body []wire.Freeze }, error) {
			all, err := s.Store.Freezes(ctx, in.Past)
			if err != nil {
				return nil, s.problem(err)
			}
			out := []wire.Freeze{}
			for _, f := range all {
				out = append(out, wire.Freeze(f))
			}
			return &struct{ Body []wire.Freeze }{out}, nil
		})
	huma.Register(a, huma.Operation{
		OperationID: "freeze", Method: http.MethodPost, Path: "/api/freezes", Summary: "Freeze everything, a source, a destination or a tag", Tags: tags, DefaultStatus: http.StatusCreated, Errors: []int{403, 422},
		Description: "From then on nothing that carries the label begins; what works goes on to its end. Rings meanwhile wait, or are passed over, as the freeze says. Alerts go out all the same.",
	},
		func(ctx context.Context, in *struct{ Body wire.FreezeRequest }) (*struct{ Body wire.Freeze }, error) {
			who, _ := person(ctx)
			f := records.Freeze{Label: in.Body.Label, To: in.Body.To, Rings: in.Body.Rings, Reason: in.Body.Reason}
			for _, at := range []*time.Time{in.Body.From, in.Body.To} {
				if at != nil {
					if err := known(*at); err != nil {
						return nil, err
					}
				}
			}
			if in.Body.From != nil {
				f.From = *in.Body.From
			}
			f, err := s.Service.Freezes.Freeze(ctx, who, f)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body wire.Freeze }{wire.Freeze(f)}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "lift-freeze", Method: http.MethodPost, Path: "/api/freezes/{freeze}/lift", Summary: "End a freeze now", Tags: tags, Errors: []int{403, 404}},
		func(ctx context.Context, in *struct {
			Freeze int64 `path:"freeze"`
		},
		) (*struct{ Body wire.Freeze }, error) {
			who, _ := person(ctx)
			f, err := s.Service.Freezes.Lift(ctx, who, in.Freeze)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body wire.Freeze }{wire.Freeze(f)}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "show-limits", Method: http.MethodGet, Path: "/api/limits", Summary: "Show how much may work at once", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*struct{ Body map[string]int }, error) {
			limits, err := s.Service.Freezes.Limits(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body map[string]int }{limits}, nil
		})
	huma.Register(a, huma.Operation{
		OperationID: "save-limits", Method: http.MethodPut, Path: "/api/limits", Summary: "Say how much may work at once", Tags: tags, Errors: []int{403, 422},
		Description: "A map from service, source:name, destination:name or tag:name to the number of parts that may work at the same time, over all nodes; for a destination also of lines to it. It replaces all limits.",
	},
		func(ctx context.Context, in *struct{ Body map[string]int }) (*struct{ Body map[string]int }, error) {
			who, _ := person(ctx)
			if err := s.Service.Freezes.SaveLimits(ctx, who, in.Body); err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body map[string]int }{in.Body}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "list-task-kinds", Method: http.MethodGet, Path: "/api/task-kinds", Summary: "Say what each kind of task is for", Tags: tags},
		func(context.Context, *struct{}) (*struct{ Body []wire.TaskKind }, error) {
			out := []wire.TaskKind{}
			for _, h := range s.Node.Help() {
				out = append(out, wire.TaskKind(h))
			}
			return &struct{ Body []wire.TaskKind }{out}, nil
		})
}

func queueLines(lines []queue.Line) []wire.QueueLine {
	out := make([]wire.QueueLine, len(lines))
	for i, l := range lines {
		out[i] = wire.QueueLine(l)
	}
	return out
}
