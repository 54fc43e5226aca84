package api

import (
	"context"
	"net/http"
	"strings"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"

	"github.com/danielgtaylor/huma/v2"
)

// senders registers the programs outside that report events.
func (s *server) senders(a huma.API) {
	tags := subject("events")
	huma.Register(a, tags.get("list-senders", "/api/senders", "List the senders of events by name"), s.listSenders)
	huma.Register(a, tags.get("see-sender", "/api/senders/{name}", "Show a sender of events", refuses(404)), s.seeSender)
	huma.Register(a, tags.put("save-sender", "/api/senders/{name}", "Add or change a sender of events", refuses(403, 422)),
		s.saveSender)
	huma.Register(a, tags.post("new-sender-key", "/api/senders/{name}/keys",
		"Make a token for a sender, or a key that it signs with; it is shown once", refuses(403, 404, 422)), s.newSenderKey)
	huma.Register(a, tags.delete("end-sender-key", "/api/senders/{name}/keys/{key}", "End a token or key of a sender at once",
		refuses(403, 404), answers(http.StatusNoContent)), s.endSenderKey)
}

func (s *server) listSenders(ctx context.Context, _ *struct{}) (*struct{ Body []job.Sender }, error) {
	all, err := s.Store.Senders(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []job.Sender }{all}, nil
}

func (s *server) seeSender(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
},
) (*struct{ Body job.Sender }, error) {
	one, err := s.Store.Sender(ctx, in.Name)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Sender }{one}, nil
}

func (s *server) saveSender(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
	Body job.SenderDefinition
},
) (*struct{ Body job.Sender }, error) {
	who, _ := person(ctx)
	saved, err := s.Service.Senders.Save(ctx, who, in.Name, in.Body)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.Sender }{saved}, nil
}

func (s *server) newSenderKey(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
	Body wire.SenderKeyRequest
},
) (*struct{ Body wire.SenderSecret }, error) {
	who, _ := person(ctx)
	overlap := time.Duration(in.Body.OverlapHours) * time.Hour
	var text string
	var err error
	if in.Body.Kind == job.SenderToken {
		text, err = s.Service.Senders.NewToken(ctx, who, in.Name, overlap)
	} else {
		text, err = s.Service.Senders.NewKey(ctx, who, in.Name, in.Body.Key, overlap, s.Vault)
	}
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.SenderSecret }{wire.SenderSecret{Kind: in.Body.Kind, Secret: text}}, nil
}

func (s *server) endSenderKey(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"200"`
	Key  int64  `path:"key"`
},
) (*struct{}, error) {
	who, _ := person(ctx)
	if err := s.Service.Senders.EndKey(ctx, who, in.Name, in.Key); err != nil {
		return nil, s.problem(err)
	}
	return nil, nil //nolint:nilnil // nothing is answered
}

// sentence is an error as a sentence.
func sentence(err error) string { return phrase.Upper(strings.TrimSuffix(err.Error(), ".")) + "." }
