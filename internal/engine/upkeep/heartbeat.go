package upkeep

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/outgoing"
	"ironbell/internal/store/db"
)

// beat gives the sign of life when its time has come.
func (u *Upkeep) beat(ctx context.Context) (time.Duration, error) {
	var s job.Heartbeat
	ok, err := u.store.Setting(ctx, db.BeatSetting, &s)
	if err != nil || !ok || s.URL == "" {
		return 0, err
	}
	every := time.Duration(s.Every)
	if every == 0 {
		every = mailboxEvery
	}
	if is, err := u.installation.Is(ctx); err != nil || is.Test != nil {
		return every, err // a copy for tests would keep the watch over its original green
	}
	state, err := u.installation.State(ctx)
	if err != nil || state.Silent {
		return every, err
	}
	if due, err := u.store.TakeTurn(ctx, db.BeatSetting, every); err != nil || !due {
		return every, err
	}
	ctx, stop := context.WithTimeout(ctx, beatLimit)
	defer stop()
	word := "answered"
	if err := u.signOfLife(ctx, s.URL); err != nil {
		word = "failed: " + err.Error()
		u.node.Log.Warn("the sign of life did not arrive", "error", err)
	}
	return every, u.store.NoteTurn(ctx, db.BeatSetting, word)
}

func (u *Upkeep) signOfLife(ctx context.Context, url string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, http.NoBody)
	if err != nil {
		return fmt.Errorf("ask %s: %w", url, err)
	}
	res, err := u.guard.Follow(r, "give the sign of life")
	if err != nil {
		return err
	}
	_ = res.Body.Close() // its status says it all
	return outgoing.Refusal(res, "give the sign of life")
}
