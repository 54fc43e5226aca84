// Package engine makes things happen: it is the only package that knows how
// records, reports, tasks, deliveries and alerts meet.
//
// A ring goes this way: clock finds triggers whose time has come and turns them
// into rings and runs; work claims the parts of runs; perform carries out the
// tasks of a part as its chain says; ledger writes what came of them, many parts
// in one transaction, and settles the runs that end with it: outcome, alerts,
// and what waits for that outcome (waits); send hands deliveries over; tell
// sends alerts; probe looks after destinations that rest; reap brings back what a dead node left and keeps house. Each is a
// loop with a goroutine of its own, shortened by notices and correct without
// them, by polling.
//
// Several engines may work on one database at once.
package engine

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/confined"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/notices"
	"ironbell/internal/outgoing"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/task"
	"ironbell/internal/timetable"
)

// Options of an engine. Zero fields have useful defaults.
type Options struct {
	Node    string           // name of this node; made of host and process when empty
	Workers int              // parts at work at once; 4
	Senders int              // lines to one destination at once; 4
	Lease   time.Duration    // how long a dead node keeps its work; 15s
	Poll    time.Duration    // how long to sleep without notices; 30s
	Stop    time.Duration    // how long what is under way may go on when the service stops; 30s
	Version string           // of the program, for the list of nodes
	Copy    string           // name of the clone of a whole machine that this is; none when empty
	Tell    time.Duration    // between two tries to tell an owner of an alert; 30s
	Probe   time.Duration    // from the rest of a destination to the first look at it; 5s
	URL     string           // address of the console, for links in mails
	Now     func() time.Time // the clock that rings are held against
	Log     *slog.Logger

	Signer   Signer                     // of links that act without a sign-in
	Browser  string                     // path of the browser that prints tagged PDFs; none when empty
	Programs string                     // folder of the programs that tasks may run; none when empty
	Walls    confined.Walls             // around them
	Guard    *outgoing.Guard            // for requests to the outside
	At       func(point string)         // told of each of CrashPoints that is reached; for fault tests
	Kinds    map[job.TaskKind]task.Kind // beside those there are; for fault tests and benchmarks
}

// Engine is one node's share of the work. Its methods may be called by several
// goroutines.
type Engine struct {
	o            Options
	store        *store.Store
	sources      *report.Sources
	reports      *task.Report
	destinations *deliver.Destinations
	post
	files    *artifact.Folder
	kinds    map[job.TaskKind]task.Kind
	times    timetable.Timetable
	zones    string // version of this node's zone data
	watchers notices.Watchers
	desk     desk
	entries  chan *entry  // for the ledger
	stale    atomic.Int64 // writes that were refused

	finishing atomic.Bool // it takes no more work, and finishes what it has
	swept     time.Time   // when old history was removed; of the goroutine of reap

	wakeClock, wakeWork, wakeSend, wakeTell, wakeDesk, wakeProbe, wakeTurns, wakeRenew chan struct{}

	asking *asking // of the goroutine of probe

	holdings *lease.Holdings // what this node works on

	mu    sync.Mutex // guards the plans
	plans map[store.Version]*plan
}

// Signer signs texts for links that act without a sign-in, and knows its
// signatures again.
type Signer interface {
	Sign(text string) string
	Signed(text, signature string) bool
}

// New makes an engine; Run starts it.
func New(s *store.Store, sources *report.Sources, destinations *deliver.Destinations, files *artifact.Folder, o Options) *Engine {
	if o.Node == "" {
		host, err := os.Hostname()
		if err != nil {
			host = "node"
		}
		// Two processes of one host, also one after another, are two nodes.
		o.Node = fmt.Sprintf("%s/%d/%s", host, os.Getpid(), strings.ToLower(rand.Text()[:4]))
	}
	set := func(v *int, n int) {
		if *v == 0 {
			*v = n
		}
	}
	set(&o.Workers, 4)
	set(&o.Senders, 4)
	if o.Stop == 0 {
		o.Stop = 30 * time.Second
	}
	if o.Lease == 0 {
		o.Lease = 15 * time.Second
	}
	if o.Poll == 0 {
		o.Poll = 30 * time.Second
	}
	if o.Tell == 0 {
		o.Tell = 30 * time.Second
	}
	if o.Probe == 0 {
		o.Probe = 5 * time.Second
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	if o.Guard == nil {
		o.Guard = outgoing.New(nil)
	}
	o.URL = strings.TrimRight(o.URL, "/")
	reports := &task.Report{Find: s.Report, Sources: sources, Files: files, Browser: o.Browser}
	signal := func() chan struct{} { return make(chan struct{}, 1) }
	e := &Engine{
		o: o, store: s, reports: reports, sources: sources, destinations: destinations, files: files,
		kinds: map[job.TaskKind]task.Kind{
			job.KindReport:  reports,
			job.KindCollect: &task.Collect{Sources: sources, Files: files},
			job.KindFetch:   &task.Fetch{Guard: o.Guard, Sources: sources, Files: files},
			job.KindQuery:   &task.Query{Sources: sources},
			job.KindProgram: &task.Program{Folder: o.Programs, Files: files, Walls: o.Walls},
			job.KindDeliver: &task.Deliver{Store: s, Destinations: destinations, Sources: sources, Files: files, URL: o.URL, Now: time.Now},
			job.KindCall:    &task.Call{Destinations: destinations, Now: time.Now},
			job.KindEmit:    &task.Emit{Now: o.Now},
		},
		zones: zone.Version(), entries: make(chan *entry, maxEntries), plans: map[store.Version]*plan{},
		wakeClock: signal(), wakeWork: signal(), wakeSend: signal(), wakeTell: signal(), wakeDesk: signal(), wakeProbe: signal(), wakeTurns: signal(), wakeRenew: signal(), post: newPost(), asking: newAsking(),
		holdings: lease.New(o.Lease),
	}
	maps.Copy(e.kinds, o.Kinds)
	return e
}

// Run works until ctx ends, then hands its work back and returns.
func (e *Engine) Run(ctx context.Context) {
	e.prepare(ctx)
	var last sync.WaitGroup // what the others write with to their end
	last.Go(func() { e.ledger(context.WithoutCancel(ctx)) })
	// While what is under way comes to its end, its leases are renewed and
	// cancellations are heard.
	living, ended := context.WithCancel(context.WithoutCancel(ctx))
	defer ended()
	var beside, all sync.WaitGroup
	for _, loop := range []func(context.Context){e.listen, e.renew} {
		beside.Go(func() { loop(living) })
	}
	for _, loop := range []func(context.Context){e.clock, e.work, e.deliverAll, e.probe, e.turns, e.tell, e.reap, e.minutely} {
		all.Go(func() { loop(ctx) })
	}
	all.Wait()
	close(e.entries)
	last.Wait()
	ended()
	beside.Wait()
}

// afterStop gives a context that goes on for a while when ctx, the word to stop, has
// ended: as long as what is under way may take to its end.
func (e *Engine) afterStop(ctx context.Context) (context.Context, context.CancelFunc) {
	living, end := context.WithCancel(context.WithoutCancel(ctx))
	forget := context.AfterFunc(ctx, func() {
		timer := time.AfterFunc(e.o.Stop, end)
		context.AfterFunc(living, func() { timer.Stop() })
	})
	return living, func() {
		forget()
		end()
	}
}

// Refused is how many writes of this node were refused because its lease had gone.
func (e *Engine) Refused() int64 { return e.stale.Load() }

// Help tells what each kind of task is for, in the order of their names.
func (e *Engine) Help() []task.Help {
	out := make([]task.Help, 0, len(e.kinds))
	for _, k := range e.kinds {
		out = append(out, k.Help())
	}
	slices.SortFunc(out, func(a, b task.Help) int { return strings.Compare(string(a.Kind), string(b.Kind)) })
	return out
}

// Node is the name of this node.
func (e *Engine) Node() string { return e.o.Node }

// Programs tells what keeps the programs of tasks apart from the service on one node.
type Programs struct {
	Node    string   `json:"node" doc:"the node that answers"`
	Allowed bool     `json:"allowed" doc:"it runs programs"`
	Walls   []string `json:"walls" doc:"which walls stand, in sentences"`
	Open    bool     `json:"open" doc:"a program could read the service's files"`
}

// Programs tells what keeps programs apart on this node.
func (e *Engine) Programs() Programs {
	p := Programs{Node: e.o.Node, Allowed: e.o.Programs != "", Walls: []string{}}
	if p.Allowed {
		sentences, closed := e.o.Walls.Standing()
		p.Walls, p.Open = sentences, !closed
	}
	return p
}

// Now is the instant by the clock that rings are held against.
func (e *Engine) Now() time.Time { return e.o.Now() }

// URL is the address by which people reach the console.
func (e *Engine) URL() string { return e.o.URL }

// Workers is how many parts this node works at once.
func (e *Engine) Workers() int { return e.o.Workers }

// wake shortens a loop's sleep.
func wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default: // it is awake already
	}
}

// sleep waits for a wake-up, for d, or for the end of ctx, and tells whether to go on.
func sleep(ctx context.Context, c <-chan struct{}, d time.Duration) bool {
	timer := time.NewTimer(max(d, 0))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-c:
	case <-timer.C:
	}
	return ctx.Err() == nil
}

// failed logs a fault of a loop. The loop rests for a moment and goes on: it is
// the database that is away, and it comes back.
func (e *Engine) failed(ctx context.Context, doing string, err error) {
	if ctx.Err() != nil || errors.Is(err, context.Canceled) {
		return
	}
	e.o.Log.Error("could not "+doing, "error", err)
	sleep(ctx, nil, time.Second)
}

// ending gives a context for what must still be written when ctx has ended.
func ending(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
}
