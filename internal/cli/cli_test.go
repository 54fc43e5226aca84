package cli

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
)

// run carries out a command line with one command of the test's own.
func run(t *testing.T, f func(args []string, word string) (int, error), args ...string) (out, errs string, status int) {
	t.Helper()
	var o, e bytes.Buffer
	status = Main(context.Background(), "ironbell", args, IO{In: strings.NewReader(""), Out: &o, Err: &e}, Command{
		Name: "try", Args: "THING", Summary: "tries", Example: "ironbell try it",
		Setup: func(flags *flag.FlagSet) func(context.Context, IO, []string) (int, error) {
			word := flags.String("word", "none", "a `word`")
			return func(_ context.Context, i IO, args []string) (int, error) {
				_, _ = i.Out.Write([]byte("it \x1b[31mworks\x1b[0m\a\n"))
				return f(args, *word)
			}
		},
	})
	return o.String(), e.String(), status
}

func TestFlagsMayStandAnywhere(t *testing.T) {
	for _, args := range [][]string{
		{"try", "-word", "x", "a", "b"},
		{"try", "a", "-word", "x", "b"},
		{"try", "a", "b", "-word=x"},
	} {
		var got []string
		_, _, status := run(t, func(args []string, word string) (int, error) {
			got = append(append(got, args...), word)
			return 0, nil
		}, args...)
		assert.Zero(t, status)
		assert.Equal(t, []string{"a", "b", "x"}, got, args)
	}
	var got []string
	run(t, func(args []string, _ string) (int, error) { got = args; return 0, nil }, "try", "a", "--", "-word", "b")
	assert.Equal(t, []string{"a", "-word", "b"}, got, "behind -- nothing is a flag")
}

func TestWhatOthersSaidDoesNotSteerTheTerminal(t *testing.T) {
	out, _, _ := run(t, func([]string, string) (int, error) { return 0, nil }, "try")
	assert.Equal(t, "it [31mworks[0m\n", out)
}

func TestErrorsSayWhatToDo(t *testing.T) {
	for _, c := range []struct {
		err    error
		status int
		want   string
	}{
		{&Usage{"it takes one thing"}, 2, "ironbell try: it takes one thing\n  ironbell try -h shows how\n"},
		{&client.Problem{Status: 401, Detail: "You are not signed in."}, 1, "ironbell sign-in signs in"},
		{
			&client.Unreachable{Base: "http://127.0.0.1:1", Cause: errors.New("connection refused")}, 1,
			"the service at http://127.0.0.1:1 does not answer: connection refused",
		},
		{context.Canceled, 1, ""},
	} {
		_, errs, status := run(t, func([]string, string) (int, error) { return 0, c.err }, "try")
		assert.Equal(t, c.status, status)
		assert.Contains(t, errs, c.want)
	}
	_, errs, status := run(t, func([]string, string) (int, error) { return 0, nil }, "help", "try")
	assert.Zero(t, status)
	assert.Contains(t, errs, "Example:\n  ironbell try it")
}

func TestEveryCommandHasASummaryAndAnExample(t *testing.T) {
	for _, c := range clientCommands {
		assert.NotEmpty(t, c.Summary, c.Name)
		assert.True(t, strings.HasPrefix(c.Example, "ironbell "+c.Name), c.Name)
	}
}

func TestTheExitStatusTellsTheOutcome(t *testing.T) {
	seen := map[int]bool{}
	for _, s := range []job.RunState{
		job.RunDone, job.RunBlank, job.RunPartly, job.RunFailed, job.RunCancelled,
		job.RunPassedOver,
	} {
		status := exitOf(s)
		assert.False(t, seen[status], s)
		seen[status] = true
		assert.Contains(t, exitHelp, string(s))
		assert.NotEqual(t, "·", glyph(string(s)), "%s has a sign of its own", s)
	}
	assert.True(t, seen[0])
}

func TestTimesShowTheirZone(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	assert.NoError(t, err)
	assert.Regexp(t, `^\d\d:\d\d:\d\d (GMT|BST)$`, wall(time.Now(), london))
	assert.Equal(t, "Sat 1 Jul 2000 06:30 BST", wall(time.Date(2000, 7, 1, 5, 30, 0, 0, time.UTC), london))
	for s, want := range map[float64]string{0.012: "12 ms", 0.44: "0.4 s", 48.2: "48s", 70: "1m10s"} {
		assert.Equal(t, want, seconds(s))
	}
}
