package service_test

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/store/db"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// made is a job that makes a report, with values.
func made(report string, values job.Values) job.Definition {
	return job.Definition{Values: values, Tasks: []job.Task{{
		Name: "report", Kind: job.KindReport,
		Report: &job.ReportTask{Report: report, Outputs: []job.Output{{Format: "csv"}}},
	}}}
}

func TestAReportDoesNotBreakItsJobsUnseen(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Source("tarnwick")
	asked := job.ReportDefinition{
		Sections:   enginetest.Section("SELECT :port AS port"),
		Parameters: []job.Parameter{{Name: "port", Type: job.TypeText, Required: true}},
	}
	o.Report(e, "Crossings", asked)
	o.Save(e, "Ellerhaven", made("Crossings", job.Values{"port": "ELL"}))

	renamed := asked
	renamed.Source = "tarnwick"
	renamed.Sections = enginetest.Section("SELECT :harbour AS port")
	renamed.Parameters = []job.Parameter{{Name: "harbour", Type: job.TypeText, Required: true}}
	_, err := e.Reports.Save(o.Ctx, o.Mara, "Crossings", "mara", renamed, false)
	var refused *fault.Invalid
	require.ErrorAs(t, err, &refused)
	require.NotEmpty(t, refused.Wrong)
	for _, w := range refused.Wrong {
		assert.Contains(t, w.Where, "jobs.Ellerhaven.")
		assert.Contains(t, w.Sentence, "Ellerhaven")
	}
	still, err := o.Store.Report(o.Ctx, "Crossings")
	require.NoError(t, err)
	assert.Equal(t, 1, still.Version, "what is refused changes nothing")

	_, err = e.Reports.Save(o.Ctx, o.Mara, "Crossings", "mara", renamed, true)
	require.NoError(t, err, "whoever has seen it may save it")
	_, err = o.TrySave(e, "Ellerhaven", made("Crossings", job.Values{"port": "ELL"}))
	require.ErrorAs(t, err, &refused, "and the job says so when it is saved")
}

func TestWhatIsOffMayBeUnfinishedAndWhatIsOnMayNot(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Source("tarnwick")
	o.Report(e, "Crossings", job.ReportDefinition{
		Sections:   enginetest.Section("SELECT :port AS port"),
		Parameters: []job.Parameter{{Name: "port", Type: job.TypeText, Required: true}},
	})
	d := made("Crossings", nil)
	d.Zone = "Europe/London"
	_, err := e.Jobs.Save(o.Ctx, o.Mara, "Ellerhaven", "mara", false, d)
	require.NoError(t, err)
	_, err = e.Jobs.Switch(o.Ctx, o.Mara, "Ellerhaven", true)
	var refused *fault.Invalid
	require.ErrorAs(t, err, &refused)
	assert.ErrorContains(t, err, "port", "it says which value is missing")
	j, err := o.Store.Job(o.Ctx, "Ellerhaven")
	require.NoError(t, err)
	assert.False(t, j.On)
}

func TestOfSavesFromOneRevisionOneIsKept(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	first := o.Save(e, "Ellerhaven", job.Definition{})
	began := db.Expecting(o.Ctx, db.Precondition{Kind: "job", Revisions: []int64{first.Revision}})

	const at = 8
	errs := make([]error, at)
	var all sync.WaitGroup
	for i := range at {
		all.Go(func() { errs[i] = save(began, o, e, i) })
	}
	all.Wait()
	kept := 0
	for _, err := range errs {
		var stale *db.Stale
		switch {
		case err == nil:
			kept++
		case errors.As(err, &stale):
			assert.Equal(t, "Mara Quill", stale.By)
		default:
			require.NoError(t, err)
		}
	}
	assert.Equal(t, 1, kept)
	j, err := o.Store.Job(o.Ctx, "Ellerhaven")
	require.NoError(t, err)
	assert.Equal(t, 2, j.Version)
}

func save(ctx context.Context, o *enginetest.Office, e *enginetest.Site, i int) error {
	_, err := e.Jobs.Save(ctx, o.Mara, "Ellerhaven", "mara", true, job.Definition{
		Zone: "Europe/London", Tasks: []job.Task{enginetest.Strained("look", "ok")}, Priority: i,
	})
	return err
}

// The rule and the values are looked at together: weekdays for the day before leave Fridays and
// Saturdays out; from the open day before on they do not.
func TestDaysThatComeIntoNoReportAreTold(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Source("tarnwick")
	o.Report(e, "Crossings", job.ReportDefinition{
		Sections: enginetest.Section("SELECT 1 AS one WHERE :from_day <= :to_day"),
		Parameters: []job.Parameter{
			{Name: "from_day", Type: job.TypeDate, Default: "yesterday"}, {Name: "to_day", Type: job.TypeDate, Default: "yesterday"},
		},
	})
	told := func(rule string, values job.Values) []job.Covered {
		d := made("Crossings", values)
		d.Zone = "Europe/London"
		d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: rule}}}
		a, err := e.Jobs.Ahead(o.Ctx, o.Mara, "Ellerhaven", "mara", true, d)
		require.NoError(t, err)
		return a.Covered
	}
	found := told("on weekdays at 06:15", nil)
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Says, "into no report: Fri ")
	assert.GreaterOrEqual(t, len(found[0].Missed), 24)
	for _, date := range found[0].Missed {
		at, err := time.Parse(time.DateOnly, date)
		require.NoError(t, err)
		assert.Contains(t, []time.Weekday{time.Friday, time.Saturday}, at.Weekday())
	}
	assert.Empty(t, told("on weekdays at 06:15", job.Values{"from_day": "previous open day"}))
	assert.Empty(t, told("every day at 06:15", nil))
	assert.Empty(t, told("every 2 weeks on mon from 2026-01-05 at 06:00",
		job.Values{"from_day": "start of week - 8 weeks"}), "weeks that lie over each other on purpose")
	found = told("on mon at 06:00", job.Values{"from_day": "today - 7 days", "to_day": "today"})
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Says, "into two: Mon ")
	assert.Empty(t, told("every hour at :05", nil), "several rings a day look at one on purpose")
	assert.Empty(t, told("on weekdays at 06:15", job.Values{"from_day": "2026-11-01", "to_day": "2026-11-30"}))
}
