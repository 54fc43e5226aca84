package policy_test

import (
	"errors"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/core/zone"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestRetriesGrowAndEnd(t *testing.T) {
	retry := job.Retry{Times: 6, Wait: job.Duration(time.Minute), Growth: 2, Longest: job.Duration(10 * time.Minute)}
	var waits []time.Duration
	for n := 1; n <= 6; n++ {
		waits = append(waits, policy.WaitBefore(retry, n)/time.Minute)
	}
	assert.Equal(t, []time.Duration{1, 2, 4, 8, 10, 10}, waits)
	london, err := zone.Load("Europe/London")
	require.NoError(t, err)
	due := time.Date(2026, 11, 23, 22, 30, 0, 0, london)
	retry.Until = "02:00"
	passing := &fault.Fault{Class: fault.Passing, Cause: errors.New("busy")}
	assert.True(t, policy.AfterFault(retry, 1, passing, due, due.Add(3*time.Hour)).Retry, "two at night is tomorrow")
	last := policy.AfterFault(retry, 1, passing, due, due.Add(3*time.Hour+29*time.Minute+1))
	assert.False(t, last.Retry)
	assert.Equal(t, "nothing is tried again after 02:00 GMT", last.Reason)
}

func TestBlankIsHeldSentTriedAgainOrFails(t *testing.T) {
	retry := job.Retry{Times: 2, Wait: job.Duration(time.Minute)}
	for _, c := range []struct {
		do, then job.IfBlank
		tries    int
		want     job.IfBlank
		why      string
	}{
		{job.BlankHold, "", 1, job.BlankHold, "blank; held, nothing was sent"},
		{job.BlankSend, "", 1, job.BlankSend, "blank; sent with a note, as the job says"},
		{job.BlankFail, "", 1, job.BlankFail, "blank; this job takes that for a failure"},
		{job.BlankRetry, job.BlankSend, 1, job.BlankRetry, "blank; again in 1m (retry 1 of 2)"},
		{
			job.BlankRetry, job.BlankSend, 3, job.BlankSend,
			"blank; tried 3 times, and it was so each time; sent with a note, as the job says",
		},
	} {
		got := policy.OnBlank("blank", c.do, c.then, retry, c.tries, now, now)
		assert.Equal(t, c.want, got.Do)
		assert.Equal(t, c.why, got.Reason)
	}
}

func TestUnusual(t *testing.T) {
	past := []int64{100, 90, 110, 100, 95}
	for _, c := range []struct {
		usual job.Usual
		rows  int64
		past  []int64
		want  string
	}{
		{job.Usual{}, 0, past, ""},
		{job.Usual{AtLeast: 10}, 9, nil, "unusual: 9 rows, and the job asks for at least 10"},
		{job.Usual{AtLeast: 10}, 10, nil, ""},
		{job.Usual{Share: 0.5}, 50, past, ""},
		{
			job.Usual{Share: 0.5},
			49, past,
			"unusual: 49 rows, and the last 5 good runs had 100 in the middle; the job asks for at least 50% of that",
		},
		{job.Usual{Share: 0.5}, 1, past[:4], ""},
	} {
		is, why := policy.Unusual(c.usual, c.rows, c.past)
		assert.Equal(t, c.want, why)
		assert.Equal(t, c.want != "", is)
	}
}

func TestDeadlines(t *testing.T) {
	london, err := zone.Load("Europe/London")
	require.NoError(t, err)
	due := time.Date(2026, 11, 23, 6, 15, 0, 0, london)
	at, ok := policy.DeadlineOf(job.Deadline{At: "09:00"}, due)
	require.True(t, ok)
	assert.Equal(t, "2026-11-23 09:00", at.Format("2006-01-02 15:04"))
	early, _ := policy.DeadlineOf(job.Deadline{At: "06:15"}, due)
	assert.Equal(t, "2026-11-24 06:15", early.Format("2006-01-02 15:04"))
	within, _ := policy.DeadlineOf(job.Deadline{Within: job.Duration(2 * time.Hour)}, due)
	assert.Equal(t, due.Add(2*time.Hour), within)
	_, ok = policy.DeadlineOf(job.Deadline{}, due)
	assert.False(t, ok)

	hour := time.Hour
	assert.Equal(t, at.Add(-hour), policy.WarnAt(at, hour, time.Time{}), "not begun, and it takes an hour")
	assert.Equal(t, at, policy.WarnAt(at, hour, due), "it will be in time")
	late := at.Add(-30 * time.Minute)
	assert.Equal(t, late, policy.WarnAt(at, hour, late))
	assert.Equal(t, "it must arrive by 09:00 GMT on Mon 23 November; at its usual pace of 1h it ends at 09:30",
		policy.Late(at, late, hour, late))
	assert.Equal(t, "it must arrive by 09:00 GMT on Mon 23 November, usually takes 1h and has not begun",
		policy.Late(at, late, hour, time.Time{}))
	assert.Equal(t, "it should have arrived by 09:00 GMT on Mon 23 November and has not",
		policy.Late(at, at, hour, due))
}

// Nothing starves: whatever waits longer than the difference of priorities in
// minutes goes first, and the order of two never changes while both wait.
func TestTurn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := rapid.IntRange(-100, 100).Draw(t, "a"), rapid.IntRange(-100, 100).Draw(t, "b")
		older := time.Duration(rapid.Int64Range(0, int64(10*time.Hour)).Draw(t, "older"))
		first, second := policy.Turn(a, now.Add(-older)), policy.Turn(b, now)
		if older > time.Duration(b-a)*policy.Ageing && !first.Before(second) {
			t.Fatalf("priority %d that waits %s longer does not go before priority %d", a, older, b)
		}
	})
}
