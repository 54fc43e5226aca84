package watcher_test

import (
	"fmt"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/enginetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func query(q job.QueryWatch) job.Wait {
	q.Source = "ledger"
	return job.Wait{Need: job.NeedAny, For: []job.Condition{{Query: &q}}}
}

// ledger is a source with a table that the test writes.
func (o office) ledger() {
	o.t.Helper()
	o.Source("ledger")
	o.Exec(`CREATE TABLE fares (no bigint, port text, sum numeric)`)
	o.Exec(`GRANT ALL ON fares TO PUBLIC`)
}

func number(n float64) *float64 { return &n }

var (
	value = job.Values{"is": "{event.data.value}"}
	rowNo = job.Values{"is": "{event.data.row.no}"}
)

// A statement starts jobs by another answer, by passing a limit, and by new rows.
func TestAnswersStartJobs(t *testing.T) {
	o := open(t)
	o.ledger()
	e := o.Engine(nil)
	sum := `SELECT sum(sum) FROM fares`
	changed := o.waits(e, "Changed", query(job.QueryWatch{SQL: sum, When: job.QueryChanged}), value)
	over := o.waits(e, "Over", query(job.QueryWatch{SQL: sum, When: job.QueryPasses, Over: number(300), Back: number(200)}), value)
	under := o.waits(e, "Under", query(job.QueryWatch{SQL: sum, When: job.QueryPasses, Under: number(250)}), value)
	ready := o.waits(e, "Ready", query(job.QueryWatch{SQL: `SELECT count(*) > 2 FROM fares`, When: job.QueryReady}), value)
	rows := job.QueryWatch{SQL: `SELECT * FROM fares`, When: job.QueryNewRows, Mark: "no", AtMost: 3}
	each := o.waits(e, "Each", query(rows), rowNo)
	rows.Rows = job.RowsTogether
	together := o.waits(e, "Together", query(rows), job.Values{"is": "{event.data.rows}"})
	begun := o.waits(e, "Begun", query(job.QueryWatch{
		SQL: `SELECT * FROM fares WHERE no > :mark ORDER BY no`, When: job.QueryNewRows, Mark: "no", First: "1",
	}), rowNo)
	o.Exec(`INSERT INTO fares VALUES (1, 'Pennold', 100)`)
	o.look(e)
	for _, j := range []job.Job{changed, over, under, ready, each, together, begun} {
		assert.Empty(t, o.runs(j, "is"), "%s: what is there at first starts nothing", j.Name)
	}
	o.Exec(`INSERT INTO fares VALUES (10, 'Skerry', 250), (9, 'Pennold', 10)`)
	o.look(e)
	o.look(e)
	assert.Equal(t, []string{"360"}, o.runs(changed, "is"))
	assert.Equal(t, []string{"360"}, o.runs(over, "is"))
	assert.Equal(t, []string{"true"}, o.runs(ready, "is"))
	assert.Equal(t, []string{"10", "9"}, o.runs(each, "is"), "9 comes before 10, as numbers do")
	assert.Equal(t, []string{"2"}, o.runs(together, "is"))
	assert.Equal(t, []string{"10", "9"}, o.runs(begun, "is"))
	// It flutters about the limit, and counts once until it was back.
	for _, sum := range []int{190, 310, 210, 400, -1, 150, 301} {
		if sum > 0 {
			o.Exec(`UPDATE fares SET sum = CASE no WHEN 1 THEN $1::numeric ELSE 0 END`, sum)
		} else {
			o.Exec(`UPDATE fares SET sum = NULL`) // nothing is neither above nor below
		}
		o.look(e)
	}
	assert.Equal(t, []string{"301", "310", "360"}, o.runs(over, "is"), "310 after 190, 301 after 150")
	assert.Equal(t, []string{"150", "190", "210"}, o.runs(under, "is"))
	// More rows than are taken at once come at the next look, and none twice.
	for n := range 8 {
		o.Exec(`INSERT INTO fares VALUES ($1, 'Oare', 1)`, 20+n/2) // two of each mark
	}
	for range 4 {
		o.look(e)
	}
	assert.Len(t, o.runs(each, "is"), 10)
	assert.Equal(t, []string{"2", "4", "4"}, o.runs(together, "is"), "rows of one mark stay together")
	assert.Equal(t, "Ledger answered a new row, no 23.", o.Text(`SELECT why FROM runs WHERE job_id = $1 ORDER BY id DESC LIMIT 1`,
		each.ID))
}

// Who waits for the same statement is served by one answer; one that fails is told once and keeps its mark.
func TestAStatementIsPutOnceForAllWhoWaitForIt(t *testing.T) {
	o := open(t)
	o.ledger()
	clock := enginetest.ClockAt(time.Now())
	e := o.Engine(clock)
	var all []job.Job
	for n := range 20 {
		// Each question has another answer, by which they could be told apart.
		q := job.QueryWatch{
			SQL:  `SELECT CASE WHEN count(*) > 0 THEN extract(epoch FROM clock_timestamp()) ELSE 0 END FROM fares`,
			When: job.QueryPasses, Over: number(float64(n % 10)),
		}
		all = append(all, o.waits(e, fmt.Sprintf("Limit %d", n), query(q), value))
	}
	o.look(e)
	o.Exec(`INSERT INTO fares VALUES (5, 'Oare', 1)`)
	o.look(e)
	answers := map[string]bool{}
	for _, j := range all {
		is := o.runs(j, "is")
		require.Len(t, is, 1, j.Name)
		answers[is[0]] = true
	}
	assert.Len(t, answers, 1, "twenty jobs, ten limits, and one question")
	rows := o.waits(e, "Rows", query(job.QueryWatch{SQL: `SELECT no FROM fares`, When: job.QueryNewRows, Mark: "no"}), rowNo)
	o.look(e)
	o.Exec(`ALTER TABLE fares RENAME TO away`)
	for range 3 {
		o.look(e)
		clock.Turn(2 * time.Minute)
	}
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts WHERE job_id = $1`, rows.ID))
	assert.Contains(t, o.Text(`SELECT happened FROM alerts WHERE job_id = $1`, rows.ID), "What Rows waits for cannot be seen")
	o.Exec(`ALTER TABLE away RENAME TO fares`)
	o.Exec(`INSERT INTO fares VALUES (6, 'Oare', 1)`)
	o.look(e)
	assert.Equal(t, []string{"6"}, o.runs(rows, "is"), "and not 5 again")
	assert.Zero(t, o.Number(`SELECT count(*) FROM alerts WHERE job_id = $1 AND state = 'open'`, rows.ID))
}

// A run that its rule rang waits until the statement says yes: each run asks anew, and nobody asks while none
// waits. What it does when the word never comes is said by its job.
func TestARunWaitsUntilItsDataAreReady(t *testing.T) {
	o := open(t)
	o.ledger()
	clock := enginetest.ClockAt(enginetest.London(11, 23, 5, 0))
	e := o.Engine(clock)
	o.Exec(`CREATE TABLE imported (done bool)`)
	o.Exec(`GRANT ALL ON imported TO PUBLIC`)
	o.Exec(`INSERT INTO imported VALUES (true)`)
	save := func(name string, change func(*job.Wait)) job.Job {
		w := query(job.QueryWatch{SQL: `SELECT done FROM imported`, When: job.QueryReady})
		w.Latest = "09:30"
		change(&w)
		return o.Save(e, name, job.Definition{
			Triggers: []job.Trigger{{Timing: job.Timing{Rule: "at 06:00 and 12:00"}, Wait: &w}},
			Overlap:  job.OverlapTogether,
		})
	}
	fails := save("Fails", func(w *job.Wait) { w.InVain = job.VainFail })
	after := o.waits(e, "After", job.Wait{For: []job.Condition{{Job: "Fails", Ends: []job.RunState{job.RunFailed}}}}, nil)
	goesOn := save("Goes on", func(w *job.Wait) { w.InVain = job.VainGoOn })
	over := save("Passed over", func(*job.Wait) {})
	o.look(e)
	assert.Zero(t, o.Number(`SELECT count(*) FROM watches WHERE mark IS NOT NULL`), "nobody asks while no run waits")
	clock.Set(enginetest.London(11, 23, 6, 0).Add(time.Second))
	o.Exec(`UPDATE imported SET done = false`)
	o.Pass(e)
	held := func() int { return o.Number(`SELECT count(*) FROM parts WHERE held AND state = 'waiting'`) }
	require.Equal(t, 3, held())
	assert.Contains(t, o.Text(`SELECT reason FROM runs WHERE job_id = $1`, fails.ID),
		"waits for a yes of ledger to SELECT done FROM imported")
	o.look(e)
	assert.Equal(t, 3, held(), "it says no")
	o.Exec(`UPDATE imported SET done = true`)
	o.look(e)
	assert.Zero(t, held(), "all of them go by one answer")
	assert.Contains(t, o.Text(`SELECT reason FROM runs WHERE job_id = $1`, fails.ID), "ledger answered yes")
	clock.Set(enginetest.London(11, 23, 12, 0).Add(time.Second))
	o.Exec(`UPDATE imported SET done = false`)
	o.Pass(e)
	o.look(e)
	assert.Equal(t, 3, held(), "the yes of the morning does not count at noon")
	assert.Equal(t, 3, o.Number(`SELECT count(*) FROM parts WHERE held AND state = 'waiting'
		AND ready_at = '2026-11-24 09:30:00+00'`), "until half past nine, which is tomorrow's")
	o.Exec(`UPDATE parts SET ready_at = now() - interval '1 hour' WHERE held`)
	require.NoError(t, e.Waits.GiveUp(o.Ctx))
	last := func(j job.Job) string {
		return o.Text(`SELECT state || ': ' || reason FROM runs WHERE job_id = $1 ORDER BY id DESC LIMIT 1`, j.ID)
	}
	assert.Contains(t, last(fails), "failed: it waited in vain for a yes")
	assert.Contains(t, last(goesOn), "waiting: goes on: it waited in vain")
	assert.Contains(t, last(over), "passed over: it waited in vain")
	assert.Equal(t, 3, o.Number(`SELECT count(*) FROM alerts WHERE happened LIKE '%it waited in vain%'`))
	assert.Len(t, o.runs(after, "is"), 1, "that it failed is heard of by those who wait for it")
}

// A node that stops in the middle of a look gives it back: another one looks at once, and not when its lease ends.
func TestAStopGivesALookBack(t *testing.T) {
	o := open(t)
	o.ledger()
	e := o.Engine(nil)
	o.waits(e, "Slow", query(job.QueryWatch{SQL: `SELECT pg_sleep(60)::text`, When: job.QueryChanged}), value)
	stop := o.Run(e)
	o.Until("it is looked at", func() bool { return o.Number(`SELECT count(*) FROM watches WHERE leased_until IS NOT NULL`) == 1 })
	stop()
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM watches WHERE leased_until IS NULL AND next_at <= now()`))
}

// What cannot be asked is refused when the job is saved.
func TestStatementsAreReadWhenAJobIsSaved(t *testing.T) {
	o := open(t)
	o.ledger()
	e := o.Engine(nil)
	for says, q := range map[string]job.QueryWatch{
		"no source":           {Source: "nowhere", SQL: "SELECT 1", When: job.QueryReady},
		"which statement":     {SQL: " ", When: job.QueryReady},
		"fare":                {SQL: "SELECT * FROM fare", When: job.QueryReady},
		"which answer counts": {SQL: "SELECT 1", When: "sometimes"},
		"the limit":           {SQL: "SELECT 1", When: job.QueryPasses},
		"lies above":          {SQL: "SELECT 1", When: job.QueryPasses, Over: number(1), Back: number(2)},
		"the column that":     {SQL: "SELECT 1", When: job.QueryNewRows},
		"gives no column":     {SQL: "SELECT no FROM fares", When: job.QueryNewRows, Mark: "number"},
		"first_mark":          {SQL: "SELECT no FROM fares WHERE no > :mark", When: job.QueryNewRows, Mark: "no"},
		"belong to when":      {SQL: "SELECT 1", When: job.QueryReady, Over: number(1)},
		"no identity":         {SQL: "SELECT 1", When: job.QueryReady, Identity: "somebody"},
	} {
		if q.Source == "" {
			q.Source = "ledger"
		}
		require.ErrorContains(t, o.tryWait(e, job.Condition{Query: &q}), says)
	}
}

// What is asked of an event is held against one as it will be, when the job is saved.
func TestWhatIsAskedOfAnEventIsHeldAgainstASample(t *testing.T) {
	o := open(t)
	o.ledger()
	e := o.Engine(nil)
	ready := job.QueryWatch{Source: "ledger", SQL: "SELECT count(*) AS n, min(port) AS port FROM fares", When: job.QueryReady}
	fresh := job.QueryWatch{Source: "ledger", SQL: "SELECT no, port, sum FROM fares", When: job.QueryNewRows, Mark: "no"}
	all := fresh
	all.Rows = job.RowsTogether
	file := job.FileWatch{Destination: "gauges", Pattern: "*.csv"}
	passes := file
	passes.SameContent = job.SamePassOver
	for _, c := range []struct {
		of     job.Condition
		onlyIf string
		says   string
	}{
		{job.Condition{Query: &ready}, `event.data.value > 3 && event.data.row.port == "Oare"`, ""},
		{job.Condition{Query: &ready}, `event.data.row.harbour == "Oare"`, "no such key: harbour"},
		{job.Condition{Query: &ready}, `event.data.row.harbour == "Oare"`, "event.data.row.n, event.data.row.port"},
		{job.Condition{Query: &ready}, `has(event.data.row.harbour) && event.data.row.harbour == "Oare"`, ""},
		{job.Condition{Query: &ready}, `event.data.row.port > 3`, "no such overload"},
		{job.Condition{Query: &ready}, `event.data.mark > 3`, "no such key: mark"},
		{job.Condition{Query: &ready}, `10 / (event.data.value - 1) > 3`, ""}, // by other values it can be decided
		{job.Condition{Query: &fresh}, `event.data.mark > 3 && event.data.row.sum < 10.5`, ""},
		{job.Condition{Query: &fresh}, `event.data.all.size() > 3`, "no such key: all"},
		{job.Condition{Query: &all}, `event.data.all.exists(r, r.sum > 3)`, ""},
		{job.Condition{Query: &all}, `event.data.all.all(r, r.fee > 3)`, "no such key: fee"},
		{job.Condition{Files: &file}, `event.data.size > 0 && event.data.name.startsWith("gauge") && !event.data.replaced`, ""},
		{job.Condition{Files: &file}, `timestamp(event.data.modified) > timestamp("2026-01-01T00:00:00Z")`, ""},
		{job.Condition{Files: &file}, `event.data.bytes > 0`, "of a file the condition"},
		{job.Condition{Files: &file}, `event.data.sha256 != ""`, "no such key: sha256"},
		{job.Condition{Files: &passes}, `event.data.sha256 != ""`, ""},
		{job.Condition{Start: job.StartAny}, `event.data.first && event.data.node != ""`, ""},
		{job.Condition{Start: job.StartAny}, `event.data.host == "quay"`, "event.data.first, event.data.node"},
	} {
		c.of.OnlyIf = c.onlyIf
		err := o.tryWait(e, c.of)
		if c.says == "" {
			require.NoError(t, err, c.onlyIf)
			continue
		}
		require.ErrorContains(t, err, c.says, c.onlyIf)
		require.ErrorContains(t, err, "only_if")
	}
	// What is held against the sample holds of what really comes: nothing is asked that events do not have.
	whole := func(q job.QueryWatch, onlyIf string) job.Wait {
		return job.Wait{For: []job.Condition{{Query: &q, OnlyIf: onlyIf}}}
	}
	each := o.waits(e, "Each", whole(fresh, `event.data.source == "ledger" && event.data.rows == 1 && event.data.mark > 0 &&
		event.data.row.no > 0 && event.data.row.port != "" && event.data.row.sum > 0.5`), rowNo)
	together := o.waits(e, "Together", whole(all, `event.data.all.all(r, r.sum > 0) && event.data.row.no > 0 && event.data.mark > 0`), rowNo)
	yes := o.waits(e, "Ready", whole(ready, `event.data.value > 0 && event.data.before >= 0 && event.data.row.n > 0 &&
		event.data.row.port != ""`), value)
	o.look(e)
	o.Exec(`INSERT INTO fares VALUES (7, 'Pennold', 100)`)
	o.look(e)
	assert.Equal(t, []string{"7"}, o.runs(each, "is"))
	assert.Equal(t, []string{"7"}, o.runs(together, "is"))
	assert.Equal(t, []string{"1"}, o.runs(yes, "is"))
}

// tryWait saves a job that waits for something.
func (o office) tryWait(e *enginetest.Site, c job.Condition) error {
	_, err := o.TrySave(e, "Fares", job.Definition{
		Zone: "Europe/London", Tasks: []job.Task{enginetest.Effect("a", "a")},
		Triggers: []job.Trigger{{Wait: &job.Wait{For: []job.Condition{c}}}},
	})
	return err
}

// Beside other conditions it is asked when those have come about, and each time anew.
func TestDataAreAskedForWhenAllElseIsThere(t *testing.T) {
	o := open(t)
	o.ledger()
	clock := enginetest.ClockAt(enginetest.London(11, 23, 9, 0))
	e := o.Engine(clock)
	w := query(job.QueryWatch{SQL: `SELECT count(*) > 0 FROM fares`, When: job.QueryReady})
	w.Need = job.NeedAll
	w.For = append(w.For, job.Condition{Event: "example.tarnwick.closed"})
	j := o.waits(e, "Page", w, nil)
	count := func() int { return o.Number(`SELECT count(*) FROM runs WHERE job_id = $1`, j.ID) }
	o.Exec(`INSERT INTO fares VALUES (1, 'Oare', 1)`)
	o.look(e)
	assert.Zero(t, o.Number(`SELECT count(*) FROM watches WHERE mark IS NOT NULL`), "nothing waits for it")
	for day := 23; day < 26; day++ {
		clock.Set(enginetest.London(11, day, 9, 0))
		o.Exec(`DELETE FROM fares`)
		o.Event(e, fmt.Sprint(day), clock.Now())
		waiting, err := e.Jobs.Waiting(o.Ctx, "Page")
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("1 of 2: waits for a yes of ledger to SELECT count(*) > 0 FROM fares since 09:00 GMT on %d November.",
			day), waiting[0].Sentence)
		o.look(e)
		assert.Equal(t, day-23, count())
		o.Exec(`INSERT INTO fares VALUES (1, 'Oare', 1)`)
		o.look(e)
		o.look(e)
		assert.Equal(t, day-22, count())
	}
	assert.Equal(t, "Ledger answered yes; event example.tarnwick.closed of /ledger.",
		o.Text(`SELECT why FROM runs WHERE job_id = $1 LIMIT 1`, j.ID))
}
