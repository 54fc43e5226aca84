package engine

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

// InstallationSetting is the setting that tells an installation from a copy of it.
const InstallationSetting = "installation"

// Installation is what an installation knows itself by: its database, and its
// store of artifacts. Where one of them is another than it was, it was restored
// somewhere, perhaps beside the first one.
type Installation struct {
	Database string     `json:"database"`
	Files    string     `json:"files"`
	Copy     *time.Time `json:"copy,omitempty"`   // since when it is known to be a copy that nobody has spoken of
	Freeze   int64      `json:"freeze,omitempty"` // that holds it still meanwhile
	Before   job.Sending
}

// knowItself looks whether this is the installation that it was. A copy of it
// stands still and sends nothing until an administrator has said what it is.
func (e *Engine) knowItself(ctx context.Context) error {
	database, err := e.store.DatabaseID(ctx)
	if err != nil {
		return err
	}
	files, err := e.files.ID()
	if err != nil {
		return err
	}
	return e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, InstallationSetting); err != nil {
			return err
		}
		var was Installation
		ok, err := t.Setting(ctx, InstallationSetting, &was)
		if err != nil {
			return err
		}
		if !ok {
			return t.PutSetting(ctx, InstallationSetting, Installation{Database: database, Files: files})
		}
		if was.Copy != nil || was.Database == database && was.Files == files {
			return nil
		}
		house, err := t.MailSettings(ctx)
		if err != nil {
			return err
		}
		now := time.Now()
		reason := "this is a copy: its database or its store of artifacts is another than it was; an administrator says what it is"
		f, err := t.AddFreeze(ctx, store.Freeze{Label: "service", From: now, Rings: "wait", Reason: reason, By: "Iron Bell"})
		if err != nil {
			return err
		}
		was.Copy, was.Freeze, was.Before = &now, f.ID, house.Sending
		house.Sending = job.SendNone
		if err := t.PutSetting(ctx, store.MailSetting, house); err != nil {
			return err
		}
		if err := t.PutSetting(ctx, InstallationSetting, was); err != nil {
			return err
		}
		e.o.Log.Error("this is a copy of an installation: it stands still and sends nothing until an administrator says what it is", "how", "ironbell copy")
		return t.Audit(ctx, "Iron Bell", "found a copy", "setting", InstallationSetting, nil, map[string]any{"database": database, "files": files})
	})
}

// CopySince is since when this installation is known to be a copy that nobody has
// spoken of; nil when it is none.
func (e *Engine) CopySince(ctx context.Context) (*time.Time, error) {
	var s Installation
	_, err := e.store.Setting(ctx, InstallationSetting, &s)
	return s.Copy, err
}

// SaySo says what a copy is: the one that goes on in place of the first, which
// works and sends as that one did; or one for tests, which works and sends all mail
// to one address, or none.
func (e *Engine) SaySo(ctx context.Context, who job.Person, sending job.Sending, onlyTo string) error {
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
	var was Installation
	if _, err := e.store.Setting(ctx, InstallationSetting, &was); err != nil {
		return err
	}
	house, err := e.store.MailSettings(ctx)
	if err != nil {
		return err
	}
	house.Sending, house.OnlyTo = sending, onlyTo
	if sending == job.SendAll {
		house.Sending = was.Before
	}
	if err := e.SaveMailSettings(ctx, who, house); err != nil {
		return err
	}
	return e.store.Do(ctx, func(t *store.Tx) error {
		if was.Freeze != 0 {
			if _, err := t.LiftFreeze(ctx, was.Freeze, who.Name); err != nil && !isMissing(err) {
				return fmt.Errorf("end the freeze: %w", err)
			}
		}
		if err := t.PutSetting(ctx, InstallationSetting, Installation{Database: database, Files: files}); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "say what it is", "setting", InstallationSetting, nil, map[string]any{"sending": sending})
	})
}
