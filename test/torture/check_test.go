package torture

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rule"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ring is a decision as it stands in the database.
type ring struct {
	due, decided time.Time
	decision     job.RingDecision
	run          *int64
}

const (
	grace = 5 * time.Minute // how late a ring may be and still count as on time
	// slack is how far the instant of a decision may lie from the one at which
	// it was written: a node may be held up between the two.
	slack = 20 * time.Second
)

// check reads database and inbox, and holds both against what must be.
func (h *harness) check(all map[int64]ringing, start time.Time) {
	t := h.t
	rings := h.rings()
	made := h.number(`SELECT count(*) FROM runs WHERE trigger_id IS NOT NULL`)
	passed, joined, ran := 0, 0, 0
	last := time.Now().Add(h.offset() + farthest)
	for trigger, r := range all {
		got := rings[trigger]
		dues := h.dues(r, start, last)
		if r.switched {
			h.checkSwitched(r, got, dues)
			for _, g := range got {
				switch g.decision {
				case job.RingPassedOver:
					passed++
				case job.RingJoined:
					joined++
				default:
					ran++
				}
			}
			continue
		}
		// The list of decisions is the beginning of the list of due times:
		// nothing lost, nothing twice, nothing made up.
		if len(got) > len(dues) || len(dues)-len(got) > h.rest() {
			assert.Fail(t, "lost or made up", "%s: %d due times, %d decisions", r.name, len(dues), len(got))
			continue
		}
		for i := range got {
			if !got[i].due.Equal(dues[i]) {
				assert.Fail(t, "lost or made up", "%s: due %s, decided on %s", r.name, dues[i], got[i].due)
				break
			}
		}
		p, j, n := h.judge(r, got)
		passed, joined, ran = passed+p, joined+j, ran+n
	}
	assert.Equal(t, made, ran, "each run has its ring")
	assert.Zero(t,
		h.number(`SELECT count(*) FROM runs r LEFT JOIN (SELECT run_id, count(*) AS n FROM rings WHERE decision = 'run' GROUP BY run_id) g ON g.run_id = r.id
		WHERE trigger_id IS NOT NULL AND coalesce(n, 0) <> 1`), "each run has exactly one ring that made it")
	assert.Zero(t,
		h.number(`SELECT count(*) FROM rings g WHERE decision <> 'passed over' AND NOT EXISTS (SELECT 1 FROM runs r WHERE r.id = g.run_id)`), "each ring that made or joined a run has that run")

	stuck := h.number(`SELECT count(*) FROM runs WHERE state IN ('waiting', 'running', 'delivering')`)
	assert.Zero(t, stuck, "no run is stuck")
	assert.Zero(t, h.number(`SELECT count(*) FROM gates`), "no gate stays shut")
	assert.Zero(t,
		h.number(`SELECT count(*) FROM parts p WHERE state = 'done' AND EXISTS (SELECT 1 FROM attempts a WHERE a.run_id = p.run_id AND a.part = p.part AND a.state = 'running')`), "nothing is still being tried")

	got := h.sentTo()
	conn := h.conn()
	defer func() { _ = conn.Close(context.Background()) }()
	rows, err := conn.Query(context.Background(),
		`SELECT CASE WHEN m.name <> '' THEN 'folder' ELSE m.subject END || ' ' || d.address, d.state FROM deliveries d JOIN messages m ON m.id = d.message_id WHERE d.run_id IS NOT NULL`)
	require.NoError(t, err)
	states, missing := map[string]int{}, 0
	for rows.Next() {
		var key, state string
		require.NoError(t, rows.Scan(&key, &state))
		states[state]++
		if state == "sent" && got[key] == 0 {
			missing++
			assert.Fail(t, "lost", "%s is marked as sent and did not arrive", key)
		}
		if state != "sent" && state != "unknown" && got[key] > 0 {
			assert.Fail(t, "untrue", "%s is %s and did arrive", key, state)
		}
	}
	require.NoError(t, rows.Err())
	twice := 0
	for key, n := range got {
		if n > 1 {
			twice++
			assert.Fail(t, "twice", "%s was received %d times", key, n)
		}
	}
	bound := h.atStop + h.mail.Dropped()
	assert.LessOrEqual(t, states["unknown"], bound,
		"unknown are at most the offers that were open at a kill, and those that the mail server dropped")
	refused := h.count('x')
	assert.GreaterOrEqual(t, refused, 20, "writes by nodes whose lease had gone were attempted and refused")
	t.Logf("%d due times of %d jobs, each with one decision: %d runs, %d joined, %d passed over; %d stuck",
		passed+joined+ran, len(all), ran, joined, passed, stuck)
	t.Logf("deliveries: %v; %d sent but missing, %d received twice; %d unknown of at most %d; %d stale writes refused",
		states, missing, twice, states["unknown"], bound, refused)
}

// farthest is how far a node's clock may be from the others'.
const farthest = 2 * time.Second

// checkSwitched holds the decisions of a job that was switched off and on against its
// rule: nothing twice, nothing made up, and nothing lost of what came due while it was
// surely on.
func (h *harness) checkSwitched(r ringing, got []ring, dues []time.Time) {
	const margin = farthest + 6*time.Second // of clocks that were turned back, and of instants that were written down
	is, decided := map[int64]bool{}, map[int64]bool{}
	for _, due := range dues {
		is[due.Unix()] = true
	}
	for i, g := range got {
		if !is[g.due.Unix()] || decided[g.due.Unix()] {
			assert.Fail(h.t, "made up or twice", "%s: decided on %s, place %d", r.name, g.due, i)
		}
		decided[g.due.Unix()] = true
	}
	for _, on := range h.ons[r.name] {
		for _, due := range dues {
			if due.After(on.from.Add(margin)) && due.Before(on.to.Add(-margin)) && !decided[due.Unix()] {
				assert.Fail(h.t, "lost", "%s: due %s, on from %s to %s", r.name, due, on.from, on.to)
			}
		}
	}
}

// rest is how many due times a trigger may have beyond its last decision: its
// rings were taken away before the last check, while nodes still slept.
func (h *harness) rest() int {
	return int((10*time.Minute+time.Since(h.began))/(time.Duration(*every)*time.Second)) + 1
}

func (h *harness) rings() map[int64][]ring {
	t := h.t
	conn := h.conn()
	defer func() { _ = conn.Close(context.Background()) }()
	rows, err := conn.Query(context.Background(),
		`SELECT trigger_id, due, decided_at, decision, run_id FROM rings ORDER BY trigger_id, due`)
	require.NoError(t, err)
	out := map[int64][]ring{}
	for rows.Next() {
		var id int64
		var r ring
		require.NoError(t, rows.Scan(&id, &r.due, &r.decided, &r.decision, &r.run))
		out[id] = append(out[id], r)
	}
	require.NoError(t, rows.Err())
	return out
}

// dues lists the due times of a job from its first to an instant, from its rule
// alone.
func (h *harness) dues(r ringing, start, until time.Time) []time.Time {
	parsed, err := rule.Options{Zone: zoneUTC(h.t)}.Parse(r.rule)
	require.NoError(h.t, err)
	var dues []time.Time
	for at, ok := parsed.Next(start.Add(-time.Minute)); ok && !at.After(until); at, ok = parsed.Next(at) {
		dues = append(dues, at)
	}
	return dues
}

// judge holds the decisions of one trigger against what its settings ask for,
// given how late each was by the log of the clock's turns.
func (h *harness) judge(r ringing, got []ring) (passed, joined, ran int) {
	for i := 0; i < len(got); {
		batch := i
		for i < len(got) && got[i].decided.Equal(got[batch].decided) {
			i++
		}
		early, late := h.clock(got[batch].decided)
		for k := batch; k < i; k++ {
			g := got[k]
			newest := k == i-1
			surely := early.Sub(g.due) > grace // surely missed
			never := late.Sub(g.due) <= grace  // surely on time
			over := g.decision == job.RingPassedOver
			says := fmt.Sprintf("%s (after an outage: %s): due %s, decided between %s and %s: %s", r.name, r.outage,
				g.due.Format(time.TimeOnly), early.Format(time.TimeOnly), late.Format(time.TimeOnly), g.decision)
			switch {
			case never && over, surely && r.outage == job.OutageEach && over,
				surely && r.outage == job.OutageOnce && newest && over && i-batch < maxBatch:
				assert.Fail(h.t, "passed over against its settings", says)
			case surely && r.outage == job.OutageNone && !over,
				surely && r.outage == job.OutageOnce && !newest && !over:
				assert.Fail(h.t, "rung against its settings", says)
			case g.decision == job.RingJoined && !r.wait:
				assert.Fail(h.t, "joined against its settings", says)
			}
			switch g.decision {
			case job.RingPassedOver:
				passed++
			case job.RingJoined:
				joined++
			default:
				ran++
			}
		}
	}
	return passed, joined, ran
}

// maxBatch is how many due times of one trigger are decided on at once.
const maxBatch = 500

// clock is what the nodes' clock may have shown at a decision, at the earliest
// and at the latest.
func (h *harness) clock(decided time.Time) (early, late time.Time) {
	var least, most time.Duration
	first := true
	for i, turn := range h.turns {
		ended := i+1 < len(h.turns) && h.turns[i+1].at.Before(decided.Add(-slack))
		if ended || turn.at.After(decided.Add(slack)) {
			continue
		}
		if first || turn.offset < least {
			least = turn.offset
		}
		if first || turn.offset > most {
			most = turn.offset
		}
		first = false
	}
	return decided.Add(least - slack), decided.Add(most + slack)
}

// Each point at which a node may die between clock and receipt: it does die
// there, another node goes on, and the one ring has one run, one mail or file, and
// a state that tells the truth about it.
func TestEveryCrashPoint(t *testing.T) {
	for destination, points := range map[string][]string{
		"company mail": {"ring", "rung", "claim", "task", "settle", "settled", "send", "offer", "answer", "receipt"},
		"port folders": {"send", "offer", "answer", "receipt"},
	} {
		for _, point := range points {
			t.Run(destination+", "+point, func(t *testing.T) {
				t.Parallel()
				h := raise(t)
				h.dieAt(point, destination)
			})
		}
	}
}

func (h *harness) dieAt(point, destination string) {
	t := h.t
	h.one(time.Now().Add(time.Second).Truncate(time.Second), destination)
	doomed := h.start(point + ":1")
	select {
	case <-doomed.Ended():
	case <-time.After(30 * time.Second):
		h.tell()
		t.Fatalf("the node did not come by %q", point)
	}
	h.start("")
	h.until(30*time.Second, "the ring is decided on",
		func() bool { return h.number(`SELECT count(*) FROM rings`) >= 1 })
	h.quiet(40 * time.Second)
	assert.Equal(t, 1, h.number(`SELECT count(*) FROM rings WHERE decision = 'run'`))
	assert.Equal(t, 1, h.number(`SELECT count(*) FROM runs`))
	sent, unknown := h.number(`SELECT count(*) FROM deliveries WHERE state = 'sent'`),
		h.number(`SELECT count(*) FROM deliveries WHERE state = 'unknown' AND run_id IS NOT NULL`)
	received := 0
	for key, n := range h.sentTo() {
		if !strings.HasSuffix(key, " mara@tarnwick.example") { // who is told of what is unknown
			received += n
		}
	}
	assert.Equal(t, 1, sent+unknown)
	assert.LessOrEqual(t, received, 1, "never twice")
	if sent == 1 {
		assert.Equal(t, 1, received, "what is sent has arrived")
	}
	if unknown == 1 {
		assert.Contains(t, []string{"offer", "answer"}, point, "only what was offered can be unknown")
	}
	assert.Equal(t, 1-unknown, h.number(`SELECT count(*) FROM runs WHERE state = 'done'`))
	t.Logf("%s: sent %d, unknown %d, received %d", point, sent, unknown, received)
}
