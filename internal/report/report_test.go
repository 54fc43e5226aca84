package report_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/freeport"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/report"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

var params = []job.Parameter{{Name: "from", Type: job.TypeDate}, {Name: "port", Type: job.TypeText}}

func TestPrepare(t *testing.T) {
	for query, want := range map[string]string{
		"select :from, :port, :from":               "select $1::date, $2::text, $1::date",
		"select ':from', \":port\"":                "select ':from', \":port\"",
		"select 1 -- :from\n, :port":               "select 1 -- :from\n, $1::text",
		"select /* :from /* :port */ */ :port":     "select /* :from /* :port */ */ $1::text",
		"select $$ :from $$, $q$ :port $q$, :port": "select $$ :from $$, $q$ :port $q$, $1::text",
		"select a::text, b :: date, '10:30'":       "select a::text, b :: date, '10:30'",
		"select x[1:2], x[lo:hi]":                  "select x[1:2], x[lo:hi]",
		"select x[:from]":                          "select x[$1::date]",
		"select E'it\\'s :from', :port":            "select E'it\\'s :from', $1::text",
		"select 'it''s :from', :port":              "select 'it''s :from', $1::text",
		"select 'open :from":                       "select 'open :from",
		"select :port||'é:from'":                   "select $1::text||'é:from'",
	} {
		st, err := report.Prepare(query, params, nil)
		if assert.NoError(t, err, query) {
			assert.Equal(t, want, st.Text, query)
		}
	}
	_, err := report.Prepare("select 1\nwhere a = :prot", params, nil)
	assert.EqualError(t, err, "line 2 speaks of :prot, which is no parameter of the report; it has :from, :port")
}

// company is a small database with a login that may read only.
func company(ctx context.Context, dsn string) error {
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(ctx) }()
	_, err = conn.Exec(ctx, `CREATE ROLE reader LOGIN PASSWORD 'reader';
		CREATE TABLE sailings (id int, port text, due timestamptz, litres numeric(10,2), ratio float8, cancelled boolean, day date);
		INSERT INTO sailings VALUES (1, 'Pennold', '2026-07-01 05:30+00', 120.50, 0.5, false, '2026-07-01'), (2, '=Fennmouth', NULL, NULL, 'NaN', true, 'infinity');
		GRANT SELECT, INSERT ON sailings TO reader`)
	return err
}

func source(t *testing.T, change func(map[string]any)) report.Source {
	t.Helper()
	u, err := url.Parse(pgtest.New(t, "company", company))
	require.NoError(t, err)
	port, err := strconv.Atoi(u.Port())
	require.NoError(t, err)
	settings := map[string]any{
		"host": u.Hostname(), "port": port, "database": strings.TrimPrefix(u.Path, "/"), "user": "reader",
		"tls": "disable",
	}
	password := "reader"
	if change != nil {
		change(settings)
		if p, ok := settings["password"].(string); ok {
			password = p
			delete(settings, "password")
		}
	}
	text, err := json.Marshal(settings)
	require.NoError(t, err)
	s, err := report.Allowed{}.Open("postgres", "tarnwick", text, password)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// kept is a sink that copies what it is given.
type kept struct {
	columns []rows.Column
	rows    [][]string
	stop    int
}

func (k *kept) Columns(_ string, columns []rows.Column) error {
	k.columns = columns
	return nil
}

func (k *kept) Row(r rows.Row) error {
	line := make([]string, len(r))
	for i, c := range r {
		line[i] = string(c.Text)
		if c.Null {
			line[i] = "(null)"
		}
	}
	k.rows = append(k.rows, line)
	if k.stop > 0 && len(k.rows) == k.stop {
		return fmt.Errorf("enough")
	}
	return nil
}

func query(sql string) report.Query {
	return report.Query{SQL: sql, Params: params, Zone: "Europe/London", Limit: 5 * time.Second, Values: []job.Bound{
		{Name: "from", Type: job.TypeDate, Text: "2026-06-01"},
		{Name: "port", Type: job.TypeText, Text: "'; DROP TABLE sailings; --"},
	}}
}

func TestStreamGivesTypedTextInTheJobsZone(t *testing.T) {
	var k kept
	n, err := source(t, nil).Stream(context.Background(),
		query(`SELECT *, :from AS "from", :port AS port2 FROM sailings WHERE day >= :from ORDER BY id`), "Sailings", &k)
	require.NoError(t, err)
	assert.Equal(t, int64(2), n)
	kinds := []rows.Kind{}
	for _, c := range k.columns {
		kinds = append(kinds, c.Kind)
	}
	assert.Equal(t,
		[]rows.Kind{
			rows.Whole, rows.Text, rows.Instant, rows.Number, rows.Number, rows.YesNo, rows.Date, rows.Date,
			rows.Text,
		}, kinds)
	assert.Equal(t, [][]string{
		{
			"1", "Pennold", "2026-07-01 06:30:00+01", "120.50", "0.5", "f", "2026-07-01", "2026-06-01",
			"'; DROP TABLE sailings; --",
		},
		{"2", "=Fennmouth", "(null)", "(null)", "NaN", "t", "infinity", "2026-06-01", "'; DROP TABLE sailings; --"},
	}, k.rows)
}

func TestFaultsKnowWhatTheyAre(t *testing.T) {
	nobody, err := freeport.Find(context.Background())
	require.NoError(t, err)
	for _, c := range []struct {
		name, sql string
		change    func(map[string]any)
		limit     time.Duration
		class     fault.Class
		scope     fault.Scope
		want      string
	}{
		{
			"a column that is not there", "SELECT id,\n  :from,\n  prot FROM sailings", nil, 0, fault.Lasting, fault.Task,
			`column "prot" does not exist (line 3, column 3), SQLSTATE 42703`,
		},
		{
			"division by zero", "SELECT 1 / (id - id) FROM sailings", nil, 0, fault.Lasting, fault.Task,
			"division by zero",
		},
		{"two statements", "SELECT 1; SELECT 2", nil, 0, fault.Lasting, fault.Task, "cannot insert multiple commands"},
		{
			"a write", "INSERT INTO sailings (id) VALUES (3) RETURNING id", nil, 0, fault.Lasting, fault.Task,
			"read-only transaction",
		},
		{
			"a way to write after all", "SELECT set_config('transaction_read_only', 'off', false)", nil, 0, fault.Lasting,
			fault.Task, "may not use set_config, which changes settings",
		},
		{"an unknown parameter", "SELECT :nobody", nil, 0, fault.Lasting, fault.Task, "no parameter of the report"},
		{"a cell of 200 MB", "SELECT repeat('x', 200000000)", nil, 0, fault.Lasting, fault.Task, "a row has 20000"},
		{
			"too slow", "SELECT pg_sleep(20)", nil, 200 * time.Millisecond, fault.Lasting, fault.Task,
			"longer than its limit of 200ms",
		},
		{
			"nobody listens", "SELECT 1", func(s map[string]any) { s["port"] = nobody }, 0, fault.Passing, fault.Source,
			"connection refused",
		},
		{
			"wrong password", "SELECT 1", func(s map[string]any) { s["password"] = "wrong" }, 0, fault.Lasting,
			fault.Source, "password authentication failed",
		},
		{
			"no such database", "SELECT 1", func(s map[string]any) { s["database"] = "nowhere" }, 0, fault.Lasting,
			fault.Source, `database "nowhere" does not exist`,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			q := query(c.sql)
			if c.limit > 0 {
				q.Limit = c.limit
			}
			_, err := source(t, c.change).Stream(context.Background(), q, "Sailings", &kept{})
			require.Error(t, err)
			f := fault.Of(err)
			assert.Contains(t, f.Error(), c.want)
			assert.Equal(t, c.class, f.Class)
			assert.Equal(t, c.scope, f.Scope)
			assert.NotContains(t, f.Error(), "reader:", "no password in a message")
		})
	}
}

func TestASinkThatStopsEndsTheQueryAndTheConnectionIsClean(t *testing.T) {
	s := source(t, func(m map[string]any) { m["conns"] = 1 })
	_, err := s.Stream(context.Background(), query("SELECT generate_series(1, 10000000)"), "Many", &kept{stop: 3})
	require.ErrorContains(t, err, "enough")
	var k kept
	_, err = s.Stream(context.Background(), query("SELECT current_setting('application_name')"), "Two", &k)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"ironbell"}}, k.rows)
	k = kept{}
	many := query("SELECT generate_series(1, 100000000)")
	many.Rows = 5
	n, err := s.Stream(context.Background(), many, "First", &k)
	require.NoError(t, err, "five were wanted, and the query need not go on")
	assert.EqualValues(t, 5, n)
	limited := source(t, func(m map[string]any) { m["rows"] = 10 })
	_, err = limited.Stream(context.Background(), query("SELECT generate_series(1, 11)"), "Many", &kept{})
	assert.ErrorContains(t, err, "more than 10 rows, which is the limit of source")
}

// A query that runs as an identity tries to get out of it.
func TestNoQueryGetsOutOfItsIdentity(t *testing.T) {
	ctx := context.Background()
	dsn := pgtest.New(t, "company", company)
	owner, err := pgx.Connect(ctx, dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = owner.Close(ctx) })
	_, err = owner.Exec(ctx,
		`CREATE ROLE pennold LOGIN PASSWORD 'pennold'; CREATE ROLE chief LOGIN BYPASSRLS PASSWORD 'chief'; CREATE ROLE deputy LOGIN PASSWORD 'deputy'; GRANT pg_read_all_data TO deputy;
		ALTER TABLE sailings ENABLE ROW LEVEL SECURITY; CREATE POLICY own ON sailings USING (lower(port) = current_user);
		GRANT SELECT, INSERT, UPDATE, DELETE ON sailings TO pennold, chief, deputy; CREATE SEQUENCE counter; GRANT USAGE ON SEQUENCE counter TO pennold;
		CREATE TABLE secrets (x int); CREATE FUNCTION peep() RETURNS SETOF sailings LANGUAGE sql AS 'SELECT * FROM sailings'`)
	require.NoError(t, err)
	t.Cleanup(func() {
		_, _ = owner.Exec(context.Background(),
			`DROP OWNED BY pennold, chief, deputy; DROP ROLE pennold, chief, deputy`)
	})
	as := func(login string) report.Source {
		u, err := url.Parse(dsn)
		require.NoError(t, err)
		port, err := strconv.Atoi(u.Port())
		require.NoError(t, err)
		text, err := json.Marshal(map[string]any{
			"host": u.Hostname(), "port": port, "database": strings.TrimPrefix(u.Path, "/"), "user": login,
			"tls": "disable", "conns": 1, "may_write": true,
		})
		require.NoError(t, err)
		s, err := report.Allowed{}.Open("postgres", "tarnwick", text, login)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		return s
	}
	// However the login is set, a backslash ends no quote that we take for open, or the other way.
	_, err = owner.Exec(ctx, `ALTER ROLE pennold SET standard_conforming_strings = off`)
	require.NoError(t, err)
	s := as("pennold")
	for range 2 { // the second time over the line that was used
		var k kept
		_, err = s.Stream(ctx, query(`SELECT '\', ' || current_setting(''standard_conforming_strings''), '`), "Quotes",
			&k)
		require.NoError(t, err)
		assert.Equal(t, [][]string{{`\`, " || current_setting('standard_conforming_strings'), "}}, k.rows)
	}
	require.NoError(t, report.Confined(ctx, s.(report.Checked), "Pennold"))
	assert.Equal(t, "pennold at tarnwick", s.Login())
	for sql, want := range map[string]string{
		"SET ROLE ironbell":               "gives no columns",
		"SET SESSION AUTHORIZATION chief": "gives no columns",
		"RESET ALL":                       "gives no columns",
		"BEGIN READ WRITE":                "gives no columns",
		"COMMIT":                          "gives no columns",
		"DISCARD ALL":                     "gives no columns",
		"DO $$ BEGIN DELETE FROM sailings; END $$":                                            "gives no columns",
		"COPY sailings TO PROGRAM 'cat'":                                                      "gives no columns",
		"SELECT set_config('role', 'chief', true)":                                            "may not use set_config",
		`SELECT pg_catalog."set_config"('transaction_read_only', 'off', true)`:                "may not use set_config",
		"SELECT query_to_xml('select set_config(''role'', ''chief'', true)', true, true, '')": "may not use query_to_xml",
		"INSERT INTO sailings (id, port) VALUES (9, 'pennold') RETURNING id":                  "read-only transaction",
		"WITH gone AS (DELETE FROM sailings RETURNING 1) SELECT * FROM gone":                  "read-only transaction",
		"SELECT nextval('counter')":                                                           "read-only transaction",
		"SELECT * FROM sailings FOR UPDATE":                                                   "read-only transaction",
		"CREATE TABLE mine AS SELECT 1 AS one":                                                "gives no columns",
		"SELECT * INTO mine FROM sailings":                                                    "gives no columns",
		"SELECT * FROM secrets":                                                               "permission denied",
		"SELECT 1; COMMIT; DELETE FROM sailings":                                              "multiple commands",
	} {
		_, err := s.Stream(ctx, query(sql), "Out", &kept{})
		if assert.Error(t, err, sql) {
			assert.Contains(t, err.Error(), want, sql)
		}
	}
	for _, sql := range []string{"SELECT port FROM sailings", "SELECT port FROM peep()"} {
		var k kept
		_, err = s.Stream(ctx, query(sql), "Own", &k)
		require.NoError(t, err)
		assert.Equal(t, [][]string{{"Pennold"}}, k.rows, "its own rows, and no others")
	}
	for login, want := range map[string]string{
		"chief": "chief bypasses row security", "deputy": "deputy is a member of pg_read_all_data",
	} {
		assert.ErrorContains(t, report.Confined(ctx, as(login).(report.Checked), login), want)
	}
}

func TestCancelEndsTheQueryAtTheServer(t *testing.T) {
	s := source(t, nil)
	ctx, stop := context.WithCancel(context.Background())
	time.AfterFunc(200*time.Millisecond, stop)
	_, err := s.Stream(ctx, query("SELECT pg_sleep(60)"), "Slow", &kept{})
	require.ErrorIs(t, err, context.Canceled)
	require.Eventually(t, func() bool {
		var k kept
		_, err := s.Stream(context.Background(),
			query("SELECT count(*) FROM pg_stat_activity WHERE query LIKE 'SELECT pg_sleep(60)%' AND state = 'active'"),
			"Left", &k)
		require.NoError(t, err)
		return k.rows[0][0] == "0"
	}, time.Minute, 100*time.Millisecond)
}

func TestDescribeAndTest(t *testing.T) {
	s := source(t, nil)
	columns, err := s.Describe(context.Background(), query("SELECT id, day FROM sailings WHERE day > :from"))
	require.NoError(t, err)
	assert.Equal(t, []rows.Column{{Name: "id", Kind: rows.Whole}, {Name: "day", Kind: rows.Date}}, columns)
	said, err := s.Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, said, "signed in as reader; PostgreSQL")
}
