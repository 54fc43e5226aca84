package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/freeport"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/store/sending"

	"github.com/emersion/go-smtp"
)

// discard is a mail server that takes everything and keeps nothing, so that both
// sides of the comparison speak to the same one.
type discard struct{ taken *atomic.Int64 }

func (d discard) NewSession(*smtp.Conn) (smtp.Session, error) { return d, nil }
func (discard) Mail(string, *smtp.MailOptions) error          { return nil }
func (discard) Rcpt(string, *smtp.RcptOptions) error          { return nil }
func (discard) Reset()                                        {}
func (discard) Logout() error                                 { return nil }

func (d discard) Data(r io.Reader) error {
	_, err := io.Copy(io.Discard, r)
	d.taken.Add(1)
	return err
}

// handOver measures handing mails with 50 KB attached over to many recipients, against
// the bare library over as many reused connections; and what a dead destination
// costs the others.
func (b *bench) handOver(ctx context.Context) error {
	n := b.mails
	server := smtp.NewServer(discard{&b.taken})
	server.AllowInsecureAuth = true
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer func() { _ = server.Close() }() // everything has arrived
	go func() { _ = server.Serve(l) }()   // ends when it is closed
	address := l.Addr().String()
	files, err := artifact.OpenFolder(b.dir + "/artifacts")
	if err != nil {
		return err
	}
	raw, kept, err := letter(ctx, files)
	if err != nil {
		return err
	}
	// The machine's speed wanders: the floor is measured on both sides of what it is
	// compared with.
	first, err := bareMails(address, raw, n)
	if err != nil {
		return err
	}
	live, dead, err := b.mailPlaces(ctx, address)
	if err != nil {
		return err
	}
	b.taken.Store(0)
	before := resident()
	few, _, err := b.sendMails(ctx, live, kept, n/10, 0)
	if err != nil {
		return err
	}
	between := resident()
	rate, p99, err := b.sendMails(ctx, live, kept, n, 0)
	if err != nil {
		return err
	}
	arrived, after := b.taken.Load(), resident()
	second, err := bareMails(address, raw, n)
	if err != nil {
		return err
	}
	bare := 2 / (1/first + 1/second)
	b.made("mails of 50 KB handed over, against the bare library", rate, bare, "a second", "0.60 or more")
	fmt.Printf("\nmails of %d KB over %d lines: the bare library %.0f a second (%.0f before, %.0f after)\n",
		len(raw)/1000, workers, bare, first, second)
	fmt.Printf("  handed over and recorded: %.0f a second for %d, %.0f for %d: %.2f of the bare library (0.60 wanted)\n", few, n/10, rate, n, rate/bare)
	fmt.Printf("  memory: %d MB before, %d MB after %d, %d MB after %d (10 MB more wanted at most)\n", before, between,
		n/10, after, n)
	if arrived != int64(n+n/10) {
		return fmt.Errorf("%d mails arrived in place of %d", arrived, n+n/10)
	}
	b.held(fmt.Sprintf("memory that %d more mails take", n-n/10), float64(after-between), "MB", "10 MB or less")
	if b.quick {
		return nil
	}
	_, alone, err := b.sendMails(ctx, live, kept, n/4, 0)
	if err != nil {
		return err
	}
	_, beside, err := b.sendMails(ctx, live, kept, n/4, dead)
	if err != nil {
		return err
	}
	b.took("p99 from ready to sent beside a dead destination, against alone", 1000*beside.Seconds(), 1000*alone.Seconds(), "ms", "1.20 or less")
	fmt.Printf("  p99 from ready to sent of %d: %s alone, %s beside %d that wait for a dead destination: %.2f (1.20 "+
		"wanted at most); of %d alone %s\n",
		n/4, alone.Round(time.Millisecond), beside.Round(time.Millisecond), waitingDead,
		beside.Seconds()/alone.Seconds(), n, p99.Round(time.Millisecond))
	return nil
}

const waitingDead = 5000

// letter composes a mail with 50 KB attached and keeps it.
func letter(ctx context.Context, files *artifact.Folder) ([]byte, artifact.Kept, error) {
	content := bytes.Repeat([]byte("Tarnwick Quay;Ellerhaven;06:15;on time;310\r\n"), 50_000/44)
	var raw bytes.Buffer
	file, err := files.Create()
	if err != nil {
		return nil, artifact.Kept{}, err
	}
	if err := deliver.Compose(ctx, io.MultiWriter(&raw, file), deliver.Letter{
		MessageID: "bench@tarnwick.example", From: "Iron Bell <bell@tarnwick.example>", Subject: "Departures",
		Plain: "Departures of all ports.", Date: time.Now(),
		Attachments: []deliver.Attachment{{
			Name: "departures.csv", MediaType: "text/csv", Size: int64(len(content)),
			Open: func(context.Context) (io.ReadSeekCloser, error) {
				return open50{bytes.NewReader(content)}, nil
			},
		}},
	}); err != nil {
		return nil, artifact.Kept{}, err
	}
	kept, err := file.Keep()
	return raw.Bytes(), kept, err
}

type open50 struct{ *bytes.Reader }

func (open50) Close() error { return nil }

// bareMails sends with the library alone and gives mails a second.
func bareMails(address string, raw []byte, n int) (float64, error) {
	began := time.Now()
	var all sync.WaitGroup
	var failed atomic.Value
	for w := range workers {
		all.Go(func() {
			c, err := smtp.Dial(address)
			if err != nil {
				failed.Store(err)
				return
			}
			defer func() { _ = c.Close() }() // everything was answered
			for i := w; i < n; i += workers {
				if err := c.SendMail("bell+d1@tarnwick.example",
					[]string{"reader" + strconv.Itoa(i) + "@tarnwick.example"}, bytes.NewReader(raw)); err != nil {
					failed.Store(err)
					return
				}
			}
		})
	}
	all.Wait()
	if err, ok := failed.Load().(error); ok {
		return 0, err
	}
	return float64(n) / time.Since(began).Seconds(), nil
}

// mailPlaces saves a destination that works and one that does not.
func (b *bench) mailPlaces(ctx context.Context, address string) (live, dead int64, err error) {
	port := func(address string) string { return address[len("127.0.0.1:"):] }
	free, err := freeport.Find(ctx)
	if err != nil {
		return 0, 0, err
	}
	nobody := fmt.Sprintf("127.0.0.1:%d", free)
	for at, to := range map[string]*int64{address: &live, nobody: &dead} {
		if *to, err = b.store.PutPlace(ctx, records.Destination, records.Place{
			Name: "mail " + at, Protocol: "smtp",
			Settings: []byte(fmt.Sprintf(`{"host":"127.0.0.1","port":%s,"security":"none","from":"bell@tarnwick.example"}`, port(at))),
		}); err != nil {
			return 0, 0, err
		}
	}
	return live, dead, nil
}

// sendMails lets a node hand one message over to n recipients, beside what waits
// for a dead destination, and gives deliveries a second and the p99 of the time
// from being ready to being sent.
func (b *bench) sendMails(ctx context.Context, live int64, kept artifact.Kept, n int,
	dead int64,
) (rate float64, p99 time.Duration, err error) {
	run := job.RunID(time.Now().UTC().Year()%100*100+int(time.Now().UTC().Month()))*10_000_000_000 +
		job.RunID(time.Now().UnixMilli()%1_000_000_000)
	freeze := func(destination int64, n int) error {
		to := make([]sending.Recipient, n)
		for i := range to {
			to[i].Address = fmt.Sprintf("reader%d@tarnwick.example", i)
		}
		giveUp := time.Now().Add(time.Hour)
		return b.store.Do(ctx, func(t *store.Tx) error {
			_, err := t.PutMessage(ctx, sending.NewMessage{
				Message: job.Message{
					RunID: &run, Part: 1, Task: "mail", MessageID: "<bench@tarnwick.example>", Subject: "Departures",
					DestinationID: destination, Key: kept.Key, Size: kept.Size, SHA256: kept.SHA256,
				},
				To: to, GiveUpAt: &giveUp, IfUnknown: job.UnknownAsk,
			})
			return err
		})
	}
	if dead != 0 {
		if err := freeze(dead, waitingDead); err != nil {
			return 0, 0, err
		}
	}
	if err := freeze(live, n); err != nil {
		return 0, 0, err
	}
	if err := b.tidy(ctx, "deliveries, messages"); err != nil {
		return 0, 0, err
	}
	e, err := b.engine()
	if err != nil {
		return 0, 0, err
	}
	working, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	already, began := b.taken.Load(), time.Now()
	go func() {
		defer close(ended)
		e.Run(working)
	}()
	// Counting rows costs a good part of a core: it begins once all have arrived.
	for due := already + int64(n); b.taken.Load() < due && time.Since(began) < 10*time.Minute; {
		time.Sleep(20 * time.Millisecond)
	}
	open := 1
	for open > 0 && err == nil {
		time.Sleep(20 * time.Millisecond)
		err = b.pool.QueryRow(ctx,
			`SELECT count(*) FROM deliveries WHERE run_id = $1 AND destination_id = $2 AND state <> 'sent'`, run,
			live).Scan(&open)
	}
	took := time.Since(began)
	stop()
	<-ended
	if err != nil {
		return 0, 0, err
	}
	var seconds float64
	if err := b.pool.QueryRow(ctx,
		`SELECT percentile_cont(0.99) WITHIN GROUP (ORDER BY extract(epoch FROM settled_at - $3::timestamptz)) FROM deliveries WHERE run_id = $1 AND destination_id = $2`, run, live, began).Scan(&seconds); err != nil {
		return 0, 0, err
	}
	if _, err := b.pool.Exec(ctx, `UPDATE deliveries SET state = 'failed' WHERE run_id = $1 AND state <> 'sent'`,
		run); err != nil {
		return 0, 0, err
	}
	if _, err := b.pool.Exec(ctx, `UPDATE destinations SET rests_since = NULL`); err != nil {
		return 0, 0, err
	}
	return float64(n) / took.Seconds(), time.Duration(seconds * float64(time.Second)), nil
}

// resident is the memory of this program in MB.
func resident() int {
	bytes, err := memory(os.Getpid())
	if err != nil {
		return 0
	}
	return bytes / 1_000_000
}
