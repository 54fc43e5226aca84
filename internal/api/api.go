// Package api is the service's face over HTTP: JSON described by OpenAPI 3.1 at
// /api/openapi.json, errors as problems by RFC 9457, notices of changes as
// server-sent events, and the console's files. It holds no rules of its own:
// it asks access who may do what, and engine and store to do it.
package api

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/api/wire"
	"ironbell/internal/artifact"
	"ironbell/internal/core/job"
	"ironbell/internal/engine"
	"ironbell/internal/event"
	"ironbell/internal/secret"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/task"

	"github.com/alexedwards/scs/pgxstore"
	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-chi/httprate"
)

// Node is the node that answers.
type Node interface {
	Name() string
	Workers() int // parts of runs that it works at once
	Help() []task.Help
	Programs() engine.Programs
	Watch() (notices <-chan job.Notice, stop func()) // of changes on all nodes
}

// Parts are what the API speaks to.
type Parts struct {
	Store   *store.Store
	Node    Node
	Service *service.Service
	Now     func() time.Time // the clock that rings are held against
	URL     string           // by which people reach the console, without a slash at its end
	Files   *artifact.Folder
	Vault   *secret.Box
	Console fs.FS // the built console; without an index.html the service says that it is not built
	Log     *slog.Logger
	Version string
	Secure  bool           // the console is reached by https, so cookies may say so
	Proxies []netip.Prefix // that may say for whom they ask
}

const (
	sessionLength = 12 * time.Hour
	passwordsAMin = 10      // tries of one person at their own password
	feedsAMin     = 60      // questions for a feed, by address
	maxBody       = 1 << 20 // bytes of a request
	maxReport     = 8 << 20 // of one that brings workbooks
)

type server struct {
	Parts
	sessions *scs.SessionManager
	watch    watch
	tries    access.Tries
	lines    lines

	recordForm func() *recordSchemas // made at its first use
}

// Handler builds the service's whole HTTP face.
func Handler(p Parts) http.Handler {
	sessions := scs.New()
	// Sessions that have ended are swept by the engine, with all else that has.
	sessions.Store = pgxstore.NewWithCleanupInterval(p.Store.Connections(), 0)
	sessions.Lifetime = sessionLength
	sessions.Cookie.Name = "ironbell_session"
	sessions.Cookie.HttpOnly = true
	sessions.Cookie.SameSite = http.SameSiteLaxMode
	sessions.Cookie.Secure = p.Secure
	sessions.HashTokenInStore = true
	s := &server{Parts: p, sessions: sessions}
	s.recordForm = sync.OnceValue(func() *recordSchemas { return newRecordSchemas(s.recordKinds()) })
	sessions.ErrorFunc = func(w http.ResponseWriter, _ *http.Request, err error) {
		s.Log.Error("could not keep a session", "error", err)
		writeProblem(w, http.StatusServiceUnavailable, "The database does not answer; try again in a moment.")
	}

	r := chi.NewRouter()
	r.Use(middleware.Recoverer, s.headers, http.NewCrossOriginProtection().Handler)
	r.Get("/health", s.health)
	r.Get("/metrics", s.metrics)
	r.With(httprate.LimitBy(feedsAMin, time.Minute, s.peer)).Group(s.mailLinks)
	r.Get("/ready", s.ready)
	r.Get("/state", s.state)
	r.With(httprate.LimitBy(feedsAMin, time.Minute, s.peer)).Group(func(r chi.Router) { s.describe(r, s.feeds) })
	r.Group(func(r chi.Router) {
		r.Use(sessions.LoadAndSave, s.who)
		r.With(s.withAddress).Group(func(r chi.Router) { s.describe(r, s.signIn) })
		r.Group(func(r chi.Router) { s.describe(r, s.versionOf) })
		// Whoever found an open session must not find its password by it.
		r.With(signedIn,
			httprate.LimitBy(passwordsAMin, time.Minute,
				signedInAs)).Group(func(r chi.Router) { s.describe(r, s.password) })
		r.With(signedIn, s.withAddress, s.fewLines,
			s.preconditions).Group(func(r chi.Router) { s.describe(r, s.operations) })
		r.With(signedIn, s.fewLines).Post("/api/frame", s.frame)
		r.With(signedIn, s.fewLines).Post("/api/frame/house", s.houseFrame)
		r.With(signedIn, s.fewLines).Get("/api/files/{file}/look", s.lookAtFile)
		r.Route("/api/profile", s.profiles)
		r.Handle("/api/*", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if _, ok := person(r.Context()); !ok {
				writeProblem(w, http.StatusUnauthorized, needSignIn)
				return
			}
			writeProblem(w, http.StatusNotFound,
				"There is nothing at this address; /api/openapi.json lists what there is.")
		}))
	})
	r.Handle("/*", console(p.Console))
	return r
}

// describe registers operations on a router of their own, so that those that
// are open and those that are not cannot be mixed up.
func (s *server) describe(r chi.Router, register func(huma.API)) {
	register(humachi.New(r, config(s.Version)))
}

func init() {
	// Lists are never null: an empty one is [].
	huma.DefaultArrayNullable = false
	made := huma.NewError
	huma.NewError = func(status int, message string, details ...error) huma.StatusError {
		return made(status, tooLarge(message), details...)
	}
}

func config(version string) huma.Config {
	c := huma.DefaultConfig("Iron Bell", version)
	c.Info.Description = "Fires saved reports on time, delivers the results and tells owners when a delivery failed. " +
		"Records that people edit (jobs, reports, calendars, sources, identities, destinations, people, groups, " +
		"posts, settings) have an ETag, which is their revision in quotes. " +
		"A change with If-Match is made only while the record has that revision, and otherwise answered by 412; with " +
		"If-None-Match: * only when the record is a new one. " +
		"Answers to whoever signed in name the time zone in which this person reads times as " + wire.ReaderZone + ", " +
		"and every answer names the version of the service as Server (Iron-Bell/VERSION)."
	c.DocsPath, c.SchemasPath, c.OpenAPIPath = "", "", ""
	c.CreateHooks = nil // no $schema links in answers
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {
			Type: "http", Scheme: "bearer", Description: "An API token, made by signing in at POST /api/tokens.",
		},
		"session": {
			Type: "apiKey", In: "cookie", Name: "ironbell_session",
			Description: "The cookie that POST /api/session sets.",
		},
	}
	c.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	return c
}

// Description is the OpenAPI description of all operations.
func Description() ([]byte, error) {
	s := &server{Parts: Parts{Log: slog.Default()}}
	a := humachi.New(chi.NewRouter(), config("1"))
	s.signIn(a)
	s.versionOf(a)
	s.password(a)
	s.feeds(a)
	s.operations(a)
	return a.OpenAPI().MarshalJSON()
}

func (s *server) operations(a huma.API) {
	s.jobs(a)
	s.runs(a)
	s.today(a)
	s.when(a)
	s.calendars(a)
	s.reports(a)
	s.workbooks(a)
	s.places(a)
	s.identities(a)
	s.deliveries(a)
	s.settings(a)
	s.houseRoutes(a)
	s.recipients(a)
	s.people(a)
	s.drafts(a)
	s.versions(a)
	s.records(a)
	s.removals(a)
	s.archive(a)
	s.alerts(a)
	s.standing(a)
	s.queue(a)
	s.events(a)
	s.waiting(a)
	s.senders(a)
	s.subscriptions(a)
	s.liveNotices(a)
	huma.Register(a,
		huma.Operation{
			OperationID: "description", Method: http.MethodGet, Path: "/api/openapi.json", Summary: "This description",
			Tags: []string{"service"}, Hidden: true,
		}, s.description)
}

func (s *server) description(context.Context, *struct{}) (*struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}, error,
) {
	text, err := Description()
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct {
		ContentType string `header:"Content-Type"`
		Body        []byte
	}{ContentType: "application/json", Body: text}, nil
}

// headers keep browsers from doing what the console never needs.
func (s *server) headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		if s.Secure { // it is reached over https alone (RFC 6797)
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("Server", "Iron-Bell/"+s.Version)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; "+
				"base-uri 'none'; form-action 'self'")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

type (
	personKey  struct{}
	wayKey     struct{}
	senderKey  struct{}
	addressKey struct{}
)

// person is who made a request.
func person(ctx context.Context) (job.Person, bool) {
	p, ok := ctx.Value(personKey{}).(job.Person)
	return p, ok
}

// senderOf is the sender whose token a request was made with.
func senderOf(ctx context.Context) (job.Sender, bool) {
	from, ok := ctx.Value(senderKey{}).(job.Sender)
	return from, ok
}

// wayOf is by which session or token a request was made.
func wayOf(ctx context.Context) job.SignIn {
	way, _ := ctx.Value(wayKey{}).(job.SignIn)
	return way
}

// addressOf is from where a request was made.
func addressOf(ctx context.Context) string {
	address, _ := ctx.Value(addressKey{}).(string)
	return address
}

// withAddress notes from where a request comes, for what is recorded with it.
func (s *server) withAddress(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at, err := s.address(r)
		if err != nil {
			writeProblem(w, http.StatusBadRequest, "From where this comes cannot be read.")
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), addressKey{}, at.String())))
	})
}

// who finds out who makes a request: by token, or by session.
func (s *server) who(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx := r.Context()
		var p job.Person
		var way job.SignIn
		var err error
		token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if token = strings.TrimSpace(token); ok {
			p, way, err = access.ByToken(ctx, s.Store, token)
		} else if id := s.sessions.GetInt64(ctx, "sign-in"); id != 0 {
			p, way, err = s.Store.PersonBySession(ctx, id)
		}
		if isNotFound(err) && token != "" {
			from, missing := access.BySenderToken(ctx, s.Store, token)
			if missing == nil {
				ctx = context.WithValue(ctx, senderKey{}, from)
			} else if !isNotFound(missing) {
				err = missing
			}
		}
		if err != nil && !isNotFound(err) {
			s.Log.Error("could not look a session or token up", "error", err)
			writeProblem(w, http.StatusServiceUnavailable, "The database does not answer; try again in a moment.")
			return
		}
		if err == nil && way.ID != 0 {
			ctx = context.WithValue(context.WithValue(ctx, personKey{}, p), wayKey{}, way)
			w.Header().Set(wire.ReaderZone, p.Zone)
		}
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}

const needSignIn = "You are not signed in, or your session has ended. Sign in, or send an API token as " +
	"Authorization: Bearer."

// signedInAs is the person who makes a request, as a key.
func signedInAs(r *http.Request) (string, error) {
	p, _ := person(r.Context())
	return p.Login, nil
}

// signedIn lets only those pass who are.
func signedIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, ok := senderOf(r.Context()); ok && !reporting(r) {
			writeProblem(w, http.StatusForbidden, "This token only reports events.")
			return
		}
		_, bySender := senderOf(r.Context())
		if _, ok := person(r.Context()); !ok && (!reporting(r) || r.URL.Path == eventsPath && !bySender) {
			writeProblem(w, http.StatusUnauthorized, needSignIn)
			return
		}
		if reporting(r) && !bySender && r.URL.Path != eventsPath && !event.IsSigned(r.Header) {
			r.Body = http.NoBody // nobody vouches for it: it is refused unread
		}
		next.ServeHTTP(w, r)
	})
}
