package report_test

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ironbell/internal/attack"
	"ironbell/internal/core/fault"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/report"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// marker stands in what no query of a report may reach.
const marker = "only-for-the-purser"

// sqliteAttacks are queries that would read or write more than their source, or take more
// than their share. OTHER is a database outside, NEW a file that is not there, OWN the
// source itself.
var sqliteAttacks = []string{
	// Comments that two readers read differently, then what a single one would refuse.
	"SELECT 1 /* /* */; PRAGMA query_only=0; ATTACH 'OTHER' AS o; SELECT text FROM o.secret -- */",
	"SELECT 1 /* /* */; ATTACH 'OTHER' AS o; SELECT text FROM o.secret /* */ */",
	"/* /* */ ATTACH 'OTHER' AS o -- */ SELECT 1",
	"SELECT 1; ATTACH 'OTHER' AS o", "SELECT 1; ATTACH 'NEW' AS o", "ATTACH 'OTHER' AS o", "ATTACH 'NEW' AS o",
	"SELECT 1 -- \n; ATTACH 'OTHER' AS o; SELECT text FROM o.secret", "-- \x0b\nATTACH 'OTHER' AS o",
	"\ufeffATTACH 'OTHER' AS o",
	"SELECT 1;\x00; ATTACH 'OTHER' AS o",
	"WITH t AS (SELECT 1) SELECT * FROM t; ATTACH DATABASE 'NEW' AS o; CREATE TABLE o.x (y)",
	"EXPLAIN SELECT 1; ATTACH 'OTHER' AS o", "SELECT * FROM 'OTHER'.secret", `SELECT * FROM "OTHER"."secret"`,
	"DETACH main",
	// Settings.
	"PRAGMA query_only=0", "PRAGMA writable_schema=1", "PRAGMA journal_mode=wal", "PRAGMA temp_store_directory='/tmp'",
	"PRAGMA main.user_version=9", "PRAGMA hard_heap_limit=0",
	"SELECT * FROM pragma_database_list", "SELECT * FROM pragma_query_only(0)",
	"SELECT file FROM pragma_database_list()", "SELECT * FROM pragma_function_list", "VALUES (1); PRAGMA query_only(0)",
	// Writes.
	"DELETE FROM tides", "WITH t AS (SELECT 1) DELETE FROM tides",
	"WITH t AS (SELECT 9) INSERT INTO tides (id) SELECT * FROM t", "WITH t AS (SELECT 1) UPDATE tides SET id = 7",
	"UPDATE tides SET id = 7 RETURNING id",
	"CREATE TABLE x (y)", "CREATE TEMP TABLE tides AS SELECT 9 AS id", "CREATE TEMP VIEW tides AS SELECT 9 AS id",
	"SELECT 1; CREATE TEMP VIEW tides AS SELECT 9 AS id",
	"CREATE TEMP TRIGGER t AFTER INSERT ON tides BEGIN SELECT 1; END", "DROP TABLE tides",
	"ALTER TABLE tides RENAME TO x", "CREATE INDEX i ON tides (id)", "REINDEX", "ANALYZE",
	"REPLACE INTO tides (id) VALUES (1)",
	"VACUUM", "VACUUM INTO 'NEW'", "SELECT 1; VACUUM INTO 'NEW'", "VACUUM main INTO 'NEW'", "BEGIN EXCLUSIVE",
	"SAVEPOINT s", "COMMIT", "CREATE VIRTUAL TABLE v USING fts5(x)", "CREATE VIRTUAL TABLE temp.v USING rtree(a, b, c)",
	// Functions that reach outside.
	"SELECT load_extension('x')", "SELECT load_extension('x', 'y')", "SELECT readfile('OTHER')",
	"SELECT writefile('NEW', 'x')", "SELECT edit('x')", "SELECT fts3_tokenizer('simple')",
	"SELECT fts3_tokenizer('simple', x'00')",
	"SELECT sqlite_compileoption_get(1)", "SELECT sqlite_log(1, 'x')", "SELECT * FROM dbstat",
	"SELECT * FROM sqlite_dbpage", "SELECT * FROM fsdir('/')", "SELECT * FROM bytecode('SELECT 1')",
	"SELECT * FROM sqlite_stmt", "SELECT last_insert_rowid()", "SELECT changes()",
	// More than their share.
	"SELECT hex(zeroblob(100000000))", "SELECT hex(zeroblob(1000000))",
	"SELECT length(replace(hex(zeroblob(500000)), '0', 'xxxxxxxxxxxxxxxxxxxx'))",
	"SELECT printf('%.*c', 100000000, 'x')", "SELECT format('%100000000s', 'x')",
	"SELECT " + strings.Repeat("hex(randomblob(500000)), ", 499) + "1", "SELECT randomblob(100000000)",
	"SELECT group_concat(hex(zeroblob(400000))) FROM tides a, tides b, tides c",
	"SELECT json_group_array(hex(zeroblob(400000))) FROM tides a, tides b, tides c",
	"SELECT 1" + strings.Repeat("+1", 5000), "SELECT 1" + strings.Repeat(" UNION ALL SELECT 1", 2000),
	"SELECT " + strings.Repeat("1,", 3000) + "1",
	"WITH RECURSIVE t(x) AS (SELECT 'x' UNION ALL SELECT x || x FROM t) SELECT max(length(x)) FROM t",
	"SELECT '" + strings.Repeat("a", 2<<20) + "'",
	"SELECT 1 WHERE '" + strings.Repeat("a", 5000) + "' LIKE '" + strings.Repeat("%a", 2000) + "b'",
	// Several statements.
	"SELECT 1; SELECT 2", "SELECT 1;;/* */ -- \n SELECT 2", "SELECT ';'; SELECT 2", "SELECT 1 /* ; */; SELECT 2",
	`SELECT 1 AS "a;b"; SELECT 2`,
}

func TestAttacksOnSQLite(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	make := func(path, statements string) {
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		_, err = db.Exec(statements)
		require.NoError(t, err)
		require.NoError(t, db.Close())
	}
	own, other := filepath.Join(dir, "tides.db"), filepath.Join(outside, "other.db")
	make(own, `CREATE TABLE tides (id INTEGER, port TEXT); INSERT INTO tides VALUES (1, 'EH'), (2, 'GS'), (3, 'EH')`)
	make(other, `CREATE TABLE secret (text TEXT); INSERT INTO secret VALUES ('`+marker+`')`)
	s, err := opened(t, "sqlite", map[string]any{"file": own, "longest": "5s"}, "",
		report.Allowed{Folders: []string{dir}})
	require.NoError(t, err)
	files, err := opened(t, "folder",
		map[string]any{"folder": dir, "tables": map[string]any{"tides": map[string]any{"file": "tides.csv"}}}, "",
		report.Allowed{Folders: []string{dir}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tides.csv"), []byte("id,port\n1,EH\n2,GS\n3,EH\n"), 0o600))
	before := seen(t, dir, outside)
	names := strings.NewReplacer("OTHER", other, "NEW", filepath.Join(outside, "new.db"), "OWN", own)
	sums := attack.On(t, "SQLite, as a source and as files")
	for _, one := range sqliteAttacks {
		query := names.Replace(one)
		for _, source := range []report.Source{s, files} {
			k, err := ask(t, source, query)
			sums.Tried(query, err != nil && !strings.Contains(err.Error(), marker), k, err)
			if err == nil {
				continue
			}
			assert.Equal(t, fault.Lasting, fault.Of(err).Class, "%.200s: %s", query, err)
		}
	}
	assert.Equal(t, before, seen(t, dir, outside), "nothing was written")
	assert.Greater(t, len(sqliteAttacks), 40)

	// What reports need works, and nothing is left from before.
	for query, want := range map[string]string{
		"SELECT count(*) FROM tides;": "3",
		"SELECT group_concat(port, '+') FROM (SELECT port FROM tides ORDER BY id) -- all; of them":         "EH+GS+EH",
		"WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM t WHERE n < 5) SELECT sum(n) FROM t": "15",
		"SELECT strftime('%Y', '2026-07-01') || upper('x') || json_extract('{\"a\": 1}', '$.a')":           "2026X1",
		"SELECT max(r) FROM (SELECT row_number() OVER (ORDER BY id) AS r FROM tides)":                      "3",
		"SELECT sum(value) FROM json_each('[1, 2]')":                                                       "3",
		"SELECT 1 /* /* */":               "1",
		"SELECT ';' /* ; */ ; -- the end": ";",
	} {
		k, err := ask(t, s, query)
		if assert.NoError(t, err, query) {
			assert.Equal(t, [][]string{{want}}, k.rows, query)
		}
	}
}

// seen is what stands in some folders: names and hashes.
func seen(t *testing.T, folders ...string) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, folder := range folders {
		entries, err := os.ReadDir(folder)
		require.NoError(t, err)
		for _, e := range entries {
			text, err := os.ReadFile(filepath.Join(folder, e.Name()))
			require.NoError(t, err)
			out[filepath.Join(folder, e.Name())] = fmt.Sprintf("%x", sha256.Sum256(text))
		}
	}
	return out
}

// mariadbAttacks are queries that would write, change the session for others, read files of
// the server, or hold it up. FILE is a file that the server may read.
var mariadbAttacks = []string{
	// What the server runs in comments.
	"/*!50000 DELETE FROM tides */", "SELECT 1 /*!50000 INTO OUTFILE '/tmp/out' */", "/*M! DELETE FROM tides */",
	"/*M!100000 UPDATE tides SET id = 7 */", "/*! SELECT 1 */", "SELECT /*!00000 load_file('FILE') */",
	"SELECT 1 /*!, load_file('FILE') */", "/*!50000 BEGIN NOT ATOMIC COMMIT; DELETE FROM tides; COMMIT; END */",
	"/*M!100000 BEGIN NOT ATOMIC COMMIT; DROP TABLE tides; END */", "SELECT 1 /*!50000 ; COMMIT; DELETE FROM tides */",
	"/*! SET SESSION time_zone = '+09:00' */", "/*!50000 SET GLOBAL max_connections = 1 */",
	"SELECT 1 /* /*! */, load_file('FILE') /* */", "SELECT 1 /*!*/ /*!, sleep(30) */",
	// Quotes and comments that two readers read differently.
	`SELECT "\"", load_file('FILE') -- "`, `SELECT '\'', load_file('FILE') -- '`,
	"SELECT 1 --1, load_file('FILE')\n , load_file('FILE')", "SELECT 5--load_file('FILE')",
	"SELECT 1 # \n, load_file('FILE')", `SELECT "a""", load_file('FILE') -- "`,
	"SELECT 1 /* /* */, load_file('FILE') -- */", "SELECT `load_file`('FILE')", "SELECT LOAD_FILE/**/('FILE')",
	"SELECT load_file ('FILE')",
	// Statements of other kinds.
	"DELETE FROM tides", "INSERT INTO tides (id) VALUES (9)", "REPLACE INTO tides (id) VALUES (9)",
	"UPDATE tides SET id = 7", "TRUNCATE tides", "DROP TABLE tides", "ALTER TABLE tides ADD x int",
	"CREATE TABLE x (y int)", "CREATE TEMPORARY TABLE x (y int)",
	"BEGIN NOT ATOMIC COMMIT; DELETE FROM tides; END", "COMMIT", "SET SESSION time_zone = '+09:00'",
	"SET GLOBAL read_only = 1", "SET STATEMENT max_statement_time = 0 FOR DELETE FROM tides",
	"PREPARE s FROM 'DELETE FROM tides'", "EXECUTE IMMEDIATE 'DELETE FROM tides'",
	"CALL nobody()", "DO sleep(30)", "HANDLER tides OPEN", "LOCK TABLES tides WRITE", "FLUSH TABLES", "KILL 1",
	"GRANT ALL ON *.* TO reader@'127.0.0.1'", "LOAD DATA INFILE 'FILE' INTO TABLE tides", "USE mysql",
	"ANALYZE FORMAT=JSON DELETE FROM tides", "EXPLAIN ANALYZE DELETE FROM tides",
	"WITH t AS (SELECT 1) DELETE FROM tides", "WITH t AS (SELECT 1) UPDATE tides SET id = 7",
	"SELECT 1; DELETE FROM tides", "SELECT 1; COMMIT; DELETE FROM tides",
	"SELECT 1;/* */ SET SESSION time_zone = '+09:00'",
	// Functions that reach outside, write or wait.
	"SELECT * FROM tides INTO OUTFILE '/tmp/out'", "SELECT 'x' INTO DUMPFILE '/tmp/out'", "SELECT load_file('FILE')",
	"SELECT sleep(30)", "SELECT benchmark(1000000000000, md5('x'))", "SELECT get_lock('x', 30)",
	"SELECT nextval(numbers)", "SELECT setval(numbers, 99)", "SELECT NEXT VALUE FOR numbers",
}

func TestAttacksOnMariaDB(t *testing.T) {
	port, root := mariadb(t)
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, []byte(marker), 0o644)) // the server is to be able to read it
	require.NoError(t, os.Chmod(filepath.Dir(file), 0o755))       // so is its folder
	_, err := root.Exec(`CREATE DATABASE tarnwick; USE tarnwick; CREATE TABLE tides (id int); INSERT INTO tides VALUES (1), (2), (3); CREATE SEQUENCE numbers;
		CREATE USER writer@'127.0.0.1' IDENTIFIED BY 'w'; GRANT ALL ON *.* TO writer@'127.0.0.1' WITH GRANT OPTION;
		CREATE USER reader@'127.0.0.1' IDENTIFIED BY 'r'; GRANT SELECT ON tarnwick.* TO reader@'127.0.0.1'`)
	require.NoError(t, err)
	stands := func() (all []string) {
		for _, query := range []string{
			"SELECT group_concat(id ORDER BY id) FROM tarnwick.tides",
			"SELECT group_concat(table_name ORDER BY table_name) FROM information_schema.tables WHERE table_schema " +
				"= 'tarnwick'",
			"SELECT concat_ws('/', @@global.max_connections, @@global.read_only, @@global.time_zone)",
			"SELECT count(*) FROM information_schema.user_privileges",
			"SELECT next_not_cached_value FROM tarnwick.numbers",
		} {
			var text string
			require.NoError(t, root.QueryRow(query).Scan(&text))
			all = append(all, text)
		}
		return all
	}
	before := stands()
	for user, password := range map[string]string{"writer": "w", "reader": "r"} {
		sums := attack.On(t,
			"MariaDB, by a login that could "+map[string]string{"writer": "write", "reader": "read"}[user])
		s, err := opened(t, "mysql",
			map[string]any{
				"host": "127.0.0.1", "port": port, "database": "tarnwick", "user": user, "tls": "disable",
				"longest": "1s",
			}, password, report.Allowed{})
		require.NoError(t, err)
		for _, one := range mariadbAttacks {
			query := strings.ReplaceAll(one, "FILE')", file+"')")
			k, err := ask(t, s, query)
			came := fmt.Sprint(err)
			if err == nil {
				came = fmt.Sprint(k.rows) // what it said did no harm
			}
			now := stands()
			sums.Tried(query, !strings.Contains(came, marker) && slices.Equal(before, now), came, now)
			before = now // each is told once
		}
		k, err := ask(t, s, "SELECT @@session.time_zone, 'a\\'b', \"c\\\"d\", 5--1 -- the end\n")
		require.NoError(t, err)
		assert.Equal(t, [][]string{{"+00:00", "a'b", `c"d`, "6"}}, k.rows)
	}
	assert.Greater(t, len(mariadbAttacks), 40)
}

// postgresAttacks are queries that would write, change the session for others, reach the
// server's files or others' work, or hold it up. OTHER is the number of another's process.
var postgresAttacks = []string{
	// Statements of other kinds, alone, behind another, and within one.
	"DELETE FROM tides", "INSERT INTO tides VALUES (9)", "UPDATE tides SET id = 7", "TRUNCATE tides",
	"DROP TABLE tides", "CREATE TABLE x (y int)", "CREATE TEMP TABLE x (y int)", "ALTER TABLE tides ADD x int",
	"MERGE INTO tides t USING (SELECT 1 AS id) s ON t.id = s.id WHEN MATCHED THEN DELETE",
	"WITH t AS (DELETE FROM tides RETURNING id) SELECT * FROM t",
	"WITH t AS (INSERT INTO tides VALUES (9) RETURNING id) SELECT * FROM t",
	"WITH t AS (UPDATE tides SET id = 7 RETURNING id) SELECT * FROM t",
	"WITH RECURSIVE t AS (DELETE FROM tides RETURNING id) TABLE t",
	"WITH t AS MATERIALIZED (DELETE FROM tides RETURNING 1) VALUES (1)",
	"SELECT 1; DELETE FROM tides", "SELECT 1; COMMIT; DELETE FROM tides", "COMMIT; DELETE FROM tides",
	"SELECT 1; ROLLBACK; BEGIN READ WRITE; DELETE FROM tides; COMMIT", "SELECT * INTO x FROM tides",
	"SELECT id FROM tides FOR UPDATE", "SELECT id FROM tides FOR NO KEY UPDATE", "VALUES (1); DROP TABLE tides",
	"TABLE tides; DROP TABLE tides",
	"DO $$ BEGIN DELETE FROM tides; END $$", "CALL nobody()", "COPY tides FROM PROGRAM 'id'",
	"COPY tides TO '/tmp/out'", "COPY (SELECT 1) TO PROGRAM 'id'", "EXPLAIN ANALYZE DELETE FROM tides",
	"PREPARE p AS DELETE FROM tides", "EXECUTE p", "DECLARE c CURSOR WITH HOLD FOR SELECT 1", "LOCK TABLE tides",
	"VACUUM", "REINDEX TABLE tides", "CLUSTER", "LISTEN x", "NOTIFY x", "DISCARD ALL", "CHECKPOINT", "LOAD 'x'",
	// The session that the next query may get.
	"SET statement_timeout = 0", "SET SESSION CHARACTERISTICS AS TRANSACTION READ WRITE", "SET TRANSACTION READ WRITE",
	"RESET ALL", "SET ROLE postgres", "SET SESSION AUTHORIZATION postgres",
	"SELECT set_config('statement_timeout', '0', false)", "SELECT set_config('transaction_read_only', 'off', true)",
	`SELECT U&"set\\005fconfig"('statement_timeout', '0', false)`, "SELECT pg_catalog . set_config ('a.b', 'c', false)",
	"SELECT a$$b$, set_config('statement_timeout', '0', false) FROM (SELECT 1 AS a$$b$) x --$b$",
	"SELECT pg_advisory_lock(1)", "SELECT pg_advisory_lock_shared(1)", "SELECT pg_try_advisory_lock(1)",
	// Others' work, the server's files, and its time.
	"SELECT pg_terminate_backend(OTHER)", "SELECT pg_cancel_backend(OTHER)", "SELECT pg_read_file('PG_VERSION')",
	"SELECT pg_read_binary_file('PG_VERSION')", "SELECT pg_ls_dir('.')", "SELECT pg_stat_file('PG_VERSION')",
	"SELECT lo_import('/etc/passwd')", "SELECT lo_from_bytea(0, 'x')", "SELECT lo_create(0)",
	"SELECT lo_export(1, '/tmp/out')", "SELECT lo_unlink(1)",
	"SELECT dblink_exec('dbname=postgres', 'DELETE FROM tides')",
	"SELECT query_to_xml('DELETE FROM tides RETURNING 1', true, true, '')", "SELECT database_to_xml(true, true, '')",
	"SELECT cursor_to_xml('c', 1, true, true, '')", "SELECT pg_sleep(30)", "SELECT pg_sleep_for('30 s')",
	"SELECT pg_sleep_until(now() + interval '30 s')", "SELECT nextval('numbers')", "SELECT setval('numbers', 99)",
	"SELECT pg_notify('x', 'y')", "SELECT pg_reload_conf()", "SELECT pg_rotate_logfile()", "SELECT pg_switch_wal()",
	"SELECT pg_logical_emit_message(false, 'x', 'y')",
	"SELECT pg_create_restore_point('x')", "SELECT pg_export_snapshot()", "SELECT pg_stat_reset()",
	"SELECT pg_promote()", "SELECT wipe()", "SELECT ts_stat('DELETE FROM tides')", "SELECT repeat('x', 1073741823)",
	"SELECT string_agg(repeat('x', 1000000), '') FROM generate_series(1, 1000)",
	"SELECT count(*) FROM generate_series(1, 1000000) a, generate_series(1, 1000000) b",
}

func TestAttacksOnPostgreSQL(t *testing.T) {
	dsn := pgtest.New(t, "attacked", func(ctx context.Context, dsn string) error {
		conn, err := pgx.Connect(ctx, dsn)
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close(ctx) }()
		_, err = conn.Exec(ctx,
			`CREATE TABLE tides (id int); INSERT INTO tides VALUES (1), (2), (3); CREATE SEQUENCE numbers;
			CREATE FUNCTION wipe() RETURNS int LANGUAGE sql AS 'DELETE FROM tides; SELECT 1'`)
		return err
	})
	ctx := context.Background()
	root, err := pgx.Connect(ctx, dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = root.Close(ctx) })
	stands := func() (text string) {
		require.NoError(t,
			root.QueryRow(ctx,
				`SELECT concat_ws('/', (SELECT string_agg(id::text, ',' ORDER BY id) FROM tides), (SELECT string_agg(relname, ',' ORDER BY relname) FROM pg_class WHERE relnamespace = 'public'::regnamespace),
			(SELECT last_value || is_called::text FROM numbers), (SELECT count(*) FROM pg_largeobject_metadata), (SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND database = (SELECT oid FROM pg_database WHERE datname = current_database())))`).Scan(&text))
		return text
	}
	before := stands()
	for kind, roles := range map[string]string{"write": pgtest.Writer, "read": pgtest.Reader} {
		own := pgtest.Login(t, dsn, roles)
		u, err := url.Parse(own)
		require.NoError(t, err)
		if kind == "write" {
			_, err = root.Exec(ctx,
				fmt.Sprintf("GRANT ALL ON tides, numbers TO %[1]s; GRANT ALL ON SCHEMA public TO %[1]s",
					pgx.Identifier{u.User.Username()}.Sanitize()))
			require.NoError(t, err)
		}
		other, err := pgx.Connect(ctx, own) // somebody else's work by the same login
		require.NoError(t, err)
		t.Cleanup(func() { _ = other.Close(ctx) })
		port, err := strconv.Atoi(u.Port())
		require.NoError(t, err)
		s, err := opened(t, "postgres",
			map[string]any{
				"host": u.Hostname(), "port": port, "database": strings.TrimPrefix(u.Path, "/"),
				"user": u.User.Username(), "tls": "disable", "conns": 1, "longest": "1s", "may_write": kind == "write",
			}, "login", report.Allowed{})
		require.NoError(t, err)
		plain, err := opened(t, "postgres",
			map[string]any{
				"host": u.Hostname(), "port": port, "database": strings.TrimPrefix(u.Path, "/"),
				"user": u.User.Username(), "tls": "verify-full",
			}, "login", report.Allowed{})
		require.NoError(t, err)
		_, err = plain.Test(ctx)
		assert.ErrorContains(t, err, "the server offers no TLS")
		const session = "SELECT current_setting('statement_timeout'), " +
			"current_setting('default_transaction_read_only'), current_user, current_setting('role')"
		was, err := ask(t, s, session)
		require.NoError(t, err)
		sums := attack.On(t, "PostgreSQL, by a login that could "+kind)
		for _, one := range postgresAttacks {
			query := strings.ReplaceAll(one, "OTHER", strconv.Itoa(int(other.PgConn().PID())))
			k, err := ask(t, s, query)
			came := fmt.Sprint(err)
			if err == nil {
				came = fmt.Sprint(k.rows) // what it said did no harm
			}
			now := stands()
			is, err := ask(t, s, session)
			sums.Tried(query,
				now == before && other.Ping(ctx) == nil && err == nil && assert.ObjectsAreEqual(was.rows, is.rows),
				came, now, err)
			before = now // each is told once
		}
	}
	assert.Greater(t, len(postgresAttacks), 40)
	_, err = root.Exec(ctx, "DELETE FROM tides WHERE id = 1")
	require.NoError(t, err)
	assert.NotEqual(t, before, stands(), "what is changed is seen")
}

// Names and quotes are read as PostgreSQL reads them, so that no forbidden function hides
// in what we take for a text, or for another name.
func TestNothingHidesFromTheReaderOfPostgreSQL(t *testing.T) {
	const call = "set_config('statement_timeout', '0', false)"
	sums := attack.On(t, "the reader of PostgreSQL's text")
	for _, query := range []string{
		`SELECT U&"set\005fconfig"('statement_timeout', '0', false)`, `SELECT u&"\0073et_config"('a', 'b', false)`,
		`SELECT U&"set!005fconfig" UESCAPE '!' ('a', 'b', false)`,
		"SELECT a$$b$, " + call + " FROM (SELECT 1 AS a$$b$) x --$b$", "SELECT a$b$, " + call + " --$b$",
		"SELECT 1$$'$$, " + call + " --'", "SELECT 1 $x$'$x$, " + call + " --'",
		"SELECT 'a\\', " + call + " --'", "SELECT E'a\\'', " + call + " --'",
		"SELECT /* /* */ ' */ 1, " + call + " --'", `SELECT "set_config"('a', 'b', false)`,
		"SELECT SET_CONFIG('a', 'b', false)", "SELECT pg_catalog.set_config('a', 'b', false)",
		"SELECT $$a$$||" + call, "SELECT $é$'$é$, " + call + " --'",
	} {
		_, err := report.Prepare(query, nil, nil)
		sums.Tried(query, err != nil)
	}
	for _, fine := range []string{
		"SELECT $$set_config$$", "SELECT 'set_config'", "SELECT a$b FROM t -- set_config",
		"SELECT menu&\"x\" FROM t", "SELECT 1 /* /* set_config */ */", "SELECT 'it''s' || $q$set_config$q$",
	} {
		_, err := report.Prepare(fine, nil, nil)
		assert.NoError(t, err, fine)
	}
}

// sqlServerAttacks are texts that the reader refuses before anything is asked. The wall is
// the login; no server was there to try that on.
var sqlServerAttacks = []string{
	"SELECT 1; COMMIT; DROP TABLE t", "SELECT 1 COMMIT DROP TABLE t", "SELECT 1 DROP TABLE t", "SELECT 1;DELETE FROM t",
	"SELECT 1 DELETE FROM t", "SELECT 1 INSERT t VALUES (1)", "SELECT * INTO x FROM t", "SELECT 1 UPDATE t SET a = 1",
	"SELECT 1 MERGE t USING u ON 1 = 1 WHEN MATCHED THEN DELETE",
	"SELECT 1 TRUNCATE TABLE t", "SELECT 1 EXEC xp_cmdshell 'dir'", "SELECT 1 EXECUTE ('DROP TABLE t')",
	"SELECT 1 exec sp_executesql N'DROP TABLE t'", "SELECT 1 ROLLBACK", "SELECT 1 SAVE TRANSACTION x",
	"SELECT 1 BEGIN TRAN", "SELECT 1 SET NOCOUNT ON", "SELECT 1 USE master", "SELECT 1 REVERT", "SELECT 1 SETUSER",
	"SELECT 1 DECLARE @x int", "SELECT 1 GRANT CONTROL TO public", "SELECT 1 REVOKE SELECT ON t TO x",
	"SELECT 1 DENY SELECT ON t TO x", "SELECT 1 CREATE LOGIN x WITH PASSWORD = 'y'", "SELECT 1 ALTER LOGIN sa ENABLE",
	"SELECT 1 BACKUP DATABASE d TO DISK = 'x'", "SELECT 1 RESTORE DATABASE d", "SELECT 1 DBCC CHECKDB",
	"SELECT 1 KILL 5", "SELECT 1 SHUTDOWN", "SELECT 1 RECONFIGURE", "SELECT 1 CHECKPOINT",
	"SELECT 1 WAITFOR DELAY '00:10:00'", "SELECT * FROM OPENROWSET('x', 'y', 'z')",
	"SELECT * FROM OPENQUERY(s, 'DELETE FROM t')", "SELECT * FROM OPENDATASOURCE('x', 'y').d.s.t",
	"SELECT 1 BULK INSERT t FROM 'x'", "SELECT 1 WHILE 1 = 1 SELECT 1", "SELECT 1 RAISERROR ('x', 20, 1) WITH LOG",
	"SELECT 1 THROW 50000, 'x', 1", "SELECT 1 PRINT 'x'", "SELECT 1 GOTO x",
	"DROP TABLE t", "EXEC x", "WITH t AS (SELECT 1 AS a) DELETE FROM t",
	"WITH t AS (SELECT 1 AS a) INSERT x SELECT a FROM t", "SELECT 1 /* /* */ */ DROP TABLE t",
	"SELECT 1 /* /* */ -- */\n*/ DROP TABLE t", "SELECT '''' DROP TABLE t --'", "SELECT [a]]b] FROM t DROP TABLE t",
	`SELECT "a""b" FROM t DROP TABLE t`, "SELECT 1\u00a0DROP TABLE t", "SELECT 1;;;\nSELECT 2",
	"SELECT 1DROP TABLE t", "SELECT 1e5DROP TABLE t", "SELECT 0xDROP TABLE t", "SELECT 1.5DELETE t",
	"SELECT a\u3000DROP TABLE t", "SELECT 1.DROP TABLE t",
}

func TestAttacksOnTheReaderOfSQLServer(t *testing.T) {
	s, err := opened(t, "sqlserver",
		map[string]any{"host": "127.0.0.1", "port": 1, "database": "tarnwick", "user": "reader", "tls": "disable"}, "x",
		report.Allowed{Untried: []string{"sqlserver"}})
	require.NoError(t, err)
	sums := attack.On(t, "the reader of SQL Server's text")
	for _, query := range sqlServerAttacks {
		_, err := ask(t, s, query)
		sums.Tried(query, err != nil && fault.Of(err).Scope == fault.Task, err)
	}
	assert.Greater(t, len(sqlServerAttacks), 40)
	_, err = ask(t, s,
		"SELECT [update], 'DROP TABLE t' AS \"set one\", 1.5e3, 0xFF, a1 FROM [use] ORDER BY 1 OFFSET 1 ROWS FETCH "+
			"NEXT 2 ROWS ONLY; -- the end")
	assert.Equal(t, fault.Source, fault.Of(err).Scope, "it is asked: %s", err)
}
