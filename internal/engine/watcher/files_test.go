package watcher_test

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/enginetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// office is an office with a folder whose files may be taken, and jobs that wait for them.
type office struct {
	*enginetest.Office
	t *testing.T
}

func open(t *testing.T) office {
	t.Helper()
	o := office{enginetest.Open(t), t}
	o.Place("gauges", "folder", deliver.FolderSettings{
		Folder: o.Folder, FileTaking: deliver.FileTaking{Taking: deliver.TakingMove},
	})
	return o
}

func (o office) path(name string) string { return filepath.Join(o.Folder, filepath.FromSlash(name)) }

// put writes a file as a program does that renames it when it is whole; it is a minute old.
func (o office) put(name, text string) {
	o.t.Helper()
	require.NoError(o.t, os.MkdirAll(filepath.Dir(o.path(name)), 0o700))
	require.NoError(o.t, os.WriteFile(o.path(name)+"~", []byte(text), 0o600))
	old := time.Now().Add(-time.Minute)
	require.NoError(o.t, os.Chtimes(o.path(name)+"~", old, old))
	require.NoError(o.t, os.Rename(o.path(name)+"~", o.path(name)))
}

// waits saves a job that waits for something with values out of it.
func (o office) waits(e *enginetest.Site, name string, w job.Wait, take job.Values) job.Job {
	o.t.Helper()
	w.Take = take
	d := job.Definition{Triggers: []job.Trigger{{Wait: &w}}, Overlap: job.OverlapTogether}
	for value := range take {
		d.Own = append(d.Own, value)
	}
	return o.Save(e, name, d)
}

func files(pattern string, change ...func(*job.FileWatch)) job.Wait {
	f := job.FileWatch{Destination: "gauges", Pattern: pattern}
	for _, c := range change {
		c(&f)
	}
	return job.Wait{Need: job.NeedAny, For: []job.Condition{{Files: &f}}}
}

// look lets all be looked at now.
func (o office) look(e *enginetest.Site) {
	o.t.Helper()
	o.Exec(`UPDATE watches SET next_at = now() - interval '1 second'`)
	_, err := e.Watcher.Pass(o.Ctx)
	require.NoError(o.t, err)
}

// runs lists the values of a name with which a job's runs were made.
func (o office) runs(j job.Job, value string) []string {
	return o.Texts(`SELECT coalesce(given->>$2, '') FROM runs WHERE job_id = $1 ORDER BY 1`, j.ID, value)
}

var path = job.Values{"file": "{event.data.path}"}

// Each file starts the job once: by path, size and time, whatever looks at it how often, also on two nodes.
func TestEachFileStartsTheJobOnce(t *testing.T) {
	o := open(t)
	e := o.Engine(nil)
	o.put("in/old.csv", "it was there before")
	j := o.waits(e, "Tides", files("in/**/*.csv"), path)
	o.look(e)
	assert.Empty(t, o.runs(j, "file"), "what was there before anybody waited")
	o.put("in/pennold.csv", "1.2")
	o.put("in/deep/er/skerry.csv", "1.4")
	o.put("in/notes.txt", "no table")
	o.put("other/pennold.csv", "1.2")
	for range 3 {
		o.look(e)
	}
	assert.Equal(t, []string{"in/deep/er/skerry.csv", "in/pennold.csv"}, o.runs(j, "file"))
	o.put("in/pennold.csv", "1.25")
	o.look(e)
	assert.Len(t, o.runs(j, "file"), 3, "replaced by another")
	require.NoError(t, os.Remove(o.path("in/pennold.csv")))
	o.look(e)
	o.put("in/pennold.csv", "1.26")
	o.look(e)
	assert.Len(t, o.runs(j, "file"), 4, "gone, and back as another")
	assert.Equal(t, "File in/pennold.csv arrived at gauges.",
		o.Text(`SELECT why FROM runs WHERE job_id = $1 ORDER BY id DESC LIMIT 1`, j.ID))

	// Saved anew, it goes on where it was.
	d := j.Definition
	d.Priority = 5
	o.Save(e, "Tides", d)
	o.look(e)
	assert.Len(t, o.runs(j, "file"), 4)

	// Two nodes at once over many files.
	other := o.Engine(nil)
	for n := range 1000 {
		o.put(fmt.Sprintf("in/many/%04d.csv", n), "1")
	}
	o.Exec(`UPDATE watches SET next_at = now() - interval '1 second'`)
	var both sync.WaitGroup
	for _, site := range []*enginetest.Site{e, other, e, other} {
		both.Go(func() {
			_, err := site.Watcher.Pass(o.Ctx)
			assert.NoError(t, err)
		})
	}
	both.Wait()
	o.look(e)
	assert.Equal(t, 1000, o.Number(`SELECT count(*) FROM runs WHERE job_id = $1 AND given->>'file' LIKE 'in/many/%'`, j.ID))
	assert.Equal(t, 1000, o.Number(`SELECT count(DISTINCT given->>'file') FROM runs WHERE job_id = $1
		AND given->>'file' LIKE 'in/many/%'`, j.ID))
}

// A file counts when it is whole, by the sign that the job names.
func TestAFileCountsWhenItIsWhole(t *testing.T) {
	o := open(t)
	clock := enginetest.ClockAt(time.Now())
	e := o.Engine(clock)
	still := o.waits(e, "Still", files("in/*.csv", func(f *job.FileWatch) { f.Unchanged = job.Duration(20 * time.Second) }), path)
	marked := o.waits(e, "Marked", files("in/*.csv", func(f *job.FileWatch) {
		f.Complete, f.Marker = job.CompleteMarker, ".done"
	}), path)
	together := o.waits(e, "Together", files("in/*.csv", func(f *job.FileWatch) {
		f.Complete, f.Marker = job.CompleteMarker, "all.flag"
	}), path)
	require.NoError(t, os.Mkdir(o.path("in"), 0o700))
	o.look(e)
	// Written slowly and in place.
	for _, text := range []string{"1", "1,2", "1,2,3"} {
		require.NoError(t, os.WriteFile(o.path("in/slow.csv"), []byte(text), 0o600))
		now := clock.Now()
		require.NoError(t, os.Chtimes(o.path("in/slow.csv"), now, now))
		o.look(e)
		clock.Turn(15 * time.Second)
		o.look(e)
		assert.Empty(t, o.runs(still, "file"), "it grew within the time")
	}
	clock.Turn(6 * time.Second)
	o.look(e)
	assert.Equal(t, []string{"in/slow.csv"}, o.runs(still, "file"))
	assert.Empty(t, o.runs(marked, "file"))
	o.put("in/slow.csv.done", "")
	o.look(e)
	assert.Equal(t, []string{"in/slow.csv"}, o.runs(marked, "file"), "and not its mark")
	assert.Empty(t, o.runs(together, "file"))
	o.put("in/all.flag", "")
	o.look(e)
	assert.Equal(t, []string{"in/slow.csv"}, o.runs(together, "file"))
}

// Equal content is a new file, unless the job passes it over.
func TestEqualContentIsANewFileUnlessItIsPassedOver(t *testing.T) {
	o := open(t)
	e := o.Engine(nil)
	all := o.waits(e, "All", files("*.csv"), path)
	others := o.waits(e, "Others", files("*.csv", func(f *job.FileWatch) { f.SameContent = job.SamePassOver }), path)
	changed := o.waits(e, "Changed", files("*.csv", func(f *job.FileWatch) { f.Happens = job.FileChanged }), path)
	gone := o.waits(e, "Gone", files("*.csv", func(f *job.FileWatch) { f.Happens = job.FileGone }), path)
	only := files("*.csv")
	only.For[0].OnlyIf = `event.data.size > 3 && event.data.folder == ""`
	large := o.waits(e, "Large", only, path)
	o.look(e)
	o.put("a.csv", "1.2")
	o.put("b.csv", "1.2")
	o.look(e)
	o.put("a.csv", "1.2")
	o.look(e)
	o.put("a.csv", "1.34")
	o.look(e)
	assert.Equal(t, []string{"a.csv", "a.csv", "a.csv", "b.csv"}, o.runs(all, "file"))
	assert.Equal(t, []string{"a.csv", "a.csv"}, o.runs(others, "file"))
	assert.Equal(t, []string{"a.csv", "a.csv"}, o.runs(changed, "file"))
	assert.Equal(t, []string{"a.csv"}, o.runs(large, "file"))
	assert.Empty(t, o.runs(gone, "file"))
	require.NoError(t, os.Remove(o.path("b.csv")))
	o.look(e)
	assert.Equal(t, []string{"b.csv"}, o.runs(gone, "file"))
	assert.Equal(t, 3, o.Number(`SELECT count(*) FROM watches`), "those that look alike are one")
}

// A folder that disappears takes nothing with it: somebody is told once, and when it is back only what is
// new starts something. Links and odd names are not followed.
func TestAFolderThatDisappearsAndReturns(t *testing.T) {
	o := open(t)
	clock := enginetest.ClockAt(time.Now())
	e := o.Engine(clock)
	o.put("in/a.csv", "1")
	j := o.waits(e, "Tides", files("in/*.csv"), path)
	gone := o.waits(e, "Gone", files("in/*.csv", func(f *job.FileWatch) { f.Happens = job.FileGone }), path)
	o.look(e)
	require.NoError(t, os.Rename(o.path("in"), o.path("away")))
	for range 3 {
		o.look(e)
		clock.Turn(2 * time.Minute)
	}
	assert.Equal(t, 2, o.Number(`SELECT count(*) FROM alerts WHERE kind = 'down' AND state = 'open'`), "one for each watch")
	assert.Contains(t, o.Text(`SELECT happened FROM alerts WHERE job_id = $1`, j.ID), "What Tides waits for cannot be seen")
	require.NoError(t, os.Rename(o.path("away"), o.path("in")))
	o.put("in/b.csv", "2")
	require.NoError(t, os.WriteFile(o.path("in/\xff.csv"), []byte("odd"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(t.TempDir(), "secret.csv"), nil, 0o600))
	require.NoError(t, os.Symlink("/etc/passwd", o.path("in/link.csv")))
	require.NoError(t, os.Symlink("/etc", o.path("in/etc.csv")))
	clock.Turn(time.Minute)
	o.look(e)
	assert.Equal(t, []string{"in/b.csv"}, o.runs(j, "file"))
	assert.Empty(t, o.runs(gone, "file"))
	assert.Zero(t, o.Number(`SELECT count(*) FROM alerts WHERE state = 'open'`))
	assert.Contains(t, o.Text(`SELECT note FROM watches ORDER BY id LIMIT 1`), `1 file passed over`)
}

// What may not be taken is refused when the job is saved, and when it was allowed before, it is no more.
func TestPlacesLetTheirFilesBeTakenOrNot(t *testing.T) {
	o := open(t)
	e := o.Engine(nil)
	try := func(f job.FileWatch, change ...func(*job.Wait)) string {
		w := job.Wait{For: []job.Condition{{Files: &f}}}
		for _, c := range change {
			c(&w)
		}
		_, err := o.TrySave(e, "Tides", job.Definition{
			Zone: "Europe/London", Triggers: []job.Trigger{{Wait: &w}}, Tasks: []job.Task{enginetest.Effect("a", "a")},
		})
		if err == nil {
			return ""
		}
		return err.Error()
	}
	assert.Contains(t, try(job.FileWatch{Destination: "port folders", Pattern: "*.csv"}), "lets no job take its files")
	assert.Contains(t, try(job.FileWatch{Destination: "company mail", Pattern: "*.csv"}), "no files that could be looked at")
	assert.Contains(t, try(job.FileWatch{Destination: "nowhere", Pattern: "*.csv"}), "there is no destination")
	o.Place("copies", "folder", deliver.FolderSettings{
		Folder: o.Folder, FileTaking: deliver.FileTaking{Taking: deliver.TakingCopy},
	})
	assert.Empty(t, try(job.FileWatch{Destination: "copies", Pattern: "*.csv"}))
	assert.Contains(t, try(job.FileWatch{Destination: "copies", Pattern: "*.csv", Complete: job.CompleteFree}),
		"use unchanged or marker")
	for pattern, says := range map[string]string{
		"/etc/*": "below the place's root", "../*": "no path", "a//b": "no path", `a\b`: "below the place's root",
		"a**": "stands for folders", "in/**": "it ends with folders", " ": "say which files",
	} {
		assert.Contains(t, try(job.FileWatch{Destination: "gauges", Pattern: pattern}), says, pattern)
	}
	assert.Contains(t, try(job.FileWatch{Destination: "gauges", Pattern: "*", Every: job.Duration(time.Millisecond)}), "1s to 24h")
	assert.Contains(t, try(job.FileWatch{Destination: "gauges", Pattern: "*", Complete: "guess"}), "no sign")
	assert.Contains(t, try(job.FileWatch{Destination: "gauges", Pattern: "*"}, func(w *job.Wait) { w.For[0].Event = "x" }),
		"name one of")
	assert.Contains(t, try(job.FileWatch{Destination: "gauges", Pattern: "*"}, func(w *job.Wait) {
		w.For[0].OnlyIf = "event.data.size >"
	}), "only_if")

	j := o.waits(e, "Tides", files("*.csv"), path)
	o.look(e)
	o.Place("gauges", "folder", deliver.FolderSettings{Folder: o.Folder})
	o.put("a.csv", "1")
	o.look(e)
	assert.Empty(t, o.runs(j, "file"))
	assert.Contains(t, o.Text(`SELECT failure FROM watches ORDER BY id DESC LIMIT 1`), "let no job do so any more")
}

// A folder of this machine tells by itself, also of folders that come later, and a node that starts finds
// what came while none was there.
func TestFoldersTellByThemselves(t *testing.T) {
	o := open(t)
	e := o.Engine(nil)
	require.NoError(t, os.Mkdir(o.path("in"), 0o700))
	j := o.waits(e, "Tides", files("in/**/*.csv", func(f *job.FileWatch) {
		f.Unchanged, f.Every = job.Duration(time.Second), job.Duration(time.Hour)
	}), path)
	firsts := func() int {
		return o.Number(`SELECT count(*) FROM events WHERE type = 'ironbell.node.started' AND data->>'first' = 'true'`)
	}
	stop := o.Run(e)
	o.Until("the start is told of", func() bool { return firsts() == 1 })
	o.Until("it was looked at", func() bool { return o.Number(`SELECT count(*) FROM watches WHERE mark IS NOT NULL`) == 1 })
	o.put("in/a.csv", "1")
	o.Until("the file is told of", func() bool { return len(o.runs(j, "file")) == 1 })
	o.put("in/later/b.csv", "1")
	o.Until("and one in a folder that is new", func() bool { return len(o.runs(j, "file")) == 2 })
	stop()
	o.put("in/away.csv", "1")
	o.Run(o.Engine(nil))
	o.Until("and one that came while no node was there", func() bool { return len(o.runs(j, "file")) == 3 })
	o.Until("its start is told of, too", func() bool { return firsts() == 2 })
}
