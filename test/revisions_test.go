package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"
	"testing"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two people change one record: the later one is told, and nothing of the first is lost.
func TestASaveThatBeganFromAnOlderStateIsRefused(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	w.report("Ports", "SELECT code FROM ports")
	d := definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	w.job("Board", d)
	page, err := w.c.Job(ctx, "Board")
	require.NoError(t, err)
	began := page.Revision

	res := w.ask(http.MethodGet, "/api/jobs/Board", "", nil)
	assert.Equal(t, []string{`"1"`}, res.Header["Etag"])
	refused := func(err error, both ...string) {
		t.Helper()
		var p *client.Problem
		require.ErrorAs(t, err, &p)
		assert.Equal(t, http.StatusPreconditionFailed, p.Status)
		for _, text := range both {
			assert.Contains(t, strings.ToLower(p.Detail), strings.ToLower(text))
		}
	}
	// Joren switches it off; Mara's save of what she looked at would switch it on again.
	_, err = w.as("joren").Switch(ctx, "Board", false)
	var denied *client.Problem
	if errors.As(err, &denied) { // it is Mara's or Sefa's job
		_, err = w.c.Switch(ctx, "Board", false)
	}
	require.NoError(t, err)
	_, err = w.c.SaveJob(client.BeganFrom(ctx, began), "Board", wire.JobRequest{On: true, Definition: d})
	refused(err, `Job "Board" was changed meanwhile by`, "it is at revision 2, and yours began from revision 1",
		"Nothing was changed")
	page, err = w.c.Job(ctx, "Board")
	require.NoError(t, err)
	assert.False(t, page.On)
	_, err = w.c.SaveJob(client.BeganFrom(ctx, page.Revision), "Board", wire.JobRequest{On: true, Definition: d})
	require.NoError(t, err)
	_, err = w.c.SaveJob(client.ToBeNew(ctx), "Board", wire.JobRequest{Definition: d})
	refused(err, `there is a job "Board" already`[1:])

	for what, save := range map[string]func(context.Context) error{
		"report": func(ctx context.Context) error {
			_, err := w.c.SaveReport(ctx, "Ports",
				wire.ReportRequest{ReportDefinition: job.ReportDefinition{
					Source: "tarnwick", Sections: []job.Section{{Name: "A", SQL: "SELECT name FROM ports"}},
				}})
			return err
		},
		"group": func(ctx context.Context) error {
			_, err := w.c.SaveGroup(ctx, "Crew", "a@tarnwick.example")
			return err
		},
		"post": func(ctx context.Context) error { _, err := w.c.SavePost(ctx, "Master", "", "mara"); return err },
		"person": func(ctx context.Context) error {
			_, err := w.c.SavePerson(ctx, "joren", wire.PersonRequest{
				Name: "Joren Tak", Mail: "joren@tarnwick.example", Role: "owner", Zone: "Europe/London",
			})
			return err
		},
		"setting": func(ctx context.Context) error { return w.c.SaveMailSettings(ctx, job.MailSettings{}) },
		"destination": func(ctx context.Context) error {
			place, err := w.c.Destination(ctx, "company mail")
			require.NoError(t, err)
			_, err = w.c.SaveDestination(ctx, "company mail", wire.PlaceRequest{
				Protocol: place.Protocol, Settings: settingsOf(t, place.Settings),
			})
			return err
		},
	} {
		require.NoError(t, save(ctx), what)
		refused(save(client.BeganFrom(ctx, 9999)), what, "revision 9999")
	}
	res = w.ask(http.MethodPut, "/api/groups/Crew", `{"members":[]}`, map[string]string{"If-Match": `W/"1"`})
	assert.Equal(t, http.StatusPreconditionFailed, res.StatusCode, "a weak tag matches nothing")
	res = w.ask(http.MethodPut, "/api/groups/Nobody", `{"members":[]}`, map[string]string{"If-Match": "*"})
	assert.Equal(t, http.StatusPreconditionFailed, res.StatusCode, "it is not there")
	res = w.ask(http.MethodPut, "/api/groups/Crew", `{"members":["b@tarnwick.example"]}`,
		map[string]string{"If-Match": `"7", "1"`})
	assert.Equal(t, http.StatusOK, res.StatusCode, "one of several")
}

// ask sends a bare request and gives its answer, whose body is read.
func (w *world) ask(method, path, body string, headers map[string]string) *http.Response {
	w.t.Helper()
	req, err := http.NewRequest(method, "http://"+w.listen+path, strings.NewReader(body))
	require.NoError(w.t, err)
	req.Header.Set("Authorization", "Bearer "+w.token)
	req.Header.Set("Content-Type", "application/json")
	for name, value := range headers {
		req.Header.Set(name, value)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(w.t, err)
	text, err := io.ReadAll(res.Body)
	require.NoError(w.t, errors.Join(err, res.Body.Close()))
	res.Body = io.NopCloser(bytes.NewReader(text))
	return res
}

func settingsOf(t *testing.T, text json.RawMessage) map[string]any {
	t.Helper()
	settings := map[string]any{}
	require.NoError(t, json.Unmarshal(text, &settings))
	return settings
}
