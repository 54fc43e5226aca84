package alert_test

import (
	"slices"
	"testing"
	"time"

	"ironbell/internal/alert"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/deliver"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAnAlertSaysWhatWhomAndWhatToDo(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	run, jobID := job.RunID(26110000000042), int64(3)
	a := job.Alert{
		ID: 7, Kind: job.AlertDeliveryFailed, Job: "Passenger manifest file", JobID: &jobID, RunID: &run, Owner: "mara",
		Happened: "Run 2611-42 could not be delivered to 1 of 1.", ForWhom: "manifests@harbour-authority.test",
		Tried: "tried 3 times", Next: "nothing more by itself", Advice: "Check the server.",
		Count: 2, OpenedAt: time.Date(2026, 7, 1, 11, 5, 0, 0, time.UTC),
		LastAt: time.Date(2026, 7, 1, 12, 5, 0, 0, time.UTC),
	}
	l := alert.Letter(a, alert.Reader{
		Base: "https://bell.tarnwick.example", Zone: london,
		Acknowledge: "https://bell.tarnwick.example/acknowledge/7/1/abc",
	})
	assert.Equal(t, "Not delivered: Passenger manifest file", l.Subject)
	assert.Equal(t, `Passenger manifest file
Run 2611-42 could not be delivered to 1 of 1.

Since: Wed 1 Jul 2026 12:05 BST; 2 times, last Wed 1 Jul 13:05 BST

For: manifests@harbour-authority.test

So far: tried 3 times

Next: nothing more by itself

What you can do: Check the server.

Acknowledge it, so that nobody else is called: https://bell.tarnwick.example/acknowledge/7/1/abc
See the run: https://bell.tarnwick.example/runs/2611-42
See the job: https://bell.tarnwick.example/jobs/3
See the alert: https://bell.tarnwick.example/alerts/7`, l.Plain)
	third := alert.Reader{Zone: london, Step: alert.StepAdministrators}
	assert.Contains(t, alert.Letter(a, third).Plain, "Why you: The owner, mara, could not be told.")
	a.Told = "told mara@tarnwick.example"
	assert.Contains(t, alert.Letter(a, third).Plain,
		"Why you: The owner, mara, has not acknowledged it. Told mara@tarnwick.example.")
	a.Kind = job.AlertRunFailed
	assert.Equal(t, "Failed: Passenger manifest file", alert.Letter(a, third).Subject)
	down := job.Alert{
		ID: 8, Kind: job.AlertDown, Job: "Destination company mail", Happened: "It does not work.",
		OpenedAt: a.OpenedAt, Count: 1,
	}
	l = alert.Letter(down, third)
	assert.Equal(t, "Down: Destination company mail", l.Subject)
	assert.NotContains(t, l.Plain, "Why you")
	assert.Contains(t, l.Plain, "/destinations")
}

var kinds = []job.AlertKind{
	job.AlertRunFailed, job.AlertDeliveryFailed, job.AlertDeliveryUnknown, job.AlertBlank, job.AlertUnusual, job.AlertLate,
	job.AlertMissed, job.AlertBounced, job.AlertDown, job.AlertApart, job.AlertConsent,
}

func TestEachKindHasASubjectThatSaysIt(t *testing.T) {
	seen := map[string]job.AlertKind{}
	for _, kind := range kinds {
		subject := alert.Subject(job.Alert{Kind: kind, Job: "Board pack"}, nil)
		assert.Contains(t, subject, ": Board pack")
		assert.NotContains(t, subject, "Alert:", "%s has a word of its own", kind)
		assert.NotContains(t, seen, subject)
		seen[subject] = kind
	}
	assert.Equal(t, "Alert: Board pack", alert.Subject(job.Alert{Kind: "of tomorrow", Job: "Board pack"}, nil))
}

func TestWhoIsNotTheFirstReadsWhy(t *testing.T) {
	a := job.Alert{Kind: job.AlertRunFailed, Job: "Board pack", Owner: "mara", Happened: "It failed."}
	at := func(step int, told string) string {
		a.Told = told
		return alert.Letter(a, alert.Reader{Zone: time.UTC, Step: step}).Plain
	}
	assert.NotContains(t, at(alert.StepOwner, ""), "Why you")
	assert.Contains(t, at(alert.StepSecond, "a mail goes to Mara Quill"),
		"Why you: The owner, mara, has not acknowledged it. A mail goes to Mara Quill.")
	assert.Contains(t, at(alert.StepAdministrators, ""), "Why you: The owner, mara, could not be told.")
	assert.Contains(t, at(alert.StepAdministrators, "mara could not be told: 550"),
		"could not be told. Mara could not be told: 550.")
	a.Kind = job.AlertDown
	assert.NotContains(t, at(alert.StepOwner, ""), "Why you", "a destination belongs to nobody")
}

func TestTheDigestSaysWhatNeedsSomebodyAndWhatDoesNot(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	now := time.Date(2026, 11, 27, 7, 0, 0, 0, time.UTC)
	r := alert.Reader{Base: "https://bell.tarnwick.example", Zone: london}
	none := alert.Digest(nil, r, now)
	assert.Equal(t, "Iron Bell, Fri 27 Nov: nothing needs you", none.Subject)
	assert.Contains(t, none.Plain, "no alert is open")
	some := alert.Digest([]job.Alert{
		{
			Kind: job.AlertRunFailed, State: job.AlertOpen, Job: "Board pack", Happened: "It failed.",
			OpenedAt: now.Add(-time.Hour),
		},
		{
			Kind: job.AlertLate, State: job.AlertAcknowledged, Job: "Fuel burn", Happened: "It is late.",
			OpenedAt: now.Add(-2 * time.Hour), AcknowledgedBy: "Joren Tak",
		},
		{
			Kind: job.AlertDown, State: job.AlertClosed, Job: "Destination company mail",
			OpenedAt: now.Add(-3 * time.Hour),
		},
	}, r, now)
	assert.Equal(t, "Iron Bell, Fri 27 Nov: 2 open", some.Subject)
	for _, part := range []string{
		"2 open", "Failed: Board pack\nIt failed.", "Joren Tak has acknowledged it",
		"1 put right since yesterday", "Down: Destination company mail", "https://bell.tarnwick.example/",
	} {
		assert.Contains(t, some.Plain, part)
	}
	assert.Equal(t, "auto-generated", some.Headers["Auto-Submitted"], "no holiday answers to it (RFC 3834)")
	r.Locale, err = locale.Load("de")
	require.NoError(t, err)
	assert.Contains(t, alert.Digest(nil, r, now).Subject, "27.11.2026", "dates as the reader writes them")
}

func TestAlertsAreWrittenInTheLanguageOfTheirReader(t *testing.T) {
	german, err := locale.Load("de")
	require.NoError(t, err)
	r := alert.Reader{Base: "http://bell.example", Zone: time.UTC, Locale: german, Acknowledge: "http://bell.example/yes"}
	run, id := job.RunID(26110000000042), int64(7)
	english := []string{
		"Failed", "Unknown", "Bounced", "Blank", "Unusual", "Late", "Missed", "Down", "Not delivered", "Cannot ring", "Your yes", "Alert",
		"Since", "See the", "Acknowledge it", "You get it", "What you can do", "Something needs", "A result", "A run", "due", "In detail",
	}
	for _, kind := range append(slices.Clone(kinds), "of tomorrow") {
		l := alert.Letter(job.Alert{
			Kind: kind, Job: "Frachtliste", Happened: "the server refused it", Advice: "-", Owner: "mara", RunID: &run, JobID: &id, Count: 2,
		}, r)
		assert.Equal(t, "de", l.Lang)
		assert.Contains(t, l.Plain, "Im Einzelnen: the server refused it")
		for _, word := range english {
			assert.NotContains(t, l.Subject+l.Plain+l.Footer, word, kind)
		}
	}
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	for _, l := range []deliver.Letter{
		alert.Success(job.Run{ID: run, Job: "Frachtliste", Due: now, Reason: "-"}, r), alert.Digest(nil, r, now),
		alert.Digest([]job.Alert{
			{Kind: job.AlertLate, Job: "Frachtliste", State: job.AlertOpen, AcknowledgedBy: "mara"},
			{Kind: job.AlertLate, Job: "Frachtliste", State: job.AlertClosed},
		}, r, now),
	} {
		assert.Equal(t, "de", l.Lang)
		for _, word := range append(english, "Nothing", "Done", "open", "yesterday", "digest") {
			assert.NotContains(t, l.Subject+l.Plain+l.Footer, word)
		}
	}
}
