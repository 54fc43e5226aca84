// Package forecast tells the rings to come of many triggers: merged in order,
// with the load that they make and where they clash.
//
// Rings come out of a heap that holds the next one of each trigger, so memory
// grows with the triggers and not with the time that is looked at.
package forecast

import (
	"container/heap"
	"iter"
	"slices"
	"time"

	"ironbell/internal/core/rule"
)

// Entry is a trigger to look ahead for.
type Entry struct {
	Rule  rule.Rule
	Usual time.Duration // how long a run of its job usually takes; 0 when nobody knows

	// why something beside its rule passes a ring over; empty when nothing does, nil when nothing can
	Over func(due time.Time) string
	Work Work
}

// Ring is a ring to come of an entry, or one that is passed over.
type Ring struct {
	Entry int    // place in the entries
	Over  string // why something beside its rule passes it over
	rule.Ring
	Fate // in a summary
}

// Rings gives the rings in (from, to], earliest first; those of one instant in
// the order of their entries. Entries must not change meanwhile.
func Rings(entries []Entry, from, to time.Time) iter.Seq[Ring] {
	return func(yield func(Ring) bool) {
		m := merge{next: make([]rule.Ring, len(entries)), heap: make([]head, 0, len(entries))}
		limit := to.Unix()
		for i := range entries {
			if ring, ok := entries[i].Rule.Step(from); ok && ring.Due.Unix() <= limit {
				m.next[i] = ring
				m.heap = append(m.heap, head{ring.Due.Unix(), int32(i)})
			}
		}
		heap.Init(&m)
		for len(m.heap) > 0 {
			top := m.heap[0]
			ring := m.next[top.entry]
			told := Ring{Entry: int(top.entry), Ring: ring}
			if over := entries[top.entry].Over; over != nil && !ring.Passed {
				told.Over = over(ring.Due)
				told.Passed = told.Over != ""
			}
			if !yield(told) {
				return
			}
			following, ok := entries[top.entry].Rule.Step(ring.Due)
			if ok && following.Due.Unix() <= limit {
				m.next[top.entry] = following
				m.heap[0].due = following.Due.Unix()
				heap.Fix(&m, 0)
			} else {
				heap.Pop(&m)
			}
		}
	}
}

// head is the next ring of an entry, as the heap compares it.
type head struct {
	due   int64
	entry int32
}

type merge struct {
	next []rule.Ring
	heap []head
}

func (m *merge) Len() int { return len(m.heap) }
func (m *merge) Less(i, j int) bool {
	a, b := m.heap[i], m.heap[j]
	return a.due < b.due || a.due == b.due && a.entry < b.entry
}
func (m *merge) Swap(i, j int) { m.heap[i], m.heap[j] = m.heap[j], m.heap[i] }
func (m *merge) Push(any)      {} // nothing is ever pushed
func (m *merge) Pop() any {
	m.heap = m.heap[:len(m.heap)-1]
	return nil
}

// Bounds of a summary.
const (
	MaxSpan    = 400 * 24 * time.Hour
	maxClashes = 200
	maxNamed   = 20
)

// Load is what rings in an hour.
type Load struct {
	At      time.Time // beginning of the hour
	Rings   int
	Busiest time.Time // the minute with most rings
	Most    int       // rings in that minute
	Working int       // most runs at work at once, at their usual duration
}

// Minute is what rings in one minute.
type Minute struct {
	At    time.Time
	Rings int
}

// Clash is a stretch in which more runs are at work than the service works at
// once, at their usual durations.
type Clash struct {
	From, To time.Time
	Most     int   // at work at once
	Entries  []int // at work at the worst instant, at most 20
}

// Summary is a forecast.
type Summary struct {
	Rings   []Ring   // the first of them, as many as were asked for
	Total   int      // that ring
	Moved   int      // of these, how many a closed day moved
	Passed  int      // that do not ring
	Joined  int      // of those that ring, that join a run which had not begun
	Waiting int      // runs that begin later than they might
	Stuck   int      // of these, that do not begin as far as can be seen
	Late    int      // whose run ends after its deadline
	Hours   []Load   // hours in which something rings
	Minutes []Minute // the busiest minutes, at most 20, with at least two rings
	Clashes []Clash
}

// Look sums up the rings in (from, to]: the first limit of them with the fate of their runs,
// the load by hour, the busiest minutes, and where more runs are at work than the room has at
// once, if each began when it rings.
func Look(entries []Entry, room Room, from, to time.Time, limit int) Summary {
	s, _, _ := look(entries, room, from, to, limit, maxClashes, nil)
	return s
}

// look sums up, and keeps all rings when there is something to keep them in; then it ends where
// there are too many of them, and tells until when it looked.
func look(entries []Entry, room Room, from, to time.Time, limit, clashes int, all *[]told,
) (Summary, *floor, time.Time) {
	s := Summary{Rings: []Ring{}, Hours: []Load{}, Minutes: []Minute{}, Clashes: []Clash{}}
	w := working{capacity: room.AtOnce, entries: entries, most: clashes}
	t := tally{summary: &s}
	over := false
	var fl *floor
	fl = newFloor(entries, room, func(n int, f fate) {
		over = f.over
		if n < len(s.Rings) {
			s.Rings[n].Fate = fl.says(int32(s.Rings[n].Entry), f) //nolint:gosec // it was one
		}
		if all != nil {
			(*all)[n].fate = f
		}
		if f.over {
			return
		}
		s.Joined += one(f.joins)
		s.Waiting += one(f.delays())
		s.Stuck += one(f.begins == never && !f.joins)
		s.Late += one(f.late)
	})
	n := 0
	for r := range Rings(entries, from, to) {
		kept := len(s.Rings) < limit
		if kept {
			s.Rings = append(s.Rings, r)
		}
		if all != nil {
			if n >= maxCompared && r.Due.Unix() != (*all)[n-1].due {
				to = time.Unix((*all)[n-1].due, 0)
				break
			}
			*all = append(*all, told{
				entry: int32(r.Entry), due: r.Due.Unix(), nominal: r.Nominal.Unix(), passed: r.Passed, //nolint:gosec // see below
			})
		}
		if !r.Passed {
			over = false
			fl.ring(n, int32(r.Entry), r.Due.Unix()) //nolint:gosec // there are never so many entries
			if over {
				r.Over, r.Passed = StillWorks, true
			}
		}
		if kept && r.Passed {
			s.Rings[n].Over, s.Rings[n].Passed = r.Over, true
		}
		n++
		if r.Passed {
			s.Passed++
			continue
		}
		t.rings(r, &w)
	}
	t.close()
	fl.close()
	w.end(to.Unix() + int64(MaxSpan/time.Second))
	s.Clashes = append(s.Clashes, w.clashes...)
	slices.SortFunc(s.Minutes, func(a, b Minute) int { return b.Rings - a.Rings })
	return s, fl, to
}

func one(is bool) int {
	if is {
		return 1
	}
	return 0
}

// tally counts the rings of a summary by minute and by hour.
type tally struct {
	summary *Summary
	minute  Minute
}

func (t *tally) rings(r Ring, w *working) {
	s := t.summary
	s.Total++
	s.Moved += one(r.Moved())
	at := r.Due.Unix()
	if t.minute.Rings == 0 || at-at%60 != t.minute.At.Unix() {
		t.close()
		t.minute = Minute{At: time.Unix(at-at%60, 0)}
	}
	t.minute.Rings++
	if n := len(s.Hours); n == 0 || at-at%3600 != s.Hours[n-1].At.Unix() {
		s.Hours = append(s.Hours, Load{At: time.Unix(at-at%3600, 0)})
	}
	h := &s.Hours[len(s.Hours)-1]
	h.Rings++
	h.Working = max(h.Working, w.begin(at, r.Entry))
}

// close ends a minute.
func (t *tally) close() {
	if t.minute.Rings >= 2 {
		t.summary.busy(t.minute)
	}
	hours := t.summary.Hours
	if n := len(hours); n > 0 && t.minute.Rings > hours[n-1].Most {
		hours[n-1].Busiest, hours[n-1].Most = t.minute.At, t.minute.Rings
	}
}

// busy keeps the busiest minutes.
func (s *Summary) busy(m Minute) {
	if len(s.Minutes) < maxNamed {
		s.Minutes = append(s.Minutes, m)
		return
	}
	least := 0
	for i := range s.Minutes {
		if s.Minutes[i].Rings < s.Minutes[least].Rings {
			least = i
		}
	}
	if m.Rings > s.Minutes[least].Rings {
		s.Minutes[least] = m
	}
}

// working follows the runs that are at work.
type working struct {
	capacity int
	most     int // clashes that are told of
	entries  []Entry
	ends     ends // of runs at work, the earliest first
	clash    *Clash
	clashes  []Clash
}

type end struct {
	at    int64
	entry int32
}

type ends []end

// add keeps the end of one more run.
func (e *ends) add(at int64, entry int32) {
	*e = append(*e, end{at, entry})
	heap.Fix(e, len(*e)-1)
}

// take takes out the earliest end.
func (e *ends) take() end {
	first, last := (*e)[0], len(*e)-1
	(*e)[0] = (*e)[last]
	*e = (*e)[:last]
	if last > 0 {
		heap.Fix(e, 0)
	}
	return first
}

func (e ends) Len() int           { return len(e) }
func (e ends) Less(i, j int) bool { return e[i].at < e[j].at }
func (e ends) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *ends) Push(any)          {} // see add and take
func (e *ends) Pop() any          { return nil }

// begin adds a run and tells how many are at work.
func (w *working) begin(at int64, entry int) int {
	w.end(at)
	w.ends.add(at+seconds(w.entries[entry].Usual), int32(entry)) //nolint:gosec // there are never so many entries
	n := len(w.ends)
	if n > w.capacity && w.capacity > 0 && len(w.clashes) < w.most {
		if w.clash == nil {
			w.clash = &Clash{From: time.Unix(at, 0)}
		}
		if n > w.clash.Most {
			w.clash.Most = n
			w.clash.Entries = w.clash.Entries[:0]
			for _, e := range w.ends[:min(n, maxNamed)] {
				w.clash.Entries = append(w.clash.Entries, int(e.entry))
			}
		}
	}
	return n
}

// end takes out the runs that have ended by an instant.
func (w *working) end(at int64) {
	for len(w.ends) > 0 && w.ends[0].at <= at {
		last := w.ends.take().at
		if w.clash != nil && len(w.ends) <= w.capacity {
			w.clash.To = time.Unix(last, 0)
			slices.Sort(w.clash.Entries)
			w.clashes = append(w.clashes, *w.clash)
			w.clash = nil
		}
	}
}
