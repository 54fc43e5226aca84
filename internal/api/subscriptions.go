package api

import (
	"context"
	"time"

	"ironbell/internal/core/job"

	"github.com/danielgtaylor/huma/v2"
)

// subscriptions registers the addresses that the service's own events go to, and what was published.
func (s *server) subscriptions(a huma.API) {
	tags := subject("events")
	huma.Register(a, tags.get("list-subscriptions", "/api/subscriptions", "List the subscriptions to our own events by name"),
		s.listSubscriptions)
	huma.Register(a, tags.get("see-subscription", "/api/subscriptions/{name}", "Show a subscription to our own events",
		refuses(404)), s.seeSubscription)
	huma.Register(a, tags.put("save-subscription", "/api/subscriptions/{name}", "Add or change a subscription to our own events",
		refuses(403, 422), says("Each event goes as a CloudEvent 1.0 in the structured mode, signed as Standard Webhooks has it, at "+
			"least once; of one subject each after the one before was taken or given up. A new subscription begins with what is "+
			"published from then on.")), s.saveSubscription)
	huma.Register(a, tags.post("replay-subscription", "/api/subscriptions/{name}/replay",
		"Hand our own events on again from a point", refuses(403, 404, 422),
		says("In their order and with the ids that they had; what waits is handed on in that order, too.")), s.replaySubscription)
	huma.Register(a, tags.get("list-published", "/api/published", "List our own events, newest first",
		says("They are kept as long as events are, from the first subscription on.")), s.listPublished)
}

func (s *server) listSubscriptions(ctx context.Context, _ *struct{}) (*struct{ Body []job.Subscription }, error) {
	all, err := s.Store.Subscriptions(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Subscription }{all}, nil
}

func (s *server) seeSubscription(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
},
) (*struct{ Body job.Subscription }, error) {
	one, err := s.Store.Subscription(ctx, in.Name)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Subscription }{one}, nil
}

func (s *server) saveSubscription(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
	Body job.SubscriptionDefinition
},
) (*struct{ Body job.Subscription }, error) {
	who, _ := person(ctx)
	saved, err := s.Service.Subscriptions.Save(ctx, who, in.Name, in.Body)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Subscription }{saved}, nil
}

func (s *server) replaySubscription(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
	Body struct {
		Since *time.Time `json:"since,omitempty" doc:"from the first event that was published then or later"`
		No    int64      `json:"no,omitempty" minimum:"1" doc:"or from the event of this number on"`
	}
},
) (*struct{ Body job.Replayed }, error) {
	who, _ := person(ctx)
	var since time.Time
	if in.Body.Since != nil {
		since = *in.Body.Since
	}
	r, err := s.Service.Subscriptions.Replay(ctx, who, in.Name, since, in.Body.No)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Replayed }{r}, nil
}

func (s *server) listPublished(ctx context.Context, in *struct {
	Before int64  `query:"before" minimum:"0" doc:"only those with a smaller number"`
	Type   string `query:"type" maxLength:"200" doc:"only those of this type"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
},
) (*struct{ Body []job.Published }, error) {
	all, err := s.Store.Published(ctx, in.Before, in.Type, in.Limit)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Published }{all}, nil
}
