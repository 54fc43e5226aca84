package faults

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"testing"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Servers of every protocol that give back what they were sent, in whatever form, and requests
// that are refused, tell nobody our secrets: each secret that the service keeps is a marker,
// and none is found in anything that is kept, logged or answered, but sealed.
func TestSecretsAreFoundNowhere(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	const secret, phrase = "planted+marker/of=ours", "planted phrase of a person"
	var answers []string
	keep := func(parts ...any) { answers = append(answers, fmt.Sprint(parts...)) }

	echoes := map[string]*world.Echo{
		"http":         world.StartEcho(t, w.Outside, world.EchoHTTP),
		"smtp":         world.StartEcho(t, "127.0.0.1:0", world.EchoMail),
		"smtp token":   world.StartEcho(t, "127.0.0.1:0", world.EchoMail),
		"smtp granted": world.StartEcho(t, "127.0.0.1:0", world.EchoMail),
		"ftp":          world.StartEcho(t, "127.0.0.1:0", world.EchoFTP),
		"sftp":         world.StartEcho(t, "127.0.0.1:0", world.EchoSFTP(t)),
		"sftp key":     world.StartEcho(t, "127.0.0.1:0", world.EchoSFTP(t)),
		"smb":          world.StartEcho(t, "127.0.0.1:0", world.EchoRaw),
		"mailbox":      world.StartEcho(t, "127.0.0.1:0", world.EchoMailbox),
		"postgres":     world.StartEcho(t, "127.0.0.1:0", world.EchoPostgres),
		"mysql":        world.StartEcho(t, "127.0.0.1:0", world.EchoRaw),
	}
	address := "http://" + w.Outside
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "bell")
	require.NoError(t, err)
	key := string(pem.EncodeToMemory(block))

	// Destinations, each tried by a test and by a delivery.
	mail := func(e *world.Echo, more map[string]any) map[string]any {
		settings := w.Behind(e, map[string]any{"security": "none", "from": "bell@tarnwick.example"})
		maps.Copy(settings, more)
		return settings
	}
	files := []string{"put", "folder", "store", "printer", "ftp", "sftp", "sftp key", "smb"}
	mails := []string{"mail", "mail token", "mail granted", "mail refused"}
	w.Place("call", "http", secret, map[string]any{
		"url": address + "/in?key=shown", "headers": map[string]string{"Authorization": "Bearer {password}"},
	})
	w.Place("put", "http", secret, map[string]any{
		"url": address + "/in", "method": "PUT", "headers": map[string]string{"X-Key": "{password}"},
	})
	w.Place("folder", "webdav", secret, map[string]any{"url": address + "/", "user": "bell"})
	w.Place("store", "s3", secret, map[string]any{"url": address, "bucket": "reports", "user": "bell"})
	w.Place("printer", "ipp", secret, map[string]any{"url": "ipp://" + w.Outside + "/ipp/print", "user": "bell"})
	w.Place("ftp", "ftp", secret, w.Behind(echoes["ftp"], map[string]any{"security": "none"}))
	w.Place("sftp", "sftp", secret, w.Behind(echoes["sftp"], nil))
	w.Place("sftp key", "sftp", key, w.Behind(echoes["sftp key"], nil))
	w.Place("smb", "smb", secret, w.Behind(echoes["smb"], map[string]any{"share": "reports"}))
	w.Place("mail", "smtp", secret, mail(echoes["smtp"], nil))
	w.Place("mail token", "smtp", secret, mail(echoes["smtp token"], map[string]any{"sign_in": "xoauth2"}))
	w.Place("mail granted", "smtp", secret,
		mail(echoes["smtp granted"], map[string]any{
			"sign_in": "xoauth2", "client_id": "bell", "token_url": address + "/grant",
		}))
	w.Place("mail refused", "smtp", secret,
		mail(echoes["smtp granted"], map[string]any{
			"sign_in": "xoauth2", "client_id": "bell", "token_url": address + "/token",
		}))
	for _, name := range slices.Concat([]string{"call"}, files, mails) {
		a, err := w.C.TestDestination(ctx, name)
		require.NoError(t, err)
		assert.Equal(t, name == "call" || name == "put", a.OK, "of an address is only asked whether it answers: %s",
			name)
		keep(a)
	}
	w.Report("Ports", "SELECT code FROM ports")
	for _, name := range slices.Concat(files, mails) {
		to := job.DeliverTask{Destination: name}
		if strings.HasPrefix(name, "mail") {
			to.To = []string{"quay.desk@tarnwick.example"}
		}
		d := world.Tasks(world.ReportOf("Ports"), job.Task{
			Name: "out", Kind: job.KindDeliver, After: []string{"ports"}, Deliver: &to,
		})
		d.Retry, d.Patience = job.Retry{}, job.Retry{}
		w.Job("To "+name, d)
		_, err := w.C.Ring(ctx, "To "+name, nil) // where a destination rests, its runs wait
		require.NoError(t, err)
	}
	settings, err := w.C.AlertSettings(ctx)
	require.NoError(t, err)
	settings.Call = "call"
	require.NoError(t, w.C.SaveAlertSettings(ctx, settings))

	// Sources and identities.
	database := func(protocol string) map[string]any {
		return w.Behind(echoes[protocol], map[string]any{"database": "tarnwick", "tls": "disable"})
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
		p, err := w.C.SaveSource(ctx, name, r)
		keep(p, err)
		a, err := w.C.TestSource(ctx, name)
		assert.False(t, a.OK, name)
		keep(a, err)
	}
	for _, source := range []string{"tarnwick", "postgres", "mysql"} {
		i, err := w.C.SaveIdentity(ctx, source, "grey skerry",
			wire.IdentityRequest{Login: "grey_skerry", Password: &plain})
		keep(i, err)
		p, err := w.C.Preview(ctx, "x",
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
		d := world.Tasks(task)
		d.Retry = job.Retry{}
		w.Job(name, d)
		_, err := w.C.Ring(ctx, name, nil)
		require.NoError(t, err)
	}
	withKey := world.Tasks(job.Task{
		Name: "fetch", Kind: job.KindFetch,
		Fetch: &job.FetchTask{URL: address, Headers: map[string]string{"authorization": "Bearer " + secret}},
	})
	_, err = w.C.SaveJob(ctx, "With key", wire.JobRequest{Owner: "mara", On: true, Definition: withKey})
	require.ErrorContains(t, err, "what signs in does not belong in a job")
	for _, out := range []string{
		"/etc/passwd", "../private/tides.csv", "%2e%2e/private/tides.csv",
		"http://elsewhere.tarnwick.example/",
	} {
		leaves := world.Tasks(job.Task{Name: "fetch", Kind: job.KindFetch, Fetch: &job.FetchTask{Source: "web", URL: out}})
		leaves.Retry = job.Retry{}
		if _, err = w.C.SaveJob(ctx, "Leaves", wire.JobRequest{
			Owner: "mara", On: true, Definition: leaves,
		}); err != nil {
			continue
		}
		run := w.Ring("Leaves")
		assert.Contains(t, run.Reason, "leads out of the address of the source", out)
	}

	// The mailbox for bounces, and people.
	require.NoError(t,
		w.C.SaveBounces(ctx,
			w.Behind(echoes["mailbox"], map[string]any{"security": "none", "password": secret, "every": "1s"})))
	_, err = w.C.SavePerson(ctx, "oren", wire.PersonRequest{
		Name: "Oren Voss", Mail: "oren@tarnwick.example", Role: "owner", Zone: "Europe/London", Password: phrase,
	})
	require.NoError(t, err)
	for _, try := range []string{phrase, phrase + "x"} {
		res := w.Ask(http.MethodPost, "/api/session", fmt.Sprintf(`{"login":"oren","password":%q}`, try), nil)
		assert.Equal(t, try == phrase, res.StatusCode < 400)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		keep(string(text))
	}
	token, err := w.C.MakeToken(ctx, "oren", phrase, "terminal")
	require.NoError(t, err)
	_, err = client.New("http://"+w.Listen, token.Token).Jobs(ctx, "")
	require.NoError(t, err)

	// What is refused is not given back.
	_, err = w.C.SaveSender(ctx, "Gauges", job.SenderDefinition{Sends: []job.EventGrant{{Source: "/gauges", Type: "*"}}})
	require.NoError(t, err)
	var sends []string
	for _, kind := range []job.SenderKeyKind{job.SenderToken, job.SenderSigning} {
		made, err := w.C.NewSenderKey(ctx, "Gauges", wire.SenderKeyRequest{Kind: kind})
		require.NoError(t, err)
		sends = append(sends, made.Secret)
	}
	for _, r := range refusedBodies(secret) {
		res := w.Ask(r.method, r.path, r.body, nil)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, res.StatusCode, 400, r.path)
		assert.Less(t, res.StatusCode, 500, "%s: %s", r.path, text)
		assert.Contains(t, string(text), `"detail"`)
		keep(string(text))
	}

	w.AllHeard(echoes)
	w.Until("each delivery was tried, and people were told", func() bool {
		alerts, err := w.C.Alerts(ctx)
		require.NoError(t, err)
		list, err := w.C.Deliveries(ctx)
		require.NoError(t, err)
		return len(alerts) >= len(files) && len(list) >= len(files)+len(mails) &&
			!slices.ContainsFunc(list, func(d job.Delivery) bool { return d.Tries == 0 && d.KeptBack == "" })
	})
	runs, err := w.C.Runs(ctx, client.RunFilter{Limit: 50})
	require.NoError(t, err)
	for _, r := range runs {
		page, err := w.C.Run(ctx, r.ID)
		require.NoError(t, err)
		lines, err := w.C.Log(ctx, r.ID, 0)
		require.NoError(t, err)
		keep(page, lines)
	}
	for _, path := range []string{
		"/api/alerts", "/api/deliveries", "/api/destinations", "/api/sources",
		"/api/settings/bounces", "/api/settings/alerts", "/api/state", "/api/audit", "/metrics", "/api/today",
		"/api/people", "/api/senders", "/api/events",
	} {
		text, err := io.ReadAll(w.Ask(http.MethodGet, path, "", nil).Body)
		require.NoError(t, err)
		keep(string(text))
	}
	w.NotFound(answers, append(sends, secret, world.GrantedToken, phrase, token.Token, key)...)
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
		{"POST", "/api/senders/Gauges/keys", `{"kind":"key","key":"` + secret + `"}`},
		{"POST", "/api/senders/Gauges/keys", `{"kind":"` + secret + `"}`},
		{"POST", "/api/senders/Gauges/events", `{"type":"` + secret + `"}`},
		{"POST", "/api/events", `{"specversion":"1.0","data":"` + secret + `"}`},
	}
}
