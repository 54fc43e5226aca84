package deliver

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The promise of all hand-overs: the other side has the whole of something only
// after the offer is recorded, and never when it is not.

func TestWhoeverReadsToTheEndWasOffered(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		content := rapid.SliceOfN(rapid.Byte(), 1, 5000).Draw(t, "content")
		size := rapid.IntRange(1, 700).Draw(t, "bytes of a read")
		read, offeredAt := 0, -1
		o := &offering{
			ctx: context.Background(), from: bytes.NewReader(content), left: int64(len(content)),
			offer: func(context.Context) error {
				require.Equal(t, -1, offeredAt, "it is offered once")
				offeredAt = read
				return nil
			},
		}
		var got []byte
		buffer := make([]byte, size)
		for {
			n, err := o.Read(buffer)
			read += n
			got = append(got, buffer[:n]...)
			if read == len(content) {
				require.True(t, o.done, "the last byte went out with the offer")
			}
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err)
		}
		require.Equal(t, content, got, "whole, and in order")
		require.Equal(t, len(content)-1, offeredAt, "as late as can be: before the last byte")
	})
}

func TestAnOfferThatIsRefusedKeepsTheLastByteBack(t *testing.T) {
	refused := errors.New("another node has it")
	o := &offering{
		ctx: context.Background(), from: strings.NewReader("tide tables"), left: 11,
		offer: func(context.Context) error { return refused },
	}
	got, err := io.ReadAll(o)
	assert.ErrorIs(t, err, refused)
	assert.Equal(t, "tide table", string(got))
	_, err = o.Read(make([]byte, 10))
	assert.ErrorIs(t, err, refused, "and it stays so")
	assert.False(t, o.done)
}

func TestContentThatBreaksOffIsNotOffered(t *testing.T) {
	broken := errors.New("the disk is gone")
	offers := 0
	o := &offering{
		ctx: context.Background(), from: io.MultiReader(strings.NewReader("tide"), iotest.ErrReader(broken)), left: 11,
		offer: func(context.Context) error { offers++; return nil },
	}
	_, err := io.ReadAll(o)
	assert.ErrorIs(t, err, broken)
	assert.Zero(t, offers)
}

func TestAnOfferIsAskedForWhileTheLastBytesGoOut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.IntRange(1, 3*earlyBytes).Draw(t, "size")
		out := &bytes.Buffer{}
		asked, wrote := 0, -1
		e := &early{ctx: context.Background(), out: out, left: int64(size), offer: func(context.Context) error {
			asked++
			return nil
		}}
		content := bytes.Repeat([]byte{'t'}, size)
		for rest := content; len(rest) > 0; {
			n := min(rapid.IntRange(1, chunk).Draw(t, "written"), len(rest))
			before := e.asked != nil
			_, err := e.Write(rest[:n])
			require.NoError(t, err)
			rest = rest[n:]
			if !before && e.asked != nil {
				wrote = out.Len() - n
			}
		}
		require.Equal(t, content, out.Bytes())
		require.NoError(t, e.holds())
		require.GreaterOrEqual(t, asked, 2, "once ahead, and once more whether it still holds")
		require.GreaterOrEqual(t, wrote, 0)
		require.LessOrEqual(t, size-wrote, earlyBytes, "not before the last bytes")
	})
}

func TestAnOfferThatFailsAheadEndsTheHandOver(t *testing.T) {
	refused := errors.New("the lease ran out")
	e := &early{
		ctx: context.Background(), out: io.Discard, left: 3, offer: func(context.Context) error { return refused },
	}
	_, err := e.Write([]byte("end"))
	require.NoError(t, err, "bytes may still go out: without the final dot nothing is accepted")
	assert.ErrorIs(t, e.holds(), refused)
	// One that held ahead and holds no more.
	calls := 0
	e = &early{ctx: context.Background(), out: io.Discard, left: 3, offer: func(context.Context) error {
		if calls++; calls > 1 {
			return refused
		}
		return nil
	}}
	_, err = e.Write([]byte("end"))
	require.NoError(t, err)
	assert.ErrorIs(t, e.holds(), refused)
}

func TestPathsBelowARoot(t *testing.T) {
	for p, fine := range map[string]bool{
		"a.csv": true, "2026/11/Grey Skerry.pdf": true, "Østre/å.csv": true, ".hidden": true,
		"": false, "/etc/passwd": false, "../a": false, "a/../../b": false, "..": false, ".": false, "a//b": false,
		"a/./b": false, "a/": false,
		`a\b`: false, "a\x00b": false, "a\nb": false, strings.Repeat("a", 1001): false,
	} {
		assert.Equal(t, fine, CheckPath(p) == nil, "%q", p)
	}
}
