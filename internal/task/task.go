// Package task carries out the steps of a job: one file for each kind. A task
// reads what the run gives it and hands back what it made; it writes none of
// our records itself, so that the engine can write outcome and files in one
// transaction, fenced by the lease.
package task

import (
	"context"
	"fmt"
	"time"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
)

// Work is what a task may see of its run.
type Work struct {
	RunID   job.RunID
	Part    int
	JobID   int64
	Job     string
	Why     string
	Nominal time.Time // in the job's zone
	Due     time.Time // in the job's zone
	Frame   moment.Frame
	Values  job.Values
	Def     job.Definition
	Files   []job.Artifact // made by the tasks before
	Blank   bool           // all reports before had no rows
	Log     func(level, text string)
}

// Result is what a task made.
type Result struct {
	Rows    int64
	Counted bool // Rows says something
	Blank   bool
	Note    string
	Files   []job.Artifact
	Message *Message // to be frozen and handed over
}

// Message is a message that was composed and kept, with its recipients.
type Message struct {
	MessageID     string // with angle brackets
	Subject       string
	DestinationID int64
	Key           string
	Size          int64
	SHA256        string
	Addresses     []string
}

// Kind carries out tasks of one kind. It may be used by several goroutines.
type Kind interface {
	Run(ctx context.Context, w Work, t job.Task) (Result, error)
}

// facts gives the moving parts their values.
func (w Work) facts(report string, rows int64, bound []job.Bound) expr.Facts {
	values := make(map[string]string, len(bound))
	for _, b := range bound {
		values[b.Name] = b.Text
	}
	return expr.Facts{Job: w.Job, Report: report, Run: w.RunID.String(), Rows: rows, Date: w.Nominal, Due: w.Due, Values: values}
}

// Names are the names that a report's moving parts may speak of.
func Names(params []job.Parameter) expr.Names {
	var n expr.Names
	for _, p := range params {
		n.Values = append(n.Values, p.Name)
	}
	return n
}

// fill reads a text with moving parts and fills it in.
func fill(text string, names expr.Names, f expr.Facts) (string, error) {
	t, err := expr.Parse(text, names)
	if err != nil {
		return "", fmt.Errorf("%q: %w", text, err)
	}
	out, err := t.Fill(f)
	if err != nil {
		return "", fmt.Errorf("%q: %w", text, err)
	}
	return out, nil
}
