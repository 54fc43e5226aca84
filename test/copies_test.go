package test

import (
	"context"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stopped stops the service in order.
func (w *world) stopped() {
	w.t.Helper()
	w.service.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
}

// state asks the address of those who watch from outside.
func (w *world) state() (status int, text string) {
	w.t.Helper()
	res, err := http.Get("http://" + w.listen + "/state")
	require.NoError(w.t, err)
	defer func() { _ = res.Body.Close() }()
	all, err := io.ReadAll(res.Body)
	require.NoError(w.t, err)
	return res.StatusCode, string(all)
}

func TestANodeWithAnotherFolderOfArtifactsDoesNotStart(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Departures", "SELECT 1 AS n")
	w.job("Departures", definition("Departures", "company mail", []string{"csv"}, "quay.desk@tarnwick.example"))
	empty := t.TempDir()
	serve := func(flags ...string) string {
		limit, stop := context.WithTimeout(ctx, 20*time.Second)
		defer stop()
		cmd := exec.CommandContext(limit, build(t)+"/ironbell",
			append([]string{
				"serve", "-listen", "127.0.0.1:0", "-key-file", filepath.Join(w.dir, "key"), "-artifacts",
				empty,
			}, flags...)...)
		cmd.Env = append(os.Environ(), "IRONBELL_DB="+w.db)
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
	copied, err := w.c.Copy(ctx)
	require.NoError(t, err)
	assert.Nil(t, copied.Since, "it held up nobody else")
	assert.Equal(t, job.RunDone, w.ring("Departures").State)

	// The files are lost for good: the installation goes on with an empty folder.
	w.stopped()
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "artifacts")))
	w.start("-adopt-store")
	assert.Equal(t, job.RunDone, w.ring("Departures").State)
	w.stopped()
	w.start()
	assert.Equal(t, job.RunDone, w.ring("Departures").State)
}

func TestADatabaseOlderThanItsFilesStandsStill(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Departures", "SELECT 1 AS n")
	w.job("Departures", definition("Departures", "company mail", []string{"csv"}, "quay.desk@tarnwick.example"))
	conn := connect(t, w.db)
	w.until("a mark is left", func() bool {
		var n int
		require.NoError(t,
			conn.QueryRow(ctx,
				`SELECT coalesce((SELECT (value->>'no')::int FROM settings WHERE key = 'mark'), 0)`).Scan(&n))
		marks, err := filepath.Glob(filepath.Join(w.dir, "artifacts", "mark-*"))
		require.NoError(t, err)
		return n > 0 && len(marks) == 1
	})
	status, text := w.state()
	assert.Equal(t, http.StatusOK, status, text)
	w.stopped()
	_, err := conn.Exec(ctx, `UPDATE settings SET value = jsonb_set(value, '{no}', '0') WHERE key = 'mark'`)
	require.NoError(t, err)
	w.start()
	copied, err := w.c.Copy(ctx)
	require.NoError(t, err)
	require.NotNil(t, copied.Since)
	assert.Contains(t, copied.Why, "older than its store of artifacts")
	status, text = w.state()
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.Contains(t, text, "stands still")
	run, err := w.c.Ring(ctx, "Departures", nil)
	require.NoError(t, err)
	out, errs, exit := w.ironbell("copy", "-send", "all")
	require.Zero(t, exit, errs)
	assert.Contains(t, out, "It works from now on.")
	w.until("it goes on with what waited", func() bool {
		page, err := w.c.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	w.stopped()
	w.start()
	copied, err = w.c.Copy(ctx)
	require.NoError(t, err)
	assert.Nil(t, copied.Since, "it asks once")
}

func TestAClonedMachineSaysSo(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	_, err := w.c.Copy(ctx)
	require.NoError(t, err)
	_, errs, exit := w.ironbell("copy", "-send", "none")
	assert.NotZero(t, exit)
	assert.Contains(t, errs, "this installation is no copy", "nobody silences an original by a slip")
	w.stopped()
	w.start("-copy", "spring tests")
	out, _, _ := w.ironbell("copy")
	assert.Contains(t, out, `it was started as "spring tests"`)
	_, errs, exit = w.ironbell("copy", "-send", "none")
	require.Zero(t, exit, errs)
	w.stopped()
	w.start("-copy", "spring tests")
	out, _, _ = w.ironbell("copy")
	assert.Contains(t, out, "This is a copy for tests. Outside itself it acts on nothing")
	w.stopped()
	w.start("-copy", "autumn tests")
	out, _, _ = w.ironbell("copy")
	assert.Contains(t, out, "It stands still", "a clone of the clone is asked anew")
}

func TestACopyForTestsActsOnNothingOutsideItself(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	names := w.filePlaces()
	ledger := pgtest.New(t, "ledger", func(context.Context, string) error { return nil })
	conn := connect(t, ledger)
	_, err := conn.Exec(ctx, `CREATE TABLE departed (n int)`)
	require.NoError(t, err)
	config, err := pgx.ParseConfig(pgtest.Login(t, ledger, pgtest.Writer))
	require.NoError(t, err)
	_, err = w.c.SaveSource(ctx, "ledger",
		wire.PlaceRequest{Protocol: "postgres", Password: &config.Password, Settings: map[string]any{
			"host": config.Host, "port": config.Port, "database": config.Database, "user": config.User,
			"tls":        "disable",
			"statements": true,
		}})
	require.NoError(t, err)
	w.report("Departures", "SELECT 1 AS n")
	d := definition("Departures", "company mail", []string{"csv"}, "quay.desk@tarnwick.example")
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
	w.job("Departures", d)
	w.behave("mail", "busy", 0)
	waits, err := w.c.Ring(ctx, "Departures", nil)
	require.NoError(t, err)
	w.until("its mail waits", func() bool {
		page, err := w.c.Run(ctx, waits.ID)
		require.NoError(t, err)
		return page.State == job.RunDelivering
	})
	rows := func() (n int) {
		require.NoError(t, conn.QueryRow(ctx, `SELECT count(*) FROM departed`).Scan(&n))
		return n
	}
	require.Equal(t, 1, rows())
	require.NoError(t, w.c.SaveHeartbeat(ctx, "http://"+w.out.Receiver+"/alive", job.Duration(time.Second)))
	beats := func() string { return string(w.get(w.out.Inbox + "/api/beats")) }
	w.until("it gives signs of life", func() bool { return beats() >= "2" })

	// The database is copied, and the files with it.
	w.stopped()
	w.behave("mail", "accept", 0)
	original := connect(t, w.db)
	var name string
	require.NoError(t, original.QueryRow(ctx, `SELECT current_database()`).Scan(&name))
	require.NoError(t, original.Close(ctx))
	server := connect(t, strings.Replace(w.db, "/"+name, "/postgres", 1))
	_, err = server.Exec(ctx, `CREATE DATABASE `+name+`_copy TEMPLATE `+name)
	require.NoError(t, err)
	t.Cleanup(func() {
		_, err := server.Exec(ctx, `DROP DATABASE `+name+`_copy WITH (FORCE)`)
		assert.NoError(t, err)
	})
	before := beats()
	twin := *w
	twin.db = strings.Replace(w.db, "/"+name, "/"+name+"_copy", 1)
	twin.start()
	copied, err := twin.c.Copy(ctx)
	require.NoError(t, err)
	require.NotNil(t, copied.Since)
	assert.Contains(t, copied.Why, "its database is another")
	_, errs, exit := twin.ironbell("copy", "-send", "none", "-name", "destination:no such place")
	assert.NotZero(t, exit)
	assert.Contains(t, errs, `there is no destination "no such place"`)
	out, errs, exit := twin.ironbell("copy", "-send", "test.desk@tarnwick.example", "-name",
		"destination:"+names["webdav"])
	require.Zero(t, exit, errs)
	assert.Contains(t, out, "It works from now on.")
	old, err := twin.c.Run(ctx, waits.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunPassedOver, old.State)
	assert.Equal(t, "passed over: this is a copy", old.Reason)

	run := twin.ring("Departures")
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
	assert.Empty(t, twin.inbox("quay.desk@tarnwick.example"), "neither what waited nor what is new")
	assert.Len(t, twin.inbox("test.desk@tarnwick.example"), 1)
	_, errs, exit = twin.ironbell("event", "example.tarnwick.tides.loaded")
	assert.NotZero(t, exit, "it takes no event from outside: %s", errs)
	status, text := twin.state()
	assert.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, text, "This is a copy for tests.")
	assert.Equal(t, before, beats(), "its life keeps nobody's watch green")
}
