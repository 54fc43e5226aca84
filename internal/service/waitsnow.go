package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/store/queue"
)

// Missing says in words what a waiting run still waits for; nothing when it only
// waits for its turn.
func (rs *Runs) Missing(ctx context.Context, run job.Run) ([]string, error) {
	return rs.runs.Missing(ctx, rs.store, run)
}

// What is written when a run begins to wait is true then. What holds it now may be
// something else, so that it is reckoned whenever it is shown.

// turn is why a run waits when nothing else is written.
const turn = "for its turn"

// WaitsNow says of runs that wait for their turn, and of those that deliver, what they
// wait for now.
func (rs *Runs) WaitsNow(ctx context.Context, runs []job.Run) error {
	var waiting, delivering []job.RunID
	for _, r := range runs {
		switch {
		case r.State == job.RunWaiting && ofTurn(r.Reason):
			waiting = append(waiting, r.ID)
		case r.State == job.RunDelivering:
			delivering = append(delivering, r.ID)
		}
	}
	if len(waiting)+len(delivering) == 0 {
		return nil
	}
	now := rs.now()
	frozen, err := rs.store.FreezeOver(ctx, now, now)
	if err != nil {
		return err
	}
	waits := map[job.RunID]queue.Wait{}
	if len(waiting) > 0 {
		if waits, err = rs.store.Waits(ctx, waiting); err != nil {
			return err
		}
	}
	handing := map[job.RunID]policy.Tally{}
	if len(delivering) > 0 {
		if handing, err = rs.store.Handing(ctx, delivering); err != nil {
			return err
		}
	}
	held := map[job.RunID]string{}
	if len(delivering) > 0 && len(frozen) > 0 {
		if held, err = rs.store.HeldDestinations(ctx, delivering); err != nil {
			return err
		}
	}
	for i := range runs {
		r := &runs[i]
		if w, ok := waits[r.ID]; ok {
			r.Reason = holdUp(w, frozen, now)
		}
		if tally, ok := handing[r.ID]; ok && tally.Open > 0 {
			_, r.Reason = policy.Outcome(tally)
		}
		if name, ok := held[r.ID]; ok {
			if f := job.FreezeOf(frozen, []string{"service", "destination:" + name}, now); f != nil {
				r.Reason += "; " + f.Reading()
			}
		}
	}
	return nil
}

// ofTurn tells whether a reason is that of a run that could begin if there were room.
func ofTurn(reason string) bool {
	return reason == "" || strings.HasPrefix(reason, turn) || strings.HasPrefix(reason, "held back: ")
}

// holdUp says what a part waits for now.
func holdUp(w queue.Wait, frozen []job.Freeze, now time.Time) string {
	if f := job.FreezeOf(frozen, append(slices.Clone(w.Labels.V), "service"), now); f != nil {
		return "held back: " + f.Reading()
	}
	switch {
	case w.Rests == queue.StoreLabel:
		return "waits for the store of artifacts, which does not work"
	case w.Rests != "":
		return fmt.Sprintf("waits for %s, which does not work", strings.Replace(w.Rests, ":", " ", 1))
	case w.Floor != nil:
		return fmt.Sprintf("%s: run %s of this job still works", turn, w.Floor)
	case w.Full != "":
		return fmt.Sprintf("%s: as many as may work on %s at once do", turn, strings.Replace(w.Full, ":", " ", 1))
	}
	return turn
}
