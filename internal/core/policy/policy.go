// Package policy decides what now: after an attempt failed, after an outage,
// when rings meet, when all parts of a run have ended. Each decision is a
// function of what it is told, with the reason as a sentence, and does nothing.
package policy

import (
	"fmt"
	"math"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
)

// Grace is how late a ring may be and is still no missed one.
const Grace = 5 * time.Minute

// prompt is how late a ring may be and is still said to be on time.
const prompt = 30 * time.Second

// Again is the decision after a try that failed.
type Again struct {
	Retry  bool
	Wait   time.Duration // when Retry
	Reason string
}

// AfterFault decides whether a step that failed is tried again. tries counts
// the tries made, at least one; due is when the run was due and now is the
// instant, both in the job's zone.
func AfterFault(retry job.Retry, tries int, f *fault.Fault, due, now time.Time) Again {
	if f.Class != fault.Passing {
		return Again{Reason: "lasting: trying again would fail the same way"}
	}
	return again(retry, tries, "the last of them failed too", "passing; ", due, now)
}

// again decides on one more try after tries of them.
func again(retry job.Retry, tries int, last, passing string, due, now time.Time) Again {
	if retry.Times == 0 {
		return Again{Reason: "no retries are set"}
	}
	if tries > retry.Times {
		return Again{Reason: fmt.Sprintf("tried %s, %s", times(tries), last)}
	}
	wait := WaitBefore(retry, tries)
	if end, ok := RetryEnd(retry, due); ok && now.Add(wait).After(end) {
		return Again{Reason: fmt.Sprintf("nothing is tried again after %s", end.Format("15:04 MST"))}
	}
	return Again{
		Retry: true, Wait: wait,
		Reason: fmt.Sprintf("%sagain in %s (retry %d of %d)", passing, job.Duration(wait.Round(time.Second)), tries,
			retry.Times),
	}
}

// WaitBefore is how long the n-th retry waits, n from 1 on.
func WaitBefore(retry job.Retry, n int) time.Duration {
	wait, longest := float64(retry.Wait), float64(retry.Longest)
	if longest == 0 {
		longest = float64(30 * 24 * time.Hour)
	}
	if retry.Growth > 0 {
		wait *= math.Pow(retry.Growth, float64(n-1))
	}
	return time.Duration(min(wait, longest))
}

// RetryEnd is the instant after which nothing is tried again: the first such
// time of day after the run was due. ok is false when none is set.
func RetryEnd(retry job.Retry, due time.Time) (end time.Time, ok bool) {
	return nextAt(retry.Until, due)
}

// nextAt is the first instant after one at which a wall clock of its zone shows
// a time of day, written as 15:04.
func nextAt(text string, after time.Time) (time.Time, bool) {
	t, err := time.Parse("15:04", text)
	if err != nil {
		return time.Time{}, false
	}
	for day := after.Day(); ; day++ {
		at := time.Date(after.Year(), after.Month(), day, t.Hour(), t.Minute(), 0, 0, after.Location())
		if at.After(after) {
			return at, true
		}
	}
}

func times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	default:
		return fmt.Sprintf("%d times", n)
	}
}

// Open is what the clock knows of a job's runs when it decides on a ring.
type Open struct {
	Working bool      // a run of the job works or waits
	Waiting job.RunID // a run of this trigger's values that has not begun; 0 for none
	Held    bool      // the rings of the trigger wait for what happens elsewhere: each makes a run of its own
}

// Decision is what is decided on one due time.
type Decision struct {
	Due      time.Time
	Decision job.RingDecision
	Reason   string
	Joins    job.RunID // for RingJoined, a run that was there already; 0 when it joins the run of this batch
}

// Rings decides on the due times of one trigger that have come, oldest first.
// more tells that still later ones have come but were not listed.
func Rings(outage job.AfterOutage, overlap job.Overlap, dues []time.Time, now time.Time, more bool,
	open Open,
) []Decision {
	out := make([]Decision, 0, len(dues))
	newest := len(dues) - 1
	rung := false // this batch made a run already
	for i, due := range dues {
		late := now.Sub(due)
		missed := late > Grace
		switch {
		case missed && outage == job.OutageNone:
			out = append(out,
				passed(due, "missed by %s, and this job passes over what was missed",
					job.Duration(late.Round(time.Second))))
			continue
		case missed && outage == job.OutageOnce && (i < newest || more):
			out = append(out,
				passed(due, "missed by %s; a later ring stands for it", job.Duration(late.Round(time.Second))))
			continue
		}
		reason := "on time"
		switch {
		case missed:
			reason = fmt.Sprintf("made up after an outage, %s late", job.Duration(late.Round(time.Second)))
		case late > prompt:
			reason = fmt.Sprintf("%s late", job.Duration(late.Round(time.Second)))
		}
		switch {
		case overlap == job.OverlapPassOver && (open.Working || rung && !open.Held):
			out = append(out, passed(due, "the last run still works, and this job passes over what meets it"))
			continue
		case overlap == job.OverlapWait && outage != job.OutageEach && open.Waiting != 0 && !open.Held:
			out = append(out, Decision{
				Due: due, Decision: job.RingJoined, Joins: open.Waiting,
				Reason: "joined run " + open.Waiting.String() + ", which still waits for its turn",
			})
			continue
		case overlap == job.OverlapWait && rung && outage != job.OutageEach && !open.Held:
			out = append(out, Decision{
				Due: due, Decision: job.RingJoined, Reason: "joined the run that rang just before",
			})
			continue
		}
		rung = true
		out = append(out, Decision{Due: due, Decision: job.RingRun, Reason: reason})
	}
	return out
}

func passed(due time.Time, format string, args ...any) Decision {
	return Decision{Due: due, Decision: job.RingPassedOver, Reason: fmt.Sprintf(format, args...)}
}

// Tally counts the parts and deliveries of a run by what became of them.
type Tally struct {
	PartsRunning   int    `db:"parts_running"`
	PartsWaiting   int    `db:"parts_waiting"`
	PartsReady     int    `db:"parts_ready"` // of those that wait, for their turn only
	PartsDone      int    `db:"parts_done"`
	PartsPartly    int    `db:"parts_partly"`
	PartsBlank     int    `db:"parts_blank"`
	PartsFailed    int    `db:"parts_failed"`
	PartsCancelled int    `db:"parts_cancelled"`
	PartReason     string `db:"part_reason"` // of a part that is not done, the worst first
	DoneReason     string `db:"done_reason"`

	Open    int `db:"open"` // deliveries
	Sent    int `db:"sent"`
	Failed  int `db:"failed"` // and bounced
	Unknown int `db:"unknown"`

	Declined    int    `db:"declined"`     // by a second person
	DeclinedOne string `db:"declined_one"` // the first of those
	Asking      int    `db:"asking"`       // of those that are open: wait for a second person
}

// Outcome is the state of a run. While parts are to be worked on it is running
// or waiting, while deliveries are open it is delivering.
func Outcome(t Tally) (job.RunState, string) {
	ended := t.PartsDone + t.PartsPartly + t.PartsBlank + t.PartsFailed + t.PartsCancelled
	switch {
	case t.PartsRunning > 0 || t.PartsReady > 0 && ended > 0:
		return job.RunRunning, "parts still work"
	case t.PartsWaiting > 0:
		return job.RunWaiting, t.PartReason
	case t.Open > 0:
		reason := fmt.Sprintf("%d of %d not delivered yet", t.Open, t.Open+t.Sent+t.Failed+t.Unknown+t.Declined)
		if t.Asking > 0 {
			reason += fmt.Sprintf("; %d of them %s for a second person's yes", t.Asking,
				map[bool]string{true: "waits", false: "wait"}[t.Asking == 1])
		}
		return job.RunDelivering, reason
	case t.PartsCancelled > 0:
		return job.RunCancelled, t.PartReason
	}
	all := t.Sent + t.Failed + t.Unknown + t.Declined
	declined := ""
	if t.Declined > 0 {
		declined = fmt.Sprintf("; declined by a second person: %s", t.DeclinedOne)
		if t.Declined > 1 {
			declined += fmt.Sprintf(" and %d more", t.Declined-1)
		}
	}
	switch {
	case t.PartsFailed > 0 && (t.Sent > 0 || t.PartsDone+t.PartsPartly > 0):
		return job.RunPartly, t.PartReason
	case t.PartsFailed > 0:
		return job.RunFailed, t.PartReason
	case t.Unknown > 0 && t.Failed == 0:
		return job.RunPartly,
			fmt.Sprintf("%d of %d unknown: the answer was lost; settle by hand", t.Unknown, all) + declined
	case t.Failed > 0 && t.Sent == 0 && t.Unknown == 0 && t.Declined == 0:
		return job.RunFailed, fmt.Sprintf("none of %d delivered", all)
	case t.Failed > 0:
		return job.RunPartly, fmt.Sprintf("%d of %d not delivered", t.Failed+t.Unknown+t.Declined, all) + declined
	case t.Declined > 0:
		return job.RunPartly, fmt.Sprintf("%d of %d not delivered", t.Declined, all) + declined
	case t.PartsPartly > 0:
		return job.RunPartly, t.PartReason
	case t.PartsDone == 0 && t.PartsBlank > 0:
		return job.RunBlank, t.PartReason
	case all > 0:
		return job.RunDone, fmt.Sprintf("delivered to %d of %d", t.Sent, all)
	case t.DoneReason != "":
		return job.RunDone, t.DoneReason
	}
	return job.RunDone, "all tasks done"
}
