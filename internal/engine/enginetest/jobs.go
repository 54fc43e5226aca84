package enginetest

import (
	"ironbell/internal/core/job"
)

// Stranger is an address outside the company.
const Stranger = "desk@else.test"

// Placed is a task that brings files to a place.
func Placed(destination string, change ...func(*job.DeliverTask)) job.Task {
	d := &job.DeliverTask{Destination: destination}
	for _, c := range change {
		c(d)
	}
	return job.Task{Name: "place", Kind: job.KindDeliver, Deliver: d}
}

// Strained is a task that does as it is told; mailed one that sends.
func Strained(name, word string, after ...string) job.Task {
	return job.Task{Name: name, Kind: job.KindFetch, Fetch: &job.FetchTask{URL: word}, After: after}
}

// Effect is such a task that changes something outside.
func Effect(name, word string, after ...string) job.Task {
	return job.Task{Name: name, Kind: job.KindQuery, Query: &job.QueryTask{Source: "tarnwick", SQL: word}, After: after}
}

// Mailed is a task that mails what the tasks before it made.
func Mailed(to ...string) job.Task {
	return job.Task{
		Name: "mail", Kind: job.KindDeliver,
		Deliver: &job.DeliverTask{Destination: "company mail", To: to, Subject: "{run}"},
	}
}

// Ruled are triggers by rules in words.
func Ruled(rules ...string) []job.Trigger {
	out := make([]job.Trigger, len(rules))
	for i, r := range rules {
		out[i].Rule = r
	}
	return out
}

// Reported is a task that runs a report.
func Reported(name, report string) job.Task {
	return job.Task{
		Name: name, Kind: job.KindReport,
		Report: &job.ReportTask{Report: report, Outputs: []job.Output{{Format: "csv"}}},
	}
}

// Section is the one section of a report.
func Section(sql string) []job.Section { return []job.Section{{Name: "A", SQL: sql}} }
