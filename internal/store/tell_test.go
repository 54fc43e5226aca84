package store_test

import (
	"context"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/deliveries"
	"ironbell/internal/store/history"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// do runs some writes in one transaction.
func do(t *testing.T, s *store.Store, writes ...func(tx *store.Tx) error) {
	t.Helper()
	require.NoError(t, s.Do(context.Background(), func(tx *store.Tx) error {
		for _, write := range writes {
			if err := write(tx); err != nil {
				return err
			}
		}
		return nil
	}))
}

// toTell are the alerts that are to be told now.
func toTell(t *testing.T, s *store.Store) (out []job.Alert) {
	t.Helper()
	do(t, s, func(tx *store.Tx) (err error) {
		out, err = tx.AlertsToTell(context.Background(), 10)
		return err
	})
	return out
}

func TestAnAlertGoesStepByStepUntilSomebodyTakesItOn(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	do(t, s, func(tx *store.Tx) error {
		return tx.OpenAlert(ctx, job.Alert{
			Kind: job.AlertRunFailed, Cause: "job:1", JobID: &j.ID, RunID: &run, Happened: "It failed.",
		})
	})
	all := toTell(t, s)
	require.Len(t, all, 1)
	id := all[0].ID
	assert.Equal(t, "mara", all[0].Owner)
	do(t, s, func(tx *store.Tx) error { return tx.Told(ctx, id, "a mail goes to Mara Quill", 1, time.Hour) })
	assert.Empty(t, toTell(t, s), "the next step has its own time")
	do(t, s, func(tx *store.Tx) error { return tx.NextStep(ctx, id, "mara could not be told: 550") })
	all = toTell(t, s)
	require.Len(t, all, 1, "unless telling the one before failed")
	assert.Equal(t, 1, all[0].Step)

	do(t, s, func(tx *store.Tx) error { return tx.Unreached(ctx, id, "nobody could be told", time.Hour) })
	n, err := s.UnreachedAlerts(ctx)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	do(t, s, func(tx *store.Tx) error { return tx.Reached(ctx, id, "told mara", time.Hour) })
	n, err = s.UnreachedAlerts(ctx)
	require.NoError(t, err)
	assert.Zero(t, n)
	a, err := s.Alert(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, 1, a.Step, "its steps go on from whoever was reached")

	require.NoError(t, s.Acknowledge(ctx, id, "Mara Quill"))
	do(t, s, func(tx *store.Tx) error { return tx.NextStep(ctx, id, "late word") })
	assert.Empty(t, toTell(t, s), "nobody is told of what somebody has acknowledged")
	second := ring(t, s, j, false)
	do(t, s, func(tx *store.Tx) error {
		return tx.OpenAlert(ctx, job.Alert{
			Kind: job.AlertRunFailed, Cause: "job:1", JobID: &j.ID, RunID: &second, Happened: "It failed again.",
		})
	})
	all = toTell(t, s)
	require.Len(t, all, 1, "another run that fails opens it again")
	assert.Equal(t, []any{id, 2, 0, ""}, []any{all[0].ID, all[0].Count, all[0].Step, all[0].AcknowledgedBy})
	require.NoError(t, s.CloseAlert(ctx, id))
	assert.Empty(t, toTell(t, s))
}

func TestABounceRevisesItsDeliveryAndMarksTheAddress(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	for n := 1; n <= deliveries.BouncedTimes; n++ {
		run := ring(t, s, j, true)
		claimed := freeze(t, s, w, run, j.ID, time.Minute, "Gone@tarnwick.example")
		require.True(t, offer(t, s, claimed[0]))
		receive(t, s, claimed[0].ID)
		do(t, s, func(tx *store.Tx) error {
			d, err := tx.LockDelivery(ctx, claimed[0].ID)
			if err != nil {
				return err
			}
			times, err := tx.Bounce(ctx, d, "it came back: 550", "Check the address.")
			assert.Equal(t, n, times)
			return err
		})
		assert.Equal(t, job.DeliveryBounced, states(t, s, run)["Gone@tarnwick.example"])
		assert.ErrorIs(t, s.Do(ctx, func(tx *store.Tx) error {
			d, err := tx.LockDelivery(ctx, claimed[0].ID)
			if err == nil {
				_, err = tx.Bounce(ctx, d, "again", "")
			}
			return err
		}), db.ErrStale, "it comes back once")
		marked, err := s.Marked(ctx, []string{"gone@TARNWICK.example", "oren@tarnwick.example"})
		require.NoError(t, err)
		if n < deliveries.BouncedTimes {
			assert.Empty(t, marked)
		} else {
			assert.Equal(t, map[string]int{"gone@tarnwick.example": n}, marked)
		}
	}
}

func TestOneNodeAtATimeHasATurn(t *testing.T) {
	s, _ := fresh(t)
	ctx := context.Background()
	last, err := s.LastTurn(ctx, "heartbeat")
	require.NoError(t, err)
	assert.Nil(t, last.TakenAt)
	took, err := s.TakeTurn(ctx, "heartbeat", 200*time.Millisecond)
	require.NoError(t, err)
	assert.True(t, took)
	took, err = s.TakeTurn(ctx, "heartbeat", 200*time.Millisecond)
	require.NoError(t, err)
	assert.False(t, took, "another node has it")
	took, err = s.TakeTurn(ctx, "bounces", time.Hour)
	require.NoError(t, err)
	assert.True(t, took, "turns of different things do not know each other")
	require.NoError(t, s.NoteTurn(ctx, "heartbeat", "answered"))
	last, err = s.LastTurn(ctx, "heartbeat")
	require.NoError(t, err)
	assert.Equal(t, "answered", last.Word)
	require.Eventually(t, func() bool {
		took, err := s.TakeTurn(ctx, "heartbeat", time.Hour)
		require.NoError(t, err)
		return took
	}, time.Minute, 50*time.Millisecond, "its time comes again")
}

func TestALinkIsKeptByItsHashAndEnds(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Board pack", job.Definition{})
	run := ring(t, s, j, true)
	for token, ends := range map[string]time.Duration{"first": time.Hour, "second": -time.Hour} {
		link := history.NewLink{
			Hash: history.LinkHash(token), RunID: run, Part: 1, Task: "mail", Audience: job.LinkNamed,
			Named: []string{"mara.quill@tarnwick.example"}, EndsAt: time.Now().Add(ends),
		}
		do(t, s, func(tx *store.Tx) error { return tx.AddLink(ctx, link) })
	}
	l, err := s.LinkByHash(ctx, history.LinkHash("first"))
	require.NoError(t, err)
	assert.False(t, l.Ended)
	assert.Equal(t, "Board pack", l.Job)
	ended, err := s.LinkByHash(ctx, history.LinkHash("second"))
	require.NoError(t, err)
	assert.True(t, ended.Ended)
	_, err = s.LinkByHash(ctx, history.LinkHash("First"))
	var missing *db.NotFound
	assert.ErrorAs(t, err, &missing, "another token is another link")

	require.NoError(t, s.NoteLinkUse(ctx, l.ID, "Mara Quill", "followed"))
	require.NoError(t, s.NoteLinkUse(ctx, l.ID, "Joren Tak", "refused"))
	l, err = s.LinkByID(ctx, l.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, l.Follows, "who was refused did not follow it")
	uses, err := s.LinkUses(ctx, l.ID, 10)
	require.NoError(t, err)
	assert.Len(t, uses, 2)
	n, err := s.WithdrawLinks(ctx, run, l.ID, "Mara Quill")
	require.NoError(t, err)
	assert.EqualValues(t, 1, n, "one of them")
	n, err = s.WithdrawLinks(ctx, run, 0, "Mara Quill")
	require.NoError(t, err)
	assert.EqualValues(t, 1, n, "and the other, none twice")
	all, err := s.LinksOfRun(ctx, run)
	require.NoError(t, err)
	require.Len(t, all, 2)
	for _, l := range all {
		assert.Equal(t, "Mara Quill", l.WithdrawnBy)
	}
}

func TestPostsStandUnderEachOtherAndMoveUp(t *testing.T) {
	s, _ := fresh(t)
	ctx := context.Background()
	for _, p := range []job.Post{
		{Name: "Director", Holders: []string{"mara"}},
		{Name: "Superintendent", Under: "Director"},
		{Name: "Foreman", Under: "Superintendent"},
		{Name: "Clerk", Under: "Director"},
	} {
		if p.Holders == nil {
			p.Holders = []string{}
		}
		require.NoError(t, s.PutPost(ctx, p))
	}
	names := func(of string) (out []string) {
		all, err := s.PostsUnder(ctx, of)
		require.NoError(t, err)
		for _, p := range all {
			out = append(out, p.Name)
		}
		return out
	}
	assert.ElementsMatch(t, []string{"Director", "Superintendent", "Foreman", "Clerk"}, names("director"),
		"all levels, whatever case")
	assert.ElementsMatch(t, []string{"Superintendent", "Foreman"}, names("Superintendent"))
	remove(t, s, "post", "Superintendent")
	p, err := s.Post(ctx, "Foreman")
	require.NoError(t, err)
	assert.Equal(t, "Director", p.Under, "those under it move up")
}

func TestJobsThatSendToAGroupAreFoundByItsWholeName(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	to := func(name string, list ...string) {
		put(t, s, w, name,
			job.Definition{Tasks: []job.Task{{
				Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: "company mail", To: list},
			}}})
	}
	to("Alone", "group:Quay (north)")
	to("In a list", "oren@tarnwick.example, Group:quay (NORTH) ; a@b.example")
	to("Another", "group:Quay (north) masters")
	to("Under", "under:Director")
	to("None", "oren@tarnwick.example")
	jobs, err := s.JobsSendingTo(ctx, "group", "Quay (north)")
	require.NoError(t, err)
	assert.Equal(t, []string{"Alone", "In a list"}, jobs, "a longer name is another group")
	jobs, err = s.JobsSendingTo(ctx, "post", "Director")
	require.NoError(t, err)
	assert.Equal(t, []string{"Under"}, jobs)
	jobs, err = s.JobsSendingTo(ctx, "group", "Quay")
	require.NoError(t, err)
	assert.Empty(t, jobs)
}

func TestWhoLeftAJobIsKnownByTheirAddress(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	require.NoError(t, s.Leave(ctx, j.ID, "Oren@Tarnwick.example", "by the mail's link"))
	require.NoError(t, s.Leave(ctx, j.ID, "oren@tarnwick.example", "again"), "twice is as good as once")
	left, err := s.Left(ctx, j.ID, []string{"OREN@tarnwick.example", "brina@tarnwick.example"})
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"oren@tarnwick.example": true}, left)
	other := put(t, s, w, "Fuel burn", job.Definition{})
	left, err = s.Left(ctx, other.ID, []string{"oren@tarnwick.example"})
	require.NoError(t, err)
	assert.Empty(t, left, "of one job, not of all")
	require.NoError(t, s.ComeBack(ctx, j.ID, "oren@TARNWICK.example"))
	left, err = s.Left(ctx, j.ID, []string{"oren@tarnwick.example"})
	require.NoError(t, err)
	assert.Empty(t, left)
}
