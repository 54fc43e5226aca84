package watcher

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/crash"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
)

const (
	rowsIn = 1000 // files that are noted in one statement
)

// saw is what a look at files leaves for the next one.
type saw struct {
	Print string    `json:"print"` // of all that was found
	Young time.Time `json:"young"` // when the next of those that may still be written can be whole; zero without any
}

// found is what a look finds: the files that a watch means, and the marks that stand beside them.
type found struct {
	files   []deliver.Entry
	markers map[string]bool
}

// files looks at the files of one watch. Nothing is kept of a folder in which nothing changed.
func (w *Watcher) files(ctx context.Context, look deliver.Look, one rings.Watching) error {
	spec := one.Spec.V.Files
	var before saw
	if one.Mark != nil {
		if err := unmarshal(*one.Mark, &before); err != nil {
			return err
		}
		if before.Young.IsZero() || w.node.Now().Before(before.Young) {
			p, odd, err := printOf(look, spec)
			if err != nil {
				return err
			}
			if p == before.Print {
				return w.endFiles(ctx, one, before, odd.Note())
			}
		}
	}
	p := &print{}
	f := found{markers: map[string]bool{}}
	odd, err := walk(look, spec, func(e deliver.Entry, marker bool) error {
		p.add(e)
		if marker {
			f.markers[e.Path] = true
		} else {
			f.files = append(f.files, e)
		}
		return nil
	})
	if err != nil {
		return err
	}
	slices.SortFunc(f.files, func(a, b deliver.Entry) int { return strings.Compare(a.Path, b.Path) })
	c := &compare{w: w, ctx: ctx, look: look, one: one, spec: spec, found: f, now: w.node.Now()}
	if p, err := w.store.PlaceByID(ctx, records.Destination, one.PlaceID); err == nil {
		c.place, c.local = p.Name, p.Protocol == "folder"
	}
	if err := c.merge(); err != nil {
		return err
	}
	return w.endFiles(ctx, one, saw{Print: p.text(), Young: c.young}, odd.Note())
}

// endFiles ends a look, and says when the next one is to be.
func (w *Watcher) endFiles(ctx context.Context, one rings.Watching, s saw, note string) error {
	next := every(one)
	if w.hears.hear(one.ID) {
		next = max(next, heardEvery)
	}
	if !s.Young.IsZero() {
		next = min(next, max(s.Young.Sub(w.node.Now()), 200*time.Millisecond))
	}
	return w.store.Do(ctx, func(t *store.Tx) error { return w.seen(ctx, t, one, s, next, note) })
}

// print is a fingerprint of files in any order.
type print struct{ sum, mix, n uint64 }

// add adds a file. Two sums of 64 bits each: no order, and no two that cancel each other out by chance.
func (p *print) add(e deliver.Entry) {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%d\x00%d", e.Path, e.Size, e.Changed.UnixNano()))
	for i := range 8 {
		p.sum += uint64(sum[i]) << (8 * i)
		p.mix += uint64(sum[i+8]) << (8 * i)
	}
	p.n++
}

func (p *print) text() string { return fmt.Sprintf("%d-%x-%x", p.n, p.sum, p.mix) }

// printOf is the fingerprint of what a watch means now.
func printOf(look deliver.Look, spec job.FileWatch) (string, deliver.Odd, error) {
	p := &print{}
	odd, err := walk(look, spec, func(e deliver.Entry, _ bool) error {
		p.add(e)
		return nil
	})
	return p.text(), odd, err
}

// walk gives the files that a watch means, and the marks.
func walk(look deliver.Look, spec job.FileWatch, each func(e deliver.Entry, marker bool) error) (deliver.Odd, error) {
	marks := func(string) bool { return false }
	if spec.Complete == job.CompleteMarker {
		marks = func(file string) bool { return isMarker(spec, file) }
	}
	return deliver.Find(look, spec.Pattern, marks, each)
}

func isMarker(spec job.FileWatch, file string) bool {
	if strings.HasPrefix(spec.Marker, ".") {
		return strings.HasSuffix(file, spec.Marker)
	}
	return path.Base(file) == spec.Marker
}

// compare holds what is there against what was seen before.
type compare struct {
	w     *Watcher
	ctx   context.Context //nolint:containedctx // it lives as long as one look
	look  deliver.Look
	one   rings.Watching
	spec  job.FileWatch
	place string // name of the destination
	local bool   // on this machine, by whose clock files are dated
	found found
	now   time.Time
	young time.Time // when the next file may be whole

	rows   []rings.FileSeen // to be noted
	events []job.Event      // of them
	gone   []string         // to be forgotten
	sums   map[string]bool  // contents of this look
}

// merge goes through both in the order of their paths.
func (c *compare) merge() error {
	var page []rings.FileSeen
	after, more := "", true
	next := func() (*rings.FileSeen, error) {
		if len(page) == 0 && more {
			var err error
			if page, err = c.w.store.FilesSeen(c.ctx, c.one.ID, after, 5*rowsIn); err != nil {
				return nil, err
			}
			if more = len(page) == 5*rowsIn; len(page) > 0 {
				after = page[len(page)-1].Path
			}
		}
		if len(page) == 0 {
			return nil, nil //nolint:nilnil // there are no more
		}
		return &page[0], nil
	}
	files := c.found.files
	for {
		had, err := next()
		if err != nil {
			return err
		}
		switch {
		case had == nil && len(files) == 0:
			return c.write()
		case len(files) == 0 || had != nil && had.Path < files[0].Path:
			c.isGone(*had)
			page = page[1:]
		case had == nil || files[0].Path < had.Path:
			err = c.isNew(files[0], false)
			files = files[1:]
		default:
			err = c.isThere(files[0], *had)
			files, page = files[1:], page[1:]
		}
		if err == nil && (len(c.rows) >= rowsIn || len(c.gone) >= rowsIn || len(c.events) >= eventsIn) {
			err = c.write()
		}
		if err != nil {
			return err
		}
	}
}

// micro is an instant as our database keeps it.
func micro(t time.Time) time.Time { return t.UTC().Truncate(time.Microsecond) }

func (c *compare) isNew(e deliver.Entry, was bool) error {
	row := rings.FileSeen{Path: e.Path, Size: e.Size, Changed: micro(e.Changed), Young: true, Was: was, Since: c.now}
	if c.one.Mark == nil || c.spec.Happens == job.FileGone {
		row.Young = false // what was there before anybody waited for it
		c.rows = append(c.rows, row)
		return nil
	}
	return c.perhapsWhole(row, false)
}

func (c *compare) isThere(e deliver.Entry, had rings.FileSeen) error {
	if had.Size != e.Size || !micro(had.Changed).Equal(micro(e.Changed)) {
		return c.isNew(e, had.Was || !had.Young)
	}
	if !had.Young {
		return nil
	}
	return c.perhapsWhole(had, true)
}

func (c *compare) isGone(had rings.FileSeen) {
	c.gone = append(c.gone, had.Path)
	if c.spec.Happens == job.FileGone {
		c.events = append(c.events, c.event(had, job.EventFileGone))
	}
}

// perhapsWhole takes a file when it is whole, and otherwise lets it wait.
func (c *compare) perhapsWhole(row rings.FileSeen, noted bool) error {
	whole, at, err := c.isWhole(row)
	if err != nil {
		return err
	}
	if !whole {
		if c.young.IsZero() || at.Before(c.young) {
			c.young = at
		}
		if !noted {
			c.rows = append(c.rows, row)
		}
		return nil
	}
	if c.spec.SameContent == job.SamePassOver {
		known, still, err := c.sum(&row)
		if err != nil || !still {
			return err // it changed while it was read: the next look sees it
		}
		if known {
			row.Young = false
			c.rows = append(c.rows, row)
			return nil
		}
	}
	row.Young = false
	c.rows = append(c.rows, row)
	c.events = append(c.events, c.event(row, job.EventFileArrived))
	return nil
}

// isWhole tells whether a file is whole, or when to look again.
func (c *compare) isWhole(row rings.FileSeen) (whole bool, at time.Time, err error) {
	switch c.spec.Complete {
	case job.CompleteMarker:
		return c.found.markers[c.spec.MarkerOf(row.Path)], c.now.Add(every(c.one)), nil
	case job.CompleteFree:
		free, err := c.look.Free(row.Path)
		return free, c.now.Add(min(every(c.one), 10*time.Second)), err
	}
	since := row.Since
	if c.local && row.Changed.Before(since) {
		since = row.Changed
	}
	at = since.Add(time.Duration(c.spec.Unchanged))
	return !at.After(c.now), at, nil
}

// sum reads a file and tells whether one of equal content was taken before; still says whether it is the
// same after it was read.
func (c *compare) sum(row *rings.FileSeen) (known, still bool, err error) {
	in, err := c.look.Open(row.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, false, nil
	}
	if err != nil {
		return false, false, err
	}
	hash := sha256.New()
	_, err = io.Copy(hash, in)
	_ = in.Close() // only read from
	if err != nil {
		return false, false, fault.Wrap(err, fault.Passing, fault.Recipient, "read "+row.Path, "")
	}
	now, err := c.look.Stat(row.Path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, false, err
	}
	if err != nil || now.Size != row.Size || !micro(now.Changed).Equal(micro(row.Changed)) {
		return false, false, nil //nolint:nilerr // that it is gone is no error
	}
	row.Sum = hex.EncodeToString(hash.Sum(nil))
	if c.sums == nil {
		c.sums = map[string]bool{}
	}
	if c.sums[row.Sum] {
		return true, true, nil
	}
	c.sums[row.Sum] = true
	had, err := c.w.store.SumsSeen(c.ctx, c.one.ID, []string{row.Sum})
	return had[row.Sum], true, err
}

func (c *compare) event(row rings.FileSeen, kind string) job.Event {
	folder := path.Dir(row.Path)
	if folder == "." {
		folder = ""
	}
	facts := map[string]any{
		"path": row.Path, "name": path.Base(row.Path), "folder": folder, "size": row.Size,
		"modified": row.Changed.UTC().Format(time.RFC3339Nano), "destination": c.place, "replaced": row.Was,
	}
	if row.Sum != "" {
		facts["sha256"] = row.Sum
	}
	id := sha256.Sum256(fmt.Appendf(nil, "%d\x00%s\x00%s\x00%d\x00%d", c.one.ID, kind, row.Path, row.Size,
		row.Changed.UnixMicro()))
	return job.Event{
		ID: base64.RawURLEncoding.EncodeToString(id[:18]), Source: job.DestinationsSource + url.PathEscape(c.place),
		Type: kind, Subject: row.Path, Time: c.now, Data: data(facts),
	}
}

// write notes what was found, and starts what waits for it, in one transaction.
func (c *compare) write() error {
	if len(c.rows) == 0 && len(c.gone) == 0 && len(c.events) == 0 {
		return nil
	}
	err := c.w.store.Do(c.ctx, func(t *store.Tx) error {
		if err := t.HoldWatch(c.ctx, c.one); err != nil {
			return err
		}
		if len(c.rows) > 0 {
			if err := t.SeeFiles(c.ctx, c.one.ID, c.rows); err != nil {
				return err
			}
		}
		if len(c.gone) > 0 {
			if err := t.ForgetFiles(c.ctx, c.one.ID, c.gone); err != nil {
				return err
			}
		}
		if len(c.events) > 0 {
			if _, err := c.w.waits.Raise(c.ctx, t, c.events, rings.From{All: true, Watch: &c.one.ID}); err != nil {
				return err
			}
			c.w.node.Crash(crash.Seen)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if len(c.events) > 0 {
		c.w.node.Crash(crash.Noted)
	}
	c.rows, c.gone, c.events = nil, nil, nil
	return nil
}
