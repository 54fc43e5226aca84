package zone_test

import (
	"testing"
	"time"

	"ironbell/internal/core/zone"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEveryZoneCanBeLoaded(t *testing.T) {
	require.Greater(t, len(zone.Names()), 500)
	for _, name := range zone.Names() {
		z, err := zone.Load(name)
		require.NoError(t, err, name)
		again, err := zone.Load(name)
		require.NoError(t, err)
		require.Same(t, z, again, "a zone is loaded once")
	}
	assert.Regexp(t, `^20\d\d[a-z]-[0-9a-f]{8}$`, zone.Version())
}

func TestZonesThatAreNone(t *testing.T) {
	for _, name := range []string{"", "Local", "local", "Mars/Olympus", "Europe/", "../etc/passwd"} {
		_, err := zone.Load(name)
		assert.ErrorContains(t, err, "Europe/London", name)
	}
}

// Around every seam of every zone the spans say what the standard library says,
// and a wall time gives the instant that RFC 5545 section 3.3.5 names.
func TestSpansAroundEverySeam(t *testing.T) {
	for _, name := range zone.Names() {
		z, err := zone.Load(name)
		require.NoError(t, err)
		spans := zone.Of(z)
		from, to := time.Date(1975, 1, 1, 0, 0, 0, 0, time.UTC).Unix(),
			time.Date(2045, 1, 1, 0, 0, 0, 0, time.UTC).Unix()
		spans.Seams(from, to, func(seam zone.Span) bool {
			for _, near := range []int64{-90_000, -3601, -1, 0, 1, 1800, 7200} {
				at := seam.Start + near
				_, offset := time.Unix(at, 0).In(z).Zone()
				if got := spans.At(at).Offset; got != int64(offset) {
					t.Errorf("%s at %d: offset %d, expected %d", name, at, got, offset)
				}
			}
			gap := seam.Offset - seam.Before
			for _, wall := range []int64{
				seam.Start + seam.Before - 1, seam.Start + seam.Before,
				seam.Start + seam.Offset - 1, seam.Start + seam.Offset,
			} {
				want := wall - seam.Before
				if gap > 0 && wall >= seam.Start+seam.Offset || gap < 0 && wall >= seam.Start+seam.Before {
					want = wall - seam.Offset
				}
				if got := spans.Instant(wall); got != want && !near(spans, seam) {
					t.Errorf("%s, wall %s: %d, expected %d", name, time.Unix(wall, 0).UTC(), got, want)
				}
			}
			return true
		})
	}
}

// Between the seams, too.
func TestOffsetsAllOverTheYears(t *testing.T) {
	for _, name := range zone.Names() {
		z, err := zone.Load(name)
		require.NoError(t, err)
		spans := zone.Of(z)
		for at := int64(157766400); at < 2366841600; at += 86400*3 + 3607 { // 1975 to 2045
			if _, offset := time.Unix(at, 0).In(z).Zone(); spans.At(at).Offset != int64(offset) {
				t.Fatalf("%s at %d: offset %d, expected %d", name, at, spans.At(at).Offset, offset)
			}
		}
	}
}

// near tells whether another seam lies within two days, where wall times are
// moved twice.
func near(s *zone.Spans, seam zone.Span) bool {
	n := 0
	s.Seams(seam.Start-2*86400, seam.Start+2*86400, func(zone.Span) bool { n++; return true })
	return n > 1
}

func BenchmarkAt(b *testing.B) {
	z, err := zone.Load("Europe/London")
	require.NoError(b, err)
	spans := zone.Of(z)
	b.ReportAllocs()
	for i := range b.N {
		spans.At(1795000000 + int64(i%1000)*86400)
	}
}
