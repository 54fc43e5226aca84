package api

import (
	"context"
	"net/http"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/danielgtaylor/huma/v2"
)

// recipients registers who can receive: groups, posts, and what people wish.
func (s *server) recipients(a huma.API) {
	tags := []string{"recipients"}
	named := func(kind, plural string) (list, save, remove huma.Operation) {
		path := "/api/" + plural
		return huma.Operation{OperationID: "list-" + plural, Method: http.MethodGet, Path: path, Summary: "List the " + plural + " by name", Tags: tags},
			huma.Operation{OperationID: "save-" + kind, Method: http.MethodPut, Path: path + "/{name}", Summary: "Add or change a " + kind, Tags: tags, Errors: []int{403, 422}},
			huma.Operation{OperationID: "remove-" + kind, Method: http.MethodDelete, Path: path + "/{name}", Summary: "Remove a " + kind + " that no job sends to", Tags: tags, DefaultStatus: http.StatusNoContent, Errors: []int{403, 404, 422}}
	}
	type name struct {
		Name string `path:"name" maxLength:"200"`
	}
	list, save, remove := named("group", "groups")
	huma.Register(a, list, func(ctx context.Context, _ *struct{}) (*struct{ Body []job.Group }, error) {
		all, err := s.Store.Groups(ctx)
		if err != nil {
			return nil, s.problem(err)
		}
		return &struct{ Body []job.Group }{all}, nil
	})
	huma.Register(a, save, func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"200"`
		Body wire.GroupRequest
	},
	) (*struct{ Body job.Group }, error) {
		who, _ := person(ctx)
		g, err := s.Service.People.SaveGroup(ctx, who, job.Group{Name: in.Name, Members: in.Body.Members})
		if err != nil {
			return nil, s.problem(err)
		}
		return &struct{ Body job.Group }{g}, nil
	})
	huma.Register(a, remove, func(ctx context.Context, in *name) (*struct{}, error) {
		who, _ := person(ctx)
		return nil, s.orProblem(s.Service.People.RemoveGroup(ctx, who, in.Name))
	})
	list, save, remove = named("post", "posts")
	huma.Register(a, list, func(ctx context.Context, _ *struct{}) (*struct{ Body []job.Post }, error) {
		all, err := s.Store.Posts(ctx)
		if err != nil {
			return nil, s.problem(err)
		}
		return &struct{ Body []job.Post }{all}, nil
	})
	huma.Register(a, save, func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"200"`
		Body wire.PostRequest
	},
	) (*struct{ Body job.Post }, error) {
		who, _ := person(ctx)
		p, err := s.Service.People.SavePost(ctx, who, job.Post{Name: in.Name, Under: in.Body.Under, Holders: in.Body.Holders})
		if err != nil {
			return nil, s.problem(err)
		}
		return &struct{ Body job.Post }{p}, nil
	})
	huma.Register(a, remove, func(ctx context.Context, in *name) (*struct{}, error) {
		who, _ := person(ctx)
		return nil, s.orProblem(s.Service.People.RemovePost(ctx, who, in.Name))
	})
	huma.Register(a, huma.Operation{OperationID: "whom", Method: http.MethodPost, Path: "/api/recipients", Summary: "Say whom some recipients come to now", Description: "Lists of addresses are taken apart, and each that is wrong is named.", Tags: tags},
		func(ctx context.Context, in *struct{ Body wire.WhomRequest }) (*struct{ Body wire.Whom }, error) {
			addresses, notes, wrong, err := s.Service.People.Whom(ctx, in.Body.To)
			if err != nil {
				return nil, s.problem(err)
			}
			out := wire.Whom{Addresses: addresses, Notes: notes}
			for _, w := range wrong {
				out.Wrong = append(out.Wrong, wire.Wrong{Where: w.Where, Sentence: w.Sentence})
			}
			return &struct{ Body wire.Whom }{out}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "save-wishes", Method: http.MethodPut, Path: "/api/people/{login}/wishes", Summary: "Say what a person wants for the mails that they get", Description: "They themselves, or an administrator for them.", Tags: tags, Errors: []int{403, 404, 422}},
		func(ctx context.Context, in *struct {
			Login string `path:"login" maxLength:"200"`
			Body  job.OwnSettings
		},
		) (*struct{ Body job.Person }, error) {
			who, _ := person(ctx)
			p, err := s.Service.People.SaveWishes(ctx, who, in.Login, in.Body)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body job.Person }{p}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "receives", Method: http.MethodGet, Path: "/api/people/{login}/receives", Summary: "List the jobs that send to a person", Tags: tags, Errors: []int{404}},
		func(ctx context.Context, in *struct {
			Login string `path:"login" maxLength:"200"`
		},
		) (*struct{ Body []wire.Receives }, error) {
			gets, err := s.Service.People.Receives(ctx, in.Login, recordDays)
			if err != nil {
				return nil, s.problem(err)
			}
			out := make([]wire.Receives, len(gets))
			for i, g := range gets {
				out[i] = wire.Receives{Job: g.Job, JobID: g.JobID, Sent: g.Sent, LastAt: g.LastAt, Last: g.LastWord, Left: g.Left, MayLeave: g.MayLeave}
			}
			return &struct{ Body []wire.Receives }{out}, nil
		})
	for _, word := range []string{"leave", "return"} {
		huma.Register(a, huma.Operation{
			OperationID: word + "-job", Method: http.MethodPost, Path: "/api/people/{login}/" + word, Summary: map[string]string{"leave": "Take a person off a job's list, or off all", "return": "Put a person on a job's list again"}[word],
			Tags: tags, Errors: []int{403, 404, 422},
		},
			func(ctx context.Context, in *struct {
				Login string `path:"login" maxLength:"200"`
				Job   string `query:"job" maxLength:"200" doc:"name of the job; all that send to them when left out"`
			},
			) (*struct{ Body wire.Count }, error) {
				who, _ := person(ctx)
				n, err := s.Service.People.LeaveJobs(ctx, who, in.Login, in.Job, word == "leave")
				if err != nil {
					return nil, s.problem(err)
				}
				return &struct{ Body wire.Count }{wire.Count{N: int64(n)}}, nil
			})
	}
}

// orProblem is a problem when there is an error, and nothing otherwise.
func (s *server) orProblem(err error) error {
	if err == nil {
		return nil
	}
	return s.problem(err)
}
