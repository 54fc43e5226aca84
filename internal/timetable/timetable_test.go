package timetable

import (
	"context"
	"errors"
	"testing"
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rule"
	"ironbell/internal/store/records"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// drawer are records that lie in memory.
type drawer struct {
	calendars map[string]records.Calendar
	read      int // how many calendars were read
	broken    error
}

func (d *drawer) put(name string, closed ...string) {
	c := d.calendars[name]
	c.ID, c.Name, c.Version = int64(len(d.calendars)+1), name, c.Version+1
	c.Definition = calendar.Definition{}
	for _, date := range closed {
		c.Definition.Closed = append(c.Definition.Closed, calendar.Entry{Date: date, Label: "slipway"})
	}
	d.calendars[name] = c
}

func (d *drawer) CalendarStamps(context.Context) (map[string]string, error) {
	stamps := map[string]string{}
	for name, c := range d.calendars {
		stamps[name] = c.Stamp()
	}
	return stamps, d.broken
}

func (d *drawer) Calendar(_ context.Context, name string) (records.Calendar, error) {
	d.read++
	return d.calendars[name], d.broken
}

func (d *drawer) Setting(context.Context, string, any) (bool, error) { return false, d.broken }

// thursdays is kept by jobs that ring before closed days.
var thursdays = job.Timing{Rule: "on thu at 07:00 before closed days"}

// monday is when all begins: Thursday comes three days after.
var monday = time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC)

func next(t *testing.T, table *Timetable, after time.Time) time.Time {
	t.Helper()
	r, err := table.Rule(thursdays, "Europe/London", []string{"Harbour"})
	require.NoError(t, err)
	n := First(r, after)
	require.NotNil(t, n)
	return n.Due.UTC()
}

// Rules that were read go by the calendars as they are after a Refresh, and each calendar is
// read once for each of its versions.
func TestATimetableGoesByTheNewestCalendars(t *testing.T) {
	ctx := context.Background()
	d := &drawer{calendars: map[string]records.Calendar{}}
	d.put("Harbour")
	d.put("Bank")
	var table Timetable
	_, err := table.Rule(thursdays, "Europe/London", []string{"Harbour"})
	var missing *Missing
	require.ErrorAs(t, err, &missing, "nothing was read yet")
	require.NoError(t, table.Refresh(ctx, d))
	assert.Equal(t, monday.AddDate(0, 0, 3), next(t, &table, monday))
	d.put("Harbour", "2026-11-26")
	assert.Equal(t, monday.AddDate(0, 0, 3), next(t, &table, monday), "until it is refreshed")
	require.NoError(t, table.Refresh(ctx, d))
	assert.Equal(t, monday.AddDate(0, 0, 2), next(t, &table, monday), "Thursday is closed")
	require.NoError(t, table.Refresh(ctx, d))
	assert.Equal(t, 3, d.read, "two calendars, and one of them anew")
	table.Forget()
	require.NoError(t, table.Refresh(ctx, d))
	assert.Equal(t, 5, d.read)
	delete(d.calendars, "Harbour")
	require.NoError(t, table.Refresh(ctx, d))
	_, err = table.Rule(thursdays, "Europe/London", []string{"Harbour"})
	require.ErrorAs(t, err, &missing)
	assert.Equal(t, "Harbour", missing.Calendar)
	d.broken = errors.New("the database is away")
	assert.ErrorIs(t, table.Refresh(ctx, d), d.broken)
}

// A ring that an edited calendar moves into the past rings at once; one that it
// moves elsewhere is waited for there.
func TestAnEditedCalendarMovesWhatIsWaitedFor(t *testing.T) {
	d := &drawer{calendars: map[string]records.Calendar{}}
	d.put("Harbour", "2026-11-26")
	var table Timetable
	require.NoError(t, table.Refresh(context.Background(), d))
	r, err := table.Rule(thursdays, "Europe/London", []string{"Harbour"})
	require.NoError(t, err)
	thursday := monday.AddDate(0, 0, 3)
	waited := records.NextRing{Due: thursday, Nominal: thursday}
	n := Again(r, waited, monday.AddDate(0, 0, 1), 0) // Tuesday
	assert.Equal(t, thursday.AddDate(0, 0, -1), n.Due.UTC())
	assert.Equal(t, thursday, n.Nominal.UTC())

	now := thursday.Add(-10 * time.Hour) // Wednesday evening: Wednesday 07:00 is over
	n = Again(r, waited, now, 0)
	assert.Equal(t, now, n.Due)
	assert.Equal(t, thursday, n.Nominal.UTC())

	d.put("Harbour")
	require.NoError(t, table.Refresh(context.Background(), d))
	r, err = table.Rule(thursdays, "Europe/London", []string{"Harbour"})
	require.NoError(t, err)
	n = Again(r, records.NextRing{Due: thursday.AddDate(0, 0, -1), Nominal: thursday}, monday, 0)
	assert.Equal(t, thursday, n.Due.UTC(), "the day is open again")
	assert.Nil(t, Again(rule.Rule{}, waited, monday, 0))
}

// Only what moved is named, and what cannot be read keeps its ring.
func TestReckonNamesWhatMoved(t *testing.T) {
	d := &drawer{calendars: map[string]records.Calendar{}}
	d.put("Harbour", "2026-11-26")
	var table Timetable
	require.NoError(t, table.Refresh(context.Background(), d))
	thursday := monday.AddDate(0, 0, 3)
	of := func(name string, on bool, calendars ...string) job.Job {
		due := thursday
		return job.Job{
			Name: name, On: on,
			Definition: job.Definition{
				Zone: "Europe/London", Calendars: calendars,
				Triggers: []job.Trigger{{ID: int64(len(name)), Timing: thursdays, NextDue: &due}},
			},
		}
	}
	var unread []string
	moves, moved := table.Reckon([]job.Job{
		of("moves", true, "Harbour"), of("stays put", true),
		of("is off", false, "Harbour"), of("lost it", true, "Nowhere"),
	}, monday, func(j job.Job, _ string, err error) {
		unread = append(unread, j.Name+": "+err.Error())
	})
	assert.Equal(t, []string{"moves: Thu 26 Nov 2026 07:00 GMT becomes Wed 25 Nov 2026 07:00 GMT"}, moved)
	require.Len(t, moves, 1)
	assert.Equal(t, thursday.AddDate(0, 0, -1), moves[5].Due.UTC())
	assert.Equal(t, []string{`lost it: there is no calendar "Nowhere"; an administrator can add it`}, unread)
}

// slow gives what was when it was asked for stamps, however late it answers for the calendar.
type slow struct {
	*drawer
	began, goOn chan struct{}
}

func (s *slow) Calendar(_ context.Context, name string) (records.Calendar, error) {
	c := s.calendars[name]
	close(s.began)
	<-s.goOn
	return c, nil
}

// A refresh that read before another and ends behind it does not bring back what was.
func TestASlowRefreshBringsNothingOldBack(t *testing.T) {
	ctx := context.Background()
	d := &drawer{calendars: map[string]records.Calendar{}}
	d.put("Harbour")
	var table Timetable
	require.NoError(t, table.Refresh(ctx, d))
	d.put("Harbour", "2026-11-26")
	old := &slow{
		drawer: &drawer{calendars: map[string]records.Calendar{"Harbour": d.calendars["Harbour"]}},
		began:  make(chan struct{}), goOn: make(chan struct{}),
	}
	ended := make(chan error)
	go func() { ended <- table.Refresh(ctx, old) }()
	<-old.began
	d.put("Harbour")
	require.NoError(t, table.Refresh(ctx, d))
	close(old.goOn)
	require.NoError(t, <-ended)
	assert.Equal(t, monday.AddDate(0, 0, 3), next(t, &table, monday), "Thursday is open again")
}
