package faults

import (
	"context"
	"net/url"
	"slices"
	"strings"
	"testing"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"
	"ironbell/test/world"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A source whose login can write is refused when it is saved and whenever it is opened,
// or it was signed, and then each screen that names the source says so.
func TestASourceThatCanWriteIsSignedOrRefused(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	ledger := pgtest.New(t, "signed", func(ctx context.Context, dsn string) error {
		conn, err := pgx.Connect(ctx, dsn)
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close(ctx) }()
		_, err = conn.Exec(ctx,
			"CREATE TABLE dues (n int); INSERT INTO dues VALUES (1); REVOKE CREATE ON SCHEMA public FROM PUBLIC")
		return err
	})
	save := func(name, dsn string, change map[string]any) (wire.Place, error) {
		config, err := pgx.ParseConfig(dsn)
		require.NoError(t, err)
		settings := map[string]any{
			"host": config.Host, "port": config.Port, "database": config.Database, "user": config.User,
			"tls": "disable",
		}
		for k, v := range change {
			settings[k] = v
		}
		return w.C.SaveSource(ctx, name, wire.PlaceRequest{
			Protocol: "postgres", Password: &config.Password, Settings: settings,
		})
	}
	_, err := save("ledger", ledger, map[string]any{"may_write": true})
	require.ErrorContains(t, err, "is a superuser", "nothing can be signed for it")
	writer := pgtest.Login(t, ledger, pgtest.Writer)
	_, err = save("ledger", writer, nil)
	require.ErrorContains(t, err, "its login may do more than read")
	_, err = save("ledger", writer, map[string]any{"may_wrote": true})
	require.ErrorContains(t, err, `there is no setting "may_wrote"; there are host, port`)
	p, err := save("ledger", writer, map[string]any{"may_write": true})
	require.NoError(t, err)
	assert.Contains(t, p.Note, "This login can write: ")
	_, err = w.C.SaveReport(ctx, "Dues", wire.ReportRequest{
		Owner: "mara",
		ReportDefinition: job.ReportDefinition{
			Source: "ledger", Sections: []job.Section{{Name: "Rows", SQL: "SELECT n FROM dues"}},
		},
	})
	require.NoError(t, err)
	w.Job("Dues", world.Definition("Dues", "company mail", []string{"csv"}, "quay.desk@tarnwick.example"))
	page, err := w.C.Job(ctx, "Dues")
	require.NoError(t, err)
	assert.Contains(t, page.ReadAs["report"], "the login of ledger, which can write")
	said, err := w.C.TestSource(ctx, "ledger")
	require.NoError(t, err)
	assert.True(t, said.OK)
	assert.Contains(t, said.Said, "this login can write, as was signed")
	text, errs, status := w.Ironbell("sources")
	require.Zero(t, status, errs)
	assert.Contains(t, text, "This login can write")

	// Rights that were granted later are seen when the source is opened the next time.
	reader := pgtest.Login(t, ledger, pgtest.Reader)
	p, err = save("ledger", reader, nil)
	require.NoError(t, err)
	assert.Empty(t, p.Note)
	said, err = w.C.TestSource(ctx, "ledger")
	require.NoError(t, err)
	assert.Contains(t, said.Said, "its login may only read")
	u, err := url.Parse(reader)
	require.NoError(t, err)
	_, err = world.Connect(t, ledger).Exec(ctx, "GRANT DELETE ON dues TO "+pgx.Identifier{u.User.Username()}.Sanitize())
	require.NoError(t, err)
	said, err = w.C.TestSource(ctx, "ledger")
	require.NoError(t, err)
	assert.False(t, said.OK)
	assert.Contains(t, said.Said, "may write to dues")
	w.Kill()
	w.Start()
	_, err = w.C.Ring(ctx, "Dues", nil)
	require.NoError(t, err)
	w.Until("the owner hears of it", func() bool {
		alerts, err := w.C.Alerts(ctx)
		require.NoError(t, err)
		return slices.ContainsFunc(alerts,
			func(a job.Alert) bool { return strings.Contains(a.Happened, "may write to dues") })
	})
}

// Two records whose names look the same would be taken for each other.
func TestNamesThatLookAlikeAreOne(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Definition("Ports", "company mail", []string{"csv"}, "quay.desk@tarnwick.example")
	w.Job("Café board", d)
	place := wire.PlaceRequest{Protocol: "http", Settings: map[string]any{"url": "https://ledger.tarnwick.example/"}}
	_, err := w.C.SaveDestination(ctx, "Café board", place)
	require.NoError(t, err)
	for _, name := range []string{
		"café board", "CAFÉ BOARD", "Cafe\u0301 board", "Ｃafé board", "Café\u200d board",
		"Ca\u200cfé board",
	} {
		_, err := w.C.SaveJob(ctx, name, wire.JobRequest{Owner: "mara", On: true, Definition: d})
		assert.ErrorContains(t, err, "people cannot tell", "%q", name)
		_, err = w.C.SaveDestination(ctx, name, place)
		assert.ErrorContains(t, err, "people cannot tell", "%q", name)
		_, err = w.C.SaveReport(ctx, name[:len(name)-len(" board")], wire.ReportRequest{
			Owner: "mara",
			ReportDefinition: job.ReportDefinition{
				Source: "tarnwick", Sections: []job.Section{{Name: "x", SQL: "SELECT 1 AS n"}},
			},
		})
		if name == "café board" {
			require.NoError(t, err, "the first of its kind")
		} else {
			assert.ErrorContains(t, err, "people cannot tell", "%q", name)
		}
	}
	for _, name := range []string{
		"Caf\u200bé board", "Café\u00a0board", "Café  board", "Café board\u2060",
		"\ufeffCafé board", "Café\u2028board", "Café\u00ad board", "Café board\u3164", "Café \u202eboard",
		"Café board\u0000", "Café\tboard", " Café board", "Café board\u2007", "Café\U000e0041 board",
	} {
		_, err := w.C.SaveJob(ctx, name, wire.JobRequest{Owner: "mara", On: true, Definition: d})
		assert.Error(t, err, "%q", name)
	}
	_, err = w.C.SavePerson(ctx, "MARA", wire.PersonRequest{
		Name: "Mara Quill", Mail: "mara@tarnwick.example", Role: "owner", Zone: "Europe/London",
	})
	require.NoError(t, err, "a login is the same in any case")
	_, err = w.C.SavePerson(ctx, "ｍara", wire.PersonRequest{
		Name: "Mara Quill", Mail: "mara.quill@tarnwick.example", Role: "owner", Zone: "Europe/London",
	})
	assert.ErrorContains(t, err, "people cannot tell")
	_, err = w.C.SaveJob(ctx, "می\u200cخواهم ⚠\ufe0f", wire.JobRequest{Owner: "mara", On: true, Definition: d})
	assert.NoError(t, err, "some scripts are not written without signs that join")
}
