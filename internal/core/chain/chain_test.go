package chain_test

import (
	"fmt"
	"slices"
	"testing"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func task(name string, kind job.TaskKind, after ...string) job.Task {
	if after == nil {
		after = []string{}
	}
	return job.Task{Name: name, Kind: kind, After: after}
}

func read(t *testing.T, tasks ...job.Task) chain.Chain {
	t.Helper()
	var v fault.Invalid
	c := chain.Read(tasks, &v)
	require.NoError(t, v.Err())
	return c
}

func said(tasks ...job.Task) map[string]string {
	var v fault.Invalid
	chain.Read(tasks, &v)
	out := map[string]string{}
	for _, w := range v.Wrong {
		out[w.Where] = w.Sentence
	}
	return out
}

func names(moves []chain.Move) []string {
	out := []string{}
	for _, m := range moves {
		name := m.Task.Name
		if m.Over != "" {
			name = "over " + name
		}
		out = append(out, name)
	}
	return out
}

func TestWhatIsWrongWithAChainIsSaid(t *testing.T) {
	assert.Equal(t,
		map[string]string{
			"tasks[1].name": `there are two tasks "mail"; give one another name`,
			"tasks[2].name": "the task needs a name",
		},
		said(task("mail", job.KindDeliver), task("mail", job.KindDeliver), task(" ", job.KindReport)))
	assert.Equal(t,
		map[string]string{
			"tasks[0].after[0]": `there is no task "load"; there are report, mail`,
			"tasks[1].after[1]": `the task "report" is named twice`,
		},
		said(task("report", job.KindReport, "load"), task("mail", job.KindDeliver, "report", "report")))
	assert.Equal(t, map[string]string{
		"tasks[0].after": `the tasks go round in a circle: a > b > c > a; let "a" begin without one of them`,
		"tasks[3].after": `task "d" is never reached: it comes after "a", which stands in a circle`,
	}, said(task("a", job.KindReport, "c"), task("b", job.KindReport, "a"), task("c", job.KindReport, "b"),
		task("d", job.KindDeliver, "c")))
	assert.Equal(t, `the tasks go round in a circle: a > a; let "a" begin without one of them`,
		said(task("a", job.KindReport, "a"))["tasks[0].after"])
	uses := task("mail", job.KindDeliver, "a")
	uses.Uses = []string{"b"}
	assert.Equal(t, `task "b" does not come before "mail", so its files are not there; tasks before it: a`,
		said(task("a", job.KindReport), task("b", job.KindReport), uses)["tasks[2].uses[0]"])
}

func TestAPlainListRunsInItsOrder(t *testing.T) {
	c := read(t, job.Task{Name: "report", Kind: job.KindReport}, job.Task{Name: "zip", Kind: job.KindProgram},
		job.Task{Name: "mail", Kind: job.KindDeliver})
	assert.Equal(t, []string{"report"}, names(c.Next(nil, nil)))
	assert.Empty(t, c.Next(nil, map[string]bool{"report": true}))
	assert.Equal(t, []string{"zip"}, names(c.Next(chain.Ended{"report": job.AttemptDone}, nil)))
	assert.Equal(t, []string{"report", "zip"}, c.Before("mail"))
	assert.Equal(t, []string{"report", "zip"}, c.Uses("mail"))
}

func TestSideBySideAndTogetherAgain(t *testing.T) {
	c := read(t, task("fuel", job.KindReport), task("load", job.KindReport),
		task("mail", job.KindDeliver, "fuel", "load"))
	assert.Equal(t, []string{"fuel", "load"}, names(c.Next(nil, nil)))
	assert.Empty(t, c.Next(chain.Ended{"fuel": job.AttemptDone}, map[string]bool{"load": true}))
	assert.Equal(t, []string{"mail"},
		names(c.Next(chain.Ended{"fuel": job.AttemptDone, "load": job.AttemptBlank}, nil)))
}

func TestFailuresStopOrGoOn(t *testing.T) {
	fetch := task("fetch", job.KindFetch)
	c := read(t, fetch, task("other", job.KindReport), task("mail", job.KindDeliver, "fetch"))
	ended := chain.Ended{"fetch": job.AttemptFailed}
	assert.Empty(t, c.Next(ended, nil), "nothing new begins, also not beside it")
	state, reason := c.Outcome(ended)
	assert.Equal(t, job.PartFailed, state)
	assert.Equal(t, "task fetch failed", reason)

	fetch.IfFailed = job.FailedGoOn
	c = read(t, fetch, task("mail", job.KindDeliver, "fetch"))
	assert.Equal(t, []string{"mail"}, names(c.Next(ended, nil)))
	state, reason = c.Outcome(chain.Ended{"fetch": job.AttemptFailed, "mail": job.AttemptDone})
	assert.Equal(t, job.PartPartly, state)
	assert.Equal(t, "task fetch failed, and the job goes on without it", reason)
}

func TestWhatIsPassedOverTakesItsFollowersAlong(t *testing.T) {
	join := task("note", job.KindDeliver, "load")
	join.OnlyIf = `outcome("load") == "passed over"`
	c := read(t, task("load", job.KindProgram), task("upload", job.KindCall, "load"), join)
	ended := chain.Ended{"load": job.AttemptOver}
	moves := c.Next(ended, nil)
	assert.Equal(t, []string{"over upload", "note"}, names(moves), "a condition of its own decides alone")
	assert.Equal(t, "task load, which it follows, was passed over", moves[0].Over)
	ended["upload"], ended["note"] = job.AttemptOver, job.AttemptDone
	state, reason := c.Outcome(ended)
	assert.Equal(t, job.PartDone, state)
	assert.Equal(t, "all tasks done; passed over: load, upload", reason)
}

func TestBlank(t *testing.T) {
	c := read(t, task("a", job.KindReport), task("b", job.KindCollect), task("one", job.KindDeliver, "a"),
		task("both", job.KindDeliver, "a", "b"))
	ended := chain.Ended{"a": job.AttemptBlank, "b": job.AttemptDone}
	blank, makers := c.Blank("one", ended)
	assert.True(t, blank)
	assert.Equal(t, []string{"a"}, makers)
	blank, _ = c.Blank("both", ended)
	assert.False(t, blank, "one of two found something")
	blank, _ = c.Blank("b", ended)
	assert.False(t, blank, "what looks for something is never held")
	state, reason := c.Outcome(chain.Ended{
		"a": job.AttemptBlank, "b": job.AttemptBlank, "one": job.AttemptOver, "both": job.AttemptOver,
	})
	assert.Equal(t, job.PartBlank, state)
	assert.Equal(t, "blank: a, b found nothing", reason)
	state, _ = c.Outcome(chain.Ended{
		"a": job.AttemptBlank, "b": job.AttemptBlank, "one": job.AttemptDone, "both": job.AttemptOver,
	})
	assert.Equal(t, job.PartDone, state, "sent with a note")
}

// Whatever the graph and however its tasks end, working off what Next gives
// ends every task once, each after those that it follows, and Outcome then
// agrees with what happened.
func TestEveryChainComesToAnEnd(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 12).Draw(t, "tasks")
		kinds := []job.TaskKind{job.KindReport, job.KindProgram, job.KindDeliver, job.KindCollect}
		tasks := make([]job.Task, n)
		for i := range tasks {
			tasks[i] = job.Task{
				Name: fmt.Sprint("t", i), Kind: rapid.SampledFrom(kinds).Draw(t, "kind"), After: []string{},
				IfFailed: rapid.SampledFrom([]job.IfFailed{"", job.FailedGoOn}).Draw(t, "if_failed"),
			}
			for p := range i {
				if rapid.Bool().Draw(t, "follows") && rapid.Bool().Draw(t, "really") {
					tasks[i].After = append(tasks[i].After, fmt.Sprint("t", p))
				}
			}
		}
		var v fault.Invalid
		c := chain.Read(tasks, &v)
		if v.Err() != nil {
			t.Fatal(v.Err())
		}
		ended, working := chain.Ended{}, map[string]bool{}
		for {
			for _, m := range c.Next(ended, working) {
				for _, name := range c.Follows(m.Task.Name) {
					if _, done := ended[name]; !done {
						t.Fatalf("%s begins before %s has ended", m.Task.Name, name)
					}
				}
				if m.Over != "" {
					ended[m.Task.Name] = job.AttemptOver
					continue
				}
				working[m.Task.Name] = true
			}
			if len(working) == 0 {
				if len(c.Next(ended, working)) > 0 {
					continue
				}
				break
			}
			var any []string
			for name := range working {
				any = append(any, name)
			}
			slices.Sort(any)
			name := rapid.SampledFrom(any).Draw(t, "ends")
			delete(working, name)
			ended[name] = rapid.SampledFrom([]job.AttemptState{
				job.AttemptDone, job.AttemptDone, job.AttemptBlank,
				job.AttemptFailed, job.AttemptOver,
			}).Draw(t, "how")
		}
		state, reason := c.Outcome(ended)
		if reason == "" {
			t.Fatal("no reason")
		}
		switch stopped := c.Stopped(ended); {
		case stopped != "" && state != job.PartFailed:
			t.Fatalf("%s stopped it, and it is %s", stopped, state)
		case stopped == "" && len(ended) != n:
			t.Fatalf("%d of %d tasks ended", len(ended), n)
		}
	})
}

func BenchmarkNext(b *testing.B) {
	tasks := make([]job.Task, 20)
	for i := range tasks {
		tasks[i] = job.Task{Name: fmt.Sprint("t", i), Kind: job.KindReport}
	}
	c := chain.Read(tasks, &fault.Invalid{})
	ended := chain.Ended{"t0": job.AttemptDone, "t1": job.AttemptDone}
	b.ReportAllocs()
	for b.Loop() {
		c.Next(ended, nil)
	}
}
