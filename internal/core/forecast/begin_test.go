package forecast_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"ironbell/internal/core/forecast"
	"ironbell/internal/core/rule"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// plan is a forecast that was drawn: rules by the minute, limits and freezes of a few labels.
func plan(rt *rapid.T, name string) forecast.Plan {
	labels := []string{"service", "source:fleet", "destination:company mail", "tag:night"}
	number := func(what string, low, high int) int { return rapid.IntRange(low, high).Draw(rt, name+" "+what) }
	var p forecast.Plan
	for i := range number("entries", 1, 8) {
		r, err := rule.Options{Zone: time.UTC}.Parse(fmt.Sprintf("every %d minutes", []int{7, 20, 45, 60, 90}[number("rule", 0, 4)]))
		if err != nil {
			rt.Fatal(err)
		}
		e := forecast.Entry{Rule: r, Usual: time.Duration(number("usual", 1, 90)) * time.Minute}
		e.Work = forecast.Work{
			Job: i / 2, Values: []string{"", "Pennold"}[number("values", 0, 1)], Each: number("each", 0, 2) == 0,
			Overlap: forecast.Overlap(number("overlap", 0, 2)),
			Delay:   time.Duration(max(0, number("delay", -20, 20))) * time.Minute,
			Sooner:  time.Duration(number("priority", -30, 30)) * time.Minute,
			Labels:  rapid.SliceOfNDistinct(rapid.SampledFrom(labels), 0, 3, rapid.ID).Draw(rt, name+" labels"),
		}
		if i%2 == 1 { // a job has one way with its overlaps
			e.Work.Overlap, e.Work.Each = p.Entries[i-1].Work.Overlap, p.Entries[i-1].Work.Each
		}
		if within := number("deadline", -60, 60); within > 0 {
			e.Work.Deadline = func(due time.Time) time.Time { return due.Add(time.Duration(within) * time.Minute) }
		}
		p.Entries = append(p.Entries, e)
	}
	p.Room = forecast.Room{AtOnce: number("at once", 0, 4), Limits: map[string]int{}}
	for _, l := range labels {
		if n := number("limit", -4, 3); n > 0 {
			p.Room.Limits[l] = n
		}
	}
	for range number("freezes", 0, 3) {
		from := monday.Add(time.Duration(number("from", -60, 600)) * time.Minute)
		f := forecast.Frozen{Label: labels[number("frozen", 0, 3)], From: from, Says: "frozen"}
		if long := number("long", -60, 300); long != 0 {
			f.To = from.Add(time.Duration(long) * time.Minute)
		}
		p.Room.Frozen = append(p.Room.Frozen, f)
	}
	return p
}

// walked is one run of a forecast that is walked minute by minute.
type walked struct {
	entry             int
	due, ready, turn  time.Time
	begins            time.Time
	over, begun, late bool
	joins             *walked // whose run it joins
}

// walk foresees minute by minute, in the plainest way.
func walk(p forecast.Plan, from, to time.Time) []*walked {
	var all []*walked
	work := func(w *walked) forecast.Work { return p.Entries[w.entry].Work }
	ends := func(w *walked) time.Time { return w.begins.Add(p.Entries[w.entry].Usual) }
	for now := from; now.Before(to.Add(10 * 24 * time.Hour)); now = now.Add(time.Minute) {
		works := func(w *walked) bool { return w.begun && ends(w).After(now) }
		open := func(job int) bool {
			return slices.ContainsFunc(all, func(o *walked) bool {
				return work(o).Job == job && work(o).Overlap != forecast.Together && !o.over && o.joins == nil && (!o.begun || works(o))
			})
		}
		for i, e := range p.Entries {
			if due, ok := e.Rule.Next(now.Add(-time.Second)); ok && due.Equal(now) && !now.After(to) && now.After(from) {
				w := &walked{entry: i, due: due, ready: due.Add(e.Work.Delay)}
				w.turn = w.ready.Add(-e.Work.Sooner)
				w.over = e.Work.Overlap == forecast.PassesOver && open(e.Work.Job)
				for _, o := range all {
					alike := !o.over && o.joins == nil && work(o).Job == e.Work.Job && work(o).Values == e.Work.Values
					if w.over || !alike || w.joins != nil {
						continue
					}
					if o.due.Equal(due) || !o.begun && !e.Work.Each && e.Work.Overlap == forecast.Waits {
						w.joins = o
					}
				}
				all = append(all, w)
			}
		}
		for {
			var next *walked
			for _, w := range all {
				if w.over || w.begun || w.joins != nil || w.ready.After(now) || next != nil && !w.turn.Before(next.turn) {
					continue
				}
				if fits(p, all, w, now, works) {
					next = w
				}
			}
			if next == nil {
				break
			}
			next.begun, next.begins = true, now
		}
	}
	for _, w := range all {
		if w.joins != nil {
			w.begun, w.begins = w.joins.begun, w.joins.begins
		} else if d := work(w).Deadline; d != nil && !w.over {
			w.late = !w.begun || ends(w).After(d(w.due))
		}
	}
	return all
}

// fits tells whether a run has room to begin.
func fits(p forecast.Plan, all []*walked, w *walked, now time.Time, works func(*walked) bool) bool {
	mine := p.Entries[w.entry].Work
	count := func(of func(o *walked) bool) (n int) {
		for _, o := range all {
			if o.joins == nil && works(o) && of(o) {
				n++
			}
		}
		return n
	}
	if p.Room.AtOnce > 0 && count(func(*walked) bool { return true }) >= p.Room.AtOnce {
		return false
	}
	if mine.Overlap != forecast.Together {
		// Runs of one job go one after another, in the order in which they may begin.
		for _, o := range all {
			if o != w && p.Entries[o.entry].Work.Job == mine.Job && !o.over && o.joins == nil &&
				(works(o) || !o.begun && (o.ready.Before(w.ready) || o.ready.Equal(w.ready) && slices.Index(all, o) < slices.Index(all, w))) {
				return false
			}
		}
	}
	for _, l := range mine.Labels {
		if n, ok := p.Room.Limits[l]; ok &&
			count(func(o *walked) bool { return slices.Contains(p.Entries[o.entry].Work.Labels, l) }) >= n {
			return false
		}
		for _, f := range p.Room.Frozen {
			if f.Label == l && !f.From.After(now) && (f.To.IsZero() || f.To.After(now)) {
				return false
			}
		}
	}
	return true
}

// What is foreseen of runs is what comes of walking through the time minute by minute.
func TestRunsBeginAsAWalkThroughTheTimeSays(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		p := plan(rt, "plan")
		to := monday.Add(time.Duration(rapid.IntRange(60, 400).Draw(rt, "minutes")) * time.Minute)
		s := forecast.Look(p.Entries, p.Room, monday, to, 10_000)
		all := walk(p, monday, to)
		var want, got []string
		late, waiting, stuck, joined := 0, 0, 0, 0
		for _, w := range all {
			want = append(want, said(w.entry, w.due, w.over, w.joins != nil, w.begins, w.late))
			late += count(w.late)
			joined += count(w.joins != nil)
			stuck += count(!w.over && w.joins == nil && !w.begun)
			waiting += count(!w.over && w.joins == nil && (!w.begun || w.begins.After(w.ready)))
		}
		passed := 0
		for _, r := range s.Rings {
			got = append(got, said(r.Entry, r.Due, r.Passed, r.Joins, r.Begins, r.Late))
			passed += count(r.Passed)
			if waits := r.Waits != ""; waits != (!r.Passed && (r.Joins || r.Begins.IsZero() || r.Begins.After(r.Due.Add(p.Entries[r.Entry].Work.Delay)))) {
				rt.Fatalf("%q, but it begins at %s", r.Waits, r.Begins)
			}
		}
		slices.Sort(want)
		slices.Sort(got)
		if !assert.ObjectsAreEqual(want, got) {
			rt.Fatalf("walked:\n%v\nforeseen:\n%v", want, got)
		}
		if w, g := []int{late, waiting, stuck, joined, passed}, []int{s.Late, s.Waiting, s.Stuck, s.Joined, s.Passed}; !slices.Equal(w, g) {
			rt.Fatalf("late, waiting, stuck, joined, passed over: %v, and %v was told", w, g)
		}
	})
}

func count(is bool) int {
	if is {
		return 1
	}
	return 0
}

func said(entry int, due time.Time, over, joins bool, begins time.Time, late bool) string {
	at := "not in sight"
	switch {
	case over:
		at = "passed over"
	case !begins.IsZero():
		at = begins.UTC().Format("2 15:04")
	}
	if joins {
		at += " joined"
	}
	return fmt.Sprintf("%d due %s begins %s late %t", entry, due.UTC().Format("2 15:04"), at, late)
}

// Why a run waits is said in words.
func TestWhatARunWaitsFor(t *testing.T) {
	at := func(text string, w forecast.Work) forecast.Entry {
		e := entry(t, rule.Options{}, text, time.Hour)
		e.Work = w
		return e
	}
	s := forecast.Look([]forecast.Entry{
		at("every day at 06:00", forecast.Work{Labels: []string{"source:fleet"}}),
		at("every day at 06:10", forecast.Work{Labels: []string{"source:fleet"}}),
		at("every day at 06:20 and 06:30", forecast.Work{Job: 3, Overlap: forecast.Waits}),
		at("every day at 06:40", forecast.Work{}),
		at("every day at 12:00", forecast.Work{Labels: []string{"tag:night"}}),
		at("every day at 13:00", forecast.Work{Held: "waits for event example.tarnwick.ledger.closed"}),
	}, forecast.Room{AtOnce: 2, Limits: map[string]int{"source:fleet": 1}, Frozen: []forecast.Frozen{
		{Label: "tag:night", From: monday.Add(8 * time.Hour), Says: "tag night is frozen, by Sefa Orlin"},
	}}, monday, monday.AddDate(0, 0, 1), 10)
	var got []string
	for _, r := range s.Rings {
		begins := "-"
		if !r.Begins.IsZero() {
			begins = r.Begins.Format("15:04")
		}
		got = append(got, r.Due.Format("15:04 ")+begins+" "+r.Waits)
	}
	assert.Equal(t, []string{
		"06:00 06:00 ", "06:10 07:00 no more than 1 of source:fleet work at once", "06:20 06:20 ",
		"06:30 07:20 " + forecast.StillWorks, "06:40 08:00 2 runs work at once, and others come first",
		"12:00 - tag night is frozen, by Sefa Orlin", "13:00 - waits for event example.tarnwick.ledger.closed",
	}, got)
	assert.Equal(t, []int{4, 1}, []int{s.Waiting, s.Stuck})
}

// pairsOf pairs the entries of two plans in their order.
func pairsOf(before, after forecast.Plan) (pairs []forecast.Pair) {
	for i := range max(len(before.Entries), len(after.Entries)) {
		p := forecast.Pair{Was: i, Will: i}
		if i >= len(before.Entries) {
			p.Was = -1
		}
		if i >= len(after.Entries) {
			p.Will = -1
		}
		pairs = append(pairs, p)
	}
	return pairs
}

// The difference is what comes of comparing two forecasts ring by ring.
func TestADifferenceIsThatOfTwoForecasts(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		before, after := plan(rt, "before"), plan(rt, "after")
		pairs := pairsOf(before, after)
		to := monday.Add(time.Duration(rapid.IntRange(60, 400).Draw(rt, "minutes")) * time.Minute)
		d := forecast.Compare(before, after, pairs, monday, to, 10_000)
		was, will := forecast.Look(before.Entries, before.Room, monday, to, 10_000),
			forecast.Look(after.Entries, after.Room, monday, to, 10_000)
		if d.Before.Total != was.Total || d.After.Total != will.Total || d.After.Late != will.Late || !d.To.Equal(to) {
			rt.Fatalf("%+v", d)
		}
		// Each ring that rings before is gone, moved, or still there; each that rings after is
		// new, moved, or was there.
		if was.Total-d.Counts.Gone != will.Total-d.Counts.New {
			rt.Fatalf("%d rang and %d will: %+v", was.Total, will.Total, d.Counts)
		}
		if was.Late-will.Late > 0 && d.Counts.OnTime+d.Counts.Gone == 0 || was.Late-will.Late < 0 && d.Counts.Late == 0 {
			rt.Fatalf("%d were late and %d will be: %+v", was.Late, will.Late, d.Counts)
		}
		var sum forecast.Counts
		for _, c := range d.Each {
			sum.Add(c)
		}
		if sum != d.Counts {
			rt.Fatalf("%+v is not %+v", sum, d.Counts)
		}
		// Applied to the rings that there were, the changes give those that there will be.
		rings := map[string]bool{}
		key := func(r *forecast.Ring) string {
			if r.Joins { // when the run begins that it joins is told of that run
				return said(r.Entry, r.Due, false, true, time.Time{}, false)
			}
			return said(r.Entry, r.Due, r.Passed, false, r.Begins, r.Late)
		}
		for i := range was.Rings {
			if !was.Rings[i].Passed {
				rings[key(&was.Rings[i])] = true
			}
		}
		for _, c := range d.Changes {
			if c.Was != nil && !c.Was.Passed {
				if !rings[key(c.Was)] {
					rt.Fatalf("%s: there was no ring %s", c.What, key(c.Was))
				}
				delete(rings, key(c.Was))
			}
			if c.Will != nil && !c.Will.Passed {
				rings[key(c.Will)] = true
			}
		}
		for i := range will.Rings {
			if r := &will.Rings[i]; !r.Passed {
				if !rings[key(r)] {
					rt.Fatalf("nothing is said of the ring %s", key(r))
				}
				delete(rings, key(r))
			}
		}
		if len(rings) > 0 {
			rt.Fatalf("these would be left: %v", rings)
		}
		if same := forecast.Compare(before, before, pairsOf(before, before), monday, to, 10); same.Counts.Any() || len(same.Changes)+len(same.Clashes) > 0 {
			rt.Fatalf("nothing changes: %+v", same)
		}
	})
}

// A day that closes moves rings and ends some, a rule that changes moves those of its days, and
// each says why.
func TestWhatBecomesOfRings(t *testing.T) {
	c := harbour(t)
	days := func(text string, e forecast.Entry) forecast.Plan {
		e.Rule = entry(t, rule.Options{Calendar: c}, text, 0).Rule
		return forecast.Plan{Entries: []forecast.Entry{e}}
	}
	tell := func(before, after forecast.Plan) (got []string) {
		for _, ch := range forecast.Compare(before, after, pairsOf(before, after), monday, monday.AddDate(0, 0, 10), 10).Changes {
			line := string(ch.What)
			for _, r := range []*forecast.Ring{ch.Was, ch.Will} {
				if r == nil {
					line += ", none"
					continue
				}
				line += r.Due.Format(", 2 15:04")
				if r.Passed {
					line += " passed over: " + r.Over
				}
			}
			got = append(got, line)
		}
		return got
	}
	assert.Equal(t, []string{"gone, 1 06:00, 1 06:00 passed over: 1 December is closed in calendar Harbour (slipway)"},
		tell(days("on weekdays at 06:00", forecast.Entry{}), days("on weekdays at 06:00 skip closed days", forecast.Entry{})))
	assert.Equal(t, []string{"moved, 1 07:00, 2 07:00"},
		tell(days("on tue at 07:00", forecast.Entry{}), days("on tue at 07:00 after closed days", forecast.Entry{}))[:1])
	assert.Equal(t, []string{"moved, 24 07:00, 24 08:30", "moved, 1 07:00, 1 08:30"},
		tell(days("on tue at 07:00", forecast.Entry{}), days("on tue at 08:30", forecast.Entry{})))
	assert.Equal(t, []string{"gone, 24 07:00, none", "new, none, 25 07:00", "gone, 1 07:00, none", "new, none, 2 07:00"},
		tell(days("on tue at 07:00", forecast.Entry{}), days("on wed at 07:00", forecast.Entry{})))
	over := forecast.Entry{Over: func(due time.Time) string {
		if due.Day() == 24 {
			return "everything is frozen, by Sefa Orlin"
		}
		return ""
	}}
	assert.Equal(t, []string{"gone, 24 07:00, 24 07:00 passed over: everything is frozen, by Sefa Orlin"},
		tell(days("on tue at 07:00", forecast.Entry{}), days("on tue at 07:00", over)))
}

// Clashes that begin, end, or become worse are told apart.
func TestWhatBecomesOfClashes(t *testing.T) {
	day := func(times ...string) forecast.Plan {
		p := forecast.Plan{Room: forecast.Room{AtOnce: 1}}
		for _, at := range times {
			p.Entries = append(p.Entries, entry(t, rule.Options{}, "every day at "+at, 10*time.Minute))
		}
		return p
	}
	was, will := day("06:00", "06:05", "08:00", "08:05", "10:00", "13:00"),
		day("06:00", "06:05", "06:07", "08:05", "10:00", "10:05")
	d := forecast.Compare(was, will, pairsOf(was, will), monday, monday.AddDate(0, 0, 1), 10)
	require.Len(t, d.Clashes, 3)
	var got []string
	for _, c := range d.Clashes {
		got = append(got, fmt.Sprintf("%s to %s: %d, was %d, ends %t", c.From.UTC().Format("15:04"), c.To.UTC().Format("15:04"), c.Most, c.Was, c.Ends))
	}
	assert.Equal(t, []string{
		"06:05 to 06:15: 3, was 2, ends false", "08:05 to 08:10: 2, was 2, ends true", "10:05 to 10:10: 2, was 0, ends false",
	}, got)
}

// 5,000 jobs that ring every two hours, over 92 days or as far as a comparison looks.
func BenchmarkCompare(b *testing.B) {
	p := forecast.Plan{Room: forecast.Room{AtOnce: 60, Limits: map[string]int{"source:fleet": 40}}}
	for i := range 5_000 {
		e := entry(b, rule.Options{}, fmt.Sprintf("%d */2 * * *", i%60), time.Duration(i%90)*time.Second)
		e.Work = forecast.Work{Job: i, Overlap: forecast.Waits, Labels: []string{"source:fleet"}}
		p.Entries = append(p.Entries, e)
	}
	after := p
	after.Entries = slices.Clone(p.Entries)
	after.Entries[0].Rule = entry(b, rule.Options{}, "every day at 06:00", 0).Rule
	b.ReportAllocs()
	for b.Loop() {
		d := forecast.Compare(p, after, pairsOf(p, after), monday, monday.AddDate(0, 0, 92), 200)
		b.ReportMetric(float64(d.Before.Total), "rings")
	}
}
