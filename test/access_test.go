package test

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSessionsAndTokensAreListedAndEnded(t *testing.T) {
	t.Parallel() // it waits most of its time
	w := world.Open(t)
	ctx := context.Background()
	mara := w.As("mara")
	lost, status := w.Browser("mara", world.Password, "")
	require.Equal(t, 200, status)
	all, err := mara.SignIns(ctx, "")
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, []any{job.Session, "Quay browser", "127.0.0.1", false},
		[]any{all[0].Kind, all[0].Name, all[0].Address, all[0].This})
	assert.Equal(t, []any{job.Token, true}, []any{all[1].Kind, all[1].This})
	text, errs, code := w.Ironbell("sign-ins", "-of", "mara")
	require.Zero(t, code, errs)
	assert.Contains(t, text, "Quay browser")
	_, err = client.New("http://"+w.Listen, "").MakeToken(ctx, "joren", world.Password, "red\x1b[31m\u202e token")
	require.NoError(t, err)
	text, errs, code = w.Ironbell("sign-ins", "-of", "joren")
	require.Zero(t, code, errs)
	assert.Contains(t, text, "red[31m token", "without what steers a terminal")

	// A line of notices ends with its session.
	lines := w.Live(lost)
	require.Equal(t, 200, lines.StatusCode)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for in := bufio.NewScanner(lines.Body); in.Scan(); {
		}
	}()
	joren := w.As("joren")
	assert.ErrorContains(t, joren.EndSignIn(ctx, all[0].ID), "there is no session or token",
		"whose it is is nobody else's business")
	_, err = joren.SignIns(ctx, "mara")
	assert.Error(t, err)
	assert.Equal(t, 200, w.Status(lost, "/api/session"))
	require.NoError(t, mara.EndSignIn(ctx, all[0].ID))
	assert.Equal(t, 401, w.Status(lost, "/api/session"))
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Fatal("the line goes on without its session")
	}
	_ = lines.Body.Close()

	// An administrator ends anybody's.
	all, err = w.C.SignIns(ctx, "mara")
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.NoError(t, w.C.EndSignIn(ctx, all[0].ID))
	_, err = mara.Jobs(ctx, "")
	require.ErrorContains(t, err, "not signed in")
	var record []string
	require.NoError(t,
		world.Connect(t, w.Db).QueryRow(ctx,
			`SELECT array_agg(who || ' ' || action || ' ' || subject ORDER BY id) FROM audit WHERE kind = 'sign-in'`).Scan(&record))
	for _, want := range []string{"mara sign in mara", "mara end mara", "sefa end mara"} {
		assert.Contains(t, record, want)
	}

	// Nobody holds more lines than a person needs, and others are not kept from theirs.
	again, _ := w.Browser("mara", world.Password, "")
	for n := range 21 {
		res := w.Live(again)
		t.Cleanup(func() { _ = res.Body.Close() })
		want := 200
		if n == 20 {
			want = 429
		}
		require.Equal(t, want, res.StatusCode, n)
	}
	other, _ := w.Browser("joren", world.Password, "")
	res := w.Live(other)
	assert.Equal(t, 200, res.StatusCode)
	_ = res.Body.Close()
}

func TestNobodyShutsOthersOut(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	// Guesses until no more are taken, which on a slow machine come back between them.
	refused := func(least int, from func(n int) string) {
		for n := range 100 {
			if _, status := w.Browser("mara", "a-guess-of-mine", from(n)); status == 429 {
				assert.GreaterOrEqual(t, n, least)
				return
			}
		}
		require.Fail(t, "guesses are taken without an end")
	}
	// Without a trusted proxy nobody says for themselves from where they come.
	refused(10, func(n int) string { return fmt.Sprint("192.0.2.", n) })
	_, status := w.Browser("mara", world.Password, "192.0.2.77")
	assert.Equal(t, 429, status, "all of these came from one address")
	_, status = w.Browser("joren", world.Password, "")
	assert.Equal(t, 200, status, "the same address, another login")
	w.Kill()
	w.Start("-proxies", "127.0.0.0/8,10.1.0.0/16")
	refused(10, func(int) string { return "198.51.100.4, 203.0.113.9, 10.1.2.3" })
	_, status = w.Browser("mara", world.Password, "203.0.113.9")
	assert.Equal(t, 429, status, "what stands left of the last address that is no proxy anybody may have written")
	_, status = w.Browser("mara", world.Password, "198.51.100.4")
	assert.Equal(t, 200, status, "from elsewhere she signs in, whoever tries in her name")
	var addresses []string
	require.NoError(t,
		world.Connect(t, w.Db).QueryRow(ctx,
			`SELECT array_agg(DISTINCT after->>'address') FROM audit WHERE action = 'fail to sign in'`).Scan(&addresses))
	assert.ElementsMatch(t, []string{"127.0.0.1", "203.0.113.9"}, addresses)
	text, err := os.ReadFile(filepath.Join(w.Dir, "service.log"))
	require.NoError(t, err)
	log := string(text)
	assert.Contains(t, log, "a sign-in failed")
	assert.NotContains(t, log, "a-guess-of-mine")

	person := wire.PersonRequest{Name: "Oren Hask", Mail: "oren@tarnwick.example", Role: "reader", Zone: demo.Zone}
	for _, common := range []string{"password123", "oren.hask-2026", "qwertyuiop1"} {
		person.Password = common
		_, err := w.C.SavePerson(ctx, "oren", person)
		assert.ErrorContains(t, err, "guessed first", common)
	}
}

func TestEventsAreReportedByWhoeverMay(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	report := func(c *client.Client, source, kind, id string) error {
		_, err := c.Report(ctx, map[string]any{"specversion": "1.0", "id": id, "source": source, "type": kind})
		return err
	}
	mara := w.As("mara")
	assert.ErrorContains(t, report(mara, "/cranes/7", "example.crane.up", "1"),
		"it takes the token or the key of a sender that may, which an administrator makes; your own source is /ironbell/people/mara")
	require.NoError(t, report(mara, "/ironbell/people/mara", "example.crane.up", "1"))
	_, err := mara.SaveSender(ctx, "crane 7", job.SenderDefinition{Sends: []job.EventGrant{{Source: "/cranes/7", Type: "*"}}})
	assert.ErrorContains(t, err, "administrator")
	token, errs, code := w.Ironbell("sender", "-sends", "/cranes/7=example.crane.*", "-token", "crane 7")
	require.Zero(t, code, errs)
	crane := client.New("http://"+w.Listen, strings.TrimSpace(token))
	require.NoError(t, report(crane, "/cranes/7", "example.crane.up", "1"))
	for _, other := range [][2]string{
		{"/cranes/8", "example.crane.up"},
		{"/cranes/7", "example.tide"},
		{"/ironbell/people/mara", "example.crane.up"},
	} {
		assert.Error(t, report(crane, other[0], other[1], "1"), other)
	}
	_, err = crane.Jobs(ctx, "")
	assert.ErrorContains(t, err, "This token only reports events")
	assert.ErrorContains(t, crane.ChangePassword(ctx, world.Password, "a-lamp-on-the-pier"),
		"This token only reports events")
	assert.ErrorContains(t, report(w.C, "/ironbell/jobs/1", "example.crane.up", "1"), "may not be reported",
		"not even by an administrator")
	_, err = mara.NewSenderKey(ctx, "crane 7", wire.SenderKeyRequest{Kind: job.SenderToken})
	assert.ErrorContains(t, err, "administrator")
	text, errs, code := w.Ironbell("senders")
	require.Zero(t, code, errs)
	assert.Contains(t, text, "example.crane.* of /cranes/7")
	assert.Contains(t, text, "may not send events of the type", "what it was refused stands there")
	text, errs, code = w.Ironbell("event", "example.crane.up")
	require.Zero(t, code, errs)
	assert.Contains(t, text, "recorded")
	events, err := w.C.Events(ctx, client.EventFilter{Type: "example.crane.up"})
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(events, func(e wire.Event) bool { return e.Source == "/ironbell/people/sefa" }))
}
