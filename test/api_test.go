package test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"strings"
	"testing"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/api"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheDescriptionIsTheOneThatIsKept(t *testing.T) {
	t.Parallel()
	kept, err := os.ReadFile(world.Path("internal/api/openapi.json"))
	require.NoError(t, err)
	made, err := api.Description()
	require.NoError(t, err)
	assert.JSONEq(t, string(made), string(kept), "type make describe")
}

func TestNothingButSignInHealthAndTheConsoleIsOpen(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	base := "http://" + w.Listen
	text, err := api.Description()
	require.NoError(t, err)
	var d struct {
		OpenAPI string
		Paths   map[string]map[string]any
	}
	require.NoError(t, json.Unmarshal(text, &d))
	assert.Equal(t, "3.1.0", d.OpenAPI)
	require.Greater(t, len(d.Paths), 20)
	for path, methods := range d.Paths {
		for method := range methods {
			method = strings.ToUpper(method)
			address := strings.NewReplacer("{run}", "2611-1", "{job}", "1", "{alert}", "1", "{delivery}", "1", "{file}",
				"1", "{report}", "1", "{login}", "x", "{name}", "x", "{calendar}", "x").Replace(path)
			body := ""
			if method == http.MethodPut || method == http.MethodPost {
				body = "{}"
			}
			status, kind, answer := world.Call(t, http.DefaultClient, method, base+address, "", body)
			if path == "/api/version" { // a client asks for it before anybody has signed in
				assert.Equal(t, 200, status, answer)
				continue
			}
			open := method == http.MethodPost && (path == "/api/session" || path == "/api/tokens")
			if open {
				assert.NotEqual(t, 401, status, path)
				continue
			}
			assert.Equal(t, "application/problem+json", kind, path)
			if path == "/api/forecast.ics" { // the key of a personal link opens it, and nothing else
				assert.Equal(t, 404, status, answer)
				continue
			}
			assert.Equal(t, 401, status, "%s %s", method, path)
			says := "You are not signed in"
			if path == "/api/senders/{name}/events" { // a token or a signature opens it, and nothing else
				says = "The request is not signed by this sender"
			}
			assert.Contains(t, answer, says, path)
		}
	}
	for path, want := range map[string]int{
		"/health": 200, "/ready": 200, "/state": 200, "/api/state": 401, "/api/nodes": 401, "/": 200, "/jobs/3": 200,
		"/api/openapi.json": 401, "/api/nothing": 401, "/assets/nothing.js": 404,
	} {
		status, _, _ := world.Call(t, http.DefaultClient, http.MethodGet, base+path, "", "")
		assert.Equal(t, want, status, path)
	}
	status, _, _ := world.Call(t, http.DefaultClient, http.MethodGet, base+"/api/nothing", w.Token, "")
	assert.Equal(t, 404, status)
	status, _, described := world.Call(t, http.DefaultClient, http.MethodGet, base+"/api/openapi.json", w.Token, "")
	assert.Equal(t, 200, status)
	assert.Contains(t, described, `"openapi":"3.1.0"`)
}

func TestSessions(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	base := "http://" + w.Listen
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	c := &http.Client{Jar: jar}
	for _, wrong := range []string{
		`{"login":"mara","password":"wrong-password"}`,
		`{"login":"nobody","password":"wrong-password"}`,
	} {
		status, _, text := world.Call(t, c, http.MethodPost, base+"/api/session", "", wrong)
		assert.Equal(t, 401, status)
		assert.Contains(t, text, "do not belong together", "it does not say which of them is wrong")
	}
	status, _, text := world.Call(t, c, http.MethodPost, base+"/api/session", "",
		`{"login":"mara","password":"`+world.Password+`"}`)
	require.Equal(t, 200, status, text)
	assert.NotContains(t, text, "argon2")
	status, _, text = world.Call(t, c, http.MethodGet, base+"/api/session", "", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, text, "Mara Quill")
	// Another site's page may not use the session.
	req, err := http.NewRequest(http.MethodPost, base+"/api/jobs/1/ring", strings.NewReader("{}"))
	require.NoError(t, err)
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	res, err := c.Do(req)
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, 403, res.StatusCode)
	// A session that has ended is said to have ended.
	_, err = world.Connect(t, w.Db).Exec(context.Background(),
		`UPDATE sessions SET expiry = now() - interval '1 minute'`)
	require.NoError(t, err)
	status, _, text = world.Call(t, c, http.MethodGet, base+"/api/jobs", "", "")
	assert.Equal(t, 401, status)
	assert.Contains(t, text, "your session has ended")
	// Guessing is slowed down.
	limited := false
	for range 40 {
		status, _, _ = world.Call(t, c, http.MethodPost, base+"/api/session", "",
			`{"login":"mara","password":"wrong-password"}`)
		limited = limited || status == 429
	}
	assert.True(t, limited)
}

// A password that is changed ends the sessions, tokens and links that were had before.
func TestAChangedPasswordEndsWhatItOpened(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	base := "http://" + w.Listen
	browser := func(secret string) *http.Client {
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		c := &http.Client{Jar: jar}
		status, _, text := world.Call(t, c, http.MethodPost, base+"/api/session", "",
			`{"login":"mara","password":"`+secret+`"}`)
		require.Equal(t, 200, status, text)
		return c
	}
	signedIn := func(c *http.Client) bool {
		status, _, _ := world.Call(t, c, http.MethodGet, base+"/api/session", "", "")
		return status == 200
	}
	mine, elsewhere, token := browser(world.Password), browser(world.Password), w.As("mara")
	feed, err := token.MakeFeed(ctx)
	require.NoError(t, err)
	put := func(body string) (int, string) {
		status, _, text := world.Call(t, mine, http.MethodPut, base+"/api/session/password", "", body)
		return status, text
	}
	status, text := put(`{"present":"not-the-one","next":"a-lamp-on-the-pier"}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "the present password is another one")
	status, text = put(`{"present":"` + world.Password + `","next":"short"}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "fewer than 10 characters")
	assert.True(t, signedIn(mine) && signedIn(elsewhere), "nothing was changed")

	status, text = put(`{"present":"` + world.Password + `","next":"a-lamp-on-the-pier"}`)
	require.Equal(t, 204, status, text)
	assert.False(t, signedIn(mine))
	assert.False(t, signedIn(elsewhere))
	_, err = token.Jobs(ctx, "")
	assert.ErrorContains(t, err, "not signed in")
	res, err := http.Get(feed.Address)
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.NotEqual(t, 200, res.StatusCode, "the link to the forecast")
	status, _, _ = world.Call(t, http.DefaultClient, http.MethodPost, base+"/api/session", "",
		`{"login":"mara","password":"`+world.Password+`"}`)
	assert.Equal(t, 401, status)

	// So does a password that an administrator gives, and not a save that leaves it alone.
	again := browser("a-lamp-on-the-pier")
	person := wire.PersonRequest{Name: "Mara Quill", Mail: "mara@tarnwick.example", Role: "owner", Zone: demo.Zone}
	_, err = w.C.SavePerson(ctx, "mara", person)
	require.NoError(t, err)
	assert.True(t, signedIn(again))
	person.Password = "a-lamp-on-the-pier"
	_, err = w.C.SavePerson(ctx, "mara", person)
	require.NoError(t, err)
	assert.True(t, signedIn(again), "the same password again changes nothing")
	person.Password = "the-other-lantern"
	_, err = w.C.SavePerson(ctx, "mara", person)
	require.NoError(t, err)
	assert.False(t, signedIn(again))

	// Whoever finds an open session does not find its password by guessing.
	open := browser("the-other-lantern")
	limited := false
	for range 30 {
		status, _, _ := world.Call(t, open, http.MethodPut, base+"/api/session/password", "",
			`{"present":"a-guess-of-mine","next":"a-lamp-on-the-pier"}`)
		limited = limited || status == 429
	}
	assert.True(t, limited)
	assert.True(t, signedIn(open))
	var said string
	require.NoError(t,
		world.Connect(t, w.Db).QueryRow(ctx,
			`SELECT string_agg(coalesce(before::text, '') || coalesce(after::text, ''), ' ') FROM audit WHERE kind = 'person'`).Scan(&said))
	for _, secret := range []string{world.Password, "lamp", "lantern", "argon2"} {
		assert.NotContains(t, said, secret)
	}

	// Who signs out with a token ends it.
	joren := w.As("joren")
	require.NoError(t, joren.SignOut(ctx))
	_, err = joren.Jobs(ctx, "")
	assert.ErrorContains(t, err, "not signed in")
	_, err = w.As("joren").Jobs(ctx, "")
	assert.NoError(t, err)

	// Signs that cannot be kept are no fault of the service.
	for _, body := range []string{
		`{"login":"ma\u0000ra","password":"x"}`,
		"{\"login\":\"ma\xffra\",\"password\":\"x\"}",
	} {
		status, _, text := world.Call(t, http.DefaultClient, http.MethodPost, base+"/api/session", "", body)
		assert.Contains(t, []int{401, 422}, status, text)
	}
	status, _, text = world.Call(t, http.DefaultClient, http.MethodGet, base+"/api/jobs/a%00b", w.Token, "")
	assert.Contains(t, []int{404, 422}, status, text)
	status, _, text = world.Call(t, http.DefaultClient, http.MethodGet, base+"/api/jobs?search=%ff%fe", w.Token, "")
	assert.Contains(t, []int{200, 422}, status, text)
}

func TestBadInputIsRefusedWithASentenceAndNothingIsSaved(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	base := "http://" + w.Listen
	w.Report("Ports", "SELECT code FROM ports WHERE code = :port", job.Parameter{
		Name: "port", Label: "Port", Type: job.TypeText, Required: true,
	})
	good := `"zone":"Europe/London","values":{"port":"TQ"},"tasks":[{"name":"report","kind":"report","report":{"report":"Ports","outputs":[{"format":"csv"}]}},{"name":"mail","kind":"deliver","deliver":{"destination":"company mail","to":["a@tarnwick.example"]}}]`
	change := func(old, text string) string { return "{\"on\":true," + strings.Replace(good, old, text, 1) + "}" }
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		want                     []string
	}{
		{
			"bad cron text", "PUT", "/api/jobs/Bad", change(`"tasks"`, `"triggers":[{"rule":"61 6 * * *"}],"tasks"`),
			422,
			[]string{"triggers[0].rule", "column 1", "a minute from 0 to 59"},
		},
		{
			"a rule that never rings", "PUT", "/api/jobs/Bad",
			change(`"tasks"`, `"triggers":[{"rule":"0 0 30 2 *"}],"tasks"`), 422,
			[]string{"this never rings"},
		},
		{
			"unknown zone", "PUT", "/api/jobs/Bad", change("Europe/London", "Europe/Tarnwick"), 422,
			[]string{"there is no time zone", "Europe/Tarnwick"},
		},
		{
			"unknown report", "PUT", "/api/jobs/Bad", change(`"report":"Ports"`, `"report":"Pots"`), 422,
			[]string{`there is no report \"Pots\"`},
		},
		{
			"unknown destination", "PUT", "/api/jobs/Bad", change("company mail", "pigeon"), 422,
			[]string{`there is no destination \"pigeon\"`},
		},
		{
			"unknown parameter", "PUT", "/api/jobs/Bad", change(`{"port":"TQ"}`, `{"prot":"TQ","port":"TQ"}`), 422,
			[]string{`there is no parameter \"prot\"; there are port`},
		},
		{
			"missing required value", "PUT", "/api/jobs/Bad", change(`{"port":"TQ"}`, `{}`), 422,
			[]string{"Port needs a value"},
		},
		{
			"bad address", "PUT", "/api/jobs/Bad", change("a@tarnwick.example", "a at tarnwick"), 422,
			[]string{"deliver.to[0]", "is no mail address"},
		},
		{
			"unknown moving part", "PUT", "/api/jobs/Bad",
			change(`{"format":"csv"}`, `{"format":"csv","name":"{datum}.csv"}`), 422,
			[]string{"datum", "which is not known here"},
		},
		{"unknown format", "PUT", "/api/jobs/Bad", change(`"csv"`, `"doc"`), 422, []string{"format"}},
		{
			"unknown field", "PUT", "/api/jobs/Bad", change(`"tasks"`, `"colour":"red","tasks"`), 422,
			[]string{"unexpected property", "colour"},
		},
		{
			"a task without what it does", "PUT", "/api/jobs/Bad",
			change(`"kind":"report","report":{"report":"Ports","outputs":[{"format":"csv"}]}`, `"kind":"report"`), 422,
			[]string{"a task of kind report says what to do in report"},
		},
		{
			"two tasks of one name", "PUT", "/api/jobs/Bad", change(`"name":"mail"`, `"name":"report"`), 422,
			[]string{`two tasks \"report\"`},
		},
		{"a name of digits", "PUT", "/api/jobs/123", "{\"on\":true," + good + "}", 422, []string{"taken for a number"}},
		{
			"unknown owner", "PUT", "/api/jobs/Bad", `{"owner":"nobody","on":true,` + good + "}", 422,
			[]string{`there is no person \"nobody\"`},
		},
		{"no JSON", "PUT", "/api/jobs/Bad", `{"zone`, 400, []string{"unexpected end"}},
		{
			"SQL that the database refuses", "PUT", "/api/reports/Bad",
			`{"source":"tarnwick","sections":[{"name":"A","sql":"SELECT 1,\n  nonsense FROM ports"}]}`, 422,
			[]string{"nonsense", "line 2, column 3"},
		},
		{
			"a query that speaks of no parameter", "PUT", "/api/reports/Bad",
			`{"source":"tarnwick","sections":[{"name":"A","sql":"SELECT :x"}]}`, 422,
			[]string{"speaks of :x"},
		},
		{
			"unknown source", "PUT", "/api/reports/Bad",
			`{"source":"nowhere","sections":[{"name":"A","sql":"SELECT 1"}]}`,
			422,
			[]string{"there is no such source"},
		},
		{
			"a report without sections", "PUT", "/api/reports/Bad", `{"source":"tarnwick","sections":[]}`, 422,
			[]string{"sections"},
		},
		{
			"oversized body", "PUT", "/api/reports/Bad",
			`{"source":"tarnwick","sections":[{"name":"A","sql":"` + strings.Repeat("x", 9<<20) + `"}]}`, 413,
			[]string{"larger than the 8.0 MiB that are taken here"},
		},
		{"unknown job", "POST", "/api/jobs/Nowhere/ring", "{}", 404, []string{`there is no job \"Nowhere\"`}},
		{"unknown run", "GET", "/api/runs/2611-99999", "", 404, []string{"there is no run"}},
		{"no run's number", "GET", "/api/runs/abc", "", 422, []string{"is no number of a run"}},
		{"unknown file", "GET", "/api/files/5", "", 404, []string{"there is no file"}},
		{
			"unknown delivery", "POST", "/api/deliveries/5/settle", `{"as":"sent"}`, 404,
			[]string{"there is no delivery"},
		},
		{"unknown verdict", "POST", "/api/deliveries/5/settle", `{"as":"lost"}`, 422, []string{"as"}},
		{"a day that is none", "GET", "/api/day?date=2026-02-30", "", 422, []string{"2026-02-30"}},
		{
			"a short password", "PUT", "/api/people/new",
			`{"name":"New","mail":"","role":"reader","zone":"Europe/London","password":"short"}`, 422,
			[]string{"fewer than 10 characters"},
		},
		{
			"a destination that cannot be used", "PUT", "/api/destinations/bad",
			`{"protocol":"smtp","settings":{"host":"x","from":"nobody"}}`, 422,
			[]string{"is no address of a sender"},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			status, kind, text := world.Call(t, http.DefaultClient, c.method, base+c.path, w.Token, c.body)
			assert.Equal(t, c.status, status, text)
			assert.Equal(t, "application/problem+json", kind)
			for _, want := range c.want {
				assert.Contains(t, text, want)
			}
		})
	}
	jobs, err := w.C.Jobs(context.Background(), "")
	require.NoError(t, err)
	assert.Empty(t, jobs, "nothing was half saved")
	reports, err := w.C.Reports(context.Background())
	require.NoError(t, err)
	assert.Len(t, reports, 1)
	status, _, _ := world.Call(t, http.DefaultClient, http.MethodGet, base+"/ready", "", "")
	assert.Equal(t, 200, status, "the service keeps running")
	// A job that is off may be unfinished; it cannot be switched on, and says why.
	status, _, text := world.Call(t, http.DefaultClient, "PUT", base+"/api/jobs/Draft", w.Token,
		strings.Replace(change(`{"port":"TQ"}`, `{}`), "true", "false", 1))
	require.Equal(t, 200, status, text)
	status, _, text = world.Call(t, http.DefaultClient, "POST", base+"/api/jobs/Draft/switch", w.Token, `{"on":true}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "Port needs a value")
	status, _, text = world.Call(t, http.DefaultClient, "POST", base+"/api/jobs/Draft/ring", w.Token,
		`{"values":{"port":["a"]}}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "not a list")
}

func TestWhoMayDoWhat(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Quay board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	base := "http://" + w.Listen
	as := func(login string) *client.Client {
		token, err := client.New(base, "").MakeToken(ctx, login, world.Password, "test")
		require.NoError(t, err)
		return client.New(base, token.Token)
	}
	mara, joren := as("mara"), as("joren")
	_, err := mara.Ring(ctx, "Quay board", nil)
	assert.NoError(t, err, "her own")
	var p *client.Problem
	_, err = joren.Ring(ctx, "Quay board", nil)
	require.ErrorAs(t, err, &p)
	assert.Equal(t, 403, p.Status)
	assert.Contains(t, p.Detail, "Joren Tak may not ring the job Quay board: it takes its owner or an administrator")
	_, err = joren.Switch(ctx, "Quay board", false)
	assert.ErrorAs(t, err, &p)
	_, err = joren.Job(ctx, "Quay board")
	assert.NoError(t, err, "everybody reads")
	assert.ErrorAs(t, mara.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail"}), &p)
	assert.Equal(t, 403, p.Status)
	_, err = mara.TestDestination(ctx, "company mail")
	assert.ErrorAs(t, err, &p)
	said, err := w.C.TestDestination(ctx, "company mail")
	require.NoError(t, err)
	assert.True(t, said.OK, said.Said)
	w.Behave("mail", "away", 0)
	said, err = w.C.TestDestination(ctx, "company mail")
	require.NoError(t, err)
	assert.False(t, said.OK)
	assert.Contains(t, said.Said, "connection refused")
	said, err = w.C.TestSource(ctx, "tarnwick")
	require.NoError(t, err)
	assert.Contains(t, said.Said, "signed in as tarnwick_reports")
	status, _, text := world.Call(t, http.DefaultClient, http.MethodGet, base+"/api/destinations", w.Token, "")
	assert.Equal(t, 200, status)
	assert.NotContains(t, text, w.Out.Password, "a password is never shown")
	var sealed []byte
	require.NoError(t,
		world.Connect(t, w.Db).QueryRow(ctx,
			`SELECT secret FROM destinations WHERE name = 'company mail'`).Scan(&sealed))
	assert.False(t, bytes.Contains(sealed, []byte(w.Out.Password)), "and never kept as it is")
	assert.NotEmpty(t, sealed)
}

func TestFilesAreFetchedAsTheyWere(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Ports", "SELECT code, name FROM ports ORDER BY code")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv", "xlsx"}, "a@tarnwick.example"))
	page := w.Ring("Board")
	require.Len(t, page.Artifacts, 2)
	for _, f := range page.Artifacts {
		in, err := w.C.File(context.Background(), f.ID)
		require.NoError(t, err)
		text, err := io.ReadAll(in)
		require.NoError(t, err)
		require.NoError(t, in.Close())
		assert.Len(t, text, int(f.Size))
		assert.Equal(t, f.SHA256, fmt.Sprintf("%x", sum(text)))
	}
}

func sum(text []byte) []byte {
	s := sha256.Sum256(text)
	return s[:]
}

// Times at the ends of the calendar are refused with a sentence, wherever they are named.
func TestTimesThatNobodyReckonsWithAreRefused(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	base := "http://" + w.Listen
	w.Report("Ports", "SELECT code FROM ports WHERE code <> :day::text", job.Parameter{
		Name: "day", Label: "Day", Type: job.TypeDate, Default: "today",
	})
	d := world.Tasks(world.ReportOf("Ports"))
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "0 6 * * *"}}}
	w.Job("Ports", d)
	for _, year := range []string{"9999", "0001", "0000", "9001", "1899"} {
		day, at := year+"-12-31", year+"-12-31T23:59:59-12:00"
		for _, c := range []struct{ method, path, body string }{
			{"GET", "/api/forecast?from=" + at + "&to=" + at, ""},
			{"GET", "/api/forecast?from=" + at, ""},
			{"GET", "/api/forecast?to=" + at, ""},
			{"GET", "/api/moment?text=today+%2B+1+day&at=" + at, ""},
			{"GET", "/api/day?date=" + day + "&zone=Pacific/Auckland", ""},
			{"GET", "/api/jobs/Ports/why?at=" + day, ""},
			{"GET", "/api/jobs/Ports/why?at=" + at, ""},
			{"POST", "/api/when", `{"rule":"0 6 * * *","from":"` + at + `"}`},
			{"POST", "/api/when", `{"rule":"0 6 * * *","start":"` + day + `"}`},
			{"POST", "/api/when", `{"rule":"0 6 * * *","end":"` + at + `"}`},
			{"POST", "/api/freezes", `{"label":"service","from":"` + at + `"}`},
			{"POST", "/api/freezes", `{"label":"service","to":"` + at + `"}`},
			{"POST", "/api/jobs/Ports/past", `{"from":"` + day + `"}`},
			{"POST", "/api/jobs/Ports/past", `{"from":"2026-01-01","to":"` + day + `"}`},
			{"POST", "/api/reports/Ports/preview", `{"date":"` + at + `"}`},
		} {
			status, _, text := world.Call(t, http.DefaultClient, c.method, base+c.path, w.Token, c.body)
			assert.Less(t, status, 500, "%s %s %s: %s", c.method, c.path, c.body, text)
			assert.NotEqual(t, 404, status, "%s %s: %s", c.method, c.path, text)
			if status != 422 {
				t.Logf("%d for %s %s %s", status, c.method, c.path, c.body)
			}
		}
	}
	for _, moment := range []string{
		"today + 99999 years", "today + 3000000 days", "start of year + 8000 years",
		"today - 99999 months",
	} {
		status, _, text := world.Call(t, http.DefaultClient, "GET", base+"/api/moment?text="+url.QueryEscape(moment), w.Token,
			"")
		assert.Less(t, status, 500, "%s: %s", moment, text)
		status, _, text = world.Call(t, http.DefaultClient, "POST", base+"/api/reports/Ports/preview", w.Token,
			`{"values":{"day":"`+moment+`"}}`)
		assert.Less(t, status, 500, "%s: %s", moment, text)
	}
	status, _, text := world.Call(t, http.DefaultClient, "GET", base+"/ready", "", "")
	assert.Equal(t, 200, status, text)
	freezes, err := w.C.Freezes(context.Background(), true)
	require.NoError(t, err)
	assert.Empty(t, freezes, "nothing was frozen")
}

// Administrators see where a node spends its time; others do not, and nothing is bounded by
// patience alone.
func TestProfilesOfANode(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	get := func(path string) (int, []byte) {
		res := w.Ask(http.MethodGet, path, "", nil)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, text
	}
	for _, path := range []string{"/api/profile/heap", "/api/profile/goroutine", "/api/profile/cpu?seconds=1"} {
		status, text := get(path)
		assert.Equal(t, 200, status, path)
		require.Greater(t, len(text), 100, path)
		assert.Equal(t, []byte{0x1f, 0x8b}, text[:2], "%s: it is packed as go tool pprof reads it", path)
	}
	for path, want := range map[string]int{
		"/api/profile/nothing": 404, "/api/profile/cpu?seconds=0": 422, "/api/profile/cpu?seconds=61": 422,
		"/api/profile/cpu?seconds=x": 422,
	} {
		status, text := get(path)
		assert.Equal(t, want, status, path)
		assert.Contains(t, string(text), `"detail"`)
	}
	token, err := w.C.MakeToken(context.Background(), "mara", world.Password, "terminal")
	require.NoError(t, err)
	for _, as := range []struct {
		token string
		want  int
	}{{token.Token, 403}, {"", 401}} {
		res := w.Ask(http.MethodGet, "/api/profile/heap", "", map[string]string{"Authorization": "Bearer " + as.token})
		assert.Equal(t, as.want, res.StatusCode)
	}
}
