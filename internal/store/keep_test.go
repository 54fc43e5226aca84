package store_test

import (
	"context"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/rings"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ended makes a run of a job that ended some days ago, with a file and a log line.
func ended(t *testing.T, s *store.Store, j job.Job, days int) job.RunID {
	t.Helper()
	ctx := context.Background()
	id := ring(t, s, j, false)
	c := claim(t, s, "a", time.Minute)
	require.Len(t, c, 1)
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		e := &queue.Entry{
			Claim: c[0], Node: "a", Begin: []string{"report"}, Logs: []job.LogLine{{Task: "report", Text: "7 rows"}},
			Part: &queue.PartMove{State: job.PartDone},
			Ends: []queue.TaskEnd{{
				Attempt: job.Attempt{Task: "report", Try: 1, State: job.AttemptDone},
				Files: []job.Artifact{{
					Format: "csv", Name: "a.csv", MediaType: "text/csv", Key: "aa/" + id.String(),
				}},
			}},
		}
		if err := tx.WriteEntries(ctx, []*queue.Entry{e}); err != nil {
			return err
		}
		run, err := tx.LockRun(ctx, id)
		if err != nil {
			return err
		}
		return tx.MoveRun(ctx, run, job.RunDone, "done")
	}))
	_, err := s.Connections().Exec(ctx, `UPDATE runs SET ended_at = now() - make_interval(days => $2) WHERE id = $1`,
		int64(id), days)
	require.NoError(t, err)
	_, err = s.Connections().Exec(ctx, `UPDATE artifacts SET created_at = now() - make_interval(days => $2)
		WHERE run_id = $1`, int64(id), days)
	require.NoError(t, err)
	return id
}

func TestFilesLogsAndRunsGoInTheirTime(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	short := put(t, s, w, "Short", job.Definition{Keep: job.Keep{Runs: 20, Log: 5, Files: 10}})
	long := put(t, s, w, "Long", job.Definition{})
	young, middle, old, kept := ended(t, s, short, 3), ended(t, s, short, 12), ended(t, s, short, 30),
		ended(t, s, long, 30)

	files, err := s.OldFiles(ctx, 10)
	require.NoError(t, err)
	var keys []string
	for _, f := range files {
		keys = append(keys, f.Key)
	}
	assert.ElementsMatch(t, []string{"aa/" + middle.String(), "aa/" + old.String()}, keys)
	require.NoError(t, s.FilesRemoved(ctx, files))
	files, err = s.OldFiles(ctx, 10)
	require.NoError(t, err)
	assert.Empty(t, files)
	made, err := s.Artifacts(ctx, middle, 1)
	require.NoError(t, err)
	assert.NotNil(t, made[0].RemovedAt, "its record stays with the run")
	known, err := s.KnownKeys(ctx, []string{"aa/" + middle.String(), "aa/" + kept.String()})
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"aa/" + kept.String(): true}, known)

	// Everything lies in this month, which the sweep leaves alone until it may hold something old.
	_, err = s.Connections().Exec(ctx, `CREATE
		OR REPLACE FUNCTION month_end(days int) RETURNS bigint LANGUAGE sql STABLE AS 'SELECT 9912::bigint * 10000000000'`)
	require.NoError(t, err)
	require.NoError(t, s.SweepHistory(ctx))
	_, err = s.Run(ctx, old)
	var missing *db.NotFound
	require.ErrorAs(t, err, &missing, "a run of a job that keeps them for twenty days")
	for id, want := range map[job.RunID]bool{young: true, middle: false, kept: true} {
		_, err := s.Run(ctx, id)
		require.NoError(t, err)
		lines, err := s.RunLog(ctx, id, 0)
		require.NoError(t, err)
		rows := 0
		for _, l := range lines {
			if l.Text == "7 rows" {
				rows++
			}
		}
		assert.Equal(t, want, rows == 1, id.String())
		assert.NotEmpty(t, lines, "the changes of its state stay with the run")
	}
}

func TestOldMonthsGoAsAWhole(t *testing.T) {
	s, _ := fresh(t)
	ctx := context.Background()
	for _, table := range []string{"runs", "parts", "attempts", "artifacts", "run_log", "messages", "deliveries"} {
		for _, month := range []string{"2401", "2402"} {
			_, err := s.Connections().Exec(ctx,
				`CREATE TABLE `+table+`_`+month+` PARTITION OF `+table+` FOR VALUES FROM (`+month+`0000000000) TO (`+
					month+`9999999999)`)
			require.NoError(t, err)
		}
	}
	_, err := s.Connections().Exec(ctx, `CREATE TABLE rings_2401 PARTITION OF rings FOR VALUES
		FROM ('2024-01-01 00:00+00') TO ('2024-02-01 00:00+00')`)
	require.NoError(t, err)
	_, err = s.Connections().Exec(ctx, `INSERT INTO runs (id, job_id, job_name, job_version, why, nominal, due, zone,
		state) VALUES (24020000000001, 1, 'x', 1, 'rang', now(), now(), 'UTC', 'waiting')`)
	require.NoError(t, err)
	require.NoError(t, s.DropMonths(ctx))
	var left []string
	rows, err := s.Connections().Query(ctx, `SELECT relname FROM pg_class WHERE relname ~ '_240[12]$' AND relkind = 'r'
		ORDER BY relname`)
	require.NoError(t, err)
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		left = append(left, name)
	}
	require.NoError(t, rows.Err())
	assert.Equal(t,
		[]string{
			"artifacts_2402", "attempts_2402", "deliveries_2402", "messages_2402", "parts_2402", "run_log_2402",
			"runs_2402",
		}, left, "a month with a run that has not ended stays whole")

	// A reader keeps the lock: the month goes another time, and nobody waits long.
	_, err = s.Connections().Exec(ctx, `UPDATE runs SET state = 'done' WHERE id = 24020000000001`)
	require.NoError(t, err)
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		_, err := tx.Runs(ctx, history.RunFilter{Limit: 1})
		require.NoError(t, err)
		assert.ErrorContains(t, s.DropMonths(ctx), "lock timeout")
		return nil
	}))
	require.NoError(t, s.DropMonths(ctx))
	_, err = s.Run(ctx, 24020000000001)
	var missing *db.NotFound
	assert.ErrorAs(t, err, &missing)
}

func TestALogHasItsBounds(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	id := ring(t, s, put(t, s, w, "Quay board", job.Definition{}), false)
	_, err := s.Connections().Exec(ctx, `INSERT INTO run_log (run_id, text) SELECT $1, 'line'
		FROM generate_series(1, 10000)`, int64(id))
	require.NoError(t, err)
	require.NoError(t, s.Log(ctx, job.LogLine{Text: "one too many"}, id))
	require.NoError(t, s.Log(ctx, job.LogLine{State: job.RunFailed, Text: "a change of state is never left out"}, id))
	var n int
	require.NoError(t,
		s.Connections().QueryRow(ctx, `SELECT count(*) FROM run_log WHERE run_id = $1 AND text <> 'line'`,
			int64(id)).Scan(&n))
	assert.Equal(t, 2, n, "why it was made, and the change of state")
	other := ring(t, s, put(t, s, w, "Other", job.Definition{}), false)
	long := make([]byte, 10_000)
	for i := range long {
		long[i] = 'x'
	}
	require.NoError(t, s.Log(ctx, job.LogLine{Text: "a\x00b" + string(long)}, other))
	lines, err := s.RunLog(ctx, other, 0)
	require.NoError(t, err)
	assert.Len(t, lines[1].Text, 4006)
}

func TestLimitsAndFreezesHoldBackWhatCarriesTheirLabel(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Heavy", job.Definition{})
	for range 3 {
		require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
			return tx.AddRuns(ctx,
				[]rings.NewRun{{
					JobID: j.ID, Job: j.Name, JobVersion: 1, Why: "test", Nominal: *at(0), Due: *at(0), Zone: "UTC",
					Labels: []string{"service", "tag:heavy"},
				}})
		}))
	}
	light := ring(t, s, put(t, s, w, "Light", job.Definition{}), false)
	require.NoError(t, s.PutSetting(ctx, queue.LimitSetting, map[string]int{"tag:heavy": 1}))
	got := claim(t, s, "a", time.Minute)
	require.Len(t, got, 2, "one heavy one, and what stands behind the others")
	assert.Contains(t, []job.RunID{got[0].RunID, got[1].RunID}, light)
	require.NoError(t, s.PutSetting(ctx, queue.LimitSetting, map[string]int{}))
	f, err := s.AddFreeze(ctx, job.Freeze{
		Label: "tag:heavy", From: time.Now().Add(-time.Minute), Rings: "wait", By: "Sefa Orlin",
	})
	require.NoError(t, err)
	assert.Empty(t, claim(t, s, "a", time.Minute))
	_, err = s.LiftFreeze(ctx, f.ID, "Sefa Orlin")
	require.NoError(t, err)
	assert.Len(t, claim(t, s, "a", time.Minute), 2)
}

// What waits goes by its priority, and by its age.
func TestTurnsGoByPriorityAndAge(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	add := func(j job.Job, priority int, waited time.Duration) job.RunID {
		var id job.RunID
		ready := time.Now().Add(-waited)
		require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
			runs := []rings.NewRun{{
				JobID: j.ID, Job: j.Name, JobVersion: 1, Why: "test", Nominal: *at(0), Due: *at(0), Zone: "UTC",
				Priority: priority, Ready: &ready,
			}}
			err := tx.AddRuns(ctx, runs)
			id = runs[0].ID
			return err
		}))
		return id
	}
	first, second, third := put(t, s, w, "plain", job.Definition{}), put(t, s, w, "urgent", job.Definition{}),
		put(t, s, w, "old", job.Definition{})
	plain, urgent, old := add(first, 0, 0), add(second, 10, 0), add(third, 0, 20*time.Minute)
	var order []job.RunID
	for _, c := range claim(t, s, "a", time.Minute) {
		order = append(order, c.RunID)
	}
	assert.Equal(t, []job.RunID{old, urgent, plain}, order)
}
