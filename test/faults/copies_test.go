package faults

import (
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"
	"ironbell/test/world"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestANodeWithAnotherFolderOfArtifactsDoesNotStart(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Departures", "SELECT 1 AS n")
	w.Job("Departures", world.Definition("Departures", "company mail", []string{"csv"}, "quay.desk@tarnwick.example"))
	empty := t.TempDir()
	serve := func(flags ...string) string {
		limit, stop := context.WithTimeout(ctx, 20*time.Second)
		defer stop()
		cmd := exec.CommandContext(limit, world.Build(t)+"/ironbell",
			append([]string{
				"serve", "-listen", "127.0.0.1:0", "-key-file", filepath.Join(w.Dir, "key"), "-artifacts",
				empty,
			}, flags...)...)
		cmd.Env = w.Environment("IRONBELL_DB=" + w.Db)
		out, err := cmd.CombinedOutput()
		assert.Error(t, err)
		require.NoError(t, limit.Err(), "it ends by itself")
		return string(out)
	}
	said := serve()
	assert.Contains(t, said,
		"is not the one that this installation works with: it holds nothing of an installation, as a share that is "+
			"not mounted")
	assert.Contains(t, said, "-adopt-store")
	left, err := os.ReadDir(empty)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left in the wrong folder")
	require.NoError(t, os.WriteFile(filepath.Join(empty, "installation"), []byte("another"), 0o600))
	assert.Contains(t, serve(), "it is that of another installation")
	copied, err := w.C.Copy(ctx)
	require.NoError(t, err)
	assert.Nil(t, copied.Since, "it held up nobody else")
	assert.Equal(t, job.RunDone, w.Ring("Departures").State)

	// The files are lost for good: the installation goes on with an empty folder.
	w.Stopped()
	require.NoError(t, os.RemoveAll(filepath.Join(w.Dir, "artifacts")))
	w.Start("-adopt-store")
	assert.Equal(t, job.RunDone, w.Ring("Departures").State)
	w.Stopped()
	w.Start()
	assert.Equal(t, job.RunDone, w.Ring("Departures").State)
}

func TestADatabaseOlderThanItsFilesStandsStill(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Departures", "SELECT 1 AS n")
	w.Job("Departures", world.Definition("Departures", "company mail", []string{"csv"}, "quay.desk@tarnwick.example"))
	conn := world.Connect(t, w.Db)
	w.Until("a mark is left", func() bool {
		var n int
		require.NoError(t,
			conn.QueryRow(ctx,
				`SELECT coalesce((SELECT (value->>'no')::int FROM settings WHERE key = 'mark'), 0)`).Scan(&n))
		marks, err := filepath.Glob(filepath.Join(w.Dir, "artifacts", "mark-*"))
		require.NoError(t, err)
		return n > 0 && len(marks) == 1
	})
	status, text := w.State()
	assert.Equal(t, http.StatusOK, status, text)
	w.Stopped()
	_, err := conn.Exec(ctx, `UPDATE settings SET value = jsonb_set(value, '{no}', '0') WHERE key = 'mark'`)
	require.NoError(t, err)
	w.Start()
	copied, err := w.C.Copy(ctx)
	require.NoError(t, err)
	require.NotNil(t, copied.Since)
	assert.Contains(t, copied.Why, "older than its store of artifacts")
	status, text = w.State()
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.Contains(t, text, "stands still")
	run, err := w.C.Ring(ctx, "Departures", nil)
	require.NoError(t, err)
	out, errs, exit := w.Ironbell("copy", "-send", "all")
	require.Zero(t, exit, errs)
	assert.Contains(t, out, "It works from now on.")
	w.Until("it goes on with what waited", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	w.Stopped()
	w.Start()
	copied, err = w.C.Copy(ctx)
	require.NoError(t, err)
	assert.Nil(t, copied.Since, "it asks once")
}

func TestAClonedMachineSaysSo(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	_, err := w.C.Copy(ctx)
	require.NoError(t, err)
	_, errs, exit := w.Ironbell("copy", "-send", "none")
	assert.NotZero(t, exit)
	assert.Contains(t, errs, "this installation is no copy", "nobody silences an original by a slip")
	w.Stopped()
	w.Start("-copy", "spring tests")
	out, _, _ := w.Ironbell("copy")
	assert.Contains(t, out, `it was started as "spring tests"`)
	_, errs, exit = w.Ironbell("copy", "-send", "none")
	require.Zero(t, exit, errs)
	w.Stopped()
	w.Start("-copy", "spring tests")
	out, _, _ = w.Ironbell("copy")
	assert.Contains(t, out, "This is a copy for tests. Outside itself it acts on nothing")
	w.Stopped()
	w.Start("-copy", "autumn tests")
	out, _, _ = w.Ironbell("copy")
	assert.Contains(t, out, "It stands still", "a clone of the clone is asked anew")
}

func TestACopyForTestsActsOnNothingOutsideItself(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	names := w.FilePlaces()
	ledger := pgtest.New(t, "ledger", func(context.Context, string) error { return nil })
	conn := world.Connect(t, ledger)
	_, err := conn.Exec(ctx, `CREATE TABLE departed (n int)`)
	require.NoError(t, err)
	config, err := pgx.ParseConfig(pgtest.Login(t, ledger, pgtest.Writer))
	require.NoError(t, err)
	_, err = w.C.SaveSource(ctx, "ledger",
		wire.PlaceRequest{Protocol: "postgres", Password: &config.Password, Settings: map[string]any{
			"host": config.Host, "port": config.Port, "database": config.Database, "user": config.User,
			"tls":        "disable",
			"statements": true,
		}})
	require.NoError(t, err)
	w.Report("Departures", "SELECT 1 AS n")
	d := world.Definition("Departures", "company mail", []string{"csv"}, "quay.desk@tarnwick.example")
	d.Tasks[0].Report.Outputs[0].Name = "departures"
	d.Tasks = append(d.Tasks,
		job.Task{
			Name: "folder", Kind: job.KindDeliver, After: []string{"report"},
			Deliver: &job.DeliverTask{Destination: names["folder"]},
		},
		job.Task{
			Name: "share", Kind: job.KindDeliver, After: []string{"report"},
			Deliver: &job.DeliverTask{Destination: names["webdav"]},
		},
		job.Task{
			Name: "note", Kind: job.KindQuery, After: []string{"report"},
			Query: &job.QueryTask{Source: "ledger", SQL: "INSERT INTO departed VALUES (1)"},
		},
		job.Task{
			Name: "say", Kind: job.KindEmit, After: []string{"report"},
			Emit: &job.EmitTask{Type: "example.tarnwick.departed"},
		},
	)
	d.Patience = job.Retry{Times: 100, Wait: job.Duration(time.Second)} // it is still waiting when the database is copied
	w.Job("Departures", d)
	w.Behave("mail", "busy", 0)
	waits, err := w.C.Ring(ctx, "Departures", nil)
	require.NoError(t, err)
	w.Until("its mail waits", func() bool {
		page, err := w.C.Run(ctx, waits.ID)
		require.NoError(t, err)
		return page.State == job.RunDelivering
	})
	rows := func() (n int) {
		require.NoError(t, conn.QueryRow(ctx, `SELECT count(*) FROM departed`).Scan(&n))
		return n
	}
	require.Equal(t, 1, rows())
	require.NoError(t, w.C.SaveHeartbeat(ctx, "http://"+w.Out.Receiver+"/alive", job.Duration(time.Second)))
	beats := func() string { return string(w.Get(w.Out.Inbox + "/api/beats")) }
	w.Until("it gives signs of life", func() bool { return beats() >= "2" })

	// The database is copied, and the files with it.
	w.Stopped()
	w.Behave("mail", "accept", 0)
	original := world.Connect(t, w.Db)
	var name string
	require.NoError(t, original.QueryRow(ctx, `SELECT current_database()`).Scan(&name))
	require.NoError(t, original.Close(ctx))
	server := world.Connect(t, strings.Replace(w.Db, "/"+name, "/postgres", 1))
	_, err = server.Exec(ctx, `CREATE DATABASE `+name+`_copy TEMPLATE `+name)
	require.NoError(t, err)
	t.Cleanup(func() {
		_, err := server.Exec(ctx, `DROP DATABASE `+name+`_copy WITH (FORCE)`)
		assert.NoError(t, err)
	})
	before := beats()
	twin := *w
	twin.Db = strings.Replace(w.Db, "/"+name, "/"+name+"_copy", 1)
	twin.Start()
	copied, err := twin.C.Copy(ctx)
	require.NoError(t, err)
	require.NotNil(t, copied.Since)
	assert.Contains(t, copied.Why, "its database is another")
	_, errs, exit := twin.Ironbell("copy", "-send", "none", "-name", "destination:no such place")
	assert.NotZero(t, exit)
	assert.Contains(t, errs, `there is no destination "no such place"`)
	out, errs, exit := twin.Ironbell("copy", "-send", "test.desk@tarnwick.example", "-name",
		"destination:"+names["webdav"])
	require.Zero(t, exit, errs)
	assert.Contains(t, out, "It works from now on.")
	old, err := twin.C.Run(ctx, waits.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunPassedOver, old.State)
	assert.Equal(t, "passed over: this is a copy", old.Reason)

	run := twin.Ring("Departures")
	assert.Equal(t, job.RunPartly, run.State, run.Reason)
	for _, dl := range run.Deliveries {
		switch dl.Destination {
		case names["folder"]:
			assert.Equal(t, job.DeliveryDeclined, dl.State)
			assert.Contains(t, dl.Answer, "passed over: this is a copy")
		case names["webdav"]:
			assert.Equal(t, job.DeliverySent, dl.State, "it was named")
		default:
			assert.Equal(t, "test.desk@tarnwick.example", dl.Address)
		}
	}
	assert.Equal(t, 1, rows(), "no statement reaches the company's data")
	var over []string
	for _, a := range run.Attempts {
		if a.State == job.AttemptOver {
			over = append(over, a.Task)
		}
	}
	assert.ElementsMatch(t, []string{"note", "say"}, over)
	assert.Empty(t, twin.Inbox("quay.desk@tarnwick.example"), "neither what waited nor what is new")
	assert.Len(t, twin.Inbox("test.desk@tarnwick.example"), 1)
	_, errs, exit = twin.Ironbell("event", "example.tarnwick.tides.loaded")
	assert.NotZero(t, exit, "it takes no event from outside: %s", errs)
	status, text := twin.State()
	assert.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, text, "This is a copy for tests.")
	assert.Equal(t, before, beats(), "its life keeps nobody's watch green")
}
