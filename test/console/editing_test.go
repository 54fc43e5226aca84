package console

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
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
	t.Parallel()
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
	t.Parallel()
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
	t.Parallel()
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
	t.Parallel()
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
	assert.Equal(t, http.StatusOK, put(mara, "Board", `{"content":{"a":1},"kept":2}`), "its number is 2")
	assert.Equal(t, http.StatusPreconditionFailed, put(mara, "Board", `{"content":{"a":2},"kept":2}`))
	assert.Equal(t, http.StatusPreconditionFailed, put(mara, "Board", `{"content":{"a":2},"kept":0}`))
	_, _, text = world.Call(t, http.DefaultClient, http.MethodGet, at+"Board", mara, "")
	assert.Contains(t, text, `"a":1`, "what was kept meanwhile stays")
	assert.Equal(t, http.StatusOK, put(mara, "Board", `{"content":{}}`), "who asks for nothing writes over it")
	status, _, _ := world.Call(t, http.DefaultClient, http.MethodDelete, at+"nothing", mara, "")
	assert.Equal(t, http.StatusNoContent, status)
}

// What was read can be changed and saved back, as it came.
func TestWhatWasReadIsSavedBack(t *testing.T) {
	t.Parallel()
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

// A report as it will arrive is shut off: no script of it runs, nothing is fetched, and nobody else frames it.
func TestAFrameIsShutOff(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Notices", "SELECT '<script>alert(1)</script>' AS notice")
	token := w.TokenOf("mara")
	ask := func(token, body string) (*http.Response, string) {
		form := url.Values{"ask": {body}}.Encode()
		req, err := http.NewRequest(http.MethodPost, "http://"+w.Listen+"/api/frame", strings.NewReader(form))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		text, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		require.NoError(t, err)
		return res, string(text)
	}
	for _, format := range []string{"html", "html-mail"} {
		res, text := ask(token, `{"report":"Notices","output":{"format":"`+format+`"}}`)
		require.Equal(t, http.StatusOK, res.StatusCode, text)
		policy := res.Header.Get("Content-Security-Policy")
		assert.Contains(t, policy, "sandbox; default-src 'none'")
		assert.Contains(t, policy, "frame-ancestors 'self'")
		assert.Equal(t, "nosniff", res.Header.Get("X-Content-Type-Options"))
		assert.NotContains(t, text, "<script>")
		assert.Contains(t, text, "&lt;script&gt;")
	}
	for format, shows := range map[string]string{
		"pdf": `<img alt="Page 1 of 1" src="data:image/png;base64,`, "xlsx": "&lt;script&gt;alert(1)&lt;/script&gt;</td>",
		"pptx": "&lt;script&gt;alert(1)&lt;/script&gt;</span>",
	} {
		res, text := ask(token, `{"report":"Notices","output":{"format":"`+format+`"}}`)
		assert.Equal(t, "text/html; charset=utf-8", res.Header.Get("Content-Type"))
		assert.Contains(t, res.Header.Get("Content-Security-Policy"), "sandbox; default-src 'none'")
		assert.Contains(t, text, shows, format)
		assert.NotContains(t, text, "<script")
	}
	res, text := ask(token, `{"report":"Notices","output":{"format":"csv"}}`)
	assert.Contains(t, res.Header.Get("Content-Type"), "text/plain", "text is no page")
	assert.Contains(t, text, "<script>")

	res, _ = ask("", `{"report":"Notices","output":{"format":"html"}}`)
	assert.Equal(t, http.StatusUnauthorized, res.StatusCode)
	for body, says := range map[string]string{
		"": "cannot be read",
		`{"report":"Nothing","output":{"format":"pdf"}}`: "Nothing",
		`{"report":"Notices","output":{"format":"exe"}}`: "exe",
	} {
		res, text = ask(token, body)
		assert.GreaterOrEqual(t, res.StatusCode, 400, body)
		assert.Contains(t, text, says)
	}
}

// Values are told with what each would be by itself, whose that is, and what it comes to; versions
// with what they said; tables as the login may read them.
func TestWhatAnEditorAsks(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Day", "SELECT :day AS day, :port AS port",
		job.Parameter{Name: "day", Type: job.TypeDate, Default: "yesterday", Required: true},
		job.Parameter{Name: "port", Type: job.TypeText, Choices: &job.Choices{SQL: "SELECT code, name FROM ports"}})
	d := world.Definition("Day", "company mail", []string{"csv"}, "a@tarnwick.example")
	d.Values = job.Values{"port": "PE"}
	d.Triggers = []job.Trigger{{
		Timing: job.Timing{Rule: "on day 1 of every month at 06:00"}, Values: job.Values{"day": "start of last month"},
	}}
	w.Job("Days", d)
	token := w.TokenOf("mara")
	call := func(method, path, body string, to any) int {
		status, _, text := world.Call(t, http.DefaultClient, method, "http://"+w.Listen+path, token, body)
		if status == http.StatusOK {
			require.NoError(t, json.Unmarshal([]byte(text), to), text)
		}
		return status
	}
	var asked wire.AskedValues
	require.Equal(t, http.StatusOK, call(http.MethodPost, "/api/jobs/Days/values",
		`{"trigger":0,"date":"2026-12-01T06:00:00Z","values":{"port":"nowhere"}}`, &asked))
	require.Len(t, asked.Values, 2)
	day, port := asked.Values[0], asked.Values[1]
	assert.Equal(t, []any{"trigger", "start of last month", "2026-11-01"}, []any{day.From, day.BySelf, day.Bound.Text[:10]})
	assert.Equal(t, []any{"job", "PE"}, []any{port.From, port.BySelf})
	assert.Len(t, port.Offers, 5)
	assert.Contains(t, port.Trouble, "nowhere")
	assert.Equal(t, http.StatusNotFound, call(http.MethodPost, "/api/jobs/None/values", `{}`, &asked))

	d.Values = job.Values{"port": "EH"}
	w.Job("Days", d)
	var all []job.Saved
	require.Equal(t, http.StatusOK, call(http.MethodGet, "/api/jobs/Days/versions", "", &all))
	require.Len(t, all, 2)
	assert.Equal(t, 2, all[0].Version)
	assert.Equal(t, "Sefa Orlin", all[0].Author)
	var first wire.JobVersion
	require.Equal(t, http.StatusOK, call(http.MethodGet, "/api/jobs/Days/versions/1", "", &first))
	assert.Equal(t, job.Values{"port": "PE"}, first.Definition.Values)
	assert.Equal(t, http.StatusNotFound, call(http.MethodGet, "/api/jobs/Days/versions/9", "", &first))

	var tables []wire.Table
	require.Equal(t, http.StatusOK, call(http.MethodGet, "/api/sources/tarnwick/tables", "", &tables))
	at := slices.IndexFunc(tables, func(x wire.Table) bool { return x.Name == "sailings" })
	require.GreaterOrEqual(t, at, 0)
	assert.Contains(t, tables[at].Columns, wire.TableColumn{Name: "due", Type: "timestamp with time zone"})
	assert.Equal(t, http.StatusUnprocessableEntity, call(http.MethodGet, "/api/sources/nowhere/tables", "", &tables))
}

// A name may hold what addresses are made of, and a job is changed under its name though it was
// found by its number; a draft that somebody else's program has kept breaks no page.
func TestNamesAndDraftsOfAnyKind(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports")
	name := `100% "late"? #1 & Küste 東京`
	w.Job(name, world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	page, err := w.C.Job(context.Background(), name)
	require.NoError(t, err)
	status, _, answer := world.Call(t, http.DefaultClient, http.MethodPut,
		"http://"+w.Listen+"/api/drafts/job/"+url.PathEscape(name), w.TokenOf("mara"),
		`{"content":{"name":"x","value":{},"base":{}}}`)
	require.Equal(t, http.StatusOK, status, answer)
	p := w.Console()
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs/" + strconv.FormatInt(page.ID, 10) + "/change"))
	p.Sees(name)
	p.Press("//main", "Drop the draft")
	p.Sees("How it stands")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs/" + strconv.FormatInt(page.ID, 10) + "/change"))
	p.Sees("Nothing. It can be saved")
	p.Fill("Subject", "Late ones")
	p.Press("//aside", "Save, rings on")
	p.Sees("How it stands")
	saved, err := w.C.Job(context.Background(), name)
	require.NoError(t, err)
	assert.Equal(t, page.ID, saved.ID)
	assert.Equal(t, "Late ones", saved.Tasks[1].Deliver.Subject)
}
