package deliver

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
)

// tree is a place of folders and files, reached over one line. Paths are below
// its root, with / between. It belongs to one goroutine; only close may be
// called by another, which ends whatever is under way. Errors tell
// fs.ErrNotExist and fs.ErrExist from others.
type tree interface {
	// mkdir makes one folder.
	mkdir(dir string) error
	// size is the size of a file.
	size(file string) (int64, error)
	// put writes a file, over another one of its name, and tells how much the
	// other side has of it.
	put(file string, content io.Reader, size int64) (int64, error)
	// rename gives a file its name. One that has the name already is replaced
	// when over says so.
	rename(from, to string, over bool) error
	remove(file string) error
	read(file string) (io.ReadCloser, error)
	// explain makes a fault of what went wrong: whether it passes, and how far it
	// reaches. Broken says that the line is of no further use.
	explain(err error, doing string) (f *fault.Fault, broken bool)
	close()
}

// treeLine hands files over to a tree: under a temporary name first, which is
// then renamed.
type treeLine struct {
	place  string // for people: sftp 127.0.0.1:22
	tree   tree
	made   map[string]bool // folders that are there
	broken bool
	end    func() // what else to give back
}

func newTreeLine(place string, t tree, end func()) *treeLine {
	return &treeLine{place: place, tree: t, made: map[string]bool{"": true, ".": true}, end: end}
}

func (l *treeLine) Fit() bool { return !l.broken }

func (l *treeLine) Close() {
	l.tree.close()
	if l.end != nil {
		l.end()
	}
}

// fault explains what went wrong.
func (l *treeLine) fault(err error, doing string) *fault.Fault {
	var known *fault.Fault
	if errors.As(err, &known) {
		return fault.Wrap(err, known.Class, known.Scope, doing, "")
	}
	f, broken := l.tree.explain(err, doing)
	l.broken = l.broken || broken
	return f
}

// maxNumber bounds how far names are counted up.
const maxNumber = 999

// Send implements Line.
func (l *treeLine) Send(ctx context.Context, h Handover, offer func(context.Context) error) (Result, error) {
	var res Result
	doing := fmt.Sprintf("write %s to %s", h.To, l.place)
	defer context.AfterFunc(ctx, l.tree.close)()
	if err := CheckPath(h.To); err != nil {
		return res, fault.Wrap(err, fault.Lasting, fault.Recipient, doing, "Correct the folder or the name in the job.")
	}
	dir := path.Dir(h.To)
	if err := l.folders(dir); err != nil {
		return res, l.fault(err, doing)
	}
	if _, err := freeName(h, l.tree.size); err != nil {
		return res, l.fault(err, doing)
	}
	temporary := path.Join(dir, fmt.Sprintf(".ironbell-%d.part", h.ID))
	got, err := l.tree.put(temporary, h.Content, h.Size)
	if err == nil && got != h.Size {
		err = fault.Wrap(fmt.Errorf("%d of %d bytes arrived", got, h.Size), fault.Passing, fault.Recipient, doing, "")
	}
	if err != nil {
		f := l.fault(err, doing)
		if !l.broken {
			_ = l.tree.remove(temporary) // a later try writes over it
		}
		return res, f
	}
	if h.IfExists != job.ExistsOverwrite {
		// Few servers keep two from taking the same name at once: some replace on a
		// rename whatever they are asked, others look first and then rename.
		release, err := h.alone(ctx)
		if err != nil {
			_ = l.tree.remove(temporary) // nothing was offered
			return res, err
		}
		defer release()
	}
	var notOffered error
	to, err := l.name(h, temporary, func() error {
		if notOffered = offer(ctx); notOffered == nil {
			res.Offered = true
		}
		return notOffered
	})
	if err != nil {
		if notOffered == nil {
			err = l.fault(err, doing)
		}
		res.Answered = res.Offered && !l.broken
		if !l.broken {
			_ = l.tree.remove(temporary) // it is not to stay half there
		}
		return res, err
	}
	res.Answered = true
	if to != h.To {
		res.To = to
	}
	res.Answer = fmt.Sprintf("written to %s as %s, %d bytes", l.place, to, h.Size)
	return res, nil
}

// nameTries bounds how often a name is chosen anew because somebody else took
// the one that was free.
const nameTries = 20

// name gives a file that was written its name, and tells which. The name is looked
// for just before, and anew when it is taken meanwhile.
func (l *treeLine) name(h Handover, temporary string, offer func() error) (string, error) {
	for try := 1; ; try++ {
		to, err := freeName(h, l.tree.size)
		if err == nil {
			err = offer()
		}
		if err != nil {
			return "", err
		}
		if err = l.tree.rename(temporary, to, h.IfExists == job.ExistsOverwrite); err == nil {
			return to, nil
		}
		if h.IfExists == job.ExistsOverwrite || try == nameTries || !l.taken(err, temporary, to) {
			return "", err
		}
	}
}

// taken tells whether a file could not have its name because there is another one
// of it: not all protocols have a word for that.
func (l *treeLine) taken(err error, temporary, to string) bool {
	if errors.Is(err, fs.ErrExist) {
		return true
	}
	if _, err := l.tree.size(temporary); err != nil {
		return false
	}
	_, err = l.tree.size(to)
	return err == nil
}

// folders makes the folders that a file lies in, as far as they are not there.
func (l *treeLine) folders(dir string) error {
	if l.made[dir] {
		return nil
	}
	if err := l.folders(path.Dir(dir)); err != nil {
		return err
	}
	if err := l.tree.mkdir(dir); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	const most = 10_000
	if len(l.made) > most {
		l.made = map[string]bool{"": true, ".": true}
	}
	l.made[dir] = true
	return nil
}

// freeName finds the name that a file is to have, looking with size.
func freeName(h Handover, size func(string) (int64, error)) (string, error) {
	if h.IfExists == job.ExistsOverwrite {
		return h.To, nil
	}
	bytes, err := size(h.To)
	if errors.Is(err, fs.ErrNotExist) {
		return h.To, nil
	}
	if err != nil {
		return "", err
	}
	if h.IfExists == job.ExistsRefuse {
		return "", fault.New(fault.Recipient, "", fmt.Sprintf("there is a file %s already, of %d bytes", h.To, bytes), "Move it away, or let the job number, stamp or overwrite.")
	}
	base := h.To
	if h.IfExists == job.ExistsStamp {
		base = expr.BeforeEnding(h.To, " "+h.Stamp)
	}
	for n := 1; n <= maxNumber; n++ {
		name := base
		if n > 1 {
			name = expr.BeforeEnding(base, fmt.Sprintf(" (%d)", n))
		}
		if name == h.To {
			continue
		}
		if _, err := size(name); errors.Is(err, fs.ErrNotExist) {
			return name, nil
		} else if err != nil {
			return "", err
		}
	}
	return "", fault.New(fault.Recipient, "", fmt.Sprintf("there are more than %d files of the name %s", maxNumber, h.To), "Clear the folder, or give the files another name.")
}

// CheckPath tells what is wrong with a path below a place's root. What people
// wrote was made safe before; this is the last door.
func CheckPath(p string) error {
	if p == "" || len(p) > 1000 || path.IsAbs(p) || path.Clean(p) != p || p == "." || p == ".." || strings.HasPrefix(p, "../") {
		return fmt.Errorf("%q is no path below the destination", p)
	}
	for _, r := range p {
		if r < 0x20 || r == 0x7f || r == '\\' {
			return fmt.Errorf("%q holds a character that no file name may have", p)
		}
	}
	return nil
}

// testTree writes, reads back and removes a small file.
func testTree(ctx context.Context, l *treeLine, said []string) (Tested, error) {
	out := Tested{Said: said}
	defer context.AfterFunc(ctx, l.tree.close)()
	name := ".ironbell-test-" + strings.ToLower(rand.Text()[:8]) + ".txt"
	text := []byte("Iron Bell tests this destination.\n")
	doing := "test " + l.place
	got, err := l.tree.put(name+".part", bytes.NewReader(text), int64(len(text)))
	if err != nil {
		return out, l.fault(err, doing+": write "+name)
	}
	out.Said = append(out.Said, fmt.Sprintf("wrote %s, %d bytes", name, got))
	if err := l.tree.rename(name+".part", name, true); err != nil {
		_ = l.tree.remove(name + ".part") // the fault before is the one to tell
		return out, l.fault(err, doing+": rename to "+name)
	}
	defer func() { _ = l.tree.remove(name) }() // gone already, when all went well
	in, err := l.tree.read(name)
	if err != nil {
		return out, l.fault(err, doing+": read "+name)
	}
	back, err := io.ReadAll(io.LimitReader(in, int64(len(text))+1))
	if closing := in.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return out, l.fault(err, doing+": read "+name)
	}
	if !bytes.Equal(back, text) {
		return out, fault.New(fault.Destination, doing, fmt.Sprintf("what was read back is not what was written: %d of %d bytes", len(back), len(text)), "Ask who keeps the server.")
	}
	if err := l.tree.remove(name); err != nil {
		return out, l.fault(err, doing+": remove "+name)
	}
	out.Said = append(out.Said, "read it back, the same", "removed it")
	return out, nil
}

// offering is content whose last bytes leave only after the offer: whoever reads
// it to its end has been offered it.
type offering struct {
	ctx   context.Context //nolint:containedctx // it lives as long as one hand-over
	from  io.Reader
	left  int64
	offer func(context.Context) error
	err   error // why the offer failed
	done  bool
}

// Read implements io.Reader.
func (o *offering) Read(p []byte) (int, error) {
	if o.err != nil {
		return 0, o.err
	}
	if o.left <= int64(len(p)) && !o.done {
		if o.left > 1 && len(p) > 1 {
			// All but the last byte goes first, so that the offer is as late as can be.
			p = p[:o.left-1]
		} else {
			if o.err = o.offer(o.ctx); o.err != nil {
				return 0, o.err
			}
			o.done = true
		}
	}
	n, err := o.from.Read(p)
	o.left -= int64(n)
	return n, err
}
