package world

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/test/browser"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Page is a tab of the console, signed in as mara.
type Page struct {
	t   testing.TB
	Tab context.Context //nolint:containedctx // the browser library keeps its tab in one
}

// Console signs in to the console as mara, in a browser of its own.
func (w *World) Console() Page {
	w.T.Helper()
	return w.ConsoleAs("mara")
}

// ConsoleAs signs in as somebody.
func (w *World) ConsoleAs(login string) Page {
	w.T.Helper()
	if _, err := os.Stat(Path("console/dist/index.html")); err != nil {
		w.T.Fatal("the console is not built; type: make console")
	}
	tab, stop, err := window()
	require.NoError(w.T, err)
	complaints := &complaints{}
	require.NoError(w.T, chromedp.Listen(tab, complaints.hear))
	w.T.Cleanup(func() {
		stop()
		assert.Empty(w.T, complaints.all(), "errors in the browser's console")
	})
	p := Page{w.T, tab}
	if w.ahead != 0 {
		p.Do(browser.Ahead(w.ahead))
	}
	p.Do(browser.Theme(false), browser.SignIn("http://"+w.Listen, login, Password))
	return p
}

// running is the one browser of this program: each start costs two seconds of two processors.
var running struct {
	sync.Mutex
	tab  context.Context //nolint:containedctx // the browser library keeps its browser in one
	stop func()
}

// window opens a window of the browser, which is started for the first one, and anew when it has ended.
func window() (context.Context, func(), error) {
	running.Lock()
	defer running.Unlock()
	if running.tab != nil {
		if tab, stop, err := browser.Another(running.tab); err == nil {
			return tab, stop, nil
		}
		running.stop()
		running.tab = nil
	}
	tab, stop, err := browser.Start(context.Background())
	if err != nil {
		return nil, nil, err
	}
	running.tab, running.stop = tab, stop
	return browser.Another(tab)
}

// endBrowser ends the browser of this program.
func endBrowser() {
	running.Lock()
	defer running.Unlock()
	if running.tab != nil {
		running.stop()
		running.tab = nil
	}
}

// complaints are the errors that a browser writes to its console: exceptions that nobody caught,
// what scripts called errors, and what the content policy stopped. What the network answered is told
// on the page itself, and tests break lines on purpose.
type complaints struct {
	mu    sync.Mutex
	heard []string
}

func (c *complaints) hear(event any) {
	var text string
	switch e := event.(type) {
	case *runtime.EventExceptionThrown:
		text = e.ExceptionDetails.Text
		if thrown := e.ExceptionDetails.Exception; thrown != nil {
			text += " " + thrown.Description
		}
	case *runtime.EventConsoleAPICalled:
		if e.Type != runtime.ConsoleAPICalledTypeError {
			return
		}
		for _, a := range e.Args {
			text += " " + string(a.Value) + a.Description
		}
	case *log.EventEntryAdded:
		if e.Entry.Level != log.EntryLevelError || e.Entry.Source == log.EntrySourceNetwork {
			return
		}
		text = fmt.Sprintf("%s: %s", e.Entry.Source, e.Entry.Text)
	default:
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.heard = append(c.heard, text)
}

func (c *complaints) all() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.heard
}

// In is the same tab for a part of a test.
func (p Page) In(t testing.TB) Page { return Page{t, p.Tab} }

// Do takes steps in the tab.
func (p Page) Do(steps ...browser.Step) {
	p.t.Helper()
	require.NoError(p.t, browser.Do(p.Tab, Patience, steps...))
}

// Text is what the page says.
func (p Page) Text() string {
	p.t.Helper()
	// By a script: a node that was found may be gone when it is read.
	text, err := browser.Get(p.Tab, Patience,
		chromedp.Evaluate[string](`document.querySelector('main')?.innerText ?? ''`, chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	return strings.Join(strings.Fields(text), " ")
}

// Sees waits until the page says something.
func (p Page) Sees(want string) {
	p.t.Helper()
	end := time.Now().Add(Patience)
	for !strings.Contains(p.Text(), want) {
		if time.Now().After(end) {
			p.t.Fatalf("the page does not say %q; it says: %s", want, p.Text())
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// Click clicks a button by its words.
func (p Page) Click(button string) {
	p.t.Helper()
	p.Do(chromedp.Click(chromedp.Search(fmt.Sprintf("//main//button[normalize-space()=%q]", button))))
}

// Audit holds a page against the rules of accessibility.
func (p Page) Audit(axe []byte, what string) {
	p.t.Helper()
	_, err := browser.Get(p.Tab, Patience, chromedp.Evaluate[bool](string(axe)+";true"))
	require.NoError(p.t, err)
	text, err := browser.Get(p.Tab, time.Minute,
		// Colours are held against each other as they are in the end, not while they change.
		chromedp.Evaluate[string](`document.getAnimations().forEach((a) => { try { a.finish() } catch { /* it goes on for ever */ } });
			axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']}).then(r => JSON.stringify(r.violations))`, chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	var found []finding
	require.NoError(p.t, json.Unmarshal([]byte(text), &found))
	for _, f := range found {
		for _, n := range f.Nodes {
			p.t.Errorf("%s: %s: %s\n%s\n%s", what, f.ID, f.Help, n.HTML, n.Summary)
		}
	}
}

// finding is what the accessibility check complains of.
type finding struct {
	ID    string `json:"id"`
	Help  string `json:"help"`
	Nodes []struct {
		HTML    string `json:"html"`
		Summary string `json:"failureSummary"`
	} `json:"nodes"`
}

// Fill writes into the field of a label, as a person would, once it is there.
func (p Page) Fill(label, value string) {
	p.t.Helper()
	l, err := json.Marshal(label)
	require.NoError(p.t, err)
	v, err := json.Marshal(value)
	require.NoError(p.t, err)
	script := fmt.Sprintf(`(() => {
		const l = [...document.querySelectorAll('main label')].find((l) => l.textContent.trim() === %[1]s);
		const f = l && document.getElementById(l.htmlFor);
		if (!f || f.tagName === 'SELECT' && ![...f.options].some((o) => o.value === %[2]s)) return false;
		f.value = %[2]s;
		f.dispatchEvent(new Event('input', {bubbles: true}));
		f.dispatchEvent(new Event('change', {bubbles: true}));
		return f.value === %[2]s || f.tagName === 'SELECT' })()`, l, v)
	for end := time.Now().Add(Patience); ; time.Sleep(100 * time.Millisecond) {
		done, err := browser.Get(p.Tab, Patience, chromedp.Evaluate[bool](script))
		require.NoError(p.t, err)
		if done {
			return
		}
		if time.Now().After(end) {
			p.t.Fatalf("there is no field %q; the page says: %s", label, p.Text())
		}
	}
}

// Press presses a button inside of what an XPath finds, once it can be pressed. It
// does not aim: pages move while answers come in.
func (p Page) Press(inside, button string) {
	p.t.Helper()
	path, err := json.Marshal(fmt.Sprintf("%s//button[normalize-space()=%q]", inside, button))
	require.NoError(p.t, err)
	script := fmt.Sprintf(`(() => {
		const b = document.evaluate(%s, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue;
		if (!b || b.disabled) return false;
		b.click();
		return true })()`, path)
	for end := time.Now().Add(Patience); ; time.Sleep(100 * time.Millisecond) {
		done, err := browser.Get(p.Tab, Patience, chromedp.Evaluate[bool](script))
		require.NoError(p.t, err)
		if done {
			return
		}
		if time.Now().After(end) {
			p.t.Fatalf("the button %q cannot be pressed; the page says: %s", button, p.Text())
		}
	}
}

// Browser signs in as a browser does.
func (w *World) Browser(login, secret, from string) (*http.Client, int) {
	w.T.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(w.T, err)
	c := &http.Client{Jar: jar}
	body, err := json.Marshal(wire.Credentials{Login: login, Password: secret})
	require.NoError(w.T, err)
	req, err := http.NewRequest(http.MethodPost, "http://"+w.Listen+"/api/session", strings.NewReader(string(body)))
	require.NoError(w.T, err)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "Quay browser")
	if from != "" {
		req.Header.Set("X-Forwarded-For", from)
	}
	res, err := c.Do(req)
	require.NoError(w.T, err)
	_ = res.Body.Close()
	return c, res.StatusCode
}

// Live opens a line of notices.
func (w *World) Live(c *http.Client) *http.Response {
	w.T.Helper()
	res, err := c.Get("http://" + w.Listen + "/api/live")
	require.NoError(w.T, err)
	return res
}

//go:embed making.js
var making string

// Make makes a report or a job in its editor, from the empty sheet at an address to its own page:
// it fills in what the record says, and presses a button.
func (p Page) Make(address, kind, name string, record map[string]any, press, page string) {
	p.t.Helper()
	text, err := json.Marshal(record)
	require.NoError(p.t, err)
	title, err := json.Marshal(name)
	require.NoError(p.t, err)
	here, err := browser.Get(p.Tab, Patience, chromedp.Evaluate[string]("location.origin"))
	require.NoError(p.t, err)
	// What an earlier attempt has left is not gone on with.
	_, err = browser.Get(p.Tab, Patience, chromedp.Evaluate[bool](fmt.Sprintf(
		`fetch('/api/drafts/%s/a%%20new%%20%s', {method: 'DELETE'}).then((r) => r.ok)`, kind, kind),
		chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	p.Do(chromedp.Navigate(here + address))
	ask := fmt.Sprintf(`%s; (async () => {
		const { making } = window;
		try {
			await making.until('the sheet', () => document.querySelector('[data-path=name]'));
			await making.%s(%s, %s);
			const button = await making.until('the button', () => {
				const found = making.button(%q);
				return found && !found.disabled ? found : undefined;
			});
			button.click();
			await making.until('the page of what was made', () => location.pathname === %q + encodeURIComponent(%s) ||
				decodeURIComponent(location.pathname) === %q + %s);
			return '';
		} catch (error) {
			return error.message + '\n' + document.querySelector('main').innerText.slice(0, 200) + '\n' +
				[...document.querySelectorAll('aside .flag, [role=alert]')].map((f) => f.parentElement.innerText).join('\n');
		}
	})()`, making, kind, title, text, press, page, title, page, title)
	trouble, err := browser.Get(p.Tab, Patience, chromedp.Evaluate[string](ask, chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	require.Empty(p.t, trouble, "%s could not be made on screen", name)
}
