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
	s.mine(a)
	tags := subject("recipients")
	huma.Register(a, tags.get("list-groups", "/api/groups", "List the groups by name"), s.listGroups)
	huma.Register(a, tags.put("save-group", "/api/groups/{name}", "Add or change a group", refuses(403, 422)),
		s.saveGroup)
	huma.Register(a,
		tags.delete("remove-group", "/api/groups/{name}", "Remove a group that nothing needs; it can be brought back for 30 days", refuses(403, 404, 422),
			answers(http.StatusNoContent)), s.removeGroup)
	huma.Register(a, tags.get("list-posts", "/api/posts", "List the posts by name"), s.listPosts)
	huma.Register(a, tags.put("save-post", "/api/posts/{name}", "Add or change a post", refuses(403, 422)), s.savePost)
	huma.Register(a,
		tags.delete("remove-post", "/api/posts/{name}", "Remove a post that nothing needs; it can be brought back for 30 days", refuses(403, 404, 422),
			answers(http.StatusNoContent)), s.removePost)
	huma.Register(a,
		tags.post("whom", "/api/recipients", "Say whom some recipients come to now",
			says("Lists of addresses are taken apart, and each that is wrong is named.")), s.whom)
	huma.Register(a,
		tags.put("save-wishes", "/api/people/{login}/wishes", "Say what a person wants for the mails that they get",
			refuses(403, 404, 422), says("They themselves, or an administrator for them.")), s.saveWishes)
	huma.Register(a,
		tags.get("receives", "/api/people/{login}/receives", "List the jobs that send to a person", refuses(404)),
		s.receives)
	huma.Register(a,
		tags.get("in-role", "/api/people/{login}/roles/{role}", "Say what follows when a person is given a role",
			refuses(403, 404), says("Nothing is changed. The list is empty when they have the role already.")), s.inRole)
	huma.Register(a,
		tags.post("leave-job", "/api/people/{login}/leave", "Take a person off a job's list, or off all",
			refuses(403, 404, 422)), s.leaveJobs(true))
	huma.Register(a,
		tags.post("return-job", "/api/people/{login}/return", "Put a person on a job's list again",
			refuses(403, 404, 422)), s.leaveJobs(false))
}

func (s *server) listGroups(ctx context.Context, _ *struct{}) (*struct{ Body []job.Group }, error) {
	all, err := s.Store.Groups(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Group }{all}, nil
}

func (s *server) saveGroup(ctx context.Context, in *struct {
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
}

func (s *server) removeGroup(ctx context.Context, in *namePath) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.removed(ctx, who, "group", in.Name)
}

func (s *server) listPosts(ctx context.Context, _ *struct{}) (*struct{ Body []job.Post }, error) {
	all, err := s.Store.Posts(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Post }{all}, nil
}

func (s *server) savePost(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
	Body wire.PostRequest
},
) (*struct{ Body job.Post }, error) {
	who, _ := person(ctx)
	p, err := s.Service.People.SavePost(ctx, who, job.Post{
		Name: in.Name, Under: in.Body.Under, Holders: in.Body.Holders,
	})
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Post }{p}, nil
}

func (s *server) removePost(ctx context.Context, in *namePath) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.removed(ctx, who, "post", in.Name)
}

func (s *server) leaveJobs(leave bool) func(ctx context.Context, in *leaving) (*struct{ Body wire.Count }, error) {
	return func(ctx context.Context, in *leaving) (*struct{ Body wire.Count }, error) {
		who, _ := person(ctx)
		n, err := s.Service.People.LeaveJobs(ctx, who, in.Login, in.Job, leave)
		if err != nil {
			return nil, s.problem(err)
		}
		return &struct{ Body wire.Count }{wire.Count{N: int64(n)}}, nil
	}
}

func (s *server) whom(ctx context.Context, in *struct{ Body wire.WhomRequest }) (*struct{ Body wire.Whom }, error) {
	addresses, notes, wrong, err := s.Service.People.Whom(ctx, in.Body.To)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.Whom{Addresses: addresses, Notes: notes}
	for _, w := range wrong {
		out.Wrong = append(out.Wrong, wire.Wrong{Where: w.Where, Sentence: w.Sentence})
	}
	return &struct{ Body wire.Whom }{out}, nil
}

func (s *server) saveWishes(ctx context.Context, in *struct {
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
}

func (s *server) receives(ctx context.Context, in *struct {
	Login string `path:"login" maxLength:"200"`
},
) (*struct{ Body []wire.Receives }, error) {
	gets, err := s.Service.People.Receives(ctx, in.Login, recordDays)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []wire.Receives }{receivesOf(gets)}, nil
}

func (s *server) inRole(ctx context.Context, in *struct {
	Login string   `path:"login" maxLength:"200"`
	Role  job.Role `path:"role" enum:"administrator,owner,reader"`
},
) (*struct{ Body []string }, error) {
	who, _ := person(ctx)
	follows, err := s.Service.People.InRole(ctx, who, in.Login, in.Role)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []string }{follows}, nil
}

// orProblem is a problem when there is an error, and nothing otherwise.
func (s *server) orProblem(err error) error {
	if err == nil {
		return nil
	}
	return s.problem(err)
}

// namePath names a record in an address.
type namePath struct {
	Name string `path:"name" maxLength:"200"`
}

// leaving names a person, and which list they leave or come back to.
type leaving struct {
	Login string `path:"login" maxLength:"200"`
	Job   string `query:"job" maxLength:"200" doc:"name of the job; all that send to them when left out"`
}
