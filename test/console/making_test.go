package console

import (
	"context"
	"encoding/json"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever the API can be told about a report or a job has its place on screen: each of the
// demo's is made once more from nothing by the editor alone, and is then the same.
func TestTheDemosReportsAndJobsAreMadeOnScreen(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.LoadCompany()
	p := w.ConsoleAs("sefa")
	reports, err := w.C.Reports(ctx)
	require.NoError(t, err)
	for _, r := range reports {
		t.Run("report "+r.Name, func(t *testing.T) {
			again := r.Name + ", again"
			d := r.ReportDefinition
			made := plainly(t, d)
			made["owner"] = r.Owner
			p.In(t).Make("/new/report", "report", again, made, "Save the report", "/reports/")
			got, err := w.C.ShowReport(ctx, again)
			require.NoError(t, err)
			assert.Equal(t, plainly(t, d), plainly(t, got.ReportDefinition))
			assert.Equal(t, r.Owner, got.Owner)
		})
	}
	jobs, err := w.C.Jobs(ctx, "")
	require.NoError(t, err)
	for _, line := range jobs {
		t.Run("job "+line.Name, func(t *testing.T) {
			j, err := w.C.Job(ctx, line.Name)
			require.NoError(t, err)
			again := line.Name + ", again"
			made := plainly(t, said(j.Definition))
			made["owner"] = j.Owner
			p.In(t).Make("/new/job", "job", again, made, "Save, stays off", "/jobs/")
			got, err := w.C.Job(ctx, again)
			require.NoError(t, err)
			assert.Equal(t, plainly(t, said(j.Definition)), plainly(t, said(got.Definition)))
			assert.Equal(t, j.Owner, got.Owner)
		})
	}
}

// said is a job without what the service adds to it.
func said(d job.Definition) job.Definition {
	for i := range d.Triggers {
		t := &d.Triggers[i]
		t.ID, t.Reading, t.NextDue, t.NextNominal = 0, "", nil, nil
	}
	for i := range d.Tasks {
		if r := d.Tasks[i].Report; r != nil {
			r.Takes = nil
		}
	}
	return d
}

// plainly is a record as its JSON has it.
func plainly(t *testing.T, of any) map[string]any {
	t.Helper()
	text, err := json.Marshal(of)
	require.NoError(t, err)
	var out map[string]any
	require.NoError(t, json.Unmarshal(text, &out))
	return out
}
