// Command node is one node of the service for the fault test: the real engine
// with the real store, a clock that can be turned, tasks that do as they are
// told, and a place at which it dies. It ends in good order by SIGTERM.
package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/outgoing"
	"ironbell/internal/report"
	"ironbell/internal/secret"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

func main() {
	var o options
	flag.StringVar(&o.db, "db", "", "connection string")
	flag.StringVar(&o.artifacts, "artifacts", "", "folder of artifacts")
	flag.StringVar(&o.key, "key", "", "file with the key of the secrets")
	flag.StringVar(&o.folders, "folders", "", "folder that files are handed over to")
	flag.StringVar(&o.clock, "clock", "", "file with what is added to the clock, as a duration")
	flag.StringVar(&o.counts, "counts", "", "file that is written with the node's counts")
	flag.StringVar(&o.crash, "crash", "", "point at which it dies, as name:n for the n-th time")
	flag.DurationVar(&o.skew, "skew", 0, "how far its clock is from the others'")
	flag.Int64Var(&o.drift, "drift", 0, "how much faster its clock goes, in millionths")
	flag.DurationVar(&o.lease, "lease", 2*time.Second, "length of a lease")
	flag.Parse()
	if err := run(o); err != nil {
		fmt.Fprintln(os.Stderr, "node:", err)
		os.Exit(1)
	}
}

type options struct {
	db, artifacts, key, clock, counts, crash, folders string
	lease, skew                                       time.Duration
	drift                                             int64
}

// hooks are what the fault test sees of a node.
type hooks struct {
	offset atomic.Int64
	skew   time.Duration
	drift  int64
	began  time.Time
	counts *os.File
	point  string
	after  atomic.Int64
}

// farthest is how far a node's clock may be from the others'.
const farthest = 2 * time.Second

// now is the node's clock: the one that all are turned by, off by some time and going
// at a pace of its own.
func (h *hooks) now() time.Time {
	skew := h.skew + time.Since(h.began)*time.Duration(h.drift)/1e6
	return time.Now().Add(time.Duration(h.offset.Load()) + min(max(skew, -farthest), farthest))
}

// at counts offers, in a file that outlives the node, and lets it die at its point.
func (h *hooks) at(point string) {
	switch point {
	case "offer":
		h.note('o')
	case "receipt":
		h.note('a')
	}
	if point == h.point && h.after.Add(-1) == 0 {
		_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		select {} // until it strikes
	}
}

func (h *hooks) note(c byte) {
	if _, err := h.counts.Write([]byte{c}); err != nil {
		panic(err) // the fault test would count wrongly
	}
}

// watch reads how the clock is turned, and notes refused writes, until ctx ends.
func (h *hooks) watch(ctx context.Context, clock string, refused func() int64) {
	noted := int64(0)
	for {
		if text, err := os.ReadFile(clock); err == nil { //nolint:gosec // the fault test named it
			if d, err := time.ParseDuration(strings.TrimSpace(string(text))); err == nil {
				h.offset.Store(int64(d))
			}
		}
		for n := refused(); noted < n; noted++ {
			h.note('x')
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func run(o options) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	h := &hooks{skew: o.skew, drift: o.drift, began: time.Now()}
	var err error
	if h.counts, err = os.OpenFile(o.counts, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err != nil {
		return err
	}
	if name, n, ok := strings.Cut(o.crash, ":"); ok {
		h.point = name
		times, err := strconv.ParseInt(n, 10, 64)
		if err != nil {
			return err
		}
		h.after.Store(times)
	}
	s, err := store.Open(ctx, o.db, store.Options{})
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.Migrate(ctx); err != nil {
		return err
	}
	vault, err := secret.FromFile(o.key, true)
	if err != nil {
		return err
	}
	files, err := artifact.OpenFolder(o.artifacts)
	if err != nil {
		return err
	}
	guard := outgoing.New(nil)
	sources := report.NewSources(s, vault, report.Allowed{})
	defer sources.Close()
	e := engine.New(s, sources,
		deliver.NewDestinations(s, vault, deliver.Allowed{Guard: guard, Folders: []string{o.folders}}), files,
		engine.Options{
			Workers: 24, Senders: 4, Lease: o.lease, Poll: time.Second, Tell: time.Second,
			Probe: 300 * time.Millisecond,
			Stop:  2 * time.Second, Now: h.now, Guard: guard, At: h.at,
			Log:   slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn})),
			Kinds: map[job.TaskKind]task.Kind{job.KindCollect: strain{files}},
		})
	watching, end := context.WithCancel(context.WithoutCancel(ctx))
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		h.watch(watching, o.clock, e.Refused)
	}()
	e.Run(ctx)
	end()
	<-watched
	return nil
}

// strain is a kind of task that does as it is told: ok, blank, lasting, passing
// (every second try), slow, or file, which makes a file to be sent. What it is
// told stands where the pattern of file names would.
type strain struct{ files *artifact.Folder }

func (strain) Help() task.Help { return task.Help{Kind: job.KindCollect} }

func (strain) Check(context.Context, *task.Checking, string, job.Task) error { return nil }

func (k strain) Run(ctx context.Context, w task.Work, t job.Task) (task.Result, error) {
	word, number, _ := strings.Cut(t.Collect.Pattern, " ")
	switch word {
	case "blank":
		return task.Result{Blank: true}, nil
	case "lasting":
		return task.Result{}, fault.New(fault.Task, "strain", "it fails for good", "")
	case "passing":
		if w.Try%2 == 1 {
			return task.Result{}, fault.Wrap(errors.New("it fails this once"), fault.Passing, fault.Task, "strain", "")
		}
	case "slow":
		d, err := time.ParseDuration(number)
		if err != nil {
			return task.Result{}, err
		}
		select {
		case <-ctx.Done():
			return task.Result{}, context.Cause(ctx)
		case <-time.After(d):
		}
	case "file":
		file, err := k.files.Create()
		if err != nil {
			return task.Result{}, err
		}
		if _, err := file.Write(bytes.Repeat([]byte("tide "), 2000)); err != nil {
			file.Drop()
			return task.Result{}, err
		}
		kept, err := file.Keep()
		if err != nil {
			return task.Result{}, err
		}
		return task.Result{Files: []job.Artifact{{
			Part: w.Part, Task: t.Name, Format: "file", Name: "tide.txt", MediaType: "text/plain", Size: kept.Size,
			SHA256: kept.SHA256, Key: kept.Key,
		}}}, nil
	}
	return task.Result{}, nil
}
