package probe_test

import (
	"fmt"
	"slices"
	"sync/atomic"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/engine/probe"
	"ironbell/internal/service"
	"ironbell/standin/gate"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A destination that is fine whenever it is looked at and refuses what is handed over
// is told of at the third rest in a row, and its pauses grow.
func TestADestinationThatPassesItsProbeAndRefuses(t *testing.T) {
	o := enginetest.Open(t)
	printer, e := o.Printer()
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Busy}))
	run := o.Ring(e, "Sheet", service.Ask{})
	o.Run(e)
	o.Until("it is told of",
		func() bool { return o.Number(`SELECT count(*) FROM alerts WHERE cause LIKE 'refuses:%'`) == 1 })
	assert.Equal(t, 3, o.Number(`SELECT rests_in_row FROM destinations WHERE name = 'printer'`))
	assert.Contains(t, o.Text(`SELECT happened FROM alerts WHERE cause LIKE 'refuses:%'`),
		"answers when it is looked at, and refuses what is handed over: 3 times in a row")
	assert.GreaterOrEqual(t,
		o.Number(`SELECT (extract(epoch FROM probe_at - rests_since) * 10)::int FROM destinations WHERE name = 'printer'`), 8, "0.1 s, 0.3 s, 0.9 s")
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Accept}))
	assert.Equal(t, job.RunDone, o.Ended(run.ID).State)
	o.Until("the alert closes",
		func() bool { return o.Number(`SELECT count(*) FROM alerts WHERE state <> 'closed'`) == 0 })
	assert.Zero(t, o.Number(`SELECT rests_in_row FROM destinations WHERE name = 'printer'`))

	// A queue that takes no jobs, and says so, does not pass its probe.
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Closed}))
	_, d, err := e.Destinations.ByName(o.Ctx, "printer")
	require.NoError(t, err)
	assert.ErrorContains(t, deliver.Probe(o.Ctx, d), "the printer takes no jobs")
}

// What a printer took is not sent yet: it is asked until the printer is done.
func TestAPrinterIsAskedUntilItIsDone(t *testing.T) {
	o := enginetest.Open(t)
	printer, e := o.Printer()
	o.Run(e)
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Hold}))
	held, late := o.Ring(e, "Sheet", service.Ask{}), o.Ring(e, "Sheet", service.Ask{})
	o.Until("both are taken", func() bool {
		return o.Number(`SELECT count(*) FROM deliveries WHERE state = 'taken' AND answer LIKE '%waiting in the printer''s queue%'`) == 2
	})
	assert.Equal(t, 2, o.Number(`SELECT count(*) FROM runs WHERE state = 'delivering'`))
	assert.Zero(t, o.Number(`SELECT count(*) FROM deliveries WHERE lease_until IS NOT NULL`))
	o.Exec(`UPDATE deliveries SET give_up_at = now() - interval '1 second', ask_at = now() WHERE run_id = $1`, late.ID)
	assert.Contains(t, o.Ended(late.ID).Reason, "unknown")
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM alerts WHERE kind = 'delivery unknown' AND state = 'open'`))
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Accept}))
	o.Exec(`UPDATE deliveries SET ask_at = now() WHERE state = 'taken'`)
	assert.Equal(t, job.RunDone, o.Ended(held.ID).State)

	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Abort}))
	aborted := o.Ended(o.Ring(e, "Sheet", service.Ask{}).ID)
	assert.Equal(t, job.RunFailed, aborted.State)
	assert.Contains(t, o.Text(`SELECT answer FROM deliveries WHERE run_id = $1`, aborted.ID),
		"the printer aborted the job (document-format-error)")
}

// Destinations that hang when they are looked at hold up no other.
func TestADestinationThatHangsHoldsUpNoOther(t *testing.T) {
	o := enginetest.Open(t)
	var asked []*atomic.Int64
	for n := range probe.AsksAtOnce - 1 {
		port, taken := enginetest.Silent(t)
		asked = append(asked, taken)
		o.Place(fmt.Sprintf("hung %d", n), "smtp", deliver.MailSettings{
			Host: "127.0.0.1", Port: port, From: "bell@tarnwick.example", Security: "none",
		})
	}
	o.Exec(`UPDATE destinations SET rests_since = now() - interval '1 hour', probe_at = CASE WHEN name LIKE 'hung%' THEN now() - interval '1 hour' ELSE now() END`)
	o.Run(o.Engine(nil))
	o.Until("the one that works is used again",
		func() bool { return o.Number(`SELECT count(*) FROM destinations WHERE rests_since IS NULL`) > 0 })
	assert.Equal(t, probe.AsksAtOnce-1,
		o.Number(`SELECT count(*) FROM destinations WHERE name LIKE 'hung%' AND rests_since IS NOT NULL`))
	o.Until("the others were asked", func() bool {
		return !slices.ContainsFunc(asked, func(n *atomic.Int64) bool { return n.Load() == 0 })
	})
}
