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

func main() {
	jobs := flag.Int("jobs", 1_000_000, "switched-on jobs")
	due := flag.Int("due", 1000, "of them due in one pass")
	burst := flag.Int("burst", 12_000, "jobs that are due in the same minute")
	history := flag.Int("history", 0, "finished runs, beside which all is measured a second time, such as 10000000")
	service := flag.String("service", "bin/ironbell",
		"`program` of the service, for what it needs while nothing is due")
	files := flag.Int("files", 1_000_000, "rows of the files that are made; 0 for none")
	only := flag.Bool("only-files", false, "measure the making of files alone")
	mails := flag.Int("mails", 10_000, "mails that are handed over; 0 for none")
	onlyMails := flag.Bool("only-mails", false, "measure the handing over of mails alone")
	onlyWatches := flag.Bool("only-watches", false, "measure the looking at folders alone")
	onlyEvents := flag.Bool("only-events", false, "measure the taking of events alone")
	which := flag.Int("make", -1, "make one file and say what it took: for this program itself")
	dsn, path, rows := flag.String("dsn", "", "with -make"), flag.String("file", "", "with -make"),
		flag.Int("rows", 0, "with -make")
	profile := flag.String("profile", "", "`file` for a profile of this program's processor time")
	flag.Parse()
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
	do := func() error {
		return run(*jobs, *due, *burst, *history, *files, *mails, *only, *onlyMails, *onlyEvents, *onlyWatches, *service)
	}
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
	dir   string
	dsn   string
	pool  *pgxpool.Pool
	store *store.Store
	jobs  int
	token string       // of the administrator, once there is one
	taken atomic.Int64 // mails that have arrived
}

func run(jobs, due, burst, history, files, mails int, only, onlyMails, onlyEvents, onlyWatches bool, service string) error {
	ctx := context.Background()
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
	if err := pg.Ensure(ctx, "ironbell"); err != nil {
		return err
	}
	b := &bench{dir: dir, dsn: pg.DSN("ironbell"), jobs: jobs}
	if err := b.open(ctx); err != nil {
		return err
	}
	defer func() { b.store.Close() }() // the last one
	if onlyWatches {
		return b.watches(ctx, service)
	}
	if onlyEvents {
		return b.events(ctx, service)
	}
	if files > 0 && !onlyMails {
		if err := b.formats(ctx, files); err != nil || only {
			return err
		}
	}
	if mails > 0 {
		if err := b.mails(ctx, mails); err != nil || onlyMails {
			return err
		}
	}
	if err := b.events(ctx, service); err != nil {
		return err
	}
	if err := b.watches(ctx, service); err != nil {
		return err
	}
	// What was measured so far left jobs behind, which would ring among the others.
	if err := pg.Ensure(ctx, "rings"); err != nil {
		return err
	}
	b.store.Close()
	b.dsn = pg.DSN("rings")
	if err := b.open(ctx); err != nil {
		return err
	}
	began := time.Now()
	if err := b.fill(ctx); err != nil {
		return err
	}
	fmt.Printf("%d switched-on jobs were laid out in %s\n", jobs, time.Since(began).Round(time.Second))
	measure := func() error {
		for _, m := range []func(context.Context) error{
			func(ctx context.Context) error { return b.idle(ctx, service) },
			func(ctx context.Context) error { return b.rings(ctx, due) },
			func(ctx context.Context) error { return b.runs(ctx, burst) },
			b.lateness,
		} {
			if err := m(ctx); err != nil {
				return err
			}
		}
		return nil
	}
	if err := measure(); err != nil || history == 0 {
		return err
	}
	began = time.Now()
	if err := b.past(ctx, history); err != nil {
		return err
	}
	fmt.Printf("\n%d finished runs were laid out in %s; all again beside them\n", history,
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
