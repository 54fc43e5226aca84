// Command bench measures the engine against floors: what bare SQL, a bare loop
// or a bare timer does in the same run on the same machine. It prints ratios;
// it judges nothing.
//
// It starts a PostgreSQL server of its own, with its default durability.
package main

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/pprof"
	"slices"
	"sync/atomic"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/localpg"
	"ironbell/internal/outgoing"
	"ironbell/internal/report"
	"ironbell/internal/secret"
	"ironbell/internal/store"
	"ironbell/internal/task"

	"github.com/jackc/pgx/v5/pgxpool"
)

// workers is the number of workers on both sides of a comparison.
const workers = 4

// Files of the repository that are written and read here; the program is run from its root.
const (
	keptFile = "test/bench/kept.json"
)

// options are what is measured, and how much of it.
type options struct {
	jobs, due, burst, history, files, mails int
	lasts                                   time.Duration // how long what goes by the clock is measured

	only, service, docs string
	quick, keep         bool
}

// quickly are the sizes of the short form: two minutes for all that was once seen to become slower unseen.
func (o *options) quickly() {
	o.jobs, o.due, o.burst, o.history, o.files, o.mails, o.lasts = 50_000, 1000, 4000, 0, 0, 2000, 6*time.Second
}

func main() {
	o := options{lasts: 20 * time.Second}
	flag.IntVar(&o.jobs, "jobs", 1_000_000, "switched-on jobs")
	flag.IntVar(&o.due, "due", 1000, "of them due in one pass")
	flag.IntVar(&o.burst, "burst", 12_000, "jobs that are due in the same minute")
	flag.IntVar(&o.history, "history", 0, "finished runs, beside which all is measured a second time, such as 10000000")
	flag.StringVar(&o.service, "service", "bin/ironbell",
		"`program` of the service, for what it needs while nothing is due")
	flag.IntVar(&o.files, "files", 1_000_000, "rows of the files that are made; 0 for none")
	flag.IntVar(&o.mails, "mails", 10_000, "mails that are handed over; 0 for none")
	flag.StringVar(&o.only, "only", "", "measure one thing alone: files, mails, events, watches, forecast or rings")
	flag.BoolVar(&o.quick, "quick", false, "the short form, beside the ratios that are kept in "+keptFile)
	flag.BoolVar(&o.keep, "keep", false, "with -quick: keep these ratios, when a change lands")
	flag.StringVar(&o.docs, "docs", "", "`page` whose table of figures is written anew")
	which := flag.Int("make", -1, "make one file and say what it took: for this program itself")
	dsn, path, rows := flag.String("dsn", "", "with -make"), flag.String("file", "", "with -make"),
		flag.Int("rows", 0, "with -make")
	profile := flag.String("profile", "", "`file` for a profile of this program's processor time")
	flag.Parse()
	if o.quick {
		o.quickly()
	}
	if *profile != "" {
		out, err := os.Create(*profile)
		if err == nil {
			err = pprof.StartCPUProfile(out)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
	}
	do := func() error { return run(o) }
	if *which >= 0 {
		do = func() error { return makeOne(context.Background(), *which, *dsn, *path, *rows) }
	}
	err := do()
	pprof.StopCPUProfile() // when there is one
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// bench is the world in which all is measured.
type bench struct {
	options
	dir     string
	dsn     string
	pool    *pgxpool.Pool
	store   *store.Store
	token   string       // of the administrator, once there is one
	taken   atomic.Int64 // mails that have arrived
	figures []figure
}

func run(o options) error {
	was := kept{}
	if o.quick {
		var err error
		if was, err = readKept(keptFile); err != nil {
			return fmt.Errorf("read what was kept: %w", err)
		}
	}
	began := time.Now()
	b := &bench{options: o}
	measured := b.measureAll(context.Background())
	slower := b.tell(was)
	fmt.Printf("measured in %s\n", time.Since(began).Round(time.Second))
	if measured != nil {
		return measured
	}
	if slower > 0 {
		fmt.Printf("%d became worse by more than a fifth: measure again beside nothing else, and say in the change why it is so.\n", slower)
	}
	if o.quick && o.keep {
		if err := b.keep(keptFile); err != nil {
			return fmt.Errorf("keep the figures: %w", err)
		}
	}
	if o.docs != "" {
		return b.document(o.docs)
	}
	return nil
}

// measureAll measures what the options say, in databases of a server of its own.
func (b *bench) measureAll(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "ironbell-bench-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()     // a temporary folder
	if err := os.Chmod(dir, 0o755); err != nil { //nolint:gosec // the server's user must pass
		return err
	}
	pg, err := localpg.Start(ctx, localpg.Options{
		Dir: filepath.Join(dir, "data"), Settings: map[string]string{"max_wal_size": "4GB"},
	})
	if err != nil {
		return err
	}
	defer pg.Stop()
	b.dir = dir
	for _, m := range []struct {
		name     string
		measures bool
		do       func(context.Context) error
	}{
		{"forecast", true, func(context.Context) error { return b.forecast(100_000) }},
		{"files", b.files > 0, func(ctx context.Context) error { return b.formats(ctx, b.files) }},
		{"mails", b.mails > 0, b.handOver},
		{"events", true, b.events},
		{"watches", !b.quick, b.watches},
		{"rings", true, b.engineRooms},
	} {
		if !m.measures || b.only != "" && b.only != m.name {
			continue
		}
		// Each in a database of its own: what one leaves behind would ring among the others.
		if err := pg.Ensure(ctx, m.name); err != nil {
			return err
		}
		b.dsn, b.token = pg.DSN(m.name), ""
		if err := b.open(ctx); err != nil {
			return err
		}
		err := m.do(ctx)
		b.store.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", m.name, err)
		}
	}
	return nil
}

// engineRooms measures what a node does by itself, beside many jobs, and again beside much history when that is asked for.
func (b *bench) engineRooms(ctx context.Context) error {
	began := time.Now()
	if err := b.fill(ctx); err != nil {
		return err
	}
	fmt.Printf("%d switched-on jobs were laid out in %s\n", b.jobs, time.Since(began).Round(time.Second))
	measure := func() error {
		for _, m := range []func(context.Context) error{b.idle, b.rings, b.runs, b.lateness} {
			if err := m(ctx); err != nil {
				return err
			}
		}
		return nil
	}
	if err := measure(); err != nil || b.history == 0 {
		return err
	}
	began = time.Now()
	if err := b.past(ctx, b.history); err != nil {
		return err
	}
	fmt.Printf("\n%d finished runs were laid out in %s; all again beside them\n", b.history,
		time.Since(began).Round(time.Second))
	return measure()
}

// open opens the database, with its tables.
func (b *bench) open(ctx context.Context) (err error) {
	if b.store, err = store.Open(ctx, b.dsn, store.Options{}); err != nil {
		return err
	}
	b.pool = b.store.Connections()
	return b.store.Migrate(ctx)
}

// nothing is a kind of task that does nothing.
type nothing struct{}

func (nothing) Help() task.Help                                               { return task.Help{Kind: "nothing"} }
func (nothing) Check(context.Context, *task.Checking, string, job.Task) error { return nil }
func (nothing) Run(context.Context, task.Work, job.Task) (task.Result, error) {
	return task.Result{}, nil
}

// engine makes a node.
func (b *bench) engine() (*engine.Engine, error) {
	vault, err := secret.FromFile(filepath.Join(b.dir, "key"), true)
	if err != nil {
		return nil, err
	}
	files, err := artifact.OpenFolder(filepath.Join(b.dir, "artifacts"))
	if err != nil {
		return nil, err
	}
	guard := outgoing.New(nil)
	return engine.New(b.store, report.NewSources(b.store, vault, report.Allowed{}),
		deliver.NewDestinations(b.store, vault, deliver.Allowed{Guard: guard}), files, engine.Options{
			Workers: workers, Guard: guard,
			Log:   slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn})),
			Kinds: map[job.TaskKind]task.Kind{"nothing": nothing{}},
		}), nil
}

// fill lays out people and jobs, each with one task that does nothing and one
// daily trigger, none of them due for a year.
func (b *bench) fill(ctx context.Context) error {
	person, err := b.store.PutPerson(ctx,
		job.Person{
			Login: "mara", Name: "Mara Quill", Mail: "mara@tarnwick.example", Role: job.RoleOwner,
			Zone: "Europe/London",
		}, "")
	if err != nil {
		return err
	}
	for _, statement := range []string{
		`INSERT INTO jobs (name, owner_id, is_on, version) SELECT 'job ' || n, $2, true, 1 FROM generate_series(1, $1::int) n`,
		`INSERT INTO job_versions (job_id, version, definition, author_id) SELECT id, 1, '{"zone": "Europe/London", "tasks": [{"name": "nothing", "kind": "nothing"}]}', $2 FROM jobs WHERE name ~ '^job [0-9]+$' LIMIT $1`,
		`INSERT INTO triggers (job_id, position, rule, timing, zone, after_outage, overlap, priority, next_due, next_nominal)
			SELECT id, 0, '', jsonb_build_object('rule', format('%s %s * * *', id % 60, id / 60 % 24)), 'Europe/London', 'once', 'wait', 0, at, at
			FROM (SELECT id, date_trunc('day', now()) + interval '400 days' + id % 1440 * interval '1 minute' AS at FROM jobs WHERE name ~ '^job [0-9]+$' LIMIT $1) j, (SELECT $2::bigint) p`,
	} {
		if _, err := b.pool.Exec(ctx, statement, b.jobs, person); err != nil {
			return fmt.Errorf("lay out the jobs: %w", err)
		}
	}
	return b.tidy(ctx, "people, jobs, job_versions, triggers")
}

// past lays out finished runs with their parts, attempts and log lines.
func (b *bench) past(ctx context.Context, n int) error {
	const batch = 500_000
	for from := 0; from < n; from += batch {
		if _, err := b.pool.Exec(ctx, `WITH r AS (
				INSERT INTO runs (id, job_id, job_name, job_version, why, nominal, due, zone, state, reason, started_at, ended_at)
				SELECT month_id('run_count'), 1 + n % $3, 'job', 1, 'Rang by its rule.', at, at, 'Europe/London', 'done', 'all tasks done', at, at
				FROM (SELECT n, now() - n * interval '0.2 seconds' AS at FROM generate_series($1::bigint, $2::bigint) n) s RETURNING id, job_id, due
			), p AS (
				INSERT INTO parts (run_id, part, job_id, state, priority, gated) SELECT id, 1, job_id, 'done', 0, true FROM r
			), a AS (
				INSERT INTO attempts (run_id, part, task, try, state, started_at, ended_at) SELECT id, 1, 'nothing', 1, 'done', due, due FROM r
			)
			INSERT INTO run_log (run_id, state, text) SELECT id, 'done', 'all tasks done' FROM r`, from, min(from+batch, n)-1, b.jobs); err != nil {
			return fmt.Errorf("lay out finished runs: %w", err)
		}
	}
	return b.tidy(ctx, "runs, parts, attempts, run_log")
}

// tidy does what the database's own upkeep would have done by now.
func (b *bench) tidy(ctx context.Context, tables string) error {
	if _, err := b.pool.Exec(ctx, `VACUUM (ANALYZE) `+tables); err != nil {
		return err
	}
	_, err := b.pool.Exec(ctx, `CHECKPOINT`)
	return err
}

// middle gives the median of some times.
func middle(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)/2]
}
