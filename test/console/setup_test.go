package console

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/browser"
	"ironbell/test/world"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheConsoleSetsAnInstallationUp(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	axe, err := os.ReadFile(world.Path("console/node_modules/axe-core/axe.min.js"))
	require.NoError(t, err, "type: make console")
	w.Person("oren", "Oren Hask")
	p := w.ConsoleAs("sefa")
	at := "http://" + w.Listen

	// A destination is added, tested, changed, refused, and removed.
	p.Do(chromedp.Navigate(at + "/destinations"))
	p.Sees("company mail")
	p.Press("//main", "Add a destination")
	p.Fill("Protocol", "sftp")
	p.Fill("Name", "Harbour authority files")
	host, port := w.HostPort(w.Out.SFTP)
	p.Fill("Host *", host)
	p.Fill("Port", "twenty-two")
	p.Fill("User *", w.Out.User)
	p.Fill("Password", w.Out.Password)
	p.Audit(axe, "a new destination")
	p.Press("//main", "Save and test it")
	p.Sees("the setting port takes no string")
	p.Fill("Port", fmt.Sprint(port))
	p.Press("//main", "Save and test it")
	p.Sees("pinned the host key")
	p.Sees("Pinned host key SHA256:")
	kept, err := w.C.Destination(ctx, "Harbour authority files")
	require.NoError(t, err)
	assert.JSONEq(t, fmt.Sprintf(`{"host":%q,"port":%d,"user":%q}`, host, port, w.Out.User), string(kept.Settings))
	mine := "//main//section[@data-destination='Harbour authority files']"
	p.Press(mine, "Change")
	p.Fill("Folder", "nowhere")
	p.Press(mine, "Save and test it")
	p.Sees("there is no folder nowhere")
	p.Press(mine, "Remove …")
	p.Sees("For 30 days it can be brought back.")
	p.Audit(axe, "what a removal means")
	p.Press(mine, "Remove Harbour authority files")
	w.Until("it is gone", func() bool { _, err := w.C.Destination(ctx, "Harbour authority files"); return err != nil })
	p.Do(chromedp.Navigate(at + "/settings"))
	p.Sees("Gone for good")
	p.Audit(axe, "what was removed")
	p.Press("//main", "Bring back")
	p.Sees("Nothing was removed in the last 30 days.")
	p.Do(chromedp.Navigate(at + "/destinations"))
	p.Sees("Harbour authority files")
	p.Press(mine, "Rename …")
	p.Fill("New name", "Harbour files")
	p.Sees("Nothing else speaks of it.")
	p.Audit(axe, "another name")
	p.Press(mine, "Rename it")
	p.Press("//main//section[@data-destination='Harbour files']", "Test it")
	p.Sees("there is no folder nowhere") // which it says to those alone who have signed in
	p.Press("//main//section[@data-destination='company mail']", "Send me a mail over it")
	p.Sees("sent a mail to sefa.orlin@tarnwick.example: 250 2.0.0 OK")

	// A group says whom it comes to while it is written; a post moves.
	p.Do(chromedp.Navigate(at + "/people"))
	p.Sees("There is no group.")
	p.Press("//main", "Add a group")
	p.Fill("Name", "Quay")
	p.Fill("Members", "person:oren; quay.desk@tarnwick.example; person:nobody")
	p.Sees("Comes to 2 now: oren@tarnwick.example, quay.desk@tarnwick.example")
	p.Sees(`there is no person "nobody"`)
	p.Audit(axe, "a new group")
	p.Press("//main", "Save the group")
	p.Sees(`members[2]: there is no person "nobody"`)
	p.Fill("Members", "person:oren\nquay.desk@tarnwick.example")
	p.Press("//main", "Save the group")
	p.Sees("group:Quay")
	p.Press("//main", "Add a post")
	p.Fill("Name", "Port master")
	p.Fill("Held by", "oren")
	p.Sees("Oren Hask ×")
	p.Audit(axe, "a new post")
	p.Press("//main", "Save the post")
	p.Sees("Port master: Oren Hask")
	to, err := w.C.Whom(ctx, "post:Port master", "group:Quay")
	require.NoError(t, err)
	assert.Equal(t, []string{"oren@tarnwick.example", "quay.desk@tarnwick.example"}, to.Addresses)

	// Settings hold at once.
	w.Place("ops desk", "http", "", map[string]any{"url": "http://" + w.Out.Receiver + "/alerts"})
	p.Do(chromedp.Navigate(at + "/settings"))
	p.Sees("Second owner after")
	p.Audit(axe, "the settings")
	p.Fill("Call", "ops desk")
	p.Fill("Second owner after", "an hour")
	p.Press("//main//form[@aria-label='Alerts']", "Save")
	p.Sees("no length of time")
	p.Fill("Second owner after", "1h")
	p.Press("//main//form[@aria-label='Alerts']", "Save")
	w.Until("alerts are set", func() bool {
		s := alertSettings(t, w)
		return s.Call == "ops desk" && time.Duration(s.Second) == time.Hour && s.Destination == "company mail"
	})
	p.Fill("Domains", "tarnwick.example, harbour-authority.test")
	p.Fill("What leaves", "none")
	p.Press("//main//form[@aria-label='Mail']", "Save")
	w.Until("mail is set", func() bool {
		s, err := w.C.MailSettings(ctx)
		require.NoError(t, err)
		return s.Sending == job.SendNone && len(s.Domains) == 2
	})
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	w.Job("Departures", world.Definition("Departures", "company mail", []string{"csv"}, "oren@tarnwick.example"))

	// What a limit or a freeze would do is said before it is made.
	board := world.Definition("Departures", "company mail", []string{"csv"}, "oren@tarnwick.example")
	board.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "every day at 23:50"}}}
	w.Job("Quay board", board)
	p.Do(chromedp.Navigate(at + "/queue"))
	p.Press("//main", "Freeze …")
	p.Fill("Of what", "service")
	p.Press("//main", "What would change")
	p.Sees("1 run begins later.")
	p.Sees("does not begin as far as can be seen: everything is frozen, by Sefa Orlin")
	p.Sees("As it would be")
	p.Audit(axe, "what a freeze would do")
	p.Press("//main", "Freeze nothing")

	// What is open is joined by one press; a report comes by four fields.
	p.Do(chromedp.Navigate(at + "/mine"))
	p.Sees("No job is open to you.")
	p.Sees("No report is open to own schedules of yours.")
	board.Joiners = []string{"person:sefa"}
	w.Job("Quay board", board)
	_, err = w.C.SaveReport(ctx, "Port states", wire.ReportRequest{ReportDefinition: job.ReportDefinition{
		Source: "tarnwick", Schedulers: []string{"person:sefa"},
		Sections: []job.Section{{Name: "Ports", SQL: "SELECT code FROM ports"}},
	}})
	require.NoError(t, err)
	p.Do(chromedp.Navigate(at + "/mine"))
	p.Press("//main", "Join")
	p.Sees("you joined")
	p.Press("//main", "Schedule a report")
	p.Fill("When", "every blue moon")
	p.Sees(`found "blue", expected a length of time`)
	p.Fill("When", "on friday at 16:30")
	p.Sees("on Friday at 16:30; next on")
	p.Audit(axe, "what is mine")
	p.Press("//main", "Send it to me")
	p.Sees("Port states on Friday at 16:30, next on")
	p.Press("//main//li", "Pause")
	p.Sees("paused")
	p.Press("//main//li", "Change")
	p.Fill("As", "xlsx")
	p.Press("//main", "Save it")
	p.Sees("as xlsx")
	p.Press("//main//li", "Leave")
	p.Sees("Join")
	run, err := w.C.Ring(ctx, "Departures", nil)
	require.NoError(t, err)
	w.Until("it is kept back", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return len(page.Deliveries) == 1 && page.Deliveries[0].KeptBack == job.KeptForSilent
	})
	p.Do(chromedp.Navigate(at + "/settings"))
	p.Sees("1 delivery wait")
	p.Fill("What leaves", "all")
	p.Press("//main//form[@aria-label='Mail']", "Save")
	w.Until("all leaves again", func() bool {
		s, err := w.C.MailSettings(ctx)
		require.NoError(t, err)
		return s.Sending == job.SendAll
	})
	p.Press("//main", "Send them now")
	w.Until("it arrives", func() bool { return len(w.Inbox("oren@tarnwick.example")) == 1 })
	bounceHost, bouncePort := w.HostPort(w.Out.Mailbox)
	for label, value := range map[string]string{
		"Host": bounceHost, "Port": fmt.Sprint(bouncePort), "User": w.Out.User, "Password": w.Out.Password,
		"Security": "none", "Look every": "1s",
	} {
		p.Fill(label, value)
	}
	p.Press("//main//form[@aria-label='Bounces']", "Save")
	conn := world.Connect(t, w.Db)
	w.Until("the mailbox is read", func() bool {
		var word string
		err := conn.QueryRow(ctx, `SELECT word FROM turns WHERE name = 'bounces'`).Scan(&word)
		return err == nil && word == "looked at 0 mails"
	})
	p.Fill("URL", "http://"+w.Out.Receiver+"/alive")
	p.Press("//main//form[@aria-label='Sign of life']", "Save")
	w.Until("the sign of life arrives", func() bool { return string(w.Get(w.Out.Inbox+"/api/beats")) >= "1" })

	// Whoever is no administrator sees all of it and changes none.
	reader := w.ConsoleAs("mara")
	reader.Do(chromedp.Navigate(at + "/settings"))
	reader.Sees("An administrator changes these.")
	buttons, err := browser.Get(reader.Tab, world.Patience,
		chromedp.Evaluate[int](`[...document.querySelectorAll('main button')].length`))
	require.NoError(t, err)
	assert.Zero(t, buttons)
}

// alertSettings are those of the service.
func alertSettings(t *testing.T, w *world.World) (s job.AlertSettings) {
	t.Helper()
	var err error
	s, err = w.C.AlertSettings(context.Background())
	require.NoError(t, err)
	return s
}

// A page that is open shows what happens without a reload.
func TestDeliveriesAndDestinationsAreLive(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	w.Job("Departures", world.Definition("Departures", "company mail", []string{"csv"}, "oren@tarnwick.example"))
	deliveries, destinations := w.ConsoleAs("mara"), w.ConsoleAs("sefa")
	deliveries.Do(chromedp.Navigate("http://" + w.Listen + "/deliveries"))
	deliveries.Sees("Nothing was delivered yet.")
	destinations.Do(chromedp.Navigate("http://" + w.Listen + "/destinations"))
	destinations.Sees("company mail")
	w.Behave("mail", "away", 0)
	run, err := w.C.Ring(ctx, "Departures", nil)
	require.NoError(t, err)
	destinations.Sees("Down since")
	destinations.Sees("1 delivery waits")
	deliveries.Sees("waits: destination down")
	w.Behave("mail", "accept", 0)
	w.Until("it is sent", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	deliveries.Sees("250 2.0.0 OK")
	w.Until("and the destination works", func() bool {
		return !strings.Contains(destinations.Text(), "Down since")
	})
}

// Somebody sees what is signed in as them, ends what they do not know, and changes their own
// password, which ends the rest.
func TestTheConsoleEndsSignInsAndChangesThePassword(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	axe, err := os.ReadFile(world.Path("console/node_modules/axe-core/axe.min.js"))
	require.NoError(t, err, "type: make console")
	_, status := w.Browser("mara", world.Password, "")
	require.Equal(t, 200, status, "another browser")
	p := w.ConsoleAs("mara")
	at := "http://" + w.Listen
	p.Do(chromedp.Navigate(at + "/people"))
	p.Sees("Signed in")
	p.Sees("Quay browser")
	p.Sees("this one")
	p.Audit(axe, "what is signed in")
	count := func() int {
		n, err := browser.Get(p.Tab, world.Patience,
			chromedp.Evaluate[int](`[...document.querySelectorAll('main button')].filter((b) => b.textContent.trim() === 'End').length`))
		require.NoError(t, err)
		return n
	}
	require.Equal(t, 2, count())
	p.Press("//main//tr[not(.//b[text()='this one'])]", "End")
	w.Until("only this one is left", func() bool { return count() == 1 })
	p.Press("//main", "Change the password")
	p.Fill("Present password", world.Password)
	p.Fill("New password", "slipway lantern quince 7")
	p.Fill("New password again", "slipway lantern quince 8")
	p.Press("//main", "Change it")
	p.Sees("typed in two ways; nothing was changed")
	p.Fill("Present password", "not mine")
	p.Fill("New password again", "slipway lantern quince 7")
	p.Press("//main", "Change it")
	p.Sees("the present password is another one")
	p.Fill("Present password", world.Password)
	p.Fill("New password", "password123")
	p.Fill("New password again", "password123")
	p.Press("//main", "Change it")
	p.Sees("guess")
	p.Audit(axe, "a change of the password")
	p.Fill("New password", "slipway lantern quince 7")
	p.Fill("New password again", "slipway lantern quince 7")
	p.Press("//main", "Change it")
	w.Until("this session has ended, too", func() bool {
		there, err := browser.Get(p.Tab, world.Patience,
			chromedp.Evaluate[bool](`document.readyState === 'complete' && document.querySelectorAll('input[type=password]').length === 1 && ![...document.querySelectorAll('button')].some((b) => b.textContent.trim() === 'Change it')`))
		return err == nil && there
	})
	_, status = w.Browser("mara", world.Password, "")
	assert.Equal(t, 401, status)
	_, status = w.Browser("mara", "slipway lantern quince 7", "")
	assert.Equal(t, 200, status)
}
