package enginetest

import (
	"bytes"
	"context"
	"errors"
	"sync"

	"ironbell/internal/artifact"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/task"
)

// Strain stands for the kinds fetch and query and does as it is told: ok, blank,
// lasting, passing, file, or a word that the test has given a meaning.
type Strain struct {
	files *artifact.Folder
	mu    sync.Mutex
	says  map[string]func(context.Context, task.Work) (task.Result, error)
}

// Mean says what a word lets a task do.
func (k *Strain) Mean(word string, f func(context.Context, task.Work) (task.Result, error)) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.says[word] = f
}

// Help is that of a kind of task.
func (*Strain) Help() task.Help { return task.Help{Kind: "strain"} }

// Check takes every task.
func (*Strain) Check(context.Context, *task.Checking, string, job.Task) error { return nil }

// Run does what the task was told.
func (k *Strain) Run(ctx context.Context, w task.Work, t job.Task) (task.Result, error) {
	var word string
	if t.Fetch != nil {
		word = t.Fetch.URL
	} else {
		word = t.Query.SQL
	}
	k.mu.Lock()
	f := k.says[word]
	k.mu.Unlock()
	if f != nil {
		type result struct {
			res task.Result
			err error
		}
		done := make(chan result, 1)
		go func() {
			res, err := f(ctx, w)
			done <- result{res, err}
		}()
		select {
		case r := <-done:
			return r.res, r.err
		case <-ctx.Done(): // a test that failed lets nothing wait for ever
			return task.Result{}, ctx.Err()
		}
	}
	switch word {
	case "blank":
		return task.Result{Blank: true}, nil
	case "lasting":
		return task.Result{}, fault.New(fault.Task, "strain", "it fails for good", "")
	case "passing":
		return task.Result{}, fault.Wrap(errors.New("it fails this once"), fault.Passing, fault.Task, "strain", "")
	case "file":
		return k.File(w, t.Name, bytes.Repeat([]byte("tide "), 200))
	}
	return task.Result{}, nil
}

// File is a result of one file.
func (k *Strain) File(w task.Work, name string, text []byte) (task.Result, error) {
	file, err := k.files.Create()
	if err != nil {
		return task.Result{}, err
	}
	if _, err := file.Write(text); err != nil {
		file.Drop()
		return task.Result{}, err
	}
	kept, err := file.Keep()
	return task.Result{Files: []job.Artifact{{
		Part: w.Part, Task: name, Format: "file", Name: "tide.txt", MediaType: "text/plain", Size: kept.Size,
		SHA256: kept.SHA256, Key: kept.Key,
	}}}, err
}
