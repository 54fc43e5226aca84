package event_test

import (
	"encoding/base64"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/event"

	webhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 23, 6, 15, 0, 0, time.UTC)

func headers(pairs ...string) http.Header {
	h := http.Header{}
	for i := 0; i < len(pairs); i += 2 {
		h.Add(pairs[i], pairs[i+1])
	}
	return h
}

// The three modes of the HTTP binding, and what each of them makes of the same event.
func TestEventsArriveInAllModes(t *testing.T) {
	want := job.Event{
		ID: "41", Source: "/gauges/7", Type: "example.tarnwick.tide", Subject: "Pennold Quay, high", Time: now.Add(-time.Minute),
		Data: []byte(`{"cm":212}`), Received: now, Extensions: map[string]any{"shift": "night"},
	}
	const one = `{"specversion":"1.0","id":"41","source":"/gauges/7","type":"example.tarnwick.tide",` +
		`"subject":"Pennold Quay, high","time":"2026-11-23t06:14:00z","shift":"night","gone":null,"data":{"cm":212}}`
	for mode, c := range map[string]struct {
		header http.Header
		body   string
	}{
		"structured":           {headers("Content-Type", "application/cloudevents+json"), one},
		"structured, UTF-8":    {headers("content-type", `application/cloudevents+json; charset="UTF-8"`), one},
		"structured, as JSON":  {headers("Content-Type", "application/json"), one},
		"batch":                {headers("Content-Type", "application/cloudevents-batch+json"), "[" + one + "]"},
		"binary":               {headers("Content-Type", "application/json", "ce-specversion", "1.0", "ce-id", "41", "ce-source", "/gauges/7", "ce-type", "example.tarnwick.tide", "CE-Subject", "Pennold%20Quay%2C%20high", "ce-time", "2026-11-23T06:14:00Z", "ce-shift", "night"), `{"cm":212}`},
		"binary, quoted":       {headers("Content-Type", "application/json", "ce-specversion", "1.0", "ce-id", `"4\1"`, "ce-source", "/gauges/7", "ce-type", "example.tarnwick.tide", "ce-subject", `"Pennold Quay, high"`, "ce-time", "2026-11-23T06:14:00Z", "ce-shift", "night"), `{"cm":212}`},
		"structured, in bytes": {headers("Content-Type", "application/cloudevents+json"), strings.Replace(one, `"data":{"cm":212}`, `"datacontenttype":"application/json","data_base64":"`+base64.StdEncoding.EncodeToString([]byte(`{"cm":212}`))+`"`, 1)},
	} {
		events, plain, err := event.Arrived(c.header, []byte(c.body), now)
		require.NoError(t, err, mode)
		assert.False(t, plain, mode)
		require.Len(t, events, 1, mode)
		assert.Equal(t, want, events[0], mode)
	}
	// Text and bytes come as a string, bytes in base64.
	for media, c := range map[string]struct{ body, want string }{
		"text/plain; charset=utf-8": {"high at 6\n", `"high at 6\n"`},
		"application/xml":           {"<tide/>", `"\u003ctide/\u003e"`},
		"application/octet-stream":  {"\x00\xff", `"AP8="`},
		"":                          {"21", `"MjE="`},
	} {
		h := headers("ce-specversion", "1.0", "ce-id", "1", "ce-source", "/s", "ce-type", "t")
		if media != "" {
			h.Set("Content-Type", media)
		}
		events, _, err := event.Arrived(h, []byte(c.body), now)
		require.NoError(t, err, media)
		assert.JSONEq(t, c.want, string(events[0].Data), media)
	}
	for text, want := range map[string]string{"100%": "100%", "100 %25": "100 %", "%e2%82%ac %zz": "€ %zz", "„high“": "„high“"} {
		events, _, err := event.Arrived(headers("ce-specversion", "1.0", "ce-id", text, "ce-source", "/s", "ce-type", "t"), nil, now)
		require.NoError(t, err)
		assert.Equal(t, want, events[0].ID)
	}
	_, plain, err := event.Arrived(headers("Content-Type", "application/json"), []byte(`{"a":1}`), now)
	require.NoError(t, err)
	assert.True(t, plain)
}

// What cannot be read, kept, or told from something else is refused, each with what is wrong.
func TestWhatIsNoEventIsRefused(t *testing.T) {
	structured := headers("Content-Type", "application/cloudevents+json")
	event1 := func(more string) string {
		return `{"specversion":"1.0","id":"1","source":"/s","type":"t"` + more + `}`
	}
	for body, says := range map[string]string{
		"":                               "no JSON object",
		"null":                           "no JSON object",
		"[]":                             "no JSON object",
		"\xff":                           "no UTF-8",
		event1(`,"id":""`):               "id: it is empty",
		event1(`,"subject":7`):           "subject: it is no text",
		event1(`,"Shift":"a"`):           "names of small letters",
		event1(`,"shift":[1]`):           "no text, number or truth value",
		event1(`,"shift":1.5`):           "no whole number of 32 bits",
		event1(`,"shift":3e9`):           "no whole number of 32 bits",
		event1(`,"data":"\ud83d"`):       "half of a pair",
		event1(`,"data":"\udc00\ud83d"`): "half of a pair",
		event1(`,"data":{"a":"\u0000"}`): "zero character",
		event1(`,"data":1e999`):          "too large or too small",
		event1(`,"data":1e-20000`):       "too large or too small",
		event1(`,"data":` + strings.Repeat("[", 200) + strings.Repeat("]", 200)): "within each other",
		event1(`,"data":1,"data_base64":"AA=="`):                                 "one or the other",
		event1(`,"time":"2027-11-23T06:15:00Z"`):                                 "more than a day ahead",
		event1(`,"time":"0001-01-01T00:00:00Z"`):                                 "before 1970",
	} {
		_, _, err := event.Arrived(structured, []byte(body), now)
		var invalid *fault.Invalid
		if assert.ErrorAs(t, err, &invalid, "%.80s", body) {
			assert.ErrorContains(t, err, says, "%.80s", body)
		}
	}
	for _, body := range []string{
		event1(`,"data":"\ud83d\ude00 \\ud83d"`), event1(`,"data":0e-99999`), event1(`,"time":"2026-11-22T23:59:60Z"`),
		event1(`,"data":12345678901234567890`),
	} {
		_, _, err := event.Arrived(structured, []byte(body), now)
		assert.NoError(t, err, body)
	}
	var media *event.MediaError
	for _, kind := range []string{"application/cloudevents", "application/cloudevents+avro", "application/cloudevents-batch+xml", "application/cloudevents+json; charset=utf-16"} {
		_, _, err := event.Arrived(headers("Content-Type", kind), []byte(event1("")), now)
		assert.ErrorAs(t, err, &media, kind)
	}
	var large *event.TooLarge
	_, _, err := event.Arrived(structured, []byte(event1(`,"data":"`+strings.Repeat("x", event.MaxEvent)+`"`)), now)
	assert.ErrorAs(t, err, &large)
	_, _, err = event.Arrived(headers("Content-Type", event.BatchMedia), []byte("["+strings.Repeat("1,", event.MaxBatch)+"1]"), now)
	assert.ErrorAs(t, err, &large)
	_, _, err = event.Arrived(headers("Content-Type", event.BatchMedia), []byte("["+event1("")+`,{"id":"2"}]`), now)
	assert.ErrorContains(t, err, "1.source", "the one that is wrong is named")
	many, _, err := event.Arrived(headers("Content-Type", event.BatchMedia), []byte("[]"), now)
	require.NoError(t, err)
	assert.Empty(t, many)
	for name, h := range map[string]http.Header{
		"given 2 times":   headers("ce-specversion", "1.0", "ce-id", "1", "ce-id", "2", "ce-source", "/s", "ce-type", "t"),
		"no UTF-8":        headers("ce-specversion", "1.0", "ce-id", "%ff", "ce-source", "/s", "ce-type", "t"),
		"it is no header": headers("ce-specversion", "1.0", "ce-id", "1", "ce-source", "/s", "ce-type", "t", "ce-data", "x"),
		"is missing":      headers("ce-id", "1"),
	} {
		_, _, err := event.Arrived(h, nil, now)
		assert.ErrorContains(t, err, name)
	}
}

const key = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"

// Requests are held against what the standard's own library signs.
func TestSignedRequests(t *testing.T) {
	signer, err := webhooks.NewWebhook(key)
	require.NoError(t, err)
	other, err := webhooks.NewWebhook("whsec_" + base64.StdEncoding.EncodeToString(make([]byte, 32)))
	require.NoError(t, err)
	mine, err := event.KeyBytes(key)
	require.NoError(t, err)
	body := []byte(`{"type":"example.tarnwick.tide","data":{"cm":212}}`)
	sign := func(by *webhooks.Webhook, id string, at time.Time) http.Header {
		signature, err := by.Sign(id, at, body)
		require.NoError(t, err)
		return headers("webhook-id", id, "webhook-timestamp", strings.TrimSpace(signedAt(at)), "webhook-signature", signature)
	}
	good := sign(signer, "msg_1", now)
	check := func(h http.Header, body []byte, keys ...[]byte) error { return event.CheckSigned(h, body, keys, now) }
	require.NoError(t, check(good, body, mine))
	require.NoError(t, check(good, body, make([]byte, 32), mine), "of two keys either will do")
	require.NoError(t, check(sign(signer, "msg_1", now.Add(-4*time.Minute)), body, mine))
	both := good.Clone()
	both.Set("webhook-signature", "v9,AAAA "+sign(other, "msg_1", now).Get("webhook-signature")+" "+good.Get("webhook-signature"))
	require.NoError(t, check(both, body, mine), "of several signatures one will do")

	for why, err := range map[string]error{
		"another key":      check(sign(other, "msg_1", now), body, mine),
		"no key":           check(good, body),
		"another body":     check(good, append([]byte(" "), body...), mine),
		"an old one":       check(sign(signer, "msg_1", now.Add(-6*time.Minute)), body, mine),
		"one of later":     check(sign(signer, "msg_1", now.Add(6*time.Minute)), body, mine),
		"another id":       check(with(good, "webhook-id", "msg_2"), body, mine),
		"another time":     check(with(good, "webhook-timestamp", signedAt(now.Add(time.Second))), body, mine),
		"no time":          check(with(good, "webhook-timestamp", "noon"), body, mine),
		"no signature":     check(with(good, "webhook-signature", ""), body, mine),
		"another version":  check(with(good, "webhook-signature", "v0"+good.Get("webhook-signature")[2:]), body, mine),
		"two signatures":   check(headers("webhook-id", "1", "webhook-id", "2", "webhook-timestamp", "1", "webhook-signature", "v1,"), body, mine),
		"half a signature": check(with(good, "webhook-signature", good.Get("webhook-signature")[:20]), body, mine),
	} {
		assert.ErrorIs(t, err, event.ErrUnsigned, why)
	}
	for _, wrong := range []string{"", "whsec_", "MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "whsec_!!", "whsec_AAAA", "whsec_" + base64.StdEncoding.EncodeToString(make([]byte, 65))} {
		_, err := event.KeyBytes(wrong)
		assert.Error(t, err, wrong)
	}
}

func with(h http.Header, name, value string) http.Header {
	h = h.Clone()
	h.Set(name, value)
	return h
}

// What is posted that is no CloudEvent becomes an event of its sender.
func TestPlainPosts(t *testing.T) {
	from := job.SenderDefinition{Type: "example.tarnwick.note", Sends: []job.EventGrant{
		{Source: "/ledger", Type: "example.tarnwick.ledger.*"}, {Source: "/notes", Type: "example.tarnwick.note"},
	}}
	read := func(media, body string) (job.Event, error) {
		return event.Posted(headers("Content-Type", media, "webhook-id", "msg_1"), []byte(body), from, "made", now)
	}
	e, err := read("application/json", `{"type":"example.tarnwick.ledger.closed","timestamp":"2026-11-23T06:00:00.5Z","data":{"month":11}}`)
	require.NoError(t, err)
	assert.Equal(t, job.Event{
		ID: "msg_1", Source: "/ledger", Type: "example.tarnwick.ledger.closed", Time: now.Add(-15*time.Minute + 500*time.Millisecond),
		Data: []byte(`{"month":11}`), Received: now,
	}, e)
	e, err = read("application/json; charset=utf-8", `{"month":11}`)
	require.NoError(t, err)
	assert.Equal(t, "/notes example.tarnwick.note", e.Source+" "+e.Type)
	assert.JSONEq(t, `{"month":11}`, string(e.Data))
	_, err = read("application/json", `{"type":"example.tarnwick.wages","data":{}}`)
	assert.ErrorContains(t, err, "may not send events of the type")
	_, err = read("application/json", `{"type":`)
	assert.ErrorContains(t, err, "no JSON")
	e, err = event.Posted(headers(), []byte("hello"), from, "made", now)
	require.NoError(t, err)
	assert.Equal(t, "made", e.ID)
	from.Type = ""
	_, err = read("text/plain", "hello")
	assert.ErrorContains(t, err, "it names no type")
}

func signedAt(at time.Time) string { return strconv.FormatInt(at.Unix(), 10) }

// Whatever comes is read or refused, never a fault of ours; and what is read can be read again.
func FuzzArrived(f *testing.F) {
	f.Add("application/cloudevents+json", "", `{"specversion":"1.0","id":"1","source":"/s","type":"t","data":{"a":[1,"\ud83d\ude00"]}}`)
	f.Add("text/plain", "1.0", "hello")
	f.Add(event.BatchMedia, "", "[{}]")
	f.Fuzz(func(t *testing.T, media, version, body string) {
		h := headers("Content-Type", media)
		if version != "" {
			h.Set("ce-specversion", version)
			h.Set("ce-id", version)
			h.Set("ce-source", "/s")
			h.Set("ce-type", "t")
		}
		events, _, err := event.Arrived(h, []byte(body), now)
		if err != nil {
			return
		}
		for _, e := range events {
			_, err := event.Facts(e)
			require.NoError(t, err)
		}
	})
}
