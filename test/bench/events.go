package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"syscall"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/event"
)

// The load of events: how many come at once, and how many times a second.
const (
	eventBatch = 100
	batchesSec = 20  // of a hundred: 2,000 events a second
	singlesSec = 200 // one by one
	startsSec  = 50  // each of which starts a run
)

// events measures how fast events are taken by the service, as a sender sends them: from the moment at which each
// was to be sent to its answer, and from the answer to the start of the run.
func (b *bench) events(ctx context.Context) error {
	c, at, _, err := b.serve(ctx, b.service)
	if err != nil {
		return err
	}
	defer c.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
	admin, err := b.administrator(ctx, b.service, at)
	if err != nil {
		return err
	}
	if _, err := admin.SaveSender(ctx, "Gauges", job.SenderDefinition{
		Sends: []job.EventGrant{{Source: "/gauges", Type: "*"}}, Pace: 1_000_000,
	}); err != nil {
		return err
	}
	made, err := admin.NewSenderKey(ctx, "Gauges", wire.SenderKeyRequest{Kind: job.SenderToken})
	if err != nil {
		return err
	}
	d := job.Definition{
		Zone: "Europe/London", Overlap: job.OverlapTogether,
		Triggers: []job.Trigger{{Wait: &job.Wait{
			For: []job.Condition{{Event: "example.tarnwick.start"}}, Take: job.Values{"n": "{event.data.n}"},
		}}},
		Own: []string{"n"}, Values: job.Values{"n": "0"},
		Tasks: []job.Task{{Name: "tell", Kind: job.KindEmit, Emit: &job.EmitTask{Type: "example.tarnwick.told"}}},
	}
	if _, err := admin.SaveJob(ctx, "Started", wire.JobRequest{On: true, Definition: d}); err != nil {
		return err
	}
	s := &eventLoad{lasts: b.lasts, at: at + "/api/events", token: made.Secret, client: &http.Client{
		Timeout: time.Minute, Transport: &http.Transport{MaxIdleConnsPerHost: 200},
	}}
	floor, err := b.bareEvents(ctx, batchesSec)
	if err != nil {
		return err
	}
	batches, err := s.send(ctx, "b", batchesSec, eventBatch, "example.tarnwick.tide")
	if err != nil {
		return err
	}
	b.took("2,000 events a second in batches: p50 of the answer, against bare SQL", ms(batches, 0.5), ms(floor, 0.5), "ms", "")
	b.took("2,000 events a second in batches: p99 of the answer", ms(batches, 0.99), ms(floor, 0.99), "ms", "100 ms or less")
	fmt.Printf("events: %d a second in batches of %d: answer p50 %.1f ms, p99 %.1f ms (wanted 100); bare SQL's p99 %.1f ms\n",
		batchesSec*eventBatch, eventBatch, ms(batches, 0.5), ms(batches, 0.99), ms(floor, 0.99))
	singles, err := s.send(ctx, "s", singlesSec, 1, "example.tarnwick.tide")
	if err != nil {
		return err
	}
	b.held("200 events a second one by one: p99 of the answer", ms(singles, 0.99), "ms", "50 ms or less")
	fmt.Printf("  %d a second one by one: answer p50 %.1f ms, p99 %.1f ms (wanted 50)\n", singlesSec, ms(singles, 0.5), ms(singles, 0.99))
	if _, err := s.send(ctx, "r", startsSec, 1, "example.tarnwick.start"); err != nil {
		return err
	}
	return b.started(ctx, s)
}

// started tells how long after its answer each run began.
func (b *bench) started(ctx context.Context, s *eventLoad) error {
	time.Sleep(2 * time.Second)
	var waits []time.Duration
	for run, answered := range s.answers {
		var began *time.Time
		if err := b.pool.QueryRow(ctx, `SELECT started_at FROM runs WHERE id = $1`, int64(run)).Scan(&began); err != nil {
			return err
		}
		if began == nil {
			return fmt.Errorf("run %s has not begun", run)
		}
		waits = append(waits, max(0, began.Sub(answered)))
	}
	if len(waits) < startsSec*int(b.lasts.Seconds()) {
		return fmt.Errorf("%d runs were started of %d events", len(waits), startsSec*int(b.lasts.Seconds()))
	}
	b.held("50 events a second that start runs: p99 from answer to start", ms(waits, 0.99), "ms", "100 ms or less")
	fmt.Printf("  %d a second that start runs: from the answer to the start p50 %.1f ms, p99 %.1f ms (wanted 100)\n", startsSec,
		ms(waits, 0.5), ms(waits, 0.99))
	return nil
}

// ms is a quantile in milliseconds.
func ms(all []time.Duration, q float64) float64 {
	slices.Sort(all)
	return 1000 * all[int(q*float64(len(all)-1))].Seconds()
}

// eventLoad sends events at their times, whether earlier ones were answered or not.
type eventLoad struct {
	at, token string
	lasts     time.Duration
	client    *http.Client

	mu      sync.Mutex
	answers map[job.RunID]time.Time // of the runs that were started
}

func (s *eventLoad) send(ctx context.Context, prefix string, perSecond, size int, kind string) ([]time.Duration, error) {
	count := perSecond * int(s.lasts.Seconds())
	took, errs := make([]time.Duration, count), make([]error, count)
	s.answers = map[job.RunID]time.Time{}
	start := time.Now().Add(100 * time.Millisecond)
	var all sync.WaitGroup
	for n := range count {
		due := start.Add(time.Duration(n) * time.Second / time.Duration(perSecond))
		time.Sleep(time.Until(due))
		all.Go(func() {
			errs[n] = s.one(ctx, prefix, n, size, kind)
			took[n] = time.Since(due)
		})
	}
	all.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return took, nil
}

func (s *eventLoad) one(ctx context.Context, prefix string, n, size int, kind string) error {
	batch := make([]map[string]any, size)
	for i := range batch {
		batch[i] = map[string]any{
			"specversion": "1.0", "id": fmt.Sprintf("%s-%d-%d", prefix, n, i), "source": "/gauges", "type": kind,
			"time": time.Now().Format(time.RFC3339Nano), "data": map[string]any{"n": fmt.Sprint(n), "port": "Pennold", "cm": 200 + i},
		}
	}
	media, body := event.BatchMedia, any(batch)
	if size == 1 {
		media, body = event.MediaType, batch[0]
	}
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.at, bytes.NewReader(text))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", media)
	req.Header.Set("Authorization", "Bearer "+s.token)
	res, err := s.client.Do(req)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }() // only read from
	answer, err := io.ReadAll(res.Body)
	if err != nil {
		return err
	}
	now := time.Now()
	if res.StatusCode != http.StatusAccepted {
		return fmt.Errorf("an event was answered by %s: %s", res.Status, answer)
	}
	var heard wire.Heard
	if err := json.Unmarshal(answer, &heard); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, run := range heard.Started {
		s.answers[run] = now
	}
	return nil
}

// bareEvents is how long the database itself takes for a batch of rows, one after another at the same pace.
func (b *bench) bareEvents(ctx context.Context, perSecond int) ([]time.Duration, error) {
	if _, err := b.pool.Exec(ctx, `CREATE TABLE bare_events (LIKE events INCLUDING ALL)`); err != nil {
		return nil, err
	}
	took := make([]time.Duration, perSecond*int(b.lasts.Seconds())/4)
	start := time.Now()
	for n := range took {
		due := start.Add(time.Duration(n) * time.Second / time.Duration(perSecond))
		time.Sleep(time.Until(due))
		if _, err := b.pool.Exec(ctx, `INSERT INTO bare_events (event_id, source, type, time, data)
			SELECT $1 || i, '/gauges', 'example.tarnwick.tide', now(), jsonb_build_object('port', 'Pennold', 'cm', i)
			FROM generate_series(1, $2) i`, fmt.Sprintf("%d-", n), eventBatch); err != nil {
			return nil, err
		}
		took[n] = time.Since(due)
	}
	_, err := b.pool.Exec(ctx, `DROP TABLE bare_events`)
	return took, err
}
