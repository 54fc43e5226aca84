// Package watcher looks at what triggers wait for and what nobody reports: files of a place, answers of a
// source, the start of the service. What it sees becomes an event of ours, which waits hands to those who
// wait for it, in the transaction that notes it as seen: so nothing is lost when a node dies between the
// two, and nothing is taken twice when two nodes look. It also moves and removes files that were collected,
// once their run is done.
//
// Each watch is leased while one node looks. Equal ones are one watch, whoever waits for it.
package watcher

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/engine/waits"
	"ironbell/internal/installation"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/operation"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
)

// asks is what this room asks of the store.
type asks interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
	NextWatch(ctx context.Context) (*time.Time, error)
	Hasten(ctx context.Context, ids []int64) error
	SumsSeen(ctx context.Context, watch int64, sums []string) (map[string]bool, error)
	WatchesStamp(ctx context.Context) (string, error)
	FileWatches(ctx context.Context) ([]rings.WatchedPlace, error)
	FilesSeen(ctx context.Context, watch int64, after string, limit int) ([]rings.FileSeen, error)
	Nodes(ctx context.Context) ([]operation.Node, error)
	PlaceByID(ctx context.Context, kind records.PlaceKind, id int64) (records.Place, error)
	CollectedWaits(ctx context.Context) (bool, error)
	CollectedLater(ctx context.Context, pause time.Duration) error
	CollectedDue(ctx context.Context, limit int) ([]history.Collected, error)
	CollectedEnded(ctx context.Context, c history.Collected, came string) error
	CollectedAgain(ctx context.Context, c history.Collected, wait time.Duration, came string) error
}

// Watcher looks. It may be used by several goroutines.
type Watcher struct {
	node         *node.Node
	store        asks
	destinations *deliver.Destinations
	sources      *report.Sources
	waits        *waits.Waits
	installation *installation.Keeper
	hears        hearing
}

// New makes the watcher of a node.
func New(n *node.Node, s asks, d *deliver.Destinations, sources *report.Sources, w *waits.Waits,
	k *installation.Keeper,
) *Watcher {
	return &Watcher{node: n, store: s, destinations: d, sources: sources, waits: w, installation: k}
}

const (
	lookLimit = 2 * time.Minute // for one look
	leaseOver = 15 * time.Second

	sweepEvery = 10 * time.Minute
	batch      = 100 // watches that are taken at once
	together   = 4   // places that are looked at at once
	eventsIn   = 200 // that are recorded in one transaction
)

// Run looks until ctx ends.
func (w *Watcher) Run(ctx context.Context) {
	var beside sync.WaitGroup
	beside.Go(func() { w.announce(ctx) })
	beside.Go(func() { w.hear(ctx) })
	defer beside.Wait()
	var swept time.Time
	for {
		if time.Since(swept) > sweepEvery {
			if err := w.sweep(ctx); err != nil {
				w.node.Failed(ctx, "forget what nobody waits for", err)
			}
			swept = time.Now()
		}
		more, err := w.Pass(ctx)
		if err != nil {
			w.node.Failed(ctx, "look at what jobs wait for", err)
		}
		pause := time.Duration(0)
		if !more {
			pause = w.pause(ctx)
		}
		if !node.Sleep(ctx, w.node.Look, pause) {
			return
		}
	}
}

// sweep forgets what nobody waits for any more, with the alerts that it cannot be seen.
func (w *Watcher) sweep(ctx context.Context) error {
	return w.store.Do(ctx, func(t *store.Tx) error {
		gone, err := t.SweepWatches(ctx)
		if err != nil {
			return err
		}
		causes := make([]string, len(gone))
		for i, id := range gone {
			causes[i] = alertOf(rings.Watching{ID: id})
		}
		if len(causes) > 0 {
			if err := t.CloseAlertsOf(ctx, causes); err != nil {
				return err
			}
		}
		return t.SweepCollected(ctx)
	})
}

// pause is how long nothing is due.
func (w *Watcher) pause(ctx context.Context) time.Duration {
	next, err := w.store.NextWatch(ctx)
	if err != nil || next == nil {
		return w.node.Poll
	}
	return min(max(next.Sub(w.node.Now()), 50*time.Millisecond), w.node.Poll)
}

// Pass looks at what is due, starts what was gathered, and does what is to be done with collected files. It
// tells whether more may be due.
func (w *Watcher) Pass(ctx context.Context) (more bool, err error) {
	var due []rings.Watching
	if err := w.store.Do(ctx, func(t *store.Tx) error {
		due, err = t.TakeWatches(ctx, lookLimit+leaseOver, batch)
		return err
	}); err != nil {
		return false, err
	}
	w.look(ctx, due)
	gathered, err := w.waits.Gathered(ctx)
	if err != nil {
		return false, err
	}
	afterwards, err := w.afterwards(ctx)
	return len(due) == batch || gathered || afterwards, err
}

// look looks at watches that are leased, some places at once.
func (w *Watcher) look(ctx context.Context, due []rings.Watching) {
	type place struct {
		kind job.WatchKind
		id   int64
	}
	var order []place
	of := map[place][]rings.Watching{}
	for _, one := range due {
		p := place{one.Kind, one.PlaceID}
		if len(of[p]) == 0 {
			order = append(order, p)
		}
		of[p] = append(of[p], one)
	}
	slots := make(chan struct{}, together)
	var all sync.WaitGroup
	for _, p := range order {
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			for _, one := range w.failing(ctx, of[p]) {
				w.done(ctx, one.watch, one.err)
			}
		})
	}
	all.Wait()
}

// looked is how a look at a watch ended.
type looked struct {
	watch rings.Watching
	err   error
}

// failing looks at the watches of one place, and gives how each went.
func (w *Watcher) failing(ctx context.Context, all []rings.Watching) (out []looked) {
	ctx, stop := context.WithTimeoutCause(ctx, lookLimit, errTooLong)
	defer stop()
	if all[0].Kind == job.WatchQuery {
		return w.ask(ctx, all)
	}
	look, err := w.lookerFor(ctx, all[0].PlaceID)
	if err == nil {
		defer look.Close()
	}
	began := time.Now()
	for i, one := range all {
		switch {
		case err != nil:
			out = append(out, looked{one, err})
		case i > 0 && time.Since(began) > lookLimit/2:
			w.release(ctx, all[i:])
			return out
		default:
			out = append(out, looked{one, w.files(ctx, look, one)})
		}
	}
	return out
}

// release gives watches back for which there was no time, before their lease ends.
func (w *Watcher) release(ctx context.Context, all []rings.Watching) {
	ids := make([]int64, len(all))
	for i, one := range all {
		ids[i] = one.ID
	}
	if err := w.store.Do(ctx, func(t *store.Tx) error { return t.ReleaseWatches(ctx, ids) }); err != nil {
		w.node.Failed(ctx, "look at it later", err)
	}
}

var errTooLong = fault.New(fault.Task, "look at what jobs wait for",
	fmt.Sprintf("it took longer than %s", job.Duration(lookLimit)),
	"Let the pattern mean fewer folders, or the statement fewer rows.")

// lookerFor opens a line to a place of files.
func (w *Watcher) lookerFor(ctx context.Context, id int64) (deliver.Look, error) {
	d, err := w.destinations.ByID(ctx, id)
	if err != nil {
		return nil, err
	}
	l, ok := deliver.LookerOf(d)
	if !ok || l.Taking() == deliver.TakingNo {
		return nil, fault.New(fault.Destination, "look at the files of a destination",
			"its settings let no job do so any more", "Set taking to copy or move, or let the jobs wait for something else.")
	}
	return l.Look(ctx)
}

// toldAfter is how long looks fail before people are told of what may pass by itself.
const toldAfter = time.Minute

// done notes how a look went that failed; one that went well noted itself.
func (w *Watcher) done(ctx context.Context, one rings.Watching, err error) {
	if err == nil || errors.Is(err, db.ErrStale) {
		return
	}
	if ctx.Err() != nil { // the node stops: another one need not wait until the lease of the look ends
		ctx, stop := node.Ending(ctx)
		defer stop()
		w.release(ctx, []rings.Watching{one})
		return
	}
	f := fault.Of(err)
	pause := min(max(time.Duration(one.Every*float64(time.Second)), 10*time.Second), 5*time.Minute)
	since := w.node.Now()
	if one.Failing != nil {
		since = *one.Failing
	}
	doing := w.store.Do(ctx, func(t *store.Tx) error {
		if err := t.HoldWatch(ctx, one); err != nil {
			return err
		}
		var mark any
		if one.Kind == job.WatchFiles && errors.Is(err, fs.ErrNotExist) {
			mark = saw{Print: (&print{}).text()} // the folder is still to come, and all that comes with it is new
		}
		if err := t.LookFailed(ctx, one, mark, pause, f.Error()); err != nil {
			return err
		}
		if f.Class == fault.Passing && w.node.Now().Sub(since) < toldAfter {
			return nil
		}
		whose, err := t.JobsOfWatch(ctx, one.ID)
		if err != nil || len(whose) == 0 {
			return err
		}
		advice := f.Advice
		if advice == "" {
			advice = "Mend it; it is looked at again every " + job.Duration(pause).String() + "."
		}
		return t.OpenAlert(ctx, job.Alert{
			Kind: job.AlertDown, Cause: alertOf(one), JobID: &whose[0].ID,
			Happened: fmt.Sprintf("What %s waits for cannot be seen: %s.", namesOf(whose), f.Error()),
			ForWhom:  "nothing starts " + namesOf(whose) + " meanwhile; what happens is found when it can be seen again",
			Tried:    fmt.Sprintf("looked again and again since %s", since.UTC().Format("2 January 15:04 MST")), Advice: advice,
		})
	})
	if doing != nil && !errors.Is(doing, db.ErrStale) {
		w.node.Failed(ctx, "note that a look failed", doing)
	}
}

// alertOf is the cause of the alert about a watch.
func alertOf(one rings.Watching) string { return fmt.Sprintf("watch:%d", one.ID) }

// namesOf names jobs, the first three of them.
func namesOf(jobs []rings.NamedJob) string {
	const shown = 3
	text := ""
	for i, j := range jobs {
		switch {
		case i == shown:
			return fmt.Sprintf("%s and %d more", text, len(jobs)-shown)
		case i > 0:
			text += ", "
		}
		text += j.Name
	}
	return text
}

// seen ends a look that went well, and the alert about those before it that did not.
func (w *Watcher) seen(ctx context.Context, t *store.Tx, one rings.Watching, mark any, next time.Duration,
	note string,
) error {
	if err := t.Looked(ctx, one, mark, next, note); err != nil || one.Failing == nil {
		return err
	}
	return t.CloseAlertsOf(ctx, []string{alertOf(one)})
}

// every is how long after a look the next one is.
func every(one rings.Watching) time.Duration { return time.Duration(one.Every * float64(time.Second)) }

// announce tells once that this node has started, as soon as it is known whether another was there.
func (w *Watcher) announce(ctx context.Context) {
	began := time.Now()
	const pause = 250 * time.Millisecond
	for node.Sleep(ctx, nil, pause) {
		nodes, err := w.store.Nodes(ctx)
		if err != nil {
			continue
		}
		var me *operation.Node
		for i := range nodes {
			if nodes[i].Name == w.node.Name {
				me = &nodes[i]
			}
		}
		if me == nil {
			continue // its sign of life is still to come
		}
		older, living := 0, 0
		since := time.Since(began)
		for _, n := range nodes {
			if n.StartedAt.Before(me.StartedAt) || n.StartedAt.Equal(me.StartedAt) && n.Name < me.Name {
				older++
				if n.Ago < since.Seconds() {
					living++
				}
			}
		}
		// One that died a moment ago still seems to live, until it has said nothing for a while.
		if older > 0 && since < w.node.Lease {
			continue
		}
		if err := w.store.Do(ctx, func(t *store.Tx) error {
			_, err := w.waits.Raise(ctx, t, []job.Event{started(w.node, living == 0)}, rings.From{All: true})
			return err
		}); err == nil {
			return
		}
	}
}

func started(n *node.Node, first bool) job.Event {
	return job.Event{
		ID: n.Name, Source: job.NodesSource, Type: job.EventStarted, Subject: n.Name, Time: n.Now(),
		Data: data(map[string]any{"node": n.Name, "first": first}),
	}
}

// data is what an event says.
func data(v map[string]any) json.RawMessage {
	text, err := json.Marshal(v)
	if err != nil {
		panic("what was seen cannot be written: " + err.Error()) // texts, numbers and truths only
	}
	return text
}
