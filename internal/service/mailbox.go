package service

import (
	"context"
	"encoding/base64"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/outgoing"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/operation"
)

// SaveBounces says which mailbox bounces come to. A nil password keeps the one that
// is there.
func (st *Settings) SaveBounces(ctx context.Context, who job.Person, s deliver.Bounces, password *string,
	seal Sealer,
) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	var kept deliver.KeptBounces
	if _, err := st.store.Setting(ctx, db.BounceSetting, &kept); err != nil {
		return err
	}
	before := kept.Bounces
	kept.Bounces = s
	if password != nil {
		sealed, err := seal.Seal(deliver.BounceRecord, *password)
		if err != nil {
			return err
		}
		kept.Secret = base64.StdEncoding.EncodeToString(sealed)
	}
	if s.Every < 0 || time.Duration(s.Every) > 24*time.Hour {
		v := &fault.Invalid{What: "the mailbox for bounces"}
		v.Add("every", "%s is no time between two looks; use 1m or an hour", s.Every)
		return v.Err()
	}
	err := st.store.Do(ctx, func(t *store.Tx) error {
		if err := t.PutSetting(ctx, db.BounceSetting, kept); err != nil {
			return err
		}
		if err := t.Tell(ctx, db.Notice{Kind: job.NoticeSettings}); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", db.BounceSetting, before, s)
	})
	return err
}

// Bounces are the settings of the mailbox for bounces, with how the last
// look went.
func (st *Settings) Bounces(ctx context.Context) (deliver.Bounces, operation.Turn, error) {
	var s deliver.KeptBounces
	if _, err := st.store.Setting(ctx, db.BounceSetting, &s); err != nil {
		return deliver.Bounces{}, operation.Turn{}, err
	}
	t, err := st.store.LastTurn(ctx, db.BounceSetting)
	return s.Bounces, t, err
}

// SaveHeartbeat says where the sign of life goes.
func (st *Settings) SaveHeartbeat(ctx context.Context, who job.Person, s job.Heartbeat) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	v := &fault.Invalid{What: "the heartbeat"}
	if s.URL != "" {
		if err := outgoing.CheckURL(s.URL); err != nil {
			v.Add("url", "%s", err)
		}
	}
	if s.Every != 0 && (time.Duration(s.Every) < time.Second || time.Duration(s.Every) > 24*time.Hour) {
		v.Add("every", "%s is no time between two signs of life; use 1m", s.Every)
	}
	if err := v.Err(); err != nil {
		return err
	}
	err := st.store.Do(ctx, func(t *store.Tx) error {
		var before job.Heartbeat
		if _, err := t.Setting(ctx, db.BeatSetting, &before); err != nil {
			return err
		}
		if err := t.PutSetting(ctx, db.BeatSetting, s); err != nil {
			return err
		}
		if err := t.Tell(ctx, db.Notice{Kind: job.NoticeSettings}); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", db.BeatSetting, before, s)
	})
	return err
}

// Heartbeat say where the sign of life goes, and how the last one went.
func (st *Settings) Heartbeat(ctx context.Context) (job.Heartbeat, operation.Turn, error) {
	var s job.Heartbeat
	if _, err := st.store.Setting(ctx, db.BeatSetting, &s); err != nil {
		return s, operation.Turn{}, err
	}
	t, err := st.store.LastTurn(ctx, db.BeatSetting)
	return s, t, err
}
