package runs

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/node"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
	"ironbell/internal/timetable"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func trigger(id, jobID int64, rule string, due time.Time, given job.Values) rings.DueTrigger {
	t := rings.DueTrigger{
		ID: id, JobID: jobID, Job: "Board", JobVersion: 1, Zone: "Europe/London", AfterOutage: job.OutageOnce,
		Overlap: job.OverlapWait, NextDue: due,
	}
	t.Timing.V.Rule, t.Given.V = rule, given
	return t
}

// closedOn makes an engine whose calendar Harbour is closed on some dates.
func closedOn(dates ...string) *Runs {
	n := node.New("test")
	n.Log = slog.New(slog.DiscardHandler)
	e := &Runs{node: n, times: &timetable.Timetable{}}
	var d calendar.Definition
	for _, date := range dates {
		d.Closed = append(d.Closed, calendar.Entry{Date: date, Label: "slipway"})
	}
	if err := e.times.Refresh(context.Background(), harbour{d}); err != nil {
		panic(err)
	}
	return e
}

// harbour are records that hold one calendar.
type harbour struct{ d calendar.Definition }

func (h harbour) CalendarStamps(context.Context) (map[string]string, error) {
	return map[string]string{"Harbour": "1.1"}, nil
}

func (h harbour) Calendar(context.Context, string) (records.Calendar, error) {
	return records.Calendar{ID: 1, Version: 1, Name: "Harbour", Definition: h.d}, nil
}

func (h harbour) Setting(context.Context, string, any) (bool, error) { return false, nil }

func plans(now time.Time, due ...rings.DueTrigger) rings.RingPlan {
	return plansOf(closedOn(), now, due...)
}

func plansOf(e *Runs, now time.Time, due ...rings.DueTrigger) rings.RingPlan {
	p, err := e.plan(due, now, circumstances{})
	if err != nil {
		panic(err)
	}
	return p
}

var due = time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC)

func TestTriggersOfOneJobThatAreDueTogetherMakeOneRun(t *testing.T) {
	p := plans(due.Add(time.Second),
		trigger(1, 9, "0 * * * *", due, nil), trigger(2, 9, "0 7 * * *", due, job.Values{}),
		trigger(3, 9, "0 7 * * 1", due, job.Values{"day": "today"}), trigger(4, 8, "0 7 * * *", due, nil))
	require.Len(t, p.Runs, 3, "equal values make one run; other values, and other jobs, their own")
	require.Len(t, p.Rings, 4)
	assert.Equal(t, []job.RingDecision{"run", "joined", "run", "run"},
		[]job.RingDecision{p.Rings[0].Decision, p.Rings[1].Decision, p.Rings[2].Decision, p.Rings[3].Decision})
	assert.Equal(t, *p.Rings[0].RunID, *p.Rings[1].RunID)
	assert.Equal(t, due.Add(time.Hour), p.Next[1].Due.UTC())
	assert.Equal(t, due.AddDate(0, 0, 1), p.Next[2].Due.UTC())
	assert.Equal(t, due.AddDate(0, 0, 7), p.Next[3].Due.UTC())
	assert.Contains(t, p.Runs[0].Why, "Rang by its rule: every passing hour at :00 (Europe/London). On time.")
}

func TestAfterAnOutageEveryDueTimeIsDecidedAndTheNewestRuns(t *testing.T) {
	p := plans(due.Add(3*time.Hour+30*time.Minute), trigger(1, 9, "0 * * * *", due, nil))
	require.Len(t, p.Rings, 4)
	for i, r := range p.Rings {
		assert.Equal(t, due.Add(time.Duration(i)*time.Hour), r.Due.UTC())
	}
	require.Len(t, p.Runs, 1)
	assert.Equal(t, due.Add(3*time.Hour), p.Runs[0].Nominal.UTC())
	assert.Equal(t, due.Add(4*time.Hour), p.Next[1].Due.UTC())
	// A long one is worked off in bounded passes, and none of them takes its last for the newest.
	long := plans(due.AddDate(0, 0, 30), trigger(1, 9, "* * * * *", due, nil))
	assert.Len(t, long.Rings, ringsAtOnce)
	assert.Empty(t, long.Runs)
	assert.Equal(t, due.Add(ringsAtOnce*time.Minute), long.Next[1].Due.UTC())
}

func TestLaterRingsJoinWhatWaitsAndGiveItTheirDate(t *testing.T) {
	waiting := trigger(1, 9, "*/2 * * * *", due, nil)
	waiting.Working, waiting.Waiting = true, 77
	p := plans(due.Add(time.Second), waiting)
	assert.Empty(t, p.Runs)
	assert.Equal(t, job.RunID(77), *p.Rings[0].RunID)
	assert.Equal(t, due, p.Moved[77].UTC())
	// Two within the grace: the second joins the first, which takes the newer date.
	p = plans(due.Add(2*time.Minute), trigger(1, 9, "*/2 * * * *", due, nil))
	require.Len(t, p.Runs, 1)
	assert.Equal(t, due.Add(2*time.Minute), p.Runs[0].Nominal.UTC())
	assert.Equal(t, *p.Rings[0].RunID, *p.Rings[1].RunID)
}

func TestClosedDaysPassOverAndMoveRings(t *testing.T) {
	e := closedOn("2026-11-24", "2026-11-25")
	skips := trigger(1, 9, "every day at 07:00 skip closed days", due, nil)
	moves := trigger(2, 8, "every day at 07:00 after closed days", due.AddDate(0, 0, 3), nil)
	skips.Calendars.V, moves.Calendars.V = []string{"Harbour"}, []string{"Harbour"}
	p := plansOf(e, due.AddDate(0, 0, 1).Add(time.Second), skips)
	require.Len(t, p.Rings, 2)
	assert.Equal(t, job.RingPassedOver, p.Rings[0].Decision, "the closed day is decided on, too")
	assert.Equal(t, "24 November is closed in calendar Harbour (slipway)", p.Rings[0].Reason)
	assert.Equal(t, due.AddDate(0, 0, 1), p.Rings[0].Due.UTC())
	assert.Equal(t, due.AddDate(0, 0, 2), p.Next[1].Due.UTC(), "the next decision is on the other closed day")

	p = plansOf(e, due.AddDate(0, 0, 3).Add(time.Second), moves)
	require.Len(t, p.Runs, 1)
	assert.Equal(t, due.AddDate(0, 0, 3), p.Runs[0].Nominal.UTC(),
		"rings moved onto one instant become one with the latest date")
	assert.Equal(t, "on time", p.Rings[0].Reason)

	monthly := trigger(3, 7, "on day 25 of every month at 07:00 after closed days", due.AddDate(0, 0, 3), nil)
	monthly.Calendars.V = []string{"Harbour"}
	p = plansOf(e, due.AddDate(0, 0, 3).Add(time.Second), monthly)
	require.Len(t, p.Runs, 1)
	assert.Equal(t, due.AddDate(0, 0, 2), p.Runs[0].Nominal.UTC())
	assert.Contains(t, p.Runs[0].Why,
		"25 November is closed in calendar Harbour (slipway); moved to Thu 26 November; on time.")
}

func TestWhatIsLateWaitsForThePermittedHours(t *testing.T) {
	late := trigger(1, 9, "every day at 07:00", due, nil)
	late.Timing.V.Hours = []string{"06:00-20:00"}
	p := plans(due.Add(15*time.Hour), late) // 22:00
	require.Len(t, p.Runs, 1)
	require.NotNil(t, p.Runs[0].Ready)
	assert.Equal(t, due.Add(23*time.Hour), p.Runs[0].Ready.UTC())
	assert.Contains(t, p.Runs[0].Why, "It begins at Tue 24 November 06:00 GMT, when its permitted hours do.")
}

// A ring that an edited calendar moved into the past rings at once, with its own date.
func TestARingThatACalendarMovedIntoThePast(t *testing.T) {
	timing := job.Timing{Rule: "on thu at 07:00 before closed days"}
	friday := closedOn("2026-11-26") // Thursday is closed: it rings on Wednesday
	thursday := due.AddDate(0, 0, 3)
	now := thursday.Add(-10 * time.Hour) // Wednesday evening: Wednesday 07:00 is over
	at := trigger(1, 9, timing.Rule, now, nil)
	at.NextNominal, at.Calendars.V = &thursday, []string{"Harbour"}
	p := plansOf(friday, now.Add(time.Second), at)
	require.Len(t, p.Runs, 1)
	assert.Equal(t, thursday, p.Runs[0].Nominal.UTC())
	assert.Contains(t, p.Rings[0].Reason, "so it rings at once")
	assert.Equal(t, thursday.AddDate(0, 0, 7), p.Next[1].Due.UTC())
}
