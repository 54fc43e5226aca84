package main

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
)

// pages gives pages that show files of a report as the programs of people who
// get them do. A spreadsheet and a slide need a program of an office; without
// one they are left as they are.
func pages(ctx context.Context, c *client.Client) (map[string]string, error) {
	dir, err := os.MkdirTemp("", "ironbell-shots-")
	if err != nil {
		return nil, fmt.Errorf("make a folder: %w", err)
	}
	defer func() { _ = os.RemoveAll(dir) }() // the machine clears it otherwise
	shown := map[string]string{}
	values := job.Values{"from": "start of last 3 weeks", "to": "end of last 3 weeks"}
	for name, f := range map[string]struct {
		report string
		format string
		page   int
	}{
		"pdf-page": {"Vehicle-deck load", "pdf", 1}, "spreadsheet": {"Sailing punctuality by route", "xlsx", 2},
		"slide": {"Sailing punctuality by route", "pptx", 3},
	} {
		r, err := c.Render(ctx, f.report, wire.RenderRequest{
			LookRequest: wire.LookRequest{Values: values}, Output: job.Output{Format: f.format},
		})
		if err != nil {
			return nil, fmt.Errorf("render %s: %w", name, err)
		}
		path := filepath.Join(dir, name+"."+f.format)
		out, err := os.Create(path) //nolint:gosec // in a folder of our own
		if err == nil {
			_, err = out.ReadFrom(r.Content)
			_ = out.Close() // a picture of half a file would be seen
		}
		_ = r.Content.Close() // only read from
		if err != nil {
			return nil, fmt.Errorf("keep %s: %w", name, err)
		}
		if f.format != "pdf" {
			office, err := exec.LookPath("soffice")
			if err != nil {
				continue
			}
			limited, stop := context.WithTimeout(ctx, 2*time.Minute)
			said, err := exec.CommandContext(limited, office, "-env:UserInstallation=file://"+dir+"/profile", "--headless", "--convert-to", "pdf", "--outdir", dir, path).CombinedOutput() //nolint:gosec // a program of the machine's
			stop()
			if err != nil {
				return nil, fmt.Errorf("open %s: %w: %s", name, err, said)
			}
			path = filepath.Join(dir, name+".pdf")
		}
		page := fmt.Sprint(f.page)
		if said, err := exec.CommandContext(ctx, "pdftoppm", "-png", "-r", "110", "-f", page, "-l", page, "-singlefile", path, filepath.Join(dir, name)).CombinedOutput(); err != nil { //nolint:gosec // a program of the machine's
			return nil, fmt.Errorf("draw %s: %w: %s", name, err, said)
		}
		png, err := os.ReadFile(filepath.Join(dir, name+".png")) //nolint:gosec // in a folder of our own
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", name, err)
		}
		shown[name] = "data:text/html;charset=utf-8;base64," + base64.StdEncoding.EncodeToString([]byte(
			`<h1 style="position:absolute;left:-999px">`+name+
				`</h1><body style="margin:0;background:#8a8579;text-align:center"><img style="height:780px;max-width:1240px;object-fit:contain;margin:10px;box-shadow:0 2px 12px #0006" src="data:image/png;base64,`+base64.StdEncoding.EncodeToString(png)+`">`))
	}
	return shown, nil
}

// newest gives the address of the newest mail in the inbox whose subject begins
// with a text.
func newest(ctx context.Context, inbox, subject string) (string, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, inbox+"/api/messages", nil)
	if err != nil {
		return "", fmt.Errorf("ask the inbox: %w", err)
	}
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return "", fmt.Errorf("ask the inbox: %w", err)
	}
	defer func() { _ = answer.Body.Close() }() // only read from
	var messages []struct {
		ID      int    `json:"id"`
		Subject string `json:"subject"`
	}
	if err := json.NewDecoder(answer.Body).Decode(&messages); err != nil {
		return "", fmt.Errorf("read the inbox: %w", err)
	}
	best := 0
	for _, m := range messages {
		if strings.HasPrefix(m.Subject, subject) {
			best = max(best, m.ID)
		}
	}
	return fmt.Sprintf("%s/messages/%d", inbox, best), nil
}
