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
	var made bytes.Buffer
	if err := Pipe(ctx, name, about, bytes.NewReader(in), &made, b); err != nil {
		return nil, err
	}
	return made.Bytes(), nil
}

// Pipe does a task as Do does, of what need not be in memory here. What came of a
// task that failed is of no use.
func Pipe(ctx context.Context, name, about string, in io.Reader, out io.Writer, b Bounds) error {
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("find this program, to start it once more: %w", err)
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
	var words bytes.Buffer
	made, said := bounded{to: out, left: b.Most}, bounded{to: &words, left: maxWords}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, &made, &said
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if err := run(cmd); err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if words.Len() > 0 {
			return errors.New(strings.ToValidUTF8(words.String(), "?"))
		}
		return fmt.Errorf("the process ended: %w", err)
	}
	if made.cut {
		return ErrTooMuch
	}
	return nil
}

// run runs a process to its end. The signal that ends it with us is tied to the thread that
// started it, so the thread stays for as long.
func run(cmd *exec.Cmd) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	return cmd.Run() //nolint:wrapcheck // by its caller
}

// bounded lets the beginning of what is written to it through.
type bounded struct {
	to   io.Writer
	left int // bytes
	cut  bool
}

func (b *bounded) Write(p []byte) (int, error) {
	n := len(p)
	if n > b.left {
		b.cut, p = true, p[:b.left]
	}
	b.left -= len(p)
	if len(p) == 0 {
		return n, nil
	}
	if _, err := b.to.Write(p); err != nil {
		return 0, err //nolint:wrapcheck // of whom it is written for
	}
	return n, nil
}
