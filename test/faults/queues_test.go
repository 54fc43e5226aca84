package faults

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTwoNodesKeepTogetherToThePaceOfAMailServer(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	second := w.Beside()
	host, port := w.HostPort(w.Out.Mail)
	const perMinute = 240 // one each 250 ms
	w.Place("slow mail", "smtp", w.Out.Password, map[string]any{
		"host": host, "port": port, "from": "bell@tarnwick.example", "user": w.Out.User, "ca": w.Out.CA,
		"per_minute": perMinute,
	})
	const readers = 24
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	to := make([]string, readers)
	for i := range to {
		to[i] = fmt.Sprintf("reader%02d@tarnwick.example", i)
	}
	w.Job("Paced", world.Definition("Departures", "slow mail", []string{"csv"}, to...))
	run, err := w.C.Ring(ctx, "Paced", nil)
	require.NoError(t, err)
	w.Until("all have it", func() bool {
		page, err := second.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	// However fast or slow the machine is, the mails keep their distance.
	conn := world.Connect(t, w.Db)
	var seconds float64
	require.NoError(t,
		conn.QueryRow(ctx,
			`SELECT extract(epoch FROM max(offered_at) - min(offered_at)) FROM deliveries WHERE run_id = $1`,
			run.ID).Scan(&seconds))
	assert.GreaterOrEqual(t, seconds, float64(readers-1)*60/perMinute*0.9)
	for _, reader := range to {
		assert.Len(t, w.Inbox(reader), 1, reader)
	}
}

func TestFilesOfOneNameFromTwoNodesAllArrive(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	names := w.FilePlaces()
	_, err := w.C.TestDestination(ctx, names["sftp"]) // pins its key
	require.NoError(t, err)
	w.Beside()
	w.Report("Tides", "SELECT :port AS port", job.Parameter{Name: "port", Type: job.TypeText})
	d := world.Definition("Tides", "", []string{"csv"})
	d.Tasks[0].Report.Outputs[0].Name = "tides"
	d.Tasks = d.Tasks[:1]
	protocols := []string{"folder", "sftp", "ftp", "webdav", "s3"}
	for _, protocol := range protocols {
		d.Tasks = append(d.Tasks, job.Task{
			Name: protocol, Kind: job.KindDeliver, After: []string{"report"},
			Deliver: &job.DeliverTask{Destination: names[protocol]},
		})
	}
	const ports = 16
	d.Split.Each = "port"
	for i := range ports {
		d.Split.Values = append(d.Split.Values, fmt.Sprintf("Quay %02d", i))
	}
	w.Job("Tides", d)
	run := w.Ring("Tides")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	for _, protocol := range protocols {
		var got []string
		for n := 1; n <= ports; n++ {
			name := fmt.Sprintf("tides (%s).csv", d.Split.Values[n-1])
			text, there := w.Fetched(protocol, name)
			require.True(t, there, "%s: %s", protocol, name)
			got = append(got, strings.TrimSpace(strings.TrimPrefix(strings.TrimPrefix(text, "\ufeff"), "port")))
		}
		slices.Sort(got)
		assert.Equal(t, d.Split.Values, got, "%s: each under a name of its own, none over another", protocol)
	}
}

func TestASlowDestinationHoldsUpNobodyElse(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.FilePlaces()
	w.MailStorm("Storm", 200)
	w.Behave("mail", "slow", 2000)
	storm, err := w.C.Ring(ctx, "Storm", nil)
	require.NoError(t, err)
	conn := world.Connect(t, w.Db)
	w.Until("the slow one has all the lines that it may have", func() bool {
		var n int
		require.NoError(t,
			conn.QueryRow(ctx, `SELECT count(*) FROM deliveries WHERE run_id = $1 AND state IN ('sending', 'offered')`,
				storm.ID).Scan(&n))
		return n >= 150
	})
	d := world.Definition("Departures", "", []string{"csv"})
	d.Tasks[1] = job.Task{Name: "archive", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: "archive"}}
	w.Job("Archive", d)
	run := w.Ring("Archive")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	page, err := w.C.Run(ctx, storm.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunDelivering, page.State, "the storm still goes on")
	_, err = w.C.Cancel(ctx, storm.ID)
	require.NoError(t, err)
}

func TestDestinationsAreAddedChangedAndRemovedFromATerminal(t *testing.T) {
	w := world.Open(t)
	host, port := w.HostPort(w.Out.SFTP)
	secret := filepath.Join(w.Dir, "secret")
	require.NoError(t, os.WriteFile(secret, []byte(w.Out.Password+"\n"), 0o600))
	out, errs, status := w.Ironbell("destinations", "-protocol", "sftp", "-set", "host="+host, "-set",
		fmt.Sprintf("port=%d", port), "-set", "user="+w.Out.User, "-password-from", secret, "-test", "Authority")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "Authority was saved.")
	assert.Contains(t, out, "pinned the host key")
	// One setting is changed, and all else stays: the password, too.
	require.NoError(t, os.Mkdir(filepath.Join(w.Out.Folder, "sftp", "in"), 0o700))
	out, errs, status = w.Ironbell("destinations", "-set", "folder=in", "-test", "Authority")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "removed it")
	p, err := w.C.Destination(context.Background(), "Authority")
	require.NoError(t, err)
	assert.JSONEq(t, fmt.Sprintf(`{"host":%q,"port":%d,"user":%q,"folder":"in"}`, host, port, w.Out.User),
		string(p.Settings))
	assert.True(t, p.Sealed)
	for _, wrong := range [][2]string{
		{"-set=prot=22", `sftp has no setting "prot"`},
		{"-set=port=two", "the setting port is a number"},
		{"-protocol=pigeon", `there is no protocol "pigeon"`},
	} {
		_, errs, status = w.Ironbell("destinations", wrong[0], "Authority")
		assert.Equal(t, 2, status, wrong[0])
		assert.Contains(t, errs, wrong[1])
	}
	_, errs, status = w.Ironbell("destinations", "-set", "host=x", "Nowhere")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "say with -protocol what it is")
	_, errs, status = w.Ironbell("destinations", "-set", "folder=gone", "-test", "Authority")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "the destination refused")

	out, _, status = w.Ironbell("destinations", "-protocols")
	assert.Zero(t, status)
	for _, part := range []string{
		"sftp: SFTP server, takes files", "host_key", "(needed)",
		"smtp: Mail server (SMTP), takes mail",
	} {
		assert.Contains(t, out, part)
	}
	out, errs, status = w.Ironbell("destinations", "-test", "-mail", "company mail")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "sent a mail to sefa.orlin@tarnwick.example: 250 2.0.0 OK")
	require.Len(t, w.Inbox("sefa.orlin@tarnwick.example"), 1)
	assert.Contains(t, w.Inbox("sefa.orlin@tarnwick.example")[0].Plain, "That you read this means that it works.")
	_, errs, status = w.Ironbell("destinations", "-test", "-mail", "Authority")
	assert.Equal(t, 1, status, errs)

	// One that is needed stays.
	_, errs, status = w.Ironbell("destinations", "-remove", "company mail")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "sends alerts over it")
	out, errs, status = w.Ironbell("destinations", "-remove", "Authority")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "Authority was removed.")
	out, _, _ = w.Ironbell("destinations")
	assert.NotContains(t, out, "Authority")

	// Each change is on record, with what was there before; no password is.
	ctx := context.Background()
	require.NoError(t,
		w.C.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail", Repeat: job.Duration(time.Hour)}))
	_, err = w.C.SaveGroup(ctx, "Quay", "quay.desk@tarnwick.example")
	require.NoError(t, err)
	_, err = w.C.SaveGroup(ctx, "Quay", "other.desk@tarnwick.example")
	require.NoError(t, err)
	conn := world.Connect(t, w.Db)
	last := func(subject string) (who, before, after string) {
		require.NoError(t,
			conn.QueryRow(ctx,
				`SELECT who, before::text, after::text FROM audit WHERE subject = $1 ORDER BY id DESC LIMIT 1`,
				subject).Scan(&who, &before, &after))
		return who, before, after
	}
	for subject, want := range map[string][2]string{
		"Authority": {`"folder": "gone"`, "null"}, "alerts": {"company mail", "1h"},
		"Quay": {"quay.desk@", "other.desk@"},
	} {
		who, before, after := last(subject)
		assert.Equal(t, "sefa", who)
		assert.Contains(t, before, want[0], subject)
		assert.Contains(t, after, want[1], subject)
		assert.NotContains(t, before+after, w.Out.Password)
	}
}

func TestOnlyAdministratorsTouchDestinationsAndSettings(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	made, err := client.New("http://"+w.Listen, "").MakeToken(ctx, "mara", world.Password, "test")
	require.NoError(t, err)
	mara := client.New("http://"+w.Listen, made.Token)
	_, err = mara.SaveDestination(ctx, "mine", wire.PlaceRequest{
		Protocol: "folder", Settings: map[string]any{"folder": filepath.Join(w.Dir, "folders")},
	})
	for what, err := range map[string]error{
		"save":   err,
		"remove": mara.RemoveDestination(ctx, "company mail"),
		"alerts": mara.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail"}),
		"mail":   mara.SaveMailSettings(ctx, job.MailSettings{}),
	} {
		var p *client.Problem
		require.ErrorAs(t, err, &p, what)
		assert.Equal(t, 403, p.Status, what)
	}
	_, err = mara.TestByMail(ctx, "company mail")
	assert.Error(t, err)
	all, err := mara.Destinations(ctx)
	require.NoError(t, err)
	for _, d := range all {
		assert.NotContains(t, strings.ToLower(string(d.Settings)), "password", "nobody reads a password")
	}
	list, err := mara.Protocols(ctx)
	require.NoError(t, err)
	assert.Len(t, list, 9)
}
