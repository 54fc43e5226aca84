package test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/store/history"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMailAsPeopleWantIt(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	for login, name := range map[string]string{
		"oren": "Oren Hask", "brina": "Brina Colm", "tavish": "Tavish Rook", "maeve": "Maeve Tarn",
	} {
		w.Person(login, name)
	}
	_, err := w.C.SavePost(ctx, "Engineering superintendent", "", "joren")
	require.NoError(t, err)
	_, err = w.C.SavePost(ctx, "Slipway foreman", "Engineering superintendent", "tavish")
	require.NoError(t, err)
	_, err = w.C.SavePost(ctx, "Engineering superintendent", "Slipway foreman", "joren")
	assert.ErrorContains(t, err, "circle")
	_, err = w.C.SaveGroup(ctx, "Port masters",
		"person:oren, person:brina;\n\"Quay, Desk\" <quay.desk@tarnwick.example>")
	require.NoError(t, err)
	_, err = w.C.SaveGroup(ctx, "Broken", "person:nobody, not an address, a@b.example")
	require.ErrorContains(t, err, "was not accepted")
	for _, part := range []string{`no person "nobody"`, `"not an address" is no mail address`} {
		assert.ErrorContains(t, err, part, "each bad one is named")
	}
	// Brina is away, and Maeve stands in for her.
	until := w.Now().Add(48 * time.Hour)
	_, err = w.C.SaveWishes(ctx, "brina", job.OwnSettings{Wishes: job.Wishes{PausedUntil: &until, StandIn: "maeve"}})
	require.NoError(t, err)

	require.NoError(t,
		w.C.SaveMailSettings(ctx, job.MailSettings{Subject: "Tarnwick: {job}", ReplyTo: "quay.desk@tarnwick.example"}))
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings UNION ALL SELECT 'Grey Skerry', 3")
	d := world.Definition("Departures", "company mail", []string{"html-mail", "csv", "xlsx"}, "group:Port masters",
		"oren@tarnwick.example")
	mail := d.Tasks[1].Deliver
	mail.Cc, mail.Bcc = []string{"under:Engineering superintendent"}, []string{"Müller <mueller@grüße.example>"}
	mail.Priority, mail.Zip, mail.MayLeave = "high", "Departures {date:%Y}", true
	mail.Body = "Sailings of {rows} ports.\r\nBcc: nobody@else.test"
	mail.ToQuery = &job.ListQuery{Source: "tarnwick", SQL: "SELECT 'fenn' || '.desk@tarnwick.example'"}
	w.Job("Departures", d)
	run := w.Ring("Departures")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	got := map[string]bool{}
	for _, dl := range run.Deliveries {
		got[dl.Address] = true
	}
	assert.Equal(t, map[string]bool{
		"oren@tarnwick.example": true, "maeve@tarnwick.example": true, "quay.desk@tarnwick.example": true,
		"fenn.desk@tarnwick.example": true,
		"joren@tarnwick.example":     true, "tavish@tarnwick.example": true, "mueller@xn--gre-6ka8l.example": true,
	}, got, "each once; whose mail is paused has a stand-in")
	l := w.Inbox("oren@tarnwick.example")[0]
	raw := w.Raw(l)
	head, _, _ := strings.Cut(raw, "\r\n\r\n")
	assert.Equal(t, "Tarnwick: Departures", l.Subject, "the house's own subject")
	for _, part := range []string{
		"To: <oren@tarnwick.example>",
		"Cc: <joren@tarnwick.example>, <tavish@tarnwick.example>", "Reply-To: <quay.desk@tarnwick.example>",
		"Importance: high", "List-Unsubscribe-Post: List-Unsubscribe=One-Click",
	} {
		assert.Contains(t, head, part)
	}
	assert.NotContains(t, head, "mueller", "nobody sees who gets a blind copy")
	assert.NotContains(t, head, "nobody@else")
	assert.Contains(t, l.Plain, "Grey Skerry")
	assert.Regexp(t, `port +sailings\n-+ +-+\nTarnwick Quay +12\nGrey Skerry +3\n`,
		strings.ReplaceAll(l.Plain, "\r", ""), "the table reads well without HTML")
	require.Len(t, l.Attachments, 1)
	content := w.Attachment(l, 0)
	archive, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	require.Len(t, archive.File, 2)
	assert.Regexp(t, `^Departures \d{4}\.zip$`, l.Attachments[0].Name)

	// Oren takes himself off: the link shows on GET and acts on POST.
	link := regexp.MustCompile(`List-Unsubscribe: <(http[^>]+)>`).FindStringSubmatch(regexp.MustCompile(`\r\n\s+`).ReplaceAllString(raw, ""))
	require.NotNil(t, link)
	text := string(w.Get(link[1]))
	assert.Contains(t, text, "oren@tarnwick.example gets the mails of this job.")
	list, err := w.C.Receives(ctx, "oren")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.False(t, list[0].Left, "showing it changes nothing")
	res, err := http.PostForm(link[1], url.Values{"List-Unsubscribe": {"One-Click"}})
	require.NoError(t, err)
	_ = res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
	res, err = http.PostForm(link[1]+"x", nil)
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, http.StatusNotFound, res.StatusCode, "a signature that is not ours does nothing")
	run = w.Ring("Departures")
	for _, dl := range run.Deliveries {
		assert.NotEqual(t, "oren@tarnwick.example", dl.Address)
	}
	out, _, _ := w.Ironbell("receives", "oren")
	assert.Contains(t, out, "left its list")
	out, _, _ = w.Ironbell("whom", "group:Port masters")
	assert.Equal(t, []string{"oren@tarnwick.example", "maeve@tarnwick.example", "quay.desk@tarnwick.example"},
		strings.Split(strings.TrimSpace(out), "\n")[:3])
	assert.Contains(t, out, "Maeve Tarn gets it instead")
	assert.ErrorContains(t, w.C.RemoveGroup(ctx, "Port masters"), `job "Departures" sends to it`)
}

func TestLinksAreForThoseWhomTheJobSays(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	d := world.Definition("Departures", "company mail", []string{"csv"}, "mara@tarnwick.example")
	d.Tasks[1].Deliver.Files = job.FilesLinked
	w.Job("Linked", d)
	run := w.Ring("Linked")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	l := w.Inbox("mara@tarnwick.example")[0]
	assert.Empty(t, l.Attachments)
	assert.Contains(t, l.Plain,
		"It is a link that only the recipients of this mail can follow, 1 in all. You sign in to follow it. It ends on")
	token := regexp.MustCompile(`/l/([a-z0-9]+)`).FindStringSubmatch(l.Plain)[1]
	res, err := http.Get("http://" + w.Listen + "/api/links/" + token)
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, res.StatusCode)
	page, err := w.As("mara").FollowLink(ctx, token)
	require.NoError(t, err)
	require.Len(t, page.Files, 1)
	assert.Empty(t, page.Named)
	_, err = w.As("joren").FollowLink(ctx, token)
	assert.ErrorContains(t, err, "only for those whom the mail went to, and you are signed in as Joren Tak")
	// It is bound to her, whoever takes her address for theirs, and the file asks the same.
	joren, hers, elsewhere := w.As("joren"), "mara@tarnwick.example", "mara.quill@tarnwick.example"
	file := func(c *client.Client) error {
		in, err := c.File(ctx, page.Files[0].ID)
		if err == nil {
			_ = in.Close()
		}
		return err
	}
	_, err = w.As("mara").SaveWishes(ctx, "mara", job.OwnSettings{Mail: &elsewhere})
	require.NoError(t, err)
	_, err = joren.SaveWishes(ctx, "joren", job.OwnSettings{Mail: &hers})
	require.NoError(t, err)
	_, err = joren.FollowLink(ctx, token)
	assert.ErrorContains(t, err, "only for those whom the mail went to")
	assert.ErrorContains(t, file(joren), "no link to it is open to Joren Tak")
	_, err = w.As("mara").FollowLink(ctx, token)
	require.NoError(t, err)
	require.NoError(t, file(w.As("mara")))
	again := w.Ring("Linked")
	l = w.Inbox(hers)[0]
	newer := regexp.MustCompile(`/l/([a-z0-9]+)`).FindStringSubmatch(l.Plain)[1]
	_, err = joren.FollowLink(ctx, newer)
	assert.ErrorContains(t, err, "only for those whom the mail went to",
		"an address that is somebody's own word lets nobody in")
	_, err = joren.Compare(ctx, again.ID, run.ID, "")
	assert.ErrorContains(t, err, "no link to it is open to Joren Tak", "nor is there a way round")
	_, err = w.C.SavePerson(ctx, "joren", wire.PersonRequest{
		Name: "Joren Tak", Mail: "joren@tarnwick.example", Role: "owner", Zone: demo.Zone,
	})
	require.NoError(t, err)
	_, err = w.C.SavePerson(ctx, "mara", wire.PersonRequest{
		Name: "Mara Quill", Mail: hers, Role: "owner", Zone: demo.Zone,
	})
	require.NoError(t, err)
	_, err = w.C.FollowLink(ctx, token+"x")
	assert.ErrorContains(t, err, "There is no such link")
	run, err = w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	require.Len(t, run.Links, 1)
	assert.Equal(t, 2, run.Links[0].Follows, "following it is recorded")
	_, err = w.As("joren").WithdrawLinks(ctx, run.ID, 0)
	assert.ErrorContains(t, err, "may not withdraw")
	out, _, _ := w.Ironbell("withdraw", run.ID.String())
	assert.Contains(t, out, "1 links")
	_, err = w.As("mara").FollowLink(ctx, token)
	assert.ErrorContains(t, err, "was withdrawn")
	require.NoError(t, file(w.As("mara")), "it is her job")
	assert.Error(t, file(joren))
	withdrawn := run.ID

	d.Tasks[1].Deliver.Link = job.LinkTerms{For: "house", Days: 2}
	w.Job("Linked", d)
	w.Ring("Linked")
	l = w.Inbox("mara@tarnwick.example")[0]
	assert.Contains(t, l.Plain, "a link for everybody who can sign in to Iron Bell")
	token = regexp.MustCompile(`/l/([a-z0-9]+)`).FindStringSubmatch(l.Plain)[1]
	_, err = w.As("joren").FollowLink(ctx, token)
	require.NoError(t, err)
	_, err = world.Connect(t, w.Db).Exec(ctx, `UPDATE links SET ends_at = bell_now() - interval '1 minute' WHERE hash = $1`,
		history.LinkHash(token))
	require.NoError(t, err)
	_, err = w.As("joren").FollowLink(ctx, token)
	assert.ErrorContains(t, err, "This link ended on")

	// One to the archive leads to what earlier runs made of the same, but for what
	// was withdrawn; and to nothing later.
	first := w.Ring("Linked")
	d.Tasks[1].Deliver.Link.Archive = true
	w.Job("Linked", d)
	second := w.Ring("Linked")
	third := w.Ring("Linked")
	tokens := []string{}
	for _, l := range w.Inbox("mara@tarnwick.example") {
		if strings.Contains(l.Plain, "The files, with those of earlier runs: ") {
			tokens = append(tokens, regexp.MustCompile(`/l/([a-z0-9]+)`).FindStringSubmatch(l.Plain)[1])
		}
	}
	require.Len(t, tokens, 2)
	earlier := func(token string) (runs []job.RunID, files []job.Artifact) {
		page, err := joren.FollowLink(ctx, token)
		require.NoError(t, err)
		for _, e := range page.Earlier {
			runs, files = append(runs, e.RunID), append(files, e.Files...)
		}
		return runs, files
	}
	runs, files := earlier(tokens[0]) // the newest mail comes first
	require.NotContains(t, runs, withdrawn, "the first run's links were withdrawn")
	assert.Equal(t, []job.RunID{second.ID, first.ID}, runs[:2])
	older, _ := earlier(tokens[1])
	assert.NotContains(t, older, third.ID)
	require.Len(t, files, len(runs))
	q, err := http.NewRequest(http.MethodGet,
		fmt.Sprintf("http://%s/api/links/%s/files/%d", w.Listen, tokens[0], files[1].ID), nil)
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+w.Token)
	fetched, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	content, err := io.ReadAll(fetched.Body)
	require.NoError(t, err)
	require.NoError(t, fetched.Body.Close())
	assert.Contains(t, string(content), "Tarnwick Quay")
}

func TestAMailThatIsTooLargeIsSplitLinkedOrFails(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Large", "SELECT i, md5(i::text) AS text FROM generate_series(1, 3000) i")
	host, port := w.HostPort(w.Out.Authority)
	w.Place("small mail", "smtp", "", map[string]any{
		"host": host, "port": port, "from": "Iron Bell <bell@tarnwick.example>", "ca": w.Out.CA, "max_size": 200_000,
	})
	d := world.Definition("Large", "small mail", []string{"csv", "tsv", "json"}, "mara@tarnwick.example")
	for i, name := range []string{"a", "b", "c"} {
		d.Tasks[0].Report.Outputs[i].Name = name
	}
	d.Tasks[0].Report.Outputs[2] = job.Output{Format: "csv", Name: "c"}
	w.Job("Large", d)
	run := w.Ring("Large")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	mails := w.Inbox("mara@tarnwick.example")
	require.Len(t, mails, 3)
	subjects := map[string]bool{}
	for _, m := range mails {
		subjects[m.Subject[strings.LastIndex(m.Subject, "("):]] = true
		assert.Len(t, m.Attachments, 1)
	}
	assert.Equal(t, map[string]bool{"(1 of 3)": true, "(2 of 3)": true, "(3 of 3)": true}, subjects)
	d.Tasks[1].Deliver.TooLarge = job.LargeLink
	w.Job("Large", d)
	require.Equal(t, job.RunDone, w.Ring("Large").State)
	l := w.Inbox("mara@tarnwick.example")[0]
	assert.Empty(t, l.Attachments)
	assert.Contains(t, l.Plain, "/l/")
	d.Tasks[1].Deliver.TooLarge = job.LargeFail
	w.Job("Large", d)
	run = w.Ring("Large")
	assert.Equal(t, job.RunFailed, run.State)
	assert.Contains(t, run.Reason, "and the mail server takes 200 kB")
	w.Until("four mails, and the alert of the failure",
		func() bool { return len(w.Inbox("mara@tarnwick.example")) == 5 })
}

func TestAWrongReportIsCorrectedForThoseWhoGotIt(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Loads", "SELECT 'Pennold' AS port, 0 AS cars")
	d := world.Definition("Loads", "company mail", []string{"csv"}, "quay.desk@tarnwick.example",
		"gone@tarnwick.example")
	d.Tasks[1].Deliver.Files = job.FilesBoth
	d.Retry = job.Retry{}
	w.Job("Loads", d)
	w.BehaveTo("mail", "refuse", "gone@tarnwick.example", 0)
	run := w.Ring("Loads")
	require.Equal(t, job.RunPartly, run.State)
	w.Behave("mail", "accept", 0)
	w.Report("Loads", "SELECT 'Pennold' AS port, 41 AS cars")
	d.Tasks[1].Deliver.To = []string{"brina@tarnwick.example"} // who would get it now did not get the wrong one
	w.Job("Loads", d)
	out, errs, status := w.Ironbell("correct", "-wrong", "The loads of Pennold were missing.", run.ID.String())
	require.Zero(t, status, errs)
	assert.Contains(t, out, "corrects run "+run.ID.String())
	w.Until("the correction arrives", func() bool { return len(w.Inbox("quay.desk@tarnwick.example")) == 2 })
	l := w.Inbox("quay.desk@tarnwick.example")[0]
	assert.True(t, strings.HasPrefix(l.Subject, "Correction: Loads"), l.Subject)
	assert.Contains(t, l.Plain, "This corrects what you got before: The loads of Pennold were missing.")
	assert.Contains(t, string(w.Attachment(l, 0)), "41")
	assert.Empty(t, w.Inbox("brina@tarnwick.example"))
	assert.Empty(t, w.Inbox("gone@tarnwick.example"))
	first, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	require.Len(t, first.Links, 1)
	require.NotNil(t, first.Links[0].WithdrawnAt)

	out, _, _ = w.Ironbell("resend", run.ID.String())
	assert.Contains(t, out, "1 deliveries of run")
	w.Until("what had failed arrives", func() bool { return len(w.Inbox("gone@tarnwick.example")) == 1 })
	w.Until("and the run is done", func() bool {
		first, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return first.State == job.RunDone
	})
	assert.Len(t, w.Inbox("quay.desk@tarnwick.example"), 2, "who has it gets it no second time")
}

func TestMailBeyondTheHouseWaitsForASecondPerson(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	require.NoError(t, w.C.SaveMailSettings(ctx, job.MailSettings{Domains: []string{"tarnwick.example"}}))
	w.Report("Departures", "SELECT 1 AS n")
	w.Job("Outside",
		world.Definition("Departures", "company mail", []string{"csv"}, "mara@tarnwick.example",
			"manifests@harbour-authority.test", "spy@nottarnwick.example"))
	run, err := w.C.Ring(ctx, "Outside", nil)
	require.NoError(t, err)
	w.Until("who is in the house has it", func() bool { return len(w.Inbox("mara@tarnwick.example")) == 1 })
	var waiting []job.Delivery
	w.Until("the others wait", func() bool {
		waiting, err = w.C.Record(ctx, world.ClientWhich(run.ID, "yes"))
		require.NoError(t, err)
		return len(waiting) == 2
	})
	by := map[string]int64{}
	for _, d := range waiting {
		by[d.Address] = d.ID
	}
	_, err = w.As("mara").Allow(ctx, by["manifests@harbour-authority.test"], true, time.Time{})
	assert.ErrorContains(t, err, "it takes a second person")
	_, err = w.As("joren").Allow(ctx, by["manifests@harbour-authority.test"], true, time.Time{})
	require.NoError(t, err)
	out, _, status := w.Ironbell("allow", "-no", fmt.Sprint(by["spy@nottarnwick.example"]))
	assert.Zero(t, status)
	assert.Contains(t, out, "declined")
	w.Until("what was allowed arrives", func() bool { return len(w.Inbox("manifests@harbour-authority.test")) == 1 })
	assert.Empty(t, w.Inbox("spy@nottarnwick.example"))
	w.Until("the run ends", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunPartly
	})
}

func TestAnInstallationCanBeSilentOrSendToOneAddress(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Departures", "SELECT 1 AS n")
	w.Job("Departures",
		world.Definition("Departures", "company mail", []string{"csv"}, "mara@tarnwick.example",
			"joren@tarnwick.example"))
	require.NoError(t,
		w.C.SaveMailSettings(ctx, job.MailSettings{Sending: job.SendOne, OnlyTo: "test.desk@tarnwick.example"}))
	require.Equal(t, job.RunDone, w.Ring("Departures").State)
	assert.Len(t, w.Inbox("test.desk@tarnwick.example"), 2)
	require.NoError(t, w.C.SaveMailSettings(ctx, job.MailSettings{Sending: job.SendNone}))
	run, err := w.C.Ring(ctx, "Departures", nil)
	require.NoError(t, err)
	w.Until("all of it is kept back", func() bool {
		list, err := w.C.Record(ctx, world.ClientWhich(run.ID, "silent"))
		require.NoError(t, err)
		return len(list) == 2
	})
	require.NoError(t, w.C.SaveMailSettings(ctx, job.MailSettings{}))
	n, err := w.C.Release(ctx, true)
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	w.Until("then it arrives", func() bool { return len(w.Inbox("mara@tarnwick.example")) == 1 })
	assert.ErrorContains(t, w.C.SaveMailSettings(ctx, job.MailSettings{Sending: job.SendOne}), "name the one address")
}

func TestAlertsGoStepByStep(t *testing.T) {
	t.Parallel() // it waits most of its time
	w := world.Open(t)
	ctx := context.Background()
	w.Place("ops desk", "http", "", map[string]any{"url": "http://" + w.Out.Receiver + "/alerts"})
	err := w.C.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail", Call: "nowhere"})
	require.ErrorContains(t, err, `there is no destination "nowhere"`)
	second := job.Duration(time.Second)
	require.NoError(t,
		w.C.SaveAlertSettings(ctx, job.AlertSettings{
			Destination: "company mail", Call: "ops desk", Second: second, Administrators: second, CallAfter: second,
			Repeat: job.Duration(4 * time.Second),
		}))
	w.Report("Broken", "SELECT 1/(CASE WHEN now() > 'epoch' THEN 0 ELSE 1 END) AS n")
	d := world.Definition("Broken", "company mail", []string{"csv"}, "quay.desk@tarnwick.example")
	d.Retry, d.SecondOwner = job.Retry{}, "joren"
	w.Job("Broken", d)
	require.Equal(t, job.RunFailed, w.Ring("Broken").State)
	for _, who := range []string{"mara", "joren", "sefa.orlin"} {
		w.Until(who+" is told", func() bool { return len(w.Inbox(who+"@tarnwick.example")) > 0 })
	}
	w.Until("the call is made", func() bool { return len(w.Received()) > 0 })
	var call struct {
		Kind, About, Happened, Link string
	}
	require.NoError(t, json.Unmarshal([]byte(w.Received()[0].Body), &call))
	assert.Equal(t, "run failed", call.Kind)
	assert.Contains(t, call.Happened, "division by zero")
	toSecond := w.Inbox("joren@tarnwick.example")[0]
	assert.Contains(t, toSecond.Plain, "Why you: The owner, mara, has not acknowledged it.")
	w.Until("all are told again while nobody takes it on",
		func() bool { return len(w.Inbox("mara@tarnwick.example")) > 1 })

	link := regexp.MustCompile(`http\S+/acknowledge/\S+`).FindString(toSecond.Plain)
	require.NotEmpty(t, link)
	text := string(w.Get(link))
	assert.Contains(t, text, "You are Joren Tak.")
	assert.Contains(t, text, "Acknowledge</button>")
	alerts, err := w.C.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1, "showing it changes nothing")
	// Mails of the version before have another path, and the same signature.
	res, err := http.Get(strings.Replace(link, "/acknowledge/", "/take-on/", 1))
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, http.StatusOK, res.StatusCode)
	res, err = http.PostForm(link, nil)
	require.NoError(t, err)
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Contains(t, string(body), "You have acknowledged it, Joren Tak.")
	alerts, err = w.C.Alerts(ctx, "acknowledged")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Equal(t, "Joren Tak", alerts[0].AcknowledgedBy)
	// Another alert is told and told again, and this one no more.
	about := func(name string) int {
		n := 0
		for _, l := range w.Inbox("mara@tarnwick.example") {
			if strings.HasSuffix(l.Subject, ": "+name) {
				n++
			}
		}
		return n
	}
	n := about("Broken")
	require.Positive(t, n)
	w.Job("Beside", d)
	require.Equal(t, job.RunFailed, w.Ring("Beside").State)
	w.Until("the other is told again", func() bool { return about("Beside") > 1 })
	assert.Equal(t, n, about("Broken"))
	res, err = http.Get(strings.Replace(link, "/acknowledge/", "/acknowledge/9", 1))
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, http.StatusNotFound, res.StatusCode)
}

func TestAServiceThatCanTellNobodySaysSo(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Broken", "SELECT 1/(CASE WHEN now() > 'epoch' THEN 0 ELSE 1 END) AS n")
	d := world.Definition("Broken", "company mail", []string{"csv"}, "quay.desk@tarnwick.example")
	d.Retry = job.Retry{}
	w.Job("Broken", d)
	require.NoError(t, w.C.SaveAlertSettings(context.Background(), job.AlertSettings{Destination: "company mail"}))
	status, _ := w.State()
	require.Equal(t, http.StatusOK, status)
	w.Behave("mail", "away", 0)
	require.Equal(t, job.RunFailed, w.Ring("Broken").State)
	w.Until("its state says so", func() bool {
		status, _ := w.State()
		return status == http.StatusServiceUnavailable
	})
	_, text := w.State()
	assert.Contains(t, text, "of which nobody can be told")
	assert.Contains(t, string(w.Get("http://"+w.Listen+"/metrics")), "ironbell_destinations_resting 1\n")
	w.Behave("mail", "accept", 0)
	w.Until("and that it is over", func() bool {
		status, _ := w.State()
		return status == http.StatusOK
	})
	assert.NotEmpty(t, w.Inbox("mara@tarnwick.example"))
}

// Each reads a mail in the language that they wish; its head names all of them.
func TestAMailToPeopleOfSeveralLanguages(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	for login, language := range map[string]string{"oren": "de", "brina": "fr", "maeve": "de", "tavish": ""} {
		w.Person(login, login+" of Tarnwick")
		_, err := w.C.SaveWishes(ctx, login, job.OwnSettings{Wishes: job.Wishes{Language: language}})
		require.NoError(t, err)
	}
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	d := world.Definition("Departures", "company mail", []string{"csv"}, "person:oren", "person:brina", "person:maeve", "person:tavish",
		"quay.desk@tarnwick.example")
	d.Tasks[1].Deliver.Body = "{date:%A}"
	d.Tasks[1].Deliver.Files = job.FilesBoth
	w.Job("Departures", d)
	run := w.Ring("Departures")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	assert.Len(t, run.Deliveries, 5, "each once")
	zoned, err := time.LoadLocation(run.Zone)
	require.NoError(t, err)
	names := map[string][7]string{
		"en": {"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"},
		"de": {"Sonntag", "Montag", "Dienstag", "Mittwoch", "Donnerstag", "Freitag", "Samstag"},
		"fr": {"dimanche", "lundi", "mardi", "mercredi", "jeudi", "vendredi", "samedi"},
	}
	day := func(language string) string { return names[language][run.Nominal.In(zoned).Weekday()] + "\n" }
	links := map[string]bool{}
	for who, want := range map[string][]string{
		"oren": {"Iron Bell, Lauf", "Die Dateien: ", day("de")}, "maeve": {"Iron Bell, Lauf", "Dem Link können nur", day("de")},
		"brina": {"Iron Bell, exécution", "Seuls les destinataires de ce courriel, 5 au total", day("fr")}, "tavish": {"Iron Bell, run", day("en")},
		"quay.desk": {"Iron Bell, run", "You sign in to follow it."},
	} {
		all := w.Inbox(who + "@tarnwick.example")
		require.Len(t, all, 1, who)
		for _, text := range want {
			assert.Contains(t, strings.ReplaceAll(all[0].Plain, "\r", ""), text, who)
		}
		assert.Len(t, all[0].Attachments, 1)
		for _, other := range []string{"oren", "brina", "maeve", "tavish", "quay.desk"} {
			assert.Contains(t, w.Raw(all[0]), "<"+other+"@tarnwick.example>", "the head names all")
		}
		links[regexp.MustCompile(`http\S+/l/\S+`).FindString(all[0].Plain)] = true
	}
	assert.Len(t, links, 1, "it is one link")

	d.Tasks[1].Deliver.Locale = "es"
	w.Job("Departures", d)
	run = w.Ring("Departures")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	for _, who := range []string{"oren", "quay.desk"} {
		assert.Contains(t, w.Inbox(who + "@tarnwick.example")[0].Plain, "Iron Bell, ejecución", "the task says one for all")
	}
}
