package test

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/engine"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAChainOfEveryKind(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Places()
	outside := w.Receive()
	w.Report("Ports", "SELECT code, 10 AS berths FROM ports")
	w.Write("folders/tides/tide_1.csv", "gauge,cm\nPennold,212\n", 0o600)
	w.Write("programs/pack",
		"#!/bin/sh\necho packing \"$1\" for $IRONBELL_RUN\ncat \"$1\" \"$IRONBELL_IN\"/Ports.csv > packed.txt\nenv | "+
			"sort > env.txt\nls -d /proc/self/fd/* | wc -l\n", 0o755)
	d := world.Tasks(
		world.ReportOf("Ports"),
		job.Task{
			Name: "readings", Kind: job.KindCollect, After: []string{},
			Collect: &job.CollectTask{
				Source: "tide gauges", Pattern: "tide_*.csv", Settled: job.Duration(50 * time.Millisecond),
			},
		},
		job.Task{
			Name: "weather", Kind: job.KindFetch, After: []string{},
			Fetch: &job.FetchTask{URL: "http://" + w.Outside + "/weather/{date:%Y}", Name: "weather.txt"},
		},
		job.Task{
			Name: "pack", Kind: job.KindProgram, After: []string{"ports", "readings"},
			OnlyIf:  `rows("ports") >= 5 && total("berths") == 50.0 && outcome("readings") == "done"`,
			Program: &job.ProgramTask{Program: "pack", Arguments: []string{`{file("readings")}`}},
		},
		job.Task{
			Name: "never", Kind: job.KindProgram, After: []string{"ports"}, OnlyIf: "rows > 1000",
			Program: &job.ProgramTask{Program: "pack"},
		},
		job.Task{
			Name: "tell", Kind: job.KindCall, After: []string{"pack"},
			Call: &job.CallTask{Destination: "ledger office", Path: "loads/{date:%Y}", Body: "{rows} rows"},
		},
		job.Task{
			Name: "loaded", Kind: job.KindEmit, After: []string{"pack"},
			Emit: &job.EmitTask{Type: "example.tarnwick.loaded", Data: map[string]string{"rows": `{rows("ports")}`}},
		},
		job.Task{
			Name: "mail", Kind: job.KindDeliver, After: []string{"pack", "weather"}, Uses: []string{"pack", "weather"},
			Deliver: &job.DeliverTask{
				Destination: "company mail", To: []string{"oren@tarnwick.example"},
				Subject: `{rows("ports")} ports, {total("berths")} berths`,
			},
		},
	)
	w.Job("Tides", d)
	outside.Fail = 1 // the first request is refused with a passing failure
	page := w.Ring("Tides")
	assert.Equal(t, job.RunDone, page.State, page.Reason)
	got := world.AttemptsOf(page)
	assert.Equal(t, "failed;done;", got["weather"])
	got["weather"] = ""
	assert.Equal(t,
		map[string]string{
			"ports": "done;", "readings": "done;", "weather": "", "pack": "done;", "never": "passed over;",
			"tell": "done;", "loaded": "done;", "mail": "done;",
		}, got)
	letters := w.Inbox("oren@tarnwick.example")
	require.Len(t, letters, 1)
	assert.Equal(t, "5 ports, 50.0 berths", strings.Replace(letters[0].Subject, ", 50 ", ", 50.0 ", 1))
	names := map[string]string{}
	for i, a := range letters[0].Attachments {
		names[a.Name] = string(w.Attachment(letters[0], i))
	}
	assert.Contains(t, names["packed.txt"], "gauge,cm\nPennold,212\ncode,berths")
	assert.Contains(t, names["weather.txt"], "wind 7")
	assert.Len(t, names, 3, "only the files of the tasks that it uses")
	for _, line := range strings.Split(strings.TrimSpace(names["env.txt"]), "\n") {
		assert.Regexp(t, `^(HOME|IRONBELL_IN|IRONBELL_RUN|LANG|PATH|PWD|TMPDIR|_|OLDPWD|SHLVL)=`, line,
			"the environment is clean")
	}
	lines, err := w.C.Log(context.Background(), page.ID, 0)
	require.NoError(t, err)
	text := ""
	for _, l := range lines {
		text += l.Task + ": " + l.Text + "\n"
	}
	assert.Regexp(t, `pack: packing .*/in/tide_1.csv for `+page.ID.String(), text)
	assert.Contains(t, text, "never: passed over: its condition rows > 1000 does not hold")

	var told world.HeardCall
	for _, c := range outside.Heard() {
		if strings.HasPrefix(c.Path, "/ledger") {
			told = c
		}
	}
	assert.Equal(t, http.MethodPost, told.Method)
	assert.Equal(t, "5 rows", told.Body)
	mac := hmac.New(sha256.New, []byte("slipway"))
	mac.Write([]byte(told.Header.Get("Webhook-Id") + "." + told.Header.Get("Webhook-Timestamp") + "." + told.Body))
	assert.Equal(t, "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)), told.Header.Get("Webhook-Signature"))
	assert.Equal(t, page.ID.String()+"-1-tell", told.Header.Get("Webhook-Id"), "the same over retries")
	events, err := w.C.Events(context.Background(), client.EventFilter{Type: "example.tarnwick.loaded"})
	require.NoError(t, err)
	require.Len(t, events, 1)
	assert.JSONEq(t, `{"rows":"5"}`, string(events[0].Data))
	assert.Equal(t, page.ID, *events[0].Run)
}

func TestTasksWorkSideBySide(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("One", "SELECT pg_sleep(1.5), 1 AS n")
	w.Report("Two", "SELECT pg_sleep(1.5), 2 AS n")
	d := world.Tasks(world.ReportOf("One"), world.ReportOf("Two"), job.Task{
		Name: "mail", Kind: job.KindDeliver, After: []string{"one", "two"},
		Deliver: &job.DeliverTask{Destination: "company mail", To: []string{"a@tarnwick.example"}},
	})
	w.Job("Both", d)
	page := w.Ring("Both")
	require.Equal(t, job.RunDone, page.State, page.Reason)
	at := map[string]job.Attempt{}
	for _, a := range page.Attempts {
		at[a.Task] = a
	}
	assert.True(t, at["one"].StartedAt.Before(*at["two"].EndedAt) && at["two"].StartedAt.Before(*at["one"].EndedAt),
		"they overlap")
	assert.Len(t, w.Inbox("a@tarnwick.example")[0].Attachments, 2)

	d.SideBySide = 1
	w.Job("Both", d)
	page = w.Ring("Both")
	for _, a := range page.Attempts {
		at[a.Task] = a
	}
	assert.False(t, at["one"].StartedAt.Before(*at["two"].EndedAt) && at["two"].StartedAt.Before(*at["one"].EndedAt),
		"one at a time")
}

func TestFailuresStopTheChainOrItGoesOnWithout(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports")
	w.Report("Broken", "SELECT 1/(SELECT count(*) FROM ports WHERE code = 'none')")
	mail := job.Task{
		Name: "mail", Kind: job.KindDeliver, After: []string{"ports", "broken"},
		Deliver: &job.DeliverTask{Destination: "company mail", To: []string{"a@tarnwick.example"}},
	}
	broken := world.ReportOf("Broken")
	w.Job("Stop", world.Tasks(world.ReportOf("Ports"), broken, mail))
	page := w.Ring("Stop")
	first := page.ID
	assert.Equal(t, job.RunFailed, page.State)
	assert.Contains(t, page.Reason, "task broken failed: ")
	assert.Contains(t, page.Reason, "division by zero")
	assert.Empty(t, w.Inbox("a@tarnwick.example"))

	broken.IfFailed = job.FailedGoOn
	w.Job("Go on", world.Tasks(world.ReportOf("Ports"), broken, mail))
	page = w.Ring("Go on")
	assert.Equal(t, job.RunPartly, page.State)
	assert.Equal(t, "task broken failed, and the job goes on without it", page.Reason)
	require.Len(t, w.Inbox("a@tarnwick.example"), 1)
	require.Len(t, page.Alerts, 1)
	assert.Contains(t, page.Alerts[0].Happened, "and the job goes on without it")

	// The report is mended, and the run goes on where it failed.
	failed := w.Ring("Stop")
	w.Report("Broken", "SELECT 1 AS one")
	ctx := context.Background()
	_, err := w.C.Again(ctx, failed.ID, wire.AgainRequest{})
	require.NoError(t, err)
	page, err = w.C.Follow(ctx, failed.ID, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, page.State, page.Reason)
	assert.Equal(t, map[string]string{"ports": "done;", "broken": "failed;done;", "mail": "done;"}, world.AttemptsOf(page),
		"what was done stays done")
	// The alert speaks of the first run, too, and closes when that is put right.
	require.Len(t, page.Alerts, 1)
	assert.Equal(t, job.AlertOpen, page.Alerts[0].State)
	_, err = w.C.Again(ctx, first, wire.AgainRequest{})
	require.NoError(t, err)
	mended, err := w.C.Follow(ctx, first, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, mended.State)
	w.Until("the alert is closed", func() bool {
		a, err := w.C.Alert(ctx, page.Alerts[0].ID)
		require.NoError(t, err)
		return a.State == job.AlertClosed
	})
	_, err = w.C.Again(ctx, failed.ID, wire.AgainRequest{})
	assert.ErrorContains(t, err, "nothing in it failed or was held; make it again as a whole")
	again, err := w.C.Again(ctx, failed.ID, wire.AgainRequest{Whole: true})
	require.NoError(t, err)
	assert.Equal(t, failed.ID, *again.Again)
	assert.True(t, again.Nominal.Equal(failed.Nominal), "it has the date of the run that it repeats")
	again2, err := w.C.Follow(ctx, again.ID, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, again2.State)
}

func TestBlankIsTriedAgainAndUnusualIsHeld(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	conn := world.Connect(t, w.Db)
	w.Report("Late", "SELECT code FROM ports WHERE code = 'none'")
	d := world.Tasks(world.ReportOf("Late"), job.Task{
		Name: "mail", Kind: job.KindDeliver,
		Deliver: &job.DeliverTask{Destination: "company mail", To: []string{"a@tarnwick.example"}},
	})
	d.IfBlank, d.BlankThen, d.AlertOn = job.BlankRetry, job.BlankSend, []string{"blank"}
	w.Job("Late", d)
	page := w.Ring("Late")
	assert.Equal(t, job.RunDone, page.State, page.Reason)
	assert.Equal(t, "blank;blank;blank;", world.AttemptsOf(page)["late"], "tried again twice, then sent with a note")
	require.Len(t, w.Inbox("a@tarnwick.example"), 1)
	assert.Contains(t, w.Inbox("a@tarnwick.example")[0].Plain, "Nothing was found this time by task late")
	require.Len(t, page.Alerts, 1)
	assert.Equal(t, job.AlertBlank, page.Alerts[0].Kind)

	w.Report("Loads", "SELECT n FROM generate_series(1, :n::int) n", job.Parameter{
		Name: "n", Type: job.TypeWhole, Required: true,
	})
	d = world.Tasks(world.ReportOf("Loads"), job.Task{
		Name: "mail", Kind: job.KindDeliver,
		Deliver: &job.DeliverTask{Destination: "company mail", To: []string{"b@tarnwick.example"}},
	})
	d.Values, d.Usual = job.Values{"n": 100}, job.Usual{Share: 0.5}
	w.Job("Loads", d)
	for range 5 {
		require.Equal(t, job.RunDone, w.Ring("Loads").State)
	}
	// A rehearsal is never counted, and others get nothing of it.
	_, err := w.C.SavePerson(ctx, "sefa", wire.PersonRequest{
		Name: "Sefa Orlin", Mail: "sefa.orlin@tarnwick.example", Role: "administrator", Zone: "Europe/London",
	})
	require.NoError(t, err)
	run, err := w.C.Rehearse(ctx, "Loads", job.Values{"n": 100})
	require.NoError(t, err)
	rehearsed, err := w.C.Follow(ctx, run.ID, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	assert.True(t, rehearsed.Rehearsal)
	assert.Equal(t, job.RunDone, rehearsed.State)
	assert.Len(t, w.Inbox("b@tarnwick.example"), 5)
	mine := w.Inbox("sefa.orlin@tarnwick.example")
	require.Len(t, mine, 1)
	assert.True(t, strings.HasPrefix(mine[0].Subject, "Rehearsal: "))
	assert.Contains(t, mine[0].Plain, "In earnest it would have gone to b@tarnwick.example")

	// The data shrinks: the same values as they are written, far fewer rows.
	w.Report("Loads", "SELECT n FROM generate_series(1, :n::int / 10) n", job.Parameter{
		Name: "n", Type: job.TypeWhole, Required: true,
	})
	held := w.Ring("Loads")
	assert.Equal(t, job.RunBlank, held.State)
	assert.Contains(t, held.Reason, "unusual: 10 rows, and the last 5 good runs had 100 in the middle")
	assert.Len(t, w.Inbox("b@tarnwick.example"), 5)
	require.Len(t, held.Alerts, 1, "what is held because it is unusual is never silent")
	assert.Equal(t, job.AlertUnusual, held.Alerts[0].Kind)
	_, err = w.C.Again(ctx, held.ID, wire.AgainRequest{Anyway: true})
	require.NoError(t, err)
	page, err = w.C.Follow(ctx, held.ID, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, page.State, page.Reason)
	require.Len(t, w.Inbox("b@tarnwick.example"), 6)
	assert.Contains(t, w.Inbox("b@tarnwick.example")[0].Plain, "unusual: 10 rows")
	var n int
	require.NoError(t,
		conn.QueryRow(ctx, "SELECT count(*) FROM attempts WHERE task = 'loads' AND run_id = $1",
			int64(held.ID)).Scan(&n))
	assert.Equal(t, 1, n, "what was found is sent as it is, not looked for again")
}

func TestProgramsKeepToTheirRoom(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Write("programs/fails", "#!/bin/sh\necho disk is odd\nexit 3\n", 0o755)
	w.Write("programs/slow", "#!/bin/sh\nsleep 60 & sleep 60\n", 0o755)
	w.Write("programs/plain", "not allowed", 0o600)
	ctx := context.Background()
	one := func(name string, p job.ProgramTask) job.Definition {
		d := world.Tasks(job.Task{Name: name, Kind: job.KindProgram, TimeLimit: job.Duration(world.Patience), Program: &p})
		d.Retry = job.Retry{}
		return d
	}
	for name, want := range map[string]string{
		"plain": "it is not among the allowed programs", "../slow": "it is no plain file name",
		"/bin/sh": "it is no plain file name", "missing": "it is not among the allowed programs",
	} {
		_, err := w.C.SaveJob(ctx, "X", wire.JobRequest{On: true, Definition: one("p", job.ProgramTask{Program: name})})
		assert.ErrorContains(t, err, want, name)
	}
	w.Job("Fails", one("p", job.ProgramTask{Program: "fails"}))
	page := w.Ring("Fails")
	assert.Equal(t, job.RunFailed, page.State)
	assert.Contains(t, page.Reason, "it ended with status 3")
	slow := one("p", job.ProgramTask{Program: "slow"})
	slow.Tasks[0].TimeLimit = job.Duration(time.Second)
	w.Job("Slow", slow)
	page = w.Ring("Slow")
	assert.Equal(t, job.RunFailed, page.State)
	assert.Contains(t, page.Reason, "it took longer than its limit of 1s and was ended")
	// Neither the service's files nor its environment are within reach, and no variable opens a way.
	key := filepath.Join(w.Dir, "key")
	w.Kill()
	w.Start("-db", w.Db) // named where everybody could read it
	w.Write("programs/look",
		"#!/bin/sh\ncat "+key+" "+filepath.Join(w.Dir, "artifacts")+"/* "+filepath.Join(w.Dir, "programs")+
			"/other.variables\ncat /proc/[0-9]*/environ 2>/dev/null | tr '\\0' '\\n' | grep -c '^IRONBELL_DB='\nfor "+
			"f in /proc/[0-9]*/cmdline; do t=$({ tr '\\0' '\\n' < $f; } 2>/dev/null); case $t in *"+
			filepath.Join(w.Dir, "artifacts")+
			"*) echo \"$t\";; esac; done > ours\ngrep -c '^serve$' ours\ngrep -c -e '^-db' -e '^postgres://' "+
			"ours\nexit 0\n", 0o755)
	w.Write("programs/other.variables", "KEY=planted for another\n", 0o644)
	w.Job("Look", one("p", job.ProgramTask{Program: "look"}))
	page = w.Ring("Look")
	require.Equal(t, job.RunDone, page.State, page.Reason)
	lines, err := w.C.Log(ctx, page.ID, 0)
	require.NoError(t, err)
	var seen []string
	for _, l := range lines {
		if l.Task == "p" && l.State == "" {
			seen = append(seen, l.Text)
		}
	}
	assert.Contains(t, strings.Join(seen, "\n"), "Permission denied")
	assert.Equal(t, []string{"0", "1", "0"}, seen[len(seen)-4:len(seen)-1],
		"environments and command lines with the service's database: %q", seen)
	assert.NotContains(t, strings.Join(seen, "\n"), "planted")
	_, err = w.C.SaveJob(ctx, "X", wire.JobRequest{
		On: true, Definition: one("p", job.ProgramTask{Program: "look", Variables: map[string]string{"BASH_ENV": key}}),
	})
	assert.ErrorContains(t, err, "the operator did not name it for this program")
	var walls engine.Programs
	require.NoError(t, json.NewDecoder(w.Ask(http.MethodGet, "/api/settings/programs", "", nil).Body).Decode(&walls))
	assert.True(t, walls.Allowed)
	assert.False(t, walls.Open, walls.Walls)
	// An injection is an argument like any other.
	w.Write("programs/echo", "#!/bin/sh\nprintf '%s\\n' \"$@\"\n", 0o755)
	w.Job("Echo", one("p", job.ProgramTask{Program: "echo", Arguments: []string{"; rm -rf /", "$(id)", "{job}"}}))
	page = w.Ring("Echo")
	require.Equal(t, job.RunDone, page.State, page.Reason)
	lines, err = w.C.Log(ctx, page.ID, 0)
	require.NoError(t, err)
	var said []string
	for _, l := range lines {
		if l.Task == "p" && l.State == "" {
			said = append(said, l.Text)
		}
	}
	assert.Subset(t, said, []string{"; rm -rf /", "$(id)", "Echo"})
}

func TestFetchKeepsAwayFromInternalAddresses(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	outside := w.Receive()
	get := func(url string, largest int64) wire.RunPage {
		d := world.Tasks(job.Task{Name: "get", Kind: job.KindFetch, Fetch: &job.FetchTask{URL: url, Largest: largest}})
		d.Retry = job.Retry{}
		w.Job("Get", d)
		return w.Ring("Get")
	}
	page := get("http://"+w.Listen+"/health", 0)
	assert.Equal(t, job.RunFailed, page.State)
	assert.Contains(t, page.Reason, "is an address of this machine or its own networks, which is not allowed")
	assert.Equal(t, job.RunDone, get("http://"+w.Outside+"/a", 0).State)
	assert.Contains(t, get("http://"+w.Outside+"/a", 3).Reason, "has more than 3 B")
	_, err := w.C.SaveJob(context.Background(), "Get",
		wire.JobRequest{Definition: world.Tasks(job.Task{
			Name: "get", Kind: job.KindFetch, Fetch: &job.FetchTask{URL: "file:///etc/passwd"},
		})})
	assert.ErrorContains(t, err, "file:///etc/passwd")
	assert.Len(t, outside.Heard(), 2)
}

// A branch that is blank is tried again also when another branch still worked
// at the time; and a run whose node died after something was held stays held.
func TestABlankBranchIsTriedAgainBesideAnother(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("None", "SELECT code FROM ports WHERE false")
	w.Report("Slow", "SELECT pg_sleep(1), 1 AS n")
	send := func(name, after, to string) job.Task {
		return job.Task{
			Name: name, Kind: job.KindDeliver, After: []string{after},
			Deliver: &job.DeliverTask{Destination: "company mail", To: []string{to}},
		}
	}
	d := world.Tasks(world.ReportOf("None"), world.ReportOf("Slow"), send("first", "none", "a@tarnwick.example"),
		send("second", "slow", "b@tarnwick.example"))
	d.IfBlank = job.BlankRetry
	w.Job("Branches", d)
	page := w.Ring("Branches")
	assert.Equal(t, job.RunDone, page.State, page.Reason)
	got := world.AttemptsOf(page)
	assert.Equal(t,
		map[string]string{"none": "blank;blank;blank;", "slow": "done;", "first": "passed over;", "second": "done;"},
		got)
	assert.Empty(t, w.Inbox("a@tarnwick.example"))
	assert.Len(t, w.Inbox("b@tarnwick.example"), 1)
}

// What one task found is a value of the next: a parameter, a condition, a name, a subject. It
// outlasts a break between the two.
func TestACellOfOneTaskIsAValueOfTheNext(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Worst", "SELECT code AS port, name, 9007199254740993 AS sailings, 2.5 AS late, true AS open FROM ports "+
		"ORDER BY name DESC")
	w.Report("Sheet", "SELECT name, code FROM ports WHERE code = :port", job.Parameter{Name: "port", Type: job.TypeText})
	d := world.Definition("Worst", "company mail", []string{"csv"}, "a@tarnwick.example")
	sheet := job.Task{
		Name: "sheet", Kind: job.KindReport, OnlyIf: `cell("late") > 2 && cell("open")`,
		Report: &job.ReportTask{
			Report: "Sheet", Values: map[string]string{"port": `{cell("port")}`},
			Outputs: []job.Output{{Format: "csv", Name: "Sheet {value.port}"}},
		},
	}
	mail := d.Tasks[1]
	mail.Uses = []string{"sheet"}
	mail.Deliver.Subject = `{cell("name")} has {cell("sailings")}, {cell("late")} late`
	d.Tasks = []job.Task{d.Tasks[0], sheet, mail}

	ahead, err := w.C.TryJob(ctx, "Worst first", wire.JobRequest{Owner: "mara", On: true, Definition: d})
	require.NoError(t, err)
	assert.Empty(t, ahead.Wrong)
	assert.Equal(t, `{cell("name")} has {cell("sailings")}, {cell("late")} late`, ahead.Tasks[2].Subject)
	require.Len(t, ahead.Tasks[1].Files, 1)
	assert.Contains(t, ahead.Tasks[1].Files[0], "cell", "what is known only later stands as it is written")

	w.Job("Worst first", d)
	run := w.Ring("Worst first")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	letters := w.Inbox("a@tarnwick.example")
	require.Len(t, letters, 1)
	assert.Equal(t, "Tarnwick Quay has 9007199254740993, 2.5 late", letters[0].Subject)
	require.Len(t, letters[0].Attachments, 1)
	assert.Equal(t, "Sheet TQ.csv", letters[0].Attachments[0].Name)

	// A column that no report before has is refused when it is saved, and so is a parameter that is not there.
	wrong := d
	wrong.Tasks = []job.Task{d.Tasks[0], sheet, mail}
	wrong.Tasks[1].OnlyIf = `cell("lateness") > 2`
	other := *sheet.Report
	other.Values = map[string]string{"harbour": "x", "port": "{nothing}"}
	wrong.Tasks[1].Report = &other
	_, err = w.C.SaveJob(ctx, "Wrong", wire.JobRequest{Owner: "mara", On: true, Definition: wrong})
	for _, says := range []string{"lateness", "late", "harbour", "values.port"} {
		require.ErrorContains(t, err, says)
	}

	// A cell that holds nothing never takes the default of the parameter, which may be all.
	w.Report("Worst", "SELECT NULL::text AS port, name, 1 AS sailings, 2.5 AS late, true AS open FROM ports")
	run = w.Ring("Worst first")
	assert.Equal(t, job.RunFailed, run.State)
	assert.Contains(t, run.Reason, "it holds nothing")
	w.Report("Worst", "SELECT '' AS port, name, 1 AS sailings, 2.5 AS late, true AS open FROM ports")
	run = w.Ring("Worst first")
	assert.Equal(t, job.RunFailed, run.State)
	assert.Contains(t, run.Reason, "comes to nothing")

	// When nothing is found there is no cell, and whoever speaks of it fails with its name.
	w.Report("Worst", "SELECT code AS port, name, 1 AS sailings, 2.5 AS late, true AS open FROM ports WHERE false")
	j, err := w.C.Job(ctx, "Worst first")
	require.NoError(t, err)
	d = j.Definition
	d.IfBlank = job.BlankSend
	d.Tasks[1].OnlyIf = ""
	w.Job("Worst first", d)
	run = w.Ring("Worst first")
	assert.Equal(t, job.RunFailed, run.State)
	assert.Contains(t, run.Reason, `cell("port")`)
}
