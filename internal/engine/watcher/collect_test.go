package watcher_test

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/installation"
	"ironbell/internal/service"
	"ironbell/internal/store/db"
	"ironbell/internal/task"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func collect(change func(*job.CollectTask)) job.Task {
	c := job.CollectTask{
		Destination: "gauges", Pattern: "in/*.csv", Take: job.TakeAll, OnlyNew: true, Settled: job.Duration(time.Millisecond),
		Afterwards: job.AfterwardsMove, Folder: "done/{date:%Y}",
	}
	change(&c)
	return job.Task{Name: "readings", Kind: job.KindCollect, Collect: &c}
}

func (o office) lies(name string) bool {
	_, err := os.Lstat(o.path(name))
	return err == nil
}

// What is collected is moved away once its run is done and its copies are kept, and never before; a file that
// came under its name meanwhile stays.
func TestCollectedFilesAreMovedWhenTheirRunIsDone(t *testing.T) {
	o := open(t)
	e := o.Engine(nil)
	o.Run(e)
	hold := make(chan struct{})
	o.Strain.Mean("hold", func(context.Context, task.Work) (task.Result, error) {
		<-hold
		return task.Result{}, nil
	})
	o.Save(e, "Tides", job.Definition{Tasks: []job.Task{
		collect(func(*job.CollectTask) {}), enginetest.Strained("check", "hold", "readings"),
	}})
	o.put("in/a.csv", "1.2")
	o.put("in/b.csv", "1.3")
	run := o.Ring(e, "Tides", service.Ask{})
	o.Until("both are collected", func() bool { return o.Number(`SELECT count(*) FROM collected`) == 2 })
	assert.True(t, o.lies("in/a.csv") && o.lies("in/b.csv"), "the run is not done")
	o.put("in/b.csv", "1.35")
	close(hold)
	assert.Equal(t, job.RunDone, o.Ended(run.ID).State)
	o.Until("what is to be moved is settled", func() bool {
		return o.Number(`SELECT count(*) FROM collected WHERE state = 'ended'`) == 2
	})
	year := time.Now().Format("2006")
	assert.True(t, o.lies("done/"+year+"/a.csv") && !o.lies("in/a.csv"))
	assert.True(t, o.lies("in/b.csv"), "another file has come under its name")
	assert.Equal(t, 2, o.Number(`SELECT count(*) FROM artifacts WHERE run_id = $1 AND task = 'readings'`, run.ID))

	// Only what is new is taken, also a file of a name that is in the other folder already.
	o.put("in/a.csv", "1.21")
	run = o.Ring(e, "Tides", service.Ask{})
	assert.Equal(t, job.RunDone, o.Ended(run.ID).State)
	assert.Equal(t, []string{"a.csv", "b.csv"}, o.Texts(`SELECT name FROM artifacts WHERE run_id = $1 ORDER BY 1`, run.ID))
	o.Until("the second is moved beside the first", func() bool { return o.lies("done/" + year + "/a (1).csv") })
	run = o.Ring(e, "Tides", service.Ask{})
	o.Ended(run.ID)
	assert.Zero(t, o.Number(`SELECT count(*) FROM artifacts WHERE run_id = $1`, run.ID), "there is nothing new")
}

// A run that fails leaves its files, and the next takes them again; what cannot be moved is told of.
func TestCollectedFilesStayWhenTheirRunFails(t *testing.T) {
	o := open(t)
	e := o.Engine(nil)
	o.Run(e)
	o.Save(e, "Tides", job.Definition{Tasks: []job.Task{
		collect(func(c *job.CollectTask) { c.Afterwards, c.Folder = job.AfterwardsRemove, "" }),
		enginetest.Strained("check", "lasting", "readings"),
	}})
	o.put("in/a.csv", "1.2")
	run := o.Ring(e, "Tides", service.Ask{})
	require.Equal(t, job.RunFailed, o.Ended(run.ID).State)
	assert.True(t, o.lies("in/a.csv"))
	o.Save(e, "Tides", job.Definition{Tasks: []job.Task{
		collect(func(c *job.CollectTask) { c.Afterwards, c.Folder = job.AfterwardsRemove, "" }),
	}})
	run = o.Ring(e, "Tides", service.Ask{})
	require.Equal(t, job.RunDone, o.Ended(run.ID).State, "what a failed run took is new still")
	o.Until("it is removed", func() bool { return !o.lies("in/a.csv") })
	for says, change := range map[string]func(*job.CollectTask){
		"to which folder":       func(c *job.CollectTask) { c.Folder = "" },
		"either a source or":    func(c *job.CollectTask) { c.Source = "somewhere" },
		"below the destination": func(c *job.CollectTask) { c.Pattern = "../*.csv" },
		"lets no job take":      func(c *job.CollectTask) { c.Destination = "port folders" },
		"use leave, move or":    func(c *job.CollectTask) { c.Afterwards = "burn" },
		"belong to a dest":      func(c *job.CollectTask) { c.Destination, c.Source = "", "ports" },
	} {
		_, err := o.TrySave(e, "Tides", job.Definition{Zone: "Europe/London", Tasks: []job.Task{collect(change)}})
		require.Error(t, err, says)
		assert.True(t, strings.Contains(err.Error(), says), "%s: %s", says, err)
	}
	own := files("in/**/*.csv")
	_, err := o.TrySave(e, "Tides", job.Definition{
		Zone: "Europe/London", Triggers: []job.Trigger{{Wait: &own}},
		Tasks: []job.Task{collect(func(c *job.CollectTask) { c.Folder = "in/done" })},
	})
	require.ErrorContains(t, err, "the job would start itself: its task readings moves files to a folder that the pattern means")
	_, err = o.TrySave(e, "Tides", job.Definition{
		Zone: "Europe/London", Triggers: []job.Trigger{{Wait: &own}},
		Tasks: []job.Task{enginetest.Strained("file", "file"), enginetest.Placed("gauges", func(d *job.DeliverTask) { d.Folder = "in/out" })},
	})
	require.ErrorContains(t, err, "its task place brings files to")
}

// A copy for tests takes nothing away from the places of the first one, unless they were named for it.
func TestACopyForTestsLeavesFilesWhereTheyAre(t *testing.T) {
	o := open(t)
	e := o.Engine(nil)
	o.Run(e)
	o.Save(e, "Tides", job.Definition{Tasks: []job.Task{
		collect(func(c *job.CollectTask) { c.Afterwards, c.Folder = job.AfterwardsRemove, "" }),
	}})
	for _, named := range [][]string{nil, {"destination:gauges"}} {
		require.NoError(t, o.Store.PutSetting(o.Ctx, db.InstallationSetting,
			installation.Installation{Test: &job.TestCopy{Named: named}}))
		o.put("in/a.csv", strings.Repeat("1.2", len(named)+1))
		run := o.Ring(e, "Tides", service.Ask{})
		require.Equal(t, job.RunDone, o.Ended(run.ID).State)
		o.Until("it is settled", func() bool {
			return o.Number(`SELECT count(*) FROM collected WHERE run_id = $1 AND state = 'ended'`, run.ID) == 1
		})
		assert.Equal(t, len(named) == 0, o.lies("in/a.csv"), o.Text(`SELECT came FROM collected WHERE run_id = $1`, run.ID))
	}
}
