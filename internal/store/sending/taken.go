package sending

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// TakenSending is a delivery that the other side has taken and will say more of.
type TakenSending struct {
	Sending
	TakenAs string `db:"taken_as"`
	Over    bool   `db:"over"` // the time to ask has run out
}

// Between two questions to the other side, in seconds: the first, and the longest.
const (
	askFirst   = 2
	askLongest = 300
)

// TakenDue gives deliveries about which the other side is to be asked now, at most
// limit, and puts the next question off, so that one node at a time asks.
func (q Q) TakenDue(ctx context.Context, limit int) ([]TakenSending, error) {
	var out []TakenSending
	err := sqlx.SelectContext(ctx, q.Ext, &out, `UPDATE deliveries d
		SET asked = d.asked + 1, ask_at = bell_now() + make_interval(secs => least($2 * power(2, least(d.asked, 20)),
		$3))
		WHERE d.id = ANY(ARRAY(SELECT id FROM deliveries WHERE phase = 'taken' AND ask_at <= bell_now() ORDER BY ask_at
		LIMIT $1 FOR UPDATE SKIP LOCKED))
		RETURNING d.id, d.lease_no, d.message_id AS message_row, d.run_id, d.alert_id, d.job_id, d.destination_id,
		d.part, d.address, d.tries, d.rehearsal, d.give_up_at, d.if_unknown, d.taken_as,
			coalesce(d.give_up_at, d.created_at + interval '1 day') < bell_now() AS over`, limit, askFirst, askLongest)
	return out, db.Wrap(err, "find what the other side is to be asked about")
}

// EndTaken gives a delivery that was taken the state that the other side says, or
// unknown when nobody says anything in time. It tells whether it still was taken.
func (t *Tx) EndTaken(ctx context.Context, id int64, state job.DeliveryState,
	answer, advice, class string,
) (bool, error) {
	res, err := t.Ext.ExecContext(ctx, `UPDATE deliveries SET state = $2, answer = $3, advice = $4, class = $5,
		ask_at = NULL, settled_at = bell_clock() WHERE id = $1 AND state = 'taken'`,
		id, state, db.Bounded(answer), advice, class)
	if err != nil {
		return false, db.Wrap(err, "record what the other side said")
	}
	n, err := res.RowsAffected()
	return n > 0, db.Wrap(err, "record what the other side said")
}

// StillTaken notes what the other side said of what it is not done with.
func (q Q) StillTaken(ctx context.Context, id int64, answer string) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE deliveries SET answer = $2 WHERE id = $1 AND state = 'taken'
		AND answer <> $2`, id, db.Bounded(answer))
	return db.Wrap(err, "note what the other side said")
}

// GotThrough notes that something got through to destinations that had rested.
func (t *Tx) GotThrough(ctx context.Context, destinations []int64) error {
	_, err := t.Ext.ExecContext(ctx, `UPDATE destinations SET rests_in_row = 0 WHERE id = ANY($1) AND rests_in_row > 0`,
		destinations)
	return db.Wrap(err, "note that something got through")
}

// ClaimName gives a name at a destination to a part and task of a run, and tells whose
// it is: the first that asked has it.
func (q Q) ClaimName(ctx context.Context, run job.RunID, destination int64, path string, part int,
	task string,
) (ofPart int, ofTask string, err error) {
	var row struct {
		Part int    `db:"part"`
		Task string `db:"task"`
	}
	if _, err := q.Ext.ExecContext(ctx, `INSERT INTO run_names (run_id, destination_id, path, part, task)
		VALUES ($1, $2, lower($3), $4, $5) ON CONFLICT DO NOTHING`, run, destination, path, part, task); err != nil {
		return 0, "", db.Wrap(err, "keep the file's name")
	}
	err = sqlx.GetContext(ctx, q.Ext, &row, `SELECT part, task FROM run_names WHERE run_id = $1 AND destination_id = $2
		AND path = lower($3)`, run, destination, path)
	return row.Part, row.Task, db.Wrap(err, "see whose name it is")
}

// Sibling is a part of a run with its own values.
type Sibling struct {
	Name  string
	Given job.Values
}

// Siblings lists the parts of a run with their own values, at most 20,000.
func (q Q) Siblings(ctx context.Context, run job.RunID) ([]Sibling, error) {
	var rows []struct {
		Name  string                  `db:"name"`
		Given db.Document[job.Values] `db:"given"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT name, given FROM parts WHERE run_id = $1 ORDER BY part
		LIMIT 20000`, run)
	out := make([]Sibling, len(rows))
	for i, r := range rows {
		out[i] = Sibling{r.Name, r.Given.V}
	}
	return out, db.Wrap(err, "list the run's parts")
}

// sweepNames forgets names of runs that ended long ago.
const sweepNames = 40 * 24 * time.Hour

// SweepNames forgets whose names were whose in runs that ended long ago.
func (q Q) SweepNames(ctx context.Context) error {
	_, err := q.Ext.ExecContext(ctx, `DELETE FROM run_names n USING (SELECT DISTINCT n.run_id FROM run_names n LEFT
		JOIN runs r ON r.id = n.run_id WHERE r.id IS NULL OR r.ended_at < bell_now() - make_interval(secs => $1)
		LIMIT 1000) o WHERE n.run_id = o.run_id`, sweepNames.Seconds())
	return db.Wrap(err, "forget old names")
}

// Rested tells whether one of some destinations rested and has let nothing through since.
func (q Q) Rested(ctx context.Context, destinations []int64) (rested bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &rested, `SELECT EXISTS (SELECT 1 FROM destinations WHERE id = ANY($1)
		AND rests_in_row > 0)`, destinations)
	return rested, db.Wrap(err, "see what rested")
}
