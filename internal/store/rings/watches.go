package rings

import (
	"context"
	"encoding/json"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// Watching is something that is looked at, under a lease.
type Watching struct {
	ID      int64                  `db:"id"`
	Kind    job.WatchKind          `db:"kind"`
	PlaceID int64                  `db:"place_id"`
	Spec    db.Document[job.Watch] `db:"spec"`
	Every   float64                `db:"every"` // seconds, as the most eager of its triggers wants it
	Lease   int64                  `db:"lease"`
	Mark    *json.RawMessage       `db:"mark"` // what was seen last; nil before the first look
	Failing *time.Time             `db:"failing_since"`
	Held    bool                   `db:"held"` // a run, or what came about, waits for it
	Gate    bool                   `db:"gate"` // it is of interest only then
}

// TakeWatches leases what is due to be looked at, by what is due first.
func (t *Tx) TakeWatches(ctx context.Context, lease time.Duration, limit int) ([]Watching, error) {
	var all []Watching
	err := sqlx.SelectContext(ctx, t.Ext, &all, `UPDATE watches w SET lease = lease + 1,
			leased_until = bell_now() + make_interval(secs => $1), next_at = bell_now() + make_interval(secs => $1)
		FROM (SELECT d.id FROM watches d WHERE d.next_at <= bell_now() AND (d.leased_until IS NULL OR d.leased_until <= bell_now())
			ORDER BY d.next_at, d.id LIMIT $2 FOR UPDATE SKIP LOCKED) due
		CROSS JOIN LATERAL (SELECT bool_or(EXISTS (SELECT 1 FROM held_runs h WHERE h.trigger_id = t.id)
				OR EXISTS (SELECT 1 FROM happened p WHERE p.trigger_id = t.id AND p.place >= 0)) AS held
			FROM trigger_waits x JOIN triggers t ON t.id = x.trigger_id JOIN jobs j ON j.id = t.job_id
			WHERE x.watch_id = due.id AND j.removed_at IS NULL) who
		WHERE w.id = due.id
		RETURNING w.id, w.kind, w.place_id, w.spec, w.every, w.lease, w.mark, w.failing_since,
			coalesce(who.held, false) AS held, w.key LIKE '%' || $3 AS gate`, lease.Seconds(),
		limit, job.GateKey)
	return all, db.Wrap(err, "find what is to be looked at")
}

// NextWatch is when something is to be looked at next; nil when nothing is.
func (q Q) NextWatch(ctx context.Context) (*time.Time, error) {
	var next *time.Time
	err := sqlx.GetContext(ctx, q.Ext, &next, `SELECT min(at) FROM (
		SELECT min(greatest(next_at, coalesce(leased_until, next_at))) AS at FROM watches
		UNION ALL SELECT min(due_at) FROM gathered
		UNION ALL SELECT min(next_at) FROM collected WHERE state = 'due') all_of_them`)
	return next, db.Wrap(err, "see when to look next")
}

// HoldWatch locks a watch whose lease is still the one that was taken; db.ErrStale when it is another's.
func (t *Tx) HoldWatch(ctx context.Context, w Watching) error {
	res, err := t.Ext.ExecContext(ctx, `SELECT 1 FROM watches WHERE id = $1 AND lease = $2 FOR UPDATE`, w.ID, w.Lease)
	if err != nil {
		return db.Wrap(err, "hold what is looked at")
	}
	n, err := res.RowsAffected()
	if err == nil && n == 0 {
		return db.ErrStale
	}
	return db.Wrap(err, "hold what is looked at")
}

// Looked ends a look under its lease: what was seen last, and when to look next; at once when somebody
// hastened it meanwhile.
func (t *Tx) Looked(ctx context.Context, w Watching, mark any, next time.Duration, note string) error {
	text, err := json.Marshal(mark)
	if err != nil {
		return db.Wrap(err, "write what was seen")
	}
	return db.One(t.Ext.ExecContext(ctx, `UPDATE watches SET mark = $3, looked_at = bell_now(),
		next_at = CASE WHEN next_at < leased_until THEN bell_now() ELSE bell_now() + make_interval(secs => $4) END,
		leased_until = NULL, note = $5, failing_since = NULL, failure = ''
		WHERE id = $1 AND lease = $2`, w.ID, w.Lease, json.RawMessage(text), next.Seconds(), db.Bounded(note)))
}

// LookFailed ends a look that failed, and leaves what was seen before; at a first look, what mark says of it.
func (t *Tx) LookFailed(ctx context.Context, w Watching, mark any, next time.Duration, why string) error {
	var text any
	if mark != nil {
		text = db.Document[any]{V: mark}
	}
	return db.One(t.Ext.ExecContext(ctx, `UPDATE watches SET looked_at = bell_now(), mark = coalesce(mark, $5),
		next_at = bell_now() + make_interval(secs => $3), leased_until = NULL,
		failing_since = coalesce(failing_since, bell_now()), failure = $4
		WHERE id = $1 AND lease = $2`, w.ID, w.Lease, next.Seconds(), db.Bounded(why), text))
}

// PassWatches ends the leases of watches that need no look now.
func (t *Tx) PassWatches(ctx context.Context, ids []int64) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE watches SET leased_until = NULL,
		next_at = CASE WHEN next_at < leased_until THEN bell_now() ELSE bell_now() + make_interval(secs => every) END
		WHERE id = ANY($1)`, ids)
	return db.Wrap(err, "look at it later")
}

// ReleaseWatches gives watches back for which there was no time.
func (t *Tx) ReleaseWatches(ctx context.Context, ids []int64) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE watches SET leased_until = NULL, next_at = bell_now() WHERE id = ANY($1)`, ids)
	return db.Wrap(err, "look at it later")
}

// Hasten lets watches be looked at now.
func (q Q) Hasten(ctx context.Context, ids []int64) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE watches SET next_at = bell_now() WHERE id = ANY($1) AND next_at > bell_now()`,
		ids)
	return db.Wrap(err, "look at once")
}

// HastenFor lets what a trigger waits for be looked at now.
func (t *Tx) HastenFor(ctx context.Context, trigger int64) error {
	res, err := t.Ext.ExecContext(ctx, `UPDATE watches SET next_at = bell_now() WHERE next_at > bell_now() AND id IN
		(SELECT watch_id FROM trigger_waits WHERE trigger_id = $1 AND watch_id IS NOT NULL)`, trigger)
	if err != nil {
		return db.Wrap(err, "look at once")
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return db.Wrap(err, "look at once")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeWatches})
}

// WatchedPlace is a watch on a destination, for those that notice changes by themselves.
type WatchedPlace struct {
	ID      int64                  `db:"id"`
	PlaceID int64                  `db:"place_id"`
	Spec    db.Document[job.Watch] `db:"spec"`
}

// WatchesStamp is another one when there are other watches on files.
func (q Q) WatchesStamp(ctx context.Context) (string, error) {
	var stamp string
	err := sqlx.GetContext(ctx, q.Ext, &stamp, `SELECT count(*) || ' ' || coalesce(max(id), 0) FROM watches WHERE kind = 'files'`)
	return stamp, db.Wrap(err, "see what is looked at")
}

// NamedJob is a job by id and name.
type NamedJob struct {
	ID   int64  `db:"id"`
	Name string `db:"name"`
}

// JobsOfWatch lists the jobs that wait for what is seen at a watch, at most 1,000.
func (q Q) JobsOfWatch(ctx context.Context, watch int64) ([]NamedJob, error) {
	var all []NamedJob
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT DISTINCT j.id, j.name FROM trigger_waits w
		JOIN triggers t ON t.id = w.trigger_id JOIN jobs j ON j.id = t.job_id
		WHERE w.watch_id = $1 AND `+wakes+` ORDER BY j.name LIMIT 1000`, watch)
	return all, db.Wrap(err, "find who waits for what is looked at")
}

// FileWatches lists the watches on files, at most 20,000.
func (q Q) FileWatches(ctx context.Context) ([]WatchedPlace, error) {
	var all []WatchedPlace
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT id, place_id, spec FROM watches WHERE kind = 'files'
		ORDER BY id LIMIT 20000`)
	return all, db.Wrap(err, "list what is looked at")
}

// SweepWatches forgets what nobody waits for any more, and gives the ids.
func (t *Tx) SweepWatches(ctx context.Context) ([]int64, error) {
	var ids []int64
	err := sqlx.SelectContext(ctx, t.Ext, &ids, `DELETE FROM watches w WHERE NOT EXISTS (SELECT 1 FROM trigger_waits x
		JOIN triggers t ON t.id = x.trigger_id JOIN jobs j ON j.id = t.job_id WHERE x.watch_id = w.id AND NOT j.gone)
		RETURNING id`)
	return ids, db.Wrap(err, "forget what nobody waits for")
}

// WaitersForWatch locks the triggers that wait for what is seen at a watch: of jobs that are on, and of
// others that say so.
func (t *Tx) WaitersForWatch(ctx context.Context, watch int64) ([]Waiter, error) {
	if any, err := t.lockWaiting(ctx, `w.watch_id = $1`, watch); err != nil || !any {
		return nil, err
	}
	var all []Waiter
	err := sqlx.SelectContext(ctx, t.Ext, &all, `SELECT `+waiterColumns+` WHERE w.watch_id = $1 AND j.removed_at IS NULL
		ORDER BY w.trigger_id, w.place LIMIT $2 FOR UPDATE OF t`, watch, maxWaiters)
	return all, db.Wrap(err, "find who waits for what was seen")
}

// FileSeen is a file as a watch saw it.
type FileSeen struct {
	Path    string    `db:"path" json:"path"`
	Size    int64     `db:"size" json:"size"`
	Changed time.Time `db:"changed" json:"changed"`
	Sum     string    `db:"sum" json:"sum"`
	Young   bool      `db:"young" json:"young"`
	Was     bool      `db:"was" json:"was"`
	Since   time.Time `db:"since" json:"since"`
}

// FilesSeen lists what a watch has seen, by path, behind one; at most limit.
func (q Q) FilesSeen(ctx context.Context, watch int64, after string, limit int) ([]FileSeen, error) {
	var all []FileSeen
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT path, size, changed, sum, young, was, since FROM watch_files
		WHERE watch_id = $1 AND path COLLATE "C" > $2 ORDER BY path COLLATE "C" LIMIT $3`, watch, after, limit)
	return all, db.Wrap(err, "list the files that were seen")
}

// SeeFiles notes how a watch sees files now.
func (t *Tx) SeeFiles(ctx context.Context, watch int64, files []FileSeen) error {
	_, err := t.Ext.ExecContext(ctx, `INSERT INTO watch_files (watch_id, path, size, changed, sum, young, was, since)
		SELECT $1, f.path, f.size, f.changed, f.sum, f.young, f.was, f.since FROM jsonb_to_recordset($2)
			AS f(path text, size bigint, changed timestamptz, sum text, young boolean, was boolean, since timestamptz)
		ON CONFLICT (watch_id, path) DO UPDATE SET size = excluded.size, changed = excluded.changed, sum = excluded.sum,
			young = excluded.young, was = excluded.was, since = excluded.since`, watch, db.Document[[]FileSeen]{V: files})
	return db.Wrap(err, "note the files")
}

// ForgetFiles forgets files that are gone.
func (t *Tx) ForgetFiles(ctx context.Context, watch int64, paths []string) error {
	_, err := t.Ext.ExecContext(ctx, `DELETE FROM watch_files WHERE watch_id = $1 AND path = ANY($2)`, watch, paths)
	return db.Wrap(err, "forget the files")
}

// SumsSeen tells which contents a watch has seen in files of other states.
func (q Q) SumsSeen(ctx context.Context, watch int64, sums []string) (map[string]bool, error) {
	var had []string
	err := sqlx.SelectContext(ctx, q.Ext, &had, `SELECT DISTINCT sum FROM watch_files WHERE watch_id = $1
		AND sum = ANY($2) AND NOT young`, watch, sums)
	out := make(map[string]bool, len(had))
	for _, s := range had {
		out[s] = true
	}
	return out, db.Wrap(err, "see which contents were there")
}

// Gathering is what is complete and waits for more, or for permitted hours.
type Gathering struct {
	Bunch string    `db:"bunch"`
	First time.Time `db:"first_at"`
	Due   time.Time `db:"due_at"`
	Count int       `db:"count"`
}

// Gathering is what a locked trigger gathers in a bunch; nil when it gathers nothing.
func (t *Tx) Gathering(ctx context.Context, trigger int64, bunch string) (*Gathering, error) {
	var all []Gathering
	err := sqlx.SelectContext(ctx, t.Ext, &all, `SELECT bunch, first_at, due_at, count FROM gathered
		WHERE trigger_id = $1 AND bunch = $2`, trigger, bunch)
	if err != nil || len(all) == 0 {
		return nil, db.Wrap(err, "see what is gathered")
	}
	return &all[0], nil
}

// Gather notes what a locked trigger gathers.
func (t *Tx) Gather(ctx context.Context, trigger int64, g Gathering) error {
	if _, err := t.Ext.ExecContext(ctx, `INSERT INTO gathered (trigger_id, bunch, first_at, due_at, count)
		VALUES ($1, $2, $3, $4, $5) ON CONFLICT (trigger_id, bunch) DO UPDATE SET due_at = excluded.due_at,
		count = excluded.count`, trigger, g.Bunch, g.First, g.Due, g.Count); err != nil {
		return db.Wrap(err, "gather")
	}
	return t.Tell(ctx, db.Notice{Kind: job.NoticeWatches})
}

// DropGathering forgets what was gathered.
func (t *Tx) DropGathering(ctx context.Context, trigger int64, bunch string) error {
	_, err := t.Ext.ExecContext(ctx, `DELETE FROM gathered WHERE trigger_id = $1 AND bunch = $2`, trigger, bunch)
	return db.Wrap(err, "forget what was gathered")
}

// GatheringsDue lists triggers that have gathered until now.
func (q Q) GatheringsDue(ctx context.Context, now time.Time, limit int) (triggers []int64, err error) {
	err = sqlx.SelectContext(ctx, q.Ext, &triggers, `SELECT DISTINCT trigger_id FROM gathered WHERE due_at <= $1 LIMIT $2`,
		now, limit)
	return triggers, db.Wrap(err, "find what was gathered")
}

// WaiterOf locks one trigger; ok is false when it is gone, or its job is off and does not start then.
func (t *Tx) WaiterOf(ctx context.Context, trigger int64) (w Waiter, ok bool, err error) {
	if any, err := t.lockWaiting(ctx, `w.trigger_id = $1`, trigger); err != nil || !any {
		return w, false, err
	}
	var all []Waiter
	err = sqlx.SelectContext(ctx, t.Ext, &all, `SELECT `+waiterColumns+` WHERE w.trigger_id = $1 AND j.removed_at IS NULL
		ORDER BY w.place LIMIT 1 FOR UPDATE OF t`, trigger)
	if err != nil || len(all) == 0 {
		return w, false, db.Wrap(err, "find who gathers")
	}
	return all[0], true, nil
}

// GatheredOf lists what a locked trigger has gathered until now.
func (t *Tx) GatheredOf(ctx context.Context, trigger int64, now time.Time) ([]Gathering, error) {
	var all []Gathering
	err := sqlx.SelectContext(ctx, t.Ext, &all, `SELECT bunch, first_at, due_at, count FROM gathered
		WHERE trigger_id = $1 AND due_at <= $2 ORDER BY due_at`, trigger, now)
	return all, db.Wrap(err, "find what was gathered")
}

// StartedAt notes that something started a run of a locked trigger.
func (t *Tx) StartedAt(ctx context.Context, trigger int64, now time.Time) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE triggers SET started_at = $2 WHERE id = $1`, trigger, now)
	return db.Wrap(err, "note the start")
}
