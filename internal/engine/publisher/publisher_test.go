package publisher_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/engine/enginetest"
	"ironbell/internal/outgoing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// told is an event as it came.
type told struct {
	ID, Type, Subject, Sequence string
	Data                        map[string]any
}

// desk is a program outside that takes events.
type desk struct {
	sync.Mutex
	all    []told
	answer func(told) int // 200 when nil
	lose   func(told) bool
}

func (d *desk) ServeHTTP(rw http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	var e told
	_ = json.Unmarshal(body, &e)
	d.Lock()
	defer d.Unlock()
	if d.answer != nil {
		if status := d.answer(e); status != http.StatusOK {
			http.Error(rw, "not this one", status)
			return
		}
	}
	if d.lose != nil && d.lose(e) {
		d.all = append(d.all, e)
		line, _, err := http.NewResponseController(rw).Hijack()
		if err == nil {
			_ = line.Close()
		}
		return
	}
	if r.Method == http.MethodPost { // and not a look whether it works again
		d.all = append(d.all, e)
	}
}

func (d *desk) heard() []told {
	d.Lock()
	defer d.Unlock()
	return slices.Clone(d.all)
}

// subscribe lets a desk hear of types.
func subscribe(t *testing.T, o *enginetest.Office, d *desk, types ...string) func(*engine.Options) {
	t.Helper()
	server := httptest.NewServer(d)
	t.Cleanup(server.Close)
	o.PlaceWith("duty screen", "http", "a key", deliver.HTTPSettings{URL: server.URL})
	_, err := o.Store.PutSubscription(o.Ctx, "Duty office", job.SubscriptionDefinition{Destination: "duty screen", Types: types})
	require.NoError(t, err)
	return func(p *engine.Options) {
		p.Guard = outgoing.New([]string{strings.TrimPrefix(server.URL, "http://")})
		p.URL = "http://bell.tarnwick.example"
	}
}

// happen lets events of several subjects happen, one after another.
func happen(o *enginetest.Office, subjects, each int) {
	o.Exec(`SELECT publish('ironbell.run.ended', 'jobs/' || s, jsonb_build_object('n', n))
		FROM generate_series(1, $2::int) n, generate_series(1, $1::int) s ORDER BY n, s`, subjects, each)
}

// inOrder asks for each event once, and those of each subject in their order.
func inOrder(t *testing.T, all []told, subjects, each int) {
	t.Helper()
	ids, last := map[string]int{}, map[string]float64{}
	for _, e := range all {
		ids[e.ID]++
		n, _ := e.Data["n"].(float64)
		assert.InDelta(t, last[e.Subject]+1, n, 0, "%s came in another order", e.Subject)
		last[e.Subject] = n
	}
	assert.Len(t, ids, subjects*each)
	assert.Len(t, all, subjects*each, "one came twice")
}

// Two nodes publish and hand over at once: each event arrives once, those of a subject in their order, and
// no more are on their way than is allowed.
func TestTwoNodesPublishEachEventOnceAndInOrder(t *testing.T) {
	o := enginetest.Open(t)
	d := &desk{}
	options := subscribe(t, o, d, "ironbell.run.*")
	happen(o, 60, 10)
	for range 2 {
		o.Run(o.Engine(nil, options))
	}
	most := 0
	o.Until("all have come", func() bool {
		most = max(most, o.Number(`SELECT count(*) FROM deliveries WHERE state IN ('waiting', 'sending', 'offered')`))
		return len(d.heard()) >= 600
	})
	inOrder(t, d.heard(), 60, 10)
	assert.LessOrEqual(t, most, 200)
	assert.Zero(t, o.Number(`SELECT count(*) FROM (SELECT published_no FROM deliveries GROUP BY 1 HAVING count(*) > 1) d`))
}

// A transaction that ends late has its events after those that were handed on meanwhile, and none is left out.
func TestWhatIsWrittenLateIsNotPassedOver(t *testing.T) {
	o := enginetest.Open(t)
	d := &desk{}
	e := o.Engine(nil, subscribe(t, o, d, "*"))
	late, err := o.DB.BeginTxx(o.Ctx, nil)
	require.NoError(t, err)
	_, err = late.ExecContext(o.Ctx, `SELECT publish('ironbell.run.ended', 'jobs/1', '{"n":2}')`)
	require.NoError(t, err)
	o.Exec(`SELECT publish('ironbell.run.ended', 'jobs/1', '{"n":1}')`)
	o.Run(e)
	o.Until("the first has come", func() bool { return len(d.heard()) == 1 })
	require.NoError(t, late.Commit())
	o.Until("the late one has come", func() bool { return len(d.heard()) == 2 })
	inOrder(t, d.heard(), 1, 2)
}

// An event that is refused for good is given up, and told; those after it go on. While the place as a whole does
// not work nothing is given up, and what waits is in its order when it works again.
func TestWhatIsRefusedIsGivenUpAndTold(t *testing.T) {
	o := enginetest.Open(t)
	var down bool
	d := &desk{}
	d.answer = func(e told) int {
		switch {
		case down:
			return http.StatusServiceUnavailable
		case e.Data["n"] == float64(2):
			return http.StatusUnprocessableEntity
		}
		return http.StatusOK
	}
	options := subscribe(t, o, d, "ironbell.run.*")
	o.Run(o.Engine(nil, options))
	happen(o, 1, 3)
	o.Until("those that are taken have come", func() bool { return len(d.heard()) == 2 })
	assert.InDelta(t, 3, d.heard()[1].Data["n"], 0)
	assert.Contains(t, o.Text(`SELECT happened FROM alerts WHERE cause LIKE 'subscription:%' AND state = 'open'`),
		"is given up: ironbell.run.ended/2.json")
	d.Lock()
	down = true
	d.all = nil
	d.Unlock()
	o.Exec(`SELECT publish('ironbell.run.ended', 'jobs/7', jsonb_build_object('n', 10 + n)) FROM generate_series(1, 20) n`)
	o.Until("the place rests", func() bool { return o.Number(`SELECT count(*) FROM destinations WHERE rests_since IS NOT NULL`) == 1 })
	d.Lock()
	down = false
	d.Unlock()
	o.Until("all have come", func() bool { return len(d.heard()) == 20 })
	for i, e := range d.heard() {
		assert.InDelta(t, 11+i, e.Data["n"], 0)
	}
	assert.Equal(t, 1, o.Number(`SELECT count(*) FROM deliveries WHERE state = 'failed'`))
}

// A place that signs nothing any more gets nothing: the subscription stands still, the administrators are
// told once, and all follows when it signs again.
func TestNothingGoesOutUnsigned(t *testing.T) {
	o := enginetest.Open(t)
	d := &desk{}
	options := subscribe(t, o, d, "ironbell.run.*")
	o.Run(o.Engine(nil, options))
	happen(o, 1, 1)
	o.Until("the first has come", func() bool { return len(d.heard()) == 1 })
	sealed := o.Text(`SELECT encode(secret, 'hex') FROM destinations WHERE name = 'duty screen'`)
	o.Exec(`UPDATE destinations SET secret = '', updated_at = bell_clock() WHERE name = 'duty screen'`)
	o.Exec(`SELECT publish('ironbell.run.ended', 'jobs/1', jsonb_build_object('n', 1 + n)) FROM generate_series(1, 5) n`)
	o.Until("it stands still", func() bool { return o.Number(`SELECT count(*) FROM subscriptions WHERE stands <> ''`) == 1 })
	assert.Contains(t, o.Text(`SELECT happened FROM alerts WHERE cause LIKE 'subscription stands:%' AND state = 'open'`), "has no key to sign with")
	assert.Len(t, d.heard(), 1)
	o.Exec(`UPDATE destinations SET secret = decode($1, 'hex'), updated_at = bell_clock() WHERE name = 'duty screen'`, sealed)
	o.Until("all have come", func() bool { return len(d.heard()) == 6 })
	inOrder(t, d.heard(), 1, 6)
	assert.Zero(t, o.Number(`SELECT count(*) FROM alerts WHERE cause LIKE 'subscription stands:%' AND state <> 'closed'`))
}

// Whoever loses the answer sends again with the same id, by which the other side tells that it has it.
func TestALostAnswerIsSentAgainWithItsID(t *testing.T) {
	o := enginetest.Open(t)
	d := &desk{}
	lost := 0
	d.lose = func(e told) bool {
		lost++
		return lost == 1
	}
	o.Run(o.Engine(nil, subscribe(t, o, d, "*")))
	happen(o, 1, 2)
	o.Until("both are on record as sent", func() bool { return o.Number(`SELECT count(*) FROM deliveries WHERE state = 'sent'`) == 2 })
	all := d.heard()
	require.Len(t, all, 3)
	assert.Equal(t, all[0], all[1], "it is the same event")
	assert.NotEqual(t, all[1].ID, all[2].ID)
	assert.Equal(t, 2, o.Number(`SELECT count(*) FROM messages`), "the same message went out again")

	// Who never answers is asked again and again, and each time later.
	d.Lock()
	d.lose = func(told) bool { return true }
	d.all = nil
	d.Unlock()
	happen(o, 1, 1)
	o.Until("it waits for its next try", func() bool {
		return o.Number(`SELECT count(*) FROM deliveries WHERE state = 'waiting' AND tries = 1 AND ready_at > now() + interval '5 seconds'`) == 1
	})
	assert.Len(t, d.heard(), 1)
}
