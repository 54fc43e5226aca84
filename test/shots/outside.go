package main

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
)

// outside lets the demo's programs report what happened, as they would themselves.
func outside(ctx context.Context, c *client.Client, at string) error {
	now := time.Now()
	for sender, bodies := range map[string][]string{
		"Tide gauges": {
			`{"port": "Pennold", "cm": 412, "state": "high"}`, `{"port": "Grey Skerry", "cm": 96, "state": "low"}`,
		},
		"Ledger office": {
			fmt.Sprintf(`{"type": "example.tarnwick.ledger.closed", "data": {"month": %q}}`, now.AddDate(0, -1, 0).Format("2006-01")),
		},
	} {
		made, err := c.NewSenderKey(ctx, sender, wire.SenderKeyRequest{Kind: job.SenderToken})
		if err != nil {
			return fmt.Errorf("make a token: %w", err)
		}
		for _, body := range bodies {
			req, err := http.NewRequestWithContext(ctx, http.MethodPost, at+"/api/senders/"+url.PathEscape(sender)+"/events",
				bytes.NewBufferString(body))
			if err != nil {
				return fmt.Errorf("report: %w", err)
			}
			req.Header.Set("Content-Type", "application/json")
			req.Header.Set("Authorization", "Bearer "+made.Secret)
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				return fmt.Errorf("report: %w", err)
			}
			_ = res.Body.Close() // only its status counts
			if res.StatusCode != http.StatusAccepted {
				return fmt.Errorf("%s was answered by %s", sender, res.Status)
			}
		}
	}
	return nil
}
