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
	say := r.Locale.Say
	line := func(label, text string) {
		if text != "" {
			fmt.Fprintf(&b, "%s: %s\n\n", say(label), text)
		}
	}
	if r.Locale.English() {
		b.WriteString(a.Job + "\n" + a.Happened + "\n\n")
	} else {
		// What went wrong in detail is told by programs and places of all kinds, in English mostly.
		b.WriteString(a.Job + "\n" + say(happened(a.Kind)) + "\n\n")
		line("In detail", a.Happened)
	}
	since := r.when(a.OpenedAt)
	if a.Count > 1 {
		since = say("%s; %d times, last %s", since, a.Count, r.later(a.LastAt, a.OpenedAt))
	}
	line("Since", since)
	line("For", a.ForWhom)
	line("So far", a.Tried)
	line("Next", a.Next)
	line("What you can do", a.Advice)
	line("Why you", why(a, r))
	links := []string{}
	if r.Acknowledge != "" {
		links = append(links, say("Acknowledge it, so that nobody else is called: %s", r.Acknowledge))
	}
	if a.RunID != nil {
		links = append(links, say("See the run: %s", r.Base+"/runs/"+a.RunID.String()))
	}
	switch {
	case a.JobID != nil:
		links = append(links, say("See the job: %s", fmt.Sprintf("%s/jobs/%d", r.Base, *a.JobID)))
	case a.Kind == job.AlertDown:
		links = append(links, say("See the destinations: %s", r.Base+"/destinations"))
	}
	links = append(links, say("See the alert: %s", fmt.Sprintf("%s/alerts/%d", r.Base, a.ID)))
	b.WriteString(strings.Join(links, "\n"))
	return deliver.Letter{
		Subject: Subject(a, r.Locale),
		Lang:    r.lang(),
		Plain:   b.String(),
		Footer:  say("Iron Bell, alert %d. You get it because you own what it is about or administer Iron Bell.", a.ID),
		Headers: map[string]string{"Auto-Submitted": "auto-generated", "Importance": "high"},
	}
}

// lang is in which language a letter stands, as BCP 47 has it.
func (r Reader) lang() string {
	if r.Locale == nil {
		return ""
	}
	return r.Locale.Lang
}

// why says why the reader gets it who is not the first.
func why(a job.Alert, r Reader) string {
	told := ""
	if a.Told != "" {
		told = " " + phrase.Upper(a.Told) + "."
	}
	switch {
	case a.Kind == job.AlertDown || r.Step == StepOwner:
		return ""
	case strings.HasPrefix(a.Told, "told "), strings.HasPrefix(a.Told, "a mail goes to "):
		return r.Locale.Say("The owner, %s, has not acknowledged it.", a.Owner) + told
	}
	return r.Locale.Say("The owner, %s, could not be told.", a.Owner) + told
}

// kinds are the word of each kind of alert, and what it means.
var kinds = map[job.AlertKind][2]string{
	job.AlertRunFailed:       {"Failed", "A run failed; what it makes is missing."},
	job.AlertDeliveryUnknown: {"Delivery unknown", "Nobody knows whether a delivery arrived."},
	job.AlertBounced:         {"Bounced", "A mail came back."},
	job.AlertBlank:           {"Blank", "A result is blank."},
	job.AlertUnusual:         {"Unusual", "A result is unusual."},
	job.AlertLate:            {"Late", "A run is later than it may be."},
	job.AlertMissed:          {"Missed", "What is expected has not come."},
	job.AlertDown:            {"Down", "A place that is needed does not work."},
	job.AlertDeliveryFailed:  {"Not delivered", "A result could not be delivered."},
	job.AlertApart:           {"Cannot ring", "A job cannot begin as it stands."},
	job.AlertConsent:         {"Your yes is wanted", "Mail to outside waits for a second person's yes."},
}

func happened(kind job.AlertKind) string {
	if words, ok := kinds[kind]; ok {
		return words[1]
	}
	return "Something needs you."
}

// Subject is the subject of an alert's mail in a language; nil is English.
func Subject(a job.Alert, l *locale.Locale) string {
	word := "Alert"
	if words, ok := kinds[a.Kind]; ok {
		word = words[0]
	}
	return l.Say(word) + ": " + a.Job
}

// Success writes the mail that tells an owner that a run is done.
func Success(run job.Run, r Reader) deliver.Letter {
	say := r.Locale.Say
	text := run.Job + "\n" + say("Run %s, due %s, is done: %s.", run.ID, r.when(run.Due), run.Reason) + "\n\n" +
		say("See the run: %s", fmt.Sprintf("%s/runs/%s", r.Base, run.ID))
	return deliver.Letter{
		Subject: say("Done: %s", run.Job), Lang: r.lang(), Plain: text,
		Footer:  say("Iron Bell. You get it because you want to hear of success; your page, or the job, says so."),
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
	say := r.Locale.Say
	subject := say("Iron Bell, %s: nothing needs you", r.day(now))
	if len(open) == 0 {
		b.WriteString(say("Nothing needs you: no alert is open.") + "\n\n")
	} else {
		subject = say("Iron Bell, %s: %d open", r.day(now), len(open))
		b.WriteString(say("%d open", len(open)) + "\n\n")
		for _, a := range open {
			fmt.Fprintf(&b, "%s\n%s\n%s", Subject(a, r.Locale), a.Happened, say("Since %s", r.when(a.OpenedAt)))
			if a.AcknowledgedBy != "" {
				b.WriteString("; " + say("%s has acknowledged it", a.AcknowledgedBy))
			}
			b.WriteString("\n\n")
		}
	}
	if len(closed) > 0 {
		b.WriteString(say("%d put right since yesterday", len(closed)) + "\n\n")
		for _, a := range closed {
			b.WriteString(Subject(a, r.Locale) + "\n")
		}
		b.WriteString("\n")
	}
	b.WriteString(say("See today: %s", r.Base+"/"))
	return deliver.Letter{
		Subject: subject, Lang: r.lang(), Plain: b.String(),
		Footer:  say("Iron Bell. You get this digest because you asked for it; you can change that on your page."),
		Headers: map[string]string{"Auto-Submitted": "auto-generated"},
	}
}
