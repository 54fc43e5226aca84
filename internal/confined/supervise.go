package confined

import (
	"encoding/json"
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

// A program runs below a small process of ours, its supervisor, which is this same
// program started once more. Whatever the program starts becomes a child of
// the supervisor when its own parent ends, also when it began a session of its own; so
// the supervisor ends all of it when the program ends, when the task is broken off, and
// when the service is killed.

// The variables that say to a program of ours what it was started for.
const (
	superviseVariable = "IRONBELL_SUPERVISE" // it looks after a program
	confineVariable   = "IRONBELL_CONFINE"   // it becomes one
)

// failed is the exit status of ours when a program could not be started.
const failed = 126

// Main does what this process was started for by Run, and then never returns. Of every other
// process it returns at once.
func Main() {
	if told, ok := os.LookupEnv(superviseVariable); ok {
		s, err := read(superviseVariable, told)
		if err != nil {
			os.Exit(failed)
		}
		status, by := s.supervise(told, os.Args[1:])
		if by != 0 {
			// End as the program did.
			signal.Reset()
			_ = syscall.Kill(os.Getpid(), by)
		}
		os.Exit(status)
	}
	if told, ok := os.LookupEnv(confineVariable); ok {
		s, err := read(confineVariable, told)
		if err == nil {
			err = s.become(os.Args[1:])
		}
		fmt.Fprintln(os.Stderr, "the program was not started:", err)
		os.Exit(failed)
	}
}

func read(variable, told string) (start, error) {
	var s start
	err := errors.Join(os.Unsetenv(variable), json.Unmarshal([]byte(told), &s))
	if len(os.Args) < 2 {
		err = errors.New("no program is named")
	}
	return s, err
}

// become puts up the walls and becomes the program. It returns only when it fails.
func (s start) become(args []string) error {
	runtime.LockOSThread() // what follows belongs to the thread that becomes the program
	parent := os.Getppid()
	if err := s.put(); err != nil {
		return err
	}
	// To become another user forgets whose death is this one's, too.
	if err := unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(syscall.SIGKILL), 0, 0, 0); err != nil {
		return err
	}
	if os.Getppid() != parent {
		return errors.New("its supervisor has ended")
	}
	err := syscall.Exec(args[0], args, os.Environ()) //nolint:gosec // the service names it, out of the folder of allowed programs
	if errors.Is(err, syscall.EACCES) && s.Account != nil {
		return fmt.Errorf("%w: the user that programs run as must reach the folder of programs and may read them", err)
	}
	return err
}

// supervise runs a program to its end and ends all that it started. It gives its
// status, or the signal that ended it.
func (s start) supervise(told string, args []string) (status int, by syscall.Signal) {
	// The word that the service has died comes by the thread that starts the program.
	runtime.LockOSThread()
	word := make(chan os.Signal, 8)
	signal.Notify(word, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP, syscall.SIGPIPE)
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		fmt.Fprintln(os.Stderr, "the program cannot be looked after:", err)
		return failed, 0
	}
	dir, err := os.Getwd()
	if err != nil {
		return failed, 0
	}
	self, err := os.Executable()
	if err != nil {
		return failed, 0
	}
	pid, err := syscall.ForkExec(self, append([]string{self}, args...), &syscall.ProcAttr{ //nolint:gosec // this program itself
		Dir: dir, Env: append(os.Environ(), confineVariable+"="+told), Files: []uintptr{0, 1, 2},
		Sys: &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL},
	})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return failed, 0
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
			if os.Getppid() != s.Service {
				_ = os.RemoveAll(s.Room) // the service is gone, and nobody else removes it
			}
			if !known {
				return failed, 0
			}
			if last.Signaled() {
				return 0, last.Signal()
			}
			return last.ExitStatus(), 0
		case <-word:
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

// supervised lets a command run below a supervisor, which is the program at self.
func supervised(cmd *exec.Cmd, self, told string) {
	cmd.Args = append([]string{self, cmd.Path}, cmd.Args[1:]...)
	cmd.Path = self
	cmd.Env = append(cmd.Env, superviseVariable+"="+told)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
}
