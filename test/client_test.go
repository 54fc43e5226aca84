package test

import (
	"context"
	"encoding/json"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"testing"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheClient(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports WHERE code <> :not", job.Parameter{
		Name: "not", Label: "Without", Type: job.TypeText, Default: "",
	})
	w.Report("Nothing", "SELECT 1 WHERE false")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "15 6 * * 1-5"}}}
	w.Job("Quay board", d)
	w.Job("Crew rest watch", world.Definition("Nothing", "company mail", []string{"csv"}, "a@tarnwick.example"))
	w.Job("Manifest", world.Definition("Ports", "harbour authority mail", []string{"csv"}, "m@harbour-authority.test"))
	w.Behave("authority", "refuse", 0)

	out, _, status := w.Ironbell("jobs")
	assert.Zero(t, status)
	for _, want := range []string{"Quay board", "on weekdays at 06:15", "has not run yet", "GMT"} {
		assert.Contains(t, out, want)
	}
	out, _, _ = w.Ironbell("jobs", "crew")
	assert.Contains(t, out, "Crew rest watch")
	assert.NotContains(t, out, "Quay board")

	out, _, status = w.Ironbell("ring", "Quay board", "-follow", "-value", "not=TQ")
	assert.Zero(t, status, "done is 0")
	assert.Contains(t, out, "4 rows")
	assert.Contains(t, out, "done: delivered to 1 of 1")
	out, _, status = w.Ironbell("ring", "-follow", "Crew rest watch")
	assert.Equal(t, 3, status, "blank is 3")
	assert.Contains(t, out, "held, nothing was sent")
	out, _, status = w.Ironbell("ring", "-follow", "-json", "Manifest")
	assert.Equal(t, 5, status, "failed is 5")
	var page wire.RunPage
	require.NoError(t, json.Unmarshal([]byte(out), &page))
	assert.Equal(t, job.RunFailed, page.State)

	out, _, status = w.Ironbell("run", "-log", page.ID.String())
	assert.Zero(t, status)
	for _, want := range []string{
		"Rung by Sefa Orlin.", "Attempts", "Deliveries", "550 5.1.1 No such mailbox", "Alert",
		"Check the address", "Log",
	} {
		assert.Contains(t, out, want)
	}
	_, _, status = w.Ironbell("follow", page.ID.String())
	assert.Equal(t, 5, status)
	out, _, _ = w.Ironbell("runs", "-state", "failed,partly")
	assert.Contains(t, out, page.ID.String())
	assert.NotContains(t, out, "Quay board")

	out, _, _ = w.Ironbell("alerts")
	assert.Contains(t, out, "Manifest")
	out, _, status = w.Ironbell("acknowledge", "1")
	assert.Zero(t, status)
	assert.Contains(t, out, "acknowledged")

	out, _, status = w.Ironbell("take", "-close", "1") // as it was called before
	assert.Zero(t, status)
	assert.Contains(t, out, "closed")

	out, _, status = w.Ironbell("off", "Quay board")
	assert.Zero(t, status)
	assert.Contains(t, out, "Quay board is off. Its settings are kept")
	out, _, _ = w.Ironbell("on", "Quay board")
	assert.Contains(t, out, "It rings next")

	w.Behave("authority", "accept", 0)
	out, _, status = w.Ironbell("settle", "-as", "resend", number(t, page.Deliveries[0].ID))
	assert.Zero(t, status)
	assert.Contains(t, out, "is now waiting")
	w.Until("it is sent", func() bool { return len(w.Inbox("m@harbour-authority.test")) == 1 })
}

func TestTheServiceSaysAtOnceWhatItsDatabaseRefuses(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	u, err := url.Parse(w.Db)
	require.NoError(t, err)
	u.User = url.UserPassword("ironbell", "wrong")
	_, errs, status := w.Ironbell("serve", "-listen", "127.0.0.1:0", "-key-file", w.Dir+"/other", "-artifacts",
		w.Dir+"/other-artifacts", "-db", u.String())
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "the database refuses us: password authentication failed")
	assert.NotContains(t, errs, "wrong")
	_, errs, status = w.Ironbell("serve", "-listen", w.Listen, "-key-file", w.Dir+"/key", "-artifacts",
		w.Dir+"/artifacts", "-db", w.Db)
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "address already in use; choose another address with -listen")
}

func number(t *testing.T, id int64) string {
	t.Helper()
	text, err := json.Marshal(id)
	require.NoError(t, err)
	return string(text)
}

func TestTheClientSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"rnig"}, 2, `there is no command "rnig"`},
		{[]string{"ring"}, 2, "it takes one job"},
		{[]string{"ring", "Quay", "board"}, 2, "put a name with blanks in quotes"},
		{[]string{"ring", "-value", "x", "Quay"}, 2, "write it as name=value"},
		{[]string{"follow", "12"}, 2, `"12" is no number of a run`},
		{[]string{"settle", "1"}, 2, "say with -as"},
		{[]string{"jobs", "-nonsense"}, 2, "flag provided but not defined"},
		{[]string{"job", "Nowhere"}, 1, `there is no job "Nowhere"`},
		{[]string{"run", "2611-999999"}, 1, `there is no run "2611-999999"`},
		{[]string{"acknowledge", "99"}, 1, `there is no alert "99"`},
		{[]string{"serve"}, 2, "name the database with -db"},
	} {
		out, errs, status := w.Ironbell(c.args...)
		assert.Equal(t, c.status, status, c.args)
		assert.Contains(t, errs, c.want, c.args)
		assert.Empty(t, out, c.args)
	}
	out, _, status := w.Ironbell("help")
	assert.Zero(t, status)
	assert.Contains(t, out, "tells owners when a delivery failed")
	_, errs, status := w.Ironbell("ring", "-h")
	assert.Zero(t, status)
	assert.Contains(t, errs, "Example:")
	token := w.Token
	w.Token = "bell_WRONG"
	_, errs, status = w.Ironbell("jobs")
	w.Token = token
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "ironbell sign-in")
	listen := w.Listen
	w.Listen = "127.0.0.1:1"
	_, errs, status = w.Ironbell("jobs")
	w.Listen = listen
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "does not answer: dial tcp 127.0.0.1:1: connect: connection refused")
}

// Somebody signs in, changes their password and signs out, all from a terminal.
func TestSigningInAndOutFromATerminal(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	home := t.TempDir()
	run := func(in string, args ...string) (string, int) {
		cmd := exec.Command(world.Build(t)+"/ironbell", args...)
		cmd.Env = []string{"HOME=" + home, "XDG_CONFIG_HOME=" + home, "PATH=" + os.Getenv("PATH")}
		cmd.Stdin = strings.NewReader(in)
		out, err := cmd.CombinedOutput()
		if cmd.ProcessState == nil {
			require.NoError(t, err)
		}
		return string(out), cmd.ProcessState.ExitCode()
	}
	_, status := run("", "jobs")
	assert.NotZero(t, status, "nobody is signed in")
	said, status := run(world.Password+"\n", "sign-in", "-url", "http://"+w.Listen, "-login", "mara")
	require.Zero(t, status, said)
	before := w.As("mara")
	said, status = run(world.Password+"\nthe-other-lantern\nthe-other-lamp\n", "password")
	assert.NotZero(t, status)
	assert.Contains(t, said, "typed in two ways; nothing was changed")
	said, status = run("not-the-one\nthe-other-lantern\nthe-other-lantern\n", "password")
	assert.NotZero(t, status)
	assert.Contains(t, said, "the present password is another one")
	said, status = run(world.Password+"\nthe-other-lantern\nthe-other-lantern\n", "password")
	require.Zero(t, status, said)
	assert.Contains(t, said, "All sessions and tokens from before have ended")
	assert.NotContains(t, said, "lantern")
	_, err := before.Jobs(context.Background(), "")
	assert.ErrorContains(t, err, "not signed in")
	said, status = run("", "jobs")
	assert.Zero(t, status, said)
	said, status = run("", "sign-out")
	assert.Zero(t, status, said)
	assert.Contains(t, said, "the token has ended")
	_, status = run("", "jobs")
	assert.NotZero(t, status)
}
