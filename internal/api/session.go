package api

import (
	"context"
	"errors"
	"net/http"
	"strings"
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
			// Asked before, so that a password that is changed meanwhile ends this session, too.
			no, err := s.Store.AccessNo(ctx, in.Body.Login)
			if err != nil {
				return nil, s.problem(err)
			}
			p, err := access.SignIn(ctx, s.Store, in.Body.Login, in.Body.Password)
			if err != nil {
				return nil, s.problem(err)
			}
			if err := s.sessions.RenewToken(ctx); err != nil {
				return nil, s.problem(err)
			}
			s.sessions.Put(ctx, "person", p.ID)
			s.sessions.Put(ctx, "access", no)
			return &struct{ Body wire.Me }{wire.Me{Person: p, Version: s.Version}}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "make-token", Method: http.MethodPost, Path: "/api/tokens", Summary: "Sign in, for a program: make an API token", Tags: []string{"access"}, Security: open, Errors: []int{401, 429}},
		func(ctx context.Context, in *struct{ Body wire.TokenRequest }) (*struct{ Body wire.Token }, error) {
			no, err := s.Store.AccessNo(ctx, in.Body.Login)
			if err != nil {
				return nil, s.problem(err)
			}
			p, err := access.SignIn(ctx, s.Store, in.Body.Login, in.Body.Password)
			if err != nil {
				return nil, s.problem(err)
			}
			ends := s.Engine.Now().Add(tokenLife)
			token, err := access.NewToken(ctx, s.Store, p.ID, in.Body.Name, ends)
			if err != nil {
				return nil, s.problem(err)
			}
			// A password that was changed meanwhile ends this token, too.
			if now, err := s.Store.AccessNo(ctx, in.Body.Login); err != nil || now != no {
				return nil, s.problem(errors.Join(access.ErrSignIn, err, access.EndToken(ctx, s.Store, token)))
			}
			return &struct{ Body wire.Token }{wire.Token{Token: token, Person: p, EndsAt: ends}}, nil
		})
}

// password registers what asks for a password of those who are signed in.
func (s *server) password(a huma.API) {
	huma.Register(a, huma.Operation{OperationID: "change-password", Method: http.MethodPut, Path: "/api/session/password", Summary: "Change your own password", Description: "All your sessions and tokens end with it, also the one that asks, and so does your link to the forecast: sign in again.", Tags: []string{"access"}, DefaultStatus: http.StatusNoContent, Errors: []int{422, 429}},
		func(ctx context.Context, in *struct{ Body wire.PasswordRequest }) (*struct{}, error) {
			who, _ := person(ctx)
			return nil, s.orProblem(s.Engine.ChangePassword(ctx, who, in.Body.Present, in.Body.Next))
		})
}

// people registers who is who.
func (s *server) people(a huma.API) {
	huma.Register(a, huma.Operation{OperationID: "who-am-i", Method: http.MethodGet, Path: "/api/session", Summary: "Who is signed in", Tags: []string{"access"}},
		func(ctx context.Context, _ *struct{}) (*struct{ Body wire.Me }, error) {
			p, _ := person(ctx)
			return &struct{ Body wire.Me }{wire.Me{Person: p, Version: s.Version}}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/session", Summary: "Sign out: end the session, or the token that is sent", Tags: []string{"access"}, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *struct {
			Authorization string `header:"Authorization"`
		},
		) (*struct{}, error) {
			if token, ok := strings.CutPrefix(in.Authorization, "Bearer "); ok {
				return nil, s.orProblem(access.EndToken(ctx, s.Store, strings.TrimSpace(token)))
			}
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
