package world

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func (w *World) Write(path, text string, mode os.FileMode) {
	w.T.Helper()
	require.NoError(w.T, os.MkdirAll(filepath.Dir(filepath.Join(w.Dir, path)), 0o700))
	require.NoError(w.T, os.WriteFile(filepath.Join(w.Dir, path), []byte(text), mode))
}

// What comes from data ends up in subjects, names, folders and addresses. Whatever
// it holds, it changes nothing but the text that it stands for.

// Notes is a job that delivers notes.
func (w *World) Notes() job.Definition {
	w.T.Helper()
	w.Report("Notes", "SELECT :note AS note", job.Parameter{Name: "note", Type: job.TypeText})
	d := Definition("Notes", "company mail", []string{"csv"}, "oren@tarnwick.example")
	d.Tasks[0].Report.Outputs[0].Name = "{value.note}"
	d.Tasks[1].Deliver.Subject = "Note: {value.note}"
	d.Retry = job.Retry{Times: 1, Wait: job.Duration(200 * time.Millisecond)}
	return d
}

// Ask sends a bare request and gives its answer, whose body is read.
func (w *World) Ask(method, path, body string, headers map[string]string) *http.Response {
	w.T.Helper()
	req, err := http.NewRequest(method, "http://"+w.Listen+path, strings.NewReader(body))
	require.NoError(w.T, err)
	req.Header.Set("Authorization", "Bearer "+w.Token)
	req.Header.Set("Content-Type", "application/json")
	for name, value := range headers {
		req.Header.Set(name, value)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(w.T, err)
	text, err := io.ReadAll(res.Body)
	require.NoError(w.T, errors.Join(err, res.Body.Close()))
	res.Body = io.NopCloser(bytes.NewReader(text))
	return res
}

// ReasonOf is what a run waits for, as its page, its job's page, the list of runs and the
// queue say it, which agree.
func (w *World) ReasonOf(id job.RunID) string {
	w.T.Helper()
	ctx := context.Background()
	page, err := w.C.Run(ctx, id)
	require.NoError(w.T, err)
	list, err := w.C.Runs(ctx, client.RunFilter{Job: page.Job, Limit: 100})
	require.NoError(w.T, err)
	for _, r := range list {
		if r.ID == id {
			assert.Equal(w.T, page.Reason, r.Reason, "the list of runs")
		}
	}
	j, err := w.C.Job(ctx, page.Job)
	require.NoError(w.T, err)
	if j.Last != nil && j.Last.ID == id {
		assert.Equal(w.T, page.Reason, j.Last.Reason, "the job's page")
	}
	if page.State == job.RunWaiting {
		q, err := w.C.Queue(ctx)
		require.NoError(w.T, err)
		for _, l := range q.Waiting {
			if l.RunID == id {
				assert.Equal(w.T, page.Reason, l.Reason, "the queue")
			}
		}
	}
	return page.Reason
}

// RunsOf lists the runs of a job, newest first, that have ended.
func (w *World) RunsOf(name string) []job.Run {
	w.T.Helper()
	runs, err := w.C.Runs(context.Background(), client.RunFilter{Job: name, Limit: 50})
	require.NoError(w.T, err)
	return runs
}

// UntilEnded waits until a job has so many runs that have ended.
func (w *World) UntilEnded(name string, n int) []job.Run {
	w.T.Helper()
	var runs []job.Run
	w.Until(fmt.Sprintf("%s has %d runs that ended", name, n), func() bool {
		runs = w.RunsOf(name)
		ended := 0
		for _, r := range runs {
			if r.State.Ended() {
				ended++
			}
		}
		return ended >= n
	})
	return runs
}

// Report saves a report with one section.
func (w *World) Report(name, sql string, params ...job.Parameter) {
	w.T.Helper()
	_, err := w.C.SaveReport(context.Background(), name, wire.ReportRequest{
		Owner: "mara",
		ReportDefinition: job.ReportDefinition{
			Source: "tarnwick", Parameters: params, Sections: []job.Section{{Name: "Rows", SQL: sql}},
		},
	})
	require.NoError(w.T, err)
}

// Definition is a job of one report, mailed to addresses.
func Definition(report, destination string, formats []string, to ...string) job.Definition {
	var outputs []job.Output
	for _, f := range formats {
		outputs = append(outputs, job.Output{Format: f})
	}
	return job.Definition{
		Zone: demo.Zone, Retry: job.Retry{Times: 2, Wait: job.Duration(time.Second)},
		Patience: job.Retry{Times: 2, Wait: job.Duration(time.Second)}, Tasks: []job.Task{
			{Name: "report", Kind: job.KindReport, Report: &job.ReportTask{Report: report, Outputs: outputs}},
			{Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: destination, To: to}},
		},
	}
}

// Job saves a job of mara's.
func (w *World) Job(name string, d job.Definition) {
	w.T.Helper()
	_, err := w.C.SaveJob(context.Background(), name, wire.JobRequest{Owner: "mara", On: true, Definition: d})
	require.NoError(w.T, err)
}

// Ring rings a job and follows it to its outcome.
func (w *World) Ring(name string) wire.RunPage {
	w.T.Helper()
	ctx, stop := context.WithTimeout(context.Background(), Patience)
	defer stop()
	run, err := w.C.Ring(ctx, name, nil)
	require.NoError(w.T, err)
	page, err := w.C.Follow(ctx, run.ID, func(wire.RunPage) error { return nil })
	require.NoError(w.T, err)
	return page
}

// WithOwner is a job as somebody else's.
func WithOwner(login string, d job.Definition) wire.JobRequest {
	return wire.JobRequest{Owner: login, Definition: d}
}

// Tasks is a job of some tasks, which are tried again soon.
func Tasks(list ...job.Task) job.Definition {
	return job.Definition{
		Zone: "Europe/London", Retry: job.Retry{Times: 2, Wait: job.Duration(200 * time.Millisecond)},
		Patience: job.Retry{Times: 2, Wait: job.Duration(200 * time.Millisecond)}, Tasks: list,
	}
}

// ReportOf is a task that makes the report of a name; it begins at once, or after others.
func ReportOf(name string, after ...string) job.Task {
	if after == nil {
		after = []string{}
	}
	return job.Task{
		Name: strings.ToLower(name), Kind: job.KindReport, After: after,
		Report: &job.ReportTask{Report: name, Outputs: []job.Output{{Format: "csv", Name: name}}},
	}
}

// MailTo is a task that mails what was made.
func MailTo(to string) job.Task {
	return job.Task{
		Name: "mail", Kind: job.KindDeliver,
		Deliver: &job.DeliverTask{Destination: "company mail", To: []string{to}, Subject: "{job} {date:%Y-%m-%d}"},
	}
}

// AttemptsOf are the outcomes of the tasks of a run, by their names.
func AttemptsOf(page wire.RunPage) map[string]string {
	got := map[string]string{}
	for _, a := range page.Attempts {
		got[a.Task] += string(a.State) + ";"
	}
	return got
}
