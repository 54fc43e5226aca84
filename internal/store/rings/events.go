package rings

import (
	"context"
	"encoding/json"
	"strconv"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// EventRow is an event as it was recorded.
type EventRow struct {
	job.Event
	Row      int64                       `db:"id"`
	RunID    *job.RunID                  `db:"run_id"`
	Data     *json.RawMessage            `db:"data"`
	Further  db.Document[map[string]any] `db:"extensions"`
	Began    db.Document[[]int64]        `db:"started"`
	Sender   *string                     `db:"sender"` // its name
	Reporter *string                     `db:"reporter"`
	Note     string                      `db:"note"`        // why it did not start what waits for it
	Watch    *int64                      `db:"watch_id"`    // at which it was seen
	Played   *int64                      `db:"played_from"` // the row of the event that was played again
}

// Read is the event with all that was recorded of it.
func (e EventRow) Read() job.Event {
	ev := e.Event
	ev.Extensions = e.Further.V
	if e.Data != nil {
		ev.Data = *e.Data
	}
	return ev
}

// Started are the runs that the event started.
func (e EventRow) Started() []job.RunID {
	out := make([]job.RunID, len(e.Began.V))
	for i, id := range e.Began.V {
		out[i] = job.RunID(id)
	}
	return out
}

// From says who reported events: a person, a sender or a run, and, when one is played again, which.
type From struct {
	Person *int64
	Sender *int64
	Run    *job.RunID
	Played *int64
	Watch  *int64 // at which it was seen
	Owner  int64  // whose doing it is: a person, or who owns the job of a run
	All    bool   // it starts what belongs to others, too, although they name no source
	As     string // the id under which one event is recorded, in place of its own
}

func (f From) id(e job.Event) string {
	if f.As != "" {
		return f.As
	}
	return e.ID
}

// PutEvents records events and gives the row of each; fresh is false for one that was recorded before,
// by its source and id, or that stands among them twice. They are put in one order, so that two who
// record the same at once do not wait for each other.
func (t *Tx) PutEvents(ctx context.Context, events []job.Event, from From) (rows []int64, fresh []bool, err error) {
	type line struct {
		ID         string          `json:"event_id"`
		Source     string          `json:"source"`
		Type       string          `json:"type"`
		Subject    string          `json:"subject"`
		Time       any             `json:"time"`
		Data       json.RawMessage `json:"data,omitempty"`
		Extensions map[string]any  `json:"extensions,omitempty"`
		Media      string          `json:"media"`
		Place      int             `json:"place"`
	}
	lines := make([]line, len(events))
	for i, e := range events {
		lines[i] = line{from.id(e), e.Source, e.Type, e.Subject, e.Time, e.Data, e.Extensions, e.Media, i}
	}
	var run *int64
	if from.Run != nil {
		id := int64(*from.Run)
		run = &id
	}
	var put []struct {
		Row    int64  `db:"id"`
		Source string `db:"source"`
		ID     string `db:"event_id"`
	}
	if err := sqlx.SelectContext(ctx, t.Ext, &put, `INSERT INTO events (event_id, source, type, subject, time, data,
		extensions, media, reported_by, sender_id, run_id, played_from, watch_id)
		SELECT e.event_id, e.source, e.type, e.subject, e.time, e.data, e.extensions, e.media, $2, $3, $4, $5, $6
		FROM jsonb_to_recordset($1) AS e(event_id text, source text, type text, subject text, time timestamptz, data jsonb,
			extensions jsonb, media text, place int) ORDER BY e.source, e.event_id, e.place
		ON CONFLICT (source, event_id) DO NOTHING RETURNING id, source, event_id`,
		db.Document[[]line]{V: lines}, from.Person, from.Sender, run, from.Played, from.Watch); err != nil {
		return nil, nil, db.Wrap(err, "record the events")
	}
	type key struct{ source, id string }
	at := make(map[key]int64, len(put))
	for _, p := range put {
		at[key{p.Source, p.ID}] = p.Row
	}
	rows, fresh = make([]int64, len(events)), make([]bool, len(events))
	for i, e := range events {
		k := key{e.Source, from.id(e)}
		if rows[i], fresh[i] = at[k]; fresh[i] {
			delete(at, k) // one that stands there twice is known the second time
		}
	}
	return rows, fresh, nil
}

// OwnerOfRun is who owns the job of a run.
func (q Q) OwnerOfRun(ctx context.Context, run job.RunID) (owner int64, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &owner, `SELECT j.owner_id FROM runs r JOIN jobs j ON j.id = r.job_id WHERE r.id = $1`,
		run)
	return owner, db.Wrap(err, "find who owns the run's job")
}

// EventCame is what came of an event: the runs that it started, and why it did not start others.
type EventCame struct {
	Row  int64   `json:"row"`
	Runs []int64 `json:"runs"`
	Note string  `json:"note"`
}

// EventsStarted records what came of events.
func (t *Tx) EventsStarted(ctx context.Context, all []EventCame) error {
	if len(all) == 0 {
		return nil
	}
	for i := range all {
		all[i].Note = db.Bounded(all[i].Note)
	}
	_, err := t.Ext.ExecContext(ctx, `UPDATE events e SET started = e.started || coalesce(c.runs, '{}'), note = c.note
		FROM jsonb_to_recordset($1) AS c("row" bigint, runs bigint[], note text) WHERE e.id = c."row"`,
		db.Document[[]EventCame]{V: all})
	return db.Wrap(err, "record what the events started")
}

const eventColumns = `e.id, e.event_id, e.source, e.type, e.subject, e.time, e.data, e.media, e.received_at, e.run_id,
	coalesce(e.extensions, 'null') AS extensions, array_to_json(e.started) AS started, s.name AS sender,
	p.login AS reporter, e.played_from, e.watch_id, e.note
	FROM events e LEFT JOIN senders s ON s.id = e.sender_id LEFT JOIN people p ON p.id = e.reported_by`

// EventFilter chooses events; what is empty chooses all.
type EventFilter struct {
	Type   string
	Sender string // its name
	Before int64  // only those recorded before this row
	Limit  int
}

// Events lists events, newest first.
func (q Q) Events(ctx context.Context, f EventFilter) ([]EventRow, error) {
	all := []EventRow{}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT `+eventColumns+`
		WHERE ($1 = '' OR e.type = $1) AND ($2 = '' OR e.sender_id = record_id('sender', $2))
		AND ($3 = 0 OR e.id < $3) ORDER BY e.id DESC LIMIT $4`, f.Type, f.Sender, f.Before, f.Limit)
	return all, db.Wrap(err, "list the events")
}

// Event finds an event by its row.
func (q Q) Event(ctx context.Context, row int64) (EventRow, error) {
	var e EventRow
	err := sqlx.GetContext(ctx, q.Ext, &e, `SELECT `+eventColumns+` WHERE e.id = $1`, row)
	return e, db.Found(err, "event", strconv.FormatInt(row, 10))
}

// OwnsOneOf tells whether a person owns the job of one of some runs.
func (q Q) OwnsOneOf(ctx context.Context, person int64, runs []job.RunID) (owns bool, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &owns, `SELECT EXISTS (SELECT 1 FROM runs r JOIN jobs j ON j.id = r.job_id
		WHERE r.id = ANY($1) AND j.owner_id = $2)`, db.Numbers(runs), person)
	return owns, db.Wrap(err, "see whose runs they are")
}

// LastEvent finds the last event of a type; of one source and subject, unless they are empty.
func (q Q) LastEvent(ctx context.Context, eventType, source, subject string) (EventRow, error) {
	var e EventRow
	err := sqlx.GetContext(ctx, q.Ext, &e, `SELECT `+eventColumns+` WHERE e.type = $1 AND ($2 = '' OR e.source = $2)
		AND ($3 = '' OR e.subject = $3) ORDER BY e.id DESC LIMIT 1`, eventType, source, subject)
	return e, db.Found(err, "event", eventType)
}

// PlayedBefore counts how often an event was played again.
func (q Q) PlayedBefore(ctx context.Context, row int64) (n int, err error) {
	err = sqlx.GetContext(ctx, q.Ext, &n, `SELECT count(*) FROM events WHERE played_from = $1`, row)
	return n, db.Wrap(err, "count how often it was played again")
}

// OwnersListening lists the sign-in names of who owns jobs that wait for a type of event, or for what is seen
// at a watch, and would start.
func (q Q) OwnersListening(ctx context.Context, eventType string, watch *int64) ([]string, error) {
	owners := []string{}
	err := sqlx.SelectContext(ctx, q.Ext, &owners, `SELECT DISTINCT p.login FROM trigger_waits w
		JOIN triggers t ON t.id = w.trigger_id JOIN jobs j ON j.id = t.job_id JOIN people p ON p.id = j.owner_id
		WHERE (w.event_type = $1 AND $2::bigint IS NULL OR w.watch_id = $2) AND `+wakes+` ORDER BY 1 LIMIT 1000`, eventType, watch)
	return owners, db.Wrap(err, "find who owns what waits for the event")
}
