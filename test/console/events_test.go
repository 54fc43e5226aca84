package console

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

	"ironbell/client"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/test/browser"
	"ironbell/test/world"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What happened is seen with what it started or why nothing, chosen by type and sender, and played
// again only after it is said what that does.
func TestWhatHappenedIsSeenAndPlayedAgain(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Departures", "SELECT 1 AS n")
	d := world.Definition("Departures", "company mail", []string{"csv"}, "desk@tarnwick.example")
	d.Triggers = []job.Trigger{{Wait: &job.Wait{For: []job.Condition{{Event: "example.tarnwick.ledger.closed", Source: "/ledger-office"}}}}}
	w.Job("Departures", d)
	_, err := w.C.SaveSender(ctx, "Ledger office", job.SenderDefinition{
		Sends: []job.EventGrant{{Source: "/ledger-office", Type: "example.tarnwick.ledger.*"}},
	})
	require.NoError(t, err)
	for _, source := range []string{"/ledger-office", "/elsewhere"} {
		_, err := w.C.Report(ctx, map[string]any{
			"specversion": "1.0", "id": "1", "source": source, "type": "example.tarnwick.ledger.closed",
		})
		require.NoError(t, err)
	}
	reported, err := w.C.Events(ctx, client.EventFilter{Type: "example.tarnwick.ledger.closed"})
	require.NoError(t, err)
	first := reported[1].Number
	_, err = w.C.Report(ctx, map[string]any{"specversion": "1.0", "id": "1", "source": "/gauges", "type": "example.tarnwick.tide"})
	require.NoError(t, err)
	w.UntilEnded("Departures", 1)
	p := w.ConsoleAs("sefa")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/events"))
	p.Sees("nothing: no job waited for it")
	p.Sees("1 trigger waits for this type of another source or subject")
	p.Press("//main", "example.tarnwick.ledger.closed")
	p.Sees("type: example.tarnwick.ledger.closed")
	w.Until("others are not shown", func() bool { return !strings.Contains(p.Text(), "example.tarnwick.tide") })
	p.Press("//tr[contains(., '/ledger-office')]", "Play again …")
	p.Sees("jobs that it starts send what they send")
	require.Len(t, w.RunsOf("Departures"), 1, "asking alone plays nothing")
	p.Press("//main", "Play it again")
	w.UntilEnded("Departures", 2)
	p.Sees(fmt.Sprintf("no. %d again", first))
	events, err := w.C.Events(ctx, client.EventFilter{Type: "example.tarnwick.ledger.closed"})
	require.NoError(t, err)
	assert.Len(t, events, 3)

	// In the editor the last such event is a sample, which can be played as well.
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs/Departures/change"))
	p.Press("//main", "Look now, start nothing")
	p.Sees("The last such event would count.")
	p.Press("//main", "Play this sample …")
	p.Sees("It starts what waits for it as it was last saved")
	p.Press("//main", "Play it again")
	w.UntilEnded("Departures", 3)
	p.Sees("It started run ")
}

// Where events of ours go is seen, changed, held up, replayed, and read by everybody, in both themes.
func TestSubscriptionsOnScreen(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Place("duty screen", "http", "a key", map[string]any{"url": "http://" + w.Outside + "/events"})
	w.Place("open screen", "http", "", map[string]any{"url": "http://" + w.Outside + "/events"})
	for name, to := range map[string]string{"Duty office": "duty screen", "Open office": "open screen"} {
		_, err := w.C.SaveSubscription(ctx, name, job.SubscriptionDefinition{Destination: to, Types: []string{"ironbell.alert.*"}})
		require.NoError(t, err)
	}
	p := w.ConsoleAs("sefa")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/events"))
	p.Sees("Is told of an alert that opens, an alert that is closed; over the destination duty screen.")
	p.Sees(`Nothing is handed on: the destination "open screen" has no key to sign with`)
	duty := "//section[@aria-label='Duty office']"
	p.Press(duty, "Replay")
	p.Press(duty, "Change")
	p.Sees("Hand it on again")
	axe, err := os.ReadFile(world.Path("console/node_modules/axe-core/axe.min.js"))
	require.NoError(t, err)
	for _, dark := range []bool{false, true} {
		p.Do(browser.Theme(dark))
		p.Audit(axe, "subscriptions with their forms open")
	}
	p.Fill("Only if", "event.data.colour == 'red'")
	p.Press(duty, "Save the subscription")
	p.Sees("no such key: colour")
	p.Fill("Only if", "event.data.kind == 'down'")
	p.Press(duty, "Save the subscription")
	w.Until("it is saved", func() bool {
		s, err := w.C.Subscription(ctx, "Duty office")
		return err == nil && s.OnlyIf == "event.data.kind == 'down'"
	})
	s, err := w.C.Subscription(ctx, "Duty office")
	require.NoError(t, err)
	assert.Equal(t, []string{"ironbell.alert.*"}, s.Types, "what means the same stays as it was written")
}

// What came on each of the days before by an hour is expected by it, on screen and in the terminal; when it does not
// come its owner is told, and it closes when it comes.
func TestWhatUsuallyComesIsExpected(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Departures", "SELECT 1 AS n")
	// It is about noon there, whenever this is tried.
	name := fmt.Sprintf("Etc/GMT%+d", w.Now().UTC().Hour()-12)
	place, err := zone.Load(name)
	require.NoError(t, err)
	now := w.Now().In(place)
	d := world.Definition("Departures", "company mail", []string{"csv"}, "desk@tarnwick.example")
	d.Zone, d.Triggers = name, []job.Trigger{{Wait: &job.Wait{For: []job.Condition{{Event: "example.tarnwick.ledger.closed"}}}}}
	w.Job("Departures", d)
	report := func(id string) {
		_, err := w.C.Report(ctx, map[string]any{
			"specversion": "1.0", "id": id, "source": "/ledger-office", "type": "example.tarnwick.ledger.closed",
		})
		require.NoError(t, err)
	}
	report("1")
	w.UntilEnded("Departures", 1)
	conn := world.Connect(t, w.Db)
	// Its past is moved: it came by nine on each day of the last weeks, and today it did not.
	_, err = conn.Exec(ctx, `INSERT INTO arrivals (job_id, key, day, at) SELECT job_id, key, $1::date - n,
		($1::date - n + time '09:00') AT TIME ZONE $2 FROM arrivals, generate_series(1, 40) n`, now, name)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `DELETE FROM arrivals WHERE day = $1::date`, now)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `UPDATE trigger_waits SET reckon_at = '-infinity', settled = false`)
	require.NoError(t, err)
	open := func() (told []job.Alert) {
		all, err := w.C.Alerts(ctx, "open")
		require.NoError(t, err)
		return all
	}
	w.Until("its owner is told", func() bool {
		_, err := conn.Exec(ctx, `UPDATE turns SET due = bell_now() WHERE name = 'reckon usual hours'`)
		require.NoError(t, err)
		return len(open()) == 1
	})
	assert.Contains(t, open()[0].Happened, "has not come yet on "+now.Format("Monday 2 January"))
	out, errs, status := w.Ironbell("forecast", "-zone", name)
	require.Zero(t, status, errs)
	assert.Contains(t, out, now.Format("▲ Mon 2 Jan 09:00"))
	out, _, _ = w.Ironbell("waiting", "Departures")
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "late: usually there by")

	p := w.ConsoleAs("sefa")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/events"))
	p.Sees("Late: usually there by")
	p.Do(chromedp.Navigate("http://" + w.Listen + "/forecast"))
	p.Sees("It has not come, and is usually there by 09:00")
	w.Until("each day has its mark", func() bool {
		marks, err := browser.Get(p.Tab, world.Patience, chromedp.Evaluate[int](`document.querySelectorAll('[data-mark=expected]').length`))
		require.NoError(t, err)
		return marks >= 6
	})
	report("2")
	w.Until("it closes", func() bool { return len(open()) == 0 })
	w.Until("nothing is missing", func() bool {
		p.Do(chromedp.Reload())
		p.Sees("Usually there by then")
		return !strings.Contains(p.Text(), "It has not come")
	})
}
