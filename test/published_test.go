package test_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/cloudevents/sdk-go/v2/binding"
	"github.com/cloudevents/sdk-go/v2/event"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	webhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// dutyOffice is a program outside that takes our events: it reads them and their signatures with public libraries.
type dutyOffice struct {
	sync.Mutex
	all   []event.Event
	ids   []string // webhook-id of each
	wrong []string
	busy  bool
}

const dutyKey = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"

func (d *dutyOffice) ServeHTTP(rw http.ResponseWriter, r *http.Request) {
	d.Lock()
	defer d.Unlock()
	if d.busy {
		http.Error(rw, "busy", http.StatusServiceUnavailable)
		return
	}
	if r.Method != http.MethodPost {
		return
	}
	body, _ := io.ReadAll(r.Body)
	hook, err := webhooks.NewWebhook(dutyKey)
	if err == nil {
		err = hook.Verify(body, r.Header)
	}
	if err != nil {
		d.wrong = append(d.wrong, err.Error())
		return
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	e, err := binding.ToEvent(r.Context(), cehttp.NewMessageFromHttpRequest(r))
	if err == nil {
		err = e.Validate()
	}
	if err != nil {
		d.wrong = append(d.wrong, err.Error())
		return
	}
	d.all, d.ids = append(d.all, *e), append(d.ids, r.Header.Get("Webhook-Id"))
}

func (d *dutyOffice) set(busy bool) {
	d.Lock()
	defer d.Unlock()
	d.busy = busy
}

// of gives the events of a type as "subject state", and all that was wrong.
func (d *dutyOffice) of(kind string) []string {
	d.Lock()
	defer d.Unlock()
	var out []string
	for _, e := range d.all {
		if e.Type() == kind {
			data := map[string]any{}
			_ = json.Unmarshal(e.Data(), &data)
			state, _ := data["state"].(string)
			out = append(out, strings.TrimSpace(e.Subject()+" "+state))
		}
	}
	return append(out, d.wrong...)
}

func startDuty(t *testing.T, w *world.World) *dutyOffice {
	t.Helper()
	d := &dutyOffice{}
	l, err := net.Listen("tcp", w.Outside)
	require.NoError(t, err)
	server := &http.Server{Handler: d, ReadHeaderTimeout: time.Second}
	go func() { _ = server.Serve(l) }() // it ends by Close
	t.Cleanup(func() { _ = server.Close() })
	w.Place("duty screen", "http", dutyKey, map[string]any{"url": "http://" + w.Outside + "/events"})
	return d
}

// What the service tells of itself reaches those who subscribed: signed, as public libraries read it, in its
// order, through an outage, and again from a point.
func TestOurOwnEventsGoOut(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	d := startDuty(t, w)
	_, err := w.C.SaveSubscription(ctx, "Duty office", job.SubscriptionDefinition{
		Destination: "duty screen", Types: []string{"ironbell.*"}, Note: "screen of the duty office",
	})
	require.NoError(t, err)
	w.Report("Ports", "SELECT code FROM ports")
	w.Report("Broken", "SELECT code FROM ports WHERE 1 / (SELECT count(*) FROM ports WHERE code = 'none') = 1")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	w.Job("Dry dock", world.Definition("Broken", "company mail", []string{"csv"}, "a@tarnwick.example"))
	for range 3 {
		require.Equal(t, job.RunDone, w.Ring("Board").State)
	}
	failed := w.Ring("Dry dock")
	require.Equal(t, job.RunFailed, failed.State)
	w.Until("the ends of runs came", func() bool { return len(d.of(job.PublishedRun)) == 4 })
	assert.ElementsMatch(t, []string{"jobs/Board done", "jobs/Board done", "jobs/Board done", "jobs/Dry dock failed"}, d.of(job.PublishedRun))
	w.Until("the alert came", func() bool { return len(d.of(job.PublishedAlertOpened)) == 1 })
	alerts, err := w.C.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	_, err = w.C.CloseAlert(ctx, alerts[0].ID)
	require.NoError(t, err)
	w.Until("its end came", func() bool { return len(d.of(job.PublishedAlertClosed)) == 1 })

	d.Lock()
	e := d.all[slices.IndexFunc(d.all, func(e event.Event) bool { return e.Subject() == "jobs/Dry dock" })]
	ids := slices.Clone(d.ids)
	for i, e := range d.all {
		assert.Equal(t, e.ID(), d.ids[i], "both ids are one")
	}
	d.Unlock()
	data := map[string]any{}
	require.NoError(t, json.Unmarshal(e.Data(), &data))
	assert.Equal(t, failed.ID.String(), data["run"])
	assert.Equal(t, "http://"+w.Listen+"/runs/"+failed.ID.String(), data["link"])
	assert.Equal(t, "http://"+w.Listen, e.Source())
	assert.Len(t, e.Extensions()["sequence"], 20)

	// While it is away nothing is lost, and nothing comes before what it follows.
	d.set(true)
	for n := range 5 {
		_, err := w.C.SaveCalendar(ctx, "Harbour", calendar.Definition{Closed: []calendar.Entry{{Date: fmt.Sprintf("2027-03-%02d", n+1)}}}, false)
		require.NoError(t, err)
	}
	w.Down("duty screen")
	s, err := w.C.Subscription(ctx, "Duty office")
	require.NoError(t, err)
	assert.Positive(t, s.Open)
	assert.Contains(t, s.Stands, `the destination "duty screen" does not work now`)
	d.set(false)
	w.Until("the changes came", func() bool { return len(d.of(job.PublishedCalendar)) == 5 })
	d.Lock()
	var versions []float64
	for _, e := range d.all {
		if e.Type() == job.PublishedCalendar {
			require.NoError(t, json.Unmarshal(e.Data(), &data))
			v, _ := data["version"].(float64)
			versions = append(versions, v)
		}
	}
	d.all, d.ids = nil, nil
	d.Unlock()
	assert.Equal(t, []float64{1, 2, 3, 4, 5}, versions)

	// From a point on, all of it once more, by the ids that it had.
	published, err := w.C.Published(ctx, "", 0)
	require.NoError(t, err)
	out, _, code := w.Ironbell("subscription", "-replay", "1", "Duty office")
	require.Zero(t, code, out)
	assert.Contains(t, out, "looked at again")
	w.Until("all came again", func() bool {
		d.Lock()
		defer d.Unlock()
		return len(d.all) >= len(published)
	})
	d.Lock()
	assert.Subset(t, d.ids, ids)
	assert.Empty(t, d.wrong)
	d.all, d.ids = nil, nil
	d.Unlock()

	// Removed while events wait: they are taken back, none goes out, and all follow when it comes back.
	d.set(true)
	require.Equal(t, job.RunDone, w.Ring("Board").State)
	w.Until("one waits", func() bool {
		s, err := w.C.Subscription(ctx, "Duty office")
		require.NoError(t, err)
		return s.Open > 0
	})
	out, _, code = w.Ironbell("remove", "subscription", "Duty office")
	require.Zero(t, code, out)
	d.set(false)
	require.Equal(t, job.RunDone, w.Ring("Board").State)
	assert.Empty(t, d.of(job.PublishedRun))
	out, errs, code := w.Ironbell("bring-back", "subscription", "Duty office")
	require.Zero(t, code, out+errs)
	w.Until("both ends came", func() bool { return len(d.of(job.PublishedRun)) == 2 })
	assert.Equal(t, []string{"jobs/Board done", "jobs/Board done"}, d.of(job.PublishedRun))
}

// A subscription gets what it asked for; what could not be signed, is never published or cannot be held against
// an event is refused before it is saved.
func TestWhatIsSubscribedToIsChecked(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	d := startDuty(t, w)
	w.Place("open screen", "http", "", map[string]any{"url": "http://" + w.Outside + "/events"})
	w.Place("header screen", "http", "secret", map[string]any{
		"url": "http://" + w.Outside + "/events", "headers": map[string]string{"Authorization": "Bearer {password}"},
	})
	good := job.SubscriptionDefinition{Destination: "duty screen", Types: []string{job.PublishedRun}, OnlyIf: "event.data.state == 'failed'"}
	for says, change := range map[string]func(*job.SubscriptionDefinition){
		`"header screen" signs nothing`: func(s *job.SubscriptionDefinition) { s.Destination = "header screen" },
		`"company mail" signs nothing`:  func(s *job.SubscriptionDefinition) { s.Destination = "company mail" },
		"there is no such destination":  func(s *job.SubscriptionDefinition) { s.Destination = "nowhere" },
		"nothing of the type \"other\"": func(s *job.SubscriptionDefinition) { s.Types = []string{"other"} },
		"of ironbell.run.ended":         func(s *job.SubscriptionDefinition) { s.OnlyIf = "event.data.colour == 'red'" },
		"of ironbell.alert.opened":      func(s *job.SubscriptionDefinition) { s.Types = []string{"*"} },
		"syntax":                        func(s *job.SubscriptionDefinition) { s.OnlyIf = "event.data.state ==" },
	} {
		bad := good
		change(&bad)
		_, err := w.C.SaveSubscription(ctx, "Duty office", bad)
		require.Error(t, err, says)
		assert.Contains(t, strings.ToLower(err.Error()), strings.ToLower(says))
	}
	keyless := good
	keyless.Destination = "open screen"
	s, err := w.C.SaveSubscription(ctx, "Open office", keyless)
	require.NoError(t, err, "its key may come later, as when records come from files")
	assert.Contains(t, s.Stands, "has no key to sign with")
	_, err = w.C.SaveSubscription(ctx, "Duty office", good)
	require.NoError(t, err)
	_, err = w.C.Replay(ctx, "Duty office", time.Time{}, -1)
	require.Error(t, err)
	other := w.As("joren")
	_, err = other.SaveSubscription(ctx, "Duty office", good)
	require.ErrorContains(t, err, "administrator")
	_, err = other.Replay(ctx, "Duty office", w.Now(), 0)
	require.ErrorContains(t, err, "administrator")

	w.Report("Ports", "SELECT code FROM ports")
	w.Report("Broken", "SELECT 1 / (SELECT count(*) FROM ports WHERE code = 'none')")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	w.Job("Dry dock", world.Definition("Broken", "company mail", []string{"csv"}, "a@tarnwick.example"))
	w.Ring("Board")
	w.Ring("Dry dock")
	w.Until("what it wants came", func() bool { return len(d.of(job.PublishedRun)) > 0 })

	// Off, it waits; what was published meanwhile follows.
	off := good
	off.Off = true
	_, err = w.C.SaveSubscription(ctx, "Duty office", off)
	require.NoError(t, err)
	w.Ring("Dry dock")
	s, err = w.C.Subscription(ctx, "Duty office")
	require.NoError(t, err)
	assert.Zero(t, s.Open)
	assert.Len(t, d.of(job.PublishedRun), 1)
	_, err = w.C.SaveSubscription(ctx, "Duty office", good)
	require.NoError(t, err)
	w.Until("the next came", func() bool { return len(d.of(job.PublishedRun)) == 2 })
	assert.Equal(t, []string{"jobs/Dry dock failed", "jobs/Dry dock failed"}, d.of(job.PublishedRun))

	// Its destination has another name now, and is needed.
	out, _, code := w.Ironbell("rename", "destination", "duty screen", "bridge screen")
	require.Zero(t, code, out)
	s, err = w.C.Subscription(ctx, "Duty office")
	require.NoError(t, err)
	assert.Equal(t, "bridge screen", s.Destination)
	_, out, code = w.Ironbell("remove", "destination", "bridge screen")
	require.NotZero(t, code)
	assert.Contains(t, out, "Duty office")
}
