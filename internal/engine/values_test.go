package engine_test

import (
	"context"
	"encoding/json"
	"errors"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// source adds the test's own database as a source of reports.
func (o *office) source(name string) {
	o.t.Helper()
	config, err := pgx.ParseConfig(pgtest.Login(o.t, o.dsn, pgtest.Writer))
	require.NoError(o.t, err)
	text, err := json.Marshal(map[string]any{"host": config.Host, "port": config.Port, "database": config.Database, "user": config.User, "tls": "disable", "statements": true})
	require.NoError(o.t, err)
	sealed, err := o.vault.Seal("source:"+name, config.Password)
	require.NoError(o.t, err)
	_, err = o.store.PutPlace(o.ctx, store.Source, store.Place{Name: name, Protocol: "postgres", Settings: text, Secret: sealed})
	require.NoError(o.t, err)
}

func (o *office) report(e *site, name string, d job.ReportDefinition) job.Report {
	o.t.Helper()
	d.Source = "tarnwick"
	r, err := e.Reports.Save(o.ctx, o.mara, name, "mara", d, true)
	require.NoError(o.t, err)
	return r
}

func reported(name, report string) job.Task {
	return job.Task{Name: name, Kind: job.KindReport, Report: &job.ReportTask{Report: report, Outputs: []job.Output{{Format: "csv"}}}}
}

func section(sql string) []job.Section { return []job.Section{{Name: "A", SQL: sql}} }

// A run for a past date is tried again like any other.
func TestRetriesOfAPastDateGoByWhenItWasMade(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	tries := 0
	o.strain.mean("twice", func(context.Context, task.Work) (task.Result, error) {
		if tries++; tries < 2 {
			return task.Result{}, fault.Wrap(errors.New("not yet"), fault.Passing, fault.Task, "strain", "")
		}
		return task.Result{}, nil
	})
	until := time.Now().Add(2 * time.Hour).UTC().Format("15:04")
	o.save(e, "Past", job.Definition{Zone: "Etc/UTC", Tasks: []job.Task{strained("look", "twice")}, Retry: job.Retry{Times: 3, Wait: job.Duration(100 * time.Millisecond), Until: until}})
	run := o.ring(e, "Past", service.Ask{From: "2026-01-05"})
	o.run(e)
	assert.Equal(t, job.RunDone, o.ended(run.ID).State)
}

// All tasks and tries of a run take the report as it was when the run was made.
func TestAReportThatIsSavedInMidRun(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	o.source("tarnwick")
	o.report(e, "Ports", job.ReportDefinition{Sections: section("SELECT 1 AS old")})
	begun, goOn := make(chan bool), make(chan bool)
	o.strain.mean("pause", func(context.Context, task.Work) (task.Result, error) {
		begun <- true
		<-goOn
		return task.Result{}, nil
	})
	o.save(e, "Twice", job.Definition{Tasks: []job.Task{reported("first", "Ports"), strained("pause", "pause"), reported("second", "Ports"), strained("end", "fail late")}})
	failing := true
	o.strain.mean("fail late", func(context.Context, task.Work) (task.Result, error) {
		if failing {
			return task.Result{}, fault.New(fault.Task, "strain", "it fails for good", "")
		}
		return task.Result{}, nil
	})
	run := o.ring(e, "Twice", service.Ask{})
	waiting := o.ring(e, "Twice", service.Ask{}) // made before the report is saved, begun after
	o.run(e)
	hear(t, begun)
	o.report(e, "Ports", job.ReportDefinition{Sections: section("SELECT 2 AS new, 3 AS more")})
	goOn <- true
	o.ended(run.ID)
	hear(t, begun)
	goOn <- true
	o.ended(waiting.ID)
	shas := o.texts(`SELECT DISTINCT sha256 FROM artifacts WHERE format = 'csv'`)
	assert.Len(t, shas, 1, "four files of one version")
	assert.Equal(t, 2, o.number(`SELECT count(*) FROM run_reports WHERE version = 1`))
	// A person lets it go on: what is not done takes the newest.
	failing = false
	_, err := e.Runs.Again(o.ctx, o.mara, run.ID, service.More{})
	require.NoError(t, err)
	o.ended(run.ID)
	assert.Equal(t, 1, o.number(`SELECT count(*) FROM run_log WHERE run_id = $1 AND text LIKE '%goes by version 1 of the job and by its reports as they are now'`, run.ID))
}

// A value that nothing asks for any more fails the run; it never widens what is sent.
func TestNoValueIsDroppedInSilence(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	o.source("tarnwick")
	port := func(name string) job.ReportDefinition {
		return job.ReportDefinition{
			Parameters: []job.Parameter{{Name: name, Type: job.TypeText, Default: "%"}},
			Sections:   section("SELECT p FROM unnest(ARRAY['Tarnwick Quay', 'Pennold']) p WHERE p LIKE :" + name),
		}
	}
	o.report(e, "Sheet", port("port"))
	d := job.Definition{Values: job.Values{"port": "Pennold"}, Tasks: []job.Task{reported("sheet", "Sheet"), mailed("a@tarnwick.example")}}
	j := o.save(e, "One port", d)
	assert.Equal(t, []string{"port"}, j.Tasks[0].Report.Takes)
	// Another job, whose second report still has a parameter of the name.
	o.report(e, "Other", port("port"))
	both := d
	both.Tasks = []job.Task{reported("sheet", "Sheet"), reported("other", "Other")}
	o.save(e, "Both", both)
	o.report(e, "Sheet", port("harbour"))
	o.run(e)
	run := o.ended(o.ringUnchecked(e, "One port"))
	assert.Equal(t, job.RunFailed, run.State)
	assert.Contains(t, run.Reason, `there is no parameter "port"; there are harbour`)
	assert.Empty(t, o.received("a@tarnwick.example"))
	run = o.ended(o.ringUnchecked(e, "Both"))
	assert.Equal(t, job.RunFailed, run.State)
	assert.Contains(t, run.Reason, `report "Sheet" takes "port" no more`)

	_, err := e.Reports.Preview(o.ctx, o.mara, service.Look{Report: "Sheet", Values: job.Values{"prot": "Pennold"}}, nil, 10)
	assert.ErrorContains(t, err, `there is no parameter "prot"; there are harbour`)
	_, err = e.Reports.Make(o.ctx, o.mara, service.Look{Report: "Sheet", Values: job.Values{"port": "Pennold"}}, []job.Output{{Format: "csv"}})
	assert.ErrorContains(t, err, `there is no parameter "port"`)

	// A value of the job's own, and a column of its split, are known names.
	own := job.Definition{Own: []string{"week"}, Values: job.Values{"week": "48", "harbour": "Pennold"}, Split: job.Split{Each: "quay", Query: &job.ListQuery{Source: "tarnwick", SQL: "SELECT 'North' AS quay, 'a@tarnwick.example' AS address"}}}
	own.Tasks = []job.Task{reported("sheet", "Sheet"), {Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: "company mail", To: []string{"{value.address}"}, Subject: "Week {value.week} at {value.quay}"}}}
	o.save(e, "Own", own)
	run = o.ended(o.ringUnchecked(e, "Own"))
	assert.Equal(t, job.RunDone, run.State, run.Reason)
	assert.Equal(t, []string{"Week 48 at North"}, o.received("a@tarnwick.example"))
	_, err = o.trySave(e, "Own", job.Definition{Zone: "Etc/UTC", Values: job.Values{"wek": "48"}, Own: []string{"week"}, Tasks: own.Tasks})
	assert.ErrorContains(t, err, `there is no parameter "wek"`)
}

// ringUnchecked rings a job whose values its reports may no longer know, as its rule would.
func (o *office) ringUnchecked(e *site, name string) job.RunID {
	o.t.Helper()
	j, err := o.store.Job(o.ctx, name)
	require.NoError(o.t, err)
	made := []store.NewRun{{JobID: j.ID, Job: j.Name, JobVersion: j.Version, Why: "test", Nominal: time.Now(), Due: time.Now(), Zone: j.Zone}}
	require.NoError(o.t, o.store.Do(o.ctx, func(t *store.Tx) error { return e.Rooms.Runs.Add(o.ctx, t, j.ID, made) }))
	return made[0].ID
}

// A total of a column that is not there is refused when its job is saved.
func TestTotalsThatAreNotThereAreRefused(t *testing.T) {
	o := open(t)
	e := o.engine(nil)
	o.source("tarnwick")
	o.report(e, "Fuel", job.ReportDefinition{Sections: section("SELECT 'Skua' AS vessel, 12.5 AS litres, 3 AS trips")})
	with := func(condition string) error {
		report, mail := reported("fuel", "Fuel"), mailed("a@tarnwick.example")
		mail.OnlyIf = condition
		_, err := o.trySave(e, "Fuel", job.Definition{Zone: "Etc/UTC", Tasks: []job.Task{report, mail}})
		return err
	}
	assert.NoError(t, with(`total("litres") > 5 && rows >= 1`))
	assert.ErrorContains(t, with(`total("nope") > 5`), `speaks of a column that no report before it adds up; there are litres, trips`)
	assert.ErrorContains(t, with(`total("vessel") > 5`), `there are litres, trips`)
	blank := reported("fuel", "Fuel")
	blank.Report.BlankIf = `total("liters") == 0.0`
	_, err := o.trySave(e, "Blank", job.Definition{Zone: "Etc/UTC", Tasks: []job.Task{blank}})
	assert.ErrorContains(t, err, `there are litres, trips`)
	// Where nobody can say, any name will do.
	o.exec(`UPDATE sources SET settings = jsonb_set(settings, '{port}', '1'), updated_at = now() + interval '1 second'`)
	assert.NoError(t, with(`total("nope") > 5`))
}
