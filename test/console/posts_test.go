package console

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/test/browser"
	"ironbell/test/world"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheConsoleShowsWhatIsSentAndToWhom(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	axe, err := os.ReadFile(world.Path("console/node_modules/axe-core/axe.min.js"))
	require.NoError(t, err, "type: make console")
	w.Person("oren", "Oren Hask")
	_, err = w.C.SaveGroup(ctx, "Port masters", "person:oren, quay.desk@tarnwick.example")
	require.NoError(t, err)
	w.Report("Part", "SELECT :port AS port", job.Parameter{Name: "port", Type: job.TypeText})
	d := world.Definition("Part", "company mail", []string{"csv"}, "{value.mail}")
	d.Tasks[1].Deliver.Subject, d.Tasks[1].Deliver.MayLeave = "Day sheet of {value.port}", true
	d.Split = job.Split{
		Each: "port",
		Query: &job.ListQuery{
			Source: "tarnwick",
			SQL: "SELECT * FROM (VALUES ('Tarnwick Quay', 'oren@tarnwick.example'), ('Grey Skerry', " +
				"'skerry@tarnwick.example'), ('Fenn', 'fenn@tarnwick.example')) v (port, mail)",
		},
	}
	w.Job("Port day sheet", d)
	w.BehaveTo("mail", "refuse", "skerry@tarnwick.example", 0)
	run := w.Ring("Port day sheet")
	require.Equal(t, job.RunPartly, run.State, run.Reason)
	p := w.ConsoleAs("sefa")

	// A divided run shows its parts, what went wrong first, and what can be done.
	p.Do(chromedp.Navigate("http://" + w.Listen + "/runs/" + run.ID.String()))
	p.Sees("3 parts")
	text := p.Text()
	assert.Contains(t, text, "Deliveries: 2 of 3 sent")
	assert.Contains(t, text, "Day sheet of Grey Skerry")
	assert.Contains(t, text, "550 5.1.1 No such mailbox")
	assert.Less(t, strings.Index(text, "Grey Skerry"), strings.Index(text, "Tarnwick Quay"),
		"what went wrong stands first")
	p.Audit(axe, "a divided run")
	w.BehaveTo("mail", "accept", "", 0)
	p.Click("Send again")
	p.Sees("Deliveries: 3 of 3 sent")
	require.Len(t, w.Inbox("skerry@tarnwick.example"), 1)

	// The correction of what went out goes to the same people.
	p.Click("A wrong report went out …")
	p.Do(chromedp.SendKeys(chromedp.CSS("form input"), "The sailings were those of Sunday."))
	p.Click("Make it anew and send it to the 3 who have it")
	for _, to := range []string{"oren", "skerry", "fenn"} {
		w.Until("the correction comes", func() bool { return len(w.Inbox(to+"@tarnwick.example")) == 2 })
		got := w.Inbox(to + "@tarnwick.example")
		require.Len(t, got, 2, to)
		assert.Contains(t, got[1].Plain+got[0].Plain, "The sailings were those of Sunday.")
	}

	// The list is searched by state, recipient and destination; its address holds that.
	p.Do(chromedp.Navigate("http://" + w.Listen + "/deliveries?to=skerry@tarnwick.example"))
	p.Sees("Day sheet of Grey Skerry")
	assert.NotContains(t, p.Text(), "Fenn")
	p.Click("failed")
	p.Sees("No delivery is like that.")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/deliveries"))
	p.Sees("Day sheet of Fenn")
	p.Audit(axe, "the deliveries")

	// Destinations are tried, and say what the other side answers.
	p.Do(chromedp.Navigate("http://" + w.Listen + "/destinations"))
	p.Sees("company mail")
	p.Do(chromedp.Click(chromedp.Search("//main//section[@data-destination='company " +
		"mail']//button[normalize-space()='Test it']")))
	p.Sees("answers, security starttls, sign-in accepted")
	p.Audit(axe, "the destinations")

	// Everybody says for themselves where, when and how they are reached.
	p.Do(chromedp.Navigate("http://" + w.Listen + "/people?who=oren"))
	p.Sees("Port day sheet")
	fill := func(name, value string) {
		_, err := browser.Get(p.Tab, world.Patience,
			chromedp.Evaluate[string](`(() => { const f = document.querySelector('[name="`+name+`"]'); f.value = '`+
				value+`'; f.dispatchEvent(new Event('input', {bubbles: true})); return f.value })()`))
		require.NoError(t, err)
	}
	p.Audit(axe, "the people")
	fill("zone", "America/New_York")
	p.Click("Save")
	p.Sees("Saved.")
	p.Sees("New York")
	fill("until", "2030-07-01T08:30")
	fill("language", "nn-NN")
	p.Click("Save")
	p.Sees(`there is no locale "nn-NN"`)
	fill("language", "nb")
	p.Click("Save")
	p.Sees("Saved.")
	var until time.Time
	var language string
	require.NoError(t,
		world.Connect(t, w.Db).QueryRow(ctx,
			`SELECT (wishes->>'paused_until')::timestamptz, wishes->>'language' FROM people WHERE login = 'oren'`).Scan(&until, &language))
	assert.Equal(t, "nb", language)
	assert.Equal(t, "2030-07-01T12:30:00Z", until.UTC().Format(time.RFC3339), "on the clocks of their own zone")
	p.Click("Take off its list")
	p.Sees("left its list")
	assert.Contains(t, p.Text(), "group:Port masters")
}
