package faults

import (
	"context"
	"encoding/json"
	"errors"
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

// Two people change one record: the later one is told, and nothing of the first is lost.
func TestASaveThatBeganFromAnOlderStateIsRefused(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example")
	w.Job("Board", d)
	page, err := w.C.Job(ctx, "Board")
	require.NoError(t, err)
	began := page.Revision

	res := w.Ask(http.MethodGet, "/api/jobs/Board", "", nil)
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
	_, err = w.As("joren").Switch(ctx, "Board", false)
	var denied *client.Problem
	if errors.As(err, &denied) { // it is Mara's or Sefa's job
		_, err = w.C.Switch(ctx, "Board", false)
	}
	require.NoError(t, err)
	_, err = w.C.SaveJob(client.BeganFrom(ctx, began), "Board", wire.JobRequest{On: true, Definition: d})
	refused(err, `Job "Board" was changed meanwhile by`, "it is at revision 2, and yours began from revision 1",
		"Nothing was changed")
	page, err = w.C.Job(ctx, "Board")
	require.NoError(t, err)
	assert.False(t, page.On)
	_, err = w.C.SaveJob(client.BeganFrom(ctx, page.Revision), "Board", wire.JobRequest{On: true, Definition: d})
	require.NoError(t, err)
	_, err = w.C.SaveJob(client.ToBeNew(ctx), "Board", wire.JobRequest{Definition: d})
	refused(err, `there is a job "Board" already`[1:])

	for what, save := range map[string]func(context.Context) error{
		"report": func(ctx context.Context) error {
			_, err := w.C.SaveReport(ctx, "Ports",
				wire.ReportRequest{ReportDefinition: job.ReportDefinition{
					Source: "tarnwick", Sections: []job.Section{{Name: "A", SQL: "SELECT name FROM ports"}},
				}})
			return err
		},
		"group": func(ctx context.Context) error {
			_, err := w.C.SaveGroup(ctx, "Crew", "a@tarnwick.example")
			return err
		},
		"post": func(ctx context.Context) error { _, err := w.C.SavePost(ctx, "Master", "", "mara"); return err },
		"person": func(ctx context.Context) error {
			_, err := w.C.SavePerson(ctx, "joren", wire.PersonRequest{
				Name: "Joren Tak", Mail: "joren@tarnwick.example", Role: "owner", Zone: "Europe/London",
			})
			return err
		},
		"setting": func(ctx context.Context) error { return w.C.SaveMailSettings(ctx, job.MailSettings{}) },
		"destination": func(ctx context.Context) error {
			place, err := w.C.Destination(ctx, "company mail")
			require.NoError(t, err)
			_, err = w.C.SaveDestination(ctx, "company mail", wire.PlaceRequest{
				Protocol: place.Protocol, Settings: settingsOf(t, place.Settings),
			})
			return err
		},
	} {
		require.NoError(t, save(ctx), what)
		refused(save(client.BeganFrom(ctx, 9999)), what, "revision 9999")
	}
	res = w.Ask(http.MethodPut, "/api/groups/Crew", `{"members":[]}`, map[string]string{"If-Match": `W/"1"`})
	assert.Equal(t, http.StatusPreconditionFailed, res.StatusCode, "a weak tag matches nothing")
	res = w.Ask(http.MethodPut, "/api/groups/Nobody", `{"members":[]}`, map[string]string{"If-Match": "*"})
	assert.Equal(t, http.StatusPreconditionFailed, res.StatusCode, "it is not there")
	res = w.Ask(http.MethodPut, "/api/groups/Crew", `{"members":["b@tarnwick.example"]}`,
		map[string]string{"If-Match": `"7", "1"`})
	assert.Equal(t, http.StatusOK, res.StatusCode, "one of several")
}

func settingsOf(t *testing.T, text json.RawMessage) map[string]any {
	t.Helper()
	settings := map[string]any{}
	require.NoError(t, json.Unmarshal(text, &settings))
	return settings
}
