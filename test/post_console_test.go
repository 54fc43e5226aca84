package test

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/test/browser"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheConsoleShowsWhatIsSentAndToWhom(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "type: make console")
	w.person("oren", "Oren Hask")
	_, err = w.c.SaveGroup(ctx, "Port masters", "person:oren, quay.desk@tarnwick.example")
	require.NoError(t, err)
	w.report("Part", "SELECT :port AS port", job.Parameter{Name: "port", Type: job.TypeText})
	d := definition("Part", "company mail", []string{"csv"}, "{value.mail}")
	d.Tasks[1].Deliver.Subject, d.Tasks[1].Deliver.MayLeave = "Day sheet of {value.port}", true
	d.Split = job.Split{
		Each: "port",
		Query: &job.ListQuery{
			Source: "tarnwick",
			SQL: "SELECT * FROM (VALUES ('Tarnwick Quay', 'oren@tarnwick.example'), ('Grey Skerry', " +
				"'skerry@tarnwick.example'), ('Fenn', 'fenn@tarnwick.example')) v (port, mail)",
		},
	}
	w.job("Port day sheet", d)
	w.behaveTo("mail", "refuse", "skerry@tarnwick.example", 0)
	run := w.ring("Port day sheet")
	require.Equal(t, job.RunPartly, run.State, run.Reason)
	p := consoleAs(t, w, "sefa")

	// A divided run shows its parts, what went wrong first, and what can be done.
	p.do(chromedp.Navigate("http://" + w.listen + "/runs/" + run.ID.String()))
	p.sees("3 parts")
	text := p.text()
	assert.Contains(t, text, "Deliveries: 2 of 3 sent")
	assert.Contains(t, text, "Day sheet of Grey Skerry")
	assert.Contains(t, text, "550 5.1.1 No such mailbox")
	assert.Less(t, strings.Index(text, "Grey Skerry"), strings.Index(text, "Tarnwick Quay"),
		"what went wrong stands first")
	p.audit(axe, "a divided run")
	w.behaveTo("mail", "accept", "", 0)
	p.click("Send again")
	p.sees("Deliveries: 3 of 3 sent")
	require.Len(t, w.inbox("skerry@tarnwick.example"), 1)

	// The correction of what went out goes to the same people.
	p.click("A wrong report went out …")
	p.do(chromedp.SendKeys(chromedp.CSS("form input"), "The sailings were those of Sunday."))
	p.click("Make it anew and send it to the 3 who have it")
	for _, to := range []string{"oren", "skerry", "fenn"} {
		w.until("the correction comes", func() bool { return len(w.inbox(to+"@tarnwick.example")) == 2 })
		got := w.inbox(to + "@tarnwick.example")
		require.Len(t, got, 2, to)
		assert.Contains(t, got[1].Plain+got[0].Plain, "The sailings were those of Sunday.")
	}

	// The list is searched by state, recipient and destination; its address holds that.
	p.do(chromedp.Navigate("http://" + w.listen + "/deliveries?to=skerry@tarnwick.example"))
	p.sees("Day sheet of Grey Skerry")
	assert.NotContains(t, p.text(), "Fenn")
	p.click("failed")
	p.sees("No delivery is like that.")
	p.do(chromedp.Navigate("http://" + w.listen + "/deliveries"))
	p.sees("Day sheet of Fenn")
	p.audit(axe, "the deliveries")

	// Destinations are tried, and say what the other side answers.
	p.do(chromedp.Navigate("http://" + w.listen + "/destinations"))
	p.sees("company mail")
	p.do(chromedp.Click(chromedp.Search("//main//section[@data-destination='company " +
		"mail']//button[normalize-space()='Test it']")))
	p.sees("answers, security starttls, sign-in accepted")
	p.audit(axe, "the destinations")

	// Everybody says for themselves where, when and how they are reached.
	p.do(chromedp.Navigate("http://" + w.listen + "/people?who=oren"))
	p.sees("Port day sheet")
	fill := func(name, value string) {
		_, err := browser.Get(p.tab, patience,
			chromedp.Evaluate[string](`(() => { const f = document.querySelector('[name="`+name+`"]'); f.value = '`+
				value+`'; f.dispatchEvent(new Event('input', {bubbles: true})); return f.value })()`))
		require.NoError(t, err)
	}
	p.audit(axe, "the people")
	fill("zone", "America/New_York")
	p.click("Save")
	p.sees("Saved.")
	p.sees("New York")
	fill("until", "2030-07-01T08:30")
	fill("language", "nn-NN")
	p.click("Save")
	p.sees(`there is no locale "nn-NN"`)
	fill("language", "nb")
	p.click("Save")
	p.sees("Saved.")
	var until time.Time
	var language string
	require.NoError(t,
		connect(t, w.db).QueryRow(ctx,
			`SELECT (wishes->>'paused_until')::timestamptz, wishes->>'language' FROM people WHERE login = 'oren'`).Scan(&until, &language))
	assert.Equal(t, "nb", language)
	assert.Equal(t, "2030-07-01T12:30:00Z", until.UTC().Format(time.RFC3339), "on the clocks of their own zone")
	p.click("Take off its list")
	p.sees("left its list")
	assert.Contains(t, p.text(), "group:Port masters")
}
