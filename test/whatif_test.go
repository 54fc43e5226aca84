package test_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// changes are changes that somebody could make, drawn at random, each with what it would be.
type changes struct {
	w      *world.World
	r      *rand.Rand
	from   time.Time
	jobs   map[string]wire.JobRequest
	frozen []job.Freeze
}

// names are those of the jobs.
var names = []string{"Board", "Day sheet", "Manifest", "Rest watch", "Deck load"}

// span is how far is looked ahead.
const span = 12 * 24 * time.Hour

func (c *changes) pick(from ...string) string { return from[c.r.IntN(len(from))] }

func (c *changes) clock() string { return fmt.Sprintf("%02d:%02d", c.r.IntN(24), c.r.IntN(12)*5) }

// rule is a rule that rings from the day on that is looked at.
func (c *changes) rule() job.Timing {
	day := func() string { return c.pick("monday", "tuesday", "wednesday", "thursday", "friday") }
	t := job.Timing{Start: c.from.Format(time.DateOnly)}
	switch c.r.IntN(7) {
	case 0:
		t.Rule = "every day at " + c.clock()
	case 1:
		t.Rule = "on " + day() + " and sunday at " + c.clock()
	case 2:
		t.Rule = fmt.Sprintf("%d %d * * *", c.r.IntN(60), c.r.IntN(24))
	case 3:
		t.Rule, t.Hours = "every 2 hours", []string{c.pick("06:00-12:00", "09:00-20:00")}
	case 4:
		t.Rule = "on the last open day of every month at " + c.clock()
	case 5:
		t.Rule = fmt.Sprintf("every %d minutes between 08:00 and 11:00", []int{20, 45, 60}[c.r.IntN(3)])
	default:
		t.Rule = "on " + day() + " at " + c.clock()
	}
	if t.Hours == nil && t.Rule[:5] != "every" {
		t.Closed = c.pick("", "skip", "before", "after")
	}
	return t
}

func (c *changes) job(name string) wire.JobRequest {
	d := world.Definition("Departures", "company mail", []string{"csv"}, "oren@tarnwick.example")
	d.Calendars = []string{"Harbour"}
	d.Tags = []string{c.pick("night", "quay")}
	d.Priority = c.r.IntN(60) - 30
	d.Delay = job.Duration(time.Duration(c.r.IntN(3)*10) * time.Minute)
	d.Overlap = job.Overlap(c.pick("wait", "pass over", "together"))
	d.AfterOutage = job.AfterOutage(c.pick("once", "each"))
	d.Deadline = job.Deadline{Within: job.Duration(time.Duration(30+c.r.IntN(200)) * time.Minute)}
	d.Triggers = []job.Trigger{{Timing: c.rule()}}
	return wire.JobRequest{Owner: "mara", On: c.r.IntN(8) > 0, Definition: d}
}

// next draws a change: what is asked, and what makes it.
func (c *changes) next() (string, wire.WhatIfRequest, func(context.Context) error) {
	switch n := c.r.IntN(10); {
	case n < 4:
		name := names[c.r.IntN(len(names))]
		j := c.job(name)
		if c.r.IntN(2) == 0 { // nothing but its rule
			rule := j.Triggers
			j = c.jobs[name]
			j.Triggers = rule
		}
		return fmt.Sprintf("job %s: %+v", name, j.Triggers[0].Timing), wire.WhatIfRequest{Job: &wire.WhatIfJob{Name: name, JobRequest: j}},
			func(ctx context.Context) error {
				c.jobs[name] = j
				_, err := c.w.C.SaveJob(ctx, name, j)
				return err
			}
	case n < 6:
		d := calendar.Definition{Week: []string{"mon", "tue", "wed", "thu", "fri"}}
		if c.r.IntN(3) == 0 {
			d.Week = append(d.Week, "sat")
		}
		for range c.r.IntN(4) {
			d.Closed = append(d.Closed, calendar.Entry{Label: "storm", Date: c.from.AddDate(0, 0, c.r.IntN(12)).Format(time.DateOnly)})
		}
		return fmt.Sprintf("calendar %+v", d), wire.WhatIfRequest{Calendar: &wire.WhatIfCalendar{Name: "Harbour", Definition: d}},
			func(ctx context.Context) error {
				_, err := c.w.C.SaveCalendar(ctx, "Harbour", d, false)
				return err
			}
	case n < 8:
		limits := map[string]int{}
		for _, l := range []string{"service", "tag:night", "tag:quay", "destination:company mail"} {
			if c.r.IntN(3) == 0 {
				limits[l] = 1 + c.r.IntN(2)
			}
		}
		return fmt.Sprintf("limits %v", limits), wire.WhatIfRequest{Limits: limits}, func(ctx context.Context) error {
			return c.w.C.SaveLimits(ctx, limits)
		}
	case n == 8 || len(c.frozen) == 0:
		from := c.from.Add(time.Duration(c.r.IntN(11*24*60)) * time.Minute)
		f := wire.FreezeRequest{
			Label: c.pick("service", "tag:night", "tag:quay", "destination:company mail"), From: &from, Rings: c.pick("wait", "pass over"),
		}
		if c.r.IntN(6) > 0 {
			to := from.Add(time.Duration(10+c.r.IntN(2*24*60)) * time.Minute)
			f.To = &to
		}
		return fmt.Sprintf("freeze %s from %s to %v, %s", f.Label, f.From, f.To, f.Rings), wire.WhatIfRequest{Freeze: &f},
			func(ctx context.Context) error {
				made, err := c.w.C.Freeze(ctx, f)
				c.frozen = append(c.frozen, made)
				return err
			}
	default:
		at := c.r.IntN(len(c.frozen))
		id := c.frozen[at].ID
		return fmt.Sprintf("lift %+v", c.frozen[at]), wire.WhatIfRequest{Lift: id}, func(ctx context.Context) error {
			c.frozen = slices.Delete(c.frozen, at, at+1)
			_, err := c.w.C.Lift(ctx, id)
			return err
		}
	}
}

// difference compares two forecasts in the plainest way: the rings of a job by their date, then
// those of one day in their order. It gives a line for each ring that changes, and their numbers.
func difference(was, will wire.Forecast) (lines []string, counts wire.RingCounts) {
	date := func(c wire.Coming) time.Time {
		if c.Nominal != nil {
			return *c.Nominal
		}
		return c.At
	}
	tell := func(what string, a, b *wire.Coming) {
		late := b != nil && b.Late && (a == nil || !a.Late)
		timely := a != nil && a.Late && b != nil && !b.Late
		lines = append(lines, changeLine(what, a, b, late, timely))
		add := map[string]*int{
			"gone": &counts.Gone, "new": &counts.New, "moved": &counts.Moved, "later": &counts.Later, "sooner": &counts.Sooner,
			"joined": &counts.Joined, "apart": &counts.Apart,
		}
		if n, ok := add[what]; ok {
			*n++
		}
		if late {
			counts.Late++
		}
		if timely {
			counts.OnTime++
		}
	}
	pair := func(a, b *wire.Coming) {
		begins := func(c *wire.Coming) time.Time {
			if c.Begins == nil {
				return time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)
			}
			return *c.Begins
		}
		later := begins(b).Sub(begins(a))
		switch {
		case !a.At.Equal(b.At):
			tell("moved", a, b)
		case a.Joins && b.Joins:
		case b.Joins:
			tell("joined", a, b)
		case a.Joins:
			tell("apart", a, b)
		case later >= time.Minute:
			tell("later", a, b)
		case later <= -time.Minute:
			tell("sooner", a, b)
		case b.Late && !a.Late:
			tell("late", a, b)
		case a.Late && !b.Late:
			tell("on time", a, b)
		}
	}
	jobs := map[string][2][]wire.Coming{}
	for side, f := range []wire.Forecast{was, will} {
		for _, r := range f.Rings {
			both := jobs[r.Job]
			both[side] = append(both[side], r)
			jobs[r.Job] = both
		}
	}
	for _, both := range jobs {
		var lost, found []*wire.Coming
		taken, dates := map[int]bool{}, map[int64]int{}
		for i := range both[1] {
			dates[date(both[1][i]).Unix()] = i
		}
		for i := range both[0] {
			a := &both[0][i]
			at, ok := dates[date(*a).Unix()]
			if !ok {
				at = -1
			} else {
				taken[at] = true
			}
			switch {
			case at < 0 && !a.Passed:
				lost = append(lost, a)
			case at >= 0 && !a.Passed && both[1][at].Passed:
				tell("gone", a, nil)
			case at >= 0 && a.Passed && !both[1][at].Passed:
				tell("new", nil, &both[1][at])
			case at >= 0 && !a.Passed:
				pair(a, &both[1][at])
			}
		}
		for i := range both[1] {
			if !taken[i] && !both[1][i].Passed {
				found = append(found, &both[1][i])
			}
		}
		byDate := func(a, b *wire.Coming) int { return date(*a).Compare(date(*b)) }
		slices.SortFunc(lost, byDate)
		slices.SortFunc(found, byDate)
		for _, a := range lost {
			at := slices.IndexFunc(found, func(b *wire.Coming) bool {
				return date(*a).Format(time.DateOnly) == date(*b).In(date(*a).Location()).Format(time.DateOnly)
			})
			if at < 0 {
				tell("gone", a, nil)
				continue
			}
			pair(a, found[at])
			found = slices.Delete(found, at, at+1)
		}
		for _, b := range found {
			tell("new", nil, b)
		}
	}
	slices.Sort(lines)
	return lines, counts
}

func changeLine(what string, a, b *wire.Coming, late, timely bool) string {
	side := func(c *wire.Coming) string {
		if c == nil || c.Passed {
			return "none"
		}
		return c.At.UTC().Format("2 Jan 15:04:05")
	}
	name := ""
	for _, c := range []*wire.Coming{a, b} {
		if c != nil {
			name = c.Job
		}
	}
	return fmt.Sprintf("%s %s: %s to %s, late %t, on time %t", name, what, side(a), side(b), late, timely)
}

// What is said before a change is what comes of it: the difference of the forecast before and
// the forecast after, for many changes of rules, calendars, limits and freezes in a row.
// IRONBELL_CHANGES says how many; make torture tries 200.
func TestWhatIfIsTheDifferenceOfTwoForecasts(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	seed := uint64(time.Now().UnixNano())
	t.Logf("the changes are those of seed %d", seed)
	place, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	now := w.Now().In(place)
	c := &changes{
		w: w, r: rand.New(rand.NewPCG(seed, 1)), jobs: map[string]wire.JobRequest{},
		from: time.Date(now.Year(), now.Month(), now.Day()+2, 0, 0, 0, 0, place),
	}
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	_, err = w.C.SaveCalendar(ctx, "Harbour", calendar.Definition{}, false)
	require.NoError(t, err)
	db := world.Connect(t, w.Db)
	for _, name := range names {
		j := c.job(name)
		j.On = true
		c.jobs[name] = j
		_, err := w.C.SaveJob(ctx, name, j)
		require.NoError(t, err, j.Triggers)
		_, err = w.C.Ring(ctx, name, nil)
		require.NoError(t, err)
	}
	t.Log("saved", time.Now())
	w.Until("all have run", func() bool {
		done, err := w.C.Runs(ctx, client.RunFilter{States: []string{"done"}})
		require.NoError(t, err)
		return len(done) == len(names)
	})
	for i, name := range names {
		// How long it takes is known by what it took.
		_, err = db.Exec(ctx, `UPDATE runs SET started_at = ended_at - make_interval(mins => $2) WHERE job_name = $1`, name,
			[]int{2, 25, 50, 90, 140}[i])
		require.NoError(t, err)
	}
	look := func() wire.Forecast {
		f, err := w.C.Forecast(ctx, client.ForecastFilter{From: c.from, To: c.from.Add(span), Limit: 5000})
		require.NoError(t, err)
		require.Equal(t, f.Total+f.Passed, len(f.Rings))
		return f
	}
	to, limit, told := c.from.Add(span), 2000, map[string]int{}
	t.Log("run", time.Now())
	before := look()
	many := 70
	if text := os.Getenv("IRONBELL_CHANGES"); text != "" {
		many, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	for n := range many {
		said, asked, change := c.next()
		asked.From, asked.To, asked.Limit = &c.from, &to, &limit
		got, err := w.C.WhatIf(ctx, asked)
		require.NoError(t, err, said)
		require.NoError(t, change(ctx), said)
		after := look()
		lines, counts := difference(before, after)
		var gotLines []string
		for _, r := range got.Rings {
			gotLines = append(gotLines, changeLine(r.What, r.Was, r.Will, r.Late, r.OnTime))
			told[r.What]++
		}
		slices.Sort(gotLines)
		require.Equal(t, lines, gotLines, "change %d: %s", n, said)
		require.Equal(t, counts, got.Counts, said)
		for _, side := range []struct {
			load wire.Load
			f    wire.Forecast
		}{{got.Before, before}, {got.After, after}} {
			require.Equal(t, []int{side.f.Total, side.f.Joined, side.f.Waiting, side.f.Stuck, side.f.Late, len(side.f.Clashes)},
				[]int{side.load.Rings, side.load.Joined, side.load.Waiting, side.load.Stuck, side.load.Late, side.load.Clashes}, said)
		}
		before = after
	}
	t.Log(told)
	for _, what := range []string{"gone", "new", "moved", "later", "sooner"} {
		assert.NotZero(t, told[what], "nothing was ever %s", what)
	}
}
