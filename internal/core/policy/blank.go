package policy

import (
	"fmt"
	"slices"
	"time"

	"ironbell/internal/core/job"
)

// GoodRuns is how many of the last good runs make what is usual; leastRuns is
// how many of them there must be.
const (
	GoodRuns  = 20
	leastRuns = 5
)

// Held ends the reason of everything that was held.
const Held = "held, nothing was sent"

// Found is what is decided on a result that is blank or unusual.
type Found struct {
	Do     job.IfBlank   // BlankRetry with Wait, or one of the others
	Wait   time.Duration // when Do is BlankRetry
	Reason string
}

// OnBlank decides what to do with a result that is blank or unusual: what
// tells which, do and then are what the job says. tries counts how often it was
// found so in this run, at least once; due and now are in the job's zone.
func OnBlank(what string, do, then job.IfBlank, retry job.Retry, tries int, due, now time.Time) Found {
	why := what
	if do == job.BlankRetry {
		if next := again(retry, tries, "and it was so each time", "", due, now); next.Retry {
			return Found{Do: job.BlankRetry, Wait: next.Wait, Reason: what + "; " + next.Reason}
		} else if retry.Times > 0 {
			why += "; " + next.Reason
		}
		do = then
	}
	switch do {
	case job.BlankSend:
		return Found{Do: job.BlankSend, Reason: why + "; sent with a note, as the job says"}
	case job.BlankFail:
		return Found{Do: job.BlankFail, Reason: why + "; this job takes that for a failure"}
	}
	return Found{Do: job.BlankHold, Reason: why + "; " + Held}
}

// Unusual tells whether a result of n rows is unusual and why, given the rows
// of the last good runs of the same trigger, part and values, newest first.
func Unusual(u job.Usual, n int64, past []int64) (bool, string) {
	if n < u.AtLeast {
		return true, fmt.Sprintf("unusual: %d rows, and the job asks for at least %d", n, u.AtLeast)
	}
	past = past[:min(len(past), GoodRuns)]
	if u.Share == 0 || len(past) < leastRuns {
		return false, ""
	}
	usual := median(past)
	if float64(n) < u.Share*usual {
		return true,
			fmt.Sprintf("unusual: %d rows, and the last %d good runs had %.0f in the middle; the job asks for at "+
				"least %.0f%% of that", n, len(past), usual, 100*u.Share)
	}
	return false, ""
}

func median(all []int64) float64 {
	sorted := slices.Sorted(slices.Values(all))
	mid := len(sorted) / 2
	if len(sorted)%2 == 1 {
		return float64(sorted[mid])
	}
	return float64(sorted[mid-1]+sorted[mid]) / 2
}
