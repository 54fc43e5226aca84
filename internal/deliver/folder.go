package deliver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"ironbell/internal/artifact"
	"ironbell/internal/core/fault"
)

// FolderSettings are the settings of a destination of the protocol folder.
type FolderSettings struct {
	Folder string `json:"folder" doc:"absolute path; one that the operator allowed, or below one"`
	FileTaking
}

type folderPlace struct {
	left   leftovers
	name   string
	folder string
	take   Taking
}

func openFolder(p Place, a Allowed) (Destination, error) {
	var s FolderSettings
	if err := p.read(&s); err != nil {
		return nil, err
	}
	folder := filepath.Clean(s.Folder)
	if !filepath.IsAbs(folder) {
		return nil, p.wrong(fmt.Sprintf("%q is no absolute path of a folder", s.Folder), "Write it as /srv/reports.")
	}
	if !slices.ContainsFunc(a.Folders, func(allowed string) bool {
		below, err := filepath.Rel(allowed, folder)
		return err == nil && below != ".." && !strings.HasPrefix(below, "../")
	}) {
		return nil,
			p.wrong(fmt.Sprintf("the folder %q is not allowed on this machine", folder),
				"An operator can allow it with the flag -folders of ironbell serve.")
	}
	return &folderPlace{name: p.Name, folder: folder, take: s.taking()}, nil
}

// Open implements Destination.
func (f *folderPlace) Open(context.Context) (Line, error) { return f.open() }

func (f *folderPlace) open() (*treeLine, error) {
	doing := fmt.Sprintf("open the folder of destination %q", f.name)
	root, err := os.OpenRoot(f.folder)
	if err != nil {
		class, advice := fault.Lasting, "Make the folder, and let the service's user write to it."
		if errors.Is(err, syscall.EIO) || errors.Is(err, syscall.ESTALE) {
			class, advice = fault.Passing, "Check that its disk or share is mounted."
		}
		return nil, fault.Wrap(err, class, fault.Destination, doing, advice)
	}
	return newTreeLine(fmt.Sprintf("folder %q", f.name), &folderTree{root: root, place: f.folder}, &f.left, nil), nil
}

// Test implements Destination.
func (f *folderPlace) Test(ctx context.Context) (Tested, error) {
	l, err := f.open()
	if err != nil {
		return Tested{}, err
	}
	defer l.Close()
	return testTree(ctx, l, []string{"opened " + f.folder})
}

// folderTree keeps within its root, whatever links lie in it.
type folderTree struct {
	root  *os.Root
	place string
}

func (t *folderTree) mkdir(dir string) error { return t.root.Mkdir(dir, 0o750) }

func (t *folderTree) size(file string) (int64, error) {
	info, err := t.root.Lstat(file)
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

func (t *folderTree) put(file string, content io.Reader, _ int64) (n int64, err error) {
	out, err := t.root.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o640)
	if err != nil {
		return 0, err
	}
	defer func() {
		if closing := out.Close(); err == nil {
			err = closing
		}
	}()
	if n, err = io.Copy(out, content); err != nil {
		return n, err
	}
	return n, out.Sync()
}

func (t *folderTree) rename(from, to string, over bool) error {
	err := t.give(from, to, over)
	if err == nil {
		err = artifact.SyncFolder(t.root, path.Dir(to))
	}
	return err
}

// give links the file to its new name where nothing may be replaced, so that one
// that came meanwhile stays.
func (t *folderTree) give(from, to string, over bool) error {
	if over {
		return t.root.Rename(from, to)
	}
	err := t.root.Link(from, to)
	if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EOPNOTSUPP) {
		return t.root.Rename(from, to) // a file system without links
	}
	if err == nil {
		_ = t.root.Remove(from) // the file has its name; its temporary one is hidden
	}
	return err
}

func (t *folderTree) remove(file string) error { return t.root.Remove(file) }

func (t *folderTree) read(file string) (io.ReadCloser, error) {
	return t.root.Open(file)
}

func (t *folderTree) explain(err error, doing string) (*fault.Fault, bool) {
	if _, gone := os.Stat(t.place); errors.Is(gone, os.ErrNotExist) {
		return fault.Wrap(fmt.Errorf("the folder %s is not there any more", t.place), fault.Lasting, fault.Destination,
			doing, "Make the folder again, or mount its disk."), true
	}
	return explainFile(err, doing)
}

func (t *folderTree) close() { _ = t.root.Close() } // it was only a handle

// explainFile tells what a file system says. A line is never broken by it.
func explainFile(err error, doing string) (*fault.Fault, bool) {
	switch {
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return fault.Wrap(err, fault.Passing, fault.Destination, doing, "Its disk is full: make room."), false
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS):
		return fault.Wrap(err, fault.Lasting, fault.Recipient, doing, "Let the login of the destination write there."),
			false
	case errors.Is(err, fs.ErrExist), errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR),
		errors.Is(err, syscall.EISDIR), errors.Is(err, syscall.ENAMETOOLONG):
		return fault.Wrap(err, fault.Lasting, fault.Recipient, doing, "Correct the folder or the name in the job."),
			false
	}
	return fault.Wrap(err, fault.Passing, fault.Recipient, doing, ""), false
}
