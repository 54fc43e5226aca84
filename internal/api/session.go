package api

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"
	"unicode"

	"ironbell/internal/access"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/httprate"
)

// signIn registers the operations that are open to everybody.
func (s *server) signIn(a huma.API) {
	huma.Register(a,
		subject("access").post("sign-in", "/api/session", "Sign in, for a browser", refuses(401, 429), unsigned),
		s.signInOf)
	huma.Register(a,
		subject("access").post("make-token", "/api/tokens", "Sign in, for a program: make an API token",
			refuses(401, 429), unsigned), s.makeToken)
}

func (s *server) signInOf(ctx context.Context, in *struct {
	Body  wire.Credentials
	Agent string `header:"User-Agent"`
},
) (*struct{ Body wire.Me }, error) {
	ends := s.Now().Add(sessionLength)
	p, id, _, err := s.begin(ctx, in.Body, job.SignIn{Kind: job.Session, Name: shown(in.Agent), EndsAt: &ends})
	if err != nil {
		return nil, err
	}
	if err := s.sessions.RenewToken(ctx); err != nil {
		return nil, s.problem(err)
	}
	s.sessions.Put(ctx, "sign-in", id)
	return &struct{ Body wire.Me }{s.me(p)}, nil
}

func (s *server) makeToken(ctx context.Context,
	in *struct{ Body wire.TokenRequest },
) (*struct{ Body wire.Token }, error) {
	ends := s.Now().Add(tokenLife)
	p, _, token, err := s.begin(ctx, in.Body.Credentials, job.SignIn{
		Kind: job.Token, Name: shown(in.Body.Name), EndsAt: &ends,
	})
	if err != nil {
		return nil, err
	}
	return &struct{ Body wire.Token }{wire.Token{Token: token, Person: p, EndsAt: ends}}, nil
}

// begin opens a way in for whoever has a login and its password.
func (s *server) begin(ctx context.Context, who wire.Credentials, way job.SignIn) (job.Person, int64, string, error) {
	way.Address = addressOf(ctx)
	key := httprate.CanonicalizeIP(way.Address)
	now := s.Now()
	if !s.tries.Take(now, who.Login, key) {
		s.Log.Warn("too many tries to sign in", "login", who.Login, "address", way.Address)
		return job.Person{}, 0, "",
			huma.NewError(http.StatusTooManyRequests,
				"Too many tries to sign in from here. Wait a minute, then try again.")
	}
	p, id, token, err := access.SignIn(ctx, s.Store, who.Login, who.Password, way)
	switch {
	case errors.Is(err, access.ErrSignIn):
		s.Log.Warn("a sign-in failed", "login", who.Login, "address", way.Address, "kind", way.Kind)
	default:
		s.tries.GiveBack(now, who.Login, key)
	}
	if err != nil {
		return p, 0, "", s.problem(err)
	}
	s.Log.Info("signed in", "login", p.Login, "address", way.Address, "kind", way.Kind)
	return p, id, token, nil
}

// password registers what asks for a password of those who are signed in.
func (s *server) password(a huma.API) {
	huma.Register(a,
		subject("access").put("change-password", "/api/session/password", "Change your own password", refuses(422, 429),
			answers(http.StatusNoContent),
			says("All your sessions and tokens end with it, also the one that asks, and so does your link to the "+
				"forecast: sign in again.")), s.changePassword)
}

func (s *server) changePassword(ctx context.Context, in *struct{ Body wire.PasswordRequest }) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.orProblem(s.Service.People.ChangePassword(ctx, who, in.Body.Present, in.Body.Next))
}

// end ends a way in.
func (s *server) end(ctx context.Context, who job.Person, id int64) error {
	if err := access.EndSignIn(ctx, s.Store, who, id, addressOf(ctx)); err != nil {
		return s.problem(err)
	}
	s.Log.Info("a session or token was ended", "by", who.Login, "address", addressOf(ctx))
	return nil
}

// whose is the person of a login, of whom somebody may speak; themselves when it is empty.
func (s *server) whose(ctx context.Context, who job.Person, login string) (job.Person, error) {
	if login == "" {
		return who, nil
	}
	p, _, err := s.Store.PersonByLogin(ctx, login)
	if err != nil {
		return p, err
	}
	return p, access.MaySpeakFor(who, p)
}

// people registers who is who.
func (s *server) people(a huma.API) {
	huma.Register(a, subject("access").get("who-am-i", "/api/session", "Who is signed in"), s.whoAmI)
	huma.Register(a,
		subject("access").delete("sign-out", "/api/session", "Sign out: end the session, or the token that is sent",
			answers(http.StatusNoContent)), s.signOut)
	huma.Register(a,
		subject("access").get("list-sign-ins", "/api/sign-ins",
			"List the sessions and tokens that you have open, or somebody has", refuses(403, 404)), s.listSignIns)
	huma.Register(a,
		subject("access").delete("end-sign-in", "/api/sign-ins/{id}",
			"End a session or token: your own, or anybody's as an administrator", refuses(404),
			answers(http.StatusNoContent)), s.endSignIn)
	huma.Register(a, subject("access").get("list-people", "/api/people", "List the people"), s.listPeople)
	huma.Register(a, subject("access").put("save-person", "/api/people/{login}", "Add or change a person"),
		s.savePerson)
}

func (s *server) whoAmI(ctx context.Context, _ *struct{}) (*struct{ Body wire.Me }, error) {
	p, _ := person(ctx)
	return &struct{ Body wire.Me }{s.me(p)}, nil
}

func (s *server) signOut(ctx context.Context, _ *struct{}) (*struct{}, error) {
	who, _ := person(ctx)
	if err := s.end(ctx, who, wayOf(ctx).ID); err != nil || wayOf(ctx).Kind == job.Token {
		return nil, err
	}
	return nil, s.sessions.Destroy(ctx)
}

func (s *server) listSignIns(ctx context.Context, in *struct {
	Login string `query:"login" maxLength:"200" doc:"whose; yours when left out, and anybody's for administrators"`
},
) (*struct{ Body []wire.SignIn }, error) {
	who, _ := person(ctx)
	whose, err := s.whose(ctx, who, in.Login)
	if err != nil {
		return nil, s.problem(err)
	}
	all, err := s.Store.SignIns(ctx, whose.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	out := make([]wire.SignIn, len(all))
	for i, one := range all {
		out[i] = wire.SignIn{SignIn: one, This: one.ID == wayOf(ctx).ID}
	}
	return &struct{ Body []wire.SignIn }{out}, nil
}

func (s *server) endSignIn(ctx context.Context, in *struct {
	ID int64 `path:"id"`
},
) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.end(ctx, who, in.ID)
}

func (s *server) listPeople(ctx context.Context, _ *struct{}) (*struct{ Body []job.Person }, error) {
	people, err := s.Store.People(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Person }{people}, nil
}

func (s *server) savePerson(ctx context.Context, in *struct {
	Login string `path:"login" maxLength:"200"`
	Body  wire.PersonRequest
},
) (*struct{ Body job.Person }, error) {
	who, _ := person(ctx)
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return nil, s.problem(err)
	}
	p, err := s.Service.People.Save(ctx, who,
		job.Person{
			Login: in.Login, Name: in.Body.Name, Mail: in.Body.Mail, Role: job.Role(in.Body.Role), Zone: in.Body.Zone,
		}, in.Body.Password)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Person }{p}, nil
}

const tokenLife = 90 * 24 * time.Hour

// shown is what a program says of itself, as it can be shown: bounded, without characters
// that steer a terminal.
func shown(text string) string {
	text = strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, text)
	const most = 200
	if letters := []rune(text); len(letters) > most {
		return string(letters[:most])
	}
	return text
}

// me is what the console knows of who is signed in.
func (s *server) me(p job.Person) wire.Me {
	words := func(acts []access.Act) []string {
		out := make([]string, len(acts))
		for i, a := range acts {
			out[i] = string(a)
		}
		return out
	}
	all, own := access.Acts(p)
	return wire.Me{Person: p, Version: s.Version, May: words(all), MayOwn: words(own)}
}
