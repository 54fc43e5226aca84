package deliver_test

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// looked looks at files of a place, reads, moves and removes them.
func looked(t *testing.T, p place) {
	t.Helper()
	d := p.open(t)
	at, ok := deliver.LookerOf(d)
	require.True(t, ok)
	assert.Equal(t, deliver.TakingNo, at.Taking(), "nobody said that jobs may take anything")
	look, err := at.Look(t.Context())
	require.NoError(t, err)
	defer look.Close()
	objects := p.place.Protocol == "s3"
	find := func(pattern string) (found []string) {
		_, err := deliver.Find(look, pattern, func(string) bool { return false }, func(e deliver.Entry, _ bool) error {
			assert.WithinDuration(t, time.Now(), e.Changed, 24*time.Hour, e.Path) // FTP tells the time of no zone
			found = append(found, fmt.Sprintf("%s %d", e.Path, e.Size))
			return nil
		})
		require.NoError(t, err)
		slices.Sort(found)
		return found
	}
	if !objects {
		_, err := deliver.Find(look, "nowhere/*.csv", func(string) bool { return false }, nil)
		require.ErrorIs(t, err, fs.ErrNotExist)
	}
	for i, name := range []string{"seen/a b.csv", "seen/deep/er/c.csv", "seen/ü#1.csv", "seen/d.txt"} {
		_, err := put(t, d, handover(int64(900+i), name, name, job.ExistsOverwrite))
		require.NoError(t, err)
	}
	assert.Equal(t, []string{"seen/a b.csv 12", "seen/deep/er/c.csv 18", "seen/ü#1.csv 13"}, find("seen/**/*.csv"))
	assert.Equal(t, []string{"seen/a b.csv 12", "seen/ü#1.csv 13"}, find("seen/*.csv"))
	assert.Equal(t, []string{"seen/deep/er/c.csv 18"}, find("*/deep/*/?.csv"))
	twice := [2][]deliver.Entry{}
	for n := range twice {
		_, err := deliver.Find(look, "seen/*.csv", func(string) bool { return false }, func(e deliver.Entry, _ bool) error {
			twice[n] = append(twice[n], e)
			return nil
		})
		require.NoError(t, err)
	}
	assert.True(t, slices.Equal(twice[0], twice[1]), "equal files are equal")
	e, err := look.Stat("seen/ü#1.csv")
	require.NoError(t, err)
	assert.Equal(t, int64(13), e.Size)
	in, err := look.Open("seen/ü#1.csv")
	require.NoError(t, err)
	text, err := io.ReadAll(in)
	require.NoError(t, err)
	require.NoError(t, in.Close())
	assert.Equal(t, "seen/ü#1.csv", string(text))
	free, err := look.Free("seen/a b.csv")
	require.NoError(t, err)
	assert.True(t, free)
	require.NoError(t, look.Move("seen/a b.csv", "done/2026-11/a b.csv"))
	require.NoError(t, look.Move("seen/ü#1.csv", "done/2026-11/ü#1.csv"))
	require.Error(t, look.Move("seen/deep/er/c.csv", "done/2026-11/a b.csv"), "there is one of that name")
	assert.Equal(t, []string{"done/2026-11/a b.csv 12", "done/2026-11/ü#1.csv 13"}, find("done/**/*"))
	text2, whole := p.content(t, "done/2026-11/a b.csv")
	assert.True(t, whole)
	assert.Equal(t, "seen/a b.csv", text2)
	require.NoError(t, look.Remove("done/2026-11/a b.csv"))
	_, err = look.Stat("done/2026-11/a b.csv")
	require.ErrorIs(t, err, fs.ErrNotExist)
	_, err = look.Open("done/2026-11/a b.csv")
	if err == nil && objects {
		err = fs.ErrNotExist // a store tells it when it is read
	}
	require.Error(t, err)
	own := errors.New("enough")
	_, err = deliver.Find(look, "seen/**/*", func(string) bool { return false },
		func(deliver.Entry, bool) error { return own })
	require.ErrorIs(t, err, own)
	assert.Equal(t, []string{"seen/d.txt 10", "seen/deep/er/c.csv 18"}, find("seen/**/*"), "the line is fit still")
}
