package service

import (
	"context"
	"fmt"
	"math"
	"strings"
	"sync"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/engine/waits"
	"ironbell/internal/store"
	"ironbell/internal/store/rings"

	"golang.org/x/time/rate"
)

// Raised tells what became of an event that was reported.
type Raised = waits.Raised

// TooFast says that somebody sends more than they may, and when to go on.
type TooFast struct {
	Sender string
	Pace   int // events a minute
	Wait   time.Duration
}

func (e *TooFast) Error() string {
	return fmt.Sprintf("%s may send %d events a minute; go on in %d s. Nothing of this was taken.", e.Sender, e.Pace,
		e.Seconds())
}

// Seconds is how long to wait, in whole seconds, at least one.
func (e *TooFast) Seconds() int { return max(1, int(math.Ceil(e.Wait.Seconds()))) }

// paces holds senders to how fast they may send, at this node.
type paces struct {
	mu  sync.Mutex
	all map[int64]*rate.Limiter // by sender; as many as there are senders
}

// take lets n events of a sender through, or says when they may come.
func (ps *paces) take(s job.Sender, n int, now time.Time) error {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	a := s.EveryMinute()
	every, burst := rate.Limit(float64(a)/60), a
	l := ps.all[s.ID]
	if l == nil {
		if ps.all == nil {
			ps.all = map[int64]*rate.Limiter{}
		}
		l = rate.NewLimiter(every, burst)
		ps.all[s.ID] = l
	}
	if l.Limit() != every {
		l.SetLimitAt(now, every)
		l.SetBurstAt(now, burst)
	}
	if n > burst {
		v := &fault.Invalid{What: "the batch"}
		v.Add("", "it has %d events, and %s may send %d a minute; send smaller ones", n, s.Name, a)
		return v.Err()
	}
	r := l.ReserveN(now, n)
	if wait := r.DelayFrom(now); wait > 0 {
		r.CancelAt(now)
		return &TooFast{Sender: s.Name, Pace: a, Wait: wait}
	}
	return nil
}

// Report records events that a person reported and starts the jobs that wait for them, before
// anybody is answered. An event of the same source and id starts nothing a second time. All are
// taken, or none. Whether they may be reported was asked before.
func (es *Events) Report(ctx context.Context, who job.Person, events []job.Event) ([]Raised, error) {
	return es.raise(ctx, events, rings.From{Person: &who.ID, Owner: who.ID, All: access.Administers(who)})
}

// Take records events that a sender reported, as Report does. The error is an *access.Denied for
// what it may not send, and a *TooFast when it sends too many. What is refused is noted at its sender.
func (es *Events) Take(ctx context.Context, from job.Sender, events []job.Event) ([]Raised, error) {
	for _, e := range events {
		if err := access.MaySend(from, e.Source, e.Type); err != nil {
			return nil, err
		}
	}
	if err := es.paces.take(from, len(events), es.now()); err != nil {
		return nil, err
	}
	return es.raise(ctx, events, rings.From{Sender: &from.ID, All: true})
}

func (es *Events) raise(ctx context.Context, events []job.Event, from rings.From) (out []Raised, err error) {
	is, err := es.installation.Is(ctx)
	if err != nil {
		return nil, err
	}
	for _, ev := range events {
		if is.Copy != nil || !is.Test.Leaves("event:"+ev.Type) {
			return nil, fault.New(fault.Task, "take the event", "this installation is a copy, and takes no events from outside",
				"Report it to the original, or name event:"+ev.Type+" for the copy.")
		}
	}
	if len(events) == 0 {
		return []Raised{}, nil
	}
	err = es.store.Do(ctx, func(t *store.Tx) error {
		out, err = es.waits.Raise(ctx, t, events, from)
		return err
	})
	return out, err
}

// ReadBy leaves out of events what somebody may not read: the data of an answer, which was read under a login
// of its source, is for administrators and for who owns a job that it started.
func (es *Events) ReadBy(ctx context.Context, who job.Person, all []rings.EventRow) error {
	if access.Administers(who) {
		return nil
	}
	for i := range all {
		if all[i].Type != job.EventAnswer || all[i].Watch == nil {
			continue
		}
		owns, err := es.store.OwnsOneOf(ctx, who.ID, all[i].Started())
		if err != nil {
			return err
		}
		if !owns {
			all[i].Event.Data, all[i].Data, all[i].Subject = nil, nil, ""
		}
	}
	return nil
}

// PlayAgain raises an event once more, as one that happened at its own time: what it started then it starts
// again. Whoever may ring all that waits for it may do so. Rings of the same press are one by the key.
func (es *Events) PlayAgain(ctx context.Context, who job.Person, row int64) (Raised, error) {
	was, err := es.store.Event(ctx, row)
	if err != nil {
		return Raised{}, err
	}
	owners, err := es.store.OwnersListening(ctx, was.Type, was.Watch)
	if err != nil {
		return Raised{}, err
	}
	if err := access.May(who, access.Ring, "report events", ""); err != nil {
		return Raised{}, err
	}
	for _, owner := range owners {
		what := "play an event again for which jobs of " + owner + " wait"
		if err := access.May(who, access.Ring, what, owner); err != nil {
			return Raised{}, err
		}
	}
	var out []Raised
	err = es.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, "played again"); err != nil {
			return err
		}
		n, err := t.PlayedBefore(ctx, row)
		if err != nil {
			return err
		}
		ev := was.Read()
		ev.Received = es.now()
		from := rings.From{Person: &who.ID, Played: &row, Watch: was.Watch, All: true, As: fmt.Sprintf("%s (played again, %d)", ev.ID, n+1)}
		if out, err = es.waits.Raise(ctx, t, []job.Event{ev}, from); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "play again", "event", ev.Type, nil,
			map[string]any{"id": ev.ID, "source": ev.Source, "started": len(out[0].Started)})
	})
	if err != nil {
		return Raised{}, err
	}
	return out[0], nil
}

// Refused keeps at its sender that it was refused: at once the first time, and then now and then.
func (es *Events) Refused(ctx context.Context, from job.Sender, why error) error {
	n := es.refusals.due(from.ID, es.now())
	if n == 0 {
		return nil
	}
	return es.store.Do(ctx, func(t *store.Tx) error {
		return t.RefusedSender(ctx, from.ID, n, strings.TrimSuffix(phrase.Upper(why.Error()), ".")+".")
	})
}

// refusedEvery is how often it is written at most that a sender was refused.
const refusedEvery = 10 * time.Second

// refusals counts how often senders were refused since it was last written.
type refusals struct {
	mu  sync.Mutex
	all map[int64]*refusal // as many as there are senders
}

type refusal struct {
	n    int
	told time.Time
}

// due counts a refusal and gives how many are to be written now; none when it was done lately.
func (rs *refusals) due(sender int64, now time.Time) int {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if rs.all == nil {
		rs.all = map[int64]*refusal{}
	}
	r := rs.all[sender]
	if r == nil {
		r = &refusal{}
		rs.all[sender] = r
	}
	r.n++
	if !r.told.IsZero() && now.Sub(r.told) < refusedEvery {
		return 0
	}
	n := r.n
	r.n, r.told = 0, now
	return n
}
