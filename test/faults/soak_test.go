package faults

import (
	"context"
	"os"
	"runtime"
	"runtime/debug"
	"strconv"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/test/world"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func turn(t *testing.T, dsn string) *world.Turned {
	t.Helper()
	c := &world.Turned{T: t, Conn: world.Connect(t, dsn)}
	_, err := c.Conn.Exec(context.Background(),
		`CREATE TABLE turned (by interval NOT NULL); INSERT INTO turned VALUES ('0');
		CREATE OR REPLACE FUNCTION bell_now() RETURNS timestamptz LANGUAGE sql STABLE PARALLEL SAFE AS 'SELECT now() + by FROM turned';
		CREATE OR REPLACE FUNCTION bell_clock() RETURNS timestamptz LANGUAGE sql VOLATILE PARALLEL SAFE AS 'SELECT clock_timestamp() + by FROM turned'`)
	require.NoError(t, err)
	return c
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
	t.Parallel()
	days := 1
	if text := os.Getenv("IRONBELL_SOAK"); text != "" {
		var err error
		days, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	w := world.OpenToday(t)
	ctx := context.Background()
	config, err := pgx.ParseConfig(w.Db)
	require.NoError(t, err)
	w.Stopped()
	c := turn(t, w.Db)
	s, err := store.Open(ctx, w.Db, store.Options{Conns: 20})
	require.NoError(t, err)
	defer s.Close()

	// A month of long ago, of which nothing is to be kept any more.
	c.To(time.Date(2026, 1, 15, 12, 0, 0, 0, time.UTC))
	require.NoError(t, s.EnsureMonths(ctx))
	_, err = c.Conn.Exec(ctx,
		`INSERT INTO runs (id, job_id, job_name, job_version, why, nominal, due, zone, state, ended_at) VALUES (26010000000001, 1, 'Quay board', 1, 'x', bell_now(), bell_now(), 'UTC', 'done', bell_now());
		UPDATE tokens SET ends_at = '2030-01-01'`)
	require.NoError(t, err)
	months := func(like string) (n int) {
		require.NoError(t,
			c.Conn.QueryRow(ctx, `SELECT count(*) FROM pg_class WHERE relname LIKE $1 AND relkind = 'r'`,
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
	c.To(start)
	require.NoError(t, s.EnsureMonths(ctx))
	asked, stop := w.ServeTurned(s, c)
	defer func() { stop() }()
	var name string
	require.NoError(t,
		c.Conn.QueryRow(ctx, `SELECT settings->>'database' FROM sources WHERE name = 'tarnwick'`).Scan(&name))
	company := demo.World{
		Database:     name,
		DatabasePort: int(config.Port), ReportsPassword: "reports", Mail: w.Out.Mail, MailUser: w.Out.User,
		MailPassword: w.Out.Password, CA: w.Out.CA, Authority: w.Out.Authority, PeoplesPassword: world.Password,
		AdministratorsIn: true,
		Outside: demo.Outside{
			SFTP: w.Out.SFTP, WebDAV: w.Out.WebDAV, Objects: w.Out.Objects, Printer: w.Out.Printer,
			Receiver: w.Out.Receiver, Mailbox: w.Out.Mailbox, User: w.Out.User, Password: w.Out.Password,
			Folder: w.Out.Folder,
		},
	}
	require.NoError(t, demo.Connect(ctx, w.C, company))
	require.NoError(t, demo.Load(ctx, w.C, company))
	loaded := c.Now()

	// idle tells that nothing is due, works or goes out at this instant.
	idle := func() bool {
		var busy bool
		require.NoError(t, c.Conn.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM triggers WHERE next_due <= bell_now())
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
			c.To(at)
			asked, stop = w.ServeTurned(s, c)
		}
		c.To(at)
		limit := time.Now().Add(world.Patience)
		for !idle() {
			if time.Now().After(limit) {
				rows, err := c.Conn.Query(ctx,
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
			rows, err := c.Conn.Query(ctx, `SELECT due FROM rings WHERE trigger_id = $1 ORDER BY due`, j.Triggers[i].ID)
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
	runs, err := w.C.Runs(ctx, client.RunFilter{Limit: 1000})
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
