package api

import (
	"context"
	"net/http"

	"ironbell/internal/access"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/event"

	"github.com/danielgtaylor/huma/v2"
)

// events registers the reporting of events from outside.
func (s *server) events(a huma.API) {
	tags := subject("events")
	huma.Register(a, huma.Operation{
		OperationID: "report-event", Method: http.MethodPost, Path: "/api/events", Summary: "Report an event",
		Tags: tags.tags(), DefaultStatus: http.StatusAccepted, Errors: []int{403, 422}, MaxBodyBytes: largestEvent,
		Description: "An event in the structured mode of CloudEvents 1.0 (media type application/cloudevents+json). " +
			"It is recorded, and the jobs that wait for it are started, before this is answered; an event of the " +
			"same source and id starts nothing a second time. A source belongs to the tokens that an administrator " +
			"made for it (make-event-token); everybody has one of their own, /ironbell/people/LOGIN.",
		RequestBody: &huma.RequestBody{
			Required: true,
			Content: map[string]*huma.MediaType{event.MediaType: {Schema: &huma.Schema{
				Type: "object", Required: []string{"specversion", "id", "source", "type"}, AdditionalProperties: true,
				Properties: map[string]*huma.Schema{
					"specversion": {Type: "string", Enum: []any{"1.0"}}, "id": {Type: "string"},
					"source":  {Type: "string"},
					"type":    {Type: "string"},
					"subject": {Type: "string"}, "time": {Type: "string", Format: "date-time"},
					"datacontenttype": {Type: "string"}, "data": {},
				},
			}}},
		},
		SkipValidateBody: true,
	}, s.reportEvent)
	huma.Register(a, tags.get("list-events", "/api/events", "List events, newest first"), s.listEvents)
}

func (s *server) reportEvent(ctx context.Context, in *struct{ RawBody []byte }) (*struct{ Body wire.Heard }, error) {
	who, _ := person(ctx)
	e, err := event.Read(in.RawBody, s.Now())
	if err != nil {
		return nil, s.problem(err)
	}
	if err := access.MayReport(who, wayOf(ctx), e.Source, e.Type); err != nil {
		return nil, s.problem(err)
	}
	started, fresh, err := s.Service.Events.Report(ctx, who, e)
	if err != nil {
		return nil, s.problem(err)
	}
	if started == nil {
		started = []job.RunID{}
	}
	return &struct{ Body wire.Heard }{wire.Heard{Fresh: fresh, Started: started}}, nil
}

func (s *server) listEvents(ctx context.Context, in *struct {
	Type  string `query:"type" maxLength:"200"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
},
) (*struct{ Body []wire.Event }, error) {
	rows, err := s.Store.Events(ctx, in.Type, in.Limit)
	if err != nil {
		return nil, s.problem(err)
	}
	out := make([]wire.Event, len(rows))
	for i, r := range rows {
		out[i] = wire.Event{Event: r.Event, Run: r.RunID, Started: r.Started()}
		if r.Data != nil {
			out[i].Data = *r.Data
		}
	}
	return &struct{ Body []wire.Event }{out}, nil
}

// largestEvent is how long an event may be, in bytes. CloudEvents 1.0 asks
// receivers for at least 64 KB.
const largestEvent = 256 << 10
