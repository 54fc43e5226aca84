package test

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

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// beside starts a second node on the same records and files.
func (w *world) beside() *world {
	w.t.Helper()
	second := *w
	second.listen = freeAddress(w.t)
	second.c = client.New("http://"+second.listen, w.token)
	second.start("-node", "second")
	return &second
}

func TestTwoNodesKeepTogetherToThePaceOfAMailServer(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	second := w.beside()
	host, port := w.hostPort(w.out.Mail)
	const perMinute = 240 // one each 250 ms
	w.place("slow mail", "smtp", w.out.Password, map[string]any{
		"host": host, "port": port, "from": "bell@tarnwick.example", "user": w.out.User, "ca": w.out.CA,
		"per_minute": perMinute,
	})
	const readers = 24
	w.report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	to := make([]string, readers)
	for i := range to {
		to[i] = fmt.Sprintf("reader%02d@tarnwick.example", i)
	}
	w.job("Paced", definition("Departures", "slow mail", []string{"csv"}, to...))
	run, err := w.c.Ring(ctx, "Paced", nil)
	require.NoError(t, err)
	w.until("all have it", func() bool {
		page, err := second.c.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	// However fast or slow the machine is, the mails keep their distance.
	conn := connect(t, w.db)
	var seconds float64
	require.NoError(t,
		conn.QueryRow(ctx,
			`SELECT extract(epoch FROM max(offered_at) - min(offered_at)) FROM deliveries WHERE run_id = $1`,
			run.ID).Scan(&seconds))
	assert.GreaterOrEqual(t, seconds, float64(readers-1)*60/perMinute*0.9)
	for _, reader := range to {
		assert.Len(t, w.inbox(reader), 1, reader)
	}
}

func TestFilesOfOneNameFromTwoNodesAllArrive(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	names := w.filePlaces()
	_, err := w.c.TestDestination(ctx, names["sftp"]) // pins its key
	require.NoError(t, err)
	w.beside()
	w.report("Tides", "SELECT :port AS port", job.Parameter{Name: "port", Type: job.TypeText})
	d := definition("Tides", "", []string{"csv"})
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
	w.job("Tides", d)
	run := w.ring("Tides")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	for _, protocol := range protocols {
		var got []string
		for n := 1; n <= ports; n++ {
			name := fmt.Sprintf("tides (%s).csv", d.Split.Values[n-1])
			text, there := w.fetched(protocol, name)
			require.True(t, there, "%s: %s", protocol, name)
			got = append(got, strings.TrimSpace(strings.TrimPrefix(strings.TrimPrefix(text, "\ufeff"), "port")))
		}
		slices.Sort(got)
		assert.Equal(t, d.Split.Values, got, "%s: each under a name of its own, none over another", protocol)
	}
}

func TestASlowDestinationHoldsUpNobodyElse(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.filePlaces()
	w.mailStorm("Storm", 200)
	w.behave("mail", "slow", 2000)
	storm, err := w.c.Ring(ctx, "Storm", nil)
	require.NoError(t, err)
	conn := connect(t, w.db)
	w.until("the slow one has all the lines that it may have", func() bool {
		var n int
		require.NoError(t,
			conn.QueryRow(ctx, `SELECT count(*) FROM deliveries WHERE run_id = $1 AND state IN ('sending', 'offered')`,
				storm.ID).Scan(&n))
		return n >= 150
	})
	d := definition("Departures", "", []string{"csv"})
	d.Tasks[1] = job.Task{Name: "archive", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: "archive"}}
	w.job("Archive", d)
	run := w.ring("Archive")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	page, err := w.c.Run(ctx, storm.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunDelivering, page.State, "the storm still goes on")
	_, err = w.c.Cancel(ctx, storm.ID)
	require.NoError(t, err)
}

func TestDestinationsAreAddedChangedAndRemovedFromATerminal(t *testing.T) {
	w := open(t)
	host, port := w.hostPort(w.out.SFTP)
	secret := filepath.Join(w.dir, "secret")
	require.NoError(t, os.WriteFile(secret, []byte(w.out.Password+"\n"), 0o600))
	out, errs, status := w.ironbell("destinations", "-protocol", "sftp", "-set", "host="+host, "-set",
		fmt.Sprintf("port=%d", port), "-set", "user="+w.out.User, "-password-from", secret, "-test", "Authority")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "Authority was saved.")
	assert.Contains(t, out, "pinned the host key")
	// One setting is changed, and all else stays: the password, too.
	require.NoError(t, os.Mkdir(filepath.Join(w.out.Folder, "sftp", "in"), 0o700))
	out, errs, status = w.ironbell("destinations", "-set", "folder=in", "-test", "Authority")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "removed it")
	p, err := w.c.Destination(context.Background(), "Authority")
	require.NoError(t, err)
	assert.JSONEq(t, fmt.Sprintf(`{"host":%q,"port":%d,"user":%q,"folder":"in"}`, host, port, w.out.User),
		string(p.Settings))
	assert.True(t, p.Sealed)
	for _, wrong := range [][2]string{
		{"-set=prot=22", `sftp has no setting "prot"`},
		{"-set=port=two", "the setting port is a number"},
		{"-protocol=pigeon", `there is no protocol "pigeon"`},
	} {
		_, errs, status = w.ironbell("destinations", wrong[0], "Authority")
		assert.Equal(t, 2, status, wrong[0])
		assert.Contains(t, errs, wrong[1])
	}
	_, errs, status = w.ironbell("destinations", "-set", "host=x", "Nowhere")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "say with -protocol what it is")
	_, errs, status = w.ironbell("destinations", "-set", "folder=gone", "-test", "Authority")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "the destination refused")

	out, _, status = w.ironbell("destinations", "-protocols")
	assert.Zero(t, status)
	for _, part := range []string{
		"sftp: SFTP server, takes files", "host_key", "(needed)",
		"smtp: Mail server (SMTP), takes mail",
	} {
		assert.Contains(t, out, part)
	}
	out, errs, status = w.ironbell("destinations", "-test", "-mail", "company mail")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "sent a mail to sefa.orlin@tarnwick.example: 250 2.0.0 OK")
	require.Len(t, w.inbox("sefa.orlin@tarnwick.example"), 1)
	assert.Contains(t, w.inbox("sefa.orlin@tarnwick.example")[0].Plain, "That you read this means that it works.")
	_, errs, status = w.ironbell("destinations", "-test", "-mail", "Authority")
	assert.Equal(t, 1, status, errs)

	// One that is needed stays.
	_, errs, status = w.ironbell("destinations", "-remove", "company mail")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "alerts go over it")
	out, errs, status = w.ironbell("destinations", "-remove", "Authority")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "Authority was removed.")
	out, _, _ = w.ironbell("destinations")
	assert.NotContains(t, out, "Authority")

	// Each change is on record, with what was there before; no password is.
	ctx := context.Background()
	require.NoError(t,
		w.c.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail", Repeat: job.Duration(time.Hour)}))
	_, err = w.c.SaveGroup(ctx, "Quay", "quay.desk@tarnwick.example")
	require.NoError(t, err)
	_, err = w.c.SaveGroup(ctx, "Quay", "other.desk@tarnwick.example")
	require.NoError(t, err)
	conn := connect(t, w.db)
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
		assert.NotContains(t, before+after, w.out.Password)
	}
}

func TestOnlyAdministratorsTouchDestinationsAndSettings(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	made, err := client.New("http://"+w.listen, "").MakeToken(ctx, "mara", password, "test")
	require.NoError(t, err)
	mara := client.New("http://"+w.listen, made.Token)
	_, err = mara.SaveDestination(ctx, "mine", wire.PlaceRequest{
		Protocol: "folder", Settings: map[string]any{"folder": filepath.Join(w.dir, "folders")},
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
