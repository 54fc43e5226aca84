package upkeep_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/engine/enginetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What comes every working day at about eight and does not one day is told of once; it closes when it comes. What its
// owner only wants to see, what is enough without it, what comes when it likes and what nobody waits for any more is
// not told of.
func TestWhatIsLateByItsOwnPastIsToldOf(t *testing.T) {
	o := enginetest.Open(t)
	london, err := zone.Load("Europe/London")
	require.NoError(t, err)
	clock := enginetest.ClockAt(time.Date(2026, 10, 19, 0, 0, 0, 0, london)) // a Monday; summer time ends on the 25th
	e := o.Engine(clock)
	const ledger, tide = "example.tarnwick.ledger.closed", "example.tarnwick.tide"
	save := func(name string, w job.Wait) job.Job {
		return o.Save(e, name, job.Definition{Zone: "Europe/London", Overlap: job.OverlapTogether, Triggers: []job.Trigger{{Wait: &w}}})
	}
	one := []job.Condition{{Event: ledger}}
	save("Month-end lock", job.Wait{For: one})
	save("Shown", job.Wait{For: one, IfLate: job.LateShow})
	save("Either", job.Wait{Need: job.NeedAny, For: []job.Condition{{Event: ledger}, {Event: tide}}})
	off := save("Off", job.Wait{For: one})
	reckon := func() {
		o.Exec(`DELETE FROM turns`)
		_, err := e.Upkeep.Usual(o.Ctx)
		require.NoError(t, err)
	}
	about := func() []string {
		return o.Texts(`SELECT job_name || ': ' || happened FROM alerts WHERE state <> 'closed' ORDER BY id`)
	}
	n := 0
	come := func(kind string, at time.Time) {
		n++
		clock.Set(at)
		o.Raise(e, job.Event{ID: fmt.Sprint(n), Source: "/ledger", Type: kind, Time: at})
	}
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 10, day, hour, minute, 0, 0, london) }
	for day := 19; day <= 27; day++ {
		if weekday := at(day, 0, 0).Weekday(); weekday == time.Saturday || weekday == time.Sunday {
			continue
		}
		clock.Set(at(day, 5, 0))
		reckon()
		require.Equal(t, 0, o.Number(`SELECT count(*) FROM alerts`), "on day %d", day)
		come(ledger, at(day, 8, day%4))
		come(ledger, at(day, 9, 0)) // again; the first counts
		come(tide, at(day, 6, 0).Add(time.Duration(day)*time.Minute))
		if day == 23 {
			clock.Set(at(25, 12, 0))
			reckon()
			require.Equal(t, 0, o.Number(`SELECT count(*) FROM alerts`), "nothing comes on a Sunday")
		}
	}
	_, err = e.Jobs.Switch(o.Ctx, o.Mara, "Off", false)
	require.NoError(t, err)
	clock.Set(at(28, 8, 17))
	come(tide, at(28, 8, 1))
	clock.Set(at(28, 8, 17))
	reckon()
	assert.Empty(t, about(), "a quarter of an hour is never late")
	clock.Set(at(28, 8, 19))
	reckon()
	want := `Month-end lock: Event example.tarnwick.ledger.closed has not come yet on Wednesday 28 October: it is usually there by ` +
		`08:03 GMT, as on 7 of the last 7 working days.`
	assert.Equal(t, []string{want}, about())
	reckon()
	assert.Equal(t, 1, o.Number(`SELECT count FROM alerts`), "it is told of once")

	shown, err := e.Jobs.Waiting(o.Ctx, "Shown")
	require.NoError(t, err)
	assert.True(t, shown[0].Conditions[0].Missed)
	assert.Equal(t, "27 Oct 08:03", shown[0].Conditions[0].Last.In(london).Format("2 Jan 15:04"))
	expected, err := e.Foresight.Expected(o.Ctx, "lock", clock.Now(), at(30, 0, 0), clock.Now(), 10)
	require.NoError(t, err)
	require.Len(t, expected, 2, "what is overdue, and tomorrow's")
	assert.Equal(t, "29 Oct 08:03 GMT", expected[1].By.Format("2 Jan 15:04 MST"))

	// What somebody plays again has not come: it tells nothing of the hour, and mends nothing.
	_, err = e.Events.PlayAgain(o.Ctx, o.Sefa, int64(o.Number(`SELECT max(id) FROM events WHERE type = $1`, ledger)))
	require.NoError(t, err)
	reckon()
	assert.Equal(t, []string{want}, about())

	// A changed trigger keeps its past, and what it waits for still.
	save("Month-end lock", job.Wait{For: one, Gather: job.Duration(time.Minute)})
	reckon()
	assert.Len(t, about(), 1)
	come(ledger, at(28, 11, 30))
	assert.Empty(t, about(), "it came")
	reckon()
	assert.Empty(t, about())
	expected, err = e.Foresight.Expected(o.Ctx, "", at(28, 0, 0), at(29, 0, 0), clock.Now(), 10)
	require.NoError(t, err)
	for _, x := range expected {
		assert.NotEqual(t, off.Name, x.Job)
		if x.Reading == "event "+ledger {
			assert.NotNil(t, x.Came, x.Job)
		}
	}

	// Missed again: several nodes look at once, and tell of it once. Then it is waited for no more.
	clock.Set(at(29, 12, 0))
	other := o.Engine(clock)
	clock.Turn(time.Hour) // it is up for long enough
	var all sync.WaitGroup
	for n := range 6 {
		all.Go(func() {
			o.Exec(`DELETE FROM turns WHERE name = 'reckon usual hours'`)
			_, err := []*enginetest.Site{e, other}[n%2].Upkeep.Usual(o.Ctx)
			assert.NoError(t, err)
		})
	}
	all.Wait()
	assert.Equal(t, 0, o.Number(`SELECT count(*) FROM alerts WHERE count > 1`))
	assert.Len(t, about(), 3, "of either neither came, too")
	save("Month-end lock", job.Wait{For: []job.Condition{{Event: tide}}})
	save("Either", job.Wait{For: one, IfLate: job.LateShow})
	reckon()
	assert.Empty(t, about())
}
