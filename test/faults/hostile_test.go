package faults

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLineEndsInValuesMakeNoHeadersAndNoRecipients(t *testing.T) {
	w := world.Open(t)
	d := w.Notes()
	d.Values = job.Values{"note": "calm\r\nBcc: thief@else.test\r\n\r\nCome in"}
	w.Job("Notes", d)
	run := w.Ring("Notes")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	require.Len(t, run.Deliveries, 1)
	assert.Equal(t, "oren@tarnwick.example", run.Deliveries[0].Address)
	l := w.Inbox("oren@tarnwick.example")[0]
	assert.Equal(t, "Note: calm Bcc: thief@else.test Come in", l.Subject)
	head, _, _ := strings.Cut(w.Raw(l), "\r\n\r\n")
	assert.NotRegexp(t, `(?mi)^bcc:`, head)
	assert.Empty(t, w.Inbox("thief@else.test"))
	require.Len(t, l.Attachments, 1)
	assert.NotContains(t, l.Attachments[0].Name, "\n")
	assert.Equal(t, "Note: calm Bcc: thief@else.test Come in", run.Deliveries[0].Subject,
		"the record reads as the mail does")
}

func TestAddressesOfEveryKindComeToThoseWhomTheyName(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	d := w.Notes()
	d.Values = job.Values{"note": "calm"}
	d.Tasks[1].Deliver.To = []string{`"Hask, Oren \"the quay\"" <oren@tarnwick.example>; Søren Ærø <soren@tarnwick.example>` + "\n" + `Ελένη <eleni@tarnwick.example>, <quay.desk@TARNWICK.example>`, "quay.desk@tarnwick.example"}
	w.Job("Notes", d)
	run := w.Ring("Notes")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	var got []string
	for _, dl := range run.Deliveries {
		got = append(got, dl.Address)
	}
	slices.Sort(got)
	assert.Equal(t,
		[]string{
			"eleni@tarnwick.example", "oren@tarnwick.example", "quay.desk@tarnwick.example",
			"soren@tarnwick.example",
		}, got, "each once, whatever case its domain is in")
	for _, to := range got {
		require.Len(t, w.Inbox(to), 1, to)
	}

	// A list with some that are none: each fails by its name, and the others go out.
	d.Tasks[1].Deliver.To = []string{"{value.note}"}
	d.Values = job.Values{"note": "oren@tarnwick.example; oren at tarnwick; \"open <a@tarnwick.example>"}
	w.Job("Notes", d)
	run = w.Ring("Notes")
	require.Equal(t, job.RunPartly, run.State)
	failed := map[string]string{}
	for _, dl := range run.Deliveries {
		if dl.State == job.DeliveryFailed {
			failed[dl.Address] = dl.Answer
		}
	}
	assert.Contains(t, failed["oren at tarnwick"], "is no mail address")
	require.Len(t, w.Inbox("oren@tarnwick.example"), 2, "who can be reached is")
	alerts, err := w.C.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Equal(t, job.AlertDeliveryFailed, alerts[0].Kind)
	assert.Contains(t, alerts[0].Advice, "Correct it in the job, or where it comes from.")
}

func TestNamesFromDataStayBelowTheirDestination(t *testing.T) {
	w := world.Open(t)
	names := w.FilePlaces()
	_, err := w.C.TestDestination(context.Background(), names["sftp"]) // pins its key
	require.NoError(t, err)
	d := w.Notes()
	d.Tasks = d.Tasks[:1]
	d.Tasks[0].Report.Outputs[0].Folder = "{value.note}"
	for _, protocol := range []string{"folder", "sftp", "ftp", "webdav"} {
		d.Tasks = append(d.Tasks, job.Task{
			Name: protocol, Kind: job.KindDeliver, After: []string{"report"},
			Deliver: &job.DeliverTask{Destination: names[protocol]},
		})
	}
	long := strings.Repeat("tide gauge ", 30)
	d.Split = job.Split{
		Each: "note", Values: []string{"../../up", "/etc/cron.d/x", `..\..\up`, "NUL", "a\x1b[31mred", ".", long, "  "},
	}
	d.Values = job.Values{}
	w.Job("Names", d)
	run := w.Ring("Names")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	require.Len(t, run.Deliveries, 4*len(d.Split.Values))
	for _, dl := range run.Deliveries {
		require.Equal(t, job.DeliverySent, dl.State, "%s: %s", dl.Address, dl.Answer)
		for _, piece := range strings.Split(dl.Address, "/") {
			assert.NotContains(t, []string{"", ".", ".."}, piece, dl.Address)
			assert.LessOrEqual(t, len(piece), 255, "a name that every file system takes")
			assert.NotRegexp(t, `(?i)^(nul|con|aux|prn)(\.|$)`, piece, "no name of a device")
			assert.NotRegexp(t, `[\x00-\x1f\x7f\\]`, piece)
		}
		assert.Equal(t, ".csv", filepath.Ext(dl.Address), "the ending stays, however long the name is")
	}
	for _, out := range []string{
		filepath.Join(w.Dir, "up"), filepath.Join(w.Dir, "folders", "up"),
		filepath.Join(filepath.Dir(w.Out.Folder), "up"), "/etc/cron.d/x",
	} {
		_, err := os.Stat(out)
		assert.ErrorIs(t, err, os.ErrNotExist, "nothing lies beside the destinations")
	}
}

func TestTwoFilesOfOneNameBothArrive(t *testing.T) {
	w := world.Open(t)
	names := w.FilePlaces()
	w.Report("North", "SELECT 'north' AS side")
	w.Report("South", "SELECT 'south' AS side")
	d := world.Definition("North", "company mail", []string{"csv"}, "oren@tarnwick.example")
	south := d.Tasks[0]
	south.Name, south.Report = "south",
		&job.ReportTask{Report: "South", Outputs: []job.Output{{Format: "csv", Name: "departures"}}}
	d.Tasks[0].Report.Outputs[0].Name = "departures"
	d.Tasks = []job.Task{
		d.Tasks[0], south, d.Tasks[1],
		{
			Name: "archive", Kind: job.KindDeliver, After: []string{"report", "south"},
			Deliver: &job.DeliverTask{Destination: names["folder"]},
		},
	}
	d.Tasks[2].After = []string{"report", "south"}
	w.Job("Both", d)
	run := w.Ring("Both")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	l := w.Inbox("oren@tarnwick.example")[0]
	require.Len(t, l.Attachments, 2)
	assert.NotEqual(t, l.Attachments[0].Name, l.Attachments[1].Name)
	assert.Contains(t, string(w.Attachment(l, 0))+string(w.Attachment(l, 1)), "north")
	assert.Contains(t, string(w.Attachment(l, 0))+string(w.Attachment(l, 1)), "south")
	all, err := filepath.Glob(filepath.Join(w.Dir, "folders", "archive", "departures*.csv"))
	require.NoError(t, err)
	require.Len(t, all, 2)
	var both string
	for _, path := range all {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		both += string(text)
	}
	assert.Contains(t, both, "north")
	assert.Contains(t, both, "south")
}

func TestWhatIsWrongWithADestinationIsToldOnceAndPutRightByItself(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	names := w.FilePlaces()
	host, port := w.HostPort(w.Out.Mail)
	mail := map[string]any{"host": host, "port": port, "from": "bell@tarnwick.example", "user": w.Out.User}
	w.Place("untrusted mail", "smtp", w.Out.Password, mail)
	host, port = w.HostPort(w.Out.FTP)
	ftp := map[string]any{"host": host, "port": port, "user": w.Out.User}
	w.Place("untrusted ftp", "ftp", w.Out.Password, ftp)
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	archive := filepath.Join(w.Dir, "folders", "archive")
	require.NoError(t, os.Rename(archive, archive+".away"))
	d := world.Definition("Departures", "untrusted mail", []string{"csv"}, "oren@tarnwick.example")
	d.Tasks[0].Report.Outputs[0].Name = "departures"
	for name, destination := range map[string]string{"ftp": "untrusted ftp", "folder": names["folder"]} {
		d.Tasks = append(d.Tasks, job.Task{
			Name: name, Kind: job.KindDeliver, After: []string{"report"},
			Deliver: &job.DeliverTask{Destination: destination},
		})
	}
	w.Job("Departures", d)
	run, err := w.C.Ring(ctx, "Departures", nil)
	require.NoError(t, err)

	for name, want := range map[string][2]string{
		"untrusted mail": {"certificate", "put it into ca"},
		"untrusted ftp":  {"certificate", "put it into ca"},
		names["folder"]:  {"no such file or directory", ""},
	} {
		a := w.Down(name)
		assert.Contains(t, a.Happened, want[0], name)
		assert.Contains(t, a.Advice, want[1], name)
		assert.Contains(t, a.ForWhom, "1 delivery waits: Departures", name)
	}
	page, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunDelivering, page.State, "it waits until they are mended")
	require.Len(t, page.Deliveries, 3)
	for _, dl := range page.Deliveries {
		assert.Equal(t, job.KeptForRest, dl.KeptBack, dl.Destination)
	}
	assert.Empty(t, w.Inbox("oren@tarnwick.example"), "nothing went over a line that is not trusted")

	// What mends them lets everything go, and closes the alerts.
	mail["ca"], ftp["ca"] = w.Out.CA, w.Out.CA
	w.Place("untrusted mail", "smtp", w.Out.Password, mail)
	w.Place("untrusted ftp", "ftp", w.Out.Password, ftp)
	require.NoError(t, os.Rename(archive+".away", archive))
	w.Until("all arrives", func() bool {
		page, err = w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	assert.Len(t, w.Inbox("oren@tarnwick.example"), 1)
	for _, protocol := range []string{"ftp", "folder"} {
		_, there := w.Fetched(protocol, "departures.csv")
		assert.True(t, there, protocol)
	}
	w.Until("the alerts are closed", func() bool {
		open, err := w.C.Alerts(ctx, "open", "acknowledged")
		require.NoError(t, err)
		return len(open) == 0
	})
}

func TestAPasswordThatExpiresAmongFilesLosesAndDoublesNone(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	names := w.FilePlaces()
	_, err := w.C.TestDestination(ctx, names["sftp"])
	require.NoError(t, err)
	const parts = 40
	w.Report("Part", "SELECT :n AS n", job.Parameter{Name: "n", Type: job.TypeText})
	d := world.Definition("Part", "", []string{"csv"})
	d.Tasks[0].Report.Outputs[0].Name = "part {value.n}"
	d.Tasks[1] = job.Task{Name: "sftp", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: names["sftp"]}}
	for i := range parts {
		d.Split.Values = append(d.Split.Values, fmt.Sprint(i))
	}
	d.Split.Each = "n"
	w.Job("Parts", d)
	w.Behave("sftp", "slow", 40)
	run, err := w.C.Ring(ctx, "Parts", nil)
	require.NoError(t, err)
	arrived := func() []string {
		all, err := filepath.Glob(filepath.Join(w.Out.Folder, "sftp", "part *.csv"))
		require.NoError(t, err)
		return all
	}
	w.Until("some are there", func() bool { return len(arrived()) > 3 })
	// A server asks for the password when a line is opened: here after a restart,
	// which brings what is under way to its end.
	w.Behave("sftp", "expired", 0)
	w.Service.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
	w.Start()
	a := w.Down(names["sftp"])
	assert.Contains(t, a.Happened, "refused to sign us in")
	assert.Contains(t, a.Advice, "Check user and password, or key, of the destination.")
	require.Less(t, len(arrived()), parts)
	w.Behave("sftp", "accept", 0)
	w.Until("the rest arrives", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State.Ended() || len(arrived()) == parts
	})
	all := arrived()
	assert.Len(t, all, parts, "each once")
	for _, path := range all {
		assert.NotRegexp(t, regexp.MustCompile(`\(\d+\)`), path, "none twice")
	}
}

func TestMailboxesThatAreFullAndServersThatAnswerStrangely(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	d := w.Notes()
	d.Values = job.Values{"note": "calm"}
	d.Tasks[1].Deliver.To = []string{"oren@tarnwick.example", "full@tarnwick.example"}
	w.Job("Notes", d)
	w.BehaveTo("mail", "full", "full@tarnwick.example", 0)
	run := w.Ring("Notes")
	require.Equal(t, job.RunPartly, run.State, run.Reason)
	for _, dl := range run.Deliveries {
		if dl.Address == "full@tarnwick.example" {
			assert.Equal(t, job.DeliveryFailed, dl.State)
			assert.Contains(t, dl.Answer, "552 5.2.2 The mailbox is over its quota", "the other side's own words")
			assert.Equal(t, 1, dl.Tries, "it is for good, so it is not tried again by itself")
		} else {
			assert.Equal(t, job.DeliverySent, dl.State, "nobody else suffers")
		}
	}
	alerts, err := w.C.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Equal(t, job.AlertDeliveryFailed, alerts[0].Kind)
	assert.Contains(t, alerts[0].ForWhom, "full@tarnwick.example")
	// Once there is room, only the one who lacks it gets it.
	w.Behave("mail", "accept", 0)
	n, err := w.C.Resend(ctx, run.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
	w.Until("it is done, and the alert closed", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		open, err := w.C.Alerts(ctx, "open")
		require.NoError(t, err)
		return page.State == job.RunDone && len(open) == 0
	})
	assert.Len(t, w.Inbox("oren@tarnwick.example"), 1)
	assert.Len(t, w.Inbox("full@tarnwick.example"), 1)

	// An answer that is neither yes nor no leaves nobody knowing.
	w.Behave("mail", "strange", 0)
	d.Tasks[1].Deliver.To = []string{"oren@tarnwick.example"}
	w.Job("Notes", d)
	run = w.Ring("Notes")
	assert.Equal(t, job.RunPartly, run.State, run.Reason)
	require.Len(t, run.Deliveries, 1)
	assert.Equal(t, job.DeliveryUnknown, run.Deliveries[0].State, run.Deliveries[0].Answer)
	alerts, err = w.C.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Equal(t, job.AlertDeliveryUnknown, alerts[0].Kind)
}
