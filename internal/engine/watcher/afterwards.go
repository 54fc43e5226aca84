package watcher

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/crash"
	"ironbell/internal/installation"
	"ironbell/internal/store"
	"ironbell/internal/store/history"
	"ironbell/internal/store/records"
)

const (
	afterwardsBatch = 100
	mostTries       = 12 // over about a day, then people are told and it is left
	silentPause     = time.Minute
	mostNumber      = 99 // that a name is given when it is taken
)

// afterwards moves and removes files that were collected by runs that are done, and tells whether there may
// be more.
func (w *Watcher) afterwards(ctx context.Context) (more bool, err error) {
	any, err := w.store.CollectedWaits(ctx)
	if err != nil || !any {
		return false, err
	}
	state, err := w.installation.State(ctx)
	if err != nil {
		return false, err
	}
	if state.Silent {
		return false, w.store.CollectedLater(ctx, silentPause) // nothing leaves, and nothing is taken away
	}
	is, err := w.installation.Is(ctx)
	if err != nil {
		return false, err
	}
	due, err := w.store.CollectedDue(ctx, afterwardsBatch)
	if err != nil {
		return false, err
	}
	lines := map[int64]deliver.Look{}
	defer func() {
		for _, l := range lines {
			l.Close()
		}
	}()
	ctx, stop := context.WithTimeout(ctx, lookLimit)
	defer stop()
	for _, c := range due {
		came, err := w.clear(ctx, lines, c, is)
		switch {
		case ctx.Err() != nil:
			return false, nil // they are tried again when nobody is at them
		case err == nil:
			w.node.Crash(crash.Cleared)
			err = w.store.CollectedEnded(ctx, c, came)
		default:
			err = w.notCleared(ctx, c, fault.Of(err))
		}
		if err != nil {
			return false, err
		}
	}
	return len(due) == afterwardsBatch, nil
}

// clear does with a collected file what was said, when it still is the one that was collected.
func (w *Watcher) clear(ctx context.Context, lines map[int64]deliver.Look, c history.Collected,
	is installation.Installation,
) (came string, err error) {
	p, err := w.store.PlaceByID(ctx, records.Destination, c.DestinationID)
	if err != nil {
		return "", err
	}
	if is.Test != nil && !is.Test.Leaves("destination:"+p.Name) {
		return "left where it is: this is a copy, and the destination was not named for it", nil
	}
	look := lines[c.DestinationID]
	if look == nil {
		if look, err = w.moverFor(ctx, c.DestinationID); err != nil {
			return "", err
		}
		lines[c.DestinationID] = look
	}
	now, err := look.Stat(c.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "it was gone already", nil
	case err != nil:
		return "", err
	case now.Size != c.Size || !micro(now.Changed).Equal(micro(c.Changed)):
		return "another file has come under its name, which is left there", nil
	}
	if c.Afterwards == job.AfterwardsRemove {
		return "removed", look.Remove(c.Path)
	}
	to := path.Join(c.Folder, path.Base(c.Path))
	for n := 1; ; n++ {
		err := look.Move(c.Path, to)
		if !errors.Is(err, fs.ErrExist) && !taken(look, err, to) {
			return "moved to " + to, err
		}
		if n > mostNumber {
			return "", err
		}
		ext := path.Ext(c.Path)
		to = path.Join(c.Folder, fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(path.Base(c.Path), ext), n, ext))
	}
}

// taken tells whether something could not be moved since there is a file of the name already, which some
// servers only say as a failure.
func taken(look deliver.Look, err error, to string) bool {
	if err == nil {
		return false
	}
	_, err = look.Stat(to)
	return err == nil
}

// moverFor opens a line to a place whose files may be moved.
func (w *Watcher) moverFor(ctx context.Context, id int64) (deliver.Look, error) {
	d, err := w.destinations.ByID(ctx, id)
	if err != nil {
		return nil, err
	}
	l, ok := deliver.LookerOf(d)
	if !ok || l.Taking() != deliver.TakingMove {
		return nil, fault.New(fault.Destination, "move away what was collected",
			"its settings let no job move or remove files any more", "Set taking to move, or let the job leave its files.")
	}
	return l.Look(ctx)
}

// notCleared lets a file be tried again later, and in the end tells the owner that it stays.
func (w *Watcher) notCleared(ctx context.Context, c history.Collected, f *fault.Fault) error {
	if c.Tries < mostTries {
		return w.store.CollectedAgain(ctx, c, min(time.Duration(1)<<c.Tries*10*time.Second, 3*time.Hour), f.Error())
	}
	return w.store.Do(ctx, func(t *store.Tx) error {
		if err := t.CollectedEnded(ctx, c, "left where it is: "+f.Error()); err != nil {
			return err
		}
		run, err := t.Run(ctx, c.RunID)
		if err != nil {
			return err
		}
		return t.OpenAlert(ctx, job.Alert{
			Kind: job.AlertRunFailed, Cause: fmt.Sprintf("collected:%d", c.JobID), JobID: &c.JobID, RunID: &c.RunID,
			Happened: fmt.Sprintf("Run %s of %s was done, but %s that it collected could not be %sd: %s.", c.RunID, run.Job,
				c.Path, c.Afterwards, f.Error()),
			ForWhom: "the file is collected and kept; it only lies there still",
			Tried:   fmt.Sprintf("%d times over a day", c.Tries), Advice: f.Advice,
		})
	})
}
