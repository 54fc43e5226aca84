package test

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/browser"
	"ironbell/test/world"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// evaluate runs a script in the page and gives what it comes to.
func evaluate[T any](t *testing.T, p world.Page, script string) T {
	t.Helper()
	found, err := browser.Get(p.Tab, world.Patience, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
	require.NoError(t, err)
	return found
}

// A newcomer makes a first report and its job, by hand and without a word of documentation; each
// press and each key is counted by the page itself.
func TestANewcomersFirstReportAndJob(t *testing.T) {
	w := world.Open(t)
	p := w.Console()
	evaluate[bool](t, p, `(() => {
		window.counted = { clicks: 0, keys: 0, query: 0 };
		addEventListener('mousedown', (e) => { if (e.isTrusted) counted.clicks++; }, true);
		addEventListener('keydown', (e) => {
			if (!e.isTrusted) return;
			if (document.activeElement?.classList.contains('cm-content')) counted.query++; else counted.keys++;
		}, true);
		return true })()`)
	press := func(xpath string) {
		p.Do(chromedp.WaitVisible(chromedp.Search(xpath)), chromedp.Click(chromedp.Search(xpath)))
	}
	write := func(xpath, text string) { p.Do(chromedp.SendKeys(chromedp.Search(xpath), text)) }

	press("//nav[not(@hidden)]//a[normalize-space()='Reports']")
	press("//main//a[normalize-space()='New report']")
	write("//main//label[starts-with(normalize-space(),'Name')]/input", "Ports of call")
	press("//main//*[contains(@class,'cm-content')]")
	write("//main//*[contains(@class,'cm-content')]", "SELECT name, code FROM ports ORDER BY name")
	p.Sees("Grey Skerry")
	press("//aside//button[normalize-space()='Save the report' and not(@disabled)]")
	p.Sees("Read as")
	press("//main//a[normalize-space()='Schedule this']")
	p.Sees("What will happen")
	write("//input[@id='job-name']", "Ports")
	press("//main//button[normalize-space()='Weekdays']")
	write("//input[@aria-label='To']", "mara@tarnwick.example\r")
	p.Sees("1 address now")
	press("//aside//button[normalize-space()='Save and switch on' and not(@disabled)]")
	p.Sees("When, in London")

	j, err := w.C.Job(context.Background(), "Ports")
	require.NoError(t, err)
	assert.True(t, j.On)
	assert.Equal(t, "on weekdays at 06:15", j.Triggers[0].Rule)
	run := w.Ring("Ports")
	assert.Equal(t, job.RunDone, run.State, run.Reason)
	counted := evaluate[map[string]int](t, p, "window.counted")
	t.Logf("%d presses and %d keys beside the query's", counted["clicks"], counted["keys"])
	assert.LessOrEqual(t, counted["clicks"], 25)
	assert.LessOrEqual(t, counted["keys"], 60)
	assert.Positive(t, counted["clicks"])
	assert.Positive(t, counted["query"])
}

// What somebody types outlasts the end of their session, the service itself, and the page.
func TestNothingTypedIsLost(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	p := w.Console()
	subject := func() string {
		return evaluate[string](t, p, `document.querySelector('[data-path$="deliver.subject"] input')?.value ?? ''`)
	}
	kept := func() string {
		var page wire.DraftPage
		res := evaluate[string](t, p, `fetch('/api/drafts/job/Board').then((r) => r.text())`)
		if json.Unmarshal([]byte(res), &page) != nil || page.Draft == nil {
			return ""
		}
		return string(page.Draft.Content)
	}
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs/Board/change"))
	p.Sees("Nothing. It can be saved")
	p.Fill("Subject", "Boats")
	w.Until("the draft is kept", func() bool { return strings.Contains(kept(), `"Boats"`) })
	p.Sees("not saved yet")

	// The session ends in the middle of the form.
	evaluate[bool](t, p, `fetch('/api/session', {method: 'DELETE'}).then(() => true)`)
	p.Fill("Subject", "Boats and ports")
	w.Until("the sign-in stands above the form", func() bool {
		return evaluate[bool](t, p, `Boolean(document.querySelector('dialog[open] input[type=password]'))`)
	})
	assert.Equal(t, "Boats and ports", subject())
	p.Do(chromedp.SendKeys(chromedp.CSS("dialog input[type=password]"), world.Password+"\r"))
	w.Until("it goes on", func() bool { return !evaluate[bool](t, p, `Boolean(document.querySelector('dialog'))`) })
	w.Until("and keeps the draft", func() bool { return strings.Contains(kept(), `"Boats and ports"`) })

	// The service goes away, and comes back.
	w.Kill()
	p.Fill("Subject", "Boats, ports and tides")
	p.Sees("The draft is kept in this tab only")
	p.Sees("The line to the service is broken")
	w.Start()
	w.Until("the page comes back by itself", func() bool {
		return !strings.Contains(p.Text(), "is broken") && strings.Contains(kept(), `"Boats, ports and tides"`)
	})
	assert.Equal(t, "Boats, ports and tides", subject())

	// The page is left, and opened again.
	p.Do(chromedp.Navigate("http://"+w.Listen+"/jobs"), chromedp.Navigate("http://"+w.Listen+"/jobs/Board/change"))
	w.Until("the draft is there", func() bool { return subject() == "Boats, ports and tides" })
	p.Sees("Nothing. It can be saved")
	p.Press("//aside", "Save, rings on")
	p.Sees("How it stands")
	j, err := w.C.Job(ctx, "Board")
	require.NoError(t, err)
	assert.Equal(t, "Boats, ports and tides", j.Tasks[1].Deliver.Subject)
	assert.Empty(t, kept(), "what is saved is no draft any more")
}

// Of two at one job each is told of the other, and the later chooses field by field.
func TestTwoWriteAtOneJob(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	mara, sefa := w.Console(), w.ConsoleAs("sefa")
	for _, p := range []world.Page{mara, sefa} {
		p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs/Board/change"))
		p.Sees("Nothing. It can be saved")
	}
	mara.Fill("Subject", "Hers")
	mara.Sees("Draft kept")
	sefa.Fill("Subject", "His")
	sefa.Sees("Mara Quill writes here, too")
	sefa.Fill("Text", "Good morning.")
	sefa.Sees("Draft kept")
	sefa.Press("//aside", "Save, rings on")
	sefa.Sees("How it stands")

	mara.Press("//aside", "Save, rings on")
	mara.Sees("Sefa Orlin saved this")
	mara.Sees("tasks[mail].deliver.body") // taken, since she left it alone
	mara.Sees("Both of you changed these")
	table := evaluate[string](t, mara, `document.querySelector('section[aria-label="Changed meanwhile"] tbody').innerText`)
	assert.Contains(t, table, "tasks[mail].deliver.subject")
	assert.Contains(t, table, "Hers")
	assert.Contains(t, table, "His")
	mara.Press("//main", "Go on with this")
	mara.Press("//aside", "Save, rings on")
	mara.Sees("How it stands")
	j, err := w.C.Job(ctx, "Board")
	require.NoError(t, err)
	assert.Equal(t, "Hers", j.Tasks[1].Deliver.Subject)
	assert.Equal(t, "Good morning.", j.Tasks[1].Deliver.Body, "and what only the other changed stays")
}

// Drafts are their author's alone, bounded, and of use to nobody else.
func TestDraftsAreTheirAuthorsAlone(t *testing.T) {
	w := world.Open(t)
	mara, joren := w.TokenOf("mara"), w.TokenOf("joren")
	at := "http://" + w.Listen + "/api/drafts/job/"
	put := func(token, key, body string) int {
		status, _, _ := world.Call(t, http.DefaultClient, http.MethodPut, at+key, token, body)
		return status
	}
	require.Equal(t, http.StatusOK, put(mara, "Board", `{"record":"Board","content":{"value":{"zone":"UTC"}}}`))
	_, _, text := world.Call(t, http.DefaultClient, http.MethodGet, at+"Board?record=Board", joren, "")
	assert.NotContains(t, text, "UTC")
	assert.Contains(t, text, "Mara Quill", "others learn that somebody writes, and not what")
	_, _, text = world.Call(t, http.DefaultClient, http.MethodGet, at+"Board?record=Board", mara, "")
	assert.Contains(t, text, "UTC")
	for n := range job.MostDrafts - 1 {
		require.Equal(t, http.StatusOK, put(mara, "new-"+string(rune('a'+n%26))+strings.Repeat("x", n/26), `{"content":{}}`))
	}
	assert.Equal(t, http.StatusUnprocessableEntity, put(mara, "one-more", `{"content":{}}`))
	assert.Equal(t, http.StatusOK, put(mara, "Board", `{"content":{}}`), "the one that is there may be kept anew")
	assert.Equal(t, http.StatusUnprocessableEntity, put(mara, "list", `{"content":[1]}`))
	status, _, _ := world.Call(t, http.DefaultClient, http.MethodDelete, at+"nothing", mara, "")
	assert.Equal(t, http.StatusNoContent, status)
}

// What was read can be changed and saved back, as it came.
func TestWhatWasReadIsSavedBack(t *testing.T) {
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	token := w.TokenOf("mara")
	for _, at := range []string{"/api/jobs/Board", "/api/reports/Ports"} {
		_, _, text := world.Call(t, http.DefaultClient, http.MethodGet, "http://"+w.Listen+at, token, "")
		status, _, answer := world.Call(t, http.DefaultClient, http.MethodPut, "http://"+w.Listen+at, token, text)
		assert.Equal(t, http.StatusOK, status, answer)
	}
}
