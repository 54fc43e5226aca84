package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
)

// House are the styles of the house and the files that they may use.
func (c *Client) House(ctx context.Context) (page wire.HousePage, err error) {
	return page, c.do(ctx, http.MethodGet, "/api/settings/house", nil, &page)
}

// SaveHouse says how what leaves the house looks.
func (c *Client) SaveHouse(ctx context.Context, styles job.HouseStyles) (page wire.HousePage, err error) {
	styles.Styles = append([]job.HouseStyle{}, styles.Styles...) // none is a list, too
	return page, c.do(ctx, http.MethodPut, "/api/settings/house", styles, &page)
}

// AddHouseFile uploads a logo (PNG, SVG) or a typeface (TrueType, OpenType) of at
// most 4 MB. Its ID is what styles name it by.
func (c *Client) AddHouseFile(ctx context.Context, name string, data []byte) (f job.HouseFile, err error) {
	answer, err := c.text(ctx, http.MethodPost, "/api/settings/house/files?name="+url.QueryEscape(name), "application/octet-stream",
		data)
	if err != nil {
		return f, err
	}
	if err := json.Unmarshal(answer, &f); err != nil {
		return f, fmt.Errorf("the answer of %s cannot be read: %w", c.base, err)
	}
	return f, nil
}
