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
	"sync"

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
	// put writes a file, over another one of its name, and tells how much was written.
	put(file string, content io.Reader, size int64) (int64, error)
	// rename gives a file its name. One that has the name already is replaced
	// when over says so.
	rename(from, to string, over bool) error
	remove(file string) error
	read(file string) (io.ReadCloser, error)
	// list gives files and folders of a folder, and no links.
	list(dir string, each func(Entry) error) error
	// stat looks at a file; what is none is not there.
	stat(file string) (Entry, error)
	// explain makes a fault of what went wrong: whether it passes, and how far it
	// reaches. Broken says that the line is of no further use.
	explain(err error, doing string) (f *fault.Fault, broken bool)
	close()
}

// FileWays are how files are written at a server that forbids what is usual. They are
// settings of a destination.
type FileWays struct {
	Writing string `json:"writing,omitempty" enum:"beside,direct" doc:"beside when left out: under another name first, then renamed. \"direct\" is for servers that forbid to rename: whoever looks meanwhile sees a part of the file, and one that broke off stays there" few:"y"`
	Looking string `json:"looking,omitempty" enum:"yes,no" doc:"yes when left out. \"no\" is for servers that only take: nothing is looked for or read back, so that a file is whole is their word alone, and jobs must overwrite or stamp" few:"y"`
}

// check tells what is wrong with them.
func (w FileWays) check(p Place) error {
	if w.Writing != "" && w.Writing != "beside" && w.Writing != "direct" {
		return p.wrong(fmt.Sprintf("there is no writing %q", w.Writing), "Choose beside or direct.")
	}
	if w.Looking != "" && w.Looking != "yes" && w.Looking != "no" {
		return p.wrong(fmt.Sprintf("there is no looking %q", w.Looking), "Choose yes or no.")
	}
	return nil
}

func (w FileWays) direct() bool { return w.Writing == "direct" }
func (w FileWays) blind() bool  { return w.Looking == "no" }

// treeLine hands files over to a tree: under a temporary name first, which is
// then renamed, if nothing else is said.
type treeLine struct {
	place  string // for people: sftp 127.0.0.1:22
	tree   tree
	ways   FileWays
	left   *leftovers
	made   map[string]bool // folders that are there
	broken bool
	end    func() // what else to give back
}

func newTreeLine(place string, t tree, left *leftovers, end func()) *treeLine {
	return &treeLine{place: place, tree: t, left: left, made: map[string]bool{"": true, ".": true}, end: end}
}

func (l *treeLine) Fit() bool { return !l.broken }

func (l *treeLine) Close() {
	l.tree.close()
	if l.end != nil {
		l.end()
	}
}

// leftovers are the parts of files that could not be removed, since the line broke: the next
// line does it. It may be used by several goroutines.
type leftovers struct {
	mu    sync.Mutex
	files []string
}

// maxLeft bounds how many are remembered.
const maxLeft = 1000

func (o *leftovers) add(file string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.files) < maxLeft {
		o.files = append(o.files, file)
	}
}

// take gives one, which is forgotten.
func (o *leftovers) take() (string, bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.files) == 0 {
		return "", false
	}
	last := o.files[len(o.files)-1]
	o.files = o.files[:len(o.files)-1]
	return last, true
}

// partName is what a file is called while it is written. Each try has its own, so that what
// is left of one is never taken for another's.
func partName(h Handover, try int) string {
	return path.Join(path.Dir(h.To), fmt.Sprintf(".ironbell-%d-%d.part", h.ID, try))
}

// maxTidy bounds how many parts are removed before one hand-over.
const maxTidy = 5

// tidy removes parts that broken lines left behind: of this node's, and of the try before,
// which may have been another node's.
func (l *treeLine) tidy(h Handover) {
	for range maxTidy {
		file, ok := l.left.take()
		if !ok {
			break
		}
		if err := l.tree.remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			if _, broken := l.tree.explain(err, ""); broken {
				l.left.add(file)
				return
			}
		}
	}
	if h.Try > 1 {
		_ = l.tree.remove(partName(h, h.Try-1)) // usually there is none
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
	if _, err := l.freeName(h); err != nil {
		return res, l.fault(err, doing)
	}
	if l.ways.direct() {
		return l.sendDirect(ctx, h, doing, offer)
	}
	l.tidy(h)
	temporary := partName(h, h.Try)
	if _, err := l.put(temporary, h, doing); err != nil {
		f := l.fault(err, doing)
		if l.broken || l.tree.remove(temporary) != nil {
			l.left.add(temporary)
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
			f := l.fault(err, doing)
			if !l.broken && res.Offered && f.Class == fault.Lasting {
				f.Advice = strings.TrimSpace(f.Advice +
					" If the server forbids to rename, set writing of the destination to direct; its test says what " +
					"is allowed.")
			}
			err = f
		}
		res.Answered = res.Offered && !l.broken
		if l.broken || l.tree.remove(temporary) != nil { // it is not to stay half there
			l.left.add(temporary)
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

// put writes a file and asks how much of it arrived. began tells whether any of it was
// written, when it did not.
func (l *treeLine) put(file string, h Handover, doing string) (began bool, err error) {
	wrote, err := l.tree.put(file, h.Content, h.Size)
	got := wrote
	if err == nil && !l.ways.blind() {
		got, err = l.tree.size(file)
	}
	if err == nil && got != h.Size {
		return true,
			fault.Wrap(fmt.Errorf("%d of %d bytes arrived", got, h.Size), fault.Passing, fault.Recipient, doing, "")
	}
	return wrote > 0, err
}

// sendDirect writes a file under its own name. Others see it from the first byte on, so
// that is when it is offered.
func (l *treeLine) sendDirect(ctx context.Context, h Handover, doing string,
	offer func(context.Context) error,
) (Result, error) {
	var res Result
	if h.IfExists != job.ExistsOverwrite {
		release, err := h.alone(ctx)
		if err != nil {
			return res, err
		}
		defer release()
	}
	to, err := l.freeName(h)
	if err != nil {
		return res, l.fault(err, doing)
	}
	if err := offer(ctx); err != nil {
		return res, err
	}
	res.Offered = true
	if began, err := l.put(to, h, doing); err != nil {
		f := l.fault(err, doing)
		if !l.broken {
			// Half a file is none. Where it cannot be removed, a later try writes over it or
			// beside it, as the job says. One that stood there and was not begun to be
			// written over is not ours to remove.
			if began || h.IfExists != job.ExistsOverwrite && !l.ways.blind() {
				_ = l.tree.remove(to)
			}
			res.Answered = true
		}
		return res, f
	}
	res.Answered = true
	if to != h.To {
		res.To = to
	}
	res.Answer = fmt.Sprintf("written to %s as %s, %d bytes", l.place, to, h.Size)
	return res, nil
}

// freeName finds the name that a file is to have.
func (l *treeLine) freeName(h Handover) (string, error) {
	if !l.ways.blind() || h.IfExists == job.ExistsOverwrite {
		return freeName(h, l.tree.size)
	}
	if h.IfExists == job.ExistsStamp {
		return expr.BeforeEnding(h.To, " "+h.Stamp), nil
	}
	return "",
		fault.New(fault.Recipient, "",
			"the destination looks for nothing, so nobody knows whether there is a file of the name",
			"Let the job overwrite or stamp.")
}

// nameTries bounds how often a name is chosen anew because somebody else took
// the one that was free.
const nameTries = 20

// name gives a file that was written its name, and tells which. The name is looked
// for just before, and anew when it is taken meanwhile.
func (l *treeLine) name(h Handover, temporary string, offer func() error) (string, error) {
	for try := 1; ; try++ {
		to, err := l.freeName(h)
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
	if err := l.tree.mkdir(dir); err != nil && !errors.Is(err, fs.ErrExist) && !l.ways.blind() {
		return err // where nothing is looked for, the file itself will tell
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
		return "",
			fault.New(fault.Recipient, "", fmt.Sprintf("there is a file %s already, of %d bytes", h.To, bytes),
				"Move it away, or let the job number, stamp or overwrite.")
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
	return "",
		fault.New(fault.Recipient, "", fmt.Sprintf("there are more than %d files of the name %s", maxNumber, h.To),
			"Clear the folder, or give the files another name.")
}

// CheckPath tells what is wrong with a path below a place's root. What people
// wrote was made safe before; this is the last door.
func CheckPath(p string) error {
	if p == "" || len(p) > 1000 || path.IsAbs(p) || path.Clean(p) != p || p == "." || p == ".." ||
		strings.HasPrefix(p, "../") {
		return fmt.Errorf("%q is no path below the destination", p)
	}
	for _, r := range p {
		if r < 0x20 || r == 0x7f || r == '\\' {
			return fmt.Errorf("%q holds a character that no file name may have", p)
		}
	}
	return nil
}

// testTree writes, reads back and removes a small file, and tells which of it the server
// forbids.
func testTree(ctx context.Context, l *treeLine, said []string) (Tested, error) {
	out := Tested{Said: said}
	defer context.AfterFunc(ctx, l.tree.close)()
	name := ".ironbell-test-" + strings.ToLower(rand.Text()[:8]) + ".txt"
	text := []byte("Iron Bell tests this destination.\n")
	doing := "test " + l.place
	first := name + ".part"
	if l.ways.direct() {
		first = name
	}
	h := Handover{Content: bytes.NewReader(text), Size: int64(len(text))}
	if _, err := l.put(first, h, doing); err != nil {
		f := l.fault(err, doing+": write "+first)
		if h.Content = bytes.NewReader(text); !l.broken && !l.ways.blind() && l.wrote(first, h) {
			_ = l.tree.remove(first) // whether or not it may be
			f = fault.New(fault.Destination, doing,
				fmt.Sprintf("the server took %s and does not let us look at it (%s)", first, fault.Reason(f.Cause)),
				"If it only takes files, set looking of the destination to no: that a file is whole is then the "+
					"server's word alone, and jobs must overwrite or stamp.")
		}
		return out, f
	}
	if !l.ways.direct() {
		if err := l.tree.rename(first, name, true); err != nil {
			f := l.fault(err, doing+": rename to "+name)
			if !l.broken {
				_ = l.tree.remove(first) // the fault before is the one to tell
				f = fault.New(fault.Destination, doing,
					fmt.Sprintf("the server takes files and does not let us rename them (%s)", fault.Reason(f.Cause)),
					"If it is to stay so, set writing of the destination to direct: whoever looks meanwhile then "+
						"sees a part of a file, and one that broke off stays there.")
			}
			return out, f
		}
	}
	out.Said = append(out.Said, fmt.Sprintf("wrote %s, %d bytes", name, len(text)))
	if l.ways.blind() {
		if err := l.tree.remove(name); err != nil {
			out.Said = append(out.Said, fmt.Sprintf("could not remove it (%s): it stays there", fault.Reason(err)))
		} else {
			out.Said = append(out.Said, "removed it; nothing was read back")
		}
		return out, nil
	}
	defer func() { _ = l.tree.remove(name) }() // gone already, when all went well
	in, err := l.tree.read(name)
	var back []byte
	if err == nil {
		back, err = io.ReadAll(io.LimitReader(in, int64(len(text))+1))
		if closing := in.Close(); err == nil {
			err = closing
		}
	}
	switch {
	case err != nil:
		f := l.fault(err, doing+": read "+name)
		if l.broken || f.Class == fault.Passing {
			return out, f
		}
		// Hand-overs ask for the size alone, which it tells.
		out.Said = append(out.Said, fmt.Sprintf("may not read it back (%s); its size is right", fault.Reason(f.Cause)))
	case !bytes.Equal(back, text):
		return out,
			fault.New(fault.Destination, doing,
				fmt.Sprintf("what was read back is not what was written: %d of %d bytes", len(back), len(text)),
				"Ask who keeps the server.")
	default:
		out.Said = append(out.Said, "read it back, the same")
	}
	if err := l.tree.remove(name); err != nil {
		f := l.fault(err, doing+": remove "+name)
		if l.broken || f.Class == fault.Passing {
			return out, f
		}
		// Only files that broke off are ever removed.
		out.Said = append(out.Said, fmt.Sprintf("may not remove it (%s): it stays there", fault.Reason(f.Cause)))
		return out, nil
	}
	out.Said = append(out.Said, "removed it")
	return out, nil
}

// wrote tells whether a server takes a file, whatever it tells of it later.
func (l *treeLine) wrote(file string, h Handover) bool {
	_, err := l.tree.put(file, h.Content, h.Size)
	return err == nil
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
