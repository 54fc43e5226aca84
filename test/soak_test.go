package test

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"ironbell/client"
	pages "ironbell/console"
	"ironbell/demo"
	"ironbell/internal/api"
	"ironbell/internal/artifact"
	"ironbell/internal/assemble"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/outgoing"
	"ironbell/internal/report"
	"ironbell/internal/secret"
	"ironbell/internal/service"
	"ironbell/internal/store"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// turned is one clock for service and database, which stands until it is turned on.
// Leases alone go by real time.
type turned struct {
	t    *testing.T
	conn *pgx.Conn
	by   atomic.Int64 // microseconds that it is ahead of the real one
}

func (c *turned) now() time.Time {
	return time.Now().Add(time.Duration(c.by.Load()) * time.Microsecond)
}

// to turns the clock to an instant.
func (c *turned) to(at time.Time) {
	c.t.Helper()
	by := time.Until(at).Microseconds()
	_, err := c.conn.Exec(context.Background(), `UPDATE turned SET by = $1 * interval '1 microsecond'`, by)
	require.NoError(c.t, err)
	c.by.Store(by)
}

func turn(t *testing.T, dsn string) *turned {
	t.Helper()
	c := &turned{t: t, conn: connect(t, dsn)}
	_, err := c.conn.Exec(context.Background(),
		`CREATE TABLE turned (by interval NOT NULL); INSERT INTO turned VALUES ('0');
		CREATE OR REPLACE FUNCTION bell_now() RETURNS timestamptz LANGUAGE sql STABLE PARALLEL SAFE AS 'SELECT now() + by FROM turned';
		CREATE OR REPLACE FUNCTION bell_clock() RETURNS timestamptz LANGUAGE sql VOLATILE PARALLEL SAFE AS 'SELECT clock_timestamp() + by FROM turned'`)
	require.NoError(t, err)
	return c
}

// serveTurned runs the service in this process by a clock that is turned. What it gives
// ends it.
func (w *world) serveTurned(s *store.Store, c *turned) (asked *service.Service, stop func()) {
	t := w.t
	t.Helper()
	vault, err := secret.FromFile(filepath.Join(w.dir, "key"), false)
	require.NoError(t, err)
	files, err := artifact.OpenFolder(filepath.Join(w.dir, "artifacts"))
	require.NoError(t, err)
	guard := outgoing.New([]string{w.out.WebDAV, w.out.Objects, w.out.Printer, w.out.Receiver})
	folders := []string{filepath.Join(w.dir, "folders"), w.out.Folder}
	sources := report.NewSources(s, vault, report.Allowed{Folders: folders, Guard: guard})
	log := slog.New(slog.DiscardHandler)
	e, asked := assemble.Node(s, sources,
		deliver.NewDestinations(s, vault, deliver.Allowed{Folders: folders, Guard: guard}), files, engine.Options{
			Poll: 25 * time.Millisecond, Lease: 5 * time.Second, Stop: 5 * time.Second, Now: c.now, Guard: guard,
			Signer: vault, URL: "http://" + w.listen, Log: log, Browser: "",
		})
	require.NoError(t, e.Installation.KnowItself(context.Background(), false))
	server := &http.Server{
		Handler: api.Handler(api.Parts{
			Store: s, Node: e, Service: asked, Now: e.Node.Now, URL: e.Links.URL, Files: files, Vault: vault,
			Console: pages.Files(), Log: log, Version: "soak",
		}), ReadHeaderTimeout: 10 * time.Second,
	}
	listener, err := net.Listen("tcp", w.listen)
	require.NoError(t, err)
	ctx, end := context.WithCancel(context.Background())
	served, worked := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(served)
		_ = server.Serve(listener) // it ends by Close
	}()
	go func() {
		defer close(worked)
		e.Run(ctx)
	}()
	return asked, func() {
		end()
		<-worked
		_ = server.Close()
		<-served
		sources.Close()
		_ = files.Close()
	}
}

// sample is what the service holds at a moment.
type sample struct {
	at                 time.Time
	heap               uint64
	goroutines, opened int
}

func take(at time.Time) sample {
	runtime.GC()
	debug.FreeOSMemory()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	open, _ := os.ReadDir("/proc/self/fd")
	return sample{at, m.HeapAlloc, runtime.NumGoroutine(), len(open)}
}

// The demo company lives for days within minutes, service and database under one
// turned clock: over a change of the clocks, the end of a month and an outage, with
// old months dropped and new ones made. Every due time is decided, and nothing grows.
// IRONBELL_SOAK says how many days; make soak lets it live for 24.
func TestTheCompanyLivesForDaysUnderATurnedClock(t *testing.T) {
	days := 1
	if text := os.Getenv("IRONBELL_SOAK"); text != "" {
		var err error
		days, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	w := open(t)
	ctx := context.Background()
	config, err := pgx.ParseConfig(w.db)
	require.NoError(t, err)
	w.stopped()
	c := turn(t, w.db)
	s, err := store.Open(ctx, w.db, store.Options{Conns: 20})
	require.NoError(t, err)
	defer s.Close()

	// A month of long ago, of which nothing is to be kept any more.
	c.to(time.Date(2026, 1, 15, 12, 0, 0, 0, time.UTC))
	require.NoError(t, s.EnsureMonths(ctx))
	_, err = c.conn.Exec(ctx,
		`INSERT INTO runs (id, job_id, job_name, job_version, why, nominal, due, zone, state, ended_at) VALUES (26010000000001, 1, 'Quay board', 1, 'x', bell_now(), bell_now(), 'UTC', 'done', bell_now());
		UPDATE tokens SET ends_at = '2030-01-01'`)
	require.NoError(t, err)
	months := func(like string) (n int) {
		require.NoError(t,
			c.conn.QueryRow(ctx, `SELECT count(*) FROM pg_class WHERE relname LIKE $1 AND relkind = 'r'`,
				like).Scan(&n))
		return n
	}
	require.Positive(t, months("runs_2601"))

	// Clocks go forward in the night to 28 March, and a month ends after 24 days.
	last := time.Date(2027, 4, 3, 12, 0, 0, 0, time.UTC)
	start := last.AddDate(0, 0, -days)
	if days < 7 {
		start = time.Date(2027, 3, 27, 18, 0, 0, 0, time.UTC)
		last = start.AddDate(0, 0, days)
	}
	c.to(start)
	require.NoError(t, s.EnsureMonths(ctx))
	asked, stop := w.serveTurned(s, c)
	defer func() { stop() }()
	var name string
	require.NoError(t,
		c.conn.QueryRow(ctx, `SELECT settings->>'database' FROM sources WHERE name = 'tarnwick'`).Scan(&name))
	company := demo.World{
		Database:     name,
		DatabasePort: int(config.Port), ReportsPassword: "reports", Mail: w.out.Mail, MailUser: w.out.User,
		MailPassword: w.out.Password, CA: w.out.CA, Authority: w.out.Authority, PeoplesPassword: password,
		AdministratorsIn: true,
		Outside: demo.Outside{
			SFTP: w.out.SFTP, WebDAV: w.out.WebDAV, Objects: w.out.Objects, Printer: w.out.Printer,
			Receiver: w.out.Receiver, Mailbox: w.out.Mailbox, User: w.out.User, Password: w.out.Password,
			Folder: w.out.Folder,
		},
	}
	require.NoError(t, demo.Connect(ctx, w.c, company))
	require.NoError(t, demo.Load(ctx, w.c, company))
	loaded := c.now()

	// idle tells that nothing is due, works or goes out at this instant.
	idle := func() bool {
		var busy bool
		require.NoError(t, c.conn.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM triggers WHERE next_due <= bell_now())
			OR EXISTS (SELECT 1 FROM parts WHERE state = 'running' OR state = 'waiting' AND NOT held AND ready_at <= bell_now() AND NOT (gated AND EXISTS (SELECT 1 FROM gates g WHERE g.job_id = parts.job_id AND g.run_id <> parts.run_id)))
			OR EXISTS (SELECT 1 FROM deliveries WHERE phase = 'leased' OR phase = 'ready' AND ready_at <= bell_now() AND destination_id NOT IN (SELECT id FROM destinations WHERE rests_since IS NOT NULL))`).Scan(&busy))
		return !busy
	}
	const step = 5 * time.Minute // no ring is missed by more than is still said to be none
	var samples []sample
	outage := start.Add(last.Sub(start) / 2).Truncate(time.Hour)
	for at := start.Add(step); !at.After(last); at = at.Add(step) {
		if at.Equal(outage) {
			stop()
			at = at.Add(3 * time.Hour)
			c.to(at)
			asked, stop = w.serveTurned(s, c)
		}
		c.to(at)
		limit := time.Now().Add(time.Minute)
		for !idle() {
			if time.Now().After(limit) {
				rows, err := c.conn.Query(ctx,
					`SELECT 'part ' || job_id || ' ' || state || ' ' || reason FROM parts WHERE state IN ('running', 'waiting') UNION ALL SELECT phase || ' ' || address || ' ' || answer FROM deliveries WHERE phase IN ('leased', 'ready') LIMIT 20`)
				require.NoError(t, err)
				busy, err := pgx.CollectRows(rows, pgx.RowTo[string])
				require.NoError(t, err)
				t.Fatalf("at %s it does not come to rest: %q", at, busy)
			}
			time.Sleep(10 * time.Millisecond)
		}
		if at.Hour() == 0 && at.Minute() == 0 || at.Equal(last) {
			samples = append(samples, take(at))
		}
	}

	// Every due time has one decision, and no decision has another due time.
	jobs, err := s.Jobs(ctx, "", 1000)
	require.NoError(t, err)
	decisions, triggers := 0, 0
	for _, j := range jobs {
		for i, r := range asked.Jobs.Rules(j) {
			if !j.On || j.Triggers[i].Rule == "" {
				continue
			}
			triggers++
			rows, err := c.conn.Query(ctx, `SELECT due FROM rings WHERE trigger_id = $1 ORDER BY due`, j.Triggers[i].ID)
			require.NoError(t, err)
			got, err := pgx.CollectRows(rows, pgx.RowTo[time.Time])
			require.NoError(t, err)
			want := []time.Time{}
			after := loaded
			if len(got) > 0 {
				after = got[0].Add(-time.Second)
				first, ok := r.Step(loaded)
				assert.True(t, ok && first.Due.Sub(got[0]).Abs() < time.Minute,
					"%s: the first is due %s and was decided on %s", j.Name, first.Due, got[0])
			}
			for ring, ok := r.Step(after); ok && !ring.Due.After(last); ring, ok = r.Step(ring.Due) {
				want = append(want, ring.Due.UTC())
			}
			for n := range got {
				got[n] = got[n].UTC()
			}
			assert.Equal(t, want, got, "%s, trigger %d", j.Name, i)
			decisions += len(got)
		}
	}
	assert.Greater(t, decisions, 20*days, "the company was at work")
	assert.Zero(t, months("runs_2601"), "the old month was dropped")
	assert.Positive(t, months("runs_"+last.AddDate(0, 2, 0).Format("0601")), "and those to come are there")
	runs, err := w.c.Runs(ctx, client.RunFilter{Limit: 1000})
	require.NoError(t, err)
	states := map[job.RunState]int{}
	for _, r := range runs {
		states[r.State]++
	}
	first, end := samples[0], samples[len(samples)-1]
	if len(samples) > 4 {
		first = samples[len(samples)/4]
	}
	t.Logf("%d days, %d triggers, %d due times decided; the last %d runs: %v", days, triggers, decisions, len(runs),
		states)
	for _, sm := range samples {
		t.Logf("%s: %.1f MB, %d goroutines, %d open files", sm.at.Format("2 Jan 15:04"), float64(sm.heap)/1e6,
			sm.goroutines, sm.opened)
	}
	assert.LessOrEqual(t, end.heap, first.heap+first.heap/2+8<<20, "memory is flat")
	assert.LessOrEqual(t, end.goroutines, first.goroutines+20, "goroutines are flat")
	assert.LessOrEqual(t, end.opened, first.opened+20, "open files are flat")
}
