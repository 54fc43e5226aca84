package service

import (
	"context"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/records"
)

// Freeze holds back all that carries a label, from and to an instant; without
// an end until it is lifted.
func (fs *Freezes) Freeze(ctx context.Context, who job.Person, f job.Freeze) (job.Freeze, error) {
	f, err := fs.readFreeze(ctx, who, f)
	if err != nil {
		return f, err
	}
	err = fs.store.Do(ctx, func(t *store.Tx) error {
		var err error
		if f, err = t.AddFreeze(ctx, f); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "freeze", "label", f.Label, nil, f)
	})
	return f, err
}

// readFreeze looks a freeze through that somebody wants, and fills in what was left out.
func (fs *Freezes) readFreeze(ctx context.Context, who job.Person, f job.Freeze) (job.Freeze, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return f, err
	}
	v := &fault.Invalid{What: "the freeze"}
	if err := fs.checkLabel(ctx, v, "label", f.Label); err != nil {
		return f, err
	}
	now := fs.now()
	if f.From.IsZero() {
		f.From = now
	}
	if f.To != nil && !f.To.After(f.From) {
		v.Add("to", "it ends before it begins")
	}
	if f.To != nil && f.To.Before(now) {
		v.Add("to", "it would have ended already")
	}
	if f.Rings == "" {
		f.Rings = "wait"
	}
	f.By = who.Name
	return f, v.Err()
}

// Lift ends a freeze now.
func (fs *Freezes) Lift(ctx context.Context, who job.Person, id int64) (job.Freeze, error) {
	var f job.Freeze
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return f, err
	}
	err := fs.store.Do(ctx, func(t *store.Tx) error {
		var err error
		if f, err = t.LiftFreeze(ctx, id, who.Name); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "lift", "label", f.Label, nil, map[string]any{"freeze": id})
	})
	return f, err
}

// checkLabel tells what is wrong with the name of what is to be frozen or limited.
func (fs *Freezes) checkLabel(ctx context.Context, v *fault.Invalid, where, label string) error {
	kind, name, ok := strings.Cut(label, ":")
	switch {
	case label == "service":
	case !ok || name == "":
		v.Add(where, "%q names nothing; use service for everything, or source:name, destination:name, tag:name", label)
	case kind == "tag":
		if !tagForm.MatchString(name) {
			v.Add(where, "%q is no tag", name)
		}
	case kind == "source" || kind == "destination":
		_, err := fs.store.Place(ctx, records.PlaceKind(kind), name)
		if db.IsMissing(err) {
			v.Add(where, "there is no %s %q", kind, name)
			return nil
		}
		return err
	default:
		v.Add(where, "%q is nothing that can be named here; use source, destination or tag", kind)
	}
	return nil
}

// Limits says how much may work at once, by label.
func (fs *Freezes) Limits(ctx context.Context) (map[string]int, error) {
	limits := map[string]int{}
	_, err := fs.store.Setting(ctx, queue.LimitSetting, &limits)
	return limits, err
}

// SaveLimits replaces all limits.
func (fs *Freezes) SaveLimits(ctx context.Context, who job.Person, limits map[string]int) error {
	if err := fs.checkLimits(ctx, who, limits); err != nil {
		return err
	}
	before, err := fs.Limits(ctx)
	if err != nil {
		return err
	}
	return fs.store.Do(ctx, func(t *store.Tx) error {
		if err := t.PutSetting(ctx, queue.LimitSetting, limits); err != nil {
			return err
		}
		if err := t.Tell(ctx, db.Notice{Kind: job.NoticeParts}); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", queue.LimitSetting, before, limits)
	})
}

// checkLimits tells what is wrong with limits that somebody wants.
func (fs *Freezes) checkLimits(ctx context.Context, who job.Person, limits map[string]int) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	v := &fault.Invalid{What: "the limits"}
	for label, n := range limits {
		if err := fs.checkLabel(ctx, v, label, label); err != nil {
			return err
		}
		if n < 1 || n > 10_000 {
			v.Add(label, "%d is no limit; use 1 to 10,000, or freeze what is to stand still", n)
		}
	}
	return v.Err()
}
