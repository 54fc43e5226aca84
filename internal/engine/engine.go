// Package engine makes things happen: it is the only package that knows how
// records, reports, tasks, deliveries and alerts meet.
//
// A ring goes this way: clock finds triggers whose time has come and turns them
// into rings and runs; work claims the parts of runs and carries out their
// tasks; send hands deliveries over; settle decides on the outcome of a run and
// opens alerts; tell sends alerts; reap brings back what a dead node left. Each
// is a loop with a goroutine of its own, shortened by notices and correct
// without them, by polling.
//
// Several engines may work on one database at once.
package engine

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"sync"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// Options of an engine. Zero fields have useful defaults.
type Options struct {
	Node    string           // name of this node; made of host and process when empty
	Workers int              // parts at work at once; 4
	Senders int              // lines to destinations at once; 4
	Lease   time.Duration    // how long a dead node keeps its work; 15s
	Poll    time.Duration    // how long to sleep without notices; 30s
	Tell    time.Duration    // between two tries to tell an owner of an alert; 30s
	URL     string           // address of the console, for links in mails
	Now     func() time.Time // the clock that rings are held against
	Log     *slog.Logger
}

// Engine is one node's share of the work. Its methods may be called by several
// goroutines.
type Engine struct {
	o            Options
	store        *store.Store
	sources      *report.Sources
	destinations *deliver.Destinations
	files        *artifact.Folder
	kinds        map[job.TaskKind]task.Kind
	times        timetable
	live         live

	wakeClock, wakeWork, wakeSend, wakeTell chan struct{}

	mu      sync.Mutex // guards what this node works on
	held    map[holding]*lease
	sending map[int64]store.Sending
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
	if o.Lease == 0 {
		o.Lease = 15 * time.Second
	}
	if o.Poll == 0 {
		o.Poll = 30 * time.Second
	}
	if o.Tell == 0 {
		o.Tell = 30 * time.Second
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	o.URL = strings.TrimRight(o.URL, "/")
	signal := func() chan struct{} { return make(chan struct{}, 1) }
	return &Engine{
		o: o, store: s, sources: sources, destinations: destinations, files: files,
		kinds: map[job.TaskKind]task.Kind{
			job.KindReport:  &task.Report{Find: s.Report, Sources: sources, Files: files},
			job.KindDeliver: &task.Deliver{Destinations: destinations, Files: files, Now: time.Now},
		},
		wakeClock: signal(), wakeWork: signal(), wakeSend: signal(), wakeTell: signal(),
		held: map[holding]*lease{}, sending: map[int64]store.Sending{},
	}
}

// Run works until ctx ends, then hands its work back and returns.
func (e *Engine) Run(ctx context.Context) {
	e.prepare(ctx)
	var all sync.WaitGroup
	for _, loop := range []func(context.Context){e.listen, e.clock, e.work, e.send, e.tell, e.reap, e.renew} {
		all.Go(func() { loop(ctx) })
	}
	all.Wait()
}

// Node is the name of this node.
func (e *Engine) Node() string { return e.o.Node }

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
