package watcher

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/store/rings"

	"github.com/fsnotify/fsnotify"
)

// Folders of this machine tell by themselves when something changes in them, so that they need be looked at
// rarely. What they tell only hastens a look: nothing depends on it, since network folders tell nothing, and
// any folder forgets what it cannot tell fast enough.

const (
	heardEvery   = 10 * time.Minute       // between two looks at folders that tell
	heardRefresh = 15 * time.Second       // between two looks at which watches there are
	heardGather  = 100 * time.Millisecond // that notices are gathered
	mostFolders  = 20_000                 // that are listened to
)

// hearing is which watches are listened for on this node. It may be used by several goroutines.
type hearing struct {
	mu  sync.Mutex
	all map[int64]bool
}

// hear tells whether a watch is listened for.
func (h *hearing) hear(watch int64) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.all[watch]
}

func (h *hearing) set(all map[int64]bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all = all
}

// hear listens to the folders of this machine until ctx ends.
func (w *Watcher) hear(ctx context.Context) {
	ears, err := fsnotify.NewWatcher()
	if err != nil {
		w.node.Log.Warn("folders of this machine do not tell when something changes in them; they are looked at instead",
			"error", err)
		return
	}
	defer func() { _ = ears.Close() }()
	folders := map[string][]int64{} // the watches that a folder concerns
	refresh := time.NewTimer(0)
	defer refresh.Stop()
	changed := map[int64]bool{}
	var known listing
	var gathered <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-refresh.C:
			folders = w.listenTo(ctx, ears, folders, w.listWatches(ctx, &known))
			refresh.Reset(heardRefresh)
		case e, ok := <-ears.Events:
			if !ok {
				return
			}
			for _, id := range folders[filepath.Dir(e.Name)] {
				changed[id] = true
			}
			for _, id := range folders[e.Name] {
				changed[id] = true
			}
			if e.Has(fsnotify.Create) {
				if i, err := os.Lstat(e.Name); err == nil && i.IsDir() {
					refresh.Reset(0) // it may be one of those that are meant
				}
			}
			if gathered == nil && len(changed) > 0 {
				gathered = time.After(heardGather)
			}
		case _, ok := <-ears.Errors:
			if !ok {
				return
			}
			for _, ids := range folders { // some notices were lost: all may have changed
				for _, id := range ids {
					changed[id] = true
				}
			}
			if gathered == nil {
				gathered = time.After(time.Second)
			}
		case <-gathered:
			gathered = nil
			ids := make([]int64, 0, len(changed))
			for id := range changed {
				ids = append(ids, id)
			}
			clear(changed)
			if err := w.store.Hasten(ctx, ids); err != nil {
				w.node.Failed(ctx, "look at once", err)
			}
			w.node.Look.Wake()
		}
	}
}

// listing are the watches as they were read last.
type listing struct {
	stamp   string
	at      time.Time
	watches []rings.WatchedPlace
}

// listWatches reads the watches again when there are others.
func (w *Watcher) listWatches(ctx context.Context, known *listing) []rings.WatchedPlace {
	const longest = 5 * time.Minute // destinations change, too
	stamp, err := w.store.WatchesStamp(ctx)
	if err != nil || stamp == known.stamp && time.Since(known.at) < longest {
		return known.watches // if it is the database that is away, it is tried again
	}
	watches, err := w.store.FileWatches(ctx)
	if err == nil {
		*known = listing{stamp, time.Now(), watches}
	}
	return known.watches
}

// listenTo listens to the folders of all watches on files of this machine, and to no others.
func (w *Watcher) listenTo(ctx context.Context, ears *fsnotify.Watcher, had map[string][]int64,
	watches []rings.WatchedPlace,
) map[string][]int64 {
	roots := map[int64]string{}
	folders, heard := map[string][]int64{}, map[int64]bool{}
	for _, one := range watches {
		root, known := roots[one.PlaceID]
		if !known {
			if d, err := w.destinations.ByID(ctx, one.PlaceID); err == nil {
				root, _ = deliver.RootOf(d)
			}
			roots[one.PlaceID] = root
		}
		if root == "" {
			continue
		}
		all := true
		for _, dir := range foldersOf(root, one.Spec.V.Files) {
			// Also those that are listened to: a folder that was away meanwhile is another one.
			if folders[dir] == nil && (len(folders) >= mostFolders || ears.Add(dir) != nil) {
				all = false
				continue
			}
			folders[dir] = append(folders[dir], one.ID)
		}
		if all && tellsOfOthers(root) {
			heard[one.ID] = true
		}
	}
	var fresh []int64
	for dir := range had {
		if folders[dir] == nil {
			_ = ears.Remove(dir) // it is listened to no more, or is gone
		}
	}
	for id := range heard {
		if !w.hears.hear(id) {
			fresh = append(fresh, id) // what changed before it was listened to
		}
	}
	w.hears.set(heard)
	if len(fresh) > 0 {
		if err := w.store.Hasten(ctx, fresh); err != nil {
			w.node.Failed(ctx, "look at once", err)
		}
		w.node.Look.Wake()
	}
	return folders
}

// foldersOf are the folders in which the files lie that a pattern means. Those that are not there yet are
// told by the one above.
func foldersOf(root string, spec job.FileWatch) (all []string) {
	base := filepath.Join(root, filepath.FromSlash(spec.Base()))
	for {
		if i, err := os.Stat(base); err == nil && i.IsDir() {
			break
		}
		if base == root || len(base) <= len(root) {
			return nil
		}
		base = filepath.Dir(base)
	}
	if !spec.Deep() {
		return []string{base}
	}
	const most = 5000 // of one pattern
	_ = filepath.WalkDir(base, func(p string, d fs.DirEntry, err error) error {
		switch {
		case err != nil && d != nil && d.IsDir():
			return fs.SkipDir
		case err != nil:
			return nil //nolint:nilerr // it is gone, or not ours to read; others are
		case len(all) >= most:
			return fs.SkipAll
		case d.IsDir() && strings.Count(strings.TrimPrefix(p, base), string(filepath.Separator)) > deliver.MostDepth:
			return fs.SkipDir
		case d.IsDir():
			all = append(all, p)
		}
		return nil
	})
	return all
}

// networks are the kinds of file systems that tell only what this machine itself does (statfs(2)).
var networks = []int64{
	0x6969,                 // NFS
	0x517b,                 // SMB
	0xff534d42, 0xfe534d42, // CIFS, SMB 2
	0x65735546, // FUSE
	0x01021997, // 9P
	0x00c36400, // Ceph
	0x5346414f, // AFS
}

// tellsOfOthers tells whether a folder tells of what other machines write into it: not when it lies on one of
// theirs.
func tellsOfOthers(folder string) bool {
	var s syscall.Statfs_t
	return syscall.Statfs(folder, &s) == nil && !slices.Contains(networks, s.Type)
}
