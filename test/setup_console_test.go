package test

import (
	"context"
	"encoding/json"
	"fmt"
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

// fill writes into the field of a label, as a person would, once it is there.
func (p page) fill(label, value string) {
	p.t.Helper()
	l, err := json.Marshal(label)
	require.NoError(p.t, err)
	v, err := json.Marshal(value)
	require.NoError(p.t, err)
	script := fmt.Sprintf(`(() => {
		const l = [...document.querySelectorAll('main label')].find((l) => l.textContent.trim() === %[1]s);
		const f = l && document.getElementById(l.htmlFor);
		if (!f || f.tagName === 'SELECT' && ![...f.options].some((o) => o.value === %[2]s)) return false;
		f.value = %[2]s;
		f.dispatchEvent(new Event('input', {bubbles: true}));
		f.dispatchEvent(new Event('change', {bubbles: true}));
		return f.value === %[2]s || f.tagName === 'SELECT' })()`, l, v)
	for end := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		done, err := browser.Get(p.tab, patience, chromedp.Evaluate[bool](script))
		require.NoError(p.t, err)
		if done {
			return
		}
		if time.Now().After(end) {
			p.t.Fatalf("there is no field %q; the page says: %s", label, p.text())
		}
	}
}

// press presses a button inside of what an XPath finds, once it can be pressed. It
// does not aim: pages move while answers come in.
func (p page) press(inside, button string) {
	p.t.Helper()
	path, err := json.Marshal(fmt.Sprintf("%s//button[normalize-space()=%q]", inside, button))
	require.NoError(p.t, err)
	script := fmt.Sprintf(`(() => {
		const b = document.evaluate(%s, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue;
		if (!b || b.disabled) return false;
		b.click();
		return true })()`, path)
	for end := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		done, err := browser.Get(p.tab, patience, chromedp.Evaluate[bool](script))
		require.NoError(p.t, err)
		if done {
			return
		}
		if time.Now().After(end) {
			p.t.Fatalf("the button %q cannot be pressed; the page says: %s", button, p.text())
		}
	}
}

func TestTheConsoleSetsAnInstallationUp(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "type: make console")
	w.person("oren", "Oren Hask")
	p := consoleAs(t, w, "sefa")
	at := "http://" + w.listen

	// A destination is added, tested, changed, refused, and removed.
	p.do(chromedp.Navigate(at + "/destinations"))
	p.sees("company mail")
	p.press("//main", "Add a destination")
	p.fill("Protocol", "sftp")
	p.fill("Name", "Harbour authority files")
	host, port := w.hostPort(w.out.SFTP)
	p.fill("Host *", host)
	p.fill("Port", "twenty-two")
	p.fill("User *", w.out.User)
	p.fill("Password", w.out.Password)
	p.audit(axe, "a new destination")
	p.press("//main", "Save and test it")
	p.sees("the setting port takes no string")
	p.fill("Port", fmt.Sprint(port))
	p.press("//main", "Save and test it")
	p.sees("pinned the host key")
	p.sees("Pinned host key SHA256:")
	kept, err := w.c.Destination(ctx, "Harbour authority files")
	require.NoError(t, err)
	assert.JSONEq(t, fmt.Sprintf(`{"host":%q,"port":%d,"user":%q}`, host, port, w.out.User), string(kept.Settings))
	mine := "//main//section[@data-destination='Harbour authority files']"
	p.press(mine, "Change")
	p.fill("Folder", "nowhere")
	p.press(mine, "Save and test it")
	p.sees("there is no folder nowhere")
	p.press(mine, "Change")
	p.press(mine, "Remove …")
	p.sees("nothing brings it back")
	p.press(mine, "Remove Harbour authority files")
	w.until("it is gone", func() bool { _, err := w.c.Destination(ctx, "Harbour authority files"); return err != nil })
	p.press("//main//section[@data-destination='company mail']", "Send me a mail over it")
	p.sees("sent a mail to sefa.orlin@tarnwick.example: 250 2.0.0 OK")

	// A group says whom it comes to while it is written; a post moves.
	p.do(chromedp.Navigate(at + "/people"))
	p.sees("There is no group.")
	p.press("//main", "Add a group")
	p.fill("Name", "Quay")
	p.fill("Members", "person:oren; quay.desk@tarnwick.example; person:nobody")
	p.sees("Comes to 2 now: oren@tarnwick.example, quay.desk@tarnwick.example")
	p.sees(`there is no person "nobody"`)
	p.audit(axe, "a new group")
	p.press("//main", "Save the group")
	p.sees(`members[2]: there is no person "nobody"`)
	p.fill("Members", "person:oren\nquay.desk@tarnwick.example")
	p.press("//main", "Save the group")
	p.sees("group:Quay")
	p.press("//main", "Add a post")
	p.fill("Name", "Port master")
	p.fill("Held by", "oren")
	p.sees("Oren Hask ×")
	p.audit(axe, "a new post")
	p.press("//main", "Save the post")
	p.sees("Port master: Oren Hask")
	to, err := w.c.Whom(ctx, "post:Port master", "group:Quay")
	require.NoError(t, err)
	assert.Equal(t, []string{"oren@tarnwick.example", "quay.desk@tarnwick.example"}, to.Addresses)

	// Settings hold at once.
	w.place("ops desk", "http", "", map[string]any{"url": "http://" + w.out.Receiver + "/alerts"})
	p.do(chromedp.Navigate(at + "/settings"))
	p.sees("Second owner after")
	p.audit(axe, "the settings")
	p.fill("Call", "ops desk")
	p.fill("Second owner after", "an hour")
	p.press("//main//form[@aria-label='Alerts']", "Save")
	p.sees("no length of time")
	p.fill("Second owner after", "1h")
	p.press("//main//form[@aria-label='Alerts']", "Save")
	w.until("alerts are set", func() bool {
		s := alertSettings(t, w)
		return s.Call == "ops desk" && time.Duration(s.Second) == time.Hour && s.Destination == "company mail"
	})
	p.fill("Domains", "tarnwick.example, harbour-authority.test")
	p.fill("What leaves", "none")
	p.press("//main//form[@aria-label='Mail']", "Save")
	w.until("mail is set", func() bool {
		s, err := w.c.MailSettings(ctx)
		require.NoError(t, err)
		return s.Sending == job.SendNone && len(s.Domains) == 2
	})
	w.report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	w.job("Departures", definition("Departures", "company mail", []string{"csv"}, "oren@tarnwick.example"))
	run, err := w.c.Ring(ctx, "Departures", nil)
	require.NoError(t, err)
	w.until("it is kept back", func() bool {
		page, err := w.c.Run(ctx, run.ID)
		require.NoError(t, err)
		return len(page.Deliveries) == 1 && page.Deliveries[0].KeptBack == job.KeptForSilent
	})
	p.do(chromedp.Navigate(at + "/settings"))
	p.sees("1 delivery wait")
	p.fill("What leaves", "all")
	p.press("//main//form[@aria-label='Mail']", "Save")
	w.until("all leaves again", func() bool {
		s, err := w.c.MailSettings(ctx)
		require.NoError(t, err)
		return s.Sending == job.SendAll
	})
	p.press("//main", "Send them now")
	w.until("it arrives", func() bool { return len(w.inbox("oren@tarnwick.example")) == 1 })
	bounceHost, bouncePort := w.hostPort(w.out.Mailbox)
	for label, value := range map[string]string{
		"Host": bounceHost, "Port": fmt.Sprint(bouncePort), "User": w.out.User, "Password": w.out.Password,
		"Security": "none", "Look every": "1s",
	} {
		p.fill(label, value)
	}
	p.press("//main//form[@aria-label='Bounces']", "Save")
	conn := connect(t, w.db)
	w.until("the mailbox is read", func() bool {
		var word string
		err := conn.QueryRow(ctx, `SELECT word FROM turns WHERE name = 'bounces'`).Scan(&word)
		return err == nil && word == "looked at 0 mails"
	})
	p.fill("URL", "http://"+w.out.Receiver+"/alive")
	p.press("//main//form[@aria-label='Sign of life']", "Save")
	w.until("the sign of life arrives", func() bool { return string(w.get(w.out.Inbox+"/api/beats")) >= "1" })

	// Whoever is no administrator sees all of it and changes none.
	reader := consoleAs(t, w, "mara")
	reader.do(chromedp.Navigate(at + "/settings"))
	reader.sees("An administrator changes these.")
	buttons, err := browser.Get(reader.tab, patience,
		chromedp.Evaluate[int](`[...document.querySelectorAll('main button')].length`))
	require.NoError(t, err)
	assert.Zero(t, buttons)
}

// alertSettings are those of the service.
func alertSettings(t *testing.T, w *world) (s job.AlertSettings) {
	t.Helper()
	var err error
	s, err = w.c.AlertSettings(context.Background())
	require.NoError(t, err)
	return s
}

// A page that is open shows what happens without a reload.
func TestDeliveriesAndDestinationsAreLive(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	w.job("Departures", definition("Departures", "company mail", []string{"csv"}, "oren@tarnwick.example"))
	deliveries, destinations := consoleAs(t, w, "mara"), consoleAs(t, w, "sefa")
	deliveries.do(chromedp.Navigate("http://" + w.listen + "/deliveries"))
	deliveries.sees("Nothing was delivered yet.")
	destinations.do(chromedp.Navigate("http://" + w.listen + "/destinations"))
	destinations.sees("company mail")
	w.behave("mail", "away", 0)
	run, err := w.c.Ring(ctx, "Departures", nil)
	require.NoError(t, err)
	destinations.sees("Down since")
	destinations.sees("1 delivery waits")
	deliveries.sees("waits: destination down")
	w.behave("mail", "accept", 0)
	w.until("it is sent", func() bool {
		page, err := w.c.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	deliveries.sees("250 2.0.0 OK")
	w.until("and the destination works", func() bool {
		return !strings.Contains(destinations.text(), "Down since")
	})
}

// Somebody sees what is signed in as them, ends what they do not know, and changes their own
// password, which ends the rest.
func TestTheConsoleEndsSignInsAndChangesThePassword(t *testing.T) {
	w := open(t)
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "type: make console")
	_, status := w.browser("mara", password, "")
	require.Equal(t, 200, status, "another browser")
	p := consoleAs(t, w, "mara")
	at := "http://" + w.listen
	p.do(chromedp.Navigate(at + "/people"))
	p.sees("Signed in")
	p.sees("Quay browser")
	p.sees("this one")
	p.audit(axe, "what is signed in")
	count := func() int {
		n, err := browser.Get(p.tab, patience,
			chromedp.Evaluate[int](`[...document.querySelectorAll('main button')].filter((b) => b.textContent.trim() === 'End').length`))
		require.NoError(t, err)
		return n
	}
	require.Equal(t, 2, count())
	p.press("//main//tr[not(.//b[text()='this one'])]", "End")
	w.until("only this one is left", func() bool { return count() == 1 })
	p.press("//main", "Change the password")
	p.fill("Present password", password)
	p.fill("New password", "slipway lantern quince 7")
	p.fill("New password again", "slipway lantern quince 8")
	p.press("//main", "Change it")
	p.sees("typed in two ways; nothing was changed")
	p.fill("Present password", "not mine")
	p.fill("New password again", "slipway lantern quince 7")
	p.press("//main", "Change it")
	p.sees("the present password is another one")
	p.fill("Present password", password)
	p.fill("New password", "password123")
	p.fill("New password again", "password123")
	p.press("//main", "Change it")
	p.sees("guess")
	p.audit(axe, "a change of the password")
	p.fill("New password", "slipway lantern quince 7")
	p.fill("New password again", "slipway lantern quince 7")
	p.press("//main", "Change it")
	w.until("this session has ended, too", func() bool {
		there, err := browser.Get(p.tab, patience,
			chromedp.Evaluate[bool](`document.readyState === 'complete' && document.querySelectorAll('input[type=password]').length === 1 && ![...document.querySelectorAll('button')].some((b) => b.textContent.trim() === 'Change it')`))
		return err == nil && there
	})
	_, status = w.browser("mara", password, "")
	assert.Equal(t, 401, status)
	_, status = w.browser("mara", "slipway lantern quince 7", "")
	assert.Equal(t, 200, status)
}
