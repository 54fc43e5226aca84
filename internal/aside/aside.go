// Package aside works on data of strangers in a process of its own, this same
// program started once more: what it takes goes with the process, one that is
// never done is ended with it, and one that is led astray has nothing to reach.
package aside

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/landlock-lsm/go-landlock/landlock"
	"golang.org/x/sys/unix"
)

// Task reads data and writes what comes of them; about is its one word of order.
type Task func(out io.Writer, about string, in io.Reader) error

// Bounds are those of one task.
type Bounds struct {
	Time   time.Duration
	Memory int64 // bytes of data of the process; any when 0
	Most   int   // bytes that come of it
	Files  bool  // it may read and write files as we do; without, it reaches none
}

// ErrTooMuch says that more came of a task than its bounds let through.
var ErrTooMuch = errors.New("more came of it than is let through")

// What a process of ours is told by.
const (
	variable = "IRONBELL_ASIDE"
	maxWords = 2000 // bytes of what it says when it fails
)

// Main does a task when this process was started for it, and then never returns.
// Of every other process it returns at once. It comes first in main.
func Main(tasks map[string]Task) {
	told, ok := os.LookupEnv(variable)
	if !ok {
		return
	}
	if err := do(tasks, told); err != nil {
		fmt.Fprint(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0)
}

func do(tasks map[string]Task, told string) error {
	fields := strings.SplitN(told, " ", 4)
	if len(fields) != 4 {
		return errors.New("its order cannot be read")
	}
	memory, err := strconv.ParseInt(fields[1], 10, 64)
	if err != nil {
		return fmt.Errorf("its order cannot be read: %w", err)
	}
	if memory > 0 {
		limit := unix.Rlimit{Cur: uint64(memory), Max: uint64(memory)}
		if err := unix.Setrlimit(unix.RLIMIT_DATA, &limit); err != nil {
			return fmt.Errorf("bound its memory: %w", err)
		}
	}
	if err := unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}); err != nil {
		return fmt.Errorf("bound what it leaves: %w", err)
	}
	if fields[2] != "files" {
		// An older kernel knows no such walls; the limits above hold there, too.
		if err := landlock.V5.BestEffort().Restrict(); err != nil {
			return fmt.Errorf("keep it from files: %w", err)
		}
	}
	task, ok := tasks[fields[0]]
	if !ok {
		return fmt.Errorf("this program knows no task %q", fields[0])
	}
	return task(os.Stdout, fields[3], os.Stdin)
}

// Do does a task of Main in a process of its own. The error is what the task
// said, ErrTooMuch, or the cause of the context's end.
func Do(ctx context.Context, name, about string, in []byte, b Bounds) ([]byte, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find this program, to start it once more: %w", err)
	}
	ctx, cancel := context.WithTimeoutCause(ctx, b.Time, fmt.Errorf("it was not done within %s", b.Time))
	defer cancel()
	files := "alone"
	if b.Files {
		files = "files"
	}
	cmd := exec.CommandContext(ctx, self) //nolint:gosec // this program itself
	cmd.Env = []string{variable + "=" + strings.Join([]string{name, strconv.FormatInt(b.Memory, 10), files, about}, " ")}
	if b.Files {
		for _, v := range []string{"HOME", "XDG_CACHE_HOME", "CACHE_DIRECTORY", "TMPDIR"} {
			if value := os.Getenv(v); value != "" {
				cmd.Env = append(cmd.Env, v+"="+value)
			}
		}
	}
	made, said := bounded{most: b.Most}, bounded{most: maxWords}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(in), &made, &said
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if err := run(cmd); err != nil {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if said.kept.Len() > 0 {
			return nil, errors.New(strings.ToValidUTF8(said.kept.String(), "?"))
		}
		return nil, fmt.Errorf("the process ended: %w", err)
	}
	if made.cut {
		return nil, ErrTooMuch
	}
	return made.kept.Bytes(), nil
}

// run runs a process to its end. The signal that ends it with us is tied to the thread that
// started it, so the thread stays for as long.
func run(cmd *exec.Cmd) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	return cmd.Run() //nolint:wrapcheck // by its caller
}

// bounded keeps the beginning of what is written to it. The buffer is no part of
// its methods: what reads into a buffer by itself would pass the bound.
type bounded struct {
	kept bytes.Buffer
	most int
	cut  bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if left := b.most - b.kept.Len(); len(p) > left {
		b.cut = true
		_, _ = b.kept.Write(p[:left]) // a buffer takes everything
		return len(p), nil
	}
	return b.kept.Write(p) //nolint:wrapcheck // a buffer takes everything
}
