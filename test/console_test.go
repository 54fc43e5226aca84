package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/test/browser"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// page is a tab of the console, signed in as mara.
type page struct {
	t   *testing.T
	tab context.Context //nolint:containedctx // the browser library keeps its tab in one
}

func console(t *testing.T, w *world) page {
	t.Helper()
	return consoleAs(t, w, "mara")
}

func consoleAs(t *testing.T, w *world, login string) page {
	t.Helper()
	if _, err := os.Stat("../console/dist/index.html"); err != nil {
		t.Fatal("the console is not built; type: make console")
	}
	tab, stop, err := browser.Start(context.Background())
	require.NoError(t, err)
	t.Cleanup(stop)
	p := page{t, tab}
	p.do(browser.Theme(false), browser.SignIn("http://"+w.listen, login, password))
	return p
}

func (p page) do(steps ...browser.Step) {
	p.t.Helper()
	require.NoError(p.t, browser.Do(p.tab, patience, steps...))
}

func (p page) text() string {
	p.t.Helper()
	text, err := browser.Get(p.tab, patience, chromedp.Text(chromedp.CSS("main")))
	require.NoError(p.t, err)
	return strings.Join(strings.Fields(text), " ")
}

// sees waits until the page says something.
func (p page) sees(want string) {
	p.t.Helper()
	end := time.Now().Add(patience)
	for !strings.Contains(p.text(), want) {
		if time.Now().After(end) {
			p.t.Fatalf("the page does not say %q; it says: %s", want, p.text())
		}
		time.Sleep(100 * time.Millisecond)
	}
}

func (p page) click(button string) {
	p.t.Helper()
	p.do(chromedp.Click(chromedp.Search(fmt.Sprintf("//main//button[normalize-space()=%q]", button))))
}

// audit holds a page against the rules of accessibility.
func (p page) audit(axe []byte, what string) {
	p.t.Helper()
	_, err := browser.Get(p.tab, patience, chromedp.Evaluate[bool](string(axe)+";true"))
	require.NoError(p.t, err)
	text, err := browser.Get(p.tab, time.Minute,
		chromedp.Evaluate[string](`axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']}).then(r => JSON.stringify(r.violations))`, chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	var found []finding
	require.NoError(p.t, json.Unmarshal([]byte(text), &found))
	for _, f := range found {
		for _, n := range f.Nodes {
			p.t.Errorf("%s: %s: %s\n%s\n%s", what, f.ID, f.Help, n.HTML, n.Summary)
		}
	}
}

func TestTheConsole(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Ports", `SELECT pg_sleep(1)::text AS "Nap", code AS "Code" FROM (SELECT code FROM ports LIMIT 1) p`)
	d := definition("Ports", "company mail", []string{"csv", "html-mail"}, "quay.desk@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "15 6 * * 1-5"}}}
	w.job("Quay board", d)
	manifest := definition("Ports", "harbour authority mail", []string{"csv"}, "m@harbour-authority.test")
	manifest.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "5 * * * *"}}}
	w.job("Manifest", manifest)
	_, err := w.c.SaveJob(ctx, "Not hers", withOwner("joren", d))
	require.NoError(t, err)
	w.behave("authority", "refuse", 0)
	p := console(t, w)

	p.sees("Nothing needs attention")
	p.sees("Manifest")
	p.do(chromedp.Navigate("http://" + w.listen + "/jobs?search=quay"))
	p.sees("1 of 3")
	assert.Contains(t, p.text(), "on weekdays at 06:15")
	p.do(chromedp.Click(chromedp.Search("//a[normalize-space()='Quay board']")))
	p.sees("When, in London")
	assert.Contains(t, p.text(), "Next rings")

	// Ring now leads to the run, which changes before one's eyes.
	p.click("Ring now")
	p.sees("Why it rang. Rung by Mara Quill.")
	p.sees("running")
	p.sees("done: delivered to 1 of 1")
	p.sees("queued")
	p.sees("1 rows")
	require.Len(t, w.inbox("quay.desk@tarnwick.example"), 1)
	runs, err := w.c.Runs(ctx, client.RunFilter{Job: "Quay board"})
	require.NoError(t, err)
	address, err := browser.Get(p.tab, patience, chromedp.Location())
	require.NoError(t, err)
	assert.Equal(t, "http://"+w.listen+"/runs/"+runs[0].ID.String(), address, "the address holds the page's state")

	// A failure shows on Today without a reload, and can be acknowledged.
	p.do(chromedp.Navigate("http://" + w.listen + "/"))
	p.sees("Nothing needs attention")
	failed := w.ring("Manifest")
	assert.Equal(t, job.RunFailed, failed.State)
	p.sees("550 5.1.1 No such mailbox")
	marks, err := browser.Get(p.tab, patience,
		chromedp.Evaluate[map[string]int](`[...document.querySelectorAll('[data-mark]')].reduce((n, m) => ({...n, [m.dataset.mark]: (n[m.dataset.mark] ?? 0) + 1}), {})`))
	require.NoError(t, err)
	assert.Equal(t, 1, marks["done"])
	assert.Equal(t, 1, marks["failed"])
	label, err := browser.Get(p.tab, patience,
		chromedp.Evaluate[string](`document.querySelector('[data-mark=failed]').getAttribute('aria-label')`))
	require.NoError(t, err)
	assert.Contains(t, label, "Manifest: failed")
	// By keyboard from mark to mark.
	focused, err := browser.Get(p.tab, patience,
		chromedp.Evaluate[string](`(() => { const first = document.querySelector('[data-i="0"]'); first.focus();
		first.dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowRight', bubbles: true})); return document.activeElement.dataset.i })()`))
	require.NoError(t, err)
	assert.Equal(t, "1", focused)
	p.click("Acknowledge")
	p.sees("Acknowledged by Mara Quill")

	p.do(chromedp.Navigate("http://" + w.listen + "/runs?state=failed"))
	p.sees("none of 1 delivered")
	assert.NotContains(t, p.text(), "Quay board")
	p.do(chromedp.Navigate("http://" + w.listen + "/runs/" + failed.ID.String()))
	p.sees("Send again")
	w.behave("authority", "accept", 0)
	p.click("Send again")
	p.sees("done: delivered to 1 of 1")

	// What is somebody else's can be read and not rung.
	p.do(chromedp.Navigate("http://" + w.listen + "/jobs?search=not+hers"))
	p.do(chromedp.Click(chromedp.Search("//a[normalize-space()='Not hers']")))
	p.sees("When, in London")
	assert.NotContains(t, p.text(), "Ring now")
	p.do(chromedp.Navigate("http://" + w.listen + "/no/such/page"))
	p.sees("There is no such page")

	// Signing in with a wrong password, and a session that ends while a page is open.
	p.do(chromedp.Navigate("http://" + w.listen + "/jobs"))
	p.sees("Quay board")
	_, err = connect(t, w.db).Exec(ctx, `DELETE FROM sessions`)
	require.NoError(t, err)
	w.ring("Quay board") // its notice makes the page ask again
	p.sees("Sign-in name")
	p.do(chromedp.SendKeys(chromedp.CSS("input[name=login]"), "mara"),
		chromedp.SendKeys(chromedp.CSS("input[name=password]"), "wrong-password"),
		chromedp.Click(chromedp.CSS("form button")))
	p.sees("do not belong together")
}

// load saves a report that shows all that a page of a report can show.
func (w *world) load() {
	w.t.Helper()
	tenth := 1
	_, err := w.c.SaveReport(context.Background(), "Load",
		wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{
			Source: "tarnwick",
			Parameters: []job.Parameter{
				{
					Name: "port", Label: "Ports", Type: job.TypeText, Several: true, All: true, Required: true,
					Default: "all", Choices: &job.Choices{SQL: "SELECT code, name FROM ports ORDER BY name"},
				},
				{
					Name: "day", Label: "Day", Help: "The day that is looked at.", Type: job.TypeDate, Required: true,
					Default: "yesterday",
				},
				{Name: "open", Label: "Open ones", Type: job.TypeYesNo},
				{
					Name: "one", Label: "One of them", Type: job.TypeText,
					Choices: &job.Choices{List: []job.Choice{{Value: "a", Label: "First"}, {Value: "b"}}},
				},
			},
			Sections: []job.Section{
				{
					Name: "Figures", Kind: job.SectionFigures,
					Columns: []job.Column{
						{Name: "n", Label: "Ports", Before: "m", Better: job.BetterMore},
						{Name: "k", Label: "Closed", Before: "m", Better: job.BetterMore},
					},
					SQL: "SELECT 5 AS n, 4 AS m, 1 AS k",
				},
				{
					Name: "Drawing", Kind: job.SectionChart, Chart: &job.Chart{Form: job.ChartBar},
					SQL: "SELECT code, length(name) AS letters FROM ports WHERE code IN (:port) ORDER BY code",
				},
				{
					Name: "Table", Group: []string{"port"},
					SQL: "SELECT r.from_port AS port, r.name, r.minutes FROM routes r WHERE r.from_port IN (:port) " +
						"AND :day IS NOT NULL ORDER BY 1, 2", Columns: []job.Column{
						{
							Name: "minutes", Label: "Minutes at sea", Unit: "min", Decimals: &tenth,
							Total: job.TotalSum,
							Emphasis: []job.Emphasis{
								{If: `cell("minutes") > 70`, As: job.MarkBad},
								{If: `cell("minutes") > 45`, As: job.MarkWarning},
								{If: `cell("minutes") > 30`, As: job.MarkGood},
								{If: `cell("minutes") < 30`, As: job.MarkFaint},
							},
						},
					},
				},
				{Name: "Words", Kind: job.SectionText, Text: "All of {value.day}."},
			},
		}})
	require.NoError(w.t, err)
}

func TestWhatWasLookedAtIsScheduled(t *testing.T) {
	w := open(t)
	w.load()
	p := console(t, w)
	p.do(chromedp.Navigate("http://" + w.listen + "/reports?q=minutes"))
	p.sees("Load") // found by a word of its query
	p.do(chromedp.Click(chromedp.Search("//main//a[normalize-space()='Load']")))
	p.sees("Minutes at sea")
	p.sees("Read as tarnwick_reports at tarnwick.")
	assert.Contains(t, p.text(), "is "+time.Now().In(london(t)).AddDate(0, 0, -1).Format(time.DateOnly),
		"a moment says what it comes to")
	// One port in place of all of them.
	p.do(chromedp.Click(chromedp.Search("//main//label[normalize-space()='All']/input")))
	p.do(chromedp.Click(chromedp.Search("//main//label[normalize-space()='Pennold']/input")))
	p.click("Preview")
	p.sees("Total PE 25.0")
	assert.NotContains(t, p.text(), "Ellerhaven to Tarnwick Quay")
	address, err := browser.Get(p.tab, patience, chromedp.Location())
	require.NoError(t, err)
	assert.Contains(t, address, "PE", "the address holds the values")
	p.click("Schedule this")
	p.sees("Nobody will see the result yet")
	p.do(chromedp.SendKeys(chromedp.Search("//main//label[starts-with(normalize-space(),'Name of the job')]/input"),
		"Pennold load"),
		chromedp.SendKeys(chromedp.Search("//main//label[starts-with(normalize-space(),'To')]/textarea"),
			"maeve.tarn@tarnwick.example; oren.hask@tarnwick.example"))
	p.sees("these 2 addresses")
	p.click("Switch the job on")
	p.sees("When, in London")
	page, err := w.c.Job(context.Background(), "Pennold load")
	require.NoError(t, err)
	assert.True(t, page.On)
	assert.Equal(t, job.Values{"port": []any{"PE"}}, page.Values)
	run := w.ring("Pennold load")
	assert.Equal(t, job.RunDone, run.State, run.Reason)
	letters := w.inbox("maeve.tarn@tarnwick.example")
	require.Len(t, letters, 1)
	assert.Contains(t, letters[0].HTML, "Pennold to Fennmouth")
	assert.NotContains(t, letters[0].HTML, "Ellerhaven to Tarnwick Quay", "what was looked at is what ran")
}

func london(t *testing.T) *time.Location {
	t.Helper()
	place, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	return place
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

func TestTheConsoleIsAccessibleInBothThemes(t *testing.T) {
	w := open(t)
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "type: make console")
	w.report("Ports", "SELECT code FROM ports")
	w.report("Nothing", "SELECT 1 WHERE false")
	d := definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "*/5 * * * *"}, Values: job.Values{}}}
	w.job("Board", d)
	w.job("Blank", definition("Nothing", "company mail", []string{"csv"}, "a@tarnwick.example"))
	w.job("Manifest", definition("Ports", "harbour authority mail", []string{"csv"}, "m@harbour-authority.test"))
	w.behave("authority", "refuse", 0)
	w.ring("Board")
	board := w.ring("Board")
	w.ring("Blank")
	w.load()
	failed := w.ring("Manifest")
	_, err = w.c.SaveCalendar(context.Background(), "Harbour",
		calendar.Definition{Closed: []calendar.Entry{{
			Label: "storm", Date: time.Now().AddDate(0, 0, 3).Format(time.DateOnly),
		}}}, false)
	require.NoError(t, err)
	p := console(t, w)
	for _, dark := range []bool{false, true} {
		for _, path := range []string{
			"/", "/jobs", "/jobs/Board", "/runs", "/runs/" + failed.ID.String(), "/forecast",
			"/when?rule=on+day+31+at+01:30", "/when?rule=on+mondey", "/jobs/Board?change=when", "/calendars",
			"/calendars/Harbour", "/sources", "/reports", "/reports/Load", "/reports/Load?schedule=yes",
			"/runs/" + board.ID.String() + "/compare", "/nowhere",
		} {
			p.do(browser.Theme(dark), chromedp.Navigate("http://"+w.listen+path),
				chromedp.WaitVisible(chromedp.CSS("h1")))
			if strings.HasPrefix(path, "/reports/") {
				p.sees("Read as")
			}
			background, err := browser.Get(p.tab, patience,
				chromedp.Evaluate[string](`getComputedStyle(document.body).backgroundColor`))
			require.NoError(t, err)
			assert.Equal(t, map[bool]string{false: "rgb(251, 248, 242)", true: "rgb(27, 30, 33)"}[dark], background)
			p.audit(axe, fmt.Sprintf("%s, dark %v", path, dark))
		}
	}
}
