package console

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/test/browser"
	"ironbell/test/world"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// audit holds what the page shows now against the rules of accessibility, in both themes.
func audit(t *testing.T, p world.Page, what string) {
	t.Helper()
	axe, err := os.ReadFile(world.Path("console/node_modules/axe-core/axe.min.js"))
	require.NoError(t, err)
	for _, dark := range []bool{true, false} {
		p.Do(browser.Theme(dark))
		p.Audit(axe, fmt.Sprintf("%s, dark %v", what, dark))
	}
}

// focused says what the keyboard is at: its label, its words, or what it is.
const focused = `(() => {
	let e = document.activeElement;
	while (e?.shadowRoot?.activeElement) e = e.shadowRoot.activeElement;
	if (!e || e === document.body) return '';
	if (e.classList.contains('cm-content')) return 'the query';
	const label = e.labels?.[0]?.textContent ?? '';
	return (e.getAttribute('aria-label') || label || e.textContent || e.tagName).trim().replace(/\s+/g, ' ');
})()`

// keys presses keys where the keyboard is.
func keys(p world.Page, text string) { p.Do(chromedp.KeyEvent(text)) }

// tabTo goes on with the tabulator until the keyboard is at something of this beginning.
func tabTo(t *testing.T, p world.Page, want string) {
	t.Helper()
	seen := []string{}
	for range 250 {
		keys(p, kb.Tab)
		at := evaluate[string](t, p, focused)
		if strings.HasPrefix(at, want) {
			return
		}
		seen = append(seen, at)
	}
	t.Fatalf("the tabulator does not come to %q; it comes to %q", want, seen[max(0, len(seen)-60):])
}

// The whole path, from nothing to a job that rings, without a pointer.
func TestTheWholePathByKeyboardAlone(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	p := w.Console()
	at := func() string { return evaluate[string](t, p, focused) }
	enter := func(want string) {
		t.Helper()
		tabTo(t, p, want)
		keys(p, kb.Enter)
	}
	keys(p, kb.Tab)
	assert.Equal(t, "Skip to the page", at(), "the first stop of a page")
	keys(p, kb.Enter)
	assert.Equal(t, "MAIN", evaluate[string](t, p, "document.activeElement.tagName"))

	p.Do(chromedp.Navigate("http://" + w.Listen + "/"))
	p.Sees("Needs attention")
	enter("Reports")
	p.Sees("New report")
	enter("New report")
	p.Sees("As it will arrive")
	tabTo(t, p, "Name")
	keys(p, "Ports of call")
	tabTo(t, p, "the query")
	keys(p, "SELECT name, code FROM ports ORDER BY name")
	p.Sees("Grey Skerry")
	w.Until("the report can be saved", func() bool {
		return evaluate[bool](t, p, `[...document.querySelectorAll('aside button')].some((b) => b.textContent.trim() === 'Save the report' && !b.disabled)`)
	})
	keys(p, kb.Escape) // closes what completes the query, if it is open
	enter("Save the report")
	said := func(sentence string) {
		t.Helper()
		w.Until("it is said that "+sentence, func() bool {
			return strings.Contains(evaluate[string](t, p,
				`[...document.querySelectorAll('[role=status]')].map((e) => e.textContent).join()`), sentence)
		})
	}
	said("The report “Ports of call” is saved.")
	p.Sees("Schedule this")
	enter("Schedule this")
	p.Sees("What will happen")
	tabTo(t, p, "Name")
	keys(p, "Ports")
	tabTo(t, p, "To")
	keys(p, "mara@tarnwick.example"+kb.Enter)
	p.Sees("1 address now")
	tabTo(t, p, "Rule, in words")
	keys(p, "on week")
	p.Sees("weekdays")
	w.Until("the words that fit are offered", func() bool {
		return evaluate[string](t, p, `document.querySelector('[aria-label="Goes on with"] button')?.textContent ?? ''`) == "weekday"
	})
	keys(p, kb.ArrowDown+kb.ArrowRight)
	assert.Equal(t, "weekdays", at())
	keys(p, kb.Enter)
	w.Until("the keyboard is back in the rule", func() bool { return strings.HasPrefix(at(), "Rule, in words") })
	keys(p, " at 06:15")
	p.Sees("On weekdays at 06:15")
	w.Until("the job can be saved", func() bool {
		return evaluate[bool](t, p, `[...document.querySelectorAll('aside button')].some((b) => b.textContent.trim() === 'Save and switch on' && !b.disabled)`)
	})
	enter("Save and switch on")
	p.Sees("When, in London")
	j, err := w.C.Job(context.Background(), "Ports")
	require.NoError(t, err)
	assert.True(t, j.On)
	assert.Equal(t, "on weekdays at 06:15", j.Triggers[0].Rule)

	// A form opens with the keyboard in it, closes by Escape, and gives the keyboard back.
	p = w.ConsoleAs("sefa")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/people"))
	p.Sees("Groups")
	for _, form := range []struct{ button, first string }{{"Add a group", "Name"}, {"Add a post", "Name"}} {
		enter(form.button)
		w.Until("the keyboard is in the form", func() bool { return strings.HasPrefix(at(), form.first) })
		keys(p, kb.Escape)
		w.Until("the keyboard is back", func() bool { return at() == form.button })
	}
	enter("Add a group")
	keys(p, "quay")
	tabTo(t, p, "Members")
	keys(p, "quay.desk@tarnwick.example")
	enter("Save the group")
	said("The group is saved.")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs/Ports"))
	enter("Ring")
	w.Until("a run has begun", func() bool {
		return strings.HasPrefix(evaluate[string](t, p, "location.pathname"), "/runs/")
	})
}

// A rule is put together by clicking, completed and corrected, and its field keeps its place.
func TestARuleIsWrittenWithHelp(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	p := w.Console()
	p.Do(chromedp.Navigate("http://" + w.Listen + "/when"))
	p.Sees("Next rings")
	rule := func() string { return evaluate[string](t, p, "document.querySelector('textarea').value") }
	box := func() string {
		return evaluate[string](t, p, `(() => { const r = document.querySelector('textarea').getBoundingClientRect();
			const s = document.querySelector('[aria-label=Presets]').getBoundingClientRect();
			return [r.x, r.y, r.width, s.x, s.y, s.width].join() })()`)
	}
	before := box()
	for _, text := range []string{"", "e", "every quarter on mon", "on the last open day of every m", "at 9", "* * *", "every day at 06:00"} {
		p.Fill("Rule, in words, as cron or as iCalendar", text)
		w.Until("it is read", func() bool {
			return evaluate[bool](t, p, fmt.Sprintf(`(() => { const bad = document.querySelector('textarea').getAttribute('aria-invalid') === 'true';
				const said = document.querySelector('[aria-live=polite]').innerText;
				return %t ? !bad && said.includes('Every day at 06:00') : bad || %q === '' })()`, text == "every day at 06:00", text))
		})
		assert.Equal(t, before, box(), "nothing moves while %q stands", text)
	}
	p.Press("//main", "Put it together by clicking")
	audit(t, p, "a rule that is put together")
	evaluate[bool](t, p, `(() => { const s = [...document.querySelectorAll('select')].find((s) => [...s.options].some((o) => o.value === 'place'));
		s.value = 'place'; s.dispatchEvent(new Event('input', {bubbles: true})); s.dispatchEvent(new Event('change', {bubbles: true})); return true })()`)
	w.Until("the words are written", func() bool { return rule() == "on the last open day of every month at 06:00" })
	p.Sees("On the last open day of every month at 06:00")
	p.Fill("Rule, in words, as cron or as iCalendar", "at 9")
	p.Press("//main", "Write “09:00”")
	w.Until("it is put right", func() bool { return strings.Contains(rule(), "09:00") })
}

// Somebody who writes in two windows loses in neither.
func TestOnePersonWritesInTwoWindows(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	one, two := w.Console(), w.Console()
	for _, p := range []world.Page{one, two} {
		p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs/Board/change"))
		p.Sees("Nothing. It can be saved")
	}
	subject := func(p world.Page) string {
		return evaluate[string](t, p, `document.querySelector('[data-path$="deliver.subject"] input')?.value ?? ''`)
	}
	one.Fill("Subject", "First")
	one.Sees("Draft kept")
	two.Fill("Subject", "Second")
	two.Sees("in another window meanwhile")
	kept := func() string { return evaluate[string](t, one, `fetch('/api/drafts/job/Board').then((r) => r.text())`) }
	assert.Contains(t, kept(), "First", "what the other window wrote stays until somebody chose")
	two.Press("//main", "Keep what is here")
	two.Sees("Draft kept")
	w.Until("it is kept", func() bool { return strings.Contains(kept(), "Second") })
	one.Fill("Subject", "Third")
	one.Sees("in another window meanwhile")
	one.Press("//main", "Take what is there")
	w.Until("it is there", func() bool { return subject(one) == "Second" })
}

// A chain is drawn by keys and by pulling, and each step can be taken back.
func TestAChainIsDrawn(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	d.Tasks = append(d.Tasks, job.Task{
		Name: "announce", Kind: job.KindEmit, After: []string{"mail"}, Emit: &job.EmitTask{Type: "example.tarnwick.board"},
	})
	w.Job("Board", d)
	p := w.Console()
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs/Board/change"))
	p.Sees("Keys on a task")
	chain := func() map[string][]string {
		out := map[string][]string{}
		text := evaluate[string](t, p, `JSON.stringify(Object.fromEntries([...document.querySelectorAll('svg [data-task]')].map((e) => [e.dataset.task,
			[...document.querySelectorAll('svg title')].map((s) => s.textContent.trim().match(/^(.*?) follows (.*?)(,|$)/)).filter((m) => m && m[1] === e.dataset.task).map((m) => m[2]).sort()])))`)
		require.NoError(t, json.Unmarshal([]byte(text), &out))
		return out
	}
	is := func(want map[string][]string) {
		t.Helper()
		w.Until(fmt.Sprint(want), func() bool { return assert.ObjectsAreEqual(want, chain()) })
	}
	began := map[string][]string{"report": {}, "mail": {"report"}, "announce": {"mail"}}
	is(began)
	audit(t, p, "a chain")
	press := func(task, keyText string) {
		evaluate[bool](t, p, fmt.Sprintf(`(document.querySelector('svg [data-task="%s"]').focus(), true)`, task))
		keys(p, keyText)
	}
	press("mail", "b")
	is(map[string][]string{"report": {}, "mail": {"report"}, "deliver": {"report"}, "announce": {"mail"}})
	press("deliver", "u")
	is(began)
	press("mail", "r")
	is(map[string][]string{"report": {}, "mail": {"report"}, "deliver": {"report"}, "announce": {"mail"}})
	press("deliver", "j")
	p.Sees("Choose the task that is to follow deliver")
	press("announce", kb.Enter)
	is(map[string][]string{"report": {}, "mail": {"report"}, "deliver": {"report"}, "announce": {"deliver", "mail"}})
	press("announce", "p")
	press("mail", kb.Enter)
	is(map[string][]string{"report": {}, "mail": {"report"}, "deliver": {"report"}, "announce": {"deliver"}})
	press("announce", "j")
	press("report", kb.Enter)
	p.Sees("report comes before announce")
	press("deliver", kb.Delete)
	is(map[string][]string{"report": {}, "mail": {"report"}, "announce": {"report"}})

	// A link is pulled from mail to announce.
	var from, to [2]float64
	for script, into := range map[string]*[2]float64{
		`[...document.querySelectorAll('svg circle[role=presentation]')].find((c) => c.textContent.includes('from mail '))`: &from,
		`document.querySelector('svg [data-task=announce]')`:                                                                &to,
	} {
		at := evaluate[string](t, p, `(() => { const e = `+script+`; e.scrollIntoView({block: 'center', behavior: 'instant'}); const r = e.getBoundingClientRect();
			return JSON.stringify([r.x + r.width / 2, r.y + r.height / 2]) })()`)
		require.NoError(t, json.Unmarshal([]byte(at), into))
	}
	at := evaluate[string](t, p, `(() => { const c = [...document.querySelectorAll('svg circle[role=presentation]')].find((c) => c.textContent.includes('from mail ')).getBoundingClientRect();
		const r = document.querySelector('svg [data-task=announce]').getBoundingClientRect();
		return JSON.stringify([[c.x + c.width / 2, c.y + c.height / 2], [r.x + r.width / 2, r.y + r.height / 2]]) })()`)
	ends := [][2]float64{}
	require.NoError(t, json.Unmarshal([]byte(at), &ends))
	from, to = ends[0], ends[1]
	p.Do(chromedp.MouseEvent(chromedp.MousePressed, from[0], from[1], chromedp.ButtonLeft),
		chromedp.MouseEvent(chromedp.MouseMoved, (from[0]+to[0])/2, (from[1]+to[1])/2, chromedp.ButtonLeft),
		chromedp.MouseEvent(chromedp.MouseMoved, to[0], to[1], chromedp.ButtonLeft),
		chromedp.MouseEvent(chromedp.MouseReleased, to[0], to[1], chromedp.ButtonLeft))
	is(map[string][]string{"report": {}, "mail": {"report"}, "announce": {"mail", "report"}})
	for range 4 {
		press("report", "u")
	}
	is(map[string][]string{"report": {}, "mail": {"report"}, "deliver": {"report"}, "announce": {"mail"}})
	press("report", "u")
	is(began)
}

// The forms of a report stand side by side at the press of a key.
func TestFourFormsSideBySide(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Ports", "SELECT name, code FROM ports ORDER BY name")
	p := w.Console()
	p.Do(chromedp.Navigate("http://" + w.Listen + "/reports/Ports/change"))
	p.Sees("As it will arrive")
	evaluate[bool](t, p, "(document.querySelector('main').focus(), true)")
	keys(p, "w")
	w.Until("four forms are there", func() bool {
		return evaluate[int](t, p, "document.querySelectorAll('dialog[open] iframe').length") == 4
	})
	w.Until("all are made", func() bool {
		return evaluate[int](t, p, `[...document.querySelectorAll('dialog iframe')].filter((f) => Number(f.dataset.made) > 0).length`) == 4
	})
	audit(t, p, "four forms")
	keys(p, "w")
	w.Until("they are gone", func() bool { return evaluate[int](t, p, "document.querySelectorAll('dialog[open]').length") == 0 })
	tabTo(t, p, "the query")
	keys(p, "w")
	assert.Equal(t, 0, evaluate[int](t, p, "document.querySelectorAll('dialog[open]').length"), "in a query it is a letter")
}

// Names of any letters and of 200 stand in lists and on small screens without pushing anything aside.
func TestLongNamesStayInTheirPlace(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	long := strings.Repeat("Überfahrten Ærø?#100% & “Grey Skerry” ", 6)[:190] + " end"
	long = strings.ToValidUTF8(long, "")
	unbroken := strings.Repeat("Fahrgastzahlen", 14)
	for _, name := range []string{long, unbroken} {
		w.Report(name, "SELECT code FROM ports")
		w.Job(name, world.Definition(name, "company mail", []string{"csv"}, "a@tarnwick.example"))
		w.Ring(name)
	}
	for n, name := range []string{long, unbroken} {
		_, err := w.C.SaveSender(t.Context(), name, job.SenderDefinition{Note: unbroken, Sends: []job.EventGrant{{Source: "/" + unbroken, Type: "*"}}})
		require.NoError(t, err)
		w.Place(name, "http", "a key", map[string]any{"url": "http://" + w.Outside + "/events"})
		_, err = w.C.SaveSubscription(t.Context(), name, job.SubscriptionDefinition{
			Note: unbroken, Destination: name, Types: []string{"*"}, OnlyIf: "event.type != '" + unbroken + "'",
		})
		require.NoError(t, err)
		_, err = w.C.Report(t.Context(), map[string]any{
			"specversion": "1.0", "id": strconv.Itoa(n), "source": "/" + unbroken, "type": unbroken[:100], "subject": name, "data": name,
		})
		require.NoError(t, err)
	}
	p := w.Console()
	address := func(name string) string { return evaluate[string](t, p, fmt.Sprintf("encodeURIComponent(%q)", name)) }
	paths := []string{"/", "/jobs", "/runs", "/reports", "/deliveries", "/forecast", "/queue", "/events", "/mine", "/sources", "/destinations", "/people"}
	for _, name := range []string{long, unbroken} {
		paths = append(paths, "/jobs/"+address(name), "/jobs/"+address(name)+"/archive", "/jobs/"+address(name)+"/change", "/reports/"+address(name),
			"/reports/"+address(name)+"/change")
	}
	for _, wide := range []int64{1280, 390} {
		p.Do(chromedp.EmulateViewport(wide, 800))
		for _, path := range paths {
			p.Do(chromedp.Navigate("http://" + w.Listen + path))
			w.Until("the page is there", func() bool {
				return evaluate[bool](t, p, `Boolean(document.querySelector('main h1')) && !/Loading/.test(document.querySelector('main').textContent)`)
			})
			over := 0
			for range 4 { // what comes after the heading counts as well
				over = max(over, evaluate[int](t, p, "document.documentElement.scrollWidth - document.documentElement.clientWidth"))
				time.Sleep(100 * time.Millisecond)
			}
			widest := ""
			if over > 0 {
				widest = evaluate[string](t, p, `[...document.querySelectorAll('main *')].sort((a, b) => b.getBoundingClientRect().right - a.getBoundingClientRect().right)
					.slice(0, 3).map((e) => e.outerHTML.slice(0, 160)).join(' | ')`)
			}
			assert.LessOrEqual(t, over, 0, "%d px: %.60s is wider than the screen: %s", wide, path, widest)
			assert.NotContains(t, p.Text(), "There is no such page")
		}
	}
	status, _, _ := world.Call(t, http.DefaultClient, http.MethodGet, "http://"+w.Listen+"/api/jobs/"+address(long), w.TokenOf("mara"), "")
	assert.Equal(t, http.StatusOK, status)
	p.Do(chromedp.EmulateViewport(browser.Width, browser.Height))
}

// lineParams are how slow the browser's line is; see Network.emulateNetworkConditions of its protocol.
type lineParams struct {
	Offline bool    `json:"offline"`
	Latency float64 `json:"latency"` // ms
	Down    float64 `json:"downloadThroughput"`
	Up      float64 `json:"uploadThroughput"`
}

var slowLine = cdp.Command[lineParams, struct{}]{Method: "Network.emulateNetworkConditions"}

// A page that takes long says so, and one that does not come gives a way to go on.
func TestAPageThatDoesNotComeSaysSo(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	p := w.Console()
	told := func(sentence string) {
		t.Helper()
		w.Until(sentence, func() bool {
			return strings.Contains(evaluate[string](t, p,
				`[...document.querySelectorAll('[role=status]')].map((e) => e.textContent).join()`), sentence)
		})
	}
	slow := func(milliseconds float64) browser.Step {
		return chromedp.Func(func(ctx context.Context, tab *chromedp.Target) error {
			_, err := cdp.Call(ctx, tab, slowLine, lineParams{Latency: milliseconds, Down: -1, Up: -1})
			return err
		})
	}
	p.Do(slow(3000))
	evaluate[bool](t, p, `(document.querySelector('nav:not([hidden]) a[href="/destinations"]').click(), true)`)
	told("Loading the page")
	p.Do(slow(0))
	p.Sees("Where results go")
	w.Kill()
	evaluate[bool](t, p, `(document.querySelector('nav:not([hidden]) a[href="/calendars"]').click(), true)`)
	told("The page did not come")
	w.Start()
	p.Press("", "Ask for it again")
	p.Sees("Calendars")
}
