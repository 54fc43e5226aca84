package report_test

import (
	"context"
	"encoding/json"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"ironbell/internal/core/fault"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/report"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A source's own login only reads, or an administrator has signed that it can write; one
// that may do anything is taken for nothing.
func TestWhatALoginOfPostgreSQLMayDoIsAsked(t *testing.T) {
	ctx := context.Background()
	dsn := pgtest.New(t, "rights", func(ctx context.Context, dsn string) error {
		conn, err := pgx.Connect(ctx, dsn)
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close(ctx) }()
		_, err = conn.Exec(ctx,
			`CREATE TABLE sailings (id int, port text); CREATE VIEW ports AS SELECT port FROM sailings; CREATE SEQUENCE counter; REVOKE CREATE ON SCHEMA public FROM PUBLIC`)
		return err
	})
	owner, err := pgx.Connect(ctx, dsn)
	require.NoError(t, err)
	defer func() { _ = owner.Close(ctx) }()
	logins := []string{
		"plain", "grouped", "columns", "views", "counts", "makes", "schemes", "signals", "reads_files",
		"chief_of_all", "names_roles",
	}
	for _, login := range logins {
		_, err = owner.Exec(ctx, "CREATE ROLE "+login+" LOGIN PASSWORD 'login'; GRANT SELECT ON sailings TO "+login)
		require.NoError(t, err)
	}
	t.Cleanup(func() {
		_, _ = owner.Exec(context.Background(),
			"DROP OWNED BY "+strings.Join(logins, ", ")+", writers; DROP ROLE "+strings.Join(logins, ", ")+", writers")
	})
	_, err = owner.Exec(ctx,
		`CREATE ROLE writers; GRANT DELETE ON sailings TO writers; GRANT writers TO grouped; GRANT UPDATE (port) ON sailings TO columns; GRANT INSERT ON ports TO views; GRANT USAGE ON SEQUENCE counter TO counts;
		GRANT CREATE ON SCHEMA public TO makes; GRANT CREATE ON DATABASE `+
			pgx.Identifier{owner.Config().Database}.Sanitize()+
			` TO schemes; GRANT pg_signal_backend TO signals; GRANT pg_read_server_files TO reads_files; GRANT ironbell TO chief_of_all; ALTER ROLE names_roles CREATEROLE`)
	require.NoError(t, err)
	as := func(login string, change map[string]any) (writes []string, err error) {
		u, err := url.Parse(dsn)
		require.NoError(t, err)
		port, err := strconv.Atoi(u.Port())
		require.NoError(t, err)
		settings := map[string]any{
			"host": u.Hostname(), "port": port, "database": strings.TrimPrefix(u.Path, "/"), "user": login,
			"tls": "disable",
		}
		password := "login"
		if login == u.User.Username() {
			password, _ = u.User.Password()
		}
		for k, v := range change {
			settings[k] = v
		}
		text, err := json.Marshal(settings)
		require.NoError(t, err)
		s, err := report.Allowed{}.Open("postgres", "tarnwick", text, password)
		require.NoError(t, err)
		defer s.Close()
		return report.ReadsOnly(ctx, s, "tarnwick")
	}
	writes, err := as("plain", nil)
	require.NoError(t, err)
	assert.Empty(t, writes)
	for login, want := range map[string]string{
		"grouped": "grouped may write to sailings", "columns": "columns may write to sailings",
		"views": "views may write to ports", "counts": "counts may write to counter",
		"makes": "makes may create in the schema public", "schemes": "schemes may create schemas",
		"signals": "signals is a member of pg_signal_backend", "names_roles": "names_roles may create roles",
	} {
		_, err := as(login, nil)
		require.ErrorContains(t, err, "its login may do more than read: "+want, login)
		assert.Equal(t, []any{fault.Lasting, fault.Source}, []any{fault.Of(err).Class, fault.Of(err).Scope})
		assert.Contains(t, fault.Of(err).Advice, "may_write")
		writes, err := as(login, map[string]any{"may_write": true})
		require.NoError(t, err)
		assert.Equal(t, []string{want}, writes)
	}
	for login, want := range map[string]string{
		"ironbell": "ironbell is a superuser", "chief_of_all": "chief_of_all is a member of ironbell",
		"reads_files": "reads_files is a member of pg_read_server_files",
	} {
		for _, signed := range []map[string]any{nil, {"may_write": true}, {"statements": true}} {
			_, err := as(login, signed)
			assert.ErrorContains(t, err, want, "%s: nothing can be signed for it", login)
		}
	}
}

func TestWhatALoginOfMariaDBMayDoIsAsked(t *testing.T) {
	port, root := mariadb(t)
	_, err := root.Exec("CREATE DATABASE tarnwick; CREATE DATABASE `odd `` ON x TO y`; USE tarnwick; CREATE TABLE " +
		"tides (id int, port int); CREATE PROCEDURE p() SELECT 1;" +
		`CREATE USER reader@'127.0.0.1' IDENTIFIED BY 'r'; GRANT SELECT, SHOW VIEW ON tarnwick.* TO reader@'127.0.0.1'; GRANT SELECT (id) ON tarnwick.tides TO reader@'127.0.0.1';` +
		"GRANT SELECT ON `odd `` ON x TO y`.* TO reader@'127.0.0.1';" +
		`CREATE USER files@'127.0.0.1' IDENTIFIED BY 'r'; GRANT SELECT, FILE ON *.* TO files@'127.0.0.1';
		CREATE USER super@'127.0.0.1' IDENTIFIED BY 'r'; GRANT SELECT, SUPER ON *.* TO super@'127.0.0.1';
		CREATE USER columns@'127.0.0.1' IDENTIFIED BY 'r'; GRANT SELECT (id), UPDATE (id, port) ON tarnwick.tides TO columns@'127.0.0.1';
		CREATE USER calls@'127.0.0.1' IDENTIFIED BY 'r'; GRANT EXECUTE ON PROCEDURE tarnwick.p TO calls@'127.0.0.1';
		CREATE USER everything@'127.0.0.1' IDENTIFIED BY 'r'; GRANT ALL ON tarnwick.* TO everything@'127.0.0.1';
		CREATE USER gives@'127.0.0.1' IDENTIFIED BY 'r'; GRANT SELECT ON tarnwick.* TO gives@'127.0.0.1' WITH GRANT OPTION;
		CREATE ROLE writers; GRANT DELETE ON tarnwick.* TO writers; CREATE ROLE desk; GRANT writers TO desk;
		CREATE USER roled@'127.0.0.1' IDENTIFIED BY 'r'; GRANT SELECT ON tarnwick.* TO roled@'127.0.0.1'; GRANT desk TO roled@'127.0.0.1';
		CREATE ROLE looks; GRANT SELECT ON tarnwick.* TO looks; CREATE USER looking@'127.0.0.1' IDENTIFIED BY 'r'; GRANT looks TO looking@'127.0.0.1'; SET DEFAULT ROLE looks FOR looking@'127.0.0.1'`)
	require.NoError(t, err)
	as := func(login string, signed bool) ([]string, error) {
		s, err := opened(t, "mysql",
			map[string]any{
				"host": "127.0.0.1", "port": port, "database": "tarnwick", "user": login, "tls": "disable",
				"may_write": signed,
			}, "r", report.Allowed{})
		require.NoError(t, err)
		return report.ReadsOnly(context.Background(), s, "tides")
	}
	for _, login := range []string{"reader", "looking"} {
		writes, err := as(login, false)
		require.NoError(t, err)
		assert.Empty(t, writes)
	}
	for login, want := range map[string]string{
		"files": "files may FILE on *.*", "super": "super may SUPER on *.*",
		"columns": "columns may UPDATE on `tarnwick`.`tides`", "calls": "calls may EXECUTE on PROCEDURE `tarnwick`.`p`",
		"everything": "everything may ALL PRIVILEGES on `tarnwick`.*",
		"gives":      "gives may GRANT OPTION on `tarnwick`.*", "roled": "roled may DELETE on `tarnwick`.*",
	} {
		_, err := as(login, false)
		if assert.ErrorContains(t, err, want, login) {
			assert.NotContains(t, err.Error(), "IDENTIFIED")
		}
		writes, err := as(login, true)
		require.NoError(t, err)
		assert.NotEmpty(t, writes)
	}
}

func TestAnAnswerHasLimitsInBytes(t *testing.T) {
	s := source(t, func(settings map[string]any) { settings["bytes"] = 1 << 20 })
	for text, want := range map[string]string{
		"SELECT repeat('x', 17 * 1024 * 1024) AS wide":           `row 1 has a cell of 17825792 bytes in the column "wide"`,
		"SELECT repeat('x', 1000) FROM generate_series(1, 2000)": "its answer has more than 1048576 bytes by row 1049",
		"SELECT repeat('x', 66 * 1024 * 1024)":                   "and one of more than",
	} {
		_, err := s.Stream(context.Background(), query(text), "Wide", &kept{})
		require.ErrorContains(t, err, want)
		assert.Equal(t, fault.Task, fault.Of(err).Scope)
	}
	looked := query("SELECT repeat('x', 1000) FROM generate_series(1, 2000)")
	looked.Bytes, looked.Rows = 10_000, 100
	_, err := s.Stream(context.Background(), looked, "Wide", &kept{})
	require.ErrorContains(t, err, "its answer has more than 10000 bytes by row 11", "also while somebody looks")
	looked.Rows = 5
	n, err := s.Stream(context.Background(), looked, "Wide", &kept{})
	require.NoError(t, err)
	assert.Equal(t, int64(5), n)
}
