package task

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/confined"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// alive tells whether a process lives, and is not only waited for.
func alive(pid string) bool {
	text, err := os.ReadFile("/proc/" + pid + "/stat")
	return err == nil && !strings.Contains(string(text), ") Z ")
}

func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); !holds(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("waited in vain: " + what)
		}
	}
}

// program makes a kind with one allowed program.
func program(t *testing.T, text string) (*Program, job.Task) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "work"), []byte("#!/bin/sh\n"+text), 0o700))
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "work.variables"),
			[]byte("# what a job may set\nNOTES\nFIXED=by the operator\n"), 0o600))
	files, err := artifact.OpenFolder(filepath.Join(dir, "artifacts"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = files.Close() })
	self, err := os.Executable()
	require.NoError(t, err)
	return &Program{Folder: dir, Files: files, Walls: confined.Walls{Self: self}},
		job.Task{Name: "work", Kind: job.KindProgram, Program: &job.ProgramTask{Program: "work"}}
}

func work() Work {
	return Work{
		Nominal: time.Now(), Due: time.Now(), Limit: time.Minute,
		Params: func(context.Context) ([]job.Parameter, error) { return nil, nil }, Log: func(string, string) {},
	}
}

// daemons is a program that starts children which leave its group, its session and
// its own parent.
const daemons = `
setsid sh -c 'echo $$ > "$1"; sleep 600' _ "$NOTES/session" &
(setsid sh -c '(echo $$ > "$1"; exec sleep 600) &' _ "$NOTES/orphan" &)
nohup sleep 600 & echo $! > "$NOTES/background"
while [ ! -s "$NOTES/session" ] || [ ! -s "$NOTES/background" ]; do sleep 0.01; done
`

func TestNothingOutlivesAProgram(t *testing.T) {
	for name, c := range map[string]struct {
		end  string
		stop bool
	}{"it ends": {"exit 0", false}, "it fails": {"exit 3", false}, "it is broken off": {"sleep 600", true}} {
		t.Run(name, func(t *testing.T) {
			notes := t.TempDir()
			t.Setenv("TMPDIR", t.TempDir())
			k, task := program(t, daemons+c.end)
			task.Program.Variables, k.Walls.Write = map[string]string{"NOTES": notes}, []string{notes}
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			done := make(chan error, 1)
			go func() {
				_, err := k.Run(ctx, work(), task)
				done <- err
			}()
			read := func(name string) string {
				text, _ := os.ReadFile(filepath.Join(notes, name))
				return strings.TrimSpace(string(text))
			}
			eventually(t, "its children began",
				func() bool { return read("session") != "" && read("background") != "" })
			pids := []string{read("session"), read("background")}
			if c.stop {
				assert.True(t, alive(pids[0]))
				cancel()
			}
			err := <-done
			switch {
			case c.stop:
				assert.ErrorIs(t, err, context.Canceled)
			case c.end == "exit 3":
				assert.ErrorContains(t, err, "it ended with status 3")
			default:
				assert.NoError(t, err)
			}
			for _, pid := range pids {
				assert.False(t, alive(pid), "process %s outlived its task", pid)
			}
			left, _ := filepath.Glob(filepath.Join(os.TempDir(), "ironbell-scratch-program-*"))
			assert.Empty(t, left)
		})
	}
}

// The service is killed: its programs end with it, and their folders go.
func TestAKilledServiceLeavesNothingBehind(t *testing.T) {
	if os.Getenv("IRONBELL_DOOMED") != "" {
		k, task := program(t, daemons+"sleep 600")
		notes := os.Getenv("IRONBELL_DOOMED")
		task.Program.Variables, k.Walls.Write = map[string]string{"NOTES": notes}, []string{notes}
		_, _ = k.Run(context.Background(), work(), task)
		return
	}
	notes, temp := t.TempDir(), t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self, "-test.run", "TestAKilledServiceLeavesNothingBehind")
	cmd.Env = append(os.Environ(), "IRONBELL_DOOMED="+notes, "TMPDIR="+temp)
	require.NoError(t, cmd.Start())
	var pids []string
	eventually(t, "its children began", func() bool {
		pids = nil
		for _, name := range []string{"session", "background"} {
			if text, err := os.ReadFile(filepath.Join(notes, name)); err == nil && len(text) > 1 {
				pids = append(pids, strings.TrimSpace(string(text)))
			}
		}
		return len(pids) == 2
	})
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait() // it was killed
	for _, pid := range pids {
		eventually(t, "process "+pid+" ends", func() bool { return !alive(pid) })
	}
	eventually(t, "its folder goes", func() bool {
		left, _ := filepath.Glob(filepath.Join(temp, "ironbell-scratch-program-*"))
		return len(left) == 0
	})
}

func TestAProgramsEndIsToldAsItWas(t *testing.T) {
	for script, want := range map[string]string{
		"kill -9 $$": "it was ended by the signal killed", "exit 75": "it ended with status 75",
		"exit 1": "it ended with status 1",
	} {
		k, task := program(t, script)
		_, err := k.Run(t.Context(), work(), task)
		assert.ErrorContains(t, err, want)
		var f *fault.Fault
		require.True(t, errors.As(err, &f))
		assert.Equal(t, script == "exit 75", f.Class == fault.Passing)
	}
	k, task := program(t, "cat; env | grep -c SUPERVISE; echo $PPID >&2; echo made > file.txt")
	task.Program.Input = "what it reads"
	w := work()
	var said []string
	w.Log = func(_, text string) { said = append(said, text) }
	res, err := k.Run(t.Context(), w, task)
	require.NoError(t, err)
	assert.Len(t, res.Files, 1)
	require.NotEmpty(t, said)
	assert.Equal(t, "what it reads0", said[0], "its environment holds nothing of ours")
	parent, err := strconv.Atoi(said[len(said)-1])
	assert.NoError(t, err)
	assert.NotEqual(t, os.Getpid(), parent)
}

// A job's author chooses values for the variables that the operator named, and no others:
// a variable that a shell, a loader or an interpreter reads would run anything.
func TestAProgramGetsTheVariablesThatTheOperatorNamed(t *testing.T) {
	k, task := program(t, "env | sort | grep -v '^_=\\|^PWD='")
	run := func() ([]string, error) {
		var said []string
		w := work()
		w.Log = func(_, text string) { said = append(said, text) }
		_, err := k.Run(t.Context(), w, task)
		return said, err
	}
	task.Program.Variables = map[string]string{"NOTES": "two\nlines=and more"}
	said, err := run()
	require.NoError(t, err)
	var names []string
	for _, line := range said {
		if name, _, is := strings.Cut(line, "="); is && name == strings.ToUpper(name) {
			names = append(names, name)
		}
	}
	assert.Equal(t, []string{"FIXED", "HOME", "IRONBELL_IN", "IRONBELL_RUN", "LANG", "NOTES", "PATH", "TMPDIR"}, names)
	assert.Contains(t, said, "FIXED=by the operator")
	for _, name := range []string{
		"BASH_ENV", "ENV", "PATH", "PYTHONPATH", "PERL5OPT", "IFS", "LD_PRELOAD",
		"LD_LIBRARY_PATH", "IRONBELL_SUPERVISE", "IRONBELL_CONFINE", "IRONBELL_IN", "HOME", "FIXED", "notes", "",
		"NOTES=x", "A\x00B", "GIT_SSH_COMMAND",
	} {
		task.Program.Variables = map[string]string{name: "/tmp/anything"}
		_, err := run()
		assert.ErrorContains(t, err, "operator", name)
	}
	task.Program.Variables = nil
	for _, text := range []string{"not a name", "IRONBELL_SUPERVISE=x", "9LIVES", "=x"} {
		require.NoError(t, os.WriteFile(filepath.Join(k.Folder, "work.variables"), []byte(text), 0o600))
		_, err := run()
		assert.ErrorContains(t, err, "line 1 of work.variables names no variable", text)
	}
}
