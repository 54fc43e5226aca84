package forecast

import (
	"cmp"
	"slices"
	"time"
)

// Plan is what a forecast is made of.
type Plan struct {
	Entries []Entry
	Room    Room
}

// Pair says which entry of a plan is which of the other; none is -1.
type Pair struct{ Was, Will int }

// What becomes of a ring by a change.
type What string

// Ways in which a change tells on a ring. A run that begins at another time, or becomes late,
// by less than a minute is the same.
const (
	Gone   What = "gone"   // it rings no more
	New    What = "new"    // it did not ring before
	Moved  What = "moved"  // it rings at another time
	Later  What = "later"  // it rings when it did, and its run begins later
	Sooner What = "sooner" // the same, and its run begins sooner
	Joined What = "joined" // it joins a run that had not begun, and has none of its own
	Apart  What = "apart"  // it has a run of its own, and had joined one
	Late   What = "late"   // nothing but that its run misses its deadline
	OnTime What = "on time"
)

// Change is what becomes of one ring.
type Change struct {
	What      What
	Pair      int   // its entries
	Was, Will *Ring // nil when there was or will be none; Passed, with why, when it is passed over
	Late      bool  // it misses its deadline, and did not, or did not ring
	OnTime    bool  // it keeps its deadline, and did not
}

// Counts are numbers of changes. A ring that is new, moved or begins at another time may also
// be one of those that become late, or keep their deadline again.
type Counts struct{ Gone, New, Moved, Later, Sooner, Joined, Apart, Late, OnTime int }

// Any tells whether something changes.
func (c Counts) Any() bool { return c != Counts{} }

// Add adds other counts.
func (c *Counts) Add(o Counts) {
	c.Gone, c.New, c.Moved, c.Later = c.Gone+o.Gone, c.New+o.New, c.Moved+o.Moved, c.Later+o.Later
	c.Sooner, c.Joined, c.Apart = c.Sooner+o.Sooner, c.Joined+o.Joined, c.Apart+o.Apart
	c.Late, c.OnTime = c.Late+o.Late, c.OnTime+o.OnTime
}

func (c *Counts) count(one change) {
	switch one.what {
	case Gone:
		c.Gone++
	case New:
		c.New++
	case Moved:
		c.Moved++
	case Later:
		c.Later++
	case Sooner:
		c.Sooner++
	case Joined:
		c.Joined++
	case Apart:
		c.Apart++
	case Late, OnTime:
	}
	if one.becomesLate() {
		c.Late++
	}
	if one.becomesTimely() {
		c.OnTime++
	}
}

// ClashChange is a clash that a change makes, ends, or makes worse or milder.
type ClashChange struct {
	Clash     // as it will be; as it was when it ends
	Was   int // most at work at once before; 0 when there was no clash
	Ends  bool
}

// Difference is what a change does to a forecast.
type Difference struct {
	To            time.Time // how far was looked; sooner than asked when there are very many rings
	Before, After Summary   // without rings
	Counts        Counts
	Each          []Counts // by pair
	Firsts        []Change // of each pair with changes, the first; in the order of pairs
	Changes       []Change // the first of them, as many as were asked for, by their time
	Clashes       []ClashChange
}

// Bounds of a comparison: rings of one side, and clashes of one side.
const (
	maxCompared        = 200_000
	maxComparedClashes = 20_000
)

// Compare tells what becomes of the rings in (from, to] when before becomes after. Each entry of
// both is in one pair. Rings of a pair are
// the same when they have the same date; when the rule changed, the first, second, ... other
// ring of a day is the one that was the first, second, ... of it.
func Compare(before, after Plan, pairs []Pair, from, to time.Time, limit int) Difference {
	d := Difference{To: to, Each: make([]Counts, len(pairs)), Changes: []Change{}, Clashes: []ClashChange{}}
	var was, will sided
	d.Before = was.look(before, from, &d.To)
	until := d.To
	d.After = will.look(after, from, &d.To)
	if d.To.Before(until) {
		d.Before = was.look(before, from, &d.To)
	}
	d.clashes()
	tell := func(c change) Change {
		return Change{
			What: c.what, Pair: c.pair, Was: was.ring(c.was), Will: will.ring(c.will),
			Late: c.becomesLate(), OnTime: c.becomesTimely(),
		}
	}
	inTime := func(a, b change) int { return cmp.Compare(a.at(), b.at()) }
	var all []change
	for i, p := range pairs {
		place := time.UTC
		if p.Was >= 0 {
			place = before.Entries[p.Was].Rule.Location()
		}
		each := changes(was.of(p.Was), will.of(p.Will), place)
		for k := range each {
			each[k].pair = i
			d.Each[i].count(each[k])
		}
		d.Counts.Add(d.Each[i])
		if len(each) > 0 {
			d.Firsts = append(d.Firsts, tell(slices.MinFunc(each, inTime)))
		}
		all = append(all, each...)
	}
	slices.SortStableFunc(all, inTime)
	for _, c := range all[:min(limit, len(all))] {
		d.Changes = append(d.Changes, tell(c))
	}
	return d
}

// told is a ring of a side.
type told struct {
	entry        int32
	due, nominal int64
	passed       bool
	fate
}

func (t *told) rings() bool { return t != nil && !t.passed && !t.over }

// sided are the rings of one side, those of an entry together.
type sided struct {
	plan  Plan
	floor *floor
	all   []told
	first []int // of each entry in all
}

// look foresees a side until an instant, or until there are too many rings, and says so.
func (s *sided) look(p Plan, from time.Time, to *time.Time) Summary {
	*s = sided{plan: p, all: make([]told, 0, 1024)}
	sum, fl, until := look(p.Entries, p.Room, from, *to, 0, maxComparedClashes, &s.all)
	s.floor, *to = fl, until
	// Those of an entry together, in the order of their times.
	s.first = make([]int, len(p.Entries)+1)
	for i := range s.all {
		s.first[s.all[i].entry+1]++
	}
	for i := range p.Entries {
		s.first[i+1] += s.first[i]
	}
	next, sorted := slices.Clone(s.first), make([]told, len(s.all))
	for _, t := range s.all {
		sorted[next[t.entry]] = t
		next[t.entry]++
	}
	s.all = sorted
	return sum
}

func (s *sided) of(entry int) []told {
	if entry < 0 {
		return nil
	}
	return s.all[s.first[entry]:s.first[entry+1]]
}

// ring is a ring as it is told of, with why it is passed over.
func (s *sided) ring(t *told) *Ring {
	if t == nil {
		return nil
	}
	e := &s.plan.Entries[t.entry]
	r := Ring{Entry: int(t.entry)}
	r.Ring, _ = e.Rule.Step(time.Unix(t.due-1, 0))
	switch {
	case t.over:
		r.Over = StillWorks
	case !t.passed:
		r.Fate = s.floor.says(t.entry, t.fate)
	case r.Passed:
		r.Over = e.Rule.Reason(r.Ring)
	default:
		r.Over = e.Over(r.Due)
	}
	r.Passed = !t.rings()
	return &r
}

// change is what becomes of a ring of an entry.
type change struct {
	what      What
	was, will *told
	pair      int
}

func (c change) at() int64 {
	switch {
	case !c.was.rings():
		return c.will.due
	case !c.will.rings():
		return c.was.due
	}
	return min(c.was.due, c.will.due)
}

func (c change) becomesLate() bool {
	return c.will.rings() && c.will.late && (!c.was.rings() || !c.was.late)
}

func (c change) becomesTimely() bool {
	return c.was.rings() && c.was.late && c.will.rings() && !c.will.late
}

// changes compares the rings of one entry.
func changes(was, will []told, place *time.Location) []change {
	var out []change
	dates := make(map[int64]*told, len(will))
	for i := range will {
		dates[will[i].nominal] = &will[i]
	}
	var lost, found []*told
	for i := range was {
		a := &was[i]
		b, ok := dates[a.nominal]
		delete(dates, a.nominal)
		switch {
		case !ok && a.rings():
			lost = append(lost, a)
		case ok && a.rings() && b.rings():
			if what := differs(a, b); what != "" {
				out = append(out, change{what: what, was: a, will: b})
			}
		case ok && a.rings():
			out = append(out, change{what: Gone, was: a, will: b})
		case ok && b.rings():
			out = append(out, change{what: New, was: a, will: b})
		}
	}
	for i := range will {
		if b := &will[i]; dates[b.nominal] == b && b.rings() {
			found = append(found, b)
		}
	}
	return append(out, byDay(lost, found, place)...)
}

// byDay pairs the rings of each day that have no partner of their date.
func byDay(lost, found []*told, place *time.Location) []change {
	var out []change
	day := func(t *told) string { return time.Unix(t.nominal, 0).In(place).Format(time.DateOnly) }
	nominal := func(a, b *told) int { return cmp.Compare(a.nominal, b.nominal) }
	slices.SortFunc(lost, nominal)
	slices.SortFunc(found, nominal)
	at := map[string][]*told{}
	for _, b := range found {
		at[day(b)] = append(at[day(b)], b)
	}
	paired := map[*told]bool{}
	for _, a := range lost {
		one := change{what: Gone, was: a}
		if rest := at[day(a)]; len(rest) > 0 {
			one = change{what: Moved, was: a, will: rest[0]}
			if a.due == rest[0].due {
				one.what = differs(a, rest[0])
			}
			paired[rest[0]] = true
			at[day(a)] = rest[1:]
		}
		if one.what != "" {
			out = append(out, one)
		}
	}
	for _, b := range found {
		if !paired[b] {
			out = append(out, change{what: New, will: b})
		}
	}
	return out
}

// differs tells what becomes of a ring that rings on both sides; nothing when it is the same.
func differs(a, b *told) What {
	switch {
	case a.due != b.due:
		return Moved
	case a.held || b.held || a.joins && b.joins:
		return ""
	case b.joins:
		return Joined
	case a.joins:
		return Apart
	case b.begins-a.begins >= noticed:
		return Later
	case a.begins-b.begins >= noticed:
		return Sooner
	case b.late && !a.late:
		return Late
	case a.late && !b.late:
		return OnTime
	}
	return ""
}

// clashes compares the clashes of the two sides, which lie in order and never over each other.
func (d *Difference) clashes() {
	was, will := d.Before.Clashes, d.After.Clashes
	most := func(of Clash, among []Clash) int {
		n := 0
		at, _ := slices.BinarySearchFunc(among, of.From, func(c Clash, from time.Time) int {
			return cmp.Or(c.To.Compare(from), -1) // the first that ends after it
		})
		for _, c := range among[at:] {
			if !c.From.Before(of.To) {
				break
			}
			n = max(n, c.Most)
		}
		return n
	}
	for _, c := range will {
		if n := most(c, was); n != c.Most {
			d.Clashes = append(d.Clashes, ClashChange{Clash: c, Was: n})
		}
	}
	for _, c := range was {
		if most(c, will) == 0 {
			d.Clashes = append(d.Clashes, ClashChange{Clash: c, Was: c.Most, Ends: true})
		}
	}
	slices.SortStableFunc(d.Clashes, func(a, b ClashChange) int { return a.From.Compare(b.From) })
}
