package policy_test

import (
	"errors"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestAfterFault(t *testing.T) {
	passing := &fault.Fault{Class: fault.Passing, Cause: errors.New("busy")}
	lasting := &fault.Fault{Class: fault.Lasting, Cause: errors.New("no such column")}
	retry := job.Retry{Times: 2, Wait: job.Duration(time.Minute)}
	for _, c := range []struct {
		name  string
		retry job.Retry
		tries int
		fault *fault.Fault
		again bool
		why   string
	}{
		{"first failure", retry, 1, passing, true, "passing; again in 1m (retry 1 of 2)"},
		{"second failure", retry, 2, passing, true, "passing; again in 1m (retry 2 of 2)"},
		{"last failure", retry, 3, passing, false, "tried 3 times, the last of them failed too"},
		{"lasting", retry, 1, lasting, false, "lasting: trying again would fail the same way"},
		{"no retries", job.Retry{}, 1, passing, false, "no retries are set"},
	} {
		got := policy.AfterFault(c.retry, c.tries, c.fault, now, now)
		assert.Equal(t, c.again, got.Retry, c.name)
		assert.Equal(t, c.why, got.Reason, c.name)
		if c.again {
			assert.Equal(t, time.Minute, got.Wait, c.name)
		}
	}
}

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func dues(minutesAgo ...int) []time.Time {
	out := make([]time.Time, len(minutesAgo))
	for i, m := range minutesAgo {
		out[i] = now.Add(-time.Duration(m) * time.Minute)
	}
	return out
}

func decisions(all []policy.Decision) []job.RingDecision {
	out := make([]job.RingDecision, len(all))
	for i, d := range all {
		out[i] = d.Decision
	}
	return out
}

const (
	run    = job.RingRun
	joined = job.RingJoined
	passed = job.RingPassedOver
)

func TestRings(t *testing.T) {
	for _, c := range []struct {
		name    string
		outage  job.AfterOutage
		overlap job.Overlap
		dues    []time.Time
		more    bool
		open    policy.Open
		want    []job.RingDecision
	}{
		{"on time", job.OutageOnce, job.OverlapWait, dues(0), false, policy.Open{}, []job.RingDecision{run}},
		{
			"missed, once: the newest stands for all", job.OutageOnce, job.OverlapWait, dues(180, 120, 60), false,
			policy.Open{},
			[]job.RingDecision{passed, passed, run},
		},
		{
			"missed, each", job.OutageEach, job.OverlapWait, dues(180, 120, 60), false,
			policy.Open{},
			[]job.RingDecision{run, run, run},
		},
		{
			"missed, none", job.OutageNone, job.OverlapWait, dues(180, 120, 60), false,
			policy.Open{},
			[]job.RingDecision{passed, passed, passed},
		},
		{
			"missed, none, but the newest is within the grace", job.OutageNone, job.OverlapWait, dues(180, 4), false,
			policy.Open{},
			[]job.RingDecision{passed, run},
		},
		{
			"once, and more to come: the newest is not here", job.OutageOnce, job.OverlapWait, dues(180, 120), true,
			policy.Open{},
			[]job.RingDecision{passed, passed},
		},
		{
			"two within the grace: the second joins", job.OutageOnce, job.OverlapWait, dues(4, 2), false,
			policy.Open{},
			[]job.RingDecision{run, joined},
		},
		{
			"a run waits: it is joined", job.OutageOnce, job.OverlapWait, dues(0), false,
			policy.Open{Working: true, Waiting: 7},
			[]job.RingDecision{joined},
		},
		{
			"a run works: another waits for it", job.OutageOnce, job.OverlapWait, dues(0), false,
			policy.Open{Working: true},
			[]job.RingDecision{run},
		},
		{
			"a run works: passed over", job.OutageOnce, job.OverlapPassOver, dues(0), false,
			policy.Open{Working: true},
			[]job.RingDecision{passed},
		},
		{
			"together", job.OutageOnce, job.OverlapTogether, dues(4, 2), false,
			policy.Open{Working: true},
			[]job.RingDecision{run, run},
		},
	} {
		got := policy.Rings(c.outage, c.overlap, c.dues, now, c.more, c.open)
		assert.Equal(t, c.want, decisions(got), c.name)
		for _, d := range got {
			assert.NotEmpty(t, d.Reason, c.name)
		}
	}
}

// Every due time gets exactly one decision, in order, and a ring that joins
// always has a run to join.
func TestEveryDueTimeIsDecided(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		outage := rapid.SampledFrom([]job.AfterOutage{job.OutageOnce, job.OutageEach, job.OutageNone}).Draw(t, "outage")
		overlap := rapid.SampledFrom([]job.Overlap{job.OverlapWait, job.OverlapPassOver, job.OverlapTogether}).Draw(t,
			"overlap")
		open := policy.Open{Working: rapid.Bool().Draw(t, "working")}
		if open.Working && rapid.Bool().Draw(t, "waiting") {
			open.Waiting = 9
		}
		all := dues(rapid.SliceOfN(rapid.IntRange(0, 600), 1, 20).Draw(t, "minutes")...)
		got := policy.Rings(outage, overlap, all, now, rapid.Bool().Draw(t, "more"), open)
		if len(got) != len(all) {
			t.Fatalf("%d due times, %d decisions", len(all), len(got))
		}
		ran := false
		for i, d := range got {
			if !d.Due.Equal(all[i]) || d.Reason == "" {
				t.Fatalf("decision %d is %+v for %s", i, d, all[i])
			}
			if d.Decision == job.RingJoined && d.Joins == 0 && !ran {
				t.Fatalf("%+v joins nothing", d)
			}
			ran = ran || d.Decision == job.RingRun
		}
	})
}

func TestOutcome(t *testing.T) {
	for _, c := range []struct {
		name  string
		tally policy.Tally
		want  job.RunState
	}{
		{"works", policy.Tally{PartsRunning: 1}, job.RunRunning},
		{"waits for a retry", policy.Tally{PartsWaiting: 1, PartReason: "again in 1m"}, job.RunWaiting},
		{
			"some parts are done, others wait for their turn",
			policy.Tally{PartsDone: 1, PartsWaiting: 2, PartsReady: 2},
			job.RunRunning,
		},
		{"a task failed that it goes on without", policy.Tally{PartsPartly: 1, Sent: 1}, job.RunPartly},
		{"delivers", policy.Tally{PartsDone: 1, Open: 1, Sent: 2}, job.RunDelivering},
		{"all sent", policy.Tally{PartsDone: 1, Sent: 3}, job.RunDone},
		{"nothing to send", policy.Tally{PartsDone: 1}, job.RunDone},
		{"one of three failed", policy.Tally{PartsDone: 1, Sent: 2, Failed: 1}, job.RunPartly},
		{"all failed", policy.Tally{PartsDone: 1, Failed: 2}, job.RunFailed},
		{"unknown", policy.Tally{PartsDone: 1, Unknown: 1}, job.RunPartly},
		{"failed and unknown", policy.Tally{PartsDone: 1, Failed: 1, Unknown: 1}, job.RunPartly},
		{"blank", policy.Tally{PartsBlank: 1}, job.RunBlank},
		{"one part blank, one done", policy.Tally{PartsBlank: 1, PartsDone: 1, Sent: 1}, job.RunDone},
		{"failed", policy.Tally{PartsFailed: 1}, job.RunFailed},
		{"one part failed, one sent", policy.Tally{PartsFailed: 1, PartsDone: 1, Sent: 1}, job.RunPartly},
		{"cancelled", policy.Tally{PartsCancelled: 1}, job.RunCancelled},
	} {
		got, _ := policy.Outcome(c.tally)
		assert.Equal(t, c.want, got, c.name)
		if got != job.RunRunning {
			assert.True(t, job.RunRunning.MayBecome(got), "%s: a running run may become %s", c.name, got)
		}
	}
}
