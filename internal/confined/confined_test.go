package confined

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/internal/attack"

	ll "github.com/landlock-lsm/go-landlock/landlock/syscall"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	Main()
	os.Exit(m.Run())
}

// run runs a shell within walls and gives what it printed.
func run(t *testing.T, w Walls, script string, limit time.Duration) (string, error) {
	t.Helper()
	room, err := os.MkdirTemp("/tmp", "ironbell-walls-test-") //nolint:usetesting // another user must reach it
	require.NoError(t, err)
	defer func() { _ = os.RemoveAll(room) }()
	cmd := exec.CommandContext(t.Context(), "/bin/sh", "-c", script)
	cmd.Dir, cmd.Env = room, []string{"PATH=/usr/bin:/bin", "HOME=" + room}
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	err = w.Run(cmd, room, limit, cmd.Run)
	return said.String(), err
}

// bothWays gives walls with this process's own user, and with another where we may change.
func bothWays(t *testing.T) map[string]Walls {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	ways := map[string]Walls{"own user": {Self: self}}
	if os.Getuid() == 0 {
		ways["another user"] = Walls{Self: self, User: "nobody"}
	}
	return ways
}

func TestAProgramReachesNothingOfTheService(t *testing.T) {
	if abi, err := ll.LandlockGetABIVersion(); err != nil || abi < 1 {
		t.Skip("this kernel has no Landlock")
	}
	open, err := os.MkdirTemp("/usr/local", "ironbell-walls-test-") //nolint:usetesting // amid what programs may read
	if err != nil {
		open = t.TempDir()
	}
	t.Cleanup(func() { _ = os.RemoveAll(open) })
	require.NoError(t, os.Chmod(open, 0o755))
	key, beside := filepath.Join(open, "key"), filepath.Join(open, "beside")
	for path, text := range map[string]string{key: "planted key", beside: "for all"} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	private := t.TempDir()
	require.NoError(t, os.Chmod(private, 0o777))
	for dir := filepath.Dir(private); dir != "/tmp" && dir != "/"; dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	kept := filepath.Join(private, "kept")
	require.NoError(t, os.WriteFile(kept, []byte("planted file"), 0o666))
	t.Setenv("PLANTED", "planted variable")
	pid := strconv.Itoa(os.Getpid())
	for name, w := range bothWays(t) {
		w.Hidden = []string{key}
		w.Read = append(w.Read, open)
		t.Run(name, func(t *testing.T) {
			sums := attack.On(t, "programs, as "+name)
			tried := func(what, script string) {
				said, err := run(t, w, script, time.Minute)
				ended := new(exec.ExitError)
				sums.Tried(what,
					errors.As(err, &ended) && !strings.Contains(said, "planted") &&
						!strings.Contains(said, "was not started"), said, err)
			}
			for what, script := range map[string]string{
				"its key":                "cat " + key,
				"its key by a link":      "ln -s " + key + " there; cat there",
				"its key by another":     "ln " + key + " there && cat there",
				"its key by its folder":  "cd " + open + " && cat ./key",
				"a file of it":           "cat " + kept,
				"a file by going up":     "cat ../../../../.." + kept,
				"a file by a process":    "cat /proc/" + pid + "/root" + kept,
				"its environment":        "tr '\\0' '\\n' < /proc/" + pid + "/environ",
				"its supervisor's":       "tr '\\0' '\\n' < /proc/$PPID/environ; ls -l /proc/$PPID/fd",
				"its memory":             "head -c 1 /proc/" + pid + "/mem",
				"its open files":         "cat /proc/" + pid + "/fd/*",
				"another program's room": "ls " + private,
			} {
				tried(what, script)
			}
			for what, script := range map[string]string{
				"a file of it":       "echo x > " + kept,
				"a new file":         "echo x > " + filepath.Join(private, "new"),
				"a file amid others": "echo x > " + beside,
				"the machine":        "echo x > /etc/ironbell-walls-test",
				"to remove":          "rm -f " + kept,
				"to rename":          "mv " + kept + " .",
				"to end it":          "kill -9 " + pid,
				"to end its keeper":  "kill -9 $PPID",
				"to stop it":         "kill -STOP " + pid,
				"to trace it":        "echo 0 > /proc/" + pid + "/coredump_filter",
				"more rights":        "grep -q 'NoNewPrivs:.*0' /proc/self/status",
				"to mount":           "mount -t tmpfs none /mnt",
				"a big file":         "head -c 1200000000 /dev/zero > big",
				"a memory dump":      "test $(ulimit -c) != 0",
				"many files":         fmt.Sprintf("test $(ulimit -n) -gt %d", openFiles),
			} {
				tried(what, script)
			}
			text, err := os.ReadFile(kept)
			require.NoError(t, err)
			assert.Equal(t, "planted file", string(text))
			_, err = os.Stat("/etc/ironbell-walls-test")
			assert.ErrorIs(t, err, os.ErrNotExist)
			// What a program is for goes on.
			said, err := run(t, w,
				"cat "+beside+
					" && echo made > file && cat file && mkdir d && mv file d/ && sh -c 'exit 0' && awk 'BEGIN { "+
					"print 6*7 }' > /dev/null && date > /dev/null && id -u && grep Cap /proc/self/status", time.Minute)
			require.NoError(t, err, said)
			assert.Contains(t, said, "for allmade")
			if w.User != "" {
				u, err := user.Lookup(w.User)
				require.NoError(t, err)
				assert.Contains(t, said, "\n"+u.Uid+"\n")
				assert.Contains(t, said, "CapEff:\t0000000000000000")
			}
		})
	}
}

// A service without rights of its own has the same walls.
func TestTheWallsStandWithoutRights(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("this process has no rights itself, so the tests before said it")
	}
	self, err := os.Executable()
	require.NoError(t, err)
	dir, err := os.MkdirTemp("/tmp", "ironbell-walls-test-") //nolint:usetesting // another user must reach it
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	text, err := os.ReadFile(self)
	require.NoError(t, err)
	copied := filepath.Join(dir, "walls.test")
	require.NoError(t, os.WriteFile(copied, text, 0o755))
	u, err := user.Lookup("nobody")
	require.NoError(t, err)
	uid, err := strconv.Atoi(u.Uid)
	require.NoError(t, err)
	gid, err := strconv.Atoi(u.Gid)
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), copied, "-test.run", "TestAProgram", "-test.v")
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	said, err := cmd.CombinedOutput()
	assert.NoError(t, err, string(said))
	assert.Contains(t, string(said), "--- PASS: TestAProgramReachesNothingOfTheService/own_user")
	assert.Contains(t, string(said), "--- PASS: TestAProgramHasLimits/own_user")
}

func TestAProgramHasLimits(t *testing.T) {
	for name, w := range bothWays(t) {
		t.Run(name, func(t *testing.T) {
			w.Memory = 128 << 20
			_, err := run(t, w, "true", time.Minute)
			require.NoError(t, err)
			said, err := run(t, w, "awk 'BEGIN { s = \"x\"; while (length(s) < 500000000) s = s s }'", time.Minute)
			assert.Error(t, err, said)
			said, err = run(t, w,
				"ulimit -t; ulimit -d; sed -n 's/^Max processes *\\([0-9]*\\) .*/\\1/p' /proc/self/limits; nice",
				time.Minute)
			require.NoError(t, err, said)
			lines := strings.Fields(said)
			require.Len(t, lines, 4)
			for i, line := range lines[:3] {
				n, err := strconv.Atoi(line)
				require.NoError(t, err, "limit %d: %s", i, line)
				assert.Positive(t, n)
			}
			assert.Equal(t, []string{"131072", "10"}, []string{lines[1], lines[3]})
		})
	}
}

// A program that starts more and more comes to its limit, and nothing of it is left when it
// ends, or when its time is over while it multiplies.
func TestAProgramThatMultiplies(t *testing.T) {
	for name, w := range bothWays(t) {
		if w.User == "" && os.Getuid() == 0 {
			continue // the kernel counts no processes of root (getrlimit(2), RLIMIT_NPROC)
		}
		t.Run(name, func(t *testing.T) {
			mark := strconv.FormatInt(time.Now().UnixNano(), 10)
			// how it ends is the shell's affair
			said, _ := run(t, w, "n=0; while (sleep 60."+mark+" &); do n=$((n+1)); echo $n; done", time.Minute)
			assert.Contains(t, said, "Cannot fork")
			lines := strings.Fields(strings.Split(said, "/bin/sh:")[0])
			n, err := strconv.Atoi(lines[len(lines)-1])
			require.NoError(t, err, said)
			assert.Greater(t, n, 20)
			assert.LessOrEqual(t, n, processes+50) // the user had others when it began
			assert.Empty(t, named(mark))

			room, err := os.MkdirTemp("/tmp", "ironbell-walls-test-") //nolint:usetesting // another user must reach it
			require.NoError(t, err)
			defer func() { _ = os.RemoveAll(room) }()
			ctx, stop := context.WithTimeout(t.Context(), 2*time.Second)
			defer stop()
			cmd := exec.CommandContext(ctx, "/bin/sh", "-c", `f() { f "$1" | f "$1" & }; f "$0"; sleep 60`, mark)
			cmd.Dir, cmd.Env, cmd.WaitDelay = room, []string{"PATH=/usr/bin:/bin"}, 20*time.Second
			require.Error(t, w.Run(cmd, room, time.Minute, cmd.Run))
			assert.Empty(t, named(mark))
		})
	}
}

// named lists the processes that have a word among their arguments.
func named(word string) (out []string) {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range all {
		if text, err := os.ReadFile(file); err == nil && bytes.Contains(text, []byte(word)) {
			out = append(out, file)
		}
	}
	return out
}
