package api

import (
	"context"

	"ironbell/internal/core/job"

	"github.com/danielgtaylor/huma/v2"
)

// waiting registers what jobs wait for, and looks at it.
func (s *server) waiting(a huma.API) {
	tags := subject("events")
	huma.Register(a, tags.get("list-waiting", "/api/waiting", "List what jobs wait for, and how far each has come",
		says("Of each trigger that waits for something: which of its conditions came about and still count, which are "+
			"looked at and when, and which runs wait. At most 500.")), s.listWaiting)
	huma.Register(a, tags.post("look-now", "/api/look", "Look at what a condition waits for, and start nothing",
		refuses(403, 422), says("For whoever may save jobs: the files that lie there, what a statement answers, the last such "+
			"event, or the last run. It need not be saved.")), s.lookNow)
}

func (s *server) listWaiting(ctx context.Context, in *struct {
	Job string `query:"job" maxLength:"200" doc:"only of the job of this name"`
},
) (*struct{ Body []job.Waiting }, error) {
	all, err := s.Service.Jobs.Waiting(ctx, in.Job)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Waiting }{all}, nil
}

func (s *server) lookNow(ctx context.Context, in *struct{ Body job.Condition }) (*struct{ Body job.Looked }, error) {
	who, _ := person(ctx)
	seen, err := s.Service.Jobs.LookNow(ctx, who, in.Body)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Looked }{seen}, nil
}
