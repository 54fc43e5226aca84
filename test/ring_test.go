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
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

func TestARuleRingsAndTheReportArrives(t *testing.T) {
	t.Parallel() // it waits most of its time
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", `SELECT code AS "Code", name AS "Port", :day AS "Day", 12.5 AS "Share" FROM ports ORDER BY code`,
		job.Parameter{Name: "day", Label: "Day", Type: job.TypeDate, Required: true, Default: "yesterday"})
	d := world.Definition("Ports", "company mail", []string{"csv", "xlsx", "html-mail"}, "quay.desk@tarnwick.example",
		"oren.hask@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "* * * * *"}, Values: job.Values{"day": "start of month"}}}
	d.Tasks[0].Report.Outputs[0].Name = "{report} {value.day}"
	d.Tasks[1].Deliver.Subject = "{job}: {rows} ports"
	w.Job("Quay board", d)
	saved, err := w.C.Job(ctx, "Quay board")
	require.NoError(t, err)
	require.NotNil(t, saved.Triggers[0].NextDue)
	due := *saved.Triggers[0].NextDue

	var run job.Run
	w.Until("the rule rings and its run is done", func() bool {
		runs, err := w.C.Runs(ctx, client.RunFilter{Job: "Quay board", States: []string{"done"}})
		require.NoError(t, err)
		if len(runs) > 0 {
			run = runs[len(runs)-1]
		}
		return len(runs) > 0
	})
	_, err = w.C.Switch(ctx, "Quay board", false)
	require.NoError(t, err)
	assert.True(t, run.Due.Equal(due), "it rang when it said it would")
	assert.Contains(t, run.Why, "every minute")
	page, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	require.Len(t, page.Deliveries, 2)
	for _, delivery := range page.Deliveries {
		assert.Equal(t, job.DeliverySent, delivery.State)
		assert.Contains(t, delivery.Answer, "250")
	}
	letters := w.Inbox("quay.desk@tarnwick.example")
	require.NotEmpty(t, letters)
	l := letters[len(letters)-1]
	zone, err := time.LoadLocation(demo.Zone)
	require.NoError(t, err)
	first := due.In(zone).AddDate(0, 0, 1-due.In(zone).Day()).Format(time.DateOnly)
	assert.Equal(t, "Quay board: 5 ports", l.Subject)
	require.Len(t, l.Attachments, 2)
	assert.Equal(t, "Ports "+first+".csv", l.Attachments[0].Name)
	lines, err := csv.NewReader(bytes.NewReader(w.Attachment(l, 0))).ReadAll()
	require.NoError(t, err)
	assert.Len(t, lines, 6)
	assert.Equal(t, []string{"EH", "Ellerhaven", first, "12.5"}, lines[1],
		"the trigger's own value, reckoned from the due time")
	book, err := excelize.OpenReader(bytes.NewReader(w.Attachment(l, 1)))
	require.NoError(t, err)
	defer func() { _ = book.Close() }()
	sheet, err := book.GetRows("Rows")
	require.NoError(t, err)
	assert.Len(t, sheet, 3+6, "below its title")
	assert.Contains(t, l.HTML, "Grey Skerry")
	assert.Contains(t, l.Plain, "run "+run.ID.String())
	other := w.Inbox("oren.hask@tarnwick.example")
	require.NotEmpty(t, other)
	assert.Equal(t, l.MessageID, other[len(other)-1].MessageID, "one message, one id")
	assert.NotEqual(t, l.From, other[len(other)-1].From, "each delivery has a sender of its own")

	rings, err := w.C.Job(ctx, "Quay board")
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
	t.Parallel()
	w := world.Open(t)
	w.Report("Crew rest breaches", "SELECT name FROM crew WHERE false")
	d := world.Definition("Crew rest breaches", "company mail", []string{"csv"}, "ilse@tarnwick.example")
	w.Job("Crew rest watch", d)
	page := w.Ring("Crew rest watch")
	assert.Equal(t, job.RunBlank, page.State)
	assert.Contains(t, page.Reason, "held, nothing was sent")
	assert.Empty(t, page.Deliveries)
	d.IfBlank = job.BlankSend
	w.Job("Crew rest watch", d)
	assert.Equal(t, job.RunDone, w.Ring("Crew rest watch").State)
	letters := w.Inbox("ilse@tarnwick.example")
	require.Len(t, letters, 1, "held the first time, sent with a note the second")
	assert.Contains(t, letters[0].Plain, "Nothing was found this time")
	d.IfBlank = job.BlankFail
	w.Job("Crew rest watch", d)
	page = w.Ring("Crew rest watch")
	assert.Equal(t, job.RunFailed, page.State)
	assert.Len(t, page.Alerts, 1)
}

func TestADeliveryThatFailsIsRetriedAndTheOwnerIsTold(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Manifest", "SELECT code FROM ports")
	w.Job("Passenger manifest file",
		world.Definition("Manifest", "harbour authority mail", []string{"csv"}, "manifests@harbour-authority.test"))
	require.NoError(t, w.C.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail"}))
	w.Behave("authority", "busy", 0)
	// The company's own mail is down, too: the alert has to wait.
	w.Behave("mail", "away", 0)
	page := w.Ring("Passenger manifest file")
	assert.Equal(t, job.RunFailed, page.State)
	require.Len(t, page.Deliveries, 1)
	assert.Equal(t, 3, page.Deliveries[0].Tries, "one try and two more")
	assert.Contains(t, page.Deliveries[0].Answer, "451 4.3.2 Not now")
	// failed is the alert about the deliveries; others tell of the mail server.
	failed := func(states ...string) job.Alert {
		alerts, err := w.C.Alerts(ctx, states...)
		require.NoError(t, err)
		for _, a := range alerts {
			if a.Kind == job.AlertDeliveryFailed {
				return a
			}
		}
		t.Fatalf("there is no alert about deliveries among %v", alerts)
		return job.Alert{}
	}
	w.Until("the alert says that nobody could be told", func() bool { return failed("open").Unreached })
	assert.Contains(t, failed("open").Told, "waits for the mail server")
	assert.Empty(t, w.Inbox("mara@tarnwick.example"))
	w.Behave("mail", "accept", 0)
	about := func(subject string) (n int, last world.Letter) {
		for _, l := range w.Inbox("mara@tarnwick.example") {
			if l.Subject == subject {
				n, last = n+1, l
			}
		}
		return n, last
	}
	w.Until("the alert arrives once the mail server is back", func() bool {
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
	w.Until("somebody was reached", func() bool { return !failed("open").Unreached })
	// A second failure of the same cause is the same alert, and no second mail.
	w.Ring("Passenger manifest file")
	assert.Equal(t, 2, failed("open").Count)
	a, err := w.C.Acknowledge(ctx, failed("open").ID)
	require.NoError(t, err)
	assert.Equal(t, job.AlertAcknowledged, a.State)
	assert.Equal(t, "Sefa Orlin", a.AcknowledgedBy)
	// Once it is back, the failed ones are sent again, and when the last of them has
	// arrived the alert closes.
	w.Behave("authority", "accept", 0)
	runs, err := w.C.Runs(ctx, client.RunFilter{Job: "Passenger manifest file", Limit: 2})
	require.NoError(t, err)
	for n, run := range runs {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		_, err = w.C.Settle(ctx, page.Deliveries[0].ID, "resend")
		require.NoError(t, err)
		w.Until("the run is put right", func() bool {
			page, err := w.C.Run(ctx, run.ID)
			require.NoError(t, err)
			return page.State == job.RunDone
		})
		alerts, err := w.C.Alerts(ctx, "open", "acknowledged")
		require.NoError(t, err)
		assert.Len(t, alerts, len(runs)-1-n)
	}
	assert.Len(t, w.Inbox("manifests@harbour-authority.test"), 2)
	n, _ := about("Not delivered: Passenger manifest file")
	assert.Equal(t, 1, n, "one alert, one mail")
}

func TestSomeRecipientsFail(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Board",
		world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example", "desk@contractor.test",
			"b@tarnwick.example"))
	text := `{"mode":"refuse","only":"desk@contractor.test"}`
	world.Put(t, w.Out.Inbox+"/api/servers/mail", text)
	page := w.Ring("Board")
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
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Shares", "SELECT 1 / (count(*) - 5) FROM ports")
	w.Job("Shares", world.Definition("Shares", "company mail", []string{"csv"}, "a@tarnwick.example"))
	page := w.Ring("Shares")
	assert.Equal(t, job.RunFailed, page.State)
	require.Len(t, page.Attempts, 1, "what is lasting is not tried again")
	assert.Contains(t, page.Attempts[0].Note, "division by zero")
	assert.Equal(t, "Mend the report's query, then run again.", page.Attempts[0].Advice)
	w.Until("the owner is told", func() bool { return len(w.Inbox("mara@tarnwick.example")) == 1 })
	assert.Contains(t, w.Inbox("mara@tarnwick.example")[0].Plain, "division by zero")
	// A source that cannot be reached rests: the run waits for it, and goes on when it is mended.
	password := "reports"
	_, err := w.C.SaveSource(ctx, "elsewhere", wire.PlaceRequest{
		Protocol: "postgres", Password: &password,
		Settings: map[string]any{"host": "127.0.0.1", "port": 1, "database": "tarnwick", "user": "tarnwick_reports"},
	})
	require.NoError(t, err)
	_, err = w.C.SaveReport(ctx, "Far",
		wire.ReportRequest{ReportDefinition: job.ReportDefinition{
			Source: "elsewhere", Sections: []job.Section{{Name: "Rows", SQL: "SELECT 1"}},
		}})
	require.NoError(t, err, "a source that is away keeps nobody from saving")
	w.Job("Far", world.Definition("Far", "company mail", []string{"csv"}, "a@tarnwick.example"))
	run, err := w.C.Ring(ctx, "Far", nil)
	require.NoError(t, err)
	w.Until("it waits", func() bool {
		page, err = w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunWaiting &&
			strings.HasPrefix(page.Reason, `waits for source elsewhere: connect to source "elsewhere"`)
	})
	state, err := w.C.State(ctx)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(state.Lines, func(l job.StateLine) bool {
		return l.What == "sources" && slices.Equal(l.Names, []string{"elsewhere"})
	}), state.Lines)
	config := world.Connect(t, w.Company).Config()
	_, err = w.C.SaveSource(ctx, "elsewhere", wire.PlaceRequest{
		Protocol: "postgres", Password: &password,
		Settings: map[string]any{
			"host": config.Host, "port": config.Port, "database": config.Database, "user": "tarnwick_reports",
			"tls": "disable",
		},
	})
	require.NoError(t, err)
	w.Until("it goes on", func() bool {
		page, err = w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
}

func TestOverlappingRunsTakeTurns(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Slow", "SELECT pg_sleep(1), 1 AS one")
	w.Job("Slow", world.Definition("Slow", "company mail", []string{"csv"}, "a@tarnwick.example"))
	first, err := w.C.Ring(ctx, "Slow", nil)
	require.NoError(t, err)
	second, err := w.C.Ring(ctx, "Slow", nil)
	require.NoError(t, err)
	var pages []wire.RunPage
	for _, id := range []job.RunID{first.ID, second.ID} {
		page, err := w.C.Follow(ctx, id, func(wire.RunPage) error { return nil })
		require.NoError(t, err)
		assert.Equal(t, job.RunDone, page.State)
		pages = append(pages, page)
	}
	assert.False(t, pages[1].Attempts[0].StartedAt.Before(*pages[0].Attempts[0].EndedAt),
		"the second began after the first had ended")
}

func TestAnOwnerWhoCannotBeToldIsFollowedByTheAdministrators(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Shares", "SELECT 1 / (count(*) - 5) FROM ports")
	w.Job("Shares", world.Definition("Shares", "company mail", []string{"csv"}, "a@tarnwick.example"))
	world.Put(t, w.Out.Inbox+"/api/servers/mail", `{"mode":"refuse","only":"mara@tarnwick.example"}`)
	assert.Equal(t, job.RunFailed, w.Ring("Shares").State)
	w.Until("the administrator is told", func() bool { return len(w.Inbox("sefa.orlin@tarnwick.example")) == 1 })
	assert.Contains(t, w.Inbox("sefa.orlin@tarnwick.example")[0].Plain, "The owner, mara, could not be told")
	assert.Empty(t, w.Inbox("mara@tarnwick.example"))
	w.Until("the alert says who was told", func() bool {
		alerts, err := w.C.Alerts(context.Background(), "open")
		require.NoError(t, err)
		return len(alerts) == 1 && alerts[0].Step >= 2 &&
			strings.Contains(alerts[0].Told, "sefa.orlin@tarnwick.example")
	})
}
