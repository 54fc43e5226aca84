package service

import (
	"context"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
)

// SaveAlerts says over which destination alerts go.
func (st *Settings) SaveAlerts(ctx context.Context, who job.Person, a job.AlertSettings) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	v := &fault.Invalid{What: "the settings of alerts"}
	for _, want := range []struct{ where, name, protocol string }{
		{"destination", a.Destination, "smtp"},
		{"standby", a.Standby, "smtp"},
		{"call", a.Call, "http"},
	} {
		if want.name == "" {
			continue
		}
		p, err := st.store.Place(ctx, records.Destination, want.name)
		if err != nil && !db.IsMissing(err) {
			return err
		}
		if err != nil {
			v.Add(want.where, "there is no destination %q", want.name)
		} else if p.Protocol != want.protocol {
			v.Add(want.where, "the destination %q is of the protocol %s; it takes one of %s", want.name, p.Protocol,
				want.protocol)
		}
	}
	for where, d := range map[string]job.Duration{
		"second_after": a.Second, "administrators_after": a.Administrators, "call_after": a.CallAfter,
		"repeat": a.Repeat,
	} {
		if d < 0 || time.Duration(d) > 30*24*time.Hour {
			v.Add(where, "%s is no time to wait here; use some minutes or hours", d)
		}
	}
	if err := v.Err(); err != nil {
		return err
	}
	return st.store.Do(ctx, func(t *store.Tx) error {
		var before job.AlertSettings
		if _, err := t.Setting(ctx, db.AlertSetting, &before); err != nil {
			return err
		}
		if err := t.PutSetting(ctx, db.AlertSetting, a); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", db.AlertSetting, before, a)
	})
}
