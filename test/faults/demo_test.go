package faults

import (
	"bytes"
	"context"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/api/wire"
	"ironbell/test/world"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// printed is what a program has printed so far.
type printed struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (p *printed) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.text.Write(b)
}

func (p *printed) String() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.text.String()
}

// left lists the processes that speak of a folder in their command line.
func left(t *testing.T, dir string) []string {
	t.Helper()
	lines, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	var out []string
	for _, path := range lines {
		text, err := os.ReadFile(path)
		if err == nil && bytes.Contains(text, []byte(dir)) {
			out = append(out, strings.ReplaceAll(string(text), "\x00", " "))
		}
	}
	return out
}

func TestTheDemoStartsStopsAndKeepsItsState(t *testing.T) {
	bin := world.Build(t)
	dir, err := os.MkdirTemp("", "ironbell-demo-*") //nolint:usetesting // the database's user must reach it
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() {
		_ = exec.Command(bin+"/ironbell", "demo", "-reset", "-dir", dir+"/state").Run()
		_ = os.RemoveAll(dir)
	})
	start := func() (*exec.Cmd, *printed, string) {
		out := &printed{}
		cmd := exec.Command(bin+"/ironbell", "demo", "-dir", dir+"/state", "-listen", "127.0.0.1:0", "-inbox",
			"127.0.0.1:0")
		cmd.Stdout, cmd.Stderr = out, out
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill() })
		end := time.Now().Add(5 * time.Minute) // two years of sailings take their time on a machine with other work
		for !strings.Contains(out.String(), "Ctrl-C stops everything") {
			require.True(t, time.Now().Before(end), "the demo does not become ready: %s", out)
			time.Sleep(50 * time.Millisecond)
		}
		return cmd, out, regexp.MustCompile(`Console\s+(http://\S+)`).FindStringSubmatch(out.String())[1]
	}
	cmd, out, base := start()
	for _, want := range []string{"sign in as sefa", "Inbox", "Next rings, in Europe/London", "Quay board"} {
		assert.Contains(t, out.String(), want)
	}
	password := regexp.MustCompile(`password (\S+)`).FindStringSubmatch(out.String())[1]
	token, err := client.New(base, "").MakeToken(context.Background(), "mara", password, "test")
	require.NoError(t, err)
	assert.Equal(t, "Mara Quill", token.Person.Name)
	assert.NotEmpty(t, left(t, dir))

	// The buttons of the inbox page let things happen.
	inbox := regexp.MustCompile(`Inbox\s+(http://\S+)`).FindStringSubmatch(out.String())[1]
	admin, err := client.New(base, "").MakeToken(context.Background(), "sefa", password, "test")
	require.NoError(t, err)
	c := client.New(base, admin.Token)
	weekIsIn := func() string {
		j, err := c.Job(context.Background(), "Monday page")
		require.NoError(t, err)
		seen, err := c.LookNow(context.Background(), j.Triggers[0].Wait.For[2])
		require.NoError(t, err)
		require.NotEmpty(t, seen.Rows, seen.Sentence)
		return seen.Rows[0][0]
	}
	require.Equal(t, "no", weekIsIn(), "the last sailing of last week is missing in the books")
	for deed, status := range map[string]int{"ledger": 200, "gauge": 200, "import": 200, "tide": 500} {
		res, err := http.Post(inbox+"/happens/"+deed, "", nil)
		require.NoError(t, err)
		_ = res.Body.Close()
		assert.Equal(t, status, res.StatusCode, deed)
	}
	assert.Equal(t, "yes", weekIsIn())
	events, err := c.Events(context.Background(), client.EventFilter{Sender: "Ledger office"})
	require.NoError(t, err)
	require.Len(t, events, 1)
	assert.Equal(t, "example.tarnwick.ledger.closed", events[0].Type)

	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait())
	assert.Contains(t, out.String(), "Stopping service, mail server and database.")
	assert.Empty(t, left(t, dir), "nothing is left behind")
	_, err = net.Dial("tcp", strings.TrimPrefix(base, "http://"))
	assert.Error(t, err)

	// The next start finds what the first one made; killed, it takes its children along.
	cmd, out, base = start()
	assert.NotContains(t, out.String(), "making two years")
	jobs, err := client.New(base, token.Token).Jobs(context.Background(), "")
	require.NoError(t, err)
	assert.NotEmpty(t, jobs)
	// One that another version of the demo has left is taken up.
	c = client.New(base, admin.Token)
	_, err = c.RemoveRecords(context.Background(), []wire.RecordName{{Kind: "job", Name: "Crew rest watch"}}, false)
	require.NoError(t, err)
	_, err = c.Switch(context.Background(), "Quay board", false)
	require.NoError(t, err)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait())
	kept, err := os.ReadFile(dir + "/state/secrets.json")
	require.NoError(t, err)
	require.Contains(t, string(kept), demo.Edition())
	require.NoError(t, os.WriteFile(dir+"/state/secrets.json", []byte(strings.Replace(string(kept), demo.Edition(), "older", 1)), 0o600))
	cmd, out, base = start()
	assert.Contains(t, out.String(), "taking up the state of another version of the demo")
	assert.Contains(t, out.String(), "it lacked nothing; what is there stays as it is")
	jobs, err = client.New(base, token.Token).Jobs(context.Background(), "Quay board")
	require.NoError(t, err)
	require.Len(t, jobs, 1)
	assert.False(t, jobs[0].On, "it was switched off and stays so")
	jobs, err = client.New(base, token.Token).Jobs(context.Background(), "Crew rest watch")
	require.NoError(t, err)
	assert.Empty(t, jobs, "it was removed and stays so")

	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	assert.Eventually(t, func() bool { return len(left(t, dir)) == 0 }, 30*time.Second, 100*time.Millisecond)
	text, err := exec.Command(bin+"/ironbell", "demo", "-reset", "-dir", dir+"/state").CombinedOutput()
	require.NoError(t, err, string(text))
	assert.NoDirExists(t, dir+"/state")
}

// What a company of another edition lacks is added, and what it has stays as it is.
func TestWhatAnotherEditionLacksIsAdded(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	config, err := pgx.ParseConfig(w.Company)
	require.NoError(t, err)
	company := w.CompanyAt(config.Database, int(config.Port))
	company.Outside.Folder = filepath.Join(w.Dir, "folders", "company")
	require.NoError(t, os.Mkdir(company.Outside.Folder, 0o755))
	require.NoError(t, demo.Connect(ctx, w.C, company))
	w.Report("Mine", "SELECT 1 AS mine")
	w.Job("Quay board", world.Definition("Mine", "company mail", []string{"csv"}, "mine@tarnwick.example"))
	added, err := demo.TakeUp(ctx, w.C, company)
	require.NoError(t, err)
	for _, what := range []string{"setting house", "person Ilse Brannoch", "group Board", "report Open defects", "sender Ledger office", "calendar Harbour", "job Monday page"} {
		assert.Contains(t, added, what)
	}
	for _, what := range []string{"person Mara Quill", "job Quay board"} {
		assert.NotContains(t, added, what)
	}
	j, err := w.C.Job(ctx, "Quay board")
	require.NoError(t, err)
	assert.Equal(t, []string{"mine@tarnwick.example"}, j.Tasks[1].Deliver.To)
	added, err = demo.TakeUp(ctx, w.C, company)
	require.NoError(t, err)
	assert.Empty(t, added)
}
