package db

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"ironbell/internal/core/job"

	"github.com/jmoiron/sqlx"
)

// InstallationSetting is the setting that tells an installation from a copy of it.
const InstallationSetting = "installation"

// MoveGate makes all offers stale that were let through before.
func (q Base) MoveGate(ctx context.Context) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE gate_state SET no = no + 1`)
	return Wrap(err, "move the gate")
}

// MailSetting is the setting of the house's mail, a job.MailSettings.
const MailSetting = "mail"

// Settings of alerts, a job.AlertSettings; of the mailbox for bounces; and of the sign of life, a
// job.Heartbeat.
const (
	AlertSetting  = "alerts"
	BounceSetting = "bounces"
	BeatSetting   = "heartbeat"
)

// MailSettings are the house's settings of mail.
func (q Base) MailSettings(ctx context.Context) (job.MailSettings, error) {
	var s job.MailSettings
	_, err := q.Setting(ctx, MailSetting, &s)
	return s, err
}

// Setting reads a setting into to and tells whether it is there.
func (q Base) Setting(ctx context.Context, key string, to any) (bool, error) {
	var text []byte
	err := sqlx.GetContext(ctx, q.Ext, &text, `SELECT value FROM settings WHERE key = $1`, key)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, Wrap(err, "read the setting "+key)
	}
	return true, Wrap(json.Unmarshal(text, to), "read the setting "+key)
}

// PutSetting writes a setting.
func (q Base) PutSetting(ctx context.Context, key string, value any) error {
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO settings (key, value) VALUES ($1, $2) ON CONFLICT (key) DO UPDATE
		SET value = excluded.value`,
		key, Document[any]{value})
	if err != nil || key != MailSetting {
		return Wrap(err, "write the setting "+key)
	}
	return q.MoveGate(ctx)
}

// DatabaseID is what tells this database from a copy of it in another server, or
// beside it in the same one.
func (q Base) DatabaseID(ctx context.Context) (string, error) {
	var id string
	err := sqlx.GetContext(ctx, q.Ext, &id, `SELECT (SELECT system_identifier
		FROM pg_control_system())::text || ':' || (SELECT oid FROM pg_database
		WHERE datname = current_database())::text`)
	return id, Wrap(err, "ask the database who it is")
}
