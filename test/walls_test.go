package test

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A source whose login can write is refused when it is saved and whenever it is opened,
// or it was signed, and then each screen that names the source says so.
func TestASourceThatCanWriteIsSignedOrRefused(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	ledger := pgtest.New(t, "signed", func(ctx context.Context, dsn string) error {
		conn, err := pgx.Connect(ctx, dsn)
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close(ctx) }()
		_, err = conn.Exec(ctx, "CREATE TABLE dues (n int); INSERT INTO dues VALUES (1); REVOKE CREATE ON SCHEMA public FROM PUBLIC")
		return err
	})
	save := func(name, dsn string, change map[string]any) (wire.Place, error) {
		config, err := pgx.ParseConfig(dsn)
		require.NoError(t, err)
		settings := map[string]any{"host": config.Host, "port": config.Port, "database": config.Database, "user": config.User, "tls": "disable"}
		for k, v := range change {
			settings[k] = v
		}
		return w.c.SaveSource(ctx, name, wire.PlaceRequest{Protocol: "postgres", Password: &config.Password, Settings: settings})
	}
	_, err := save("ledger", ledger, map[string]any{"may_write": true})
	require.ErrorContains(t, err, "is a superuser", "nothing can be signed for it")
	writer := pgtest.Login(t, ledger, pgtest.Writer)
	_, err = save("ledger", writer, nil)
	require.ErrorContains(t, err, "its login may do more than read")
	_, err = save("ledger", writer, map[string]any{"may_wrote": true})
	require.ErrorContains(t, err, `there is no setting "may_wrote"; there are host, port`)
	p, err := save("ledger", writer, map[string]any{"may_write": true})
	require.NoError(t, err)
	assert.Contains(t, p.Note, "This login can write: ")
	_, err = w.c.SaveReport(ctx, "Dues", wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{Source: "ledger", Sections: []job.Section{{Name: "Rows", SQL: "SELECT n FROM dues"}}}})
	require.NoError(t, err)
	w.job("Dues", definition("Dues", "company mail", []string{"csv"}, "quay.desk@tarnwick.example"))
	page, err := w.c.Job(ctx, "Dues")
	require.NoError(t, err)
	assert.Contains(t, page.ReadAs["report"], "the login of ledger, which can write")
	said, err := w.c.TestSource(ctx, "ledger")
	require.NoError(t, err)
	assert.True(t, said.OK)
	assert.Contains(t, said.Said, "this login can write, as was signed")
	text, errs, status := w.ironbell("sources")
	require.Zero(t, status, errs)
	assert.Contains(t, text, "This login can write")

	// Rights that were granted later are seen when the source is opened the next time.
	reader := pgtest.Login(t, ledger, pgtest.Reader)
	p, err = save("ledger", reader, nil)
	require.NoError(t, err)
	assert.Empty(t, p.Note)
	said, err = w.c.TestSource(ctx, "ledger")
	require.NoError(t, err)
	assert.Contains(t, said.Said, "its login may only read")
	u, err := url.Parse(reader)
	require.NoError(t, err)
	_, err = connect(t, ledger).Exec(ctx, "GRANT DELETE ON dues TO "+pgx.Identifier{u.User.Username()}.Sanitize())
	require.NoError(t, err)
	said, err = w.c.TestSource(ctx, "ledger")
	require.NoError(t, err)
	assert.False(t, said.OK)
	assert.Contains(t, said.Said, "may write to dues")
	w.kill()
	w.start()
	_, err = w.c.Ring(ctx, "Dues", nil)
	require.NoError(t, err)
	w.until("the owner hears of it", func() bool {
		alerts, err := w.c.Alerts(ctx)
		require.NoError(t, err)
		return slices.ContainsFunc(alerts, func(a job.Alert) bool { return strings.Contains(a.Happened, "may write to dues") })
	})
}

// A server that gives back what it was sent tells nobody our secrets: they are found in
// nothing that is kept, logged or answered, in whatever form.
func TestSecretsAreFoundNowhere(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	const secret = "planted+marker/of=ours"
	echo, err := net.Listen("tcp", w.outside)
	require.NoError(t, err)
	t.Cleanup(func() { _ = echo.Close() })
	var asked atomic.Int64
	go func() { // it answers with its asker's headers: in the status, in headers and in the body
		for {
			c, err := echo.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = c.Close() }()
				_ = c.SetDeadline(time.Now().Add(10 * time.Second))
				r, err := http.ReadRequest(bufio.NewReader(c))
				if err != nil {
					return
				}
				asked.Add(1)
				_, _ = io.Copy(io.Discard, io.LimitReader(r.Body, r.ContentLength))
				said := strings.Join(strings.Fields(r.URL.RawQuery+" "+strings.Join(slices.Collect(maps.Keys(r.Header)), " ")+" "+strings.Join(slices.Concat(slices.Collect(maps.Values(r.Header))...), " ")), " ")
				if user, password, ok := r.BasicAuth(); ok {
					said += " " + user + " " + password + " " + url.QueryEscape(password) + " " + hex.EncodeToString([]byte(password))
				}
				said += " " + strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
				fmt.Fprintf(c, "HTTP/1.1 403 not with %s\r\nLocation: /?%s\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", said, url.QueryEscape(said), len(said), said)
			}()
		}
	}()
	address := "http://" + w.outside
	w.place("echo", "http", secret, map[string]any{"url": address + "/in?key=shown", "headers": map[string]string{"Authorization": "Bearer {password}"}})
	w.place("echo put", "http", secret, map[string]any{"url": address + "/in", "method": "PUT", "headers": map[string]string{"X-Key": "{password}"}})
	w.place("echo folder", "webdav", secret, map[string]any{"url": address + "/", "user": "bell"})
	w.place("echo store", "s3", secret, map[string]any{"url": address, "bucket": "reports", "user": "bell"})
	w.place("echo printer", "ipp", secret, map[string]any{"url": "ipp://" + w.outside + "/ipp/print", "user": "bell"})
	plain := secret
	_, err = w.c.SaveSource(ctx, "echoes", wire.PlaceRequest{Protocol: "http", Password: &plain, Settings: map[string]any{"url": address + "/data/", "tables": map[string]any{"tides": map[string]any{"file": "tides.csv"}}}})
	require.NoError(t, err)
	var answers []string
	keep := func(parts ...any) { answers = append(answers, fmt.Sprint(parts...)) }
	for _, name := range []string{"echo", "echo put", "echo folder", "echo store", "echo printer"} {
		a, err := w.c.TestDestination(ctx, name)
		require.NoError(t, err)
		assert.Equal(t, strings.HasPrefix(name, "echo p") && name != "echo printer" || name == "echo", a.OK, "only that it answers is asked of an address: %s", name)
		keep(a)
	}
	a, err := w.c.TestSource(ctx, "echoes")
	require.NoError(t, err)
	keep(a)
	w.report("Ports", "SELECT code FROM ports")
	d := definition("Ports", "company mail", []string{"csv"}, "quay.desk@tarnwick.example")
	d.Retry, d.Patience = job.Retry{}, job.Retry{}
	for i, name := range []string{"echo put", "echo folder", "echo store", "echo printer"} {
		d.Tasks = append(d.Tasks, job.Task{Name: fmt.Sprint("to", i), Kind: job.KindDeliver, After: []string{"report"}, Deliver: &job.DeliverTask{Destination: name}})
	}
	w.job("Echoes", d)
	_, err = w.c.Ring(ctx, "Echoes", nil)
	require.NoError(t, err)
	for name, task := range map[string]job.Task{
		"Call":  {Name: "call", Kind: job.KindCall, Call: &job.CallTask{Destination: "echo"}},
		"Fetch": {Name: "fetch", Kind: job.KindFetch, Fetch: &job.FetchTask{Source: "echoes", URL: "tides.csv?key=" + secret}},
		"Open":  {Name: "open", Kind: job.KindFetch, Fetch: &job.FetchTask{URL: address + "/tides.csv?key=" + secret}},
	} {
		plain := tasks(task)
		plain.Retry = job.Retry{}
		w.job(name, plain)
		_, err = w.c.Ring(ctx, name, nil)
		require.NoError(t, err)
	}
	withKey := tasks(job.Task{Name: "fetch", Kind: job.KindFetch, Fetch: &job.FetchTask{URL: address, Headers: map[string]string{"authorization": "Bearer " + secret}}})
	_, err = w.c.SaveJob(ctx, "With key", wire.JobRequest{Owner: "mara", On: true, Definition: withKey})
	require.ErrorContains(t, err, "what signs in does not belong in a job")
	for _, out := range []string{"/etc/passwd", "../private/tides.csv", "%2e%2e/private/tides.csv", "http://elsewhere.tarnwick.example/"} {
		leaves := tasks(job.Task{Name: "fetch", Kind: job.KindFetch, Fetch: &job.FetchTask{Source: "echoes", URL: out}})
		leaves.Retry = job.Retry{}
		if _, err = w.c.SaveJob(ctx, "Leaves", wire.JobRequest{Owner: "mara", On: true, Definition: leaves}); err != nil {
			continue
		}
		run := w.ring("Leaves")
		assert.Contains(t, run.Reason, "leads out of the address of the source", out)
	}
	w.until("all was asked", func() bool {
		runs, err := w.c.Runs(ctx, client.RunFilter{Limit: 50})
		require.NoError(t, err)
		for _, r := range runs {
			page, err := w.c.Run(ctx, r.ID)
			require.NoError(t, err)
			keep(page)
		}
		alerts, err := w.c.Alerts(ctx)
		require.NoError(t, err)
		keep(alerts)
		return asked.Load() >= 12
	})
	text, err := os.ReadFile(filepath.Join(w.dir, "service.log"))
	require.NoError(t, err)
	keep(string(text))
	// Base64 begins at another bit behind each of three lengths; whole threes of it are the same.
	forms := []string{secret, url.QueryEscape(secret), hex.EncodeToString([]byte(secret))}
	for skip := range 3 {
		forms = append(forms, base64.RawStdEncoding.EncodeToString([]byte(secret)[skip:skip+18]))
	}
	conn := connect(t, w.db)
	rows, err := conn.Query(ctx, `SELECT c.oid::regclass::text FROM pg_class c WHERE relkind = 'r' AND relnamespace = current_schema()::regnamespace`)
	require.NoError(t, err)
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	require.Greater(t, len(tables), 30)
	for _, form := range forms {
		for _, a := range answers {
			assert.NotContains(t, a, form)
		}
		for _, table := range tables {
			var n int
			// Of a job's own words, which somebody wrote and everybody reads, an address may hold anything.
			require.NoError(t, conn.QueryRow(ctx, "SELECT count(*) FROM "+table+" t WHERE position($1 in t::text) > 0 AND $2 NOT IN ('job_versions', 'audit')", form, table).Scan(&n))
			assert.Zero(t, n, "%s in %s", form, table)
		}
	}
}

// Two records whose names look the same would be taken for each other.
func TestNamesThatLookAlikeAreOne(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Ports", "SELECT code FROM ports")
	d := definition("Ports", "company mail", []string{"csv"}, "quay.desk@tarnwick.example")
	w.job("Café board", d)
	place := wire.PlaceRequest{Protocol: "http", Settings: map[string]any{"url": "https://ledger.tarnwick.example/"}}
	_, err := w.c.SaveDestination(ctx, "Café board", place)
	require.NoError(t, err)
	for _, name := range []string{"café board", "CAFÉ BOARD", "Cafe\u0301 board", "Ｃafé board", "Café\u200d board", "Ca\u200cfé board"} {
		_, err := w.c.SaveJob(ctx, name, wire.JobRequest{Owner: "mara", On: true, Definition: d})
		assert.ErrorContains(t, err, "people cannot tell", "%q", name)
		_, err = w.c.SaveDestination(ctx, name, place)
		assert.ErrorContains(t, err, "people cannot tell", "%q", name)
		_, err = w.c.SaveReport(ctx, name[:len(name)-len(" board")], wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{Source: "tarnwick", Sections: []job.Section{{Name: "x", SQL: "SELECT 1 AS n"}}}})
		if name == "café board" {
			require.NoError(t, err, "the first of its kind")
		} else {
			assert.ErrorContains(t, err, "people cannot tell", "%q", name)
		}
	}
	for _, name := range []string{"Caf\u200bé board", "Café\u00a0board", "Café  board", "Café board\u2060", "\ufeffCafé board", "Café\u2028board", "Café\u00ad board", "Café board\u3164", "Café \u202eboard", "Café board\u0000", "Café\tboard", " Café board", "Café board\u2007", "Café\U000e0041 board"} {
		_, err := w.c.SaveJob(ctx, name, wire.JobRequest{Owner: "mara", On: true, Definition: d})
		assert.Error(t, err, "%q", name)
	}
	_, err = w.c.SavePerson(ctx, "MARA", wire.PersonRequest{Name: "Mara Quill", Mail: "mara@tarnwick.example", Role: "owner", Zone: "Europe/London"})
	require.NoError(t, err, "a login is the same in any case")
	_, err = w.c.SavePerson(ctx, "ｍara", wire.PersonRequest{Name: "Mara Quill", Mail: "mara@tarnwick.example", Role: "owner", Zone: "Europe/London"})
	assert.ErrorContains(t, err, "people cannot tell")
	_, err = w.c.SaveJob(ctx, "می\u200cخواهم ⚠\ufe0f", wire.JobRequest{Owner: "mara", On: true, Definition: d})
	assert.NoError(t, err, "some scripts are not written without signs that join")
}

// A request that is refused is not given back: it may hold a password.
func TestARefusalRepeatsNothingOfTheRequest(t *testing.T) {
	w := open(t)
	const secret = "planted-in-a-body"
	for _, r := range []struct{ method, path, body string }{
		{"PUT", "/api/sources/x", `{"protocol":"postgres","password":"` + secret + `","setings":{}}`},
		{"PUT", "/api/destinations/x", `{"protocol":5,"password":"` + secret + `"}`},
		{"PUT", "/api/destinations/x", `{"protocol":"smtp","password":["` + secret + `"],"settings":{}}`},
		{"PUT", "/api/people/x", `{"name":"x","role":"` + secret + `","password":"` + secret + `"}`},
		{"POST", "/api/session", `{"login":"x","password":{"a":"` + secret + `"}}`},
		{"POST", "/api/session", `["` + secret + `"]`},
		{"POST", "/api/session", `"` + secret + `"`},
		{"POST", "/api/session", secret},
		{"POST", "/api/session", `{"login":"` + secret + `","password":"` + secret + `"`},
		{"PUT", "/api/settings/bounces", `{"host":5,"password":"` + secret + `"}`},
		{"POST", "/api/events", `{"specversion":"1.0","data":"` + secret + `"}`},
	} {
		res := w.ask(r.method, r.path, r.body, nil)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, res.StatusCode, 400, r.path)
		assert.Less(t, res.StatusCode, 500, "%s: %s", r.path, text)
		assert.NotContains(t, string(text), secret, "%s %s", r.path, r.body)
		assert.Contains(t, string(text), `"detail"`)
	}
}
