// Package installation is what an installation knows of itself: whether it is the one that it was, a
// copy of it, or a database that is older than its files; and what an operator must know of it
// now.
package installation

import (
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/operation"
)

// asks is what a keeper wants of the store.
type asks interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
	DatabaseID(ctx context.Context) (string, error)
	LastTurn(ctx context.Context, name string) (operation.Turn, error)
	Schema() int64
	Setting(ctx context.Context, key string, to any) (bool, error)
	Standing(ctx context.Context) (operation.Standing, error)
}

// Keeper keeps what an installation knows of itself. It may be used by several goroutines.
type Keeper struct {
	store asks
	files *artifact.Folder
	copy  string // name of the clone of a whole machine that this is; none when empty
	now   func() time.Time
	log   *slog.Logger
}

// New makes the keeper; clone names the clone of a whole machine that this is, and is empty when
// it is none.
func New(s asks, files *artifact.Folder, clone string, now func() time.Time, log *slog.Logger) *Keeper {
	return &Keeper{store: s, files: files, copy: clone, now: now, log: log}
}

// IsCopy is what is said of what a copy for tests leaves out.
const IsCopy = "passed over: this is a copy"

// MarkSetting is the mark that the nodes leave in the database and, after that, in the
// store of artifacts: whichever of the two is behind is older than the other.
const MarkSetting = "mark"

// Installation is what an installation knows itself by: its database, and its
// store of artifacts. Where the database is another than it was, it was restored
// somewhere, perhaps beside the first one.
type Installation struct {
	Name     string        `json:"name"` // of its mark; a copy for tests takes another
	Database string        `json:"database"`
	Files    string        `json:"files"`
	Copy     *time.Time    `json:"copy,omitempty"`   // since when it is known to be a copy that nobody has spoken of
	Why      string        `json:"why,omitempty"`    // it is taken for one
	Freeze   int64         `json:"freeze,omitempty"` // that holds it still meanwhile
	Said     []string      `json:"said,omitempty"`   // names of copies that somebody spoke of
	Test     *job.TestCopy `json:"test,omitempty"`   // it is a copy for tests
	Before   job.Sending   // what left it before it was taken for a copy
}

// OtherStore says that a node was given another store of artifacts than the one its
// installation works with.
type OtherStore struct{ Path, Found string }

func (o *OtherStore) Error() string {
	found := "it holds nothing of an installation, as a share that is not mounted"
	if o.Found != "" {
		found = "it is that of another installation"
	}
	return fmt.Sprintf("the folder of artifacts %s is not the one that this installation works with: %s. Mount it, "+
		"or name the right folder with -artifacts. If the files are lost for good, start one node with -adopt-store: "+
		"runs of the past are then without their files", o.Path, found)
}

// KnowItself looks whether this is the installation that it was, before a node begins
// to work. A database that is a copy always starts, and stands still until an
// administrator has said what it is; so does one that is older than its store of
// artifacts. Only otherwise is a wrong store an error, *OtherStore: the node does not
// start, and holds up nobody else. adopt takes the store as it is.
func (k *Keeper) KnowItself(ctx context.Context, adopt bool) error {
	database, err := k.store.DatabaseID(ctx)
	if err != nil {
		return err
	}
	known, err := k.files.Known()
	if err != nil {
		return err
	}
	return k.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, db.InstallationSetting); err != nil {
			return err
		}
		var was Installation
		ok, err := t.Setting(ctx, db.InstallationSetting, &was)
		if err != nil {
			return err
		}
		if was.Name == "" {
			was.Name = strings.ToLower(rand.Text()[:12])
		}
		moved := ok && was.Database != database
		if !ok || !moved && was.Copy == nil && adopt {
			was.Database = database
			if was.Files, err = k.files.ID(); err != nil {
				return err
			}
			if known != was.Files || adopt {
				k.log.Info("works with a store of artifacts that it had not before", "folder", k.files.Path())
			}
		} else if !moved && was.Copy == nil && known != was.Files {
			return &OtherStore{Path: k.files.Path(), Found: known}
		}
		if err := t.PutSetting(ctx, db.InstallationSetting, was); err != nil {
			return err
		}
		switch {
		case was.Copy != nil:
			return nil
		case moved:
			return k.standStill(ctx, t, was, "this is a copy: its database is another than it was")
		case k.copy != "" && !slices.Contains(was.Said, k.copy):
			return k.standStill(ctx, t, was, fmt.Sprintf("this is a copy: it was started as %q", k.copy))
		}
		left, err := k.files.Mark(was.Name)
		if err != nil {
			return err
		}
		behind, err := k.behind(ctx, t, left)
		if err != nil || behind == "" {
			return err
		}
		return k.standStill(ctx, t, was, behind)
	})
}

// standStill lets nothing ring and nothing leave until an administrator has said what
// this installation is.
func (k *Keeper) standStill(ctx context.Context, t *store.Tx, was Installation, why string) error {
	house, err := t.MailSettings(ctx)
	if err != nil {
		return err
	}
	now := k.now()
	f, err := t.AddFreeze(ctx, job.Freeze{
		Label: "service", From: now, Rings: "wait", Reason: why + "; an administrator says what it is", By: "Iron Bell",
	})
	if err != nil {
		return err
	}
	if was.Test == nil {
		was.Before = house.Sending
	}
	was.Copy, was.Why, was.Freeze = &now, why, f.ID
	house.Sending = job.SendNone
	if err := t.PutSetting(ctx, db.MailSetting, house); err != nil {
		return err
	}
	if err := t.PutSetting(ctx, db.InstallationSetting, was); err != nil {
		return err
	}
	k.log.Error("stands still and sends nothing until an administrator says what this installation is", "why", why,
		"how", "ironbell copy")
	return t.Audit(ctx, "Iron Bell", "found a copy", "setting", db.InstallationSetting, nil, map[string]any{"why": why})
}

// behind tells what is to be said when the database is older than its store of
// artifacts: it was restored from a backup. The store's mark was read before, since
// the database's is written first.
func (k *Keeper) behind(ctx context.Context, t *store.Tx, left artifact.Mark) (string, error) {
	var own artifact.Mark
	if _, err := t.Setting(ctx, MarkSetting, &own); err != nil || left.No <= own.No {
		return "", err
	}
	since := "some time"
	if !own.At.IsZero() {
		since = own.At.UTC().Format("2006-01-02 15:04 MST")
	}
	return fmt.Sprintf("its database is older than its store of artifacts: it stands at %s, and work went on until "+
		"%s; rings and deliveries between are not in it", since, left.At.UTC().Format("2006-01-02 15:04 MST")), nil
}

// LeaveMark writes how far this installation has come, once a minute; one that stands
// still leaves none.
func (k *Keeper) LeaveMark(ctx context.Context) error {
	was, err := k.Is(ctx)
	if err != nil || was.Name == "" || was.Copy != nil {
		return err
	}
	left, err := k.files.Mark(was.Name)
	if err != nil {
		return err
	}
	var mark artifact.Mark
	var name string
	err = k.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, db.InstallationSetting); err != nil {
			return err
		}
		var is Installation
		name = ""
		if ok, err := t.Setting(ctx, db.InstallationSetting, &is); err != nil || !ok || is.Copy != nil ||
			is.Name != was.Name {
			return err
		}
		behind, err := k.behind(ctx, t, left)
		if err != nil {
			return err
		}
		if behind != "" {
			return k.standStill(ctx, t, is, behind)
		}
		if _, err := t.Setting(ctx, MarkSetting, &mark); err != nil {
			return err
		}
		name, mark = is.Name, artifact.Mark{No: mark.No + 1, At: k.now()}
		return t.PutSetting(ctx, MarkSetting, mark)
	})
	if err != nil || name == "" {
		return err
	}
	return k.files.PutMark(name, mark)
}

// Is is what this installation knows of itself.
func (k *Keeper) Is(ctx context.Context) (Installation, error) {
	var is Installation
	_, err := k.store.Setting(ctx, db.InstallationSetting, &is)
	return is, err
}

// outsideOf is the label of what a task acts on outside this installation; empty when it
// acts on nothing, and for deliveries, which are asked at the gate.
func outsideOf(t job.Task) string {
	switch {
	case t.Query != nil:
		return "source:" + t.Query.Source
	case t.Program != nil:
		return "program:" + t.Program.Program
	case t.Call != nil:
		return "destination:" + t.Call.Destination
	case t.Emit != nil:
		return "event:" + t.Emit.Type
	}
	return ""
}

// LeftOut says why a task is passed over in a copy for tests; empty when it is not.
func (k *Keeper) LeftOut(ctx context.Context, t job.Task) (string, error) {
	label := outsideOf(t)
	if label == "" {
		return "", nil
	}
	is, err := k.Is(ctx)
	if err != nil || is.Test.Leaves(label) {
		return "", err
	}
	return "this is a copy, and " + label + " was not named for it", nil
}

// Clone names the clone of a whole machine that this was started as; empty when it is none.
func (k *Keeper) Clone() string { return k.copy }
