// Package confined runs programs that others wrote within walls: as another user where this
// process may change users, without a way to more rights, with the files of the machine only
// to read and those of the service not at all (Landlock, documentation of the Linux kernel,
// userspace-api/landlock), with limits of memory, processes, files and processor time, and
// below a supervisor that ends all that it leaves behind.
//
// A program is started in two steps, both by this same program started once more: the
// supervisor, which is one of ours, and the walls, which the program's own process puts up
// around itself before it becomes the program. Main is both, and comes first in main.
package confined

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/landlock-lsm/go-landlock/landlock"
	ll "github.com/landlock-lsm/go-landlock/landlock/syscall"
	"golang.org/x/sys/unix"
)

// Walls are what holds for all programs of this machine. The zero value has the kernel's
// walls and those of the system, and no user of its own.
type Walls struct {
	Self   string   // path of this program, which calls Main
	User   string   // name or number of the user that programs run as; this process's own when empty
	Read   []string // folders and files that they may read beside those of the system
	Write  []string // folders that they may write to beside their own
	Hidden []string // files and folders out of their reach wherever they lie: those of the service
	Memory int64    // bytes of data of each process; Memory when 0
}

// Memory is how many bytes of data a process has at most, if nothing else is said.
const Memory = 2 << 30

const (
	openFiles   = 1024
	largestFile = 1 << 30 // bytes
	processes   = 256     // beside those that the user has
	niceness    = 10      // the service goes before
)

// systemFolders may be read by every program: what programs are made of.
var systemFolders = []string{
	"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/etc", "/opt", "/proc",
	"/sys", "/dev",
}

// devices may be written to by every program.
var devices = []string{"/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom", "/dev/tty"}

// account is a user as the kernel knows them.
type account struct {
	UID, GID int
	Groups   []int
}

// account finds the walls' own user; nil when there is none.
func (w Walls) account() (*account, error) {
	if w.User == "" {
		return nil, nil //nolint:nilnil // without a user of its own a program has ours
	}
	u, err := user.Lookup(w.User)
	if err != nil {
		if u, err = user.LookupId(w.User); err != nil {
			return nil, fmt.Errorf("this machine has no user %q", w.User)
		}
	}
	a := &account{}
	if a.UID, err = strconv.Atoi(u.Uid); err == nil {
		a.GID, err = strconv.Atoi(u.Gid)
	}
	if err != nil {
		return nil, fmt.Errorf("the user %q has no number", w.User)
	}
	ids, err := u.GroupIds()
	if err != nil {
		return nil, fmt.Errorf("the groups of the user %q: %w", w.User, err)
	}
	for _, id := range ids {
		if n, err := strconv.Atoi(id); err == nil {
			a.Groups = append(a.Groups, n)
		}
	}
	switch {
	case a.UID == 0:
		return nil, errors.New("programs are not run as root; name another user")
	case a.UID == os.Getuid():
		return nil, fmt.Errorf("the user %q is the service's own; name another, or none", w.User)
	}
	return a, nil
}

// start is what supervisor and program are told of one start.
type start struct {
	Service int    // number of the process that waits for it
	Room    string // the program's own folder, which goes with it
	Program string // its path
	Account *account
	Read    []string
	Write   []string
	Hidden  []string
	Memory  int64
	Seconds uint64 // of processor time of each process
}

// Run runs a program to its end within the walls. Command was made with a context and has the program's whole
// environment; room is a folder of its own, which the walls' user owns from now on; limit is
// how long it may take. By run the command is started and waited for.
func (w Walls) Run(cmd *exec.Cmd, room string, limit time.Duration, run func() error) error {
	a, err := w.account()
	if err != nil {
		return err
	}
	if a != nil {
		if err := give(room, a); err != nil {
			return fmt.Errorf("give the program's folder to the user %q: %w", w.User, err)
		}
	}
	s := start{
		Service: os.Getpid(), Room: room, Program: cmd.Path, Account: a, Read: w.Read, Write: w.Write, Hidden: w.Hidden,
		Memory: w.Memory,
	}
	if s.Memory <= 0 {
		s.Memory = Memory
	}
	if limit <= 0 {
		limit = 24 * time.Hour
	}
	s.Seconds = uint64(limit/time.Second+1) * uint64(runtime.NumCPU()) //nolint:gosec // neither is negative
	told, err := json.Marshal(s)
	if err != nil {
		return err
	}
	supervised(cmd, w.Self, string(told))
	done := make(chan error, 1)
	go func() {
		// The supervisor hears when the thread dies that started it, so that thread stays.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		done <- run()
	}()
	return <-done
}

// give gives a folder with all that lies in it to a user.
func give(room string, a *account) error {
	root, err := os.OpenRoot(room)
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }() // only looked at
	return fs.WalkDir(root.FS(), ".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return root.Lchown(path, a.UID, a.GID)
	})
}

// Try starts a program within the walls, one that does nothing when none is named, so that what cannot work is
// known before the first task.
func (w Walls) Try(ctx context.Context, program ...string) error {
	if len(program) == 0 {
		program = []string{"/bin/true"}
	}
	room, err := os.MkdirTemp("", "ironbell-walls-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(room) }()                   // it is empty
	cmd := exec.CommandContext(ctx, program[0], program[1:]...) //nolint:gosec // the operator's, or of the system
	cmd.Dir = room
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := w.Run(cmd, room, time.Minute, cmd.Run); err != nil {
		if text := strings.TrimSpace(said.String()); text != "" {
			return errors.New(text)
		}
		return err
	}
	return nil
}

// Standing tells in plain sentences which walls stand on this machine, and whether the
// service's own files and environment are behind one.
func (w Walls) Standing() (sentences []string, closed bool) {
	abi, err := ll.LandlockGetABIVersion()
	landlocked := err == nil && abi >= 1
	if w.User != "" {
		sentences = append(sentences, fmt.Sprintf("Programs run as the user %s.", w.User))
	} else {
		sentences = append(sentences, "Programs run as the same user as the service.")
	}
	switch {
	case landlocked:
		sentences = append(sentences,
			"They read what the system is made of, write to a folder of their own, and beside it reach only what the "+
				"operator named; the service's files, memory and environment are closed to them.")
	case w.User != "":
		sentences = append(sentences,
			"This kernel has no Landlock: they read whatever that user may read. The service's files, memory and "+
				"environment are out of their reach as long as other users may not read them.")
	default:
		sentences = append(sentences,
			"This kernel has no Landlock, and no other user is named: a program can read the service's files, and "+
				"with them the key of all secrets. Name a user with -programs-user.")
	}
	if w.User == "" && landlocked && abi < 6 {
		sentences = append(sentences, "This kernel does not keep them from ending the service.")
	}
	return sentences, landlocked || w.User != ""
}

// put puts up the walls around this process, for good.
func (s start) put() error {
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("forbid more rights: %w", err)
	}
	if err := s.files(); err != nil {
		return fmt.Errorf("close the machine's files: %w", err)
	}
	// Rights that were handed down would go on to the program (capabilities(7), ambient set).
	if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0); err != nil &&
		!errors.Is(err, unix.EINVAL) {
		return fmt.Errorf("give rights back: %w", err)
	}
	for c := uintptr(0); c <= unix.CAP_LAST_CAP; c++ {
		if err := unix.Prctl(unix.PR_CAPBSET_DROP, c, 0, 0, 0); err != nil {
			break // whoever has no such rights has none to give back
		}
	}
	if a := s.Account; a != nil {
		if err := errors.Join(syscall.Setgroups(a.Groups), syscall.Setgid(a.GID), syscall.Setuid(a.UID)); err != nil {
			return fmt.Errorf("become the user with the number %d: %w; the service needs root's rights for it, or "+
				"the capabilities SETUID, SETGID, CHOWN, DAC_OVERRIDE and KILL", a.UID, err)
		}
	}
	return s.limits() // last: they hold for what is still to be done here, too
}

// limits sets what the program may have of the machine (getrlimit(2)).
func (s start) limits() error {
	uid := os.Getuid()
	if s.Account != nil {
		uid = s.Account.UID
	}
	for _, l := range []struct {
		what  string
		which int
		most  uint64
	}{
		{"processor time", unix.RLIMIT_CPU, s.Seconds},
		{"memory", unix.RLIMIT_DATA, uint64(s.Memory)}, //nolint:gosec // it is above 0
		{"open files", unix.RLIMIT_NOFILE, openFiles},
		{"the size of a file", unix.RLIMIT_FSIZE, largestFile},
		{"processes", unix.RLIMIT_NPROC, threadsOf(uid) + processes},
		{"memory dumps", unix.RLIMIT_CORE, 0},
	} {
		var now unix.Rlimit
		if err := unix.Getrlimit(l.which, &now); err != nil {
			return fmt.Errorf("read the limit of %s: %w", l.what, err)
		}
		most := min(l.most, now.Max)
		if err := unix.Setrlimit(l.which, &unix.Rlimit{Cur: most, Max: most}); err != nil {
			return fmt.Errorf("limit %s: %w", l.what, err)
		}
	}
	// All of the program's threads come from this one.
	if err := unix.Setpriority(unix.PRIO_PROCESS, 0, niceness); err != nil && !errors.Is(err, unix.EACCES) {
		return fmt.Errorf("go behind the service: %w", err)
	}
	return nil
}

// threadsOf counts the threads of a user, which the limit of processes counts.
func threadsOf(uid int) uint64 {
	var n uint64
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return processes
	}
	for _, e := range entries {
		if _, err := strconv.Atoi(e.Name()); err != nil {
			continue
		}
		info, err := os.Stat("/proc/" + e.Name() + "/task")
		if err != nil {
			continue // it has ended
		}
		if of, ok := info.Sys().(*syscall.Stat_t); ok && int(of.Uid) == uid {
			n += max(of.Nlink, 3) - 2 // one folder for each thread
		}
	}
	return n
}

// files leaves of the machine's files what programs may have.
func (s start) files() error {
	rules := append(reach(s.Program, nil, false), reach(s.Room, nil, true)...)
	for _, path := range append(systemFolders, s.Read...) {
		rules = append(rules, reach(path, s.Hidden, false)...)
	}
	// Where names of hosts are found lies elsewhere and is linked to.
	if to, err := filepath.EvalSymlinks("/etc/resolv.conf"); err == nil {
		rules = append(rules, landlock.RODirs(filepath.Dir(to)))
	}
	for _, path := range s.Write {
		rules = append(rules, reach(path, s.Hidden, true)...)
	}
	for _, path := range devices {
		rules = append(rules, landlock.RWFiles(path).IgnoreIfMissing())
	}
	// Connections are left alone: a program may need the network.
	walls := landlock.Config{HandledAccessFS: landlock.V7.HandledAccessFS, Scoped: landlock.V7.Scoped}
	return walls.BestEffort().Restrict(rules...)
}

// reach gives the rules by which a path, with all that lies in it, is within reach, but for
// what is hidden: the kernel knows only what is allowed, so folders on the way to what is
// hidden are taken apart.
func reach(path string, hidden []string, write bool) []landlock.Rule {
	path, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil // what is not there needs no rule
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil
	}
	for _, h := range hidden {
		if real, err := filepath.EvalSymlinks(h); err == nil {
			h = real
		}
		if within(path, h) {
			return nil
		}
		if !within(h, path) {
			continue
		}
		entries, err := os.ReadDir(path)
		if err != nil {
			return nil
		}
		var out []landlock.Rule
		for _, e := range entries {
			if e.Type()&fs.ModeSymlink == 0 { // where it leads to is asked for itself
				out = append(out, reach(filepath.Join(path, e.Name()), hidden, write)...)
			}
		}
		return out
	}
	switch {
	case info.IsDir() && write:
		return []landlock.Rule{landlock.RWDirs(path).WithRefer()}
	case info.IsDir():
		return []landlock.Rule{landlock.RODirs(path)}
	case write:
		return []landlock.Rule{landlock.RWFiles(path)}
	}
	return []landlock.Rule{landlock.ROFiles(path)}
}

// within tells whether a path lies in a folder, or is it.
func within(path, folder string) bool {
	return path == folder || strings.HasPrefix(path, strings.TrimSuffix(folder, "/")+"/")
}
