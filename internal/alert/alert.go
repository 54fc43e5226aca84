// Package alert writes what an alert says to those who must know of it: what
// happened, since when, for whom, what was tried, what comes next and what they
// can do.
package alert

import (
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
)

// Steps of an alert: whom it is told.
const (
	StepOwner = iota
	StepSecond
	StepAdministrators
	StepCall
	StepNobody // everybody was tried
)

// Reader is who reads the mail of an alert.
type Reader struct {
	Base        string // address of the console, without a slash at its end
	Zone        *time.Location
	Locale      *locale.Locale // how dates are written; nil is the neutral form
	Step        int
	Acknowledge string // address at which they acknowledge it
}

// when writes an instant in the reader's zone.
func (r Reader) when(at time.Time) string {
	return r.write(at, "Mon 2 Jan 2006 15:04 MST")
}

// later writes an instant after another one that stands before it: without the year
// when that is the same.
func (r Reader) later(at, before time.Time) string {
	if at.In(r.Zone).Year() != before.In(r.Zone).Year() {
		return r.when(at)
	}
	return r.write(at, "Mon 2 Jan 15:04 MST")
}

// write writes an instant as the reader's language has it, or else in a form.
func (r Reader) write(at time.Time, neutral string) string {
	at = at.In(r.Zone)
	if r.Locale == nil || r.Locale.Name == "" {
		return at.Format(neutral)
	}
	return r.Locale.DateTime(at) + at.Format(" MST")
}

// day writes the date of an instant in the reader's zone.
func (r Reader) day(at time.Time) string {
	at = at.In(r.Zone)
	if r.Locale == nil || r.Locale.Name == "" {
		return at.Format("Mon 2 Jan")
	}
	return r.Locale.Date(at)
}

// Letter writes the mail of an alert.
func Letter(a job.Alert, r Reader) deliver.Letter {
	var b strings.Builder
	line := func(label, text string) {
		if text != "" {
			fmt.Fprintf(&b, "%s: %s\n\n", label, text)
		}
	}
	b.WriteString(a.Job + "\n" + a.Happened + "\n\n")
	since := r.when(a.OpenedAt)
	if a.Count > 1 {
		since += fmt.Sprintf("; %d times, last %s", a.Count, r.later(a.LastAt, a.OpenedAt))
	}
	line("Since", since)
	line("For", a.ForWhom)
	line("So far", a.Tried)
	line("Next", a.Next)
	line("What you can do", a.Advice)
	line("Why you", why(a, r.Step))
	links := []string{}
	if r.Acknowledge != "" {
		links = append(links, "Acknowledge it, so that nobody else is called: "+r.Acknowledge)
	}
	if a.RunID != nil {
		links = append(links, "See the run: "+r.Base+"/runs/"+a.RunID.String())
	}
	switch {
	case a.JobID != nil:
		links = append(links, fmt.Sprintf("See the job: %s/jobs/%d", r.Base, *a.JobID))
	case a.Kind == job.AlertDown:
		links = append(links, "See the destinations: "+r.Base+"/destinations")
	}
	links = append(links, fmt.Sprintf("See the alert: %s/alerts/%d", r.Base, a.ID))
	b.WriteString(strings.Join(links, "\n"))
	return deliver.Letter{
		Subject: Subject(a),
		Plain:   b.String(),
		Footer:  fmt.Sprintf("Iron Bell, alert %d. You get it because you own what it is about or administer Iron Bell.", a.ID),
		Headers: map[string]string{"Auto-Submitted": "auto-generated", "Importance": "high"},
	}
}

// why says why the reader gets it who is not the first.
func why(a job.Alert, step int) string {
	owner := "the owner, " + a.Owner + ","
	switch {
	case a.Kind == job.AlertDown || step == StepOwner:
		return ""
	case strings.HasPrefix(a.Told, "told "), strings.HasPrefix(a.Told, "a mail goes to "):
		return owner + " has not acknowledged it. " + phrase.Upper(a.Told) + "."
	case a.Told == "":
		return owner + " could not be told."
	}
	return owner + " could not be told. " + phrase.Upper(a.Told) + "."
}

// Subject is the subject of an alert's mail.
func Subject(a job.Alert) string {
	words := map[job.AlertKind]string{
		job.AlertRunFailed: "Failed", job.AlertDeliveryUnknown: "Delivery unknown", job.AlertBounced: "Bounced",
		job.AlertBlank: "Blank", job.AlertUnusual: "Unusual",
		job.AlertLate: "Late", job.AlertMissed: "Missed", job.AlertDown: "Down",
		job.AlertDeliveryFailed: "Not delivered",
		job.AlertApart:          "Cannot ring", job.AlertConsent: "Your yes is wanted",
	}
	word, ok := words[a.Kind]
	if !ok {
		word = "Alert"
	}
	return word + ": " + a.Job
}

// Success writes the mail that tells an owner that a run is done.
func Success(run job.Run, r Reader) deliver.Letter {
	text := fmt.Sprintf("%s\nRun %s, due %s, is done: %s.\n\nSee the run: %s/runs/%s", run.Job, run.ID, r.when(run.Due),
		run.Reason, r.Base, run.ID)
	return deliver.Letter{
		Subject: "Done: " + run.Job, Plain: text,
		Footer:  "Iron Bell. You get it because you want to hear of success; your page, or the job, says so.",
		Headers: map[string]string{"Auto-Submitted": "auto-generated"},
	}
}

// Digest writes the mail of the morning: what is open, and what closed since the
// day before.
func Digest(alerts []job.Alert, r Reader, now time.Time) deliver.Letter {
	var open, closed []job.Alert
	for _, a := range alerts {
		if a.State == job.AlertClosed {
			closed = append(closed, a)
		} else {
			open = append(open, a)
		}
	}
	var b strings.Builder
	subject := fmt.Sprintf("Iron Bell, %s: nothing needs you", r.day(now))
	if len(open) == 0 {
		b.WriteString("Nothing needs you: no alert is open.\n\n")
	} else {
		subject = fmt.Sprintf("Iron Bell, %s: %d open", r.day(now), len(open))
		fmt.Fprintf(&b, "%d open\n\n", len(open))
		for _, a := range open {
			fmt.Fprintf(&b, "%s\n%s\nSince %s", Subject(a), a.Happened, r.when(a.OpenedAt))
			if a.AcknowledgedBy != "" {
				b.WriteString("; " + a.AcknowledgedBy + " has acknowledged it")
			}
			b.WriteString("\n\n")
		}
	}
	if len(closed) > 0 {
		fmt.Fprintf(&b, "%d put right since yesterday\n\n", len(closed))
		for _, a := range closed {
			b.WriteString(Subject(a) + "\n")
		}
		b.WriteString("\n")
	}
	b.WriteString("See today: " + r.Base + "/")
	return deliver.Letter{
		Subject: subject, Plain: b.String(),
		Footer:  "Iron Bell. You get this digest because you asked for it; you can change that on your page.",
		Headers: map[string]string{"Auto-Submitted": "auto-generated"},
	}
}
