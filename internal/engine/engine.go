// Package engine is what a node does by itself. It only puts its rooms together, each a package
// below it, listens for notices and wakes those whom they concern.
//
// A ring goes this way: the clock takes triggers whose time has come, and runs makes runs of them;
// the worker claims their parts and carries out the tasks as their chains say; outcome writes
// what came of them, many in one transaction, in which settle gives their runs a state, opens
// alerts, and lets waits start those who wait for it. The sender hands deliveries over when the
// gate lets them; what fails as a whole rests, and probe looks whether it works again; notify
// tells people; watcher sees files, answers and starts that jobs wait for; upkeep brings back what dead nodes left, and does what comes again and again.
// Each loop is shortened by notices and correct without them, by polling.
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
	"ironbell/internal/engine/clock"
	"ironbell/internal/engine/lease"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/notices"
	"ironbell/internal/engine/notify"
	"ironbell/internal/engine/outcome"
	"ironbell/internal/engine/probe"
	"ironbell/internal/engine/publisher"
	"ironbell/internal/engine/rests"
	"ironbell/internal/engine/runs"
	"ironbell/internal/engine/sender"
	"ironbell/internal/engine/settle"
	"ironbell/internal/engine/upkeep"
	"ironbell/internal/engine/waits"
	"ironbell/internal/engine/watcher"
	"ironbell/internal/engine/worker"
	"ironbell/internal/house"
	"ironbell/internal/installation"
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
	Rooms

	o        Options
	watchers notices.Watchers
	loops    []func(context.Context)
}

// Rooms are what an engine is put together of, for those who ask one of them: the service that
// people ask, and tests.
type Rooms struct {
	Node         *node.Node
	Links        access.Links
	Store        *store.Store
	Files        *artifact.Folder
	Sources      *report.Sources
	Destinations *deliver.Destinations
	Reports      *task.Report
	Kinds        map[job.TaskKind]task.Kind
	Times        *timetable.Timetable
	Zones        timetable.Zones
	Holdings     *lease.Holdings
	Installation *installation.Keeper
	Runs         *runs.Runs
	Waits        *waits.Waits
	Notify       *notify.Notifier
	Settle       *settle.Settler
	Outcome      *outcome.Outcome
	Rests        *rests.Rests
	Clock        *clock.Clock
	Worker       *worker.Worker
	Sender       *sender.Sender
	Probe        *probe.Prober
	Publisher    *publisher.Publisher
	Watcher      *watcher.Watcher
	Upkeep       *upkeep.Upkeep
}

// New makes an engine; Run starts it.
func New(s *store.Store, sources *report.Sources, destinations *deliver.Destinations, files *artifact.Folder,
	o Options,
) *Engine {
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
	n := node.New(o.Node)
	n.Lease, n.Poll, n.Stop, n.FirstProbe, n.Now, n.Log, n.At = o.Lease, o.Poll, o.Stop, o.Probe, o.Now, o.Log, o.At
	r := Rooms{
		Node: n, Links: access.Links{URL: o.URL, Signer: o.Signer}, Store: s, Files: files, Sources: sources,
		Destinations: destinations,
		Times:        &timetable.Timetable{}, Holdings: lease.New(o.Lease),
	}
	looks := house.NewShelf()
	r.Reports = &task.Report{
		Find: s.Report, Sources: sources, Files: files, Browser: o.Browser, Open: task.OpenTo(s),
		Looks: looks, Styles: s, Books: s,
	}
	r.Kinds = map[job.TaskKind]task.Kind{
		job.KindReport:  r.Reports,
		job.KindCollect: &task.Collect{Sources: sources, Destinations: destinations, Store: s, Files: files},
		job.KindFetch:   &task.Fetch{Guard: o.Guard, Sources: sources, Files: files},
		job.KindConvert: &task.Convert{Reports: r.Reports, Files: files},
		job.KindQuery:   &task.Query{Sources: sources},
		job.KindProgram: &task.Program{Folder: o.Programs, Files: files, Walls: o.Walls},
		job.KindDeliver: &task.Deliver{
			Store: s, Destinations: destinations, Sources: sources, Files: files, URL: o.URL, Now: o.Now,
			Looks: looks,
		},
		job.KindCall: &task.Call{Destinations: destinations, Now: o.Now},
		job.KindEmit: &task.Emit{Now: o.Now},
	}
	maps.Copy(r.Kinds, o.Kinds)
	r.Zones = timetable.Zones{Version: zone.Version(), Times: r.Times, Store: s, Now: o.Now, Log: o.Log}
	r.Installation = installation.New(s, files, o.Copy, o.Now, o.Log)

	// From below upwards: each room knows those above it in this list, and none after it.
	r.Runs = runs.New(n, s, r.Times)
	r.Waits = waits.New(n, s, r.Times, r.Runs)
	r.Notify = notify.New(n, s, r.Times, destinations, r.Links, o.Tell, looks)
	r.Settle = settle.New(r.Waits)
	r.Outcome = outcome.New(n, s, r.Holdings, r.Waits, r.Notify, r.Settle)
	r.Rests = rests.New(n, s, r.Holdings, sources, files, r.Settle)
	r.Clock = clock.New(n, s, r.Runs)
	r.Worker = worker.New(worker.Needs{
		Node: n, Store: s, Times: r.Times, Files: files, Sources: sources, Holdings: r.Holdings, Kinds: r.Kinds,
		Installation: r.Installation,
		Runs:         r.Runs, Settle: r.Settle, Outcome: r.Outcome, Rests: r.Rests, Workers: o.Workers,
	})
	r.Sender = sender.New(n, s, destinations, files, r.Holdings, r.Links, r.Outcome, r.Rests, o.Senders)
	r.Probe = probe.New(n, s, destinations, r.Outcome, r.Rests)
	r.Watcher = watcher.New(n, s, destinations, sources, r.Waits, r.Installation)
	r.Publisher = publisher.New(n, s, destinations, o.URL)
	r.Upkeep = upkeep.New(upkeep.Needs{
		Node: n, Store: s, Files: files, Destinations: destinations, Holdings: r.Holdings, Links: r.Links,
		Guard: o.Guard, Zones: r.Zones,
		Installation: r.Installation, Notify: r.Notify, Waits: r.Waits, Settle: r.Settle, Outcome: r.Outcome,
		Version: o.Version, Workers: o.Workers,
	})
	return &Engine{
		Rooms: r, o: o,
		loops: []func(context.Context){
			r.Clock.Run, r.Worker.Run, r.Sender.Run, r.Probe.Run, r.Notify.Run,
			r.Watcher.Run, r.Publisher.Run, r.Upkeep.Run,
		},
	}
}

// Run works until ctx ends, then hands its work back and returns.
func (e *Engine) Run(ctx context.Context) {
	e.prepare(ctx)
	var last sync.WaitGroup // what the others write with to their end
	last.Go(func() { e.Outcome.Run(context.WithoutCancel(ctx)) })
	// While what is under way comes to its end, its leases are renewed and
	// cancellations are heard.
	living, ended := context.WithCancel(context.WithoutCancel(ctx))
	defer ended()
	var beside, all sync.WaitGroup
	for _, loop := range []func(context.Context){e.listen, e.Upkeep.Renew} {
		beside.Go(func() { loop(living) })
	}
	for _, loop := range e.loops {
		all.Go(func() { loop(ctx) })
	}
	all.Wait()
	e.Outcome.Close()
	last.Wait()
	ended()
	beside.Wait()
}

// Refused is how many writes of this node were refused because its lease had gone.
func (e *Engine) Refused() int64 { return e.Node.Refused.Load() }

// Help tells what each kind of task is for, in the order of their names.
func (e *Engine) Help() []task.Help {
	out := make([]task.Help, 0, len(e.Kinds))
	for _, k := range e.Kinds {
		out = append(out, k.Help())
	}
	slices.SortFunc(out, func(a, b task.Help) int { return strings.Compare(string(a.Kind), string(b.Kind)) })
	return out
}

// Name is the name of this node.
func (e *Engine) Name() string { return e.Node.Name }

// Programs tells what keeps the programs of tasks apart from the service on one node.
type Programs struct {
	Node    string   `json:"node" doc:"the node that answers"`
	Allowed bool     `json:"allowed" doc:"it runs programs"`
	Walls   []string `json:"walls" doc:"which walls stand, in sentences"`
	Open    bool     `json:"open" doc:"a program could read the service's files"`
}

// Programs tells what keeps programs apart on this node.
func (e *Engine) Programs() Programs {
	p := Programs{Node: e.Node.Name, Allowed: e.o.Programs != "", Walls: []string{}}
	if p.Allowed {
		sentences, closed := e.o.Walls.Standing()
		p.Walls, p.Open = sentences, !closed
	}
	return p
}

// Workers is how many parts this node works at once.
func (e *Engine) Workers() int { return e.o.Workers }

// prepare reads the calendars and reckons what new zone data has moved. It goes
// on until the database answers.
func (e *Engine) prepare(ctx context.Context) {
	for ctx.Err() == nil {
		err := e.Times.Refresh(ctx, e.Store)
		if err == nil {
			err = e.Zones.Reckon(ctx)
		}
		if err == nil {
			return
		}
		e.Node.Failed(ctx, "make ready", err)
	}
}

// Watch gives notices of changes until stop is called.
func (e *Engine) Watch() (notices <-chan job.Notice, stop func()) { return e.watchers.Watch() }

// listen hears notices of all nodes. Whenever its line was broken it wakes
// everybody, since something may have been missed.
func (e *Engine) listen(ctx context.Context) {
	wakeAll := func() {
		for _, c := range []node.Waker{e.Node.Clock, e.Node.Work, e.Node.Send, e.Node.Tell, e.Node.Probe, e.Node.Turns, e.Node.Look, e.Node.Publish} {
			c.Wake()
		}
		e.watchers.Tell(job.Notice{Kind: job.NoticeEverything})
	}
	for ctx.Err() == nil {
		err := e.Store.Listen(ctx, wakeAll, func(n job.Notice) {
			switch n.Kind {
			case job.NoticeJobs:
				e.Node.Clock.Wake()
				e.Node.Look.Wake()
			case job.NoticeWatches:
				e.Node.Look.Wake()
			case job.NoticeParts:
				e.Node.Work.Wake()
			case job.NoticePublished:
				e.Node.Publish.Wake()
			case job.NoticeDeliveries:
				e.Node.Send.Wake()
			case job.NoticeNodes:
				e.Node.Renew.Wake()
			case job.NoticeDestinations:
				e.Node.Probe.Wake()
			case job.NoticeSettings:
				e.Node.Turns.Wake()
			case job.NoticeAlerts:
				e.Node.Tell.Wake()
			case job.NoticeCancel:
				e.Holdings.Cancel(n.ID)
			case job.NoticeCalendars:
				if err := e.Times.Refresh(ctx, e.Store); err != nil {
					e.Node.Log.Warn("could not read the calendars; they are read when they are next needed", "error",
						err)
				}
			}
			e.watchers.Tell(n)
		})
		if ctx.Err() == nil {
			e.Node.Log.Warn("the database's notices broke off; polling until they are back", "error", err)
			node.Sleep(ctx, nil, 2*time.Second)
		}
	}
}
