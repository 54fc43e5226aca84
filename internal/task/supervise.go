package task

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// A program of a task runs below a small process of ours, its supervisor, which is
// this same program started once more. Whatever the program starts becomes a child of
// the supervisor when its own parent ends, also when it began a session of its own; so
// the supervisor ends all of it when the program ends, when the task is broken off, and
// when the service is killed.

// superviseVariable says to a program that it was started as a supervisor.
const superviseVariable = "IRONBELL_SUPERVISE"

// Supervise looks after the program of a task when this process was started for that,
// and then never returns. A program that hands its own path to Program.Supervisor
// calls it first of all.
func Supervise() {
	room, ok := os.LookupEnv(superviseVariable)
	if !ok {
		return
	}
	if err := os.Unsetenv(superviseVariable); err != nil || len(os.Args) < 2 {
		os.Exit(127)
	}
	status, by := supervise(room, os.Args[1:])
	if by != 0 {
		// End as the program did.
		signal.Reset()
		_ = syscall.Kill(os.Getpid(), by)
	}
	os.Exit(status)
}

// supervise runs a program to its end and ends all that it started. It gives its
// status, or the signal that ended it.
func supervise(room string, args []string) (status int, by syscall.Signal) {
	// The word that the service has died comes by the thread that starts the program.
	runtime.LockOSThread()
	told := make(chan os.Signal, 8)
	signal.Notify(told, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP, syscall.SIGPIPE)
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		fmt.Fprintln(os.Stderr, "the program cannot be looked after:", err)
		return 126, 0
	}
	dir, err := os.Getwd()
	if err != nil {
		return 126, 0
	}
	pid, err := syscall.ForkExec(args[0], args, &syscall.ProcAttr{ //nolint:gosec // the service names it, out of the folder of allowed programs
		Dir: dir, Env: os.Environ(), Files: []uintptr{0, 1, 2}, Sys: &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL},
	})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 126, 0
	}
	// What it prints goes past us; nobody waits for the end of our own copies.
	ended := make(chan syscall.WaitStatus, 1)
	go func() {
		for {
			var ws syscall.WaitStatus
			got, err := syscall.Wait4(-1, &ws, 0, nil)
			switch {
			case errors.Is(err, syscall.EINTR):
			case err != nil:
				close(ended)
				return // nothing is left
			case got == pid:
				ended <- ws
				endChildren()
			}
		}
	}()
	var last syscall.WaitStatus
	known := false
	for {
		select {
		case ws, more := <-ended:
			if more {
				last, known = ws, true
				continue
			}
			if os.Getppid() == 1 {
				_ = os.RemoveAll(room) // the service is gone, and nobody else removes it
			}
			if !known {
				return 126, 0
			}
			if last.Signaled() {
				return 0, last.Signal()
			}
			return last.ExitStatus(), 0
		case <-told:
			_ = syscall.Kill(-pid, syscall.SIGKILL) // with all of its group
			endChildren()
		}
	}
}

// endChildren ends all processes below this one, until none is left: those whose
// parents are ended become our own children, and come next.
func endChildren() {
	for range 1000 {
		children := childrenOf(os.Getpid())
		if len(children) == 0 {
			return
		}
		for _, pid := range children {
			_ = syscall.Kill(pid, syscall.SIGKILL) // it may have gone already
		}
		_ = unix.Nanosleep(&unix.Timespec{Nsec: 2_000_000}, nil)
	}
}

// childrenOf lists the processes whose parent is a process, but for those that have
// ended and are only waited for.
func childrenOf(parent int) []int {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var out []int
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		text, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		// The name stands in brackets and may hold anything.
		fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		if len(fields) > 1 && fields[0] != "Z" && fields[1] == strconv.Itoa(parent) {
			out = append(out, pid)
		}
	}
	return out
}

// supervised lets a program run below a supervisor, which is the program at path; run
// starts it and waits for it. The supervisor hears when the thread dies that started
// it, so that thread stays with it.
func supervised(cmd *exec.Cmd, path, room string, run func() error) error {
	cmd.Args = append([]string{path, cmd.Path}, cmd.Args[1:]...)
	cmd.Path = path
	cmd.Env = append(cmd.Env, superviseVariable+"="+room)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		done <- run()
	}()
	return <-done
}
