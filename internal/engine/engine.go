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
	"fmt"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/artifact"
	"ironbell/internal/confined"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
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

	Signer   access.Signer              // of links that act without a sign-in
	Browser  string                     // path of the browser that prints tagged PDFs; none when empty
	Programs string                     // folder of the programs that tasks may run; none when empty
	Walls    confined.Walls             // around them
	Guard    *outgoing.Guard            // for requests to the outside
	At       func(point string)         // told of each of the crash points that is reached; for fault tests
	Kinds    map[job.TaskKind]task.Kind // beside those there are; for fault tests and benchmarks
}

// Engine is one node's share of the work. Its methods may be called by several
// goroutines.
type Engine struct {
	o            Options
	node         *node.Node
	links        access.Links
	store        *store.Store
	sources      *report.Sources
	reports      *task.Report
	destinations *deliver.Destinations
	offers       chan offered
	receipts     chan receipt // for the ledger
	lines        lines
	files        *artifact.Folder
	kinds        map[job.TaskKind]task.Kind
	times        *timetable.Timetable
	zoneData     timetable.Zones
	zones        string // version of this node's zone data
	watchers     notices.Watchers
	desk         desk
	entries      chan *entry // for the ledger
	swept        time.Time   // when old history was removed; of the goroutine of reap

	asking *asking // of the goroutine of probe

	holdings *lease.Holdings // what this node works on

	mu    sync.Mutex // guards the plans
	plans map[store.Version]*plan
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
	n := node.New(o.Node)
	n.Lease, n.Poll, n.Stop, n.Now, n.Log, n.At, n.FirstProbe = o.Lease, o.Poll, o.Stop, o.Now, o.Log, o.At, o.Probe
	e := &Engine{
		o: o, node: n, store: s, reports: reports, sources: sources, destinations: destinations, files: files,
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
		entries: make(chan *entry, maxEntries), plans: map[store.Version]*plan{},
		offers: make(chan offered), receipts: make(chan receipt, maxReceipts), lines: newLines(), asking: newAsking(),
		times: &timetable.Timetable{}, holdings: lease.New(o.Lease), links: access.Links{URL: o.URL, Signer: o.Signer},
	}
	e.zoneData = timetable.Zones{Version: zone.Version(), Times: e.times, Store: s, Now: o.Now, Log: o.Log}
	maps.Copy(e.kinds, o.Kinds)
	return e
}

// Run works until ctx ends, then hands its work back and returns.
func (e *Engine) Run(ctx context.Context) {
	e.prepare(ctx)
	var last sync.WaitGroup // what the others write with to their end
	last.Go(func() { e.ledger(context.WithoutCancel(ctx)) })
	last.Go(func() { e.recordReceipts(context.WithoutCancel(ctx)) })
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
	close(e.receipts)
	last.Wait()
	ended()
	beside.Wait()
}

// Refused is how many writes of this node were refused because its lease had gone.
func (e *Engine) Refused() int64 { return e.node.Refused.Load() }

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
func (e *Engine) Node() string { return e.node.Name }

// Programs tells what keeps the programs of tasks apart from the service on one node.
type Programs struct {
	Node    string   `json:"node" doc:"the node that answers"`
	Allowed bool     `json:"allowed" doc:"it runs programs"`
	Walls   []string `json:"walls" doc:"which walls stand, in sentences"`
	Open    bool     `json:"open" doc:"a program could read the service's files"`
}

// Programs tells what keeps programs apart on this node.
func (e *Engine) Programs() Programs {
	p := Programs{Node: e.node.Name, Allowed: e.o.Programs != "", Walls: []string{}}
	if p.Allowed {
		sentences, closed := e.o.Walls.Standing()
		p.Walls, p.Open = sentences, !closed
	}
	return p
}

// Now is the instant by the clock that rings are held against.
func (e *Engine) Now() time.Time { return e.node.Now() }

// URL is the address by which people reach the console.
func (e *Engine) URL() string { return e.links.URL }

// Workers is how many parts this node works at once.
func (e *Engine) Workers() int { return e.o.Workers }

// prepare reads the calendars and reckons what new zone data has moved. It goes
// on until the database answers.
func (e *Engine) prepare(ctx context.Context) {
	for ctx.Err() == nil {
		err := e.times.Refresh(ctx, e.store)
		if err == nil {
			err = e.zoneData.Reckon(ctx)
		}
		if err == nil {
			return
		}
		e.node.Failed(ctx, "make ready", err)
	}
}
