// Command shots takes the pictures of docs/screenshots from a demo that runs:
//
//	make demo            in one terminal, for a few minutes
//	make screenshots     in another
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"html"
	neturl "net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/test/browser"

	"github.com/chromedp/chromedp"
)

func main() {
	out := flag.String("out", "docs/screenshots", "`folder` for the pictures")
	state := flag.String("demo", ".demo", "`folder` of the demo's state")
	url := flag.String("url", "http://127.0.0.1:8321", "`address` of the console")
	inbox := flag.String("inbox", "http://127.0.0.1:8325", "`address` of the inbox")
	only := flag.String("only", "", "take only the picture of this `name`")
	flag.Parse()
	if err := run(*out, *state, *url, *inbox, *only); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

// terminal is a page that shows what a command printed.
func terminal(command string, said []byte) string {
	return `<!doctype html><meta charset="utf-8"><h1 hidden></h1><body style="margin:0;background:#1b1e21;color:#ece7db;font:13px/1.45 'DejaVu Sans Mono',monospace"><pre style="white-space:pre-wrap;padding:16px 20px;margin:0;font:inherit">` +
		`<b style="color:#dba95f">$</b> ironbell ` + html.EscapeString(command) + "\n" +
		html.EscapeString(string(said)) + `</pre></body>`
}

func run(out, state, url, inbox, only string) error {
	var secrets struct{ People, Token string }
	text, err := os.ReadFile(filepath.Join(state, "secrets.json")) //nolint:gosec // named by who runs it
	if err != nil {
		return fmt.Errorf("the demo does not run: %w", err)
	}
	if err := json.Unmarshal(text, &secrets); err != nil {
		return fmt.Errorf("read the demo's state: %w", err)
	}
	ctx := context.Background()
	c := client.New(url, secrets.Token)
	for name, value := range map[string]string{"IRONBELL_URL": url, "IRONBELL_TOKEN": secrets.Token} {
		if err := os.Setenv(name, value); err != nil {
			return fmt.Errorf("prepare the client: %w", err)
		}
	}
	shown, err := c.Runs(ctx, client.RunFilter{Job: "Passenger manifest file", States: []string{"failed"}, Limit: 1})
	if err != nil {
		return fmt.Errorf("ask the demo: %w", err)
	}
	if len(shown) == 0 {
		return fmt.Errorf("no run of the passenger manifest has failed yet; let the demo run for a few minutes")
	}
	job := fmt.Sprint(shown[0].JobID)
	said := func(args ...string) (string, error) {
		text, err := exec.CommandContext(ctx, "bin/ironbell", args...).Output() //nolint:gosec // our own program
		if err != nil {
			return "", fmt.Errorf("run the client: %w", err)
		}
		words := make([]string, len(args))
		for i, a := range args {
			if words[i] = a; strings.Contains(a, " ") {
				words[i] = fmt.Sprintf("%q", a)
			}
		}
		command := strings.Join(words, " ")
		return "data:text/html;charset=utf-8," + neturl.PathEscape(terminal(command, text)), nil
	}
	ran, err := said("run", "-log", shown[0].ID.String())
	if err != nil {
		return err
	}
	from, to := time.Now().AddDate(0, 0, 3), time.Now().AddDate(0, 0, 4)
	whatIf, err := said("freeze", "-try", "-from", from.Format(time.DateOnly)+" 18:00", "-to", to.Format(time.DateOnly)+" 08:00",
		"-reason", "the server moves", "source:tarnwick")
	if err != nil {
		return err
	}
	if err := outside(ctx, c, url); err != nil {
		return err
	}
	files, err := pages(ctx, c)
	if err != nil {
		return err
	}
	loaded, err := c.Ring(ctx, "Vehicle-deck load", nil)
	if err != nil {
		return fmt.Errorf("ring: %w", err)
	}
	if _, err := c.Follow(ctx, loaded.ID, func(wire.RunPage) error { return nil }); err != nil {
		return fmt.Errorf("follow the run: %w", err)
	}
	body, err := newest(ctx, inbox, "Vehicle decks")
	if err != nil {
		return err
	}
	alert, err := newest(ctx, inbox, "Not delivered")
	if err != nil {
		return err
	}
	week := time.Now().AddDate(0, 0, 5).Format(time.DateOnly)
	if err := os.MkdirAll(out, 0o755); err != nil { //nolint:gosec // pictures for everybody
		return fmt.Errorf("make the folder: %w", err)
	}
	tab, stop, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer stop()
	if err := browser.Do(tab, 20*time.Second, browser.Theme(false),
		browser.SignIn(url, "mara", secrets.People)); err != nil {
		return fmt.Errorf("sign in: %w", err)
	}
	for _, s := range []struct {
		name, at string
		dark     bool
	}{
		{"today", url + "/", false},
		{"mine", url + "/mine", false},
		{"jobs", url + "/jobs", false},
		{"job", url + "/jobs/" + job, false},
		{"run", url + "/runs/" + shown[0].ID.String(), false},
		{"client-run", ran, true},
		{"client-what-if", whatIf, true},
		{"forecast", url + "/forecast?from=" + week, false},
		{"events", url + "/events", false},
		{"deliveries", url + "/deliveries", false},
		{"alert-mail", alert, false},
		{"report", url + "/reports/Sailing%20punctuality%20by%20route", false},
		{"report-editor", url + "/reports/Sailing%20punctuality%20by%20route/change", false},
		{"job-editor", url + "/jobs/Sailing%20punctuality%20by%20route/change", false},
		{"chain", url + "/jobs/Monday%20page/change", false},
		{"mail-body", body, false},
		{"pdf-page", files["pdf-page"], false},
		{"spreadsheet", files["spreadsheet"], false},
		{"slide", files["slide"], false},
	} {
		if only != "" && only != s.name || s.at == "" {
			continue
		}
		if err := browser.Do(tab, 20*time.Second, browser.Theme(s.dark), chromedp.Navigate(s.at),
			chromedp.WaitReady(chromedp.CSS("h1")), chromedp.Sleep(3500*time.Millisecond)); err != nil {
			return fmt.Errorf("open %s: %w", s.name, err)
		}
		png, err := browser.Get(tab, 20*time.Second, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("take %s: %w", s.name, err)
		}
		if err := os.WriteFile(filepath.Join(out, s.name+".png"), png, 0o644); err != nil { //nolint:gosec // a picture for everybody
			return fmt.Errorf("keep %s: %w", s.name, err)
		}
	}
	return nil
}
