package service

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/artifact"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/installation"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
)

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
func (in *Installation) SaySo(ctx context.Context, who job.Person, said Said) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	database, err := in.store.DatabaseID(ctx)
	if err != nil {
		return err
	}
	files, err := in.files.ID()
	if err != nil {
		return err
	}
	was, err := in.installation.Is(ctx)
	if err != nil {
		return err
	}
	if was.Copy == nil && was.Test == nil {
		return fault.New(fault.Task, "say what this copy is", "this installation is no copy, and works as it is",
			"What leaves it is said in the settings of mail; a clone of a whole machine is started with serve "+
				"-copy NAME.")
	}
	v := &fault.Invalid{What: "what the copy is"}
	for i, label := range said.Named {
		kind, name, ok := strings.Cut(label, ":")
		if !ok || name == "" || !slices.Contains([]string{"destination", "source", "program", "event"}, kind) {
			v.Add(fmt.Sprintf("named[%d]", i),
				"%q names nothing that a copy could act on; write destination:NAME, source:NAME, program:NAME "+
					"or event:TYPE", label)
			continue
		}
		if place := records.PlaceKind(kind); place == records.Destination || place == records.Source {
			switch _, err := in.store.Place(ctx, place, name); {
			case db.IsMissing(err):
				v.Add(fmt.Sprintf("named[%d]", i), "there is no %s %q", kind, name)
			case err != nil:
				return err
			}
		}
	}
	if said.Sending == job.SendAll && len(said.Named) > 0 {
		v.Add("named",
			"what goes on in place of the first one acts on everything; name something for a copy for tests only")
	}
	if err := v.Err(); err != nil {
		return err
	}
	settings, err := in.store.MailSettings(ctx)
	if err != nil {
		return err
	}
	settings.Sending, settings.OnlyTo = said.Sending, said.OnlyTo
	if said.Sending == job.SendAll {
		settings.Sending = was.Before
	}
	if err := in.settings.SaveMail(ctx, who, settings); err != nil {
		return err
	}
	left, err := in.files.Mark(was.Name)
	if err != nil {
		return err
	}
	is := installation.Installation{
		Name: was.Name, Database: database, Files: files, Said: was.Said, Before: was.Before,
	}
	if in.installation.Clone() != "" {
		is.Said = append(slices.DeleteFunc(is.Said, func(s string) bool { return s == in.installation.Clone() }),
			in.installation.Clone())
	}
	if said.Sending != job.SendAll {
		is.Name, is.Test = strings.ToLower(rand.Text()[:12]), &job.TestCopy{Named: said.Named, Files: was.Files}
		if was.Test != nil {
			is.Name, is.Test.Files = was.Name, was.Test.Files
		}
	}
	return in.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, db.InstallationSetting); err != nil {
			return err
		}
		if is.Test != nil && was.Test == nil {
			if err := t.EndQueues(ctx, installation.IsCopy); err != nil {
				return err
			}
		}
		var mark artifact.Mark
		if _, err := t.Setting(ctx, installation.MarkSetting, &mark); err != nil {
			return err
		}
		if err := t.PutSetting(ctx, installation.MarkSetting, artifact.Mark{
			No: max(mark.No, left.No) + 1, At: in.now(),
		}); err != nil {
			return err
		}
		if was.Freeze != 0 {
			if _, err := t.LiftFreeze(ctx, was.Freeze, who.Name); err != nil && !db.IsMissing(err) {
				return fmt.Errorf("end the freeze: %w", err)
			}
		}
		if err := t.PutSetting(ctx, db.InstallationSetting, is); err != nil {
			return err
		}
		if err := t.MoveGate(ctx); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "say what it is", "setting", db.InstallationSetting, nil,
			map[string]any{"sending": said.Sending, "named": said.Named})
	})
}
