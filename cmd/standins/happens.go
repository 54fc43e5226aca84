package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"ironbell/standin/mail"
)

// deeds are what somebody can let happen by a button on the page: a tide-gauge file arrives, and whatever the demo
// offers beside, which is asked at its address.
type deeds struct {
	folder string
	mu     sync.Mutex
	more   []offered
}

// offered is a deed that another program does.
type offered struct {
	Name    string `json:"name"`
	Title   string `json:"title"`
	Address string `json:"address"`
}

const gaugeDeed = "gauge"

func (d *deeds) all() []mail.Deed {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := []mail.Deed{{Name: gaugeDeed, Title: "Let a tide-gauge file arrive"}}
	for _, o := range d.more {
		out = append(out, mail.Deed{Name: o.Name, Title: o.Title})
	}
	return out
}

// take takes what another program offers, in place of what was offered before.
func (d *deeds) take(w http.ResponseWriter, r *http.Request) {
	var more []offered
	if err := json.NewDecoder(io.LimitReader(r.Body, 100_000)).Decode(&more); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.more = more
}

// happen does what a button says, and shows the page again.
func (d *deeds) happen(w http.ResponseWriter, r *http.Request) {
	if err := d.do(r.Context(), r.PathValue("name")); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

func (d *deeds) do(ctx context.Context, name string) error {
	if name == gaugeDeed {
		return gauge(d.folder)
	}
	address := ""
	d.mu.Lock()
	for _, o := range d.more {
		if o.Name == name {
			address = o.Address
		}
	}
	d.mu.Unlock()
	if address == "" {
		return fmt.Errorf("nobody offers to do %q", name)
	}
	ctx, stop := context.WithTimeout(ctx, 20*time.Second)
	defer stop()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, http.NoBody)
	if err != nil {
		return fmt.Errorf("ask for %q: %w", name, err)
	}
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		return fmt.Errorf("ask for %q: %w", name, err)
	}
	defer func() { _ = res.Body.Close() }() // only read from
	if res.StatusCode >= http.StatusBadRequest {
		said, _ := io.ReadAll(io.LimitReader(res.Body, 2000))
		return fmt.Errorf("it did not happen: %s", strings.TrimSpace(string(said)))
	}
	return nil
}

// gaugeFolder is where the tide gauges' computer lays its files down, on the WebDAV server.
func gaugeFolder(folder string) string { return filepath.Join(folder, "webdav", "gauges", "in") }

// gauge lets a file of the tide gauges arrive: it is written under another name and renamed, as most programs
// do.
func gauge(folder string) error {
	now := time.Now().UTC().Truncate(time.Second)
	name := filepath.Join(gaugeFolder(folder), "gauge-"+now.Format("20060102-150405")+".csv")
	text := "at,port,metres\n"
	for n := range 12 {
		at := now.Add(time.Duration(n-11) * 10 * time.Minute)
		hours := float64(at.Unix()) / 3600
		text += fmt.Sprintf("%s,Pennold,%.2f\n", at.Format("2006-01-02 15:04"), 2.6+1.9*math.Sin(hours*2*math.Pi/12.42))
	}
	if err := os.WriteFile(name+".part", []byte(text), 0o600); err != nil {
		return err
	}
	return os.Rename(name+".part", name)
}
