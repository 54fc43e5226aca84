package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/freeport"
	"ironbell/internal/localpg"
	"ironbell/internal/wallclock"

	"github.com/jackc/pgx/v5"
)

// deed is something that somebody lets happen by a button on the stand-ins' page, and that reaches further than
// the stand-ins do.
type deed struct {
	name, title string
	do          func(ctx context.Context) error
}

// deeds are what the demo lets happen: the ledger office's program reports that a month is closed, with a token of
// its own; and the books of last week, of which the last sailing is missing, become whole.
func deeds(ctx context.Context, c *client.Client, base string, pg *localpg.Server) ([]deed, error) {
	const office = "Ledger office"
	made, err := c.NewSenderKey(ctx, office, wire.SenderKeyRequest{Kind: job.SenderToken})
	if err != nil {
		return nil, fmt.Errorf("make the token of %s: %w", office, err)
	}
	return []deed{
		{"ledger", "Close the ledger", func(ctx context.Context) error {
			_, err := client.New(base, made.Secret).Report(ctx, map[string]any{
				"specversion": "1.0", "id": rand.Text(), "source": "/ledger-office", "type": "example.tarnwick.ledger.closed",
				"time": wallclock.Now().UTC().Format(time.RFC3339), "data": map[string]any{"month": wallclock.Now().UTC().Format("2006-01")},
			})
			return err
		}},
		{"import", "Finish the import of last week's sailings", func(ctx context.Context) error {
			return sailings(ctx, pg, `UPDATE sailings SET left_at = due + interval '2 minutes', arrived_at = due + interval '55 minutes'
				WHERE left_at IS NULL AND cancelled IS NULL`)
		}},
	}, nil
}

// unfinished lets the last sailing of last week be missing in the books, as it is before their import is done.
const unfinished = `UPDATE sailings SET left_at = NULL, arrived_at = NULL WHERE id = (SELECT max(id) FROM sailings
	WHERE cancelled IS NULL AND due < (SELECT date_trunc('week', max(due) + interval '1 day') FROM sailings))`

func sailings(ctx context.Context, pg *localpg.Server, statement string) error {
	conn, err := pgx.Connect(ctx, pg.DSN("tarnwick"))
	if err != nil {
		return fmt.Errorf("connect to the company's database: %w", err)
	}
	defer func() { _ = conn.Close(ctx) }() // nothing is left on it
	if _, err := conn.Exec(ctx, statement); err != nil {
		return fmt.Errorf("change the sailings: %w", err)
	}
	return nil
}

// offer gives the stand-ins' page a button for each deed, until stop is called. Its addresses are known to the page
// alone.
func offer(ctx context.Context, inbox string, all []deed) (stop func(), err error) {
	l, err := freeport.Listen(ctx)
	if err != nil {
		return nil, err
	}
	secret := rand.Text()
	mux := http.NewServeMux()
	var told []map[string]string
	for _, d := range all {
		path := "/" + secret + "/" + d.name
		mux.HandleFunc("POST "+path, func(w http.ResponseWriter, r *http.Request) {
			if err := d.do(r.Context()); err != nil {
				http.Error(w, err.Error(), http.StatusInternalServerError)
			}
		})
		told = append(told, map[string]string{"name": d.name, "title": d.title, "address": "http://" + l.Addr().String() + path})
	}
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(l) }() // it ends by Close
	stop = func() { _ = server.Close() }
	body, err := json.Marshal(told)
	if err == nil {
		err = put(ctx, inbox+"/happens", body)
	}
	if err != nil {
		stop()
		return nil, fmt.Errorf("offer what can happen: %w", err)
	}
	return stop, nil
}

// put sends a request to the stand-ins.
func put(ctx context.Context, address string, body []byte) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodPut, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	_ = res.Body.Close() // only its status counts
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("it answered %s", res.Status)
	}
	return nil
}
