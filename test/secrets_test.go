package test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Servers of every protocol that give back what they were sent, in whatever form, and requests
// that are refused, tell nobody our secrets: each secret that the service keeps is a marker,
// and none is found in anything that is kept, logged or answered, but sealed.
func TestSecretsAreFoundNowhere(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	const secret, phrase = "planted+marker/of=ours", "planted phrase of a person"
	var answers []string
	keep := func(parts ...any) { answers = append(answers, fmt.Sprint(parts...)) }

	echoes := map[string]*echo{
		"http": startEcho(t, w.outside, echoHTTP), "smtp": startEcho(t, "127.0.0.1:0", echoMail),
		"smtp token": startEcho(t, "127.0.0.1:0", echoMail), "smtp granted": startEcho(t, "127.0.0.1:0", echoMail),
		"ftp": startEcho(t, "127.0.0.1:0", echoFTP), "sftp": startEcho(t, "127.0.0.1:0", echoSFTP(t)),
		"sftp key": startEcho(t, "127.0.0.1:0", echoSFTP(t)), "smb": startEcho(t, "127.0.0.1:0", echoRaw),
		"mailbox": startEcho(t, "127.0.0.1:0", echoMailbox), "postgres": startEcho(t, "127.0.0.1:0", echoPostgres),
		"mysql": startEcho(t, "127.0.0.1:0", echoRaw),
	}
	address := "http://" + w.outside
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "bell")
	require.NoError(t, err)
	key := string(pem.EncodeToMemory(block))

	// Destinations, each tried by a test and by a delivery.
	mail := func(e *echo, more map[string]any) map[string]any {
		settings := w.behind(e, map[string]any{"security": "none", "from": "bell@tarnwick.example"})
		maps.Copy(settings, more)
		return settings
	}
	files := []string{"put", "folder", "store", "printer", "ftp", "sftp", "sftp key", "smb"}
	mails := []string{"mail", "mail token", "mail granted", "mail refused"}
	w.place("call", "http", secret, map[string]any{
		"url": address + "/in?key=shown", "headers": map[string]string{"Authorization": "Bearer {password}"},
	})
	w.place("put", "http", secret, map[string]any{
		"url": address + "/in", "method": "PUT", "headers": map[string]string{"X-Key": "{password}"},
	})
	w.place("folder", "webdav", secret, map[string]any{"url": address + "/", "user": "bell"})
	w.place("store", "s3", secret, map[string]any{"url": address, "bucket": "reports", "user": "bell"})
	w.place("printer", "ipp", secret, map[string]any{"url": "ipp://" + w.outside + "/ipp/print", "user": "bell"})
	w.place("ftp", "ftp", secret, w.behind(echoes["ftp"], map[string]any{"security": "none"}))
	w.place("sftp", "sftp", secret, w.behind(echoes["sftp"], nil))
	w.place("sftp key", "sftp", key, w.behind(echoes["sftp key"], nil))
	w.place("smb", "smb", secret, w.behind(echoes["smb"], map[string]any{"share": "reports"}))
	w.place("mail", "smtp", secret, mail(echoes["smtp"], nil))
	w.place("mail token", "smtp", secret, mail(echoes["smtp token"], map[string]any{"sign_in": "xoauth2"}))
	w.place("mail granted", "smtp", secret,
		mail(echoes["smtp granted"], map[string]any{
			"sign_in": "xoauth2", "client_id": "bell", "token_url": address + "/grant",
		}))
	w.place("mail refused", "smtp", secret,
		mail(echoes["smtp granted"], map[string]any{
			"sign_in": "xoauth2", "client_id": "bell", "token_url": address + "/token",
		}))
	for _, name := range slices.Concat([]string{"call"}, files, mails) {
		a, err := w.c.TestDestination(ctx, name)
		require.NoError(t, err)
		assert.Equal(t, name == "call" || name == "put", a.OK, "of an address is only asked whether it answers: %s",
			name)
		keep(a)
	}
	w.report("Ports", "SELECT code FROM ports")
	for _, name := range slices.Concat(files, mails) {
		to := job.DeliverTask{Destination: name}
		if strings.HasPrefix(name, "mail") {
			to.To = []string{"quay.desk@tarnwick.example"}
		}
		d := tasks(reportOf("Ports"), job.Task{
			Name: "out", Kind: job.KindDeliver, After: []string{"ports"}, Deliver: &to,
		})
		d.Retry, d.Patience = job.Retry{}, job.Retry{}
		w.job("To "+name, d)
		_, err := w.c.Ring(ctx, "To "+name, nil) // where a destination rests, its runs wait
		require.NoError(t, err)
	}
	settings, err := w.c.AlertSettings(ctx)
	require.NoError(t, err)
	settings.Call = "call"
	require.NoError(t, w.c.SaveAlertSettings(ctx, settings))

	// Sources and identities.
	database := func(protocol string) map[string]any {
		return w.behind(echoes[protocol], map[string]any{"database": "tarnwick", "tls": "disable"})
	}
	plain := secret
	for name, r := range map[string]wire.PlaceRequest{
		"web": {
			Protocol: "http", Password: &plain,
			Settings: map[string]any{
				"url": address + "/data/", "tables": map[string]any{"tides": map[string]any{"file": "tides.csv"}},
			},
		},
		"postgres": {Protocol: "postgres", Password: &plain, Settings: database("postgres")},
		"mysql":    {Protocol: "mysql", Password: &plain, Settings: database("mysql")},
	} {
		p, err := w.c.SaveSource(ctx, name, r)
		keep(p, err)
		a, err := w.c.TestSource(ctx, name)
		assert.False(t, a.OK, name)
		keep(a, err)
	}
	for _, source := range []string{"tarnwick", "postgres", "mysql"} {
		i, err := w.c.SaveIdentity(ctx, source, "grey skerry",
			wire.IdentityRequest{Login: "grey_skerry", Password: &plain})
		keep(i, err)
		p, err := w.c.Preview(ctx, "x",
			wire.PreviewRequest{LookRequest: wire.LookRequest{Definition: &job.ReportDefinition{
				Source: source, Identity: "grey skerry", Sections: []job.Section{{Name: "x", SQL: "SELECT 1 AS n"}},
			}}})
		require.Error(t, err, source)
		keep(p, err)
	}

	// Tasks.
	for name, task := range map[string]job.Task{
		"Call": {Name: "call", Kind: job.KindCall, Call: &job.CallTask{Destination: "call"}},
		"Fetch": {
			Name: "fetch", Kind: job.KindFetch, Fetch: &job.FetchTask{Source: "web", URL: "tides.csv?key=" + secret},
		},
		"Open": {Name: "open", Kind: job.KindFetch, Fetch: &job.FetchTask{URL: address + "/tides.csv?key=" + secret}},
	} {
		d := tasks(task)
		d.Retry = job.Retry{}
		w.job(name, d)
		_, err := w.c.Ring(ctx, name, nil)
		require.NoError(t, err)
	}
	withKey := tasks(job.Task{
		Name: "fetch", Kind: job.KindFetch,
		Fetch: &job.FetchTask{URL: address, Headers: map[string]string{"authorization": "Bearer " + secret}},
	})
	_, err = w.c.SaveJob(ctx, "With key", wire.JobRequest{Owner: "mara", On: true, Definition: withKey})
	require.ErrorContains(t, err, "what signs in does not belong in a job")
	for _, out := range []string{
		"/etc/passwd", "../private/tides.csv", "%2e%2e/private/tides.csv",
		"http://elsewhere.tarnwick.example/",
	} {
		leaves := tasks(job.Task{Name: "fetch", Kind: job.KindFetch, Fetch: &job.FetchTask{Source: "web", URL: out}})
		leaves.Retry = job.Retry{}
		if _, err = w.c.SaveJob(ctx, "Leaves", wire.JobRequest{
			Owner: "mara", On: true, Definition: leaves,
		}); err != nil {
			continue
		}
		run := w.ring("Leaves")
		assert.Contains(t, run.Reason, "leads out of the address of the source", out)
	}

	// The mailbox for bounces, and people.
	require.NoError(t,
		w.c.SaveBounces(ctx,
			w.behind(echoes["mailbox"], map[string]any{"security": "none", "password": secret, "every": "1s"})))
	_, err = w.c.SavePerson(ctx, "oren", wire.PersonRequest{
		Name: "Oren Voss", Mail: "oren@tarnwick.example", Role: "owner", Zone: "Europe/London", Password: phrase,
	})
	require.NoError(t, err)
	for _, try := range []string{phrase, phrase + "x"} {
		res := w.ask(http.MethodPost, "/api/session", fmt.Sprintf(`{"login":"oren","password":%q}`, try), nil)
		assert.Equal(t, try == phrase, res.StatusCode < 400)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		keep(string(text))
	}
	token, err := w.c.MakeToken(ctx, "oren", phrase, "terminal")
	require.NoError(t, err)
	_, err = client.New("http://"+w.listen, token.Token).Jobs(ctx, "")
	require.NoError(t, err)

	// What is refused is not given back.
	for _, r := range refusedBodies(secret) {
		res := w.ask(r.method, r.path, r.body, nil)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, res.StatusCode, 400, r.path)
		assert.Less(t, res.StatusCode, 500, "%s: %s", r.path, text)
		assert.Contains(t, string(text), `"detail"`)
		keep(string(text))
	}

	w.allHeard(echoes)
	w.until("each delivery was tried, and people were told", func() bool {
		alerts, err := w.c.Alerts(ctx)
		require.NoError(t, err)
		list, err := w.c.Deliveries(ctx)
		require.NoError(t, err)
		return len(alerts) >= len(files) && len(list) >= len(files)+len(mails) &&
			!slices.ContainsFunc(list, func(d job.Delivery) bool { return d.Tries == 0 && d.KeptBack == "" })
	})
	runs, err := w.c.Runs(ctx, client.RunFilter{Limit: 50})
	require.NoError(t, err)
	for _, r := range runs {
		page, err := w.c.Run(ctx, r.ID)
		require.NoError(t, err)
		lines, err := w.c.Log(ctx, r.ID, 0)
		require.NoError(t, err)
		keep(page, lines)
	}
	for _, path := range []string{
		"/api/alerts", "/api/deliveries", "/api/destinations", "/api/sources",
		"/api/settings/bounces", "/api/settings/alerts", "/api/state", "/api/audit", "/metrics", "/api/today",
		"/api/people",
	} {
		text, err := io.ReadAll(w.ask(http.MethodGet, path, "", nil).Body)
		require.NoError(t, err)
		keep(string(text))
	}
	w.notFound(answers, secret, grantedToken, phrase, token.Token, key)
}

// notFound looks for secrets in answers, in all that the service wrote to its folders, in its
// log, and in every table.
func (w *world) notFound(answers []string, secrets ...string) {
	w.t.Helper()
	ctx := context.Background()
	require.NoError(w.t, filepath.WalkDir(w.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		text, err := os.ReadFile(path)
		answers = append(answers, path+": "+string(text))
		return err
	}))
	conn := connect(w.t, w.db)
	rows, err := conn.Query(ctx,
		`SELECT c.oid::regclass::text FROM pg_class c WHERE relkind = 'r' AND relnamespace = current_schema()::regnamespace`)
	require.NoError(w.t, err)
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(w.t, err)
	require.Greater(w.t, len(tables), 30)
	for _, secret := range secrets {
		forms := []string{secret, url.QueryEscape(secret), hex.EncodeToString([]byte(secret))}
		if lines := strings.Split(secret, "\n"); len(lines) > 1 {
			forms = lines[1:3] // of a key each line is one
		} else {
			// base64 begins at another bit behind each of three lengths; whole threes of it are the same
			for skip := range 3 {
				forms = append(forms, base64.RawStdEncoding.EncodeToString([]byte(secret)[skip:skip+18]))
			}
		}
		for _, form := range forms {
			for _, a := range answers {
				if at := strings.Index(a, form); at >= 0 {
					w.t.Errorf("%q is found: ...%s", form, a[max(0, at-200):min(len(a), at+100)])
				}
			}
			for _, table := range tables {
				var n int
				// Of a job's own words, which somebody wrote and everybody reads, an address may hold anything.
				require.NoError(w.t,
					conn.QueryRow(ctx,
						"SELECT count(*) FROM "+table+
							" t WHERE position($1 in t::text) > 0 AND $2 NOT IN ('job_versions', 'audit')", form,
						table).Scan(&n))
				assert.Zero(w.t, n, "%s in %s", form, table)
			}
		}
	}
}

// refusedBodies are requests that are refused and hold a secret.
func refusedBodies(secret string) []struct{ method, path, body string } {
	return []struct{ method, path, body string }{
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
	}
}
