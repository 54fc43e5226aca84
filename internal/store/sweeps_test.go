package store_test

import (
	"context"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/sending"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatBelongsToNoJobIsKeptForItsOwnTime(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	conn := s.Connections()
	exec := func(sql string, args ...any) {
		_, err := conn.Exec(ctx, sql, args...)
		require.NoError(t, err)
	}
	count := func(sql string) (n int) {
		require.NoError(t, conn.QueryRow(ctx, sql).Scan(&n))
		return n
	}
	exec(`DELETE FROM audit`)
	var owner int64
	require.NoError(t, conn.QueryRow(ctx, `SELECT min(id) FROM people`).Scan(&owner))
	for n, days := range []int{9, 11, 0} {
		state := map[bool]string{true: "open", false: "closed"}[days == 0]
		exec(`INSERT INTO alerts (kind, cause, state, job_name, owner_id, happened, opened_at, closed_at)
			VALUES ('missed', $1, $2, 'Quay board', $3, 'x', now() - make_interval(days => 100),
			CASE WHEN $4 > 0 THEN now() - make_interval(days => $4) END)`, string(rune('a'+n)), state, owner, days)
		exec(`INSERT INTO audit (at, who, action, kind, subject)
			VALUES (now() - make_interval(days => 10 * $1), 'mara', 'save', 'job', 'Quay board')`, days)
		exec(`INSERT INTO events (event_id, source, type, time, received_at)
			VALUES ($1, '/tides', 'example.tides', now(),
			now() - make_interval(days => $2))`, string(rune('a'+n)), days)
		exec(`INSERT INTO links (hash, run_id, part, task, files, audience, ends_at)
			VALUES ($1, 1, 1, 'mail', '{}', 'house', now() - make_interval(days => $2))`, []byte{byte(n)}, days)
		exec(`INSERT INTO link_uses (link_id, who, what) SELECT max(id), 'mara', 'looked' FROM links`)
	}
	queued(t, s, w.mail, 0, 2, 1) // a mail about the alert that goes
	exec(`UPDATE deliveries SET alert_id = (SELECT id FROM alerts WHERE cause = 'b'), state = 'sent'
		WHERE alert_id IS NOT NULL`)
	require.NoError(t, s.SweepOld(ctx, job.KeepingSettings{Alerts: 10, Audit: 100, Links: 10, Events: 10}))
	assert.Equal(t, 2, count(`SELECT count(*) FROM alerts`), "one was closed long ago; one is open")
	assert.Zero(t, count(`SELECT count(*) FROM deliveries WHERE alert_id IS NOT NULL`))
	for _, table := range []string{"audit", "events", "links", "link_uses"} {
		assert.Equal(t, 2, count(`SELECT count(*) FROM `+table), table)
	}
}

// Events of ours go when they are old enough and were handed on; what a subscription has not been given yet stays
// four times as long. Their deliveries go with what was sent, and those that wait stay.
func TestEventsOfOursAreKeptForTheirTime(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	conn := s.Connections()
	id, err := s.PutSubscription(ctx, "Duty office", job.SubscriptionDefinition{Destination: "duty screen", Types: []string{"*"}})
	require.NoError(t, err)
	for no, days := range map[int]int{1: 50, 2: 11, 3: 9, 4: 41, 5: 11} {
		_, err := conn.Exec(ctx, `INSERT INTO published (no, type, subject, data, at)
			VALUES ($1, 'ironbell.run.ended', 'jobs/Quay board', '{}', now() - make_interval(days => $2))`, no, days)
		require.NoError(t, err)
		do(t, s, func(tx *store.Tx) error {
			_, err := tx.PutMessage(ctx, sending.NewMessage{
				Message: job.Message{MessageID: "<x>", Subject: "x", DestinationID: w.mail, SHA256: "x"}, Body: []byte("{}"),
				To: []sending.Recipient{{Address: "x"}}, IfUnknown: job.UnknownAsk, SubscriptionID: &id, PublishedNo: int64(no), About: "x",
			})
			return err
		})
	}
	_, err = conn.Exec(ctx, `UPDATE subscriptions SET mark = 2`)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `UPDATE deliveries SET state = 'sent', settled_at = now() - interval '11 days' WHERE published_no IN (1, 2)`)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `UPDATE messages SET created_at = now() - interval '12 days'`)
	require.NoError(t, err)
	require.NoError(t, s.SweepOld(ctx, job.KeepingSettings{Alerts: 10, Audit: 100, Links: 10, Events: 10}))
	left := func(sql string) (all []int64) {
		require.NoError(t, conn.QueryRow(ctx, sql).Scan(&all))
		return all
	}
	assert.Equal(t, []int64{3, 5}, left(`SELECT array_agg(no ORDER BY no) FROM published`))
	assert.Equal(t, []int64{3, 4, 5}, left(`SELECT array_agg(published_no ORDER BY published_no) FROM deliveries`))
	assert.Equal(t, []int64{3}, left(`SELECT array_agg(n) FROM (SELECT count(*) AS n FROM messages) m`))
}

func TestDaysOfKeepingAreChecked(t *testing.T) {
	require.NoError(t, job.KeepingSettings{}.WithDefaults().Check())
	assert.ErrorContains(t, job.KeepingSettings{Audit: 30}.WithDefaults().Check(),
		"30 are no days to keep it; use 90 to 36500")
}

// A file goes when it is old enough and nobody needs it: no delivery that waits or that
// nobody knows of, and no other message of the same bytes.
func TestAFileStaysWhileSomebodyNeedsIt(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	freeze(t, s, w, run, j.ID, time.Minute, "a@tarnwick.example")
	exec := func(sql string, args ...any) {
		_, err := s.Connections().Exec(ctx, sql, args...)
		require.NoError(t, err)
	}
	exec(`UPDATE runs SET state = 'done', ended_at = now() - interval '200 days'`)
	exec(`UPDATE parts SET state = 'done'`)
	exec(`UPDATE messages SET created_at = now() - interval '200 days'`)
	old := func() int {
		files, err := s.OldFiles(ctx, 10)
		require.NoError(t, err)
		return len(files)
	}
	for _, state := range []string{"waiting", "sending", "offered", "unknown"} {
		exec(`UPDATE deliveries SET state = $1, lease_until = NULL`, state)
		assert.Zero(t, old(), state)
	}
	exec(`UPDATE deliveries SET state = 'waiting', kept_back = 'yes'`)
	assert.Zero(t, old(), "it waits for a yes")
	exec(`UPDATE deliveries SET state = 'sent', kept_back = ''`)
	assert.Equal(t, 1, old(), "everybody has it")
	second := ring(t, s, j, true)
	freeze(t, s, w, second, j.ID, time.Minute, "b@tarnwick.example")
	assert.Zero(t, old(), "a newer message has the same bytes")
	exec(`UPDATE deliveries SET state = 'sent'`)
	exec(`UPDATE runs SET state = 'done', ended_at = now() - interval '200 days'`)
	exec(`UPDATE messages SET created_at = now() - interval '200 days'`)
	assert.Equal(t, 2, old())
}
