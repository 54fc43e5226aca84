package report

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/rows"
)

// FolderSettings are the settings of a source of the driver folder.
type FolderSettings struct {
	Folder string `json:"folder"` // below one that the operator allowed
}

// Folder is a source of files. It may be used by several goroutines.
type Folder interface {
	// Files lists the files whose names match a pattern of * and ?, the newest
	// first; at most 10,000.
	Files(ctx context.Context, pattern string) ([]FolderFile, error)
	// OpenFile opens one of them to be read.
	OpenFile(ctx context.Context, name string) (io.ReadCloser, error)
}

// FolderFile is a file of a folder.
type FolderFile struct {
	Name    string
	Size    int64
	Changed time.Time
}

const maxListed = 10_000

type folder struct {
	name string
	root *os.Root
}

// openFolder opens a source that is a folder, when it lies in an allowed one.
// Nothing outside of it is reached, also not through links.
func openFolder(name string, settings json.RawMessage, allowed []string) (Source, error) {
	doing := "open source " + quote(name)
	var s FolderSettings
	if err := json.Unmarshal(settings, &s); err != nil || s.Folder == "" {
		return nil, fault.New(fault.Source, doing, "it needs a folder", "Save its settings again.")
	}
	real, err := filepath.EvalSymlinks(filepath.Clean(s.Folder))
	if err != nil {
		return nil, fault.New(fault.Source, doing, fmt.Sprintf("there is no folder %q on this machine", s.Folder), "Make it, or name another one.")
	}
	if !slices.ContainsFunc(allowed, func(root string) bool {
		root, err := filepath.EvalSymlinks(filepath.Clean(root))
		return err == nil && (real == root || strings.HasPrefix(real, strings.TrimSuffix(root, "/")+"/"))
	}) {
		return nil, fault.New(fault.Source, doing, fmt.Sprintf("the folder %q is not allowed on this machine", s.Folder), "An operator can allow it with the flag -folders of ironbell serve.")
	}
	root, err := os.OpenRoot(real)
	if err != nil {
		return nil, fault.Wrap(err, fault.Passing, fault.Source, doing, "Check that the service may read the folder.")
	}
	return &folder{name: name, root: root}, nil
}

func (f *folder) Close() { _ = f.root.Close() } // only read from

func (f *folder) Test(ctx context.Context) (string, error) {
	files, err := f.Files(ctx, "*")
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("the folder holds %d files", len(files)), nil
}

func (f *folder) Files(_ context.Context, pattern string) ([]FolderFile, error) {
	doing := "look into source " + quote(f.name)
	if _, err := path.Match(pattern, ""); err != nil || strings.ContainsAny(pattern, `/\`) {
		return nil, fault.New(fault.Task, doing, fmt.Sprintf("%q is no pattern of a file name", pattern), "Write it with * and ?, without a folder.")
	}
	entries, err := fs.ReadDir(f.root.FS(), ".")
	if err != nil {
		return nil, fault.Wrap(err, fault.Passing, fault.Source, doing, "Check that the folder is there and that the service may read it.")
	}
	var files []FolderFile
	for _, e := range entries {
		if ok, _ := path.Match(pattern, e.Name()); !ok || !e.Type().IsRegular() {
			continue
		}
		info, err := e.Info()
		if err != nil {
			continue // it went away meanwhile
		}
		files = append(files, FolderFile{Name: e.Name(), Size: info.Size(), Changed: info.ModTime()})
		if len(files) > maxListed {
			return nil, fault.New(fault.Source, doing, fmt.Sprintf("more than %d files match %q", maxListed, pattern), "Make the pattern narrower, or clear the folder.")
		}
	}
	slices.SortStableFunc(files, func(a, b FolderFile) int { return b.Changed.Compare(a.Changed) })
	return files, nil
}

func (f *folder) OpenFile(_ context.Context, name string) (io.ReadCloser, error) {
	in, err := f.root.Open(name)
	if err != nil {
		return nil, fault.Wrap(err, fault.Passing, fault.Source, fmt.Sprintf("read %q from source %q", name, f.name), "")
	}
	return in, nil
}

var errNoQueries = errors.New("it is a folder of files and answers no queries")

func (f *folder) Stream(context.Context, Query, string, rows.Sink) (int64, error) {
	return 0, fault.Wrap(errNoQueries, fault.Lasting, fault.Source, "ask source "+quote(f.name), "Name a database as source of the report.")
}

func (f *folder) Describe(context.Context, Query) ([]rows.Column, error) {
	return nil, fault.Wrap(errNoQueries, fault.Lasting, fault.Task, "ask source "+quote(f.name), "Name a database as source of the report.")
}
