package forecast

import (
	"cmp"
	"container/heap"
	"fmt"
	"math"
	"slices"
	"time"
)

// Work says how the runs of an entry come to work.
type Work struct {
	Job      int           // runs of one job wait for each other; entries of one job have its number
	Values   string        // that its runs are given; those of one job may join each other when these are equal
	Overlap  Overlap       // what becomes of a ring while the run before it works
	Each     bool          // each ring makes a run, also while one waits that it could join
	Labels   []string      // what is limited or frozen of what they use
	Delay    time.Duration // between the ring and the time from which it may begin
	Sooner   time.Duration // how much sooner than its time its turn is
	Deadline func(due time.Time) time.Time
	Held     string // what its runs wait for first, so that nobody foresees when they begin
}

// Overlap is what becomes of a ring while the last run of its job still works.
type Overlap int

// Ways with a ring whose job still works.
const (
	Together Overlap = iota // it works beside it
	Waits
	PassesOver
)

// Room is how much may work at once, and what stands still.
type Room struct {
	AtOnce int            // runs that work at the same time, in all; any number when 0
	Limits map[string]int // by label
	Frozen []Frozen
}

// Frozen is a time in which nothing begins that carries a label.
type Frozen struct {
	Label    string
	From, To time.Time // without an end when To is zero
	Says     string
}

// Fate is what is foreseen for the run of a ring, when runs take as long as they usually do
// and those before the forecast have ended. It is empty for what is passed over.
type Fate struct {
	Begins time.Time // zero when it is not in sight
	Waits  string    // why it begins later than it might; empty when it does not
	Late   bool      // it ends after its deadline
	Joins  bool      // it makes no run of its own: it joins one that had not begun, which this is the fate of
}

// fate is a Fate in few bytes; a forecast has many.
type fate struct {
	begins int64 // math.MaxInt64 when it is not in sight
	after  int64 // the time from which it might have begun
	why    cause
	late   bool
	over   bool // passed over, since the run before it works
	joins  bool
	held   bool
}

// cause is what a run waits for first.
type cause struct {
	kind causeKind
	at   int32 // in the labels, or in what is frozen
}

type causeKind uint8

const (
	noCause causeKind = iota
	lastRun
	frozenLabel
	fullLabel
	fullService
)

const never = math.MaxInt64

// floor foresees when runs begin: it is told of the rings in their order and tells the fate of
// each run once, not in that order. Runs that wait are kept by what they need, so that each
// step looks at the first of each kind only.
type floor struct {
	entries []Entry
	room    Room
	told    func(n int, f fate)

	labels []string
	left   []int   // room of each label
	frozen []int32 // how many freezes hold each label
	kinds  []kind  // of runs, by their labels
	kindOf []int32 // of each entry
	jobs   map[int]*open
	alike  []alike // runs of one job with equal values
	likeOf []int32 // of each entry

	edges   []edge // beginnings and ends of freezes, the next one first
	ends    ends   // of runs at work
	delayed heapOf[*standing]
	working int
	waiting int         // in the kinds
	now     int64       // the instant of the last ring
	fresh   []*standing // that came to wait and have not been looked at yet
	spare   []*standing // that have begun, to be used again
}

// kind are the runs that need the same labels.
type kind struct {
	labels []int32
	queue  heapOf[*standing]
}

// open are the runs of one job that have not ended.
type open struct {
	busy  bool // one works or may work
	count int
	queue []*standing
}

// alike are the runs of one job that are given equal values.
type alike struct {
	rang    int64     // when the last of them rang
	rung    *standing // that one
	waiting *standing // one that has not begun
}

// standing is a run that has not begun.
type standing struct {
	key   int64 // when its turn is; for a delayed one when it may begin
	n     int   // of its ring
	entry int32
	due   int64
	after int64
	why   cause
	begun bool
	joins []int // rings that have joined it
}

type edge struct {
	at    int64
	label int32
	step  int32
}

type heapOf[T interface{ before(T) bool }] []T

func (h heapOf[T]) Len() int           { return len(h) }
func (h heapOf[T]) Less(i, j int) bool { return h[i].before(h[j]) }
func (h heapOf[T]) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *heapOf[T]) Push(x any)        { *h = append(*h, x.(T)) } //nolint:forcetypeassert // nothing else is pushed
func (h *heapOf[T]) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

func (s *standing) before(o *standing) bool {
	return s.key < o.key || s.key == o.key && s.n < o.n
}

func newFloor(entries []Entry, room Room, told func(n int, f fate)) *floor {
	fl := &floor{entries: entries, room: room, told: told, jobs: map[int]*open{}, kindOf: make([]int32, len(entries))}
	number := map[string]int32{}
	add := func(label string, room int) int32 {
		at, ok := number[label]
		if !ok {
			at = int32(len(fl.labels)) //nolint:gosec // there are few labels
			number[label] = at
			fl.labels, fl.left, fl.frozen = append(fl.labels, label), append(fl.left, room), append(fl.frozen, 0)
		}
		return at
	}
	for label, n := range room.Limits {
		add(label, n)
	}
	for _, f := range room.Frozen {
		if !f.To.IsZero() && !f.To.After(f.From) {
			continue // it was lifted before it began
		}
		at := add(f.Label, math.MaxInt)
		fl.edges = append(fl.edges, edge{f.From.Unix(), at, 1})
		if !f.To.IsZero() {
			fl.edges = append(fl.edges, edge{f.To.Unix(), at, -1})
		}
	}
	slices.SortFunc(fl.edges, func(a, b edge) int { return cmp.Compare(a.at, b.at) })
	fl.kinds = []kind{{}} // the first is of runs that need no label
	fl.likeOf = make([]int32, len(entries))
	type likeness struct {
		job    int
		values string
	}
	like := make(map[likeness]int32, len(entries))
	for i := range entries {
		key := likeness{entries[i].Work.Job, entries[i].Work.Values}
		at, ok := like[key]
		if !ok {
			at = int32(len(fl.alike)) //nolint:gosec // no more than entries
			like[key] = at
			fl.alike = append(fl.alike, alike{rang: math.MinInt64})
		}
		fl.likeOf[i] = at
	}
	known := map[string]int32{fmt.Sprint([]int32{}): 0}
	for i := range entries {
		if len(number) == 0 {
			break
		}
		var needs []int32
		for _, label := range entries[i].Work.Labels {
			if at, ok := number[label]; ok {
				needs = append(needs, at)
			}
		}
		slices.Sort(needs)
		needs = slices.Compact(needs)
		key := fmt.Sprint(needs)
		if _, ok := known[key]; !ok {
			known[key] = int32(len(fl.kinds)) //nolint:gosec // fewer than entries
			fl.kinds = append(fl.kinds, kind{labels: needs})
		}
		fl.kindOf[i] = known[key]
	}
	return fl
}

// ring tells of a ring that is not passed over. Rings come in the order of their times; those
// of one instant begin in the order of their turns.
func (fl *floor) ring(n int, entry int32, due int64) {
	if due != fl.now {
		fl.start(fl.now)
		fl.pass(due - 1)
		fl.now = due
		fl.happen(due)
	}
	w := &fl.entries[entry].Work
	if w.Held != "" {
		fl.told(n, fate{held: true})
		return
	}
	var o *open
	if w.Overlap != Together {
		o = fl.open(w.Job)
	}
	if w.Overlap == PassesOver && o.count > 0 {
		fl.told(n, fate{over: true})
		return
	}
	// A ring joins a run of its values that has not begun, and one that rang in the same instant.
	like := &fl.alike[fl.likeOf[entry]]
	switch {
	case w.Overlap == Waits && !w.Each && like.waiting != nil:
		like.waiting.joins = append(like.waiting.joins, n)
		return
	case like.rang == due:
		like.rung.joins = append(like.rung.joins, n)
		return
	}
	s := fl.standing()
	*s = standing{n: n, entry: entry, due: due, after: due + int64(w.Delay/time.Second), joins: s.joins[:0]}
	like.rang, like.rung = due, s
	if like.waiting == nil {
		like.waiting = s
	}
	if o != nil {
		o.count++
	}
	if s.after > due {
		s.key = s.after
		heap.Push(&fl.delayed, s)
		return
	}
	fl.comes(s)
}

func (fl *floor) open(job int) *open {
	o, ok := fl.jobs[job]
	if !ok {
		o = &open{}
		fl.jobs[job] = o
	}
	return o
}

func (fl *floor) standing() *standing {
	if n := len(fl.spare); n > 0 {
		s := fl.spare[n-1]
		fl.spare = fl.spare[:n-1]
		return s
	}
	return &standing{}
}

// comes lets a run wait for its turn that may begin now.
func (fl *floor) comes(s *standing) {
	w := &fl.entries[s.entry].Work
	s.key = s.after - int64(w.Sooner/time.Second)
	if w.Overlap != Together {
		o := fl.open(w.Job)
		if o.busy {
			s.why = cause{kind: lastRun}
			o.queue = append(o.queue, s)
			return
		}
		o.busy = true
	}
	fl.waits(s)
}

func (fl *floor) waits(s *standing) {
	heap.Push(&fl.kinds[fl.kindOf[s.entry]].queue, s)
	fl.waiting++
	if s.why.kind == noCause {
		fl.fresh = append(fl.fresh, s)
	}
}

// full tells what keeps runs of a kind from beginning, beside the room of the service.
func (fl *floor) full(k *kind, now int64) cause {
	for _, l := range k.labels {
		if fl.frozen[l] == 0 {
			continue
		}
		for i, f := range fl.room.Frozen {
			if f.Label == fl.labels[l] && f.From.Unix() <= now && (f.To.IsZero() || f.To.Unix() > now) {
				return cause{frozenLabel, int32(i)}
			}
		}
	}
	for _, l := range k.labels {
		if fl.left[l] <= 0 {
			return cause{fullLabel, l}
		}
	}
	return cause{}
}

// start begins what has room, in the order of turns, and notes what the rest waits for.
func (fl *floor) start(now int64) {
	for fl.waiting > 0 && (fl.room.AtOnce == 0 || fl.working < fl.room.AtOnce) {
		var next *kind
		for i := range fl.kinds {
			k := &fl.kinds[i]
			if len(k.queue) > 0 && (next == nil || k.queue[0].before(next.queue[0])) && fl.full(k, now).kind == noCause {
				next = k
			}
		}
		if next == nil {
			break
		}
		s := heap.Pop(&next.queue).(*standing) //nolint:forcetypeassert // nothing else is in it
		fl.waiting--
		fl.begin(next, s, now)
	}
	for _, s := range fl.fresh {
		if s.begun {
			fl.spare = append(fl.spare, s)
		} else {
			if s.why = fl.full(&fl.kinds[fl.kindOf[s.entry]], now); s.why.kind == noCause {
				s.why.kind = fullService
			}
		}
	}
	fl.fresh = fl.fresh[:0]
}

func (fl *floor) begin(k *kind, s *standing, now int64) {
	for _, l := range k.labels {
		fl.left[l]--
	}
	fl.working++
	s.begun = true
	e := &fl.entries[s.entry]
	end := now + seconds(e.Usual)
	fl.ends.add(end, s.entry)
	if like := &fl.alike[fl.likeOf[s.entry]]; like.waiting == s {
		like.waiting = nil
	}
	fl.tell(s, fate{begins: now, after: s.after, why: s.why, late: e.late(s.due, end)})
}

// tell tells the fate of a run, also to the rings that have joined it.
func (fl *floor) tell(s *standing, f fate) {
	fl.told(s.n, f)
	f.joins, f.late = true, false
	for _, n := range s.joins {
		fl.told(n, f)
	}
}

func seconds(usual time.Duration) int64 { return int64(max(usual, time.Second) / time.Second) }

// late tells whether a run that was due and ends at an instant misses its deadline.
func (e *Entry) late(due, end int64) bool {
	if e.Work.Deadline == nil {
		return false
	}
	by := e.Work.Deadline(time.Unix(due, 0).In(e.Rule.Location()))
	return !by.IsZero() && end > by.Unix()
}

// pass lets all happen that happens until an instant, and at it.
func (fl *floor) pass(to int64) {
	for {
		now := int64(never)
		if len(fl.ends) > 0 {
			now = fl.ends[0].at
		}
		if len(fl.edges) > 0 {
			now = min(now, fl.edges[0].at)
		}
		if len(fl.delayed) > 0 {
			now = min(now, fl.delayed[0].key)
		}
		if now > to || now == never {
			return
		}
		fl.happen(now)
		fl.start(now)
	}
}

// happen lets all happen that is due by an instant: freezes begin and end, runs end, and those
// that were delayed may begin.
func (fl *floor) happen(now int64) {
	for len(fl.edges) > 0 && fl.edges[0].at <= now {
		fl.frozen[fl.edges[0].label] += fl.edges[0].step
		fl.edges = fl.edges[1:]
	}
	for len(fl.ends) > 0 && fl.ends[0].at <= now {
		fl.end(fl.ends.take().entry)
	}
	for len(fl.delayed) > 0 && fl.delayed[0].key <= now {
		fl.comes(heap.Pop(&fl.delayed).(*standing)) //nolint:forcetypeassert // nothing else is in it
	}
}

// end gives back what a run took.
func (fl *floor) end(entry int32) {
	fl.working--
	for _, l := range fl.kinds[fl.kindOf[entry]].labels {
		fl.left[l]++
	}
	w := &fl.entries[entry].Work
	if w.Overlap == Together {
		return
	}
	o := fl.open(w.Job)
	o.count--
	o.busy = len(o.queue) > 0
	if o.busy {
		s := o.queue[0]
		o.queue = o.queue[1:]
		fl.waits(s)
	} else if o.count == 0 {
		delete(fl.jobs, w.Job)
	}
}

// close lets all end, and tells of the runs that do not begin as far as can be seen.
func (fl *floor) close() {
	fl.start(fl.now)
	fl.pass(never - 1)
	left := func(s *standing) {
		fl.tell(s, fate{
			begins: never, after: s.after, why: s.why, late: fl.entries[s.entry].late(s.due, never),
		})
	}
	for _, k := range fl.kinds {
		for _, s := range k.queue {
			left(s)
		}
	}
	for _, o := range fl.jobs {
		for _, s := range o.queue {
			left(s)
		}
	}
}

// noticed is by how many seconds a run must begin later for it to be told: how long runs take
// is known by what is usual.
const noticed = 60

// delays tells whether a run begins noticeably later than it might.
func (f fate) delays() bool { return !f.over && !f.joins && f.begins-f.after >= noticed }

// says is a fate for people.
func (fl *floor) says(entry int32, f fate) Fate {
	switch {
	case f.over:
		return Fate{}
	case f.held:
		return Fate{Waits: fl.entries[entry].Work.Held}
	}
	out := Fate{Late: f.late, Joins: f.joins}
	if f.begins != never {
		out.Begins = time.Unix(f.begins, 0).In(fl.entries[entry].Rule.Location())
	}
	if f.joins || f.delays() {
		out.Waits = fl.saysCause(f.why)
	}
	return out
}

// StillWorks is why a ring is passed over whose job still works.
const StillWorks = "the run before it still works"

func (fl *floor) saysCause(c cause) string {
	switch c.kind {
	case lastRun:
		return StillWorks
	case frozenLabel:
		return fl.room.Frozen[c.at].Says
	case fullLabel:
		label := fl.labels[c.at]
		return fmt.Sprintf("no more than %d of %s work at once", fl.room.Limits[label], label)
	case fullService, noCause:
	}
	return fmt.Sprintf("%d runs work at once, and others come first", fl.room.AtOnce)
}
