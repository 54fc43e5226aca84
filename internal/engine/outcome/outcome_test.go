package outcome_test

import (
	"fmt"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/engine"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/service"

	"github.com/stretchr/testify/assert"
)

// The answers to commits are lost: whatever was written is known again, and stands once.
func TestLostAnswersToCommits(t *testing.T) {
	o := enginetest.Open(t)
	line, s := o.Lossy()
	effects := o.Strain.Effects()
	// beyond all that is lost
	e := o.EngineOn(s, nil, func(p *engine.Options) { p.Workers, p.Lease = 4, 20*time.Second })
	const runs = 30
	d := job.Definition{
		Overlap: job.OverlapTogether,
		Tasks: []job.Task{
			enginetest.Strained("file", "file"), enginetest.Effect("one", "effect"),
			enginetest.Mailed("a@tarnwick.example"), enginetest.Effect("two", "effect", "mail"),
		},
	}
	for n := range runs {
		o.Save(o.Engine(nil), fmt.Sprintf("Job %d", n), d)
		o.Ring(o.Engine(nil), fmt.Sprintf("Job %d", n), service.Ask{})
	}
	o.Run(e)
	for range 25 {
		for _, table := range []string{"attempts", "messages", "parts"} {
			line.LoseAfter(table)
			time.Sleep(15 * time.Millisecond)
		}
	}
	o.Until("all runs end", func() bool { return o.Number(`SELECT count(*) FROM runs WHERE ended_at IS NULL`) == 0 })
	assert.Positive(t, line.Lost())
	t.Logf("%d answers were lost", line.Lost())
	assert.Empty(t, o.Texts(`SELECT state || ': ' || reason FROM runs WHERE state <> 'done'`), "none was given up")
	assert.Equal(t, runs, o.Number(`SELECT count(*) FROM messages WHERE run_id IS NOT NULL`),
		"one message for each run")
	assert.Equal(t, runs, o.Number(`SELECT count(*) FROM deliveries WHERE run_id IS NOT NULL`))
	assert.Equal(t, runs, o.Number(`SELECT count(*) FROM artifacts`))
	assert.Zero(t,
		o.Number(`SELECT count(*) FROM (SELECT 1 FROM attempts WHERE state = 'done' GROUP BY run_id, part, task HAVING count(*) > 1) twice`))
	assert.Equal(t, int64(2*runs), effects.Load())
}
