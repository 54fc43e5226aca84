package console

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/test/browser"
	"ironbell/test/world"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheConsole(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", `SELECT pg_sleep(1)::text AS "Nap", code AS "Code" FROM (SELECT code FROM ports LIMIT 1) p`)
	d := world.Definition("Ports", "company mail", []string{"csv", "html-mail"}, "quay.desk@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "15 6 * * 1-5"}}}
	w.Job("Quay board", d)
	manifest := world.Definition("Ports", "harbour authority mail", []string{"csv"}, "m@harbour-authority.test")
	manifest.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "5 * * * *"}}}
	w.Job("Manifest", manifest)
	_, err := w.C.SaveJob(ctx, "Not hers", world.WithOwner("joren", d))
	require.NoError(t, err)
	w.Behave("authority", "refuse", 0)
	p := w.Console()

	p.Sees("Nothing needs attention")
	p.Sees("Manifest")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs?search=quay"))
	p.Sees("1 of 3")
	assert.Contains(t, p.Text(), "on weekdays at 06:15")
	p.Do(chromedp.Click(chromedp.Search("//a[normalize-space()='Quay board']")))
	p.Sees("When, in London")
	assert.Contains(t, p.Text(), "Next rings")

	// Ring now leads to the run, which changes before one's eyes.
	p.Click("Ring now")
	p.Sees("Why it rang. Rung by Mara Quill.")
	p.Sees("running")
	p.Sees("done: delivered to 1 of 1")
	p.Sees("queued")
	p.Sees("1 rows")
	require.Len(t, w.Inbox("quay.desk@tarnwick.example"), 1)
	runs, err := w.C.Runs(ctx, client.RunFilter{Job: "Quay board"})
	require.NoError(t, err)
	address, err := browser.Get(p.Tab, world.Patience, chromedp.Location())
	require.NoError(t, err)
	assert.Equal(t, "http://"+w.Listen+"/runs/"+runs[0].ID.String(), address, "the address holds the page's state")

	// A failure shows on Today without a reload, and can be acknowledged.
	p.Do(chromedp.Navigate("http://" + w.Listen + "/"))
	p.Sees("Nothing needs attention")
	failed := w.Ring("Manifest")
	assert.Equal(t, job.RunFailed, failed.State)
	p.Sees("550 5.1.1 No such mailbox")
	marks, err := browser.Get(p.Tab, world.Patience,
		chromedp.Evaluate[map[string]int](`[...document.querySelectorAll('[data-mark]')].reduce((n, m) => ({...n, [m.dataset.mark]: (n[m.dataset.mark] ?? 0) + 1}), {})`))
	require.NoError(t, err)
	assert.Equal(t, 1, marks["done"])
	assert.Equal(t, 1, marks["failed"])
	label, err := browser.Get(p.Tab, world.Patience,
		chromedp.Evaluate[string](`document.querySelector('[data-mark=failed]').getAttribute('aria-label')`))
	require.NoError(t, err)
	assert.Contains(t, label, "Manifest: failed")
	// By keyboard from mark to mark.
	focused, err := browser.Get(p.Tab, world.Patience,
		chromedp.Evaluate[string](`(() => { const first = document.querySelector('[data-i="0"]'); first.focus();
		first.dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowRight', bubbles: true})); return document.activeElement.dataset.i })()`))
	require.NoError(t, err)
	assert.Equal(t, "1", focused)
	p.Click("Acknowledge")
	p.Sees("Acknowledged by Mara Quill")

	p.Do(chromedp.Navigate("http://" + w.Listen + "/runs?state=failed"))
	p.Sees("none of 1 delivered")
	assert.NotContains(t, p.Text(), "Quay board")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/runs/" + failed.ID.String()))
	p.Sees("Send again")
	w.Behave("authority", "accept", 0)
	p.Click("Send again")
	p.Sees("done: delivered to 1 of 1")

	// What is somebody else's can be read and not rung.
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs?search=not+hers"))
	p.Do(chromedp.Click(chromedp.Search("//a[normalize-space()='Not hers']")))
	p.Sees("When, in London")
	assert.NotContains(t, p.Text(), "Ring now")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/no/such/page"))
	p.Sees("There is no such page")

	// Signing in with a wrong password, and a session that ends while a page is open.
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs"))
	p.Sees("Quay board")
	_, err = world.Connect(t, w.Db).Exec(ctx, `DELETE FROM sessions`)
	require.NoError(t, err)
	w.Ring("Quay board") // its notice makes the page ask again
	// It stands above the page, which stays.
	password := chromedp.CSS("dialog[open] input[type=password]")
	p.Do(chromedp.WaitVisible(password), chromedp.SendKeys(password, "wrong-password\r"))
	w.Until("a wrong password is refused", func() bool {
		return strings.Contains(evaluate[string](t, p, `document.querySelector('dialog').innerText`), "do not belong together")
	})
	assert.Contains(t, p.Text(), "Quay board")
}

func TestASignInWithAWrongPassword(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	p := w.Console()
	evaluate[bool](t, p, `fetch('/api/session', {method: 'DELETE'}).then(() => true)`)
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs"))
	p.Sees("Sign-in name")
	p.Do(chromedp.SendKeys(chromedp.CSS("input[name=login]"), "mara"),
		chromedp.SendKeys(chromedp.CSS("input[name=password]"), "wrong-password"),
		chromedp.Click(chromedp.CSS("form button")))
	p.Sees("do not belong together")
}

func TestWhatWasLookedAtIsScheduled(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Load()
	p := w.Console()
	p.Do(chromedp.Navigate("http://" + w.Listen + "/reports?q=minutes"))
	p.Sees("Load") // found by a word of its query
	p.Do(chromedp.Click(chromedp.Search("//main//a[normalize-space()='Load']")))
	p.Sees("Minutes at sea")
	p.Sees("Read as tarnwick_reports at tarnwick.")
	assert.Contains(t, p.Text(), "is "+w.Now().In(london(t)).AddDate(0, 0, -1).Format(time.DateOnly),
		"a moment says what it comes to")
	// One port in place of all of them.
	p.Do(chromedp.Click(chromedp.Search("//main//label[normalize-space()='All']/input")))
	p.Do(chromedp.Click(chromedp.Search("//main//label[normalize-space()='Pennold']/input")))
	p.Click("Preview")
	p.Sees("Total PE 25.0")
	assert.NotContains(t, p.Text(), "Ellerhaven to Tarnwick Quay")
	address, err := browser.Get(p.Tab, world.Patience, chromedp.Location())
	require.NoError(t, err)
	assert.Contains(t, address, "PE", "the address holds the values")
	p.Do(chromedp.Click(chromedp.Search("//main//a[normalize-space()='Schedule this']")))
	p.Sees("New job")
	p.Fill("Name of the job", "Pennold load")
	p.Click("Weekdays")
	p.Fill("To", "maeve.tarn@tarnwick.example; oren.hask@tarnwick.example")
	p.Sees("2 addresses now")
	p.Press("//main", "Save and switch on")
	p.Sees("When, in London")
	page, err := w.C.Job(context.Background(), "Pennold load")
	require.NoError(t, err)
	assert.True(t, page.On)
	assert.Equal(t, job.Values{"port": []any{"PE"}}, page.Values)
	run := w.Ring("Pennold load")
	assert.Equal(t, job.RunDone, run.State, run.Reason)
	letters := w.Inbox("maeve.tarn@tarnwick.example")
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

func TestTheConsoleIsAccessibleInBothThemes(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	axe, err := os.ReadFile(world.Path("console/node_modules/axe-core/axe.min.js"))
	require.NoError(t, err, "type: make console")
	w.Report("Ports", "SELECT code FROM ports")
	w.Report("Nothing", "SELECT 1 WHERE false")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "*/5 * * * *"}, Values: job.Values{}}}
	w.Job("Board", d)
	w.Job("Blank", world.Definition("Nothing", "company mail", []string{"csv"}, "a@tarnwick.example"))
	w.Job("Manifest", world.Definition("Ports", "harbour authority mail", []string{"csv"}, "m@harbour-authority.test"))
	w.Behave("authority", "refuse", 0)
	w.Ring("Board")
	board := w.Ring("Board")
	w.Ring("Blank")
	w.Load()
	w.Job("Loads", world.Definition("Load", "company mail", []string{"pdf"}, "a@tarnwick.example"))
	failed := w.Ring("Manifest")
	_, err = w.C.SaveCalendar(context.Background(), "Harbour",
		calendar.Definition{Closed: []calendar.Entry{{
			Label: "storm", Date: w.Now().AddDate(0, 0, 3).Format(time.DateOnly),
		}}}, false)
	require.NoError(t, err)
	p := w.Console()
	for _, dark := range []bool{false, true} {
		for _, path := range []string{
			"/", "/jobs", "/jobs/Board", "/jobs/Board/archive", "/queue", "/events", "/mine", "/runs", "/runs/" + failed.ID.String(), "/forecast",
			"/when?rule=on+day+31+at+01:30", "/when?rule=on+mondey", "/calendars",
			"/new/job", "/jobs/Board/change", "/jobs/Loads?ring=yes", "/new/report", "/reports/Load/change",
			"/calendars/Harbour", "/sources", "/reports", "/reports/Load",
			"/runs/" + board.ID.String() + "/compare", "/nowhere",
		} {
			p.Do(browser.Theme(dark), chromedp.Navigate("http://"+w.Listen+path),
				chromedp.WaitVisible(chromedp.CSS("h1")))
			switch {
			case path == "/reports/Load":
				p.Sees("Read as")
			case strings.HasSuffix(path, "/change"):
				p.Sees("Nothing. It can be saved")
			case strings.HasSuffix(path, "ring=yes"):
				p.Sees("Leave it")
			}
			background, err := browser.Get(p.Tab, world.Patience,
				chromedp.Evaluate[string](`getComputedStyle(document.body).backgroundColor`))
			require.NoError(t, err)
			assert.Equal(t, map[bool]string{false: "rgb(251, 248, 242)", true: "rgb(27, 30, 33)"}[dark], background)
			p.Audit(axe, fmt.Sprintf("%s, dark %v", path, dark))
		}
	}
}
