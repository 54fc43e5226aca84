// Package artifact keeps the files that tasks make, in a folder that all nodes
// share. A file is written under a temporary name, checked by size and SHA-256,
// and then renamed, so that a key never names half a file.
package artifact

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"ironbell/internal/core/fault"

	"golang.org/x/sys/unix"
)

// Folder is a store of files in a folder. It may be used by several goroutines
// and several processes.
type Folder struct{ root *os.Root }

// OpenFolder opens the store, and makes the folder when it is not there.
func OpenFolder(path string) (*Folder, error) {
	if err := os.MkdirAll(path, 0o700); err != nil {
		return nil, fmt.Errorf("make the folder of artifacts: %w", err)
	}
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, fmt.Errorf("open the folder of artifacts: %w", err)
	}
	return &Folder{root: root}, nil
}

// Close gives the folder back.
func (f *Folder) Close() error { return f.root.Close() }

// File is a file being written. It belongs to one goroutine. It ends with
// Keep, or with Drop when it is not wanted.
type File struct {
	folder *Folder
	key    string
	file   *os.File
	buffer *bufio.Writer
	sum    hash.Hash
	size   int64
}

// Kept is a file that was kept.
type Kept struct {
	Key    string
	Size   int64
	SHA256 string // in hexadecimal digits
}

// Create begins a file.
func (f *Folder) Create() (*File, error) {
	name := make([]byte, 16)
	if _, err := rand.Read(name); err != nil {
		return nil, fmt.Errorf("name a file: %w", err)
	}
	id := hex.EncodeToString(name)
	key := filepath.Join(id[:2], id[2:])
	err := f.root.Mkdir(id[:2], 0o700)
	if err == nil {
		err = SyncFolder(f.root, ".")
	}
	if err != nil && !errors.Is(err, os.ErrExist) {
		return nil, problem(err)
	}
	file, err := f.root.OpenFile(key+".part", os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, problem(err)
	}
	return &File{folder: f, key: key, file: file, buffer: bufio.NewWriterSize(file, 64<<10), sum: sha256.New()}, nil
}

// Write implements io.Writer.
func (w *File) Write(p []byte) (int, error) {
	n, err := w.buffer.Write(p)
	w.sum.Write(p[:n])
	w.size += int64(n)
	if err != nil {
		return n, problem(err)
	}
	return n, nil
}

// Keep finishes the file: it is on the disk when Keep returns.
func (w *File) Keep() (Kept, error) {
	err := w.buffer.Flush()
	if err == nil {
		err = w.file.Sync()
	}
	if closing := w.file.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = w.folder.root.Rename(w.key+".part", w.key)
	}
	if err == nil {
		err = SyncFolder(w.folder.root, filepath.Dir(w.key))
	}
	if err != nil {
		_ = w.folder.root.Remove(w.key + ".part") // the first fault is the one to tell
		return Kept{}, problem(err)
	}
	return Kept{Key: w.key, Size: w.size, SHA256: hex.EncodeToString(w.sum.Sum(nil))}, nil
}

// SyncFolder makes the names in a folder stay over a loss of power (fsync of
// POSIX.1-2017, on the folder). Shares that know no such thing are left alone.
func SyncFolder(root *os.Root, dir string) error {
	folder, err := root.Open(dir)
	if err != nil {
		return err
	}
	err = folder.Sync()
	if closing := folder.Close(); err == nil {
		err = closing
	}
	if errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.ENOTSUP) {
		return nil
	}
	return err
}

// Drop forgets the file.
func (w *File) Drop() {
	_ = w.file.Close()                        // nothing of it is wanted
	_ = w.folder.root.Remove(w.key + ".part") // what stays behind is reaped by its name
}

// Open reads a file.
func (f *Folder) Open(_ context.Context, key string) (io.ReadSeekCloser, error) {
	file, err := f.root.Open(key)
	if err != nil {
		return nil, problem(err)
	}
	return file, nil
}

// Remove forgets a file that was kept; one that is gone already is no error.
func (f *Folder) Remove(key string) error {
	if err := f.root.Remove(key); err != nil && !errors.Is(err, os.ErrNotExist) {
		return problem(err)
	}
	return nil
}

// Older lists the keys of one folder of the store, named by the first two digits
// of its keys, whose files have not changed since an instant; also of files that
// were never finished.
func (f *Folder) Older(folder string, than time.Time) ([]string, error) {
	entries, err := fs.ReadDir(f.root.FS(), folder)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, problem(err)
	}
	var old []string
	for _, e := range entries {
		if info, err := e.Info(); err == nil && info.ModTime().Before(than) {
			old = append(old, filepath.Join(folder, e.Name()))
		}
	}
	return old, nil
}

// problem says what went wrong with the disk, and whether it may pass.
func problem(err error) error {
	switch {
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return fault.Wrap(err, fault.Passing, fault.Store, "write to the store of artifacts",
			"The disk of the artifacts is full: make room, then run again.")
	case errors.Is(err, os.ErrNotExist):
		return fault.Wrap(err, fault.Lasting, fault.Task, "read from the store of artifacts",
			"The file is gone; run the job again to make it anew.")
	}
	return fault.Wrap(err, fault.Passing, fault.Store, "use the store of artifacts",
		"Check that the folder of artifacts is there and writable on this node.")
}

// Known is what ID gives, without giving a name to a store that has none: empty then.
func (f *Folder) Known() (string, error) {
	text, err := f.root.ReadFile("installation")
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", problem(err)
	}
	return string(text), nil
}

// Path is where the folder is.
func (f *Folder) Path() string { return f.root.Name() }

// Room is how much the disk of the store holds, and how much of that is free, in bytes.
func (f *Folder) Room() (free, all int64, err error) {
	var disk unix.Statfs_t
	if err := unix.Statfs(f.root.Name(), &disk); err != nil {
		return 0, 0, problem(err)
	}
	return int64(disk.Bavail) * disk.Bsize, int64(disk.Blocks) * disk.Bsize, nil //nolint:gosec // no disk has that many blocks
}

// Mark is how far an installation had come when it last wrote to its store.
type Mark struct {
	No int64     `json:"no"`
	At time.Time `json:"at"`
}

// Mark reads the mark that an installation left; the zero one when it left none.
func (f *Folder) Mark(installation string) (Mark, error) {
	var m Mark
	text, err := f.root.ReadFile("mark-" + installation)
	if errors.Is(err, os.ErrNotExist) || err == nil && len(text) == 0 {
		return m, nil
	}
	if err != nil {
		return m, problem(err)
	}
	if err := json.Unmarshal(text, &m); err != nil {
		return m, fmt.Errorf("read the mark in the store of artifacts: %w", err)
	}
	return m, nil
}

// PutMark leaves the mark of an installation.
func (f *Folder) PutMark(installation string, m Mark) error {
	text, err := json.Marshal(m)
	if err != nil {
		return fmt.Errorf("write the mark: %w", err)
	}
	name := "mark-" + installation
	beside := name + "." + rand.Text()[:8]
	if err := f.root.WriteFile(beside, text, 0o600); err != nil {
		return problem(errors.Join(err, f.root.Remove(beside)))
	}
	if err := f.root.Rename(beside, name); err != nil {
		return problem(err)
	}
	return nil
}

// ID is what tells this store from a copy of it that was begun elsewhere: a name
// that it was given when it was made. A store that was moved as a whole keeps it.
func (f *Folder) ID() (string, error) {
	const name = "installation"
	for range 2 {
		text, err := f.root.ReadFile(name)
		if err == nil && len(text) > 0 {
			return string(text), nil
		}
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return "", problem(err)
		}
		file, err := f.root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if errors.Is(err, os.ErrExist) {
			time.Sleep(50 * time.Millisecond) // another node is writing it
			continue
		}
		if err != nil {
			return "", problem(err)
		}
		_, err = file.WriteString(rand.Text())
		if closing := file.Close(); err == nil {
			err = closing
		}
		if err != nil {
			return "", problem(err)
		}
	}
	return "", problem(os.ErrNotExist)
}
