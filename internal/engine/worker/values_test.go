package worker_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/service"
	"ironbell/internal/task"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A run for a past date is tried again like any other.
func TestRetriesOfAPastDateGoByWhenItWasMade(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	tries := 0
	o.Strain.Mean("twice", func(context.Context, task.Work) (task.Result, error) {
		if tries++; tries < 2 {
			return task.Result{}, fault.Wrap(errors.New("not yet"), fault.Passing, fault.Task, "strain", "")
		}
		return task.Result{}, nil
	})
	until := time.Now().Add(2 * time.Hour).UTC().Format("15:04")
	o.Save(e, "Past", job.Definition{
		Zone: "Etc/UTC", Tasks: []job.Task{enginetest.Strained("look", "twice")},
		Retry: job.Retry{Times: 3, Wait: job.Duration(100 * time.Millisecond), Until: until},
	})
	run := o.Ring(e, "Past", service.Ask{From: "2026-01-05"})
	o.Run(e)
	assert.Equal(t, job.RunDone, o.Ended(run.ID).State)
}

// All tasks and tries of a run take the report as it was when the run was made.
func TestAReportThatIsSavedInMidRun(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Source("tarnwick")
	o.Report(e, "Ports", job.ReportDefinition{Sections: enginetest.Section("SELECT 1 AS old")})
	begun, goOn := make(chan bool), make(chan bool)
	o.Strain.Mean("pause", func(context.Context, task.Work) (task.Result, error) {
		begun <- true
		<-goOn
		return task.Result{}, nil
	})
	o.Save(e, "Twice",
		job.Definition{Tasks: []job.Task{
			enginetest.Reported("first", "Ports"), enginetest.Strained("pause", "pause"),
			enginetest.Reported("second", "Ports"), enginetest.Strained("end", "fail late"),
		}})
	failing := true
	o.Strain.Mean("fail late", func(context.Context, task.Work) (task.Result, error) {
		if failing {
			return task.Result{}, fault.New(fault.Task, "strain", "it fails for good", "")
		}
		return task.Result{}, nil
	})
	run := o.Ring(e, "Twice", service.Ask{})
	waiting := o.Ring(e, "Twice", service.Ask{}) // made before the report is saved, begun after
	o.Run(e)
	enginetest.Hear(t, begun)
	o.Report(e, "Ports", job.ReportDefinition{Sections: enginetest.Section("SELECT 2 AS new, 3 AS more")})
	goOn <- true
	o.Ended(run.ID)
	enginetest.Hear(t, begun)
	goOn <- true
	o.Ended(waiting.ID)
	shas := o.Texts(`SELECT DISTINCT sha256 FROM artifacts WHERE format = 'csv'`)
	assert.Len(t, shas, 1, "four files of one version")
	assert.Equal(t, 2, o.Number(`SELECT count(*) FROM run_reports WHERE version = 1`))
	// A person lets it go on: what is not done takes the newest.
	failing = false
	_, err := e.Runs.Again(o.Ctx, o.Mara, run.ID, service.More{})
	require.NoError(t, err)
	o.Ended(run.ID)
	assert.Equal(t, 1,
		o.Number(`SELECT count(*) FROM run_log WHERE run_id = $1 AND text LIKE '%goes by version 1 of the job and by its reports as they are now'`, run.ID))
}

// A value that nothing asks for any more fails the run; it never widens what is sent.
func TestNoValueIsDroppedInSilence(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Source("tarnwick")
	port := func(name string) job.ReportDefinition {
		return job.ReportDefinition{
			Parameters: []job.Parameter{{Name: name, Type: job.TypeText, Default: "%"}},
			Sections: enginetest.Section("SELECT p FROM unnest(ARRAY['Tarnwick Quay', 'Pennold']) p WHERE p LIKE :" +
				name),
		}
	}
	o.Report(e, "Sheet", port("port"))
	d := job.Definition{
		Values: job.Values{"port": "Pennold"},
		Tasks:  []job.Task{enginetest.Reported("sheet", "Sheet"), enginetest.Mailed("a@tarnwick.example")},
	}
	j := o.Save(e, "One port", d)
	assert.Equal(t, []string{"port"}, j.Tasks[0].Report.Takes)
	// Another job, whose second report still has a parameter of the name.
	o.Report(e, "Other", port("port"))
	both := d
	both.Tasks = []job.Task{enginetest.Reported("sheet", "Sheet"), enginetest.Reported("other", "Other")}
	o.Save(e, "Both", both)
	o.Report(e, "Sheet", port("harbour"))
	o.Run(e)
	run := o.Ended(o.RingUnchecked(e, "One port"))
	assert.Equal(t, job.RunFailed, run.State)
	assert.Contains(t, run.Reason, `there is no parameter "port"; there are harbour`)
	assert.Empty(t, o.Received("a@tarnwick.example"))
	run = o.Ended(o.RingUnchecked(e, "Both"))
	assert.Equal(t, job.RunFailed, run.State)
	assert.Contains(t, run.Reason, `report "Sheet" takes "port" no more`)

	_, err := e.Reports.Preview(o.Ctx, o.Mara, service.Look{Report: "Sheet", Values: job.Values{"prot": "Pennold"}},
		nil, 10)
	assert.ErrorContains(t, err, `there is no parameter "prot"; there are harbour`)
	_, err = e.Reports.Make(o.Ctx, o.Mara, service.Look{Report: "Sheet", Values: job.Values{"port": "Pennold"}},
		[]job.Output{{Format: "csv"}})
	assert.ErrorContains(t, err, `there is no parameter "port"`)

	// A value of the job's own, and a column of its split, are known names.
	own := job.Definition{
		Own: []string{"week"}, Values: job.Values{"week": "48", "harbour": "Pennold"},
		Split: job.Split{
			Each:  "quay",
			Query: &job.ListQuery{Source: "tarnwick", SQL: "SELECT 'North' AS quay, 'a@tarnwick.example' AS address"},
		},
	}
	own.Tasks = []job.Task{
		enginetest.Reported("sheet", "Sheet"),
		{
			Name: "mail", Kind: job.KindDeliver,
			Deliver: &job.DeliverTask{
				Destination: "company mail", To: []string{"{value.address}"},
				Subject: "Week {value.week} at {value.quay}",
			},
		},
	}
	o.Save(e, "Own", own)
	run = o.Ended(o.RingUnchecked(e, "Own"))
	assert.Equal(t, job.RunDone, run.State, run.Reason)
	assert.Equal(t, []string{"Week 48 at North"}, o.Received("a@tarnwick.example"))
	_, err = o.TrySave(e, "Own", job.Definition{
		Zone: "Etc/UTC", Values: job.Values{"wek": "48"}, Own: []string{"week"}, Tasks: own.Tasks,
	})
	assert.ErrorContains(t, err, `there is no parameter "wek"`)
}

// A total of a column that is not there is refused when its job is saved.
func TestTotalsThatAreNotThereAreRefused(t *testing.T) {
	o := enginetest.Open(t)
	e := o.Engine(nil)
	o.Source("tarnwick")
	o.Report(e, "Fuel",
		job.ReportDefinition{Sections: enginetest.Section("SELECT 'Skua' AS vessel, 12.5 AS litres, 3 AS trips")})
	with := func(condition string) error {
		report, mail := enginetest.Reported("fuel", "Fuel"), enginetest.Mailed("a@tarnwick.example")
		mail.OnlyIf = condition
		_, err := o.TrySave(e, "Fuel", job.Definition{Zone: "Etc/UTC", Tasks: []job.Task{report, mail}})
		return err
	}
	assert.NoError(t, with(`total("litres") > 5 && rows >= 1`))
	assert.ErrorContains(t, with(`total("nope") > 5`),
		`speaks of a column that no report before it adds up; there are litres, trips`)
	assert.ErrorContains(t, with(`total("vessel") > 5`), `there are litres, trips`)
	blank := enginetest.Reported("fuel", "Fuel")
	blank.Report.BlankIf = `total("liters") == 0.0`
	_, err := o.TrySave(e, "Blank", job.Definition{Zone: "Etc/UTC", Tasks: []job.Task{blank}})
	assert.ErrorContains(t, err, `there are litres, trips`)
	// Where nobody can say, any name will do.
	o.Exec(`UPDATE sources SET settings = jsonb_set(settings, '{port}', '1'), updated_at = now() + interval '1 second'`)
	assert.NoError(t, with(`total("nope") > 5`))
}
