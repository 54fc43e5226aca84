package faults

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"
	"ironbell/test/world"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStatementsRunWhereASourceAllowsThem(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	conn := world.Connect(t, w.Db)
	_, err := conn.Exec(ctx,
		`CREATE TABLE exports (day date PRIMARY KEY, sent boolean NOT NULL DEFAULT false); INSERT INTO exports (day) VALUES ('2026-11-01'), ('2026-11-02')`)
	require.NoError(t, err)
	config, err := pgx.ParseConfig(pgtest.Login(t, w.Db, pgtest.Writer))
	require.NoError(t, err)
	_, err = w.C.SaveSource(ctx, "ledger",
		wire.PlaceRequest{Protocol: "postgres", Password: &config.Password, Settings: map[string]any{
			"host": config.Host, "port": config.Port, "database": config.Database, "user": config.User,
			"tls":        "disable",
			"statements": true,
		}})
	require.NoError(t, err)
	mark := job.Task{
		Name: "mark", Kind: job.KindQuery,
		Query: &job.QueryTask{
			Source: "ledger", SQL: "UPDATE exports SET sent = true WHERE day >= :day",
			Parameters: []job.Parameter{{Name: "day", Type: job.TypeDate, Required: true}},
		},
	}
	d := world.Tasks(mark, job.Task{
		Name: "many", Kind: job.KindEmit, OnlyIf: `rows("mark") > 1`, Emit: &job.EmitTask{Type: "example.many"},
	})
	d.Values = job.Values{"day": "2026-11-02'; DROP TABLE exports; --"}
	_, err = w.C.SaveJob(ctx, "Mark", wire.JobRequest{Owner: "mara", On: true, Definition: d})
	assert.ErrorContains(t, err, "takes a date")
	d.Values = job.Values{"day": "2026-11-02"}
	w.Job("Mark", d)
	page := w.Ring("Mark")
	require.Equal(t, job.RunDone, page.State, page.Reason)
	assert.Equal(t, int64(1), *page.Attempts[0].Rows)
	assert.Equal(t, "passed over;", world.AttemptsOf(page)["many"])
	var sent int
	require.NoError(t, conn.QueryRow(ctx, `SELECT count(*) FROM exports WHERE sent`).Scan(&sent))
	assert.Equal(t, 1, sent)
	// A rehearsal leaves it alone, and so does a source that allows no statements.
	run, err := w.C.Rehearse(ctx, "Mark", job.Values{"day": "2026-11-01"})
	require.NoError(t, err)
	page, err = w.C.Follow(ctx, run.ID, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	assert.Contains(t, page.Attempts[0].Note, "rehearsal: the statement was not run")
	require.NoError(t, conn.QueryRow(ctx, `SELECT count(*) FROM exports WHERE sent`).Scan(&sent))
	assert.Equal(t, 1, sent)
	mark.Query.Source = "tarnwick"
	_, err = w.C.SaveJob(ctx, "Mark", wire.JobRequest{Owner: "mara", On: true, Definition: world.Tasks(mark)})
	assert.ErrorContains(t, err, "does not allow statements")
}

// A program that was in the middle when its node died may have done anything:
// it is not run a second time by itself, unless its task says that it may be.
func TestAnInterruptedProgramIsUnknownUnlessRepeatable(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Write("programs/upload", "#!/bin/sh\necho x >> \"$1\"\nif [ $(wc -l < \"$1\") = 1 ]; then sleep 60; fi\n", 0o755)
	for name, repeatable := range map[string]bool{"Once": false, "Again": true} {
		count := filepath.Join(w.Dir, "notes", name)
		w.Job(name,
			world.Tasks(job.Task{
				Name: "upload", Kind: job.KindProgram, Repeatable: repeatable,
				Program: &job.ProgramTask{Program: "upload", Arguments: []string{count}},
			}))
		run, err := w.C.Ring(ctx, name, nil)
		require.NoError(t, err)
		w.Until("the program runs", func() bool { _, err := os.Stat(count); return err == nil })
		w.Kill()
		w.Start()
		page, err := w.C.Follow(ctx, run.ID, func(wire.RunPage) error { return nil })
		require.NoError(t, err)
		text, err := os.ReadFile(count)
		require.NoError(t, err)
		if repeatable {
			assert.Equal(t, job.RunDone, page.State, page.Reason)
			assert.Equal(t, "x\nx\n", string(text))
			continue
		}
		assert.Equal(t, job.RunFailed, page.State)
		assert.Equal(t, "unknown;", world.AttemptsOf(page)["upload"])
		assert.Contains(t, page.Reason, "nobody knows how far it came")
		assert.Equal(t, "x\n", string(text), "it ran once")
		// A person who has looked lets it go on.
		_, err = w.C.Again(ctx, run.ID, wire.AgainRequest{})
		require.NoError(t, err)
		page, err = w.C.Follow(ctx, run.ID, func(wire.RunPage) error { return nil })
		require.NoError(t, err)
		assert.Equal(t, job.RunDone, page.State, page.Reason)
	}
}

func TestFilesArePickedUpWhenTheyAreComplete(t *testing.T) {
	w := world.Open(t)
	w.Places()
	collect := func(take job.Take) wire.RunPage {
		d := world.Tasks(
			job.Task{
				Name: "readings", Kind: job.KindCollect,
				Collect: &job.CollectTask{
					Source: "tide gauges", Pattern: "tide_*.csv", Take: take,
					Settled: job.Duration(600 * time.Millisecond),
				},
			},
			job.Task{
				Name: "mail", Kind: job.KindDeliver,
				Deliver: &job.DeliverTask{Destination: "company mail", To: []string{"a@tarnwick.example"}},
			},
		)
		d.Retry = job.Retry{}
		w.Job("Tides", d)
		return w.Ring("Tides")
	}
	page := collect(job.TakeNewest)
	assert.Equal(t, job.RunBlank, page.State)
	assert.Equal(t, "blank: readings found nothing; held, nothing was sent", page.Reason)
	w.Write("folders/tides/tide_1.csv", "", 0o600)
	w.Write("folders/tides/other.csv", "not meant", 0o600)
	assert.Equal(t, job.RunBlank, collect(job.TakeNewest).State, "a file without content")
	// Somebody is still writing: it is taken when it has not changed for a while.
	stop := make(chan struct{})
	written := make(chan struct{})
	begun := make(chan struct{})
	begin := sync.OnceFunc(func() { close(begun) })
	go func() {
		defer close(written)
		defer begin()
		f, err := os.OpenFile(filepath.Join(w.Dir, "folders/tides/tide_2.csv"), os.O_CREATE|os.O_WRONLY, 0o600)
		if err != nil {
			return
		}
		defer func() { _ = f.Close() }()
		for n := range 12 {
			_, _ = f.WriteString("Pennold,212\n")
			if n == 0 {
				begin()
			}
			time.Sleep(150 * time.Millisecond)
		}
		<-stop
	}()
	<-begun
	page = collect(job.TakeNewest)
	close(stop)
	<-written
	require.Equal(t, job.RunDone, page.State, page.Reason)
	assert.Equal(t, int64(12*len("Pennold,212\n")), page.Artifacts[0].Size, "the whole of it")
	assert.Contains(t, collect(job.TakeOne).Reason, "2 files match")
	page = collect(job.TakeAll)
	assert.Equal(t, job.RunDone, page.State, page.Reason)
	assert.Len(t, page.Artifacts, 2)
	for folder, want := range map[string]string{
		"/etc": "is not allowed on this machine",
		filepath.Join(w.Dir, "folders", "..", "programs"): "is not allowed on this machine",
		"/nowhere": "there is no folder",
	} {
		_, err := w.C.SaveSource(context.Background(), "x", wire.PlaceRequest{
			Protocol: "folder", Settings: map[string]any{"folder": folder},
		})
		assert.ErrorContains(t, err, want)
	}
}
