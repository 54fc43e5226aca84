package deliver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/textproto"
	"path"
	"strings"
	"time"

	"ironbell/internal/core/fault"

	"github.com/jlaffaye/ftp"
	"github.com/minio/minio-go/v7"
)

// FileTaking is what jobs may do with the files that lie at a destination. It is a setting.
type FileTaking struct {
	Taking Taking `json:"taking,omitempty" enum:"no,copy,move" doc:"what jobs may do with the files that lie there: \"copy\" lets them wait for files and collect copies, \"move\" lets them move and remove files, too; no when left out" few:"y"`
}

// Taking is what jobs may do with the files of a place.
type Taking string

// What they may do.
const (
	TakingNo   Taking = "no"
	TakingCopy Taking = "copy"
	TakingMove Taking = "move"
)

func (f FileTaking) taking() Taking {
	if f.Taking == "" {
		return TakingNo
	}
	return f.Taking
}

// Entry is a file or a folder as it was found.
type Entry struct {
	Path    string // below the root of the place, with / between
	Size    int64
	Changed time.Time
	Folder  bool
}

// Looker is a destination at whose files can be looked.
type Looker interface {
	// Taking tells what its settings let jobs do.
	Taking() Taking
	// Look opens a line, which lives until ctx ends or it is closed.
	Look(ctx context.Context) (Look, error)
}

// Folder is a destination whose files lie on this machine.
type Folder interface{ Root() string }

// Look is an open line to look at files. It belongs to one goroutine. Errors are faults; that something
// is not there can be told by fs.ErrNotExist.
type Look interface {
	// List gives what lies in a folder, in no order. Links and what is neither file nor folder is left out.
	List(dir string, each func(Entry) error) error
	// Stat looks at one file.
	Stat(file string) (Entry, error)
	Open(file string) (io.ReadCloser, error)
	// Move gives a file another name; folders on its way are made. One that has the name already is not replaced.
	Move(from, to string) error
	Remove(file string) error
	// Free tells whether nobody holds a file open, as some servers know it: whether it can be given the name
	// that it has. Where nothing can be told it is.
	Free(file string) (bool, error)
	Close()
}

// LookerOf gives the looker of a destination; ok is false when nothing can be looked at there.
func LookerOf(d Destination) (l Looker, ok bool) {
	if h, is := d.(*hushed); is {
		inner, can := h.d.(Looker)
		return hushedLooker{h, inner}, can
	}
	l, ok = d.(Looker)
	return l, ok
}

// RootOf gives the folder of a destination that lies on this machine.
func RootOf(d Destination) (string, bool) {
	f, ok := d.(Folder)
	if !ok {
		return "", false
	}
	return f.Root(), true
}

type hushedLooker struct {
	*hushed
	inner Looker
}

func (h hushedLooker) Taking() Taking { return h.inner.Taking() }

func (h hushedLooker) Look(ctx context.Context) (Look, error) {
	l, err := h.inner.Look(ctx)
	if err != nil {
		return nil, h.blot.Err(err)
	}
	return &hushedLook{l, h.blot}, nil
}

type hushedLook struct {
	Look
	blot fault.Blotter
}

func (l *hushedLook) List(dir string, each func(Entry) error) error {
	return l.blot.Err(l.Look.List(dir, each))
}

func (l *hushedLook) Stat(file string) (Entry, error) {
	e, err := l.Look.Stat(file)
	return e, l.blot.Err(err)
}

func (l *hushedLook) Open(file string) (io.ReadCloser, error) {
	in, err := l.Look.Open(file)
	return in, l.blot.Err(err)
}

func (l *hushedLook) Move(from, to string) error { return l.blot.Err(l.Look.Move(from, to)) }
func (l *hushedLook) Remove(file string) error   { return l.blot.Err(l.Look.Remove(file)) }

func (l *hushedLook) Free(file string) (bool, error) {
	free, err := l.Look.Free(file)
	return free, l.blot.Err(err)
}

// treeLook looks at a tree.
type treeLook struct {
	*treeLine
	forget func() bool
}

// lookAt makes a look of a line that was opened.
func lookAt(ctx context.Context, l *treeLine, err error) (Look, error) {
	if err != nil {
		return nil, err
	}
	return &treeLook{l, context.AfterFunc(ctx, l.tree.close)}, nil
}

func (s *sftpPlace) Look(ctx context.Context) (Look, error) {
	l, _, err := s.open(ctx, false)
	return lookAt(ctx, l, err)
}

func (f *ftpPlace) Look(ctx context.Context) (Look, error) {
	l, _, err := f.open(ctx)
	return lookAt(ctx, l, err)
}

func (s *smbPlace) Look(ctx context.Context) (Look, error) {
	l, _, err := s.open(ctx)
	return lookAt(ctx, l, err)
}

func (w *webdavPlace) Look(ctx context.Context) (Look, error) { return lookAt(ctx, w.open(ctx), nil) }

func (f *folderPlace) Look(ctx context.Context) (Look, error) {
	l, err := f.open()
	return lookAt(ctx, l, err)
}

// Root implements Folder.
func (f *folderPlace) Root() string { return f.folder }

func (s *sftpPlace) Taking() Taking   { return s.settings.taking() }
func (f *ftpPlace) Taking() Taking    { return f.settings.taking() }
func (s *smbPlace) Taking() Taking    { return s.settings.taking() }
func (w *webdavPlace) Taking() Taking { return w.settings.taking() }
func (f *folderPlace) Taking() Taking { return f.take }
func (o *objectPlace) Taking() Taking { return o.settings.taking() }

func (l *treeLook) Close() {
	l.forget()
	l.treeLine.Close()
}

// lookFault is a fault that keeps whether something was not there.
func (l *treeLook) lookFault(err error, doing string) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, fs.ErrNotExist) {
		return fault.Wrap(err, fault.Passing, fault.Recipient, doing, "Make it, or correct its name.")
	}
	return l.fault(err, doing)
}

func (l *treeLook) List(dir string, each func(Entry) error) error {
	var own error
	err := l.tree.list(dir, func(e Entry) error {
		own = each(e)
		return own
	})
	if own != nil {
		return own
	}
	return l.lookFault(err, fmt.Sprintf("look into the folder %s of %s", orRoot(dir), l.place))
}

func orRoot(dir string) string {
	if dir == "" || dir == "." {
		return "/"
	}
	return dir
}

func (l *treeLook) Stat(file string) (Entry, error) {
	e, err := l.tree.stat(file)
	return e, l.lookFault(err, fmt.Sprintf("look at %s of %s", file, l.place))
}

func (l *treeLook) Open(file string) (io.ReadCloser, error) {
	in, err := l.tree.read(file)
	return in, l.lookFault(err, fmt.Sprintf("read %s of %s", file, l.place))
}

func (l *treeLook) Move(from, to string) error {
	doing := fmt.Sprintf("move %s of %s to %s", from, l.place, to)
	// Many servers replace whatever has the name.
	if _, err := l.tree.size(to); err == nil {
		return fault.Wrap(fs.ErrExist, fault.Lasting, fault.Recipient, doing, "")
	}
	if err := l.folders(path.Dir(to)); err != nil {
		return l.lookFault(err, doing)
	}
	return l.lookFault(l.tree.rename(from, to, false), doing)
}

func (l *treeLook) Remove(file string) error {
	return l.lookFault(l.tree.remove(file), fmt.Sprintf("remove %s of %s", file, l.place))
}

func (l *treeLook) Free(file string) (bool, error) {
	if _, webdav := l.tree.(*webdavTree); webdav {
		return true, nil // it takes a name that a file has for another file's (RFC 4918 section 9.9.4)
	}
	if err := l.tree.rename(file, file, true); err != nil {
		if _, broken := l.tree.explain(err, ""); broken {
			return false, l.fault(err, fmt.Sprintf("see whether %s of %s can be renamed", file, l.place))
		}
		return false, nil
	}
	return true, nil
}

// infos gives what a server listed at once.
func infos[I fs.FileInfo](dir string, all []I, err error, each func(Entry) error) error {
	if err != nil {
		return err
	}
	for _, i := range all {
		if err := info(dir, i, each); err != nil {
			return err
		}
	}
	return nil
}

func info(dir string, i fs.FileInfo, each func(Entry) error) error {
	if !i.Mode().IsRegular() && !i.IsDir() {
		return nil
	}
	return each(Entry{Path: path.Join(dir, i.Name()), Size: i.Size(), Changed: i.ModTime(), Folder: i.IsDir()})
}

func entryOf(file string, i fs.FileInfo, err error) (Entry, error) {
	if err != nil {
		return Entry{}, err
	}
	if !i.Mode().IsRegular() {
		return Entry{}, fs.ErrNotExist // a folder or a link is no file
	}
	return Entry{Path: file, Size: i.Size(), Changed: i.ModTime()}, nil
}

func (t *sftpTree) list(dir string, each func(Entry) error) error {
	all, err := t.client.ReadDir(t.at(dir))
	return infos(dir, all, err, each)
}

func (t *sftpTree) stat(file string) (Entry, error) {
	i, err := t.client.Lstat(t.at(file))
	return entryOf(file, i, err)
}

func (t *smbTree) list(dir string, each func(Entry) error) error {
	all, err := t.share.ReadDir(t.at(dir))
	return infos(dir, all, err, each)
}

func (t *smbTree) stat(file string) (Entry, error) {
	i, err := t.share.Lstat(t.at(file))
	return entryOf(file, i, err)
}

func (t *webdavTree) list(dir string, each func(Entry) error) error {
	all, err := t.client.ReadDir(dir)
	return infos(dir, all, known(err), each)
}

func (t *webdavTree) stat(file string) (Entry, error) {
	i, err := t.client.Stat(file)
	return entryOf(file, i, known(err))
}

// listed is how many entries of a folder are read at once.
const listed = 1000

func (t *folderTree) list(dir string, each func(Entry) error) error {
	if dir == "" {
		dir = "."
	}
	folder, err := t.root.Open(dir)
	if err != nil {
		return err
	}
	defer func() { _ = folder.Close() }() // only read from
	for {
		entries, err := folder.ReadDir(listed)
		for _, e := range entries {
			if !e.Type().IsRegular() && !e.IsDir() {
				continue
			}
			i, err := e.Info()
			if errors.Is(err, fs.ErrNotExist) {
				continue // gone meanwhile
			}
			if err != nil {
				return err
			}
			if err := info(dir, i, each); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func (t *folderTree) stat(file string) (Entry, error) {
	i, err := t.root.Lstat(file)
	return entryOf(file, i, err)
}

func (t *ftpTree) list(dir string, each func(Entry) error) error {
	all, err := t.conn.List(t.at(dir))
	var said *textproto.Error
	if errors.As(err, &said) && said.Code == ftp.StatusFileUnavailable {
		return fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	}
	if err != nil {
		return ftpSaid(err)
	}
	if len(all) == 0 {
		// Many servers list nothing of a folder that is not there.
		if err := t.there(dir); err != nil {
			return err
		}
	}
	for _, e := range all {
		if e.Type == ftp.EntryTypeLink || e.Name == "." || e.Name == ".." {
			continue
		}
		size := int64(min(e.Size, 1<<62))
		if err := each(Entry{
			Path: path.Join(dir, e.Name), Size: size, Changed: e.Time, Folder: e.Type == ftp.EntryTypeFolder,
		}); err != nil {
			return err
		}
	}
	return nil
}

// there tells whether a folder is there; the line works in the folder that it worked in before.
func (t *ftpTree) there(dir string) error {
	was, err := t.conn.CurrentDir()
	if err != nil {
		return ftpSaid(err)
	}
	if err := t.conn.ChangeDir(t.at(dir)); err != nil {
		return fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	}
	return ftpSaid(t.conn.ChangeDir(was))
}

func (t *ftpTree) stat(file string) (Entry, error) {
	found := Entry{}
	err := t.list(strings.TrimSuffix(path.Dir(file), "."), func(e Entry) error {
		if path.Base(e.Path) == path.Base(file) && !e.Folder {
			found = e
			found.Path = file
		}
		return nil
	})
	if err == nil && found.Path == "" {
		err = fs.ErrNotExist
	}
	return found, err
}

// objectLook looks at the objects of a bucket, whose names are taken for paths.
type objectLook struct {
	*objectLine
	ctx context.Context //nolint:containedctx // a line that lives until it ends
}

func (o *objectPlace) Look(ctx context.Context) (Look, error) {
	l, err := o.client()
	if err != nil {
		return nil, err
	}
	return &objectLook{l, ctx}, nil
}

func (l *objectLook) bucket() string { return l.place.settings.Bucket }

func (l *objectLook) fault(err error, doing string) error {
	if err == nil {
		return nil
	}
	f := l.explain(err, doing)
	if minio.ToErrorResponse(err).StatusCode == 404 && minio.ToErrorResponse(err).Code != "NoSuchBucket" {
		return fault.Wrap(fmt.Errorf("%w: %w", fs.ErrNotExist, err), fault.Passing, fault.Recipient, doing, "")
	}
	return f
}

func (l *objectLook) List(dir string, each func(Entry) error) error {
	prefix := l.key(dir)
	if prefix != "" {
		prefix += "/"
	}
	// Else what is left of the list would be asked for, for nobody.
	ctx, end := context.WithCancel(l.ctx)
	defer end()
	for o := range l.client.ListObjects(ctx, l.bucket(), minio.ListObjectsOptions{Prefix: prefix}) {
		if o.Err != nil {
			return l.fault(o.Err, fmt.Sprintf("look into %s of %s", orRoot(dir), l.where()))
		}
		name := strings.TrimPrefix(o.Key, prefix)
		folder := strings.HasSuffix(name, "/")
		if name = strings.TrimSuffix(name, "/"); name == "" || CheckPath(name) != nil {
			continue // the mark of the folder itself, or no path
		}
		if err := each(Entry{
			Path: path.Join(dir, name), Size: o.Size, Changed: o.LastModified, Folder: folder,
		}); err != nil {
			return err
		}
	}
	return nil
}

func (l *objectLook) Stat(file string) (Entry, error) {
	i, err := l.client.StatObject(l.ctx, l.bucket(), l.key(file), minio.StatObjectOptions{})
	if err != nil {
		return Entry{}, l.fault(err, fmt.Sprintf("look at %s of %s", file, l.where()))
	}
	return Entry{Path: file, Size: i.Size, Changed: i.LastModified}, nil
}

func (l *objectLook) Open(file string) (io.ReadCloser, error) {
	o, err := l.client.GetObject(l.ctx, l.bucket(), l.key(file), minio.GetObjectOptions{})
	if err != nil {
		return nil, l.fault(err, fmt.Sprintf("read %s of %s", file, l.where()))
	}
	return o, nil
}

// Move copies and removes: a store of objects has no names to give.
func (l *objectLook) Move(from, to string) error {
	doing := fmt.Sprintf("move %s of %s to %s", from, l.where(), to)
	if _, err := l.size(l.ctx, to); err == nil {
		return fault.Wrap(fs.ErrExist, fault.Lasting, fault.Recipient, doing, "")
	}
	_, err := l.client.CopyObject(l.ctx, minio.CopyDestOptions{Bucket: l.bucket(), Object: l.key(to)},
		minio.CopySrcOptions{Bucket: l.bucket(), Object: l.key(from)})
	if err != nil {
		return l.fault(err, doing)
	}
	return l.Remove(from)
}

func (l *objectLook) Remove(file string) error {
	return l.fault(l.client.RemoveObject(l.ctx, l.bucket(), l.key(file), minio.RemoveObjectOptions{}),
		fmt.Sprintf("remove %s of %s", file, l.where()))
}

// Free is always so: an object is there when it is whole.
func (l *objectLook) Free(string) (bool, error) { return true, nil }
