package faults

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// released builds the service of the last release: of the commit that the file released names.
func released(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile("released")
	require.NoError(t, err)
	commit := strings.Fields(string(text))[0]
	dir := t.TempDir()
	archive := filepath.Join(dir, "source.tar")
	if out, err := exec.Command("git", "-C", world.Path(""), "archive", "-o", archive, commit).CombinedOutput(); err != nil {
		// Where the whole history is there, nothing may leave this test out.
		shallow, err := exec.Command("git", "-C", world.Path(""), "rev-parse", "--is-shallow-repository").Output()
		if err == nil && strings.TrimSpace(string(shallow)) == "false" {
			t.Fatalf("the commit %s of the last release is not in this history; put right test/faults/released: %s", commit, out)
		}
		t.Skipf("the history is not here, and so not the commit %s of the last release: %s", commit, out)
	}
	source := filepath.Join(dir, "source")
	require.NoError(t, os.Mkdir(source, 0o700))
	out, err := exec.Command("tar", "-xf", archive, "-C", source).CombinedOutput()
	require.NoError(t, err, string(out))
	build := exec.Command("go", "build", "-ldflags=-w", "-o", filepath.Join(dir, "ironbell"), "./cmd/ironbell")
	build.Dir = source
	out, err = build.CombinedOutput()
	require.NoError(t, err, string(out))
	return filepath.Join(dir, "ironbell")
}

// While nodes are brought to a new version one after another, those of the last
// release go on working on the new schema, beside the new ones.
func TestTheLastReleaseWorksOnTheNewSchema(t *testing.T) {
	t.Parallel()
	old := released(t)
	w := world.OpenToday(t) // the new version has brought the schema up
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	w.Report("Slow", "SELECT pg_sleep(3), 1 AS one")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	slow := world.Definition("Slow", "company mail", []string{"csv"}, "b@tarnwick.example")
	slow.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "every day at 00:00"}}}
	w.Job("Slow", slow)
	// The new node stops in the middle of a run; the old one goes on with it.
	run, err := w.C.Ring(ctx, "Slow", nil)
	require.NoError(t, err)
	w.Until("it works", func() bool { p, err := w.C.Run(ctx, run.ID); return err == nil && len(p.Attempts) > 0 })
	w.Service.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
	w.StartFrom(old)
	before := w.Service
	page, err := w.C.Follow(ctx, run.ID, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, page.State, page.Reason)
	assert.Len(t, w.Inbox("b@tarnwick.example"), 1)
	assert.Equal(t, job.RunDone, w.Ring("Board").State)
	conn := world.Connect(t, w.Db)
	_, err = conn.Exec(ctx, `UPDATE triggers SET next_due = now()`)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `SELECT pg_notify('ironbell', 'jobs ')`)
	require.NoError(t, err)
	w.Until("the old node rings", func() bool { return len(w.Inbox("b@tarnwick.example")) == 2 })
	// Both beside each other share the work, and nothing happens twice.
	w.Listen = world.FreeAddress(t)
	w.Start()
	w.C = w.As("sefa") // of the new node
	duty := w.Receive()
	w.Place("duty screen", "http", "a key", map[string]any{"url": "http://" + w.Outside + "/events"})
	_, err = w.C.SaveSubscription(ctx, "Duty office", job.SubscriptionDefinition{
		Destination: "duty screen", Types: []string{job.PublishedRun},
	})
	require.NoError(t, err)
	for range 6 {
		_, err := w.C.Ring(ctx, "Board", nil)
		require.NoError(t, err)
	}
	w.Until("all are mailed", func() bool { return len(w.Inbox("a@tarnwick.example")) == 7 })
	_, err = w.C.Ring(ctx, "Board", nil)
	require.NoError(t, err)
	w.Until("one more is mailed", func() bool { return len(w.Inbox("a@tarnwick.example")) >= 8 })
	assert.Len(t, w.Inbox("a@tarnwick.example"), 8, "no second copy came before it")
	// Events of ours are written by both, and handed on by the new one alone.
	w.Until("the ends of all runs are told", func() bool { return len(ends(duty)) == 7 })
	select {
	case <-before.Ended():
		t.Fatal("the old node ended by what it does not know")
	default:
	}
}

// ends are the ends of runs that a receiver was told of.
func ends(r *world.Receiver) []string {
	var out []string
	for _, c := range r.Heard() {
		if strings.Contains(c.Body, job.PublishedRun) {
			out = append(out, c.Body)
		}
	}
	return out
}
