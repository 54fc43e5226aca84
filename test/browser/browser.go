// Package browser drives Debian's Chromium without a window, for the tests of
// the console and for the pictures of the documentation.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
)

// ErrMissing says that no Chromium is installed, and what to type.
var ErrMissing = errors.New("no Chromium is installed; type: sudo apt-get install chromium")

// Width and Height of the window.
const (
	Width  = 1280
	Height = 800
)

// Visible is the variable that lets the browser have a window, for whoever looks for a fault.
const Visible = "IRONBELL_VISIBLE"

// starts is how often a browser is started anew that ends at once, as it does now and then on a busy machine.
const starts = 3

// Start opens a browser with an empty profile. stop ends it and forgets the profile.
func Start(ctx context.Context) (tab context.Context, stop func(), err error) {
	for range starts {
		if tab, stop, err = start(ctx); err == nil || errors.Is(err, ErrMissing) {
			break
		}
	}
	return tab, stop, err
}

func start(ctx context.Context) (tab context.Context, stop func(), err error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, ErrMissing
	}
	profile, err := os.MkdirTemp("", "ironbell-browser-*")
	if err != nil {
		return nil, nil, fmt.Errorf("make a profile: %w", err)
	}
	options := append([]chromedp.ExecAllocatorOption{}, chromedp.DefaultExecAllocatorOptions[:]...)
	options = append(options, chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.NoSandbox,
		chromedp.DisableGPU, chromedp.WindowSize(Width, Height))
	if os.Getenv(Visible) != "" {
		options = append(options, chromedp.Flag("headless", false))
	}
	for _, f := range []string{
		"disable-quic", "no-first-run", "disable-background-networking",
		"disable-component-update", "disable-sync", "hide-scrollbars", "force-prefers-reduced-motion",
	} {
		options = append(options, chromedp.Flag(f, true))
	}
	all, stopAll := chromedp.NewExecAllocator(ctx, options...)
	tab, stopTab := chromedp.NewContext(all)
	stop = func() {
		stopTab()
		stopAll()
		_ = os.RemoveAll(profile) // a temporary folder
	}
	// The first call starts the browser; its context must not have a limit.
	if err := chromedp.Do(tab, chromedp.EmulateViewport(Width, Height)); err != nil {
		stop()
		return nil, nil, fmt.Errorf("start Chromium: %w", err)
	}
	return tab, stop, nil
}

// Another opens a window of a browser that runs, which shares nothing with its other windows, as if it had a
// profile of its own. stop closes it.
func Another(running context.Context) (tab context.Context, stop func(), err error) {
	tab, stop = chromedp.NewContext(running, chromedp.WithNewBrowserContext(), chromedp.WithNewWindow(true))
	// The first call opens the window; its context must not have a limit.
	if err := chromedp.Do(tab, chromedp.EmulateViewport(Width, Height)); err != nil {
		stop()
		return nil, nil, fmt.Errorf("open a window of Chromium: %w", err)
	}
	return tab, stop, nil
}

// Step is something done in the browser.
type Step = chromedp.Action[chromedp.Void]

// Do takes steps with a limit for all of them.
func Do(tab context.Context, limit time.Duration, steps ...Step) error {
	ctx, stop := context.WithTimeout(tab, limit)
	defer stop()
	return chromedp.Do(ctx, steps...)
}

// Get asks for a value with a limit.
func Get[T any](tab context.Context, limit time.Duration, ask chromedp.Action[T]) (T, error) {
	ctx, stop := context.WithTimeout(tab, limit)
	defer stop()
	return chromedp.Run(ctx, ask)
}

// Theme makes the page believe that the machine prefers light or dark.
func Theme(dark bool) Step {
	value := "light"
	if dark {
		value = "dark"
	}
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{
				{Name: "prefers-color-scheme", Value: value},
				{Name: "prefers-reduced-motion", Value: "reduce"},
			},
		})
		return err
	})
}

// Ahead turns the clock of the pages that are opened from now on.
func Ahead(by time.Duration) Step {
	script := fmt.Sprintf(`(() => {
		const Real = Date, ahead = %d;
		class Turned extends Real {
			constructor(...given) { given.length ? super(...given) : super(Real.now() + ahead); }
			static now() { return Real.now() + ahead; }
		}
		globalThis.Date = new Proxy(Turned, { apply: () => new Turned().toString() });
	})()`, by.Milliseconds())
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, page.AddScriptToEvaluateOnNewDocument,
			page.AddScriptToEvaluateOnNewDocumentParams{Source: script})
		return err
	})
}

// SignIn signs in at the console.
func SignIn(url, login, password string) Step {
	return chromedp.Steps(chromedp.Navigate(url), chromedp.WaitVisible(chromedp.CSS("input[name=login]")),
		chromedp.SendKeys(chromedp.CSS("input[name=login]"), login),
		chromedp.SendKeys(chromedp.CSS("input[name=password]"), password),
		chromedp.Click(chromedp.CSS("form button")), chromedp.WaitVisible(chromedp.CSS("nav")))
}
