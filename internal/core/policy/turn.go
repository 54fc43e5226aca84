package policy

import (
	"fmt"
	"time"

	"ironbell/internal/core/job"
)

// Ageing is the waiting that one point of priority is worth. What waits gains a
// point in this time, so that nothing starves: a part of priority 0 goes before
// a newer one of priority 100 once it has waited 100 minutes longer.
const Ageing = time.Minute

// Turn orders what waits: the earlier goes first. Since all that waits ages
// alike, the order of two never changes, and it can be kept in an index.
func Turn(priority int, ready time.Time) time.Time {
	return ready.Add(-time.Duration(priority) * Ageing)
}

// DeadlineOf is the instant at which a run that was due, in the job's zone,
// must have arrived; ok is false when the job sets none.
func DeadlineOf(d job.Deadline, due time.Time) (at time.Time, ok bool) {
	if d.Within > 0 {
		return due.Add(time.Duration(d.Within)), true
	}
	return nextAt(d.At, due)
}

// WarnAt is when the owner of a run that has not ended is warned of its
// deadline: once it can no longer be kept at the usual pace. usual is how long
// the job's runs usually take, zero when nobody knows yet; began is when the
// run began, zero while it has not.
func WarnAt(deadline time.Time, usual time.Duration, began time.Time) time.Time {
	if usual <= 0 {
		return deadline
	}
	if began.IsZero() {
		return deadline.Add(-usual)
	}
	if began.Add(usual).After(deadline) {
		return began // it will be late, and that is known already
	}
	return deadline
}

// Late says how a run stands against its deadline, for the alert of it.
func Late(deadline, now time.Time, usual time.Duration, began time.Time) string {
	const form = "15:04 MST on Mon 2 January"
	switch {
	case !now.Before(deadline):
		return fmt.Sprintf("it should have arrived by %s and has not", deadline.Format(form))
	case began.IsZero():
		return fmt.Sprintf("it must arrive by %s, usually takes %s and has not begun", deadline.Format(form),
			job.Duration(usual.Round(time.Second)))
	}
	return fmt.Sprintf("it must arrive by %s; at its usual pace of %s it ends at %s", deadline.Format(form),
		job.Duration(usual.Round(time.Second)), began.Add(usual).Format("15:04"))
}
