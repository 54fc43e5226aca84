package store_test

import (
	"context"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/store/sending"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An offer names the number of the gate through which it was let: what changed since
// makes it stale, however short the time between.
func TestAnOfferThroughAGateThatHasMovedIsRefused(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	claimed := freeze(t, s, w, run, j.ID, time.Minute, "a@tarnwick.example", "b@tarnwick.example")
	for what, change := range map[string]func() error{
		"settings": func() error { return s.PutSetting(ctx, db.MailSetting, job.MailSettings{Sending: job.SendNone}) },
		"a freeze": func() error {
			_, err := s.AddFreeze(ctx, job.Freeze{
				Label: "destination:company mail", From: time.Now(), Rings: "wait", By: "Sefa Orlin",
			})
			return err
		},
	} {
		before, err := s.GateNow(ctx, time.Now())
		require.NoError(t, err)
		require.NoError(t, change())
		d := claimed[0]
		d.Gate = before.No
		offered, moved, err := s.Offer(ctx, []sending.Sending{d})
		require.NoError(t, err)
		assert.Empty(t, offered, what)
		assert.Equal(t, map[int64]bool{d.ID: true}, moved, what)
		assert.Equal(t, job.DeliverySending, states(t, s, run)[d.Address], "%s: it stands as it stood", what)
	}
	assert.True(t, offer(t, s, claimed[1]), "one that was let through by the newest is taken")
}
