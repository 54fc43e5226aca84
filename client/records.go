package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"ironbell/internal/api/wire"
)

const fileType = "application/yaml" // RFC 9512

// Records lists the records that stand in files; of one kind, or all when kind is empty.
func (c *Client) Records(ctx context.Context, kind string) (all []wire.RecordName, err error) {
	return all, c.do(ctx, http.MethodGet, "/api/records?kind="+url.QueryEscape(kind), nil, &all)
}

// RecordSchema is the JSON Schema of a record in a file.
func (c *Client) RecordSchema(ctx context.Context) ([]byte, error) {
	return c.text(ctx, http.MethodGet, "/api/records/schema", fileType, nil)
}

// RecordFile is a record as a file, in YAML; with its revision in the head when withRevision
// says so. Of a kind and name that do not exist it fails with a *Problem.
func (c *Client) RecordFile(ctx context.Context, kind, name string, withRevision bool) ([]byte, error) {
	ask := url.Values{"kind": {kind}, "name": {name}}
	if withRevision {
		ask.Set("revision", "true")
	}
	return c.text(ctx, http.MethodGet, "/api/record?"+ask.Encode(), fileType, nil)
}

// SaveRecord saves a record from the text of a file, or only tries to. Of a file that is not
// accepted it fails with a *Problem whose errors have line and column as location, as 12:7.
func (c *Client) SaveRecord(ctx context.Context, text []byte, try bool) (s wire.RecordSaved, err error) {
	answer, err := c.text(ctx, http.MethodPut, fmt.Sprintf("/api/record?try=%t", try), fileType, text)
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(answer, &s); err != nil {
		return s, fmt.Errorf("the answer of %s cannot be read: %w", c.base, err)
	}
	return s, nil
}

// text sends and gets bodies that are no JSON of the API's own.
func (c *Client) text(ctx context.Context, method, path, mediaType string, in []byte) ([]byte, error) {
	ctx, stop := context.WithTimeout(ctx, callLimit)
	defer stop()
	var body io.Reader
	if in != nil {
		body = bytes.NewReader(in)
	}
	res, err := c.send(ctx, method, path, mediaType, body)
	if err != nil {
		return nil, err
	}
	defer func() { _ = res.Body.Close() }() // only read from
	text, err := io.ReadAll(io.LimitReader(res.Body, answerSize))
	if err != nil {
		return nil, fmt.Errorf("the answer of %s broke off: %w", c.base, err)
	}
	return text, nil
}

// RemoveRecords removes records, all or none; with try it tells only what that would mean. One
// that others need is removed only together with them: otherwise it fails with a *Problem.
func (c *Client) RemoveRecords(ctx context.Context, all []wire.RecordName, try bool) (r []wire.Removal, err error) {
	return r, c.do(ctx, http.MethodPost, "/api/records/remove", wire.RecordsRequest{Records: all, Try: try}, &r)
}

// RemovedRecords lists the records that can be brought back.
func (c *Client) RemovedRecords(ctx context.Context) (all []wire.RemovedRecord, err error) {
	return all, c.do(ctx, http.MethodGet, "/api/records/removed", nil, &all)
}

// ReturnRecords brings removed records back, all or none.
func (c *Client) ReturnRecords(ctx context.Context, all []wire.RecordName) (r wire.Returned, err error) {
	return r, c.do(ctx, http.MethodPost, "/api/records/return", wire.RecordsRequest{Records: all}, &r)
}

// RenameRecord gives a record another name, or tells only what would be rewritten with it.
func (c *Client) RenameRecord(ctx context.Context, kind, name, to string, try bool) (r wire.Renamed, err error) {
	return r, c.do(ctx, http.MethodPost, "/api/record/rename",
		wire.RenameRequest{RecordName: wire.RecordName{Kind: kind, Name: name}, To: to, Try: try}, &r)
}

// CopyRecord makes a copy of a record under another name.
func (c *Client) CopyRecord(ctx context.Context, kind, name, to string) error {
	return c.do(ctx, http.MethodPost, "/api/record/copy",
		wire.RenameRequest{RecordName: wire.RecordName{Kind: kind, Name: name}, To: to}, nil)
}

// FormerNames lists the names by which a record is found beside its own.
func (c *Client) FormerNames(ctx context.Context, kind, name string) (all []string, err error) {
	ask := url.Values{"kind": {kind}, "name": {name}}
	return all, c.do(ctx, http.MethodGet, "/api/record/names?"+ask.Encode(), nil, &all)
}

// FreeName frees a former name of a record.
func (c *Client) FreeName(ctx context.Context, kind, name, former string) error {
	return c.do(ctx, http.MethodPost, "/api/record/free-name",
		wire.FormerRequest{RecordName: wire.RecordName{Kind: kind, Name: name}, Former: former}, nil)
}
