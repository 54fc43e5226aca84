package api

import (
	"context"
	"fmt"
	"io"
	"net/http"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/store/history"

	"github.com/danielgtaylor/huma/v2"
)

func linkOf(l history.Link) wire.Link {
	words := "everybody who can sign in to Iron Bell"
	if l.Audience == job.LinkNamed {
		words = fmt.Sprintf("only the %d whom %s", len(l.Named.V), madeFor(l))
	}
	if l.Archive {
		words += ", with the files of earlier runs"
	}
	return wire.Link{
		ID: l.ID, RunID: l.RunID, Job: l.Job, For: l.Audience, Words: words, Named: l.Named.V, EndsAt: l.EndsAt,
		CreatedAt: l.CreatedAt, WithdrawnAt: l.WithdrawnAt, WithdrawnBy: l.WithdrawnBy,
		Ended: l.Ended, Follows: l.Follows, LastAt: l.LastAt,
	}
}

// madeFor says whom a link for those who are named is for.
func madeFor(l history.Link) string {
	if l.Task == "" {
		return "it was made for"
	}
	return "the mail went to"
}

func (s *server) links(a huma.API) {
	tags := subject("links")
	huma.Register(a, tags.get("follow-link", "/api/links/{token}", "Show what a link leads to", refuses(403, 404, 410)),
		s.followLink)
	huma.Register(a, huma.Operation{
		OperationID: "fetch-linked-file", Method: http.MethodGet, Path: "/api/links/{token}/files/{file}",
		Summary: "Fetch a file that a link leads to", Tags: tags.tags(), Errors: []int{403, 404, 410},
		Responses: map[string]*huma.Response{"200": {
			Description: "The file", Content: map[string]*huma.MediaType{"application/octet-stream": {}},
		}},
	}, s.fetchLinkedFile)
	huma.Register(a,
		tags.post("withdraw-links", "/api/runs/{run}/links/withdraw", "End the links to a run's files, or one of them",
			refuses(403, 404)), s.withdrawLinks)
}

func (s *server) followLink(ctx context.Context, in *struct {
	Token string `path:"token" maxLength:"100"`
},
) (*struct{ Body wire.LinkPage }, error) {
	l, err := s.follow(ctx, in.Token, "followed")
	if err != nil {
		return nil, err
	}
	files, earlier, err := s.leadsTo(ctx, l)
	if err != nil {
		return nil, s.problem(err)
	}
	page := wire.LinkPage{Link: linkOf(l), Files: files}
	for _, e := range earlier {
		page.Earlier = append(page.Earlier, wire.EarlierFiles{RunID: e.RunID, Due: e.Due, Zone: e.Zone, Files: e.Files})
	}
	page.Named = nil // who else got it is nobody's business
	return &struct{ Body wire.LinkPage }{page}, nil
}

func (s *server) fetchLinkedFile(ctx context.Context, in *struct {
	Token string `path:"token" maxLength:"100"`
	File  int64  `path:"file"`
},
) (*huma.StreamResponse, error) {
	l, err := s.follow(ctx, in.Token, "")
	if err != nil {
		return nil, err
	}
	files, earlier, err := s.leadsTo(ctx, l)
	if err != nil {
		return nil, s.problem(err)
	}
	for _, e := range earlier {
		files = append(files, e.Files...)
	}
	for _, f := range files {
		if f.ID != in.File {
			continue
		}
		if f.RemovedAt != nil {
			return nil,
				huma.NewError(http.StatusGone,
					fmt.Sprintf("The file %q was removed on %s: its job keeps files for so long.", f.Name,
						f.RemovedAt.UTC().Format("2 January 2006 15:04 MST")))
		}
		who, _ := person(ctx)
		if err := s.Store.NoteLinkUse(ctx, l.ID, who.Name, "fetched "+f.Name); err != nil {
			return nil, s.problem(err)
		}
		return s.file(ctx, f,
			func(ctx context.Context, f job.Artifact) (io.ReadSeekCloser, error) { return s.Files.Open(ctx, f.Key) },
			func() {}, nil), nil
	}
	return nil, huma.NewError(http.StatusNotFound, "The link leads to no such file.")
}

func (s *server) withdrawLinks(ctx context.Context, in *struct {
	RunPath
	Body wire.WithdrawRequest
},
) (*struct{ Body wire.Count }, error) {
	id, err := runID(in.Run)
	if err != nil {
		return nil, err
	}
	who, _ := person(ctx)
	n, err := s.Service.Runs.WithdrawLinks(ctx, who, id, in.Body.Link)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.Count }{wire.Count{N: n}}, nil
}

// leadsTo lists the files that a link leads to, and those of earlier runs.
func (s *server) leadsTo(ctx context.Context,
	l history.Link,
) (files []job.Artifact, earlier []history.Earlier, err error) {
	if files, err = s.Store.LinkFiles(ctx, l); err != nil || !l.Archive {
		return files, nil, err
	}
	earlier, err = s.Store.EarlierFiles(ctx, l)
	return files, earlier, err
}

// follow finds a link and decides whether who is signed in may follow it. Each
// following, and each refusal, is recorded.
func (s *server) follow(ctx context.Context, token, what string) (history.Link, error) {
	who, _ := person(ctx)
	l, err := s.Store.LinkByHash(ctx, history.LinkHash(token))
	if err != nil {
		if isNotFound(err) {
			return l, huma.NewError(http.StatusNotFound, "There is no such link. Check that it was copied whole.")
		}
		return l, s.problem(err)
	}
	refuse := func(word string, status int, text string) (history.Link, error) {
		if err := s.Store.NoteLinkUse(ctx, l.ID, who.Name, word); err != nil {
			return l, s.problem(err)
		}
		return l, huma.NewError(status, text)
	}
	switch {
	case l.WithdrawnAt != nil:
		return refuse("withdrawn", http.StatusGone,
			fmt.Sprintf("This link was withdrawn on %s. Ask who sent it for the right one.",
				l.WithdrawnAt.UTC().Format("2 January 2006 15:04 MST")))
	case l.Ended:
		return refuse("ended", http.StatusGone,
			fmt.Sprintf("This link ended on %s. Ask the owner of %s for the files.",
				l.EndsAt.UTC().Format("2 January 2006 15:04 MST"), l.Job))
	case !l.For(who):
		return refuse("refused", http.StatusForbidden,
			"This link is only for those whom "+madeFor(l)+", and you are signed in as "+who.Name+".")
	}
	if what != "" {
		if err := s.Store.NoteLinkUse(ctx, l.ID, who.Name, what); err != nil {
			return l, s.problem(err)
		}
	}
	return l, nil
}
