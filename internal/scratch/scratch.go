// Package scratch makes temporary folders that do not outlive the process that made
// them: each is locked while its maker lives, and Sweep removes those whose maker was
// ended without a word.
package scratch

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

const (
	prefix = "ironbell-scratch-"
	lock   = ".lock"
	// young is how old a folder must be before it may be taken for left behind: its
	// maker locks it just after it has made it.
	young = time.Minute
)

// Dir is a temporary folder of this process.
type Dir struct {
	Path string
	lock *os.File
}

// Make makes a temporary folder; kind stands in its name.
func Make(kind string) (*Dir, error) {
	path, err := os.MkdirTemp("", prefix+kind+"-")
	if err != nil {
		return nil, fmt.Errorf("make a temporary folder: %w", err)
	}
	d := &Dir{Path: path}
	if d.lock, err = os.OpenFile(filepath.Join(path, lock), os.O_CREATE|os.O_RDWR, 0o600); err == nil { //nolint:gosec // the folder was made just now
		err = syscall.Flock(int(d.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	}
	if err != nil {
		d.Remove()
		return nil, fmt.Errorf("lock a temporary folder: %w", err)
	}
	return d, nil
}

// Remove removes the folder with all that lies in it.
func (d *Dir) Remove() {
	if err := os.RemoveAll(d.Path); err != nil {
		// A folder within it may forbid to be emptied.
		_ = filepath.WalkDir(d.Path, func(path string, e fs.DirEntry, err error) error {
			if e != nil && e.IsDir() {
				_ = os.Chmod(path, 0o700) //nolint:gosec // a folder; what is left is swept later
			}
			return err
		})
		_ = os.RemoveAll(d.Path) // what is left is swept later
	}
	if d.lock != nil {
		_ = d.lock.Close() // nothing was written to it
	}
}

// Sweep removes the folders whose makers are gone, and tells how many. Those of other
// people, whom this process may not lock out, are left alone.
func Sweep() (int, error) {
	all, err := filepath.Glob(filepath.Join(os.TempDir(), prefix+"*"))
	if err != nil {
		return 0, fmt.Errorf("look for temporary folders: %w", err)
	}
	n := 0
	var failed []error
	for _, path := range all {
		info, err := os.Lstat(path)
		if err != nil || !info.IsDir() || time.Since(info.ModTime()) < young ||
			!strings.HasPrefix(filepath.Base(path), prefix) {
			continue
		}
		if owner, ok := info.Sys().(*syscall.Stat_t); ok && int(owner.Uid) != os.Geteuid() {
			continue
		}
		held, err := os.OpenFile(filepath.Join(path, lock), os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600) //nolint:gosec // it lies in a folder of our own
		if err != nil {
			failed = append(failed, err)
			continue
		}
		if syscall.Flock(int(held.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
			_ = held.Close() // its maker lives
			continue
		}
		(&Dir{Path: path, lock: held}).Remove()
		n++
	}
	return n, errors.Join(failed...)
}
