package aside_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"ironbell/internal/aside"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	aside.Main(map[string]aside.Task{
		"twice": func(out io.Writer, about string, in io.Reader) error {
			data, err := io.ReadAll(in)
			fmt.Fprintf(out, "%s%s %s", data, data, about)
			return err
		},
		"read": func(out io.Writer, about string, _ io.Reader) error {
			data, err := os.ReadFile(about)
			fmt.Fprintf(out, "%s", data)
			return err
		},
		"refuse": func(io.Writer, string, io.Reader) error { return errors.New("it is no such file") },
		"sleep":  func(io.Writer, string, io.Reader) error { time.Sleep(time.Minute); return nil },
		"fill": func(out io.Writer, _ string, _ io.Reader) error {
			all := bytes.Repeat([]byte("x"), 900<<20)
			_, err := out.Write(all[:10])
			return err
		},
		"env": func(out io.Writer, _ string, _ io.Reader) error {
			fmt.Fprint(out, os.Getenv("IRONBELL_TEST_SECRET"))
			return nil
		},
	})
	os.Exit(m.Run())
}

var usual = aside.Bounds{Time: 20 * time.Second, Memory: 512 << 20, Most: 1000}

func TestATaskIsDoneInAProcessOfItsOwn(t *testing.T) {
	t.Setenv("IRONBELL_TEST_SECRET", "secret")
	ctx := context.Background()
	out, err := aside.Do(ctx, "twice", "and more", []byte("ab"), usual)
	require.NoError(t, err)
	assert.Equal(t, "abab and more", string(out))
	_, err = aside.Do(ctx, "refuse", "", nil, usual)
	require.EqualError(t, err, "it is no such file")
	_, err = aside.Do(ctx, "unknown", "", nil, usual)
	require.ErrorContains(t, err, `knows no task "unknown"`)
	out, err = aside.Do(ctx, "env", "", nil, usual)
	require.NoError(t, err)
	assert.Empty(t, out, "what we have in our environment is not its business")
}

func TestItsBoundsHold(t *testing.T) {
	ctx := context.Background()
	_, err := aside.Do(ctx, "twice", "", bytes.Repeat([]byte("x"), 600), usual)
	require.ErrorIs(t, err, aside.ErrTooMuch)
	short := usual
	short.Time = 300 * time.Millisecond
	_, err = aside.Do(ctx, "sleep", "", nil, short)
	require.ErrorContains(t, err, "not done within 300ms")
	_, err = aside.Do(ctx, "fill", "", nil, usual)
	require.Error(t, err, "it gets no more memory than it may have")
	ended, stop := context.WithCancel(ctx)
	stop()
	_, err = aside.Do(ended, "twice", "", nil, usual)
	require.ErrorIs(t, err, context.Canceled)

	path := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(path, []byte("secret"), 0o600))
	_, err = aside.Do(ctx, "read", path, nil, usual)
	require.ErrorContains(t, err, "permission denied")
	open := usual
	open.Files = true
	out, err := aside.Do(ctx, "read", path, nil, open)
	require.NoError(t, err)
	assert.Equal(t, "secret", string(out))
}
