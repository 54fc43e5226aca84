package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"ironbell/internal/core/job"
)

// AddWorkbook uploads a workbook (.xlsx) of at most 20 MB. Its ID is what reports
// name it by; the rest of the answer says what of it can be filled.
func (c *Client) AddWorkbook(ctx context.Context, name string, data []byte) (f job.WorkbookFile, err error) {
	answer, err := c.text(ctx, http.MethodPost, "/api/workbooks?name="+url.QueryEscape(name), "application/octet-stream", data)
	if err != nil {
		return f, err
	}
	if err := json.Unmarshal(answer, &f); err != nil {
		return f, fmt.Errorf("the answer of %s cannot be read: %w", c.base, err)
	}
	return f, nil
}

// Workbooks says what each workbook of a report takes.
func (c *Client) Workbooks(ctx context.Context, report string) (all []job.WorkbookPlan, err error) {
	return all, c.do(ctx, http.MethodGet, "/api/reports/"+segment(report)+"/workbooks", nil, &all)
}

// Workbook downloads a workbook of a report, as it was sent. The caller closes it.
func (c *Client) Workbook(ctx context.Context, report, name string) (io.ReadCloser, error) {
	res, err := c.request(ctx, http.MethodGet, "/api/reports/"+segment(report)+"/workbooks/"+segment(name), nil)
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}
