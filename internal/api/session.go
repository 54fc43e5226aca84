package api

import (
	"context"
	"net/http"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/danielgtaylor/huma/v2"
)

const tokenLife = 90 * 24 * time.Hour

// signIn registers the operations that are open to everybody.
func (s *server) signIn(a huma.API) {
	open := []map[string][]string{}
	huma.Register(a, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/api/session", Summary: "Sign in, for a browser", Tags: []string{"access"}, Security: open, Errors: []int{401, 429}},
		func(ctx context.Context, in *struct{ Body wire.Credentials }) (*struct{ Body wire.Me }, error) {
			p, err := access.SignIn(ctx, s.Store, in.Body.Login, in.Body.Password)
			if err != nil {
				return nil, s.problem(err)
			}
			if err := s.sessions.RenewToken(ctx); err != nil {
				return nil, s.problem(err)
			}
			s.sessions.Put(ctx, "person", p.ID)
			return &struct{ Body wire.Me }{wire.Me{Person: p, Version: s.Version}}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "make-token", Method: http.MethodPost, Path: "/api/tokens", Summary: "Sign in, for a program: make an API token", Tags: []string{"access"}, Security: open, Errors: []int{401, 429}},
		func(ctx context.Context, in *struct{ Body wire.TokenRequest }) (*struct{ Body wire.Token }, error) {
			p, err := access.SignIn(ctx, s.Store, in.Body.Login, in.Body.Password)
			if err != nil {
				return nil, s.problem(err)
			}
			ends := s.Engine.Now().Add(tokenLife)
			token, err := access.NewToken(ctx, s.Store, p.ID, in.Body.Name, ends)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body wire.Token }{wire.Token{Token: token, Person: p, EndsAt: ends}}, nil
		})
}

// people registers who is who.
func (s *server) people(a huma.API) {
	huma.Register(a, huma.Operation{OperationID: "who-am-i", Method: http.MethodGet, Path: "/api/session", Summary: "Who is signed in", Tags: []string{"access"}},
		func(ctx context.Context, _ *struct{}) (*struct{ Body wire.Me }, error) {
			p, _ := person(ctx)
			return &struct{ Body wire.Me }{wire.Me{Person: p, Version: s.Version}}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/session", Summary: "Sign out", Tags: []string{"access"}, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, _ *struct{}) (*struct{}, error) {
			return nil, s.sessions.Destroy(ctx)
		})
	huma.Register(a, huma.Operation{OperationID: "list-people", Method: http.MethodGet, Path: "/api/people", Summary: "List the people", Tags: []string{"access"}},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []job.Person }, error) {
			people, err := s.Store.People(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body []job.Person }{people}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "save-person", Method: http.MethodPut, Path: "/api/people/{login}", Summary: "Add or change a person", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
			Login string `path:"login" maxLength:"200"`
			Body  wire.PersonRequest
		},
		) (*struct{ Body job.Person }, error) {
			who, _ := person(ctx)
			if err := access.May(who, access.Administer, "", ""); err != nil {
				return nil, s.problem(err)
			}
			p, err := s.Engine.SavePerson(ctx, who, job.Person{Login: in.Login, Name: in.Body.Name, Mail: in.Body.Mail, Role: job.Role(in.Body.Role), Zone: in.Body.Zone}, in.Body.Password)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body job.Person }{p}, nil
		})
}
