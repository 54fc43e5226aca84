package test

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a job made is listed by date and version, looked at in place, and linked for whom its owner
// says; what is kept for our own use is nobody's to fetch.
func TestWhatAJobMadeIsKeptAndLinked(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code, name FROM ports")
	w.Job("Port list", world.Definition("Ports", "company mail", []string{"pdf", "csv"}, "mara@tarnwick.example"))
	first := w.Ring("Port list")
	w.Report("Ports", "SELECT code, name FROM ports ORDER BY name DESC")
	second := w.Ring("Port list")
	a, err := w.C.Archive(ctx, "Port list", "")
	require.NoError(t, err)
	assert.Equal(t, 90, a.Days)
	require.Len(t, a.Runs, 2)
	assert.Equal(t, []job.RunID{second.ID, first.ID}, []job.RunID{a.Runs[0].Run, a.Runs[1].Run})
	assert.Equal(t, []wire.ArchivedReport{{Name: "Ports", Version: 2}}, a.Runs[0].Reports)
	assert.Equal(t, []wire.ArchivedReport{{Name: "Ports", Version: 1}}, a.Runs[1].Reports)
	require.Len(t, a.Runs[0].Files, 2, "the rows that are kept to compare by are no file")
	older, err := w.C.Archive(ctx, "Port list", second.ID.String())
	require.NoError(t, err)
	require.Len(t, older.Runs, 1)

	get := func(token, path string) (int, string, http.Header) {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+w.Listen+path, http.NoBody)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(text), res.Header
	}
	look := func(token string, f wire.ArchivedFile) (int, string, http.Header) {
		return get(token, "/api/files/"+number(t, f.ID)+"/look")
	}
	for _, f := range a.Runs[0].Files {
		status, page, head := look(w.Token, f)
		assert.Equal(t, http.StatusOK, status, f.Name)
		assert.Contains(t, head.Get("Content-Security-Policy"), "sandbox; default-src 'none'")
		if f.Format == "pdf" {
			assert.Contains(t, page, "data:image/png;base64,")
		} else {
			assert.Contains(t, page, "Tarnwick Quay")
		}
	}
	var rows int64
	require.NoError(t, world.Connect(t, w.Db).QueryRow(ctx, `SELECT id FROM artifacts WHERE format = 'rows'
		ORDER BY id DESC LIMIT 1`).Scan(&rows))
	status, _, _ := get(w.Token, "/api/files/"+number(t, rows))
	assert.Equal(t, http.StatusNotFound, status, "hidden columns stand in it")
	status, page, _ := get(w.Token, "/api/files/"+number(t, rows)+"/look")
	assert.Equal(t, http.StatusForbidden, status, page)

	// A link for one who is named: others get the files from the owner alone.
	file := a.Runs[0].Files[0]
	joren := client.New("http://"+w.Listen, w.TokenOf("joren"))
	_, err = joren.MakeLink(ctx, second.ID, wire.LinkRequest{Files: []int64{file.ID}, For: "house"})
	assert.ErrorContains(t, err, "may not", "it is not his job")
	for says, r := range map[string]wire.LinkRequest{
		"belongs to another run":      {Files: []int64{a.Runs[1].Files[0].ID}, For: "house"},
		"there is no file":            {Files: []int64{rows}, For: "house"},
		"nobody is named":             {Files: []int64{file.ID}, For: "named"},
		`there is no person "nobody"`: {Files: []int64{file.ID}, For: "named", Named: []string{"person:nobody"}},
	} {
		_, err := w.C.MakeLink(ctx, second.ID, r)
		assert.ErrorContains(t, err, says)
	}
	link, err := w.C.MakeLink(ctx, second.ID, wire.LinkRequest{
		Files: []int64{file.ID}, For: "named", Named: []string{"person:joren"}, Days: 3,
	})
	require.NoError(t, err)
	assert.Equal(t, "only the 1 whom it was made for", link.Words)
	token := link.Address[strings.LastIndexByte(link.Address, '/')+1:]
	status, page, _ = get(w.TokenOf("joren"), "/api/links/"+token)
	assert.Equal(t, http.StatusOK, status, page)
	assert.Contains(t, page, file.Name)
	_, err = w.C.SavePerson(ctx, "oren", wire.PersonRequest{
		Name: "Oren Hask", Mail: "oren@tarnwick.example", Role: "reader", Zone: "Europe/London", Password: world.Password,
	})
	require.NoError(t, err)
	status, page, _ = get(w.TokenOf("oren"), "/api/links/"+token)
	assert.Equal(t, http.StatusForbidden, status, page)
	status, page, _ = look(w.TokenOf("oren"), file)
	assert.Equal(t, http.StatusForbidden, status, page)
	status, _, _ = look(w.TokenOf("joren"), file)
	assert.Equal(t, http.StatusOK, status)
	again, err := w.C.Archive(ctx, "Port list", "")
	require.NoError(t, err)
	assert.Equal(t, 1, again.Runs[0].Open)
}
