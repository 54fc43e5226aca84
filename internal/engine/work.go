package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// errLeaseLost ends the work on a part that another node has now.
var errLeaseLost = errors.New("the lease was lost")

// work claims parts while it has idle workers, and waits for the last of them
// when ctx ends.
func (e *Engine) work(ctx context.Context) {
	idle := make(chan struct{}, e.o.Workers)
	for range e.o.Workers {
		idle <- struct{}{}
	}
	var busy sync.WaitGroup
	defer busy.Wait()
	for {
		select {
		case <-ctx.Done():
			return
		case <-idle:
		}
		free := 1
		for free < e.o.Workers {
			select {
			case <-idle:
				free++
				continue
			default:
			}
			break
		}
		claims, err := e.store.ClaimParts(ctx, e.o.Node, e.o.Lease, free)
		for range free - len(claims) {
			idle <- struct{}{}
		}
		if err != nil {
			e.failed(ctx, "claim work", err)
			continue
		}
		since := time.Now()
		for _, c := range claims {
			working, cancel := context.WithCancelCause(ctx)
			e.hold(c, cancel, since)
			busy.Go(func() {
				defer func() {
					e.release(c)
					cancel(nil)
					idle <- struct{}{}
				}()
				e.part(working, c)
			})
		}
		if len(claims) > 0 {
			continue
		}
		wait := e.o.Poll
		if next, ok, err := e.store.NextReady(ctx); err == nil && ok {
			wait = min(wait, next+5*time.Millisecond)
		}
		if !sleep(ctx, e.wakeWork, wait) {
			return
		}
	}
}

// part carries out the tasks of one part from where it stands, and writes how
// it ended.
func (e *Engine) part(ctx context.Context, c store.Claim) {
	log := e.o.Log.With("run", c.RunID.String(), "job", c.Job)
	defer func() {
		if broken := recover(); broken != nil {
			log.Error("a task broke", "panic", broken, "stack", string(debug.Stack()))
			f := fault.New(fault.Task, "carry out the job", fmt.Sprintf("the service has a fault of its own: %v", broken), "Report it with the log of this time.")
			if err := e.endPart(ctx, c, job.PartFailed, f.Error(), f); err != nil {
				log.Error("could not write the end of a part", "error", err)
			}
		}
	}()
	err := e.tasks(ctx, c)
	switch {
	case err == nil:
	case errors.Is(err, store.ErrStale), errors.Is(context.Cause(ctx), errLeaseLost):
		log.Warn("another node has this work now", "part", c.Part)
	case ctx.Err() != nil:
		// The service stops: hand the part back at once.
		bounded, stop := ending(ctx)
		defer stop()
		err := e.store.Do(bounded, func(t *store.Tx) error {
			return t.ReturnPart(bounded, c, 0, "node "+e.o.Node+" stops and hands its work back")
		})
		if err != nil && !errors.Is(err, store.ErrStale) {
			log.Error("could not hand the work back; its lease will run out", "error", err)
		}
	default:
		// Our own records could not be read or written; the lease runs out, and
		// the part is taken again.
		log.Error("could not go on with a part", "error", err)
	}
}

// tasks carries out one task after another. Its error is about our own records
// only; what goes wrong in a task becomes the outcome of the part.
func (e *Engine) tasks(ctx context.Context, c store.Claim) error {
	def, err := e.store.JobAt(ctx, c.JobID, c.JobVersion)
	if err != nil {
		return err
	}
	zone, err := zone.Load(c.Zone)
	if err != nil {
		return e.endPart(ctx, c, job.PartFailed, err.Error(), fault.Of(err))
	}
	if len(def.Calendars) > 0 {
		if err := e.times.refresh(ctx, e.store); err != nil {
			return err
		}
	}
	ended, failures, err := e.store.EndedTasks(ctx, c)
	if err != nil {
		return err
	}
	files, err := e.store.Artifacts(ctx, c.RunID, c.Part)
	if err != nil {
		return err
	}
	w := task.Work{
		RunID: c.RunID, Part: c.Part, JobID: c.JobID, Job: c.Job, Why: c.Why, Nominal: c.Nominal.In(zone), Due: c.Due.In(zone), Frame: e.frame(def.Calendars),
		Values: c.Given.V.Over(def.Values), Def: def.WithDefaults(), Files: files,
		Log: func(level, text string) {
			if err := e.store.Log(ctx, job.LogLine{Part: c.Part, Level: level, Text: text}, c.RunID); err != nil {
				e.o.Log.Warn("could not write to a run's log", "run", c.RunID.String(), "error", err)
			}
		},
	}
	for _, t := range def.Tasks {
		if _, done := ended[t.Name]; done {
			continue
		}
		blank, reports := allBlank(def.Tasks, ended)
		w.Blank = blank
		if blank && t.Kind == job.KindDeliver {
			switch w.Def.IfBlank {
			case job.BlankHold:
				return e.endPart(ctx, c, job.PartBlank, "blank: "+reports+" found no rows; held, nothing was sent", nil)
			case job.BlankFail:
				f := fault.New(fault.Task, "check "+reports, "it found no rows, and this job takes that for a failure", "See whether its source is complete, then ring the job again.")
				return e.endPart(ctx, c, job.PartFailed, f.Error(), f)
			}
		}
		next, err := e.attempt(ctx, c, w, t, failures[t.Name])
		if err != nil || !next.goOn {
			return err
		}
		ended[t.Name] = next.attempt
		w.Files = append(w.Files, next.files...)
	}
	if blank, reports := allBlank(def.Tasks, ended); blank && !hasDeliver(def.Tasks) {
		return e.endPart(ctx, c, job.PartBlank, "blank: "+reports+" found no rows", nil)
	}
	return e.endPart(ctx, c, job.PartDone, "all tasks done", nil)
}

// allBlank tells whether there were reports and none of them had rows.
func allBlank(tasks []job.Task, ended map[string]job.Attempt) (blank bool, reports string) {
	var names []string
	for _, t := range tasks {
		a, done := ended[t.Name]
		if t.Kind != job.KindReport || !done {
			continue
		}
		if a.State != job.AttemptBlank {
			return false, ""
		}
		names = append(names, t.Report.Report)
	}
	return len(names) > 0, strings.Join(names, ", ")
}

func hasDeliver(tasks []job.Task) bool {
	for _, t := range tasks {
		if t.Kind == job.KindDeliver {
			return true
		}
	}
	return false
}

// tried is how an attempt left the part.
type tried struct {
	goOn    bool // with the next task
	attempt job.Attempt
	files   []job.Artifact
}

// attempt tries one task once. When it fails, policy decides whether the part
// waits for another try or ends. failures counts the tries that failed before.
func (e *Engine) attempt(ctx context.Context, c store.Claim, w task.Work, t job.Task, failures int) (tried, error) {
	a := job.Attempt{Part: c.Part, Task: t.Name}
	err := e.store.Do(ctx, func(tx *store.Tx) (err error) {
		a.Try, err = tx.BeginAttempt(ctx, c, t.Name, e.o.Node)
		return err
	})
	if err != nil {
		return tried{}, err
	}
	began := time.Now()
	res, err := e.kinds[t.Kind].Run(ctx, w, t)
	if err == nil {
		return e.succeeded(ctx, c, w, a, res)
	}
	// What was stopped did not fail.
	if ctx.Err() != nil {
		return tried{}, ctx.Err()
	}
	f := fault.Of(err)
	again := policy.AfterFault(w.Def.Retry, failures+1, f)
	a.State, a.Note, a.Class, a.Advice = job.AttemptFailed, f.Error(), string(f.Class), f.Advice
	e.o.Log.Warn("a task failed", "run", c.RunID.String(), "job", c.Job, "task", t.Name, "try", a.Try, "class", f.Class, "error", f, "took", time.Since(began).Round(time.Millisecond))
	return tried{}, e.store.Do(ctx, func(tx *store.Tx) error {
		if err := tx.EndAttempt(ctx, c, a, nil); err != nil {
			return err
		}
		if err := tx.Log(ctx, job.LogLine{Part: c.Part, Task: t.Name, Level: "error", Text: fmt.Sprintf("try %d failed, %s: %s", a.Try, f.Class, f)}, c.RunID); err != nil {
			return err
		}
		if again.Retry {
			return tx.ReturnPart(ctx, c, again.Wait, fmt.Sprintf("task %s: %s", t.Name, again.Reason))
		}
		return e.settlePart(ctx, tx, c, job.PartFailed, fmt.Sprintf("task %s failed: %s (%s)", t.Name, f, again.Reason), &failure{task: t.Name, fault: f, tried: failures + 1, reason: again.Reason})
	})
}

func (e *Engine) succeeded(ctx context.Context, c store.Claim, w task.Work, a job.Attempt, res task.Result) (tried, error) {
	a.State, a.Note = job.AttemptDone, res.Note
	if res.Blank {
		a.State = job.AttemptBlank
	}
	text := res.Note
	if res.Counted {
		a.Rows = &res.Rows
		text = fmt.Sprintf("%d rows; %s", res.Rows, res.Note)
	}
	err := e.store.Do(ctx, func(tx *store.Tx) error {
		if err := tx.EndAttempt(ctx, c, a, res.Files); err != nil {
			return err
		}
		if res.Message != nil {
			m := res.Message
			run := c.RunID
			if _, err := tx.Freeze(ctx, store.NewMessage{
				Message: job.Message{RunID: &run, Part: c.Part, Task: a.Task, MessageID: m.MessageID, Subject: m.Subject, DestinationID: m.DestinationID, Key: m.Key, Size: m.Size, SHA256: m.SHA256},
				JobID:   &c.JobID, Addresses: m.Addresses, Retry: w.Def.Retry, IfUnknown: w.Def.IfUnknown,
			}); err != nil {
				return err
			}
		}
		return tx.Log(ctx, job.LogLine{Part: c.Part, Task: a.Task, Text: text}, c.RunID)
	})
	return tried{goOn: true, attempt: a, files: res.Files}, err
}
