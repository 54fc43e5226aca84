package test

import (
	"bytes"
	"context"
	"encoding/csv"
	"slices"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

func TestARuleRingsAndTheReportArrives(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Ports", `SELECT code AS "Code", name AS "Port", :day AS "Day", 12.5 AS "Share" FROM ports ORDER BY code`,
		job.Parameter{Name: "day", Label: "Day", Type: job.TypeDate, Required: true, Default: "yesterday"})
	d := definition("Ports", "company mail", []string{"csv", "xlsx", "html-mail"}, "quay.desk@tarnwick.example",
		"oren.hask@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "* * * * *"}, Values: job.Values{"day": "start of month"}}}
	d.Tasks[0].Report.Outputs[0].Name = "{report} {value.day}"
	d.Tasks[1].Deliver.Subject = "{job}: {rows} ports"
	w.job("Quay board", d)
	saved, err := w.c.Job(ctx, "Quay board")
	require.NoError(t, err)
	require.NotNil(t, saved.Triggers[0].NextDue)
	due := *saved.Triggers[0].NextDue

	var run job.Run
	w.until("the rule rings and its run is done", func() bool {
		runs, err := w.c.Runs(ctx, client.RunFilter{Job: "Quay board", States: []string{"done"}})
		require.NoError(t, err)
		if len(runs) > 0 {
			run = runs[len(runs)-1]
		}
		return len(runs) > 0
	})
	_, err = w.c.Switch(ctx, "Quay board", false)
	require.NoError(t, err)
	assert.True(t, run.Due.Equal(due), "it rang when it said it would")
	assert.Contains(t, run.Why, "every minute")
	page, err := w.c.Run(ctx, run.ID)
	require.NoError(t, err)
	require.Len(t, page.Deliveries, 2)
	for _, delivery := range page.Deliveries {
		assert.Equal(t, job.DeliverySent, delivery.State)
		assert.Contains(t, delivery.Answer, "250")
	}
	letters := w.inbox("quay.desk@tarnwick.example")
	require.NotEmpty(t, letters)
	l := letters[len(letters)-1]
	zone, err := time.LoadLocation(demo.Zone)
	require.NoError(t, err)
	first := due.In(zone).AddDate(0, 0, 1-due.In(zone).Day()).Format(time.DateOnly)
	assert.Equal(t, "Quay board: 5 ports", l.Subject)
	require.Len(t, l.Attachments, 2)
	assert.Equal(t, "Ports "+first+".csv", l.Attachments[0].Name)
	lines, err := csv.NewReader(bytes.NewReader(w.attachment(l, 0))).ReadAll()
	require.NoError(t, err)
	assert.Len(t, lines, 6)
	assert.Equal(t, []string{"EH", "Ellerhaven", first, "12.5"}, lines[1],
		"the trigger's own value, reckoned from the due time")
	book, err := excelize.OpenReader(bytes.NewReader(w.attachment(l, 1)))
	require.NoError(t, err)
	defer func() { _ = book.Close() }()
	sheet, err := book.GetRows("Rows")
	require.NoError(t, err)
	assert.Len(t, sheet, 3+6, "below its title")
	assert.Contains(t, l.HTML, "Grey Skerry")
	assert.Contains(t, l.Plain, "run "+run.ID.String())
	other := w.inbox("oren.hask@tarnwick.example")
	require.NotEmpty(t, other)
	assert.Equal(t, l.MessageID, other[len(other)-1].MessageID, "one message, one id")
	assert.NotEqual(t, l.From, other[len(other)-1].From, "each delivery has a sender of its own")

	rings, err := w.c.Job(ctx, "Quay board")
	require.NoError(t, err)
	assert.Nil(t, rings.Triggers[0].NextDue, "switched off, nothing is to come")
	seen := map[time.Time]bool{}
	for _, r := range rings.Rings {
		assert.False(t, seen[r.Due], "a due time has one decision")
		seen[r.Due] = true
		assert.NotNil(t, r.RunID)
	}
}

func TestABlankRunIsHeld(t *testing.T) {
	w := open(t)
	w.report("Crew rest breaches", "SELECT name FROM crew WHERE false")
	d := definition("Crew rest breaches", "company mail", []string{"csv"}, "ilse@tarnwick.example")
	w.job("Crew rest watch", d)
	page := w.ring("Crew rest watch")
	assert.Equal(t, job.RunBlank, page.State)
	assert.Contains(t, page.Reason, "held, nothing was sent")
	assert.Empty(t, page.Deliveries)
	d.IfBlank = job.BlankSend
	w.job("Crew rest watch", d)
	assert.Equal(t, job.RunDone, w.ring("Crew rest watch").State)
	letters := w.inbox("ilse@tarnwick.example")
	require.Len(t, letters, 1, "held the first time, sent with a note the second")
	assert.Contains(t, letters[0].Plain, "Nothing was found this time")
	d.IfBlank = job.BlankFail
	w.job("Crew rest watch", d)
	page = w.ring("Crew rest watch")
	assert.Equal(t, job.RunFailed, page.State)
	assert.Len(t, page.Alerts, 1)
}

func TestADeliveryThatFailsIsRetriedAndTheOwnerIsTold(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Manifest", "SELECT code FROM ports")
	w.job("Passenger manifest file",
		definition("Manifest", "harbour authority mail", []string{"csv"}, "manifests@harbour-authority.test"))
	require.NoError(t, w.c.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail"}))
	w.behave("authority", "busy", 0)
	// The company's own mail is down, too: the alert has to wait.
	w.behave("mail", "away", 0)
	page := w.ring("Passenger manifest file")
	assert.Equal(t, job.RunFailed, page.State)
	require.Len(t, page.Deliveries, 1)
	assert.Equal(t, 3, page.Deliveries[0].Tries, "one try and two more")
	assert.Contains(t, page.Deliveries[0].Answer, "451 4.3.2 Not now")
	// failed is the alert about the deliveries; others tell of the mail server.
	failed := func(states ...string) job.Alert {
		alerts, err := w.c.Alerts(ctx, states...)
		require.NoError(t, err)
		for _, a := range alerts {
			if a.Kind == job.AlertDeliveryFailed {
				return a
			}
		}
		t.Fatalf("there is no alert about deliveries among %v", alerts)
		return job.Alert{}
	}
	w.until("the alert says that nobody could be told", func() bool { return failed("open").Unreached })
	assert.Contains(t, failed("open").Told, "waits for the mail server")
	assert.Empty(t, w.inbox("mara@tarnwick.example"))
	w.behave("mail", "accept", 0)
	about := func(subject string) (n int, last letter) {
		for _, l := range w.inbox("mara@tarnwick.example") {
			if l.Subject == subject {
				n, last = n+1, l
			}
		}
		return n, last
	}
	w.until("the alert arrives once the mail server is back", func() bool {
		n, _ := about("Not delivered: Passenger manifest file")
		return n > 0
	})
	_, l := about("Not delivered: Passenger manifest file")
	for _, want := range []string{
		"Passenger manifest file", page.ID.String(), "451 4.3.2 Not now",
		"manifests@harbour-authority.test", "Tried 3 times", "/runs/" + page.ID.String(),
	} {
		assert.Contains(t, l.Plain, want)
	}
	w.until("somebody was reached", func() bool { return !failed("open").Unreached })
	// A second failure of the same cause is the same alert, and no second mail.
	w.ring("Passenger manifest file")
	assert.Equal(t, 2, failed("open").Count)
	a, err := w.c.Acknowledge(ctx, failed("open").ID)
	require.NoError(t, err)
	assert.Equal(t, job.AlertAcknowledged, a.State)
	assert.Equal(t, "Sefa Orlin", a.AcknowledgedBy)
	// Once it is back, the failed ones are sent again, and when the last of them has
	// arrived the alert closes.
	w.behave("authority", "accept", 0)
	runs, err := w.c.Runs(ctx, client.RunFilter{Job: "Passenger manifest file", Limit: 2})
	require.NoError(t, err)
	for n, run := range runs {
		page, err := w.c.Run(ctx, run.ID)
		require.NoError(t, err)
		_, err = w.c.Settle(ctx, page.Deliveries[0].ID, "resend")
		require.NoError(t, err)
		w.until("the run is put right", func() bool {
			page, err := w.c.Run(ctx, run.ID)
			require.NoError(t, err)
			return page.State == job.RunDone
		})
		alerts, err := w.c.Alerts(ctx, "open", "acknowledged")
		require.NoError(t, err)
		assert.Len(t, alerts, len(runs)-1-n)
	}
	assert.Len(t, w.inbox("manifests@harbour-authority.test"), 2)
	n, _ := about("Not delivered: Passenger manifest file")
	assert.Equal(t, 1, n, "one alert, one mail")
}

func TestSomeRecipientsFail(t *testing.T) {
	w := open(t)
	w.report("Ports", "SELECT code FROM ports")
	w.job("Board",
		definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example", "desk@contractor.test",
			"b@tarnwick.example"))
	text := `{"mode":"refuse","only":"desk@contractor.test"}`
	put(t, w.out.Inbox+"/api/servers/mail", text)
	page := w.ring("Board")
	assert.Equal(t, job.RunPartly, page.State)
	assert.Equal(t, "1 of 3 not delivered", page.Reason)
	for _, d := range page.Deliveries {
		if d.Address == "desk@contractor.test" {
			assert.Equal(t, job.DeliveryFailed, d.State)
			assert.Equal(t, 1, d.Tries, "what is lasting is not tried again")
			assert.Equal(t, "lasting", d.Class)
		} else {
			assert.Equal(t, job.DeliverySent, d.State)
		}
	}
}

func TestAReportThatFails(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Shares", "SELECT 1 / (count(*) - 5) FROM ports")
	w.job("Shares", definition("Shares", "company mail", []string{"csv"}, "a@tarnwick.example"))
	page := w.ring("Shares")
	assert.Equal(t, job.RunFailed, page.State)
	require.Len(t, page.Attempts, 1, "what is lasting is not tried again")
	assert.Contains(t, page.Attempts[0].Note, "division by zero")
	assert.Equal(t, "Mend the report's query, then run again.", page.Attempts[0].Advice)
	w.until("the owner is told", func() bool { return len(w.inbox("mara@tarnwick.example")) == 1 })
	assert.Contains(t, w.inbox("mara@tarnwick.example")[0].Plain, "division by zero")
	// A source that cannot be reached rests: the run waits for it, and goes on when it is mended.
	password := "reports"
	_, err := w.c.SaveSource(ctx, "elsewhere", wire.PlaceRequest{
		Protocol: "postgres", Password: &password,
		Settings: map[string]any{"host": "127.0.0.1", "port": 1, "database": "tarnwick", "user": "tarnwick_reports"},
	})
	require.NoError(t, err)
	_, err = w.c.SaveReport(ctx, "Far",
		wire.ReportRequest{ReportDefinition: job.ReportDefinition{
			Source: "elsewhere", Sections: []job.Section{{Name: "Rows", SQL: "SELECT 1"}},
		}})
	require.NoError(t, err, "a source that is away keeps nobody from saving")
	w.job("Far", definition("Far", "company mail", []string{"csv"}, "a@tarnwick.example"))
	run, err := w.c.Ring(ctx, "Far", nil)
	require.NoError(t, err)
	w.until("it waits", func() bool {
		page, err = w.c.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunWaiting &&
			strings.HasPrefix(page.Reason, `waits for source elsewhere: connect to source "elsewhere"`)
	})
	state, err := w.c.State(ctx)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(state.Lines, func(l job.StateLine) bool {
		return l.What == "sources" && slices.Equal(l.Names, []string{"elsewhere"})
	}), state.Lines)
	config := connect(t, w.company).Config()
	_, err = w.c.SaveSource(ctx, "elsewhere", wire.PlaceRequest{
		Protocol: "postgres", Password: &password,
		Settings: map[string]any{
			"host": config.Host, "port": config.Port, "database": config.Database, "user": "tarnwick_reports",
			"tls": "disable",
		},
	})
	require.NoError(t, err)
	w.until("it goes on", func() bool {
		page, err = w.c.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
}

func TestOverlappingRunsTakeTurns(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Slow", "SELECT pg_sleep(1), 1 AS one")
	w.job("Slow", definition("Slow", "company mail", []string{"csv"}, "a@tarnwick.example"))
	first, err := w.c.Ring(ctx, "Slow", nil)
	require.NoError(t, err)
	second, err := w.c.Ring(ctx, "Slow", nil)
	require.NoError(t, err)
	var pages []wire.RunPage
	for _, id := range []job.RunID{first.ID, second.ID} {
		page, err := w.c.Follow(ctx, id, func(wire.RunPage) error { return nil })
		require.NoError(t, err)
		assert.Equal(t, job.RunDone, page.State)
		pages = append(pages, page)
	}
	assert.False(t, pages[1].Attempts[0].StartedAt.Before(*pages[0].Attempts[0].EndedAt),
		"the second began after the first had ended")
}

func TestAnOwnerWhoCannotBeToldIsFollowedByTheAdministrators(t *testing.T) {
	w := open(t)
	w.report("Shares", "SELECT 1 / (count(*) - 5) FROM ports")
	w.job("Shares", definition("Shares", "company mail", []string{"csv"}, "a@tarnwick.example"))
	put(t, w.out.Inbox+"/api/servers/mail", `{"mode":"refuse","only":"mara@tarnwick.example"}`)
	assert.Equal(t, job.RunFailed, w.ring("Shares").State)
	w.until("the administrator is told", func() bool { return len(w.inbox("sefa.orlin@tarnwick.example")) == 1 })
	assert.Contains(t, w.inbox("sefa.orlin@tarnwick.example")[0].Plain, "the owner, mara, could not be told")
	assert.Empty(t, w.inbox("mara@tarnwick.example"))
	w.until("the alert says who was told", func() bool {
		alerts, err := w.c.Alerts(context.Background(), "open")
		require.NoError(t, err)
		return len(alerts) == 1 && alerts[0].Step >= 2 &&
			strings.Contains(alerts[0].Told, "sefa.orlin@tarnwick.example")
	})
}
