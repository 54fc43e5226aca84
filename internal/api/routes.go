package api

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

// subject is what a group of operations is about, by which the description groups them. Each
// subject's file begins with the table of its routes; each route names its handler.
type subject string

// more adds to what is described of an operation.
type more func(*huma.Operation)

// refuses names the answers, beside those that every operation gives, by which one refuses.
func refuses(status ...int) more { return func(o *huma.Operation) { o.Errors = status } }

// says adds a description to the summary.
func says(text string) more { return func(o *huma.Operation) { o.Description = text } }

// answers gives the status of an answer that is no 200.
func answers(status int) more { return func(o *huma.Operation) { o.DefaultStatus = status } }

// upTo bounds the body of a request, in bytes.
func upTo(bytes int64) more { return func(o *huma.Operation) { o.MaxBodyBytes = bytes } }

// unsigned is for those who are not signed in.
func unsigned(o *huma.Operation) { o.Security = []map[string][]string{} }

func (s subject) tags() []string { return []string{string(s)} }

func (s subject) route(method, id, path, summary string, all []more) huma.Operation {
	o := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: s.tags()}
	for _, m := range all {
		m(&o)
	}
	return o
}

func (s subject) get(id, path, summary string, all ...more) huma.Operation {
	return s.route(http.MethodGet, id, path, summary, all)
}

func (s subject) post(id, path, summary string, all ...more) huma.Operation {
	return s.route(http.MethodPost, id, path, summary, all)
}

func (s subject) put(id, path, summary string, all ...more) huma.Operation {
	return s.route(http.MethodPut, id, path, summary, all)
}

func (s subject) delete(id, path, summary string, all ...more) huma.Operation {
	return s.route(http.MethodDelete, id, path, summary, all)
}
