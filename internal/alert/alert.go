// Package alert writes what an alert says to those who must know of it: what
// happened, for whom, what was tried, what comes next and what they can do.
package alert

import (
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
)

// Steps of an alert: whom it is told.
const (
	StepOwner = iota
	StepAdministrators
	StepNobody // everybody was tried
)

// Letter writes the mail of an alert. base is the address of the console,
// without a slash at its end; zone is the reader's.
func Letter(a job.Alert, base string, zone *time.Location, step int) deliver.Letter {
	var b strings.Builder
	line := func(label, text string) {
		if text != "" {
			fmt.Fprintf(&b, "%s: %s\n\n", label, text)
		}
	}
	b.WriteString(a.Job + "\n" + a.Happened + "\n\n")
	since := a.OpenedAt.In(zone).Format("Mon 2 Jan 2006 15:04 MST")
	if a.Count > 1 {
		since += fmt.Sprintf("; %d times, last %s", a.Count, a.LastAt.In(zone).Format("Mon 2 Jan 15:04 MST"))
	}
	line("Since", since)
	line("For", a.ForWhom)
	line("So far", a.Tried)
	line("What you can do", a.Advice)
	if step > StepOwner {
		line("Why you", "the owner, "+a.Owner+", could not be told.")
	}
	links := []string{}
	if a.RunID != nil {
		links = append(links, "See the run: "+base+"/runs/"+a.RunID.String())
	}
	if a.JobID != nil {
		links = append(links, fmt.Sprintf("See the job: %s/jobs/%d", base, *a.JobID))
	}
	links = append(links, "Take it on: "+base+"/")
	b.WriteString(strings.Join(links, "\n"))
	return deliver.Letter{
		Subject: subject(a),
		Plain:   b.String(),
		Footer:  fmt.Sprintf("Iron Bell, alert %d. You get it because you own this job or administer Iron Bell.", a.ID),
		Headers: map[string]string{"Auto-Submitted": "auto-generated", "Importance": "high"},
	}
}

func subject(a job.Alert) string {
	switch a.Kind {
	case job.AlertRunFailed:
		return "Failed: " + a.Job
	case job.AlertDeliveryUnknown:
		return "Delivery unknown: " + a.Job
	default:
		return "Not delivered: " + a.Job
	}
}
