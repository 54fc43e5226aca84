package alert_test

import (
	"testing"
	"time"

	"ironbell/internal/alert"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAnAlertSaysWhatWhomAndWhatToDo(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	run, jobID := job.RunID(26110000000042), int64(3)
	a := job.Alert{
		ID: 7, Kind: job.AlertDeliveryFailed, Job: "Passenger manifest file", JobID: &jobID, RunID: &run, Owner: "mara",
		Happened: "Run 2611-42 could not be delivered to 1 of 1.", ForWhom: "manifests@harbour-authority.test", Tried: "tried 3 times", Next: "nothing more by itself", Advice: "Check the server.",
		Count: 2, OpenedAt: time.Date(2026, 7, 1, 11, 5, 0, 0, time.UTC), LastAt: time.Date(2026, 7, 1, 12, 5, 0, 0, time.UTC),
	}
	l := alert.Letter(a, alert.Reader{Base: "https://bell.tarnwick.example", Zone: london, TakeOn: "https://bell.tarnwick.example/take-on/7/1/abc"})
	assert.Equal(t, "Not delivered: Passenger manifest file", l.Subject)
	assert.Equal(t, `Passenger manifest file
Run 2611-42 could not be delivered to 1 of 1.

Since: Wed 1 Jul 2026 12:05 BST; 2 times, last Wed 1 Jul 13:05 BST

For: manifests@harbour-authority.test

So far: tried 3 times

Next: nothing more by itself

What you can do: Check the server.

Take it on, so that nobody else is called: https://bell.tarnwick.example/take-on/7/1/abc
See the run: https://bell.tarnwick.example/runs/2611-42
See the job: https://bell.tarnwick.example/jobs/3`, l.Plain)
	third := alert.Reader{Zone: london, Step: alert.StepAdministrators}
	assert.Contains(t, alert.Letter(a, third).Plain, "Why you: the owner, mara, could not be told.")
	a.Told = "told mara@tarnwick.example"
	assert.Contains(t, alert.Letter(a, third).Plain, "Why you: the owner, mara, has not taken it on. Told mara@tarnwick.example.")
	a.Kind = job.AlertRunFailed
	assert.Equal(t, "Failed: Passenger manifest file", alert.Letter(a, third).Subject)
	down := job.Alert{ID: 8, Kind: job.AlertDown, Job: "Destination company mail", Happened: "It does not work.", OpenedAt: a.OpenedAt, Count: 1}
	l = alert.Letter(down, third)
	assert.Equal(t, "Down: Destination company mail", l.Subject)
	assert.NotContains(t, l.Plain, "Why you")
	assert.Contains(t, l.Plain, "/destinations")
}
