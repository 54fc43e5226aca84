package watcher_test

import (
	"runtime"
	"sync"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/engine"
	"ironbell/internal/engine/crash"
	"ironbell/internal/engine/enginetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A node dies between what it saw and the run that it makes of it, or between what it moved and the note of it.
// Another one goes on: one run for each, nothing lost, no file moved twice.
func TestANodeThatDiesWhileItLooks(t *testing.T) {
	for _, point := range crash.Watching {
		t.Run(point, func(t *testing.T) {
			o := open(t)
			o.ledger()
			died := 0
			dying := o.Engine(nil, func(p *engine.Options) {
				p.At = func(at string) {
					if at == point {
						died++
						runtime.Goexit() // what is open is rolled back, as for a process that is gone
					}
				}
			})
			taken := files("in/*.csv")
			taken.Take = path
			o.Save(dying, "Tides", job.Definition{
				Triggers: []job.Trigger{{Wait: &taken}}, Own: []string{"file"}, Overlap: job.OverlapTogether,
				Tasks: []job.Task{collect(func(c *job.CollectTask) { c.Pattern = "{value.file}" })},
			})
			rows := o.waits(dying, "Rows", query(job.QueryWatch{SQL: `SELECT * FROM fares`, When: job.QueryNewRows, Mark: "no"}), rowNo)
			changed := o.waits(dying, "Changed", query(job.QueryWatch{SQL: `SELECT max(no) FROM fares`, When: job.QueryChanged}), value)
			o.put("in/old.txt", "")
			o.look(dying)
			for _, name := range []string{"in/a.csv", "in/b.csv", "in/c.csv"} {
				o.put(name, name)
			}
			o.Exec(`INSERT INTO fares VALUES (1, 'Oare', 1), (2, 'Oare', 1)`)
			pass := func(e *enginetest.Site) {
				var gone sync.WaitGroup
				o.Exec(`UPDATE watches SET next_at = now() - interval '1 second', leased_until = NULL`)
				o.Exec(`UPDATE collected SET next_at = now() WHERE state = 'due'`)
				gone.Go(func() { _, _ = e.Watcher.Pass(o.Ctx) })
				gone.Wait()
			}
			if point == crash.Cleared {
				stop := o.Run(o.Engine(nil))
				o.Until("all is collected", func() bool { return o.Number(`SELECT count(*) FROM collected WHERE good`) == 3 })
				stop()
				o.Exec(`UPDATE collected SET state = 'due', next_at = now()`)
				for _, name := range []string{"in/a.csv", "in/b.csv", "in/c.csv"} {
					if !o.lies(name) {
						o.put(name, name) // another one, which is to stay
					}
				}
			}
			for range 5 {
				pass(dying)
			}
			require.Positive(t, died)
			o.Run(o.Engine(nil))
			o.Until("another node goes on", func() bool {
				o.Exec(`UPDATE watches SET next_at = now(), leased_until = NULL WHERE leased_until IS NULL
					OR leased_until > now() + interval '30 seconds'`) // what the dead one leased would end by itself
				o.Exec(`UPDATE collected SET next_at = now() WHERE state = 'due'`)
				return o.Number(`SELECT count(*) FROM collected WHERE state = 'ended'`) == 3 &&
					len(o.runs(rows, "is")) == 2 && len(o.runs(changed, "is")) == 1
			})
			assert.Equal(t, []string{"in/a.csv", "in/b.csv", "in/c.csv"}, o.Texts(`SELECT given->>'file' FROM runs
				WHERE job_name = 'Tides' ORDER BY 1`))
			assert.Equal(t, []string{"1", "2"}, o.runs(rows, "is"))
			assert.Equal(t, []string{"2"}, o.runs(changed, "is"))
		})
	}
}
