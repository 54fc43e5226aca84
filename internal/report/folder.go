package report

import (
	"context"
	"encoding/json"
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
)

// FolderSettings are the settings of a source of the driver folder.
type FolderSettings struct {
	Folder string           `json:"folder" doc:"folder on the machine, below one that its operator allowed"`
	Tables map[string]Table `json:"tables,omitempty" form:"tables" doc:"files that queries read as tables, by the name of the table"`
	Limits
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
	files
	root *os.Root
}

// openFolder opens a source that is a folder, when it lies in an allowed one.
// Nothing outside of it is reached, also not through links.
func openFolder(name string, settings json.RawMessage, allowed []string) (Source, error) {
	doing := "open source " + quote(name)
	var s FolderSettings
	if err := readSettings(name, settings, &s); err != nil {
		return nil, err
	}
	if s.Folder == "" {
		return nil, fault.New(fault.Source, doing, "it needs a folder", "Save its settings again.")
	}
	real, err := allowedFolder(doing, s.Folder, allowed)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(real)
	if err != nil {
		return nil, fault.Wrap(err, fault.Passing, fault.Source, doing, "Check that the service may read the folder.")
	}
	f := &folder{root: root}
	f.files = files{name: name, limits: s.Limits, tables: s.Tables, open: f.newest}
	return f, f.check(doing)
}

// newest opens the newest file that matches a table's pattern.
func (f *folder) newest(ctx context.Context, t Table) (io.ReadCloser, string, error) {
	found, err := f.Files(ctx, t.File)
	if err != nil {
		return nil, "", err
	}
	if len(found) == 0 {
		return nil, "",
			fault.New(fault.Source, "read "+quote(t.File)+" from source "+quote(f.name), "there is no such file",
				"Check the folder, or the name in the settings of the source.")
	}
	in, err := f.OpenFile(ctx, found[0].Name)
	return in, found[0].Name, err
}

// allowedFolder gives the real path of a folder when it lies in an allowed one.
func allowedFolder(doing, folder string, allowed []string) (string, error) {
	real, err := filepath.EvalSymlinks(filepath.Clean(folder))
	if err != nil {
		return "",
			fault.New(fault.Source, doing, fmt.Sprintf("there is no folder %q on this machine", folder),
				"Make it, or name another one.")
	}
	if !slices.ContainsFunc(allowed, func(root string) bool {
		root, err := filepath.EvalSymlinks(filepath.Clean(root))
		return err == nil && (real == root || strings.HasPrefix(real, strings.TrimSuffix(root, "/")+"/"))
	}) {
		return "",
			fault.New(fault.Source, doing, fmt.Sprintf("the folder %q is not allowed on this machine", folder),
				"An operator can allow it with the flag -folders of ironbell serve.")
	}
	return real, nil
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
		return nil,
			fault.New(fault.Task, doing, fmt.Sprintf("%q is no pattern of a file name", pattern),
				"Write it with * and ?, without a folder.")
	}
	entries, err := fs.ReadDir(f.root.FS(), ".")
	if err != nil {
		return nil,
			fault.Wrap(err, fault.Passing, fault.Source, doing,
				"Check that the folder is there and that the service may read it.")
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
			return nil,
				fault.New(fault.Source, doing, fmt.Sprintf("more than %d files match %q", maxListed, pattern),
					"Make the pattern narrower, or clear the folder.")
		}
	}
	slices.SortStableFunc(files, func(a, b FolderFile) int { return b.Changed.Compare(a.Changed) })
	return files, nil
}

func (f *folder) OpenFile(_ context.Context, name string) (io.ReadCloser, error) {
	in, err := f.root.Open(name)
	if err != nil {
		return nil,
			fault.Wrap(err, fault.Passing, fault.Source, fmt.Sprintf("read %q from source %q", name, f.name), "")
	}
	return in, nil
}
