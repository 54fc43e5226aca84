// Package zone knows the time zones. Their data is compiled in, so that every
// node reckons alike whatever its machine has installed.
//
// The history of a zone is a row of spans with one offset each. Within a span
// wall time is the instant plus the offset, so whoever searches does it on wall
// time and carries the find back; only the seams need thought.
package zone

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ironbell/internal/core/civil"
)

// The zone database as the Go tree carries it (lib/time/zoneinfo.zip, release
// 2025c of the IANA database).
//
//go:embed zoneinfo.zip
var data []byte

var files = sync.OnceValue(func() map[string]*zip.File {
	all := map[string]*zip.File{}
	r, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return all // a test opens it
	}
	for _, f := range r.File {
		all[f.Name] = f
	}
	return all
})

// release is that of the IANA database; those of a year are told by their letter, so
// that a newer one sorts behind an older one.
const release = "2025c"

// Version tells which zone data this is; it changes when the data does, and newer data
// sorts behind older data.
var Version = sync.OnceValue(func() string {
	sum := sha256.Sum256(data)
	return release + "-" + hex.EncodeToString(sum[:4])
})

// Names lists the zones in order.
var Names = sync.OnceValue(func() []string {
	names := make([]string, 0, len(files()))
	for name := range files() {
		if !strings.HasSuffix(name, "/") {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
})

var loaded sync.Map // name to *time.Location, of names in the database only

// Load finds a time zone by its name in the zone database. Unlike
// time.LoadLocation it refuses "" and "Local", which would make a rule depend
// on the machine. Any number of goroutines may call it; one name gives one
// pointer.
func Load(name string) (*time.Location, error) {
	if z, ok := loaded.Load(name); ok {
		return z.(*time.Location), nil //nolint:forcetypeassert // nothing else is stored
	}
	if name == "UTC" {
		return time.UTC, nil
	}
	if name == "" || strings.EqualFold(name, "local") {
		return nil, fmt.Errorf("a time zone is needed, such as Europe/London")
	}
	f, ok := files()[name]
	if !ok || strings.HasSuffix(name, "/") {
		return nil, fmt.Errorf("there is no time zone %q; use a name of the zone database, such as Europe/London", name)
	}
	r, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("read the zone data: %w", err)
	}
	defer func() { _ = r.Close() }() // it was read from memory
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, fmt.Errorf("read the zone data: %w", err)
	}
	z, err := time.LoadLocationFromTZData(name, text)
	if err != nil {
		return nil, fmt.Errorf("read the time zone %s: %w", name, err)
	}
	kept, _ := loaded.LoadOrStore(name, z)
	return kept.(*time.Location), nil //nolint:forcetypeassert // nothing else is stored
}

// Span is a stretch of time [Start, End) in which a zone keeps one offset, all
// in seconds; instants are counted from 1970-01-01 UTC.
type Span struct {
	Start, End int64 // math.MinInt64 and math.MaxInt64 when it has none
	Offset     int64 // east of Greenwich
	Before     int64 // the offset that ended at Start; Offset when there was none
}

// Spans is the history of one zone. Any number of goroutines may use it.
type Spans struct {
	spans []Span
	last  atomic.Int32 // the span found last: those who ask come back to it
}

// Bounds of what is listed; beyond them the first and the last offset hold.
const (
	listFrom = -2208988800 // 1900
	listTo   = 5680281600  // 2150
)

var listed sync.Map // *time.Location of Load to *Spans

// Of lists the spans of a zone.
func Of(z *time.Location) *Spans {
	if s, ok := listed.Load(z); ok {
		return s.(*Spans) //nolint:forcetypeassert // nothing else is stored
	}
	s := list(z)
	// Only zones of the database are kept, which bounds the list.
	if own, ok := loaded.Load(z.String()); z == time.UTC || ok && own == z {
		listed.Store(z, s)
	}
	return s
}

// list walks through the history of a zone. The standard library ends the year
// of a rule that goes on for ever a day early when it is a leap year, so a bound
// may lie in the past; the walk then goes on by a day, and stretches of one
// offset are one span.
func list(z *time.Location) *Spans {
	s := &Spans{}
	for at := int64(listFrom); at < listTo; {
		t := time.Unix(at, 0).In(z)
		_, offset := t.Zone()
		_, end := t.ZoneBounds()
		until := int64(math.MaxInt64)
		if !end.IsZero() {
			until = end.Unix()
			if until <= at {
				until = at + civil.Day
			}
		}
		last := len(s.spans) - 1
		switch {
		case last >= 0 && s.spans[last].Offset == int64(offset):
			s.spans[last].End = until
		case last >= 0:
			s.spans = append(s.spans, Span{Start: at, End: until, Offset: int64(offset), Before: s.spans[last].Offset})
		default:
			s.spans = append(s.spans, Span{
				Start: math.MinInt64, End: until, Offset: int64(offset), Before: int64(offset),
			})
		}
		at = until
	}
	s.spans[len(s.spans)-1].End = math.MaxInt64
	return s
}

// At is the span in which an instant lies.
func (s *Spans) At(instant int64) Span {
	if last := s.spans[s.last.Load()]; last.Start <= instant && instant < last.End {
		return last
	}
	low, high := 0, len(s.spans)-1
	for low < high {
		middle := int(uint(low+high+1) >> 1)
		if s.spans[middle].Start <= instant {
			low = middle
		} else {
			high = middle - 1
		}
	}
	s.last.Store(int32(low)) //nolint:gosec // there are some hundred spans
	return s.spans[low]
}

// Instant is when a wall clock shows a time, given in seconds since 1970-01-01
// 00:00. A time that is skipped gives the instant by the offset before the gap,
// one that comes twice the first (RFC 5545 section 3.3.5).
func (s *Spans) Instant(wall int64) int64 {
	span := s.At(wall)
	if t := wall - span.Offset; t >= span.Start && t < span.End &&
		(span.Start == math.MinInt64 || wall-span.Before >= span.Start) {
		return t
	}
	span = s.At(wall - span.Offset)
	// The span is the right one or, near a seam, the one after it.
	if t := wall - span.Before; span.Start != math.MinInt64 && t < span.Start {
		return t
	}
	t := wall - span.Offset
	if t >= span.End {
		return t // skipped by the seam that follows
	}
	if span.Start != math.MinInt64 && t < span.Start {
		return wall - span.Before
	}
	return t
}

// Seams calls with each change of clocks in (after, until], until told to stop.
func (s *Spans) Seams(after, until int64, each func(Span) bool) {
	for _, span := range s.spans {
		if span.Start > after && span.Start <= until && span.Offset != span.Before && !each(span) {
			return
		}
	}
}
