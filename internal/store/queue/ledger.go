package queue

import (
	"context"
	"encoding/json"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/sending"

	"github.com/jmoiron/sqlx"
)

// Entry is what happened to one claimed part. Many entries are written in one
// transaction; each is refused by itself when its lease was lost.
type Entry struct {
	Claim    Claim
	No       int64 // of the entry under its claim, from 1 on; 0 for one that is written once only
	Node     string
	Begin    []string // tasks that begin; their tries come back in Tries
	Ends     []TaskEnd
	Messages []sending.NewMessage
	Links    []history.NewLink
	Logs     []job.LogLine
	Part     *PartMove

	Tries   map[string]int // of the tasks that began
	Written bool           // it stood already: its answer had been lost
	Err     error          // ErrStale when the lease was lost
}

// TaskEnd is how a try of a task ended, with what it made. A task that was
// passed over was never begun: its Try is 0.
type TaskEnd struct {
	job.Attempt
	Again   bool // it will be tried again
	Totals  map[string]float64
	Cells   job.Cells
	Unusual string
	Files   []job.Artifact
}

// PartMove is the end of a part, or its return to those that wait.
type PartMove struct {
	State  job.PartState
	Reason string
	Wait   time.Duration // when State is waiting
}

// WriteEntries writes entries of parts that are held; those whose lease was
// lost get ErrStale and write nothing. One that stands already, by its number under
// the lease, is left as it is: what began with it comes back in Tries.
func (t *Tx) WriteEntries(ctx context.Context, entries []*Entry) error {
	held, stand, err := t.held(ctx, entries)
	if err == nil && len(stand) > 0 {
		err = t.readTries(ctx, stand)
	}
	if err != nil || len(held) == 0 {
		return err
	}
	for _, write := range []func(context.Context, []*Entry) error{
		t.beginTasks, t.passOver, t.endTasks, t.keepFiles,
		t.putMessages, t.logAll, t.moveParts,
	} {
		if err := write(ctx, held); err != nil {
			return err
		}
	}
	return nil
}

// held locks the entries' parts and keeps those whose lease is still theirs, apart
// from those that stand already.
func (t *Tx) held(ctx context.Context, entries []*Entry) (kept, stand []*Entry, err error) {
	var c db.Columns
	for i, e := range entries {
		c.Part(e.Claim.RunID, e.Claim.Part)
		c.N = append(c.N, int64(i))
		c.Lease = append(c.Lease, e.Claim.LeaseNo)
	}
	var found []struct {
		N       int    `db:"n"`
		EntryNo int64  `db:"entry_no"`
		State   string `db:"state"`
	}
	if err := sqlx.SelectContext(ctx, t.Ext, &found, `SELECT u.n, p.entry_no, p.state FROM parts p
		JOIN unnest($1::bigint[], $2::int[], $3::bigint[], $4::bigint[]) AS u(run_id, part, lease_no, n)
			ON p.run_id = u.run_id AND p.part = u.part AND p.lease_no = u.lease_no
		ORDER BY p.run_id, p.part FOR UPDATE OF p`, c.Run, c.Parts, c.Lease, c.N); err != nil {
		return nil, nil, db.Wrap(err, "check the leases")
	}
	kept = make([]*Entry, 0, len(found))
	for _, e := range entries {
		e.Err, e.Written = db.ErrStale, false
	}
	for _, f := range found {
		switch e := entries[f.N]; {
		case e.No > 0 && f.EntryNo >= e.No:
			e.Err, e.Written = nil, true
			stand = append(stand, e)
		case f.State == string(job.PartRunning):
			e.Err = nil
			kept = append(kept, e)
		}
	}
	return kept, stand, nil
}

// readTries reads which tries began with entries that stand already.
func (t *Tx) readTries(ctx context.Context, entries []*Entry) error {
	for _, e := range entries {
		e.Tries = map[string]int{}
		for _, task := range e.Begin {
			var try int
			if err := sqlx.GetContext(ctx, t.Ext, &try, `SELECT coalesce(max(try), 0) FROM attempts WHERE run_id = $1
				AND part = $2 AND task = $3`, e.Claim.RunID, e.Claim.Part, task); err != nil {
				return db.Wrap(err, "read which tries began")
			}
			e.Tries[task] = try
		}
	}
	return nil
}

func (t *Tx) beginTasks(ctx context.Context, entries []*Entry) error {
	var c db.Columns
	var tasks, nodes []string
	for i, e := range entries {
		e.Tries = map[string]int{}
		for _, task := range e.Begin {
			c.Part(e.Claim.RunID, e.Claim.Part)
			c.N = append(c.N, int64(i))
			tasks, nodes = append(tasks, task), append(nodes, e.Node)
		}
	}
	if len(tasks) == 0 {
		return nil
	}
	var begun []struct {
		RunID job.RunID `db:"run_id"`
		Part  int       `db:"part"`
		Task  string    `db:"task"`
		Try   int       `db:"try"`
	}
	if err := sqlx.SelectContext(ctx, t.Ext, &begun, `INSERT INTO attempts (run_id, part, task, try, state, node,
		started_at)
		SELECT u.run_id, u.part, u.task, 1 + coalesce((SELECT max(a.try) FROM attempts a WHERE a.run_id = u.run_id
		AND a.part = u.part AND a.task = u.task), 0), 'running', u.node, bell_clock()
		FROM unnest($1::bigint[], $2::int[], $3::text[], $4::text[]) AS u(run_id, part, task, node)
		RETURNING run_id, part, task, try`, c.Run, c.Parts, tasks, nodes); err != nil {
		return db.Wrap(err, "record the attempts")
	}
	for _, b := range begun {
		for _, e := range entries {
			if e.Claim.RunID == b.RunID && e.Claim.Part == b.Part {
				e.Tries[b.Task] = b.Try
			}
		}
	}
	return nil
}

// passOver records the tasks that were passed over, which nobody began.
func (t *Tx) passOver(ctx context.Context, entries []*Entry) error {
	var c db.Columns
	var tasks, notes, nodes []string
	for _, e := range entries {
		for _, end := range e.Ends {
			if end.State == job.AttemptOver {
				c.Part(e.Claim.RunID, e.Claim.Part)
				tasks, notes, nodes = append(tasks, end.Task), append(notes, end.Note), append(nodes, e.Node)
			}
		}
	}
	if len(tasks) == 0 {
		return nil
	}
	_, err := t.Ext.ExecContext(ctx, `INSERT INTO attempts (run_id, part, task, try, state, note, node, started_at,
		ended_at)
		SELECT u.run_id, u.part, u.task, 1 + coalesce((SELECT max(a.try) FROM attempts a WHERE a.run_id = u.run_id
		AND a.part = u.part AND a.task = u.task), 0), 'passed over', u.note, u.node, bell_clock(), bell_clock()
		FROM unnest($1::bigint[], $2::int[], $3::text[], $4::text[], $5::text[]) AS u(run_id, part, task, note,
		node)`, c.Run, c.Parts, tasks, notes, nodes)
	return db.Wrap(err, "record what was passed over")
}

func (t *Tx) endTasks(ctx context.Context, entries []*Entry) error {
	var c db.Columns
	var tasks, states, notes, classes, advices, totals, cells, unusuals []string
	var tries []int32
	var counts []*int64
	var again []bool
	for _, e := range entries {
		for _, end := range e.Ends {
			if end.State == job.AttemptOver {
				continue
			}
			c.Part(e.Claim.RunID, e.Claim.Part)
			tasks, tries, states, counts = append(tasks, end.Task), append(tries, int32(end.Try)), append(states, string(end.State)), append(counts, end.Rows) //nolint:gosec // tries are counted
			notes, classes, advices = append(notes, end.Note), append(classes, end.Class), append(advices, end.Advice)
			again, unusuals, totals = append(again, end.Again), append(unusuals, end.Unusual),
				append(totals, jsonText(end.Totals))
			cells = append(cells, jsonText(end.Cells))
		}
	}
	if len(tasks) == 0 {
		return nil
	}
	_, err := t.Ext.ExecContext(ctx, `UPDATE attempts a SET state = u.state, ended_at = bell_clock(), rows = u.rows,
		note = u.note, class = u.class, advice = u.advice,
			again = u.again, totals = u.totals, unusual = u.unusual, cells = u.cells
		FROM unnest($1::bigint[], $2::int[], $3::text[], $4::int[], $5::text[], $6::bigint[], $7::text[], $8::text[],
		$9::text[], $10::bool[], $11::jsonb[], $12::text[], $13::jsonb[])
			AS u(run_id, part, task, try, state, rows, note, class, advice, again, totals, unusual, cells)
		WHERE a.run_id = u.run_id AND a.part = u.part AND a.task = u.task AND a.try = u.try`,
		c.Run, c.Parts, tasks, tries, states, counts, notes, classes, advices, again, totals, unusuals, cells)
	return db.Wrap(err, "record the ends of the attempts")
}

func jsonText[M ~map[string]V, V any](totals M) string {
	if len(totals) == 0 {
		return "{}"
	}
	text, err := json.Marshal(totals)
	if err != nil {
		return "{}" // sums that are no numbers are of no use to a condition
	}
	return string(text)
}

func (t *Tx) keepFiles(ctx context.Context, entries []*Entry) error {
	for _, e := range entries {
		for _, end := range e.Ends {
			for _, f := range end.Files {
				if _, err := t.Ext.ExecContext(ctx, `INSERT INTO artifacts (id, run_id, part, task, try, format, name,
					folder, section, media_type, size, sha256, row_count, key)
					VALUES (month_id('artifact_count'), $1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)`,
					e.Claim.RunID, e.Claim.Part, end.Task, end.Try, f.Format, f.Name, f.Folder, f.Section,
					f.MediaType, f.Size, f.SHA256, f.Rows, f.Key); err != nil {
					return db.Wrap(err, "record the file")
				}
			}
		}
	}
	return nil
}

func (t *Tx) putMessages(ctx context.Context, entries []*Entry) error {
	for _, e := range entries {
		for _, m := range e.Messages {
			if _, err := sending.In(t.Base).PutMessage(ctx, m); err != nil {
				return err
			}
		}
		for _, l := range e.Links {
			if err := history.In(t.Base).AddLink(ctx, l); err != nil {
				return err
			}
		}
	}
	return nil
}

func (t *Tx) logAll(ctx context.Context, entries []*Entry) error {
	var c db.Columns
	var tasks, levels, texts []string
	for _, e := range entries {
		for _, l := range e.Logs {
			c.Part(e.Claim.RunID, e.Claim.Part)
			tasks, levels, texts = append(tasks, l.Task), append(levels, db.Level(l.Level)),
				append(texts, db.Bounded(l.Text))
		}
	}
	if len(texts) == 0 {
		return nil
	}
	_, err := t.Ext.ExecContext(ctx, `INSERT INTO run_log (run_id, part, task, level, text)
		SELECT * FROM unnest($1::bigint[], $2::int[], $3::text[], $4::text[],
		$5::text[])`, c.Run, c.Parts, tasks, levels, texts)
	return db.Wrap(err, "write the log")
}

func (t *Tx) moveParts(ctx context.Context, entries []*Entry) error {
	var c, others db.Columns
	var states, reasons []string
	var waits []float64
	for _, e := range entries {
		if e.Part == nil {
			if e.No > 0 {
				others.Part(e.Claim.RunID, e.Claim.Part)
				others.N = append(others.N, e.No)
			}
			continue
		}
		if e.Part != nil {
			c.Part(e.Claim.RunID, e.Claim.Part)
			c.N = append(c.N, e.No)
			states, reasons, waits = append(states, string(e.Part.State)), append(reasons, db.Bounded(e.Part.Reason)),
				append(waits, e.Part.Wait.Seconds())
		}
	}
	if len(others.Run) > 0 {
		if _, err := t.Ext.ExecContext(ctx, `UPDATE parts p SET entry_no = u.no
			FROM unnest($1::bigint[], $2::int[], $3::bigint[]) AS u(run_id, part, no) WHERE p.run_id = u.run_id
			AND p.part = u.part`,
			others.Run, others.Parts, others.N); err != nil {
			return db.Wrap(err, "number the entries")
		}
	}
	if len(states) == 0 {
		return nil
	}
	_, err := t.Ext.ExecContext(ctx, `UPDATE parts p SET entry_no = greatest(p.entry_no, u.no), state = u.state,
		reason = u.reason, lease_until = NULL,
			ended_at = CASE WHEN u.state = 'waiting' THEN NULL ELSE bell_clock() END,
			ready_at = CASE WHEN u.state = 'waiting' THEN bell_now() + make_interval(secs => u.wait) ELSE p.ready_at END
		FROM unnest($1::bigint[], $2::int[], $3::text[], $4::text[], $5::float8[], $6::bigint[]) AS u(run_id, part,
		state, reason, wait, no)
		WHERE p.run_id = u.run_id AND p.part = u.part`, c.Run, c.Parts, states, reasons, waits, c.N)
	return db.Wrap(err, "move the parts")
}

// Stand is how far a part has come when it is taken up again.
type Stand struct {
	Ended    map[string]TaskEnd // tasks that are not tried again
	Failures map[string]int     // tries that failed, by task
	Blanks   map[string]int     // tries that were blank or unusual, by task
	Files    []job.Artifact     // of the tasks that ended
}

// TakeUp reads how far a part has come, and marks what its last holder left in
// the middle: as lost, to be tried again, or as unknown when effects says that
// the task may have changed something outside.
func (t *Tx) TakeUp(ctx context.Context, c Claim, effects func(task string) bool) (Stand, error) {
	s := Stand{Ended: map[string]TaskEnd{}, Failures: map[string]int{}, Blanks: map[string]int{}}
	var all []struct {
		job.Attempt
		Again   bool                            `db:"again"`
		Totals  db.Document[map[string]float64] `db:"totals"`
		Cells   db.Document[job.Cells]          `db:"cells"`
		Unusual string                          `db:"unusual"`
	}
	if err := sqlx.SelectContext(ctx, t.Ext, &all, `SELECT part, task, try, state, rows, note, class, advice, again,
		totals, unusual, cells FROM attempts
		WHERE run_id = $1 AND part = $2 ORDER BY task, try`, c.RunID, c.Part); err != nil {
		return s, db.Wrap(err, "read the attempts")
	}
	for _, a := range all {
		if a.State == job.AttemptRunning {
			a.State, a.Note, a.Again = job.AttemptLost,
				"its node stopped, or could not reach the database; the next try begins anew", true
			if effects(a.Task) {
				a.State, a.Again, a.Class = job.AttemptUnknown, false, "lasting"
				a.Note = "its node stopped in the middle, or could not reach the database, and nobody knows how " +
					"far it came"
				a.Advice = "See what it did, then let the run go on; mark the task as repeatable if it may be " +
					"done twice."
			}
			if _, err := t.Ext.ExecContext(ctx, `UPDATE attempts
				SET state = $5, again = $6, note = $7, class = $8, advice = $9, ended_at = bell_now() WHERE run_id = $1
				AND part = $2 AND task = $3 AND try = $4`,
				c.RunID, c.Part, a.Task, a.Try, a.State, a.Again, a.Note, a.Class, a.Advice); err != nil {
				return s, db.Wrap(err, "mark what was left in the middle")
			}
		}
		delete(s.Ended, a.Task)
		switch {
		case !a.Again:
			s.Ended[a.Task] = TaskEnd{Attempt: a.Attempt, Totals: a.Totals.V, Cells: a.Cells.V, Unusual: a.Unusual}
		case a.State == job.AttemptFailed:
			s.Failures[a.Task]++
		}
		if a.State == job.AttemptBlank || a.Unusual != "" {
			s.Blanks[a.Task]++
		}
	}
	files, err := history.In(t.Base).Artifacts(ctx, c.RunID, c.Part)
	for _, f := range files {
		if end, ok := s.Ended[f.Task]; ok && end.Try == f.Try {
			s.Files = append(s.Files, f)
		}
	}
	return s, err
}

// RetryTasks lets tasks of a held part be tried again that had ended.
func (t *Tx) RetryTasks(ctx context.Context, c Claim, tasks []string) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE attempts SET again = true WHERE run_id = $1 AND part = $2
		AND task = ANY($3)`, c.RunID, c.Part, tasks)
	return db.Wrap(err, "let the tasks be tried again")
}

// PastRows lists the rows that a task had in the last good runs of the same
// job, trigger, part and values, newest first, at most n. Rehearsals count not.
func (q Q) PastRows(ctx context.Context, c Claim, task string, n int) ([]int64, error) {
	var past []int64
	err := sqlx.SelectContext(ctx, q.Ext, &past, `SELECT a.rows FROM (
			SELECT r.id FROM runs r WHERE r.job_id = $1 AND r.id < $2 AND r.state = 'done' AND NOT r.rehearsal
			AND r.trigger_id IS NOT DISTINCT FROM $3 AND r.given = $4
			ORDER BY r.id DESC LIMIT $7) g
		JOIN parts p ON p.run_id = g.id AND p.name = $5
		JOIN attempts a ON a.run_id = p.run_id AND a.part = p.part AND a.task = $6 AND a.state = 'done'
		AND a.rows IS NOT NULL AND NOT a.again
		ORDER BY g.id DESC`, c.JobID, c.RunID, c.TriggerID, db.Document[job.Values]{V: c.Given.V.Over(nil)}, c.Name, task, n)
	return past, db.Wrap(err, "look at the last good runs")
}
