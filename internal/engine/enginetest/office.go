// Package enginetest is the world of the tests of the engine's rooms: an office with real PostgreSQL, a mail
// server, folders, people, clocks that are turned, and tasks that do as they are told.
package enginetest

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/assemble"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/outgoing"
	"ironbell/internal/report"
	"ironbell/internal/secret"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
	"ironbell/internal/task"
	"ironbell/internal/timetable"
	"ironbell/standin/gate"
	standin "ironbell/standin/mail"
	"ironbell/standin/web"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"
)

// Soon sets how alerts go on.
func (o *Office) Soon(change func(*job.AlertSettings)) {
	o.t.Helper()
	s := job.AlertSettings{
		Destination: "company mail", Second: job.Duration(100 * time.Millisecond),
		Administrators: job.Duration(100 * time.Millisecond), CallAfter: job.Duration(100 * time.Millisecond),
		Repeat: job.Duration(time.Hour),
	}
	if change != nil {
		change(&s)
	}
	require.NoError(o.t, o.Store.PutSetting(o.Ctx, db.AlertSetting, s))
}

// Sleeps lets a person be in quiet hours now.
func (o *Office) Sleeps(login string) {
	now := time.Now().UTC()
	o.Exec(`UPDATE people SET zone = 'Etc/UTC', wishes = wishes || jsonb_build_object('quiet_from', $2::text, 'quiet_to', $3::text) WHERE login = $1`, login, now.Add(-time.Hour).Format("15:04"), now.Add(2*time.Hour).Format("15:04"))
}

// Pager is a place that calls go to, and keeps them.
func (o *Office) Pager() (options func(*engine.Options), calls func() []string) {
	o.t.Helper()
	var mu sync.Mutex
	var ids, bodies []string
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		ids, bodies = append(ids, r.Header.Get("Idempotency-Key")), append(bodies, string(text))
	}))
	o.t.Cleanup(server.Close)
	o.Place("pager", "http", deliver.HTTPSettings{URL: server.URL})
	return func(p *engine.Options) {
			p.Guard = outgoing.New([]string{strings.TrimPrefix(server.URL, "http://")})
			p.URL = "http://bell.tarnwick.example"
		}, func() []string {
			mu.Lock()
			defer mu.Unlock()
			out := make([]string, len(ids))
			for i := range ids {
				out[i] = ids[i] + " " + bodies[i]
			}
			return out
		}
}

// Only lets mail go to the company's own domain.
func (o *Office) Only() {
	o.t.Helper()
	require.NoError(o.t, o.Store.PutSetting(o.Ctx, "mail", job.MailSettings{Domains: []string{"tarnwick.example"}}))
}

// Asked waits until a delivery of a run waits for a yes, and gives it.
func (o *Office) Asked(id job.RunID) int64 {
	o.t.Helper()
	o.Until("a yes is asked for", func() bool {
		return o.Number(`SELECT count(*) FROM deliveries WHERE run_id = $1 AND state = 'waiting' AND kept_back = 'yes'`,
			id) > 0
	})
	return int64(o.Number(`SELECT min(id) FROM deliveries WHERE run_id = $1 AND kept_back = 'yes'`, id))
}

// Printer starts a printer, with an engine whose job Sheet prints on it.
func (o *Office) Printer() (*web.Printer, *Site) {
	o.t.Helper()
	printer, err := web.StartPrinter("printer", "127.0.0.1:0")
	require.NoError(o.t, err)
	o.t.Cleanup(printer.Close)
	o.Place("printer", "ipp", deliver.PrinterSettings{URL: "ipp://" + printer.Address() + "/ipp/print"})
	e := o.Engine(nil, func(p *engine.Options) { p.Guard = outgoing.New([]string{printer.Address()}) })
	o.Save(e, "Sheet", job.Definition{Tasks: []job.Task{Strained("file", "file"), Placed("printer")}})
	return printer, e
}

// Office is the world of a test of the engine: a database of its own, a mail server
// with its inbox, a folder that files are handed over to, and people. Any number of
// engines work on it, each with a clock of its own.
type Office struct {
	t      *testing.T
	Ctx    context.Context //nolint:containedctx // that of the test
	DSN    string
	dir    string
	Store  *store.Store
	DB     *sqlx.DB // the test's own line
	Mail   *standin.Server
	inbox  *standin.Inbox
	vault  *secret.Box
	Folder string
	Strain *Strain

	Sefa, Mara, Joren job.Person
}

// Open opens an office, which ends with the test.
func Open(t *testing.T) *Office {
	t.Helper()
	ctx := t.Context()
	o := &Office{t: t, Ctx: ctx, dir: t.TempDir(), inbox: &standin.Inbox{}}
	o.DSN = pgtest.New(t, pgtest.Records, func(ctx context.Context, dsn string) error {
		s, err := store.Open(ctx, dsn, store.Options{Conns: 4})
		if err != nil {
			return err
		}
		defer s.Close()
		return s.Migrate(ctx)
	})
	var err error
	o.Store, err = store.Open(ctx, o.DSN, store.Options{Conns: 10})
	require.NoError(t, err)
	t.Cleanup(o.Store.Close)
	o.DB, err = sqlx.Open("pgx", o.DSN)
	require.NoError(t, err)
	t.Cleanup(func() { _ = o.DB.Close() })
	o.vault, err = secret.FromFile(filepath.Join(o.dir, "key"), true)
	require.NoError(t, err)
	o.Folder = filepath.Join(o.dir, "ports")
	require.NoError(t, os.Mkdir(o.Folder, 0o700))
	cert, ca, err := gate.Certificate()
	require.NoError(t, err)
	o.Mail, err = standin.Start("mail", "127.0.0.1:0", "", "", o.inbox, cert)
	require.NoError(t, err)
	t.Cleanup(o.Mail.Close)
	host, text, err := net.SplitHostPort(o.Mail.Address())
	require.NoError(t, err)
	port, err := strconv.Atoi(text)
	require.NoError(t, err)
	o.Place("company mail", "smtp", deliver.MailSettings{
		Host: host, Port: port, From: "Iron Bell <bell@tarnwick.example>", CA: ca,
	})
	o.Place("port folders", "folder", deliver.FolderSettings{Folder: o.Folder})
	require.NoError(t, o.Store.PutSetting(ctx, db.AlertSetting, job.AlertSettings{Destination: "company mail"}))
	require.NoError(t,
		o.Store.PutSetting(ctx, timetable.WhenSetting, job.WhenSettings{Floor: job.Duration(time.Second)}))
	o.Sefa = o.Person("sefa", "Sefa Orlin", job.RoleAdministrator)
	o.Mara, o.Joren = o.Person("mara", "Mara Quill", job.RoleOwner), o.Person("joren", "Joren Tak", job.RoleOwner)
	o.Strain = &Strain{says: map[string]func(context.Context, task.Work) (task.Result, error){}}
	return o
}

// Place makes a destination.
func (o *Office) Place(name, protocol string, settings any) int64 {
	o.t.Helper()
	return o.PlaceWith(name, protocol, "", settings)
}

// PlaceWith makes a destination with a secret.
func (o *Office) PlaceWith(name, protocol, password string, settings any) int64 {
	o.t.Helper()
	text, err := json.Marshal(settings)
	require.NoError(o.t, err)
	p := records.Place{Name: name, Protocol: protocol, Settings: text}
	if password != "" {
		p.Secret, err = o.vault.Seal("destination:"+name, password)
		require.NoError(o.t, err)
	}
	id, err := o.Store.PutPlace(o.Ctx, records.Destination, p)
	require.NoError(o.t, err)
	return id
}

// Person makes a person with an address at the company.
func (o *Office) Person(login, name string, role job.Role) job.Person {
	o.t.Helper()
	id, err := o.Store.PutPerson(o.Ctx,
		job.Person{Login: login, Name: name, Mail: login + "@tarnwick.example", Role: role, Zone: "Europe/London"}, "")
	require.NoError(o.t, err)
	p, err := o.Store.PersonByID(o.Ctx, id)
	require.NoError(o.t, err)
	return p
}

// Site is a node of the office: what it does by itself, and what it can be asked.
type Site struct {
	*engine.Engine
	*service.Service
}

// Engine makes a node. Without a clock it goes by the machine's.
func (o *Office) Engine(clock *Clock, change ...func(*engine.Options)) *Site {
	return o.EngineOn(o.Store, clock, change...)
}

// EngineOn makes a node that works on records of its own.
func (o *Office) EngineOn(s *store.Store, clock *Clock, change ...func(*engine.Options)) *Site {
	o.t.Helper()
	files, err := artifact.OpenFolder(filepath.Join(o.dir, "artifacts"))
	require.NoError(o.t, err)
	o.t.Cleanup(func() { _ = files.Close() })
	o.Strain.files = files
	guard := outgoing.New(nil)
	options := engine.Options{
		Poll: 200 * time.Millisecond, Lease: 3 * time.Second, Stop: 3 * time.Second, Tell: time.Second,
		Probe: 100 * time.Millisecond, Guard: guard, Signer: o.vault, Log: slog.New(slog.DiscardHandler),
		Kinds: map[job.TaskKind]task.Kind{job.KindFetch: o.Strain, job.KindQuery: o.Strain},
	}
	if testing.Verbose() {
		options.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
	}
	if clock != nil {
		options.Now = clock.Now
	}
	for _, c := range change {
		c(&options)
	}
	sources := report.NewSources(s, o.vault, report.Allowed{})
	o.t.Cleanup(sources.Close)
	e, asked := assemble.Node(s, sources,
		deliver.NewDestinations(s, o.vault, deliver.Allowed{Guard: options.Guard, Folders: []string{o.Folder}}), files,
		options)
	return &Site{e, asked}
}

// Run lets a node work until stop is called or the test ends.
func (o *Office) Run(e *Site) (stop func()) {
	ctx, cancel := context.WithCancel(context.WithoutCancel(o.Ctx))
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		e.Run(ctx)
	}()
	stop = sync.OnceFunc(func() {
		cancel()
		<-ended
	})
	o.t.Cleanup(stop)
	return stop
}

// Until waits for a condition, at most so long.
func (o *Office) Until(what string, holds func() bool) {
	o.t.Helper()
	for end := time.Now().Add(90 * time.Second); !holds(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			o.t.Fatalf("waited in vain: %s", what)
		}
	}
}

// Number reads one number from the records, text one text, exec changes them.
func (o *Office) Number(query string, args ...any) int {
	o.t.Helper()
	var n int
	require.NoError(o.t, o.DB.GetContext(o.Ctx, &n, query, args...), query)
	return n
}

// Text is the one text that a query gives.
func (o *Office) Text(query string, args ...any) string {
	o.t.Helper()
	var text string
	require.NoError(o.t, o.DB.GetContext(o.Ctx, &text, query, args...), query)
	return text
}

// Texts are the rows of one column.
func (o *Office) Texts(query string, args ...any) []string {
	o.t.Helper()
	texts := []string{}
	require.NoError(o.t, o.DB.SelectContext(o.Ctx, &texts, query, args...), query)
	return texts
}

// Exec changes the records behind the back of the service.
func (o *Office) Exec(query string, args ...any) {
	o.t.Helper()
	_, err := o.DB.ExecContext(o.Ctx, query, args...)
	// What changes a table may meet the engine's own work crosswise, and is the one to give way.
	for try := 0; try < 20 && err != nil && strings.Contains(err.Error(), "40P01"); try++ {
		_, err = o.DB.ExecContext(o.Ctx, query, args...)
	}
	require.NoError(o.t, err, query)
}

// Save saves a job of Mara's that is on.
func (o *Office) Save(e *Site, name string, d job.Definition) job.Job {
	o.t.Helper()
	if d.Zone == "" {
		d.Zone = "Europe/London"
	}
	if len(d.Tasks) == 0 {
		d.Tasks = []job.Task{Strained("look", "ok")}
	}
	j, err := o.TrySave(e, name, d)
	require.NoError(o.t, err)
	return j
}

// TrySave saves a job of Mara's, which may be refused.
func (o *Office) TrySave(e *Site, name string, d job.Definition) (job.Job, error) {
	return e.Jobs.Save(o.Ctx, o.Mara, name, "mara", true, d)
}

// Rings are the decisions on a job's due times, as "due decision: reason".
func (o *Office) Rings(j job.Job) []string {
	o.t.Helper()
	return o.Texts(`SELECT to_char(due AT TIME ZONE 'UTC', 'DD HH24:MI') || ' ' || decision || ': ' || reason FROM rings WHERE job_id = $1 ORDER BY due, trigger_id`, j.ID)
}

// Pass lets a node's clock decide on all that is due.
func (o *Office) Pass(e *Site) {
	o.t.Helper()
	for range 100 {
		n, err := e.Clock.Ring(o.Ctx)
		require.NoError(o.t, err)
		if n == 0 {
			return
		}
	}
	o.t.Fatal("the clock comes to no end")
}

// Received lists the subjects of the mails that came to an address.
func (o *Office) Received(address string) []string {
	var out []string
	for _, m := range o.inbox.All() {
		if len(m.To) > 0 && strings.Trim(m.To[0], "<>") == address {
			out = append(out, m.Subject)
		}
	}
	return out
}

// Ring rings a job by hand and gives its run.
func (o *Office) Ring(e *Site, name string, ask service.Ask) job.Run {
	o.t.Helper()
	runs, err := e.Runs.Ring(o.Ctx, o.Mara, name, ask)
	require.NoError(o.t, err)
	return runs[0]
}

// Ended waits for the end of a run.
func (o *Office) Ended(id job.RunID) job.Run {
	o.t.Helper()
	var run job.Run
	o.Until(fmt.Sprintf("run %s ends", id), func() bool {
		var err error
		run, err = o.Store.Run(o.Ctx, id)
		require.NoError(o.t, err)
		return run.State.Ended()
	})
	return run
}

// Hear waits for word over a channel.
func Hear[T any](t *testing.T, from <-chan T) T {
	t.Helper()
	select {
	case v := <-from:
		return v
	case <-time.After(20 * time.Second):
		t.Fatal("waited in vain for word")
		panic("unreachable")
	}
}

// Event reports an event, and gives the runs that it began.
func (o *Office) Event(e *Site, id string, at time.Time) []job.RunID {
	o.t.Helper()
	return o.Raise(e, job.Event{ID: id, Source: "/ledger", Type: "example.tarnwick.closed", Time: at})
}

// Raise reports any event, and gives the runs that it began.
func (o *Office) Raise(e *Site, ev job.Event) []job.RunID {
	o.t.Helper()
	raised, err := e.Events.Report(o.Ctx, o.Mara, []job.Event{ev})
	require.NoError(o.t, err)
	return raised[0].Started
}

// Source adds the test's own database as a source of reports.
func (o *Office) Source(name string) {
	o.t.Helper()
	config, err := pgx.ParseConfig(pgtest.Login(o.t, o.DSN, pgtest.Writer))
	require.NoError(o.t, err)
	text, err := json.Marshal(map[string]any{
		"host": config.Host, "port": config.Port, "database": config.Database, "user": config.User, "tls": "disable",
		"statements": true,
	})
	require.NoError(o.t, err)
	sealed, err := o.vault.Seal("source:"+name, config.Password)
	require.NoError(o.t, err)
	_, err = o.Store.PutPlace(o.Ctx, records.Source, records.Place{
		Name: name, Protocol: "postgres", Settings: text, Secret: sealed,
	})
	require.NoError(o.t, err)
}

// Report saves a report.
func (o *Office) Report(e *Site, name string, d job.ReportDefinition) job.Report {
	o.t.Helper()
	d.Source = "tarnwick"
	r, err := e.Reports.Save(o.Ctx, o.Mara, name, "mara", d, true)
	require.NoError(o.t, err)
	return r
}

// RingUnchecked rings a job whose values its reports may no longer know, as its rule would.
func (o *Office) RingUnchecked(e *Site, name string) job.RunID {
	o.t.Helper()
	j, err := o.Store.Job(o.Ctx, name)
	require.NoError(o.t, err)
	made := []rings.NewRun{{
		JobID: j.ID, Job: j.Name, JobVersion: j.Version, Why: "test", Nominal: time.Now(), Due: time.Now(),
		Zone: j.Zone,
	}}
	require.NoError(o.t, o.Store.Do(o.Ctx, func(t *store.Tx) error { return e.Rooms.Runs.Add(o.Ctx, t, j.ID, made) }))
	return made[0].ID
}
