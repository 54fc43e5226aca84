package api

import (
	"context"
	"encoding/json"
	"net/http"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) drafts(a huma.API) {
	tags := subject("drafts")
	huma.Register(a, tags.get("list-drafts", "/api/drafts", "List what you have begun and not saved"), s.listDrafts)
	huma.Register(a, tags.get("show-draft", "/api/drafts/{kind}/{key}",
		"Show a draft of yours, and who else writes at the same record"), s.showDraft)
	huma.Register(a, tags.put("keep-draft", "/api/drafts/{kind}/{key}", "Keep a draft, in place of the one before",
		refuses(412, 422), upTo(maxBody),
		says("It is yours alone, changes nothing, and is forgotten when nobody has touched it for 60 days.")), s.keepDraft)
	huma.Register(a, tags.delete("drop-draft", "/api/drafts/{kind}/{key}", "Drop a draft",
		answers(http.StatusNoContent)), s.dropDraft)
}

// DraftPath is where a draft is kept.
type DraftPath struct {
	Kind string `path:"kind" enum:"job,report"`
	Key  string `path:"key" minLength:"1" maxLength:"200" doc:"the record's name, or a word of your own for a new one"`
}

func (s *server) listDrafts(ctx context.Context, _ *struct{}) (*struct{ Body []wire.DraftLine }, error) {
	who, _ := person(ctx)
	all, err := s.Store.Drafts(ctx, who.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	out := make([]wire.DraftLine, len(all))
	for i, d := range all {
		out[i] = wire.DraftLine{Kind: d.Kind, Key: d.Key, Record: d.Record, KeptAt: d.KeptAt}
	}
	return &struct{ Body []wire.DraftLine }{out}, nil
}

func (s *server) showDraft(ctx context.Context, in *struct {
	DraftPath
	Record string `query:"record" maxLength:"200" doc:"the record at which others may write"`
},
) (*struct{ Body wire.DraftPage }, error) {
	who, _ := person(ctx)
	var out wire.DraftPage
	var err error
	if out.Draft, err = s.Store.Draft(ctx, who.ID, in.Kind, in.Key); err != nil {
		return nil, s.problem(err)
	}
	if out.Others, err = s.Store.Writers(ctx, who.ID, in.Kind, in.Record); err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.DraftPage }{out}, nil
}

func (s *server) keepDraft(ctx context.Context, in *struct {
	DraftPath
	Body wire.DraftRequest
},
) (*struct{ Body wire.DraftKept }, error) {
	who, _ := person(ctx)
	content, err := json.Marshal(in.Body.Content)
	if err != nil {
		return nil, s.problem(err)
	}
	kept, err := s.Store.KeepDraft(ctx, who.ID, job.Draft{
		Kind: in.Kind, Key: in.Key, Record: in.Body.Record, Began: in.Body.Began, Content: content,
	}, in.Body.Kept)
	if err != nil {
		return nil, s.problem(err)
	}
	others, err := s.Store.Writers(ctx, who.ID, in.Kind, in.Body.Record)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.DraftKept }{wire.DraftKept{KeptAt: kept.KeptAt, Kept: kept.Kept, Others: others}}, nil
}

func (s *server) dropDraft(ctx context.Context, in *DraftPath) (*struct{}, error) {
	who, _ := person(ctx)
	if err := s.Store.DropDraft(ctx, who.ID, in.Kind, in.Key); err != nil {
		return nil, s.problem(err)
	}
	return nil, nil //nolint:nilnil // nothing to say
}
