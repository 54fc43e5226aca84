package api

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/event"
	"ironbell/internal/service"
	"ironbell/internal/store/rings"

	"github.com/danielgtaylor/huma/v2"
)

// largestReport is how much may come at once, in bytes: a batch.
const largestReport = 4 << 20

const eventsPath = "/api/events"

// events registers the reporting of events from outside, and what was reported.
func (s *server) events(a huma.API) {
	tags := subject("events")
	forms := map[string]*huma.MediaType{
		event.MediaType: {Schema: eventSchema}, event.BatchMedia: {Schema: &huma.Schema{Type: "array", Items: eventSchema}},
		"*/*": {Schema: &huma.Schema{Description: "the data of an event, of which the attributes stand in ce- headers; " +
			"or, by a sender, what it posts"}},
	}
	body := &huma.RequestBody{Content: forms}
	report := huma.Operation{
		OperationID: "report-event", Method: http.MethodPost, Path: eventsPath, Summary: "Report events",
		Tags: tags.tags(), DefaultStatus: http.StatusAccepted, Errors: []int{401, 403, 413, 415, 422, 429},
		MaxBodyBytes: largestReport, BodyReadTimeout: time.Minute,
		Description: "By CloudEvents 1.0: one in the structured or in the binary mode of its HTTP binding, or a batch. They are " +
			"recorded, and the jobs that wait for them are started, before this is answered; all are taken, or none. An event of " +
			"the same source and id starts nothing a second time. A source belongs to the senders to whom an administrator gave " +
			"it; everybody has one of their own, /ironbell/people/LOGIN. A sender's token may also post what is no CloudEvent.",
		RequestBody: body, SkipValidateBody: true,
	}
	huma.Register(a, report, s.reportEvents)
	report.OperationID, report.Path, report.Summary = "send-events", "/api/senders/{name}/events", "Send events as a sender"
	report.Description = "As report-event, by a sender, with its token, or signed with its key as Standard Webhooks has it: " +
		"webhook-id, webhook-timestamp and webhook-signature over id.timestamp.body, not more than 5 minutes off. What is no " +
		"CloudEvent is taken, too: a JSON object with type and data names its type, all else is data of the sender's own type."
	report.Security = []map[string][]string{{"token": {}}, {}}
	huma.Register(a, report, s.sendEvents)
	body.Required = false // an event without data in the binary mode has none
	huma.Register(a, tags.get("list-events", eventsPath, "List events, newest first"), s.listEvents)
	huma.Register(a, tags.post("play-event", "/api/events/{event}/play", "Play an event again: it starts what it starts",
		refuses(403, 404), says("For whoever may ring all that waits for it. It is recorded as an event that was played again.")),
		s.playEvent)
}

var eventSchema = &huma.Schema{
	Type: "object", Required: []string{"specversion", "id", "source", "type"}, AdditionalProperties: true,
	Properties: map[string]*huma.Schema{
		"specversion": {Type: "string", Enum: []any{"1.0"}}, "id": {Type: "string"},
		"source":  {Type: "string"},
		"type":    {Type: "string"},
		"subject": {Type: "string"}, "time": {Type: "string", Format: "date-time"},
		"datacontenttype": {Type: "string"}, "data": {}, "data_base64": {Type: "string"},
	},
}

// reporting tells whether a request reports events, which those may do, too, who are no person.
func reporting(r *http.Request) bool {
	return r.Method == http.MethodPost && (r.URL.Path == eventsPath ||
		strings.HasPrefix(r.URL.Path, "/api/senders/") && strings.HasSuffix(r.URL.Path, "/events"))
}

// arriving is what reports events: a body with its headers.
type arriving struct {
	RawBody []byte
	header  http.Header
}

// Resolve keeps the headers: attributes stand in them.
func (in *arriving) Resolve(ctx huma.Context) []error {
	in.header = http.Header{}
	ctx.EachHeader(func(name, value string) { in.header.Add(name, value) })
	return nil
}

func (s *server) reportEvents(ctx context.Context, in *arriving) (*struct{ Body wire.Heard }, error) {
	if from, ok := senderOf(ctx); ok {
		return s.take(ctx, from, in)
	}
	who, ok := person(ctx)
	if !ok {
		return nil, huma.NewError(http.StatusUnauthorized, needSignIn)
	}
	events, plain, err := event.Arrived(in.header, in.RawBody, s.Now())
	if err == nil && plain {
		err = &event.MediaError{Media: in.header.Get("Content-Type")}
	}
	if err != nil {
		return nil, s.problem(err)
	}
	for _, e := range events {
		if err := access.MayReport(who, e.Source); err != nil {
			return nil, s.problem(err)
		}
	}
	raised, err := s.Service.Events.Report(ctx, who, events)
	if err != nil {
		return nil, s.problem(err)
	}
	return told(raised), nil
}

// sendEvents takes what a sender sends to its own address, with its token or signed.
func (s *server) sendEvents(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
	arriving
},
) (*struct{ Body wire.Heard }, error) {
	from, err := s.Store.SenderToCheck(ctx, in.Name)
	if by, ok := senderOf(ctx); ok && (err == nil || isNotFound(err)) {
		if by.ID != from.ID {
			return nil, huma.NewError(http.StatusForbidden, fmt.Sprintf("This token belongs to another sender, %q.", by.Name))
		}
		return s.take(ctx, by, &in.arriving)
	}
	if isNotFound(err) {
		return nil, huma.NewError(http.StatusUnauthorized, sentence(errUnproven))
	}
	if err != nil {
		return nil, s.problem(err)
	}
	if !event.IsSigned(in.header) {
		return nil, s.refuse(ctx, from, errUnproven)
	}
	var keys [][]byte
	for _, k := range from.Keys {
		if k.Kind != job.SenderSigning {
			continue
		}
		text, err := s.Vault.Open(service.SenderRecord(from.ID), k.Sealed)
		if err != nil {
			return nil, s.problem(err)
		}
		key, err := event.KeyBytes(text)
		if err != nil {
			return nil, s.problem(err)
		}
		keys = append(keys, key)
	}
	if err := event.CheckSigned(in.header, in.RawBody, keys, s.Now()); err != nil {
		return nil, s.refuse(ctx, from, err)
	}
	return s.take(ctx, from, &in.arriving)
}

// errUnproven is told alike whether there is a sender of this name or not: which names there are is nobody's business.
var errUnproven = fmt.Errorf("%w: send its token as Authorization: Bearer, or sign with its key, with webhook-id, "+
	"webhook-timestamp and webhook-signature", event.ErrUnsigned)

// take takes what a sender sends that is known.
func (s *server) take(ctx context.Context, from job.Sender, in *arriving) (*struct{ Body wire.Heard }, error) {
	events, plain, err := event.Arrived(in.header, in.RawBody, s.Now())
	if plain {
		var e job.Event
		e, err = event.Posted(in.header, in.RawBody, from.SenderDefinition, strings.ToLower(rand.Text()), s.Now())
		events = []job.Event{e}
	}
	if err != nil {
		return nil, s.refuse(ctx, from, err)
	}
	raised, err := s.Service.Events.Take(ctx, from, events)
	if err != nil {
		return nil, s.refuse(ctx, from, err)
	}
	return heard(raised), nil
}

// refuse answers why something of a sender was not taken, and keeps it at the sender when that is its doing.
func (s *server) refuse(ctx context.Context, from job.Sender, err error) error {
	var (
		invalid *fault.Invalid
		denied  *access.Denied
		fast    *service.TooFast
		media   *event.MediaError
		large   *event.TooLarge
	)
	var answer error
	switch {
	case errors.As(err, &fast):
		answer = huma.ErrorWithHeaders(huma.NewError(http.StatusTooManyRequests, err.Error()),
			http.Header{"Retry-After": {strconv.Itoa(fast.Seconds())}})
	case errors.Is(err, event.ErrUnsigned):
		answer = huma.NewError(http.StatusUnauthorized, sentence(err))
	case errors.As(err, &invalid), errors.As(err, &denied), errors.As(err, &media), errors.As(err, &large):
		answer = s.problem(err)
	default: // it is no doing of the sender
		return s.problem(err)
	}
	if err := s.Service.Events.Refused(ctx, from, err); err != nil {
		s.Log.Error("could not note what a sender was refused", "sender", from.Name, "error", err)
	}
	return answer
}

func heard(raised []service.Raised) *struct{ Body wire.Heard } {
	out := wire.Heard{Started: []job.RunID{}, Events: len(raised)}
	for _, r := range raised {
		out.Fresh = out.Fresh || r.Fresh
		if !r.Fresh {
			out.Known++
		}
		out.Started = append(out.Started, r.Started...)
	}
	return &struct{ Body wire.Heard }{out}
}

// told is heard for a person, who may know which jobs wait for what.
func told(raised []service.Raised) *struct{ Body wire.Heard } {
	out := heard(raised)
	for _, r := range raised {
		if r.Note != "" && len(out.Body.Notes) < 20 {
			out.Body.Notes = append(out.Body.Notes, r.Note)
		}
	}
	return out
}

func (s *server) listEvents(ctx context.Context, in *struct {
	Type   string `query:"type" maxLength:"200"`
	Sender string `query:"sender" maxLength:"200" doc:"its name"`
	Before int64  `query:"before" minimum:"0" doc:"only those before this one, by its number"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
},
) (*struct{ Body []wire.Event }, error) {
	rows, err := s.Store.Events(ctx, rings.EventFilter{Type: in.Type, Sender: in.Sender, Before: in.Before, Limit: in.Limit})
	if err != nil {
		return nil, s.problem(err)
	}
	who, _ := person(ctx)
	if err := s.Service.Events.ReadBy(ctx, who, rows); err != nil {
		return nil, s.problem(err)
	}
	out := make([]wire.Event, len(rows))
	for i, r := range rows {
		out[i] = wire.Event{Number: r.Row, Event: r.Read(), Run: r.RunID, Started: r.Started(), Note: r.Note, Played: r.Played}
		if r.Sender != nil {
			out[i].Sender = *r.Sender
		}
		if r.Reporter != nil {
			out[i].Reporter = *r.Reporter
		}
	}
	return &struct{ Body []wire.Event }{out}, nil
}

func (s *server) playEvent(ctx context.Context, in *struct {
	Event int64 `path:"event"`
},
) (*struct{ Body wire.Heard }, error) {
	who, _ := person(ctx)
	raised, err := s.Service.Events.PlayAgain(ctx, who, in.Event)
	if err != nil {
		return nil, s.problem(err)
	}
	return told([]service.Raised{raised}), nil
}
