package store_test

import (
	"context"
	"testing"
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCalendarsAreKeptByVersions(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	_, err := s.Calendar(ctx, "Harbour")
	var missing *db.NotFound
	require.ErrorAs(t, err, &missing)

	first := calendar.Definition{
		Week: []string{"mon", "tue"}, Closed: []calendar.Entry{{Label: "storm", Date: "2026-12-01", Days: 2}},
	}
	saved, err := s.PutCalendar(ctx, "Harbour", w.mara, first)
	require.NoError(t, err)
	assert.Equal(t, 1, saved.Version)
	assert.Equal(t, first, saved.Definition)
	saved, err = s.PutCalendar(ctx, "Harbour", w.mara, calendar.Definition{})
	require.NoError(t, err)
	assert.Equal(t, 2, saved.Version)
	_, err = s.PutCalendar(ctx, "Public holidays", w.mara, first)
	require.NoError(t, err)

	stamps, err := s.CalendarStamps(ctx)
	require.NoError(t, err)
	assert.Len(t, stamps, 2)
	assert.Equal(t, saved.Stamp(), stamps["Harbour"])
	all, err := s.Calendars(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, []string{"Harbour", "Public holidays"}, []string{all[0].Name, all[1].Name})
	assert.Zero(t, all[0].Jobs)

	// The jobs that go by it are found from its side.
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		d := job.Definition{
			Zone: "Europe/London", Calendars: []string{"Harbour"},
			Triggers: []job.Trigger{{
				Timing:  job.Timing{Rule: "every day at 06:00", Closed: "skip", Hours: []string{"06:00-07:00"}},
				NextDue: at(1), NextNominal: at(0),
			}},
		}
		_, err := tx.PutJob(ctx, "Quay board", w.mara, w.mara, true, d.WithDefaults(),
			records.Uses{Calendars: []int64{saved.ID}})
		return err
	}))
	jobs, err := s.JobsUsing(ctx, "calendar", saved.ID)
	require.NoError(t, err)
	require.Len(t, jobs, 1)
	assert.Equal(t, []string{"Harbour"}, jobs[0].Calendars)
	trigger := jobs[0].Triggers[0]
	assert.Equal(t, job.Timing{Rule: "every day at 06:00", Closed: "skip", Hours: []string{"06:00-07:00"}},
		trigger.Timing)
	assert.True(t, trigger.NextDue.Equal(*at(1)) && trigger.NextNominal.Equal(*at(0)))

	// What is due tells the clock all that the rule needs.
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		due, err := tx.TakeDue(ctx, *at(5), []int64{jobs[0].ID})
		require.NoError(t, err)
		require.Len(t, due, 1)
		assert.Equal(t, []string{"Harbour"}, due[0].Calendars.V)
		assert.Equal(t, trigger.Timing, due[0].Timing.V)
		assert.True(t, due[0].NextNominal.Equal(*at(0)))
		return nil
	}))
	require.NoError(t,
		s.MoveTriggers(ctx, map[int64]*records.NextRing{trigger.ID: {Due: *at(30), Nominal: *at(20)}}, "2026a"))
	next, ok, err := s.NextDue(ctx)
	require.NoError(t, err)
	assert.True(t, ok && next.Equal(*at(30)))
	require.NoError(t, s.MoveTriggers(ctx, map[int64]*records.NextRing{trigger.ID: nil}, "2026a"))
	_, ok, err = s.NextDue(ctx)
	require.NoError(t, err)
	assert.False(t, ok)

	remove(t, s, "calendar", "Public holidays")
	_, err = s.Calendar(ctx, "Public holidays")
	require.ErrorAs(t, err, &missing)
	_, err = s.Gone(ctx, time.Now().Add(time.Hour), 10)
	require.NoError(t, err)
	made, err := s.PutCalendar(ctx, "Public holidays", w.mara, calendar.Definition{})
	require.NoError(t, err)
	assert.Equal(t, 1, made.Version)
	assert.NotEqual(t, stamps["Public holidays"], made.Stamp(),
		"one that is made again is another, though its version is the same")
}

func TestLinksToTheForecast(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	_, ok, err := s.FeedSince(ctx, w.mara)
	require.NoError(t, err)
	assert.False(t, ok)
	require.NoError(t, s.PutFeed(ctx, w.mara, []byte("first")))
	require.NoError(t, s.PutFeed(ctx, w.mara, []byte("second")))
	_, err = s.PersonByFeed(ctx, []byte("first"))
	var missing *db.NotFound
	require.ErrorAs(t, err, &missing, "the link before ends")
	p, err := s.PersonByFeed(ctx, []byte("second"))
	require.NoError(t, err)
	assert.Equal(t, "mara", p.Login)
	since, ok, err := s.FeedSince(ctx, w.mara)
	require.NoError(t, err)
	assert.True(t, ok && time.Since(since) < time.Minute)
	require.NoError(t, s.PutFeed(ctx, w.mara, nil))
	_, err = s.PersonByFeed(ctx, []byte("second"))
	require.ErrorAs(t, err, &missing)
}

// A trigger keeps its id while its timing is the same, and gets a new one with
// any change of it: its rings are its own.
func TestTriggersAreToldApartByTheirWholeTiming(t *testing.T) {
	s, w := fresh(t)
	timing := func(closed string, hours ...string) job.Definition {
		return job.Definition{Triggers: []job.Trigger{{
			Timing: job.Timing{Rule: "every day at 06:00", Closed: closed, Hours: hours}, NextDue: at(1),
		}}}
	}
	first := put(t, s, w, "Quay board", timing("skip"))
	again := put(t, s, w, "Quay board", timing("skip"))
	other := put(t, s, w, "Quay board", timing("before"))
	hours := put(t, s, w, "Quay board", timing("before", "06:00-07:00"))
	ids := []int64{first.Triggers[0].ID, again.Triggers[0].ID, other.Triggers[0].ID, hours.Triggers[0].ID}
	assert.Equal(t, ids[0], ids[1])
	assert.NotEqual(t, ids[1], ids[2])
	assert.NotEqual(t, ids[2], ids[3])
}
