package test

import (
	"context"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A source whose login can write is refused when it is saved and whenever it is opened,
// or it was signed, and then each screen that names the source says so.
func TestASourceThatCanWriteIsSignedOrRefused(t *testing.T) {
	w := open(t)
	ctx := context.Background()
	ledger := pgtest.New(t, "signed", func(ctx context.Context, dsn string) error {
		conn, err := pgx.Connect(ctx, dsn)
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close(ctx) }()
		_, err = conn.Exec(ctx, "CREATE TABLE dues (n int); INSERT INTO dues VALUES (1); REVOKE CREATE ON SCHEMA public FROM PUBLIC")
		return err
	})
	save := func(name, dsn string, change map[string]any) (wire.Place, error) {
		config, err := pgx.ParseConfig(dsn)
		require.NoError(t, err)
		settings := map[string]any{"host": config.Host, "port": config.Port, "database": config.Database, "user": config.User, "tls": "disable"}
		for k, v := range change {
			settings[k] = v
		}
		return w.c.SaveSource(ctx, name, wire.PlaceRequest{Protocol: "postgres", Password: &config.Password, Settings: settings})
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
	_, err = w.c.SaveReport(ctx, "Dues", wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{Source: "ledger", Sections: []job.Section{{Name: "Rows", SQL: "SELECT n FROM dues"}}}})
	require.NoError(t, err)
	w.job("Dues", definition("Dues", "company mail", []string{"csv"}, "quay.desk@tarnwick.example"))
	page, err := w.c.Job(ctx, "Dues")
	require.NoError(t, err)
	assert.Contains(t, page.ReadAs["report"], "the login of ledger, which can write")
	said, err := w.c.TestSource(ctx, "ledger")
	require.NoError(t, err)
	assert.True(t, said.OK)
	assert.Contains(t, said.Said, "this login can write, as was signed")
	text, errs, status := w.ironbell("sources")
	require.Zero(t, status, errs)
	assert.Contains(t, text, "This login can write")

	// Rights that were granted later are seen when the source is opened the next time.
	reader := pgtest.Login(t, ledger, pgtest.Reader)
	p, err = save("ledger", reader, nil)
	require.NoError(t, err)
	assert.Empty(t, p.Note)
	said, err = w.c.TestSource(ctx, "ledger")
	require.NoError(t, err)
	assert.Contains(t, said.Said, "its login may only read")
	u, err := url.Parse(reader)
	require.NoError(t, err)
	_, err = connect(t, ledger).Exec(ctx, "GRANT DELETE ON dues TO "+pgx.Identifier{u.User.Username()}.Sanitize())
	require.NoError(t, err)
	said, err = w.c.TestSource(ctx, "ledger")
	require.NoError(t, err)
	assert.False(t, said.OK)
	assert.Contains(t, said.Said, "may write to dues")
	w.kill()
	w.start()
	_, err = w.c.Ring(ctx, "Dues", nil)
	require.NoError(t, err)
	w.until(20*time.Second, "the owner hears of it", func() bool {
		alerts, err := w.c.Alerts(ctx)
		require.NoError(t, err)
		return slices.ContainsFunc(alerts, func(a job.Alert) bool { return strings.Contains(a.Happened, "may write to dues") })
	})
}
