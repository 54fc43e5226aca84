package test_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	cloudevents "github.com/cloudevents/sdk-go/v2"
	"github.com/cloudevents/sdk-go/v2/binding"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	webhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const gauge = "Tide gauge 7"

// sender makes a sender and gives its token.
func sender(t *testing.T, w *world.World, name string, d job.SenderDefinition) string {
	t.Helper()
	_, err := w.C.SaveSender(context.Background(), name, d)
	require.NoError(t, err)
	made, err := w.C.NewSenderKey(context.Background(), name, wire.SenderKeyRequest{Kind: job.SenderToken})
	require.NoError(t, err)
	return made.Secret
}

func gauges() job.SenderDefinition {
	return job.SenderDefinition{
		Sends: []job.EventGrant{{Source: "/gauges/7", Type: "example.tarnwick.*"}}, Type: "example.tarnwick.note",
	}
}

// tides makes a job that an event of a type starts, with the port out of its data.
func tides(w *world.World) {
	w.Report("Port", "SELECT code FROM ports WHERE name = :port", job.Parameter{
		Name: "port", Type: job.TypeText, Required: true,
	})
	d := world.Definition("Port", "company mail", []string{"csv"}, "desk@tarnwick.example")
	d.Triggers = []job.Trigger{{Wait: &job.Wait{
		For: []job.Condition{{Event: "example.tarnwick.tide"}}, Take: job.Values{"port": "{event.data.port}"},
	}}}
	w.Job("Tide", d)
}

// The public library for CloudEvents sends in each mode; what it sends starts jobs, once.
func TestTheCloudEventsLibrarySendsInAllModes(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	tides(w)
	token := sender(t, w, gauge, gauges())
	make1 := func(id, port string) cloudevents.Event {
		e := cloudevents.NewEvent()
		e.SetID(id)
		e.SetSource("/gauges/7")
		e.SetType("example.tarnwick.tide")
		e.SetSubject("Pennold Quay, „high“ 100 %")
		e.SetTime(w.Now())
		e.SetExtension("shift", "night")
		require.NoError(t, e.SetData(cloudevents.ApplicationJSON, map[string]string{"port": port}))
		return e
	}
	for _, address := range []string{"/api/events", "/api/senders/" + url.PathEscape(gauge) + "/events"} {
		c, err := cloudevents.NewClientHTTP(cehttp.WithTarget("http://"+w.Listen+address),
			cehttp.WithHeader("Authorization", "Bearer "+token))
		require.NoError(t, err)
		for mode, in := range map[string]context.Context{
			"binary": binding.WithForceBinary(ctx), "structured": binding.WithForceStructured(ctx),
		} {
			result := c.Send(in, make1(mode+address, mode+address))
			require.True(t, cloudevents.IsACK(result), "%s: %s", mode, result)
		}
		batch := []cloudevents.Event{make1("b1"+address, "1"+address), make1("b2"+address, "2"+address)}
		req, err := cehttp.NewHTTPRequestFromEvents(ctx, "http://"+w.Listen+address, batch)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		_ = res.Body.Close()
		require.Equal(t, http.StatusAccepted, res.StatusCode)
	}
	assert.Len(t, w.RunsOf("Tide"), 8, "each started one run before it was answered")
	events, err := w.C.Events(ctx, client.EventFilter{Sender: gauge, Type: "example.tarnwick.tide"})
	require.NoError(t, err)
	require.Len(t, events, 8)
	for _, e := range events {
		assert.Equal(t, gauge, e.Sender)
		assert.Equal(t, "Pennold Quay, „high“ 100 %", e.Subject, e.ID)
		assert.Equal(t, map[string]any{"shift": "night"}, e.Extensions, e.ID)
		assert.Len(t, e.Started, 1, e.ID)
	}
	// One without data has no body at all.
	bare := http.Header{"Authorization": {"Bearer " + token}}
	for name, value := range map[string]string{"specversion": "1.0", "id": "bare", "source": "/gauges/7", "type": "example.tarnwick.bare"} {
		bare.Set("ce-"+name, value)
	}
	res, text := post(t, w, "/api/events", "", bare)
	require.Equal(t, http.StatusAccepted, res.StatusCode, text)
	// What came is played again: it starts what it started, with its values, and is on record as such.
	h, err := w.C.PlayEvent(ctx, events[0].Number)
	require.NoError(t, err)
	require.Len(t, h.Started, 1)
	again, err := w.C.Run(ctx, h.Started[0])
	require.NoError(t, err)
	first, err := w.C.Run(ctx, events[0].Started[0])
	require.NoError(t, err)
	assert.Equal(t, first.Given, again.Given)
	assert.True(t, first.Nominal.Equal(again.Nominal), "it is of its own day")
	out, errs, code := w.Ironbell("events", "-sender", gauge, "-type", "example.tarnwick.tide")
	require.Zero(t, code, errs)
	assert.Contains(t, out, h.Started[0].String()[:4])
	_, err = w.C.SavePerson(ctx, "joren", wire.PersonRequest{
		Name: "Joren Tak", Mail: "joren.tak@tarnwick.example", Role: "owner", Zone: "Europe/London", Password: world.Password,
	})
	require.NoError(t, err)
	for login, says := range map[string]string{"mara": "", "joren": "it takes its owner"} {
		_, err := w.As(login).PlayEvent(ctx, events[1].Number)
		if says == "" {
			assert.NoError(t, err, "she owns all that waits for it")
		} else {
			assert.ErrorContains(t, err, says)
		}
	}
}

// post sends a body as somebody, and gives what was answered.
func post(t *testing.T, w *world.World, path, body string, header http.Header) (*http.Response, string) {
	t.Helper()
	req, err := http.NewRequest(http.MethodPost, "http://"+w.Listen+path, strings.NewReader(body))
	require.NoError(t, err)
	req.Header = header
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res, string(text)
}

// A program that knows nothing of CloudEvents posts and signs; whoever cannot sign, listened, or
// sends what is not its own is refused, and that stands at the sender.
func TestSignedPostsStartJobs(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	tides(w)
	token := sender(t, w, gauge, gauges())
	made, err := w.C.NewSenderKey(ctx, gauge, wire.SenderKeyRequest{Kind: job.SenderSigning})
	require.NoError(t, err)
	path := "/api/senders/" + url.PathEscape(gauge) + "/events"
	signed := func(key, id, body string, at time.Time) http.Header {
		signer, err := webhooks.NewWebhook(key)
		require.NoError(t, err)
		signature, err := signer.Sign(id, at, []byte(body))
		require.NoError(t, err)
		h := http.Header{}
		h.Set("Content-Type", "application/json")
		h.Set("webhook-id", id)
		h.Set("webhook-timestamp", strconv.FormatInt(at.Unix(), 10))
		h.Set("webhook-signature", signature)
		return h
	}
	const tide = `{"type":"example.tarnwick.tide","data":{"port":"Pennold"}}`
	now := w.Now()
	good := signed(made.Secret, "msg_1", tide, now)
	res, text := post(t, w, path, tide, good)
	require.Equal(t, http.StatusAccepted, res.StatusCode, text)
	require.Len(t, w.RunsOf("Tide"), 1)
	res, text = post(t, w, path, tide, good)
	require.Equal(t, http.StatusAccepted, res.StatusCode)
	assert.Contains(t, text, `"known":1`, "one that is sent twice, since its answer was lost, counts once")
	assert.Len(t, w.RunsOf("Tide"), 1)

	const wages = `{"type":"com.example.wages","data":{}}`
	for why, c := range map[string]struct {
		body   string
		header http.Header
		status int
		says   string
	}{
		"unsigned":      {tide, http.Header{"Content-Type": {"application/json"}}, 401, "sign with its key"},
		"a wrong token": {tide, http.Header{"Authorization": {"Bearer nonsense"}}, 401, "sign with its key"},
		"another key":   {tide, signed("whsec_"+strings.Repeat("A", 44), "msg_2", tide, now), 401, "no signature"},
		"another body":  {tide + " ", signed(made.Secret, "msg_2", tide, now), 401, "no signature"},
		"an echo":       {tide, signed(made.Secret, "msg_2", tide, now.Add(-10*time.Minute)), 401, "it may be an echo"},
		"another type":  {wages, signed(made.Secret, "msg_2", wages, now), 422, "may not send events of the type"},
		"no JSON":       {"{", signed(made.Secret, "msg_2", "{", now), 422, "no JSON"},
		"too large":     {`"` + strings.Repeat("x", 300<<10) + `"`, signed(made.Secret, "msg_2", `"`+strings.Repeat("x", 300<<10)+`"`, now), 413, "256 KB"},
		"far too large": {strings.Repeat(" ", 5<<20), signed(made.Secret, "msg_2", "", now), 413, ""},
	} {
		res, text := post(t, w, path, c.body, c.header)
		assert.Equal(t, c.status, res.StatusCode, "%s: %s", why, text)
		assert.Contains(t, text, c.says, why)
	}
	res, text = post(t, w, "/api/senders/nobody/events", tide, signed(made.Secret, "msg_3", tide, now))
	assert.Equal(t, 401, res.StatusCode, "whether there is a sender of a name is nobody's business: %s", text)
	assert.Len(t, w.RunsOf("Tide"), 1)
	seen, err := w.C.Sender(ctx, gauge)
	require.NoError(t, err)
	assert.Positive(t, seen.Refused)
	assert.NotEmpty(t, seen.RefusedWhy)
	assert.Equal(t, 1, seen.Day)

	// A new key: the one of before holds on as long as it was told, and then no more.
	next, err := w.C.NewSenderKey(ctx, gauge, wire.SenderKeyRequest{Kind: job.SenderSigning, OverlapHours: 1})
	require.NoError(t, err)
	for n, key := range []string{made.Secret, next.Secret} {
		id := fmt.Sprintf("msg_o%d", n)
		res, text := post(t, w, path, tide, signed(key, id, tide, now))
		assert.Equal(t, http.StatusAccepted, res.StatusCode, text)
	}
	last, err := w.C.NewSenderKey(ctx, gauge, wire.SenderKeyRequest{Kind: job.SenderSigning, Key: "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"})
	require.NoError(t, err)
	assert.Equal(t, "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", last.Secret, "one that the other side made is taken")
	for _, key := range []string{made.Secret, next.Secret} {
		res, _ := post(t, w, path, tide, signed(key, "msg_p", tide, now))
		assert.Equal(t, 401, res.StatusCode)
	}
	// Renamed it goes on by its old name; removed it is silent, with token and key; brought back it sends again.
	_, err = w.C.RenameRecord(ctx, "sender", gauge, "Gauge seven", false)
	require.NoError(t, err)
	res, text = post(t, w, path, tide, signed(last.Secret, "msg_q", tide, now))
	assert.Equal(t, http.StatusAccepted, res.StatusCode, text)
	res, text = post(t, w, path, tide, http.Header{"Authorization": {"Bearer " + token}, "Content-Type": {"application/json"}})
	assert.Equal(t, http.StatusAccepted, res.StatusCode, text)
	ledger := sender(t, w, "Ledger", job.SenderDefinition{Sends: []job.EventGrant{{Source: "/ledger", Type: "*"}}})
	res, text = post(t, w, path, tide, http.Header{"Authorization": {"Bearer " + ledger}})
	assert.Equal(t, http.StatusForbidden, res.StatusCode, text)
	res, _ = post(t, w, "/api/events", strings.Repeat("x", 1<<20), http.Header{})
	assert.Equal(t, http.StatusUnauthorized, res.StatusCode)
	_, err = w.C.RemoveRecords(ctx, []wire.RecordName{{Kind: "sender", Name: "Gauge seven"}}, false)
	require.NoError(t, err)
	res, _ = post(t, w, path, tide, signed(last.Secret, "msg_r", tide, now))
	assert.Equal(t, 401, res.StatusCode)
	_, err = w.C.ReturnRecords(ctx, []wire.RecordName{{Kind: "sender", Name: "Gauge seven"}})
	require.NoError(t, err)
	res, text = post(t, w, path, tide, signed(last.Secret, "msg_r", tide, now))
	assert.Equal(t, http.StatusAccepted, res.StatusCode, text)
}

// A flood is held to its pace, with when to go on; the other senders are not, and what was
// refused is taken later.
func TestAFloodIsHeldToItsPace(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	d := gauges()
	d.Pace = 20
	token := sender(t, w, gauge, d)
	other := sender(t, w, "Ledger", job.SenderDefinition{Sends: []job.EventGrant{{Source: "/ledger", Type: "*"}}})
	send := func(token, source string, n, from int) (*http.Response, string) {
		batch := []map[string]any{}
		for i := range n {
			batch = append(batch, map[string]any{
				"specversion": "1.0", "id": strconv.Itoa(from + i), "source": source, "type": "example.tarnwick.tide",
			})
		}
		body, err := json.Marshal(batch)
		require.NoError(t, err)
		return post(t, w, "/api/events", string(body), http.Header{
			"Content-Type": {"application/cloudevents-batch+json"}, "Authorization": {"Bearer " + token},
		})
	}
	res, text := send(token, "/gauges/7", 21, 0)
	assert.Equal(t, http.StatusUnprocessableEntity, res.StatusCode, "it could never pass: %s", text)
	res, text = send(token, "/gauges/7", 18, 0)
	require.Equal(t, http.StatusAccepted, res.StatusCode, text)
	res, text = send(token, "/gauges/7", 18, 100)
	require.Equal(t, http.StatusTooManyRequests, res.StatusCode)
	assert.Contains(t, text, "may send 20 events a minute")
	seconds, err := strconv.Atoi(res.Header.Get("Retry-After"))
	require.NoError(t, err)
	assert.Positive(t, seconds)
	assert.LessOrEqual(t, seconds, 60)
	res, text = send(other, "/ledger", 18, 0)
	assert.Equal(t, http.StatusAccepted, res.StatusCode, text)
	events, err := w.C.Events(context.Background(), client.EventFilter{Sender: gauge})
	require.NoError(t, err)
	assert.Len(t, events, 18, "of what was refused nothing was taken")
}

// Many report the same events at once, in batches in any order: each counts once, and nothing is lost.
func TestTheSameEventsAtOnce(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	tides(w)
	token := sender(t, w, gauge, gauges())
	const n, times = 40, 6
	var wg sync.WaitGroup
	started := make(chan int, times)
	for k := range times {
		wg.Go(func() {
			batch := []map[string]any{}
			for i := range n {
				id := (i*7 + k*11) % n
				batch = append(batch, map[string]any{
					"specversion": "1.0", "id": strconv.Itoa(id), "source": "/gauges/7", "type": "example.tarnwick.tide",
					"data": map[string]any{"port": fmt.Sprint("port ", id)},
				})
			}
			batch = append(batch, batch[0]) // twice in one
			body, err := json.Marshal(batch)
			assert.NoError(t, err)
			res, text := post(t, w, "/api/events", string(body), http.Header{
				"Content-Type": {"application/cloudevents-batch+json"}, "Authorization": {"Bearer " + token},
			})
			assert.Equal(t, http.StatusAccepted, res.StatusCode, text)
			var heard wire.Heard
			assert.NoError(t, json.NewDecoder(bytes.NewBufferString(text)).Decode(&heard))
			started <- len(heard.Started)
		})
	}
	wg.Wait()
	close(started)
	all := 0
	for one := range started {
		all += one
	}
	assert.Equal(t, n, all)
	events, err := w.C.Events(context.Background(), client.EventFilter{Sender: gauge})
	require.NoError(t, err)
	assert.Len(t, events, n)
	runs, err := w.C.Runs(context.Background(), client.RunFilter{Job: "Tide", Limit: 100})
	require.NoError(t, err)
	assert.Len(t, runs, n)
}

// A field that the event lacks fails the run with its name, unless the job says what it takes then: a default
// of the report is never taken in silence. Numbers come as they were written, however many digits they have.
func TestWhatAnEventLacks(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Shipments", "SELECT :number::text AS number, :port::text AS port",
		job.Parameter{Name: "number", Type: job.TypeText, Default: "all"}, job.Parameter{Name: "port", Type: job.TypeText, Default: "all"})
	d := world.Definition("Shipments", "company mail", []string{"csv"}, "desk@tarnwick.example")
	wait := job.Wait{
		For:  []job.Condition{{Event: "example.tarnwick.shipped"}},
		Take: job.Values{"number": "{event.data.number}", "port": "{event.data.port}"}, Otherwise: job.Values{"port": "TQ"},
	}
	d.Overlap, d.Triggers = job.OverlapTogether, []job.Trigger{{Wait: &wait}}
	w.Job("Shipment", d)
	wrong := d
	wrong.Triggers = []job.Trigger{{Wait: &job.Wait{For: wait.For, Take: wait.Take, Otherwise: job.Values{"none": 1}}}}
	_, err := w.C.SaveJob(ctx, "Other", wire.JobRequest{Owner: "mara", Definition: wrong})
	assert.ErrorContains(t, err, "nothing that could be lacking")
	ship := func(id, data string) wire.RunPage {
		h, err := w.C.Report(ctx, map[string]any{
			"specversion": "1.0", "id": id, "source": "/quay", "type": "example.tarnwick.shipped", "data": json.RawMessage(data),
		})
		require.NoError(t, err)
		require.Len(t, h.Started, 1)
		var page wire.RunPage
		w.Until("it has ended", func() bool {
			page, err = w.C.Run(ctx, h.Started[0])
			return err == nil && page.EndedAt != nil
		})
		return page
	}
	good := ship("1", `{"number": 9007199254740993, "port": "Pennold"}`)
	assert.Equal(t, job.RunDone, good.State)
	assert.Equal(t, job.Values{"number": "9007199254740993", "port": "Pennold"}, good.Given)
	assert.Equal(t, job.Values{"number": "12345678.5", "port": "TQ"}, ship("2", `{"number": 12345678.5}`).Given)
	assert.Equal(t, "12345678901234567890123", ship("2b", `{"number": 12345678901234567890123}`).Given["number"])
	for id, data := range map[string]string{"3": `{"port": "Pennold"}`, "4": `{"number": null}`, "5": `[]`, "6": `{"number": {"a": 1}}`} {
		failed := ship(id, data)
		assert.Equal(t, job.RunFailed, failed.State, data)
		assert.Contains(t, failed.Reason, "number could not be taken from the event", data)
		for _, a := range failed.Attempts {
			assert.Equal(t, job.AttemptFailed, a.State, "nothing of it goes on")
		}
	}
	assert.Len(t, w.Inbox("desk@tarnwick.example"), 3, "of what was lacking nothing was sent")
	// By hand, with the value that it lacked, it goes.
	r, err := w.C.Ring(ctx, "Shipment", job.Values{"number": "7"})
	require.NoError(t, err)
	w.Until("it is done", func() bool {
		page, err := w.C.Run(ctx, r.ID)
		return err == nil && page.State == job.RunDone
	})
}

// A job takes of the events of a type those of which something holds; what cannot be held against an event is
// told where the event stands, and when the job is saved by the last such event.
func TestOnlyWhatHoldsOfAnEvent(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Tides", "SELECT 1 AS n")
	d := world.Definition("Tides", "company mail", []string{"csv"}, "desk@tarnwick.example")
	with := func(only string) error {
		d.Triggers = []job.Trigger{{Wait: &job.Wait{For: []job.Condition{{Event: "example.tarnwick.tide", OnlyIf: only}}}}}
		_, err := w.C.SaveJob(ctx, "High tide", wire.JobRequest{Owner: "mara", On: true, Definition: d})
		return err
	}
	require.NoError(t, with(`event.data.cm > 300 && event.subject.startsWith("Pennold")`))
	tide := func(id, subject, data string) wire.Heard {
		h, err := w.C.Report(ctx, map[string]any{
			"specversion": "1.0", "id": id, "source": "/gauges", "type": "example.tarnwick.tide", "subject": subject,
			"data": json.RawMessage(data),
		})
		require.NoError(t, err)
		return h
	}
	assert.Len(t, tide("1", "Pennold Quay", `{"cm": 301}`).Started, 1)
	for id, data := range map[string]string{"2": `{"cm": 300}`, "3": `{"cm": 299.5}`} {
		h := tide(id, "Pennold Quay", data)
		assert.Empty(t, h.Started)
		assert.Equal(t, []string{`High tide takes it only if event.data.cm > 300 && event.subject.startsWith("Pennold")`}, h.Notes)
	}
	assert.Empty(t, tide("4", "Grey Skerry", `{"cm": 400}`).Started)
	h := tide("5", "Pennold Quay", `{"metres": 4}`)
	assert.Empty(t, h.Started)
	require.Len(t, h.Notes, 1)
	assert.Contains(t, h.Notes[0], "cannot be decided: no such key: cm")

	assert.ErrorContains(t, with(`event.data.cm > 300`), "by the last such event, no. ")
	assert.ErrorContains(t, with(`event.data.cm > 300`), "the condition event.data.cm > 300 cannot be decided")
	require.NoError(t, with(`has(event.data.cm) && event.data.cm > 300`))
	assert.ErrorContains(t, with(`event.data.cm >`), "only_if")
	assert.ErrorContains(t, with(`event.data.cm`), "only_if")
	assert.ErrorContains(t, with(`today > date("2026-01-01")`), "only_if")
}

// What somebody reports, or their jobs raise, starts a job of somebody else only when that job names the source.
func TestNobodyStartsAnothersJobByAnEvent(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	_, err := w.C.SavePerson(ctx, "joren", wire.PersonRequest{
		Name: "Joren Tak", Mail: "joren.tak@tarnwick.example", Role: "owner", Zone: "Europe/London", Password: world.Password,
	})
	require.NoError(t, err)
	joren, mara := w.As("joren"), w.As("mara")
	w.Report("Tides", "SELECT 1 AS n")
	job1 := func(name, source string) {
		d := world.Definition("Tides", "company mail", []string{"csv"}, "desk@tarnwick.example")
		d.Triggers = []job.Trigger{{Wait: &job.Wait{For: []job.Condition{{Event: "example.tarnwick.tide", Source: source}}}}}
		w.Job(name, d) // mara's
	}
	job1("Any source", "")
	job1("His source", "/ironbell/people/joren")
	n := 0
	report := func(c *client.Client, source string) wire.Heard {
		n++
		h, err := c.Report(ctx, map[string]any{
			"specversion": "1.0", "id": strconv.Itoa(n), "source": source, "type": "example.tarnwick.tide",
		})
		require.NoError(t, err)
		return h
	}
	h := report(joren, "/ironbell/people/joren")
	assert.Len(t, h.Started, 1)
	require.Len(t, h.Notes, 1)
	assert.Contains(t, h.Notes[0], "Any source does not take it: it comes from somebody else")
	assert.Empty(t, w.RunsOf("Any source"))
	assert.Len(t, report(mara, "/ironbell/people/mara").Started, 1, "her own")
	assert.Len(t, report(w.C, "/gauges").Started, 1, "an administrator's")

	emits := func(owner string) {
		_, err := w.C.SaveJob(ctx, "Emits of "+owner, wire.JobRequest{Owner: owner, On: true, Definition: job.Definition{
			Zone: "Europe/London", Tasks: []job.Task{{Name: "tell", Kind: job.KindEmit, Emit: &job.EmitTask{Type: "example.tarnwick.tide"}}},
		}})
		require.NoError(t, err)
		_, err = w.C.Ring(ctx, "Emits of "+owner, nil)
		require.NoError(t, err)
	}
	before := len(w.RunsOf("Any source"))
	emits("joren")
	w.UntilEnded("Emits of joren", 1)
	assert.Len(t, w.RunsOf("Any source"), before, "his job's event does not start hers")
	emits("mara")
	w.Until("her own job's event does", func() bool { return len(w.RunsOf("Any source")) == before+1 })
}
