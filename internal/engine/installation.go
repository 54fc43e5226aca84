package engine

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/artifact"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

// isCopy is what is said of what a copy for tests leaves out.
const isCopy = "passed over: this is a copy"

// markSetting is the mark that the nodes leave in the database and, after that, in the
// store of artifacts: whichever of the two is behind is older than the other.
const markSetting = "mark"

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
	return fmt.Sprintf("the folder of artifacts %s is not the one that this installation works with: %s. Mount it, or name the right folder with -artifacts. If the files are lost for good, start one node with -adopt-store: runs of the past are then without their files", o.Path, found)
}

// KnowItself looks whether this is the installation that it was, before a node begins
// to work. A database that is a copy always starts, and stands still until an
// administrator has said what it is; so does one that is older than its store of
// artifacts. Only otherwise is a wrong store an error, *OtherStore: the node does not
// start, and holds up nobody else. adopt takes the store as it is.
func (e *Engine) KnowItself(ctx context.Context, adopt bool) error {
	database, err := e.store.DatabaseID(ctx)
	if err != nil {
		return err
	}
	known, err := e.files.Known()
	if err != nil {
		return err
	}
	return e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, store.InstallationSetting); err != nil {
			return err
		}
		var was Installation
		ok, err := t.Setting(ctx, store.InstallationSetting, &was)
		if err != nil {
			return err
		}
		if was.Name == "" {
			was.Name = strings.ToLower(rand.Text()[:12])
		}
		moved := ok && was.Database != database
		if !ok || !moved && was.Copy == nil && adopt {
			was.Database = database
			if was.Files, err = e.files.ID(); err != nil {
				return err
			}
			if known != was.Files || adopt {
				e.node.Log.Info("works with a store of artifacts that it had not before", "folder", e.files.Path())
			}
		} else if !moved && was.Copy == nil && known != was.Files {
			return &OtherStore{Path: e.files.Path(), Found: known}
		}
		if err := t.PutSetting(ctx, store.InstallationSetting, was); err != nil {
			return err
		}
		switch {
		case was.Copy != nil:
			return nil
		case moved:
			return e.standStill(ctx, t, was, "this is a copy: its database is another than it was")
		case e.o.Copy != "" && !slices.Contains(was.Said, e.o.Copy):
			return e.standStill(ctx, t, was, fmt.Sprintf("this is a copy: it was started as %q", e.o.Copy))
		}
		left, err := e.files.Mark(was.Name)
		if err != nil {
			return err
		}
		behind, err := e.behind(ctx, t, left)
		if err != nil || behind == "" {
			return err
		}
		return e.standStill(ctx, t, was, behind)
	})
}

// standStill lets nothing ring and nothing leave until an administrator has said what
// this installation is.
func (e *Engine) standStill(ctx context.Context, t *store.Tx, was Installation, why string) error {
	house, err := t.MailSettings(ctx)
	if err != nil {
		return err
	}
	now := e.node.Now()
	f, err := t.AddFreeze(ctx, store.Freeze{Label: "service", From: now, Rings: "wait", Reason: why + "; an administrator says what it is", By: "Iron Bell"})
	if err != nil {
		return err
	}
	if was.Test == nil {
		was.Before = house.Sending
	}
	was.Copy, was.Why, was.Freeze = &now, why, f.ID
	house.Sending = job.SendNone
	if err := t.PutSetting(ctx, store.MailSetting, house); err != nil {
		return err
	}
	if err := t.PutSetting(ctx, store.InstallationSetting, was); err != nil {
		return err
	}
	e.node.Log.Error("stands still and sends nothing until an administrator says what this installation is", "why", why, "how", "ironbell copy")
	return t.Audit(ctx, "Iron Bell", "found a copy", "setting", store.InstallationSetting, nil, map[string]any{"why": why})
}

// behind tells what is to be said when the database is older than its store of
// artifacts: it was restored from a backup. The store's mark was read before, since
// the database's is written first.
func (e *Engine) behind(ctx context.Context, t *store.Tx, left artifact.Mark) (string, error) {
	var own artifact.Mark
	if _, err := t.Setting(ctx, markSetting, &own); err != nil || left.No <= own.No {
		return "", err
	}
	since := "some time"
	if !own.At.IsZero() {
		since = own.At.UTC().Format("2006-01-02 15:04 MST")
	}
	return fmt.Sprintf("its database is older than its store of artifacts: it stands at %s, and work went on until %s; rings and deliveries between are not in it", since, left.At.UTC().Format("2006-01-02 15:04 MST")), nil
}

// leaveMark writes how far this installation has come, once a minute; one that stands
// still leaves none.
func (e *Engine) leaveMark(ctx context.Context) error {
	was, err := e.Installation(ctx)
	if err != nil || was.Name == "" || was.Copy != nil {
		return err
	}
	left, err := e.files.Mark(was.Name)
	if err != nil {
		return err
	}
	var mark artifact.Mark
	var name string
	err = e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, store.InstallationSetting); err != nil {
			return err
		}
		var is Installation
		name = ""
		if ok, err := t.Setting(ctx, store.InstallationSetting, &is); err != nil || !ok || is.Copy != nil || is.Name != was.Name {
			return err
		}
		behind, err := e.behind(ctx, t, left)
		if err != nil {
			return err
		}
		if behind != "" {
			return e.standStill(ctx, t, is, behind)
		}
		if _, err := t.Setting(ctx, markSetting, &mark); err != nil {
			return err
		}
		name, mark = is.Name, artifact.Mark{No: mark.No + 1, At: e.node.Now()}
		return t.PutSetting(ctx, markSetting, mark)
	})
	if err != nil || name == "" {
		return err
	}
	return e.files.PutMark(name, mark)
}

// Installation is what this installation knows of itself.
func (e *Engine) Installation(ctx context.Context) (Installation, error) {
	var is Installation
	_, err := e.store.Setting(ctx, store.InstallationSetting, &is)
	return is, err
}

// Said is what an administrator says of a copy: what leaves it, and, of one for tests,
// what it acts on outside itself.
type Said struct {
	Sending job.Sending
	OnlyTo  string
	Named   []string // labels: destination:NAME, source:NAME, program:NAME, event:TYPE
}

// SaySo says what a copy is: the one that goes on in place of the first, which
// works and sends as that one did; or one for tests, which sends all mail to one
// address, or none, and acts on nothing else than what is named for it. What waited in
// the queues of the original ends in a copy for tests.
func (e *Engine) SaySo(ctx context.Context, who job.Person, said Said) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	database, err := e.store.DatabaseID(ctx)
	if err != nil {
		return err
	}
	files, err := e.files.ID()
	if err != nil {
		return err
	}
	was, err := e.Installation(ctx)
	if err != nil {
		return err
	}
	if was.Copy == nil && was.Test == nil {
		return fault.New(fault.Task, "say what this copy is", "this installation is no copy, and works as it is", "What leaves it is said in the settings of mail; a clone of a whole machine is started with serve -copy NAME.")
	}
	v := &fault.Invalid{What: "what the copy is"}
	for i, label := range said.Named {
		kind, name, ok := strings.Cut(label, ":")
		if !ok || name == "" || !slices.Contains([]string{"destination", "source", "program", "event"}, kind) {
			v.Add(fmt.Sprintf("named[%d]", i), "%q names nothing that a copy could act on; write destination:NAME, source:NAME, program:NAME or event:TYPE", label)
			continue
		}
		if place := store.PlaceKind(kind); place == store.Destination || place == store.Source {
			switch _, err := e.store.Place(ctx, place, name); {
			case store.IsMissing(err):
				v.Add(fmt.Sprintf("named[%d]", i), "there is no %s %q", kind, name)
			case err != nil:
				return err
			}
		}
	}
	if said.Sending == job.SendAll && len(said.Named) > 0 {
		v.Add("named", "what goes on in place of the first one acts on everything; name something for a copy for tests only")
	}
	if err := v.Err(); err != nil {
		return err
	}
	house, err := e.store.MailSettings(ctx)
	if err != nil {
		return err
	}
	house.Sending, house.OnlyTo = said.Sending, said.OnlyTo
	if said.Sending == job.SendAll {
		house.Sending = was.Before
	}
	if err := e.SaveMailSettings(ctx, who, house); err != nil {
		return err
	}
	left, err := e.files.Mark(was.Name)
	if err != nil {
		return err
	}
	is := Installation{Name: was.Name, Database: database, Files: files, Said: was.Said, Before: was.Before}
	if e.o.Copy != "" {
		is.Said = append(slices.DeleteFunc(is.Said, func(s string) bool { return s == e.o.Copy }), e.o.Copy)
	}
	if said.Sending != job.SendAll {
		is.Name, is.Test = strings.ToLower(rand.Text()[:12]), &job.TestCopy{Named: said.Named, Files: was.Files}
		if was.Test != nil {
			is.Name, is.Test.Files = was.Name, was.Test.Files
		}
	}
	return e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, store.InstallationSetting); err != nil {
			return err
		}
		if is.Test != nil && was.Test == nil {
			if err := t.EndQueues(ctx, isCopy); err != nil {
				return err
			}
		}
		var mark artifact.Mark
		if _, err := t.Setting(ctx, markSetting, &mark); err != nil {
			return err
		}
		if err := t.PutSetting(ctx, markSetting, artifact.Mark{No: max(mark.No, left.No) + 1, At: e.node.Now()}); err != nil {
			return err
		}
		if was.Freeze != 0 {
			if _, err := t.LiftFreeze(ctx, was.Freeze, who.Name); err != nil && !store.IsMissing(err) {
				return fmt.Errorf("end the freeze: %w", err)
			}
		}
		if err := t.PutSetting(ctx, store.InstallationSetting, is); err != nil {
			return err
		}
		if err := t.MoveGate(ctx); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "say what it is", "setting", store.InstallationSetting, nil, map[string]any{"sending": said.Sending, "named": said.Named})
	})
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

// leftOut says why a task is passed over in a copy for tests; empty when it is not.
func (e *Engine) leftOut(ctx context.Context, t job.Task) (string, error) {
	label := outsideOf(t)
	if label == "" {
		return "", nil
	}
	is, err := e.Installation(ctx)
	if err != nil || is.Test.Leaves(label) {
		return "", err
	}
	return "this is a copy, and " + label + " was not named for it", nil
}
