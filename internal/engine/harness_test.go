package engine_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"ironbell/internal/artifact"
	"ironbell/internal/assemble"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/outgoing"
	"ironbell/internal/report"
	"ironbell/internal/secret"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/task"
	"ironbell/internal/timetable"
	"ironbell/standin/gate"
	standin "ironbell/standin/mail"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// office is the world of a test of the engine: a database of its own, a mail server
// with its inbox, a folder that files are handed over to, and people. Any number of
// engines work on it, each with a clock of its own.
type office struct {
	t      *testing.T
	ctx    context.Context //nolint:containedctx // that of the test
	dsn    string
	dir    string
	store  *store.Store
	db     *sqlx.DB // the test's own line
	mail   *standin.Server
	inbox  *standin.Inbox
	vault  *secret.Box
	folder string
	strain *strain

	sefa, mara, joren job.Person
}

func open(t *testing.T) *office {
	t.Helper()
	ctx := t.Context()
	o := &office{t: t, ctx: ctx, dir: t.TempDir(), inbox: &standin.Inbox{}}
	o.dsn = pgtest.New(t, "engine", func(ctx context.Context, dsn string) error {
		s, err := store.Open(ctx, dsn, store.Options{Conns: 4})
		if err != nil {
			return err
		}
		defer s.Close()
		return s.Migrate(ctx)
	})
	var err error
	o.store, err = store.Open(ctx, o.dsn, store.Options{Conns: 10})
	require.NoError(t, err)
	t.Cleanup(o.store.Close)
	o.db, err = sqlx.Open("pgx", o.dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = o.db.Close() })
	o.vault, err = secret.FromFile(filepath.Join(o.dir, "key"), true)
	require.NoError(t, err)
	o.folder = filepath.Join(o.dir, "ports")
	require.NoError(t, os.Mkdir(o.folder, 0o700))
	cert, ca, err := gate.Certificate()
	require.NoError(t, err)
	o.mail, err = standin.Start("mail", "127.0.0.1:0", "", "", o.inbox, cert)
	require.NoError(t, err)
	t.Cleanup(o.mail.Close)
	host, text, err := net.SplitHostPort(o.mail.Address())
	require.NoError(t, err)
	port, err := strconv.Atoi(text)
	require.NoError(t, err)
	o.place("company mail", "smtp", deliver.MailSettings{Host: host, Port: port, From: "Iron Bell <bell@tarnwick.example>", CA: ca})
	o.place("port folders", "folder", deliver.FolderSettings{Folder: o.folder})
	require.NoError(t, o.store.PutSetting(ctx, store.AlertSetting, job.AlertSettings{Destination: "company mail"}))
	require.NoError(t, o.store.PutSetting(ctx, timetable.WhenSetting, job.WhenSettings{Floor: job.Duration(time.Second)}))
	o.sefa = o.person("sefa", "Sefa Orlin", job.RoleAdministrator)
	o.mara, o.joren = o.person("mara", "Mara Quill", job.RoleOwner), o.person("joren", "Joren Tak", job.RoleOwner)
	o.strain = &strain{says: map[string]func(context.Context, task.Work) (task.Result, error){}}
	return o
}

func (o *office) place(name, protocol string, settings any) int64 {
	o.t.Helper()
	text, err := json.Marshal(settings)
	require.NoError(o.t, err)
	id, err := o.store.PutPlace(o.ctx, store.Destination, store.Place{Name: name, Protocol: protocol, Settings: text})
	require.NoError(o.t, err)
	return id
}

func (o *office) person(login, name string, role job.Role) job.Person {
	o.t.Helper()
	id, err := o.store.PutPerson(o.ctx, job.Person{Login: login, Name: name, Mail: login + "@tarnwick.example", Role: role, Zone: "Europe/London"}, "")
	require.NoError(o.t, err)
	p, err := o.store.PersonByID(o.ctx, id)
	require.NoError(o.t, err)
	return p
}

// turned is a clock that tests turn.
type turned struct{ at atomic.Int64 }

func (c *turned) now() time.Time           { return time.Unix(0, c.at.Load()) }
func (c *turned) set(at time.Time) *turned { c.at.Store(at.UnixNano()); return c }
func (c *turned) turn(d time.Duration)     { c.at.Add(int64(d)) }
func clockAt(at time.Time) *turned         { return (&turned{}).set(at) }
func london(month, day, hour, minute int) time.Time {
	return time.Date(2026, time.Month(month), day, hour, minute, 0, 0, time.UTC)
}

// site is a node of the office: what it does by itself, and what it can be asked.
type site struct {
	*engine.Engine
	*service.Service
}

// engine makes a node. Without a clock it goes by the machine's.
func (o *office) engine(clock *turned, change ...func(*engine.Options)) *site {
	return o.engineOn(o.store, clock, change...)
}

func (o *office) engineOn(s *store.Store, clock *turned, change ...func(*engine.Options)) *site {
	o.t.Helper()
	files, err := artifact.OpenFolder(filepath.Join(o.dir, "artifacts"))
	require.NoError(o.t, err)
	o.t.Cleanup(func() { _ = files.Close() })
	o.strain.files = files
	guard := outgoing.New(nil)
	options := engine.Options{Poll: 200 * time.Millisecond, Lease: 3 * time.Second, Stop: 3 * time.Second, Tell: time.Second, Probe: 100 * time.Millisecond, Guard: guard, Signer: o.vault, Log: slog.New(slog.DiscardHandler), Kinds: map[job.TaskKind]task.Kind{job.KindFetch: o.strain, job.KindQuery: o.strain}}
	if testing.Verbose() {
		options.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
	}
	if clock != nil {
		options.Now = clock.now
	}
	for _, c := range change {
		c(&options)
	}
	sources := report.NewSources(s, o.vault, report.Allowed{})
	o.t.Cleanup(sources.Close)
	e, asked := assemble.Node(s, sources, deliver.NewDestinations(s, o.vault, deliver.Allowed{Guard: options.Guard, Folders: []string{o.folder}}), files, options)
	return &site{e, asked}
}

// run lets a node work until stop is called or the test ends.
func (o *office) run(e *site) (stop func()) {
	ctx, cancel := context.WithCancel(context.WithoutCancel(o.ctx))
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

// until waits for a condition, at most so long.
func (o *office) until(what string, holds func() bool) {
	o.t.Helper()
	for end := time.Now().Add(90 * time.Second); !holds(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			o.t.Fatalf("waited in vain: %s", what)
		}
	}
}

// number reads one number from the records, text one text, exec changes them.
func (o *office) number(query string, args ...any) int {
	o.t.Helper()
	var n int
	require.NoError(o.t, o.db.GetContext(o.ctx, &n, query, args...), query)
	return n
}

func (o *office) text(query string, args ...any) string {
	o.t.Helper()
	var text string
	require.NoError(o.t, o.db.GetContext(o.ctx, &text, query, args...), query)
	return text
}

func (o *office) texts(query string, args ...any) []string {
	o.t.Helper()
	texts := []string{}
	require.NoError(o.t, o.db.SelectContext(o.ctx, &texts, query, args...), query)
	return texts
}

func (o *office) exec(query string, args ...any) {
	o.t.Helper()
	_, err := o.db.ExecContext(o.ctx, query, args...)
	// What changes a table may meet the engine's own work crosswise, and is the one to give way.
	for try := 0; try < 20 && err != nil && strings.Contains(err.Error(), "40P01"); try++ {
		_, err = o.db.ExecContext(o.ctx, query, args...)
	}
	require.NoError(o.t, err, query)
}

// strained is a task that does as it is told; mailed one that sends.
func strained(name, word string, after ...string) job.Task {
	return job.Task{Name: name, Kind: job.KindFetch, Fetch: &job.FetchTask{URL: word}, After: after}
}

// effect is such a task that changes something outside.
func effect(name, word string, after ...string) job.Task {
	return job.Task{Name: name, Kind: job.KindQuery, Query: &job.QueryTask{Source: "tarnwick", SQL: word}, After: after}
}

func mailed(to ...string) job.Task {
	return job.Task{Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: "company mail", To: to, Subject: "{run}"}}
}

func ruled(rules ...string) []job.Trigger {
	out := make([]job.Trigger, len(rules))
	for i, r := range rules {
		out[i].Rule = r
	}
	return out
}

// save saves a job of Mara's that is on.
func (o *office) save(e *site, name string, d job.Definition) job.Job {
	o.t.Helper()
	if d.Zone == "" {
		d.Zone = "Europe/London"
	}
	if len(d.Tasks) == 0 {
		d.Tasks = []job.Task{strained("look", "ok")}
	}
	j, err := o.trySave(e, name, d)
	require.NoError(o.t, err)
	return j
}

func (o *office) trySave(e *site, name string, d job.Definition) (job.Job, error) {
	return e.Jobs.Save(o.ctx, o.mara, name, "mara", true, d)
}

// rings are the decisions on a job's due times, as "due decision: reason".
func (o *office) rings(j job.Job) []string {
	o.t.Helper()
	return o.texts(`SELECT to_char(due AT TIME ZONE 'UTC', 'DD HH24:MI') || ' ' || decision || ': ' || reason FROM rings WHERE job_id = $1 ORDER BY due, trigger_id`, j.ID)
}

// pass lets a node's clock decide on all that is due.
func (o *office) pass(e *site) {
	o.t.Helper()
	for range 100 {
		n, err := e.Clock.Ring(o.ctx)
		require.NoError(o.t, err)
		if n == 0 {
			return
		}
	}
	o.t.Fatal("the clock comes to no end")
}

// received lists the subjects of the mails that came to an address.
func (o *office) received(address string) []string {
	var out []string
	for _, m := range o.inbox.All() {
		if len(m.To) > 0 && strings.Trim(m.To[0], "<>") == address {
			out = append(out, m.Subject)
		}
	}
	return out
}

// strain stands for the kinds fetch and query and does as it is told: ok, blank,
// lasting, passing, file, or a word that the test has given a meaning.
type strain struct {
	files *artifact.Folder
	mu    sync.Mutex
	says  map[string]func(context.Context, task.Work) (task.Result, error)
}

func (k *strain) mean(word string, f func(context.Context, task.Work) (task.Result, error)) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.says[word] = f
}

func (*strain) Help() task.Help { return task.Help{Kind: "strain"} }

func (*strain) Check(context.Context, *task.Checking, string, job.Task) error { return nil }

func (k *strain) Run(ctx context.Context, w task.Work, t job.Task) (task.Result, error) {
	var word string
	if t.Fetch != nil {
		word = t.Fetch.URL
	} else {
		word = t.Query.SQL
	}
	k.mu.Lock()
	f := k.says[word]
	k.mu.Unlock()
	if f != nil {
		type result struct {
			res task.Result
			err error
		}
		done := make(chan result, 1)
		go func() {
			res, err := f(ctx, w)
			done <- result{res, err}
		}()
		select {
		case r := <-done:
			return r.res, r.err
		case <-ctx.Done(): // a test that failed lets nothing wait for ever
			return task.Result{}, ctx.Err()
		}
	}
	switch word {
	case "blank":
		return task.Result{Blank: true}, nil
	case "lasting":
		return task.Result{}, fault.New(fault.Task, "strain", "it fails for good", "")
	case "passing":
		return task.Result{}, fault.Wrap(errors.New("it fails this once"), fault.Passing, fault.Task, "strain", "")
	case "file":
		return k.file(w, t.Name, bytes.Repeat([]byte("tide "), 200))
	}
	return task.Result{}, nil
}

// file is a result of one file.
func (k *strain) file(w task.Work, name string, text []byte) (task.Result, error) {
	file, err := k.files.Create()
	if err != nil {
		return task.Result{}, err
	}
	if _, err := file.Write(text); err != nil {
		file.Drop()
		return task.Result{}, err
	}
	kept, err := file.Keep()
	return task.Result{Files: []job.Artifact{{Part: w.Part, Task: name, Format: "file", Name: "tide.txt", MediaType: "text/plain", Size: kept.Size, SHA256: kept.SHA256, Key: kept.Key}}}, err
}

// ring rings a job by hand and gives its run.
func (o *office) ring(e *site, name string, ask service.Ask) job.Run {
	o.t.Helper()
	runs, err := e.Runs.Ring(o.ctx, o.mara, name, ask)
	require.NoError(o.t, err)
	return runs[0]
}

// ended waits for the end of a run.
func (o *office) ended(id job.RunID) job.Run {
	o.t.Helper()
	var run job.Run
	o.until(fmt.Sprintf("run %s ends", id), func() bool {
		var err error
		run, err = o.store.Run(o.ctx, id)
		require.NoError(o.t, err)
		return run.State.Ended()
	})
	return run
}

// hear waits for word over a channel.
func hear[T any](t *testing.T, from <-chan T) T {
	t.Helper()
	select {
	case v := <-from:
		return v
	case <-time.After(20 * time.Second):
		t.Fatal("waited in vain for word")
		panic("unreachable")
	}
}
