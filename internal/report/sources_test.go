package report_test

import (
	"context"
	"crypto/x509"
	"database/sql"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/internal/child"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/freeport"
	"ironbell/internal/outgoing"
	"ironbell/internal/report"
	"ironbell/standin/gate"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the driver that makes the file
)

// opened opens a source of any driver.
func opened(t *testing.T, driver string, settings map[string]any, password string,
	allowed report.Allowed,
) (report.Source, error) {
	t.Helper()
	text, err := json.Marshal(settings)
	require.NoError(t, err)
	s, err := allowed.Open(driver, "tides", text, password)
	if err == nil {
		t.Cleanup(s.Close)
	}
	return s, err
}

// ask puts a query with a port and a day, and gives what came.
func ask(t *testing.T, s report.Source, text string, ports ...string) (*kept, error) {
	t.Helper()
	k := &kept{}
	_, err := s.Stream(context.Background(), report.Query{
		SQL: text, Zone: "Europe/London", Limit: 20 * time.Second,
		Params: []job.Parameter{
			{Name: "port", Type: job.TypeText, Several: true, All: true},
			{Name: "day", Type: job.TypeDate},
			{Name: "least", Type: job.TypeNumber},
			{Name: "at", Type: job.TypeInstant},
		},
		Values: []job.Bound{
			{Name: "port", Type: job.TypeText, Texts: ports},
			{Name: "day", Type: job.TypeDate, Text: "2026-07-01"},
			{Name: "least", Type: job.TypeNumber, Text: "1.5"},
			{Name: "at", Type: job.TypeInstant, Text: "2026-07-01T06:30:00+01:00"},
		},
	}, "Tides", k)
	return k, err
}

func kindsOf(columns []rows.Column) map[string]rows.Kind {
	kinds := map[string]rows.Kind{}
	for _, c := range columns {
		kinds[c.Name] = c.Kind
	}
	return kinds
}

func TestSQLiteInAFile(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "tides.db")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec(`CREATE TABLE tides (id INTEGER, port TEXT, day DATE, at TIMESTAMP, metres REAL, high BOOLEAN);
		INSERT INTO tides VALUES (1, 'EH', '2026-07-01', '2026-07-01 05:30:00', 2.75, 1), (2, 'it''s :port', NULL, NULL, NULL, 0), (3, 'GS', '2026-07-02', '2026-07-02 06:00:00', 0.5, 1)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s, err := opened(t, "sqlite", map[string]any{"file": path, "rows": 100}, "", report.Allowed{Folders: []string{dir}})
	require.NoError(t, err)
	said, err := s.Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, said, "SQLite 3.")
	k, err := ask(t, s,
		`SELECT id, port, day, at, metres, high, count(*) OVER () AS n FROM tides WHERE port IN (:port) AND day >= :day AND metres > :least ORDER BY id`, "EH", "GS", "'; DROP TABLE tides; --")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"1", "EH", "2026-07-01", "2026-07-01 05:30:00", "2.75", "true", "1"}}, k.rows)
	assert.Equal(t,
		map[string]rows.Kind{
			"id": rows.Whole, "port": rows.Text, "day": rows.Date, "at": rows.Local, "metres": rows.Number,
			"high": rows.YesNo, "n": rows.Whole,
		}, kindsOf(k.columns))
	k, err = ask(t, s, `SELECT id FROM tides WHERE :port_all = 0 AND port IN (:port)`)
	require.NoError(t, err)
	assert.Empty(t, k.rows, "no value at all holds for nothing")
	for query, want := range map[string]string{
		"ATTACH DATABASE '/etc/passwd' AS other": "begins with SELECT, WITH or VALUES; this one " +
			"begins with ATTACH",
		"PRAGMA query_only = 0": "this one begins with PRAGMA",
		"DELETE FROM tides": "begins with SELECT, WITH or VALUES; this one " +
			"begins with DELETE",
		"WITH t AS (SELECT 1) INSERT INTO tides (id) SELECT 9 FROM t": "would do more than read the tables " +
			"of its source",
		"SELECT nobody FROM tides": "no such column: nobody",
		"SELECT load_extension('x')": "would do more than read the tables " +
			"of its source",
		"WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM t) SELECT n FROM t": "more than 100 rows, " +
			"which is the limit of source",
	} {
		_, err := ask(t, s, query)
		if assert.Error(t, err, query) {
			assert.Contains(t, err.Error(), want, query)
			assert.Equal(t, fault.Lasting, fault.Of(err).Class)
		}
	}
	_, err = opened(t, "sqlite", map[string]any{"file": path}, "", report.Allowed{})
	require.ErrorContains(t, err, "is not allowed on this machine")
	columns, err := s.Describe(context.Background(), report.Query{
		SQL: "SELECT id, day FROM tides", Zone: "UTC", Limit: time.Second,
	})
	require.NoError(t, err)
	assert.Equal(t, []rows.Column{{Name: "id", Kind: rows.Whole}, {Name: "day", Kind: rows.Date}}, columns)
}

func TestAQueryThatRunsTooLongOnSQLiteIsEnded(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "tides.db")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec(`CREATE TABLE t (x)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s, err := opened(t, "sqlite", map[string]any{"file": path, "longest": "300ms"}, "",
		report.Allowed{Folders: []string{dir}})
	require.NoError(t, err)
	_, err = ask(t, s, `WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM t) SELECT max(n) FROM t`)
	require.ErrorContains(t, err, "longer than its limit of 300ms")
}

func TestFilesOfAFolderAsTables(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("tide_1.csv",
		"\xef\xbb\xbfPort;Metres;Day;Code;Note\r\nEH;2.75;2026-07-01;007;\"a; b\"\r\nGS;0.5;2026-07-02;008;\r\n")
	write("ports.json",
		`{"made": "today", "rows": [{"code": "EH", "name": "Ellerhaven", "open": true, "lanes": {"n": 2}}, {"code": "GS", "name": "Grey Skerry", "open": false}]}`)
	write("lines.json", "{\"n\": 9007199254740993}\n{\"n\": 2, \"m\": 0.25}\n")
	write("latin.csv", "Ort\nCaf\xe9\n")
	write("broken.csv", "A,B\n1,2,3\n")
	write("empty.csv", "")
	settings := map[string]any{"folder": dir, "tables": map[string]any{
		"tides": map[string]any{"file": "tide_*.csv", "delimiter": ";"}, "ports": map[string]any{"file": "ports.json"},
		"lines":  map[string]any{"file": "lines.json"},
		"latin":  map[string]any{"file": "latin.csv", "encoding": "windows-1252"},
		"broken": map[string]any{"file": "broken.csv"}, "empty": map[string]any{"file": "empty.csv"},
		"gone": map[string]any{"file": "nothing_*.csv"},
	}}
	s, err := opened(t, "folder", settings, "", report.Allowed{Folders: []string{dir}})
	require.NoError(t, err)
	k, err := ask(t, s,
		`SELECT p.name, t.Metres, t.Day, t.Code, t.Note, p.open, p.lanes FROM tides t JOIN ports p ON p.code = t.Port WHERE t.Port IN (:port) ORDER BY 1`, "EH", "GS")
	require.NoError(t, err)
	assert.Equal(t,
		[][]string{
			{"Ellerhaven", "2.75", "2026-07-01", "007", "a; b", "true", `{"n": 2}`},
			{"Grey Skerry", "0.5", "2026-07-02", "008", "(null)", "false", "(null)"},
		}, k.rows)
	assert.Equal(t,
		map[string]rows.Kind{
			"name": rows.Text, "Metres": rows.Number, "Day": rows.Date, "Code": rows.Text, "Note": rows.Text,
			"open": rows.YesNo, "lanes": rows.Text,
		}, kindsOf(k.columns))
	k, err = ask(t, s, `SELECT n, m FROM lines ORDER BY n`)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"2", "0.25"}, {"9007199254740993", "(null)"}}, k.rows)
	// Numbers are kept to the last digit, or are text, or the file is refused: never others.
	long, late := "{\"n\": 18446744073709551616, \"mixed\": 0.5}\n{\"n\": 3, \"mixed\": 9007199254740993}\n",
		strings.Builder{}
	for range 3000 {
		late.WriteString("{\"n\": 1}\n")
	}
	late.WriteString("{\"n\": -18446744073709551617}\n")
	write("long.json", long)
	write("late.json", late.String())
	numbers, err := opened(t, "folder", map[string]any{"folder": dir, "tables": map[string]any{
		"long": map[string]any{"file": "long.json"}, "late": map[string]any{"file": "late.json"},
		"named": map[string]any{"file": "late.json", "text": []string{"n"}},
	}}, "", report.Allowed{Folders: []string{dir}})
	require.NoError(t, err)
	k, err = ask(t, numbers, `SELECT n, mixed FROM long`)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"18446744073709551616", "0.5"}, {"3", "9007199254740993"}}, k.rows)
	_, err = ask(t, numbers, `SELECT n FROM late`)
	assert.ErrorContains(t, err,
		`row 3001 has -18446744073709551617 in the column "n", which has more digits than a number keeps; name the column under text of the table "late"`)
	k, err = ask(t, numbers, `SELECT n FROM named WHERE n < '0'`)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"-18446744073709551617"}}, k.rows)
	k, err = ask(t, s, `SELECT * FROM latin`)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"Café"}}, k.rows)
	for query, want := range map[string]string{
		"SELECT * FROM broken":   "wrong number of fields",
		"SELECT * FROM empty":    "the file is empty",
		"SELECT * FROM gone":     "there is no such file",
		"SELECT * FROM sailings": "speaks of none of its tables; it has broken, empty, gone, latin, lines, ports, tides",
	} {
		_, err := ask(t, s, query)
		assert.ErrorContains(t, err, want)
	}
	_, err = opened(t, "folder",
		map[string]any{"folder": dir, "tables": map[string]any{"a b": map[string]any{"file": "x.csv"}}}, "",
		report.Allowed{Folders: []string{dir}})
	assert.ErrorContains(t, err, `"a b" is no name of a table`)
}

func TestFilesOverHTTPAsTables(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Header.Get("Authorization") != "Bearer open sesame":
			w.WriteHeader(http.StatusUnauthorized)
		case r.URL.Path == "/data/tides.csv":
			_, _ = fmt.Fprint(w, "Port,Metres\nEH,2.75\n")
		case r.URL.Path == "/data/busy.csv":
			w.WriteHeader(http.StatusServiceUnavailable)
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}))
	t.Cleanup(server.Close)
	tables := map[string]any{
		"tides": map[string]any{"file": "tides.csv"}, "busy": map[string]any{"file": "busy.csv"},
		"away": map[string]any{"file": "http://other.example/x.csv"},
	}
	allowed := report.Allowed{Guard: outgoing.New([]string{strings.TrimPrefix(server.URL, "http://")})}
	s, err := opened(t, "http", map[string]any{"url": server.URL + "/data/", "tables": tables}, "open sesame", allowed)
	require.NoError(t, err)
	k, err := ask(t, s, `SELECT Port, Metres * 2 AS twice FROM tides`)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"EH", "5.5"}}, k.rows)
	_, err = ask(t, s, `SELECT * FROM busy`)
	assert.ErrorContains(t, err, "503")
	assert.Equal(t, fault.Passing, fault.Of(err).Class, "a server that is busy may answer later")
	_, err = ask(t, s, `SELECT * FROM away`)
	assert.ErrorContains(t, err, "no path below the address")
	wrong, err := opened(t, "http", map[string]any{"url": server.URL + "/data/", "tables": tables}, "", allowed)
	require.NoError(t, err)
	_, err = ask(t, wrong, `SELECT * FROM tides`)
	assert.ErrorContains(t, err, "401")
	kept, err := opened(t, "http", map[string]any{"url": server.URL, "tables": tables}, "", report.Allowed{})
	require.NoError(t, err)
	_, err = ask(t, kept, `SELECT * FROM tides`)
	assert.ErrorContains(t, err, "not allowed", "addresses of the house are out of reach")
	_, err = opened(t, "http", map[string]any{"url": "file:///etc"}, "", allowed)
	assert.ErrorContains(t, err, "no address of http")
}

// mariadb starts Debian's server on loopback.
func mariadb(t *testing.T, more ...string) (port int, root *sql.DB) {
	t.Helper()
	if _, err := os.Stat("/usr/sbin/mariadbd"); err != nil {
		t.Fatal("the tests need mariadbd; scripts/ensure test installs it")
	}
	dir, err := os.MkdirTemp("", "ironbell-mariadb-") //nolint:usetesting // its path must be short enough for a socket, and open to another user
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	var as *syscall.Credential
	who := "--user="
	if os.Geteuid() == 0 {
		nobody, err := user.Lookup("postgres") // who serves the other databases of the tests
		require.NoError(t, err)
		uid, err := strconv.Atoi(nobody.Uid)
		require.NoError(t, err)
		gid, err := strconv.Atoi(nobody.Gid)
		require.NoError(t, err)
		require.NoError(t, os.Chown(dir, uid, gid))
		as, who = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, "--user=postgres"
	}
	data := filepath.Join(dir, "data")
	made, err := exec.Command("mariadb-install-db", "--no-defaults", who, "--datadir="+data,
		"--auth-root-authentication-method=normal", "--skip-test-db").CombinedOutput()
	require.NoError(t, err, string(made))
	port, err = freeport.Find(context.Background())
	require.NoError(t, err)
	cmd := exec.Command("/usr/sbin/mariadbd",
		append([]string{
			"--no-defaults", "--datadir=" + data, "--socket=" + filepath.Join(dir, "s"),
			"--bind-address=127.0.0.1", "--port=" + strconv.Itoa(port), "--pid-file=" + filepath.Join(dir, "pid"),
			"--skip-log-bin",
		}, more...)...)
	server, err := child.Start(cmd, syscall.SIGKILL, as)
	require.NoError(t, err)
	t.Cleanup(func() { server.Stop(syscall.SIGTERM, 10*time.Second, syscall.SIGKILL) })
	c := mysql.NewConfig()
	c.Net, c.Addr, c.User, c.MultiStatements = "tcp", fmt.Sprintf("127.0.0.1:%d", port), "root", true
	c.Logger = silent{}
	connector, err := mysql.NewConnector(c)
	require.NoError(t, err)
	root = sql.OpenDB(connector)
	t.Cleanup(func() { _ = root.Close() })
	require.Eventually(t, func() bool { return root.Ping() == nil }, 30*time.Second, 100*time.Millisecond)
	return port, root
}

type silent struct{}

func (silent) Print(...any) {}

func TestMariaDB(t *testing.T) {
	port, root := mariadb(t)
	_, err := root.Exec(`CREATE DATABASE tarnwick CHARACTER SET utf8mb4; USE tarnwick;
		CREATE TABLE tides (id bigint, port varchar(20), day date, at timestamp NULL, due datetime NULL, metres decimal(10,2), ratio double, high boolean, raw varbinary(4));
		SET time_zone = '+00:00';
		INSERT INTO tides VALUES (1, 'Café', '2026-07-01', '2026-07-01 05:30:00', '2026-07-01 06:30:00', 120.50, 0.5, true, x'0102'), (2, 'it\'s :port', NULL, NULL, NULL, NULL, NULL, false, NULL), (3, 'GS', '2026-06-30', NULL, NULL, 12345678.90, 1e20, false, NULL);
		CREATE USER reader@'127.0.0.1' IDENTIFIED BY 'reader'; GRANT SELECT, INSERT, FILE ON *.* TO reader@'127.0.0.1'`)
	require.NoError(t, err)
	settings := func(change map[string]any) map[string]any {
		s := map[string]any{
			"host": "127.0.0.1", "port": port, "database": "tarnwick", "user": "reader", "tls": "disable",
		}
		for k, v := range change {
			s[k] = v
		}
		return s
	}
	s, err := opened(t, "mysql", settings(nil), "reader", report.Allowed{})
	require.NoError(t, err)
	said, err := s.Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, said, "signed in as reader@127.0.0.1; ")
	assert.Contains(t, said, "MariaDB")
	k, err := ask(t, s,
		"SELECT id, port, day, at, due, metres, ratio, high FROM `tides` WHERE port IN (:port) AND day >= :day AND "+
			"at >= :at -- :nobody\n ORDER BY id", "Café", "it's :port", "GS")
	require.NoError(t, err)
	assert.Equal(t,
		[][]string{{
			"1", "Café", "2026-07-01", "2026-07-01 06:30:00+01:00", "2026-07-01 06:30:00", "120.50", "0.5",
			"1",
		}}, k.rows, "instants stand in the zone of the run")
	assert.Equal(t, rows.Instant, kindsOf(k.columns)["at"])
	assert.Equal(t, rows.Number, kindsOf(k.columns)["metres"])
	k, err = ask(t, s, "SELECT metres, 'it\\'s :port' FROM tides WHERE metres > :least ORDER BY id DESC")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"12345678.90", "it's :port"}, {"120.50", "it's :port"}}, k.rows)
	plain, err := opened(t, "mysql", settings(map[string]any{"tls": "verify-full"}), "reader", report.Allowed{})
	require.NoError(t, err)
	_, err = plain.Test(context.Background())
	assert.ErrorContains(t, err, "the server offers no TLS")
	assert.Contains(t, fault.Of(err).Advice, "set tls of the source to disable")
	// Bytes that are no text are never shown as text that is broken.
	_, err = root.Exec(`USE tarnwick; CREATE TABLE raws (flag bit(1), mask bit(64), code binary(3), key_ varbinary(8), photo blob, note text, big bigint unsigned); INSERT INTO raws VALUES (b'1', b'1111111111111111111111111111111111111111111111111111111111111111', x'00ff41', x'', x'89504e47', 'Café', 18446744073709551615), (b'0', NULL, x'616263', x'616263', x'616263', '', 0)`)
	require.NoError(t, err)
	k, err = ask(t, s, "SELECT flag, mask, code, key_, photo, note, big FROM raws ORDER BY big DESC")
	require.NoError(t, err)
	assert.Equal(t,
		[][]string{
			{"1", "18446744073709551615", "0x00ff41", "", "0x89504e47", "Café", "18446744073709551615"},
			{"0", "(null)", "0x616263", "0x616263", "0x616263", "", "0"},
		}, k.rows)
	assert.Equal(t, []rows.Kind{rows.Whole, rows.Text},
		[]rows.Kind{kindsOf(k.columns)["mask"], kindsOf(k.columns)["photo"]})
	for query, want := range map[string]string{
		"SELECT nobody FROM tides":                   "Unknown column 'nobody'",
		"INSERT INTO tides (id) VALUES (9)":          "begins with SELECT, WITH or VALUES; this one begins with INSERT",
		"SET @@tx_read_only = 0":                     "begins with SET",
		"SELECT * FROM tides INTO OUTFILE '/tmp/x'":  "may not use outfile",
		"SELECT load_file('/etc/passwd')":            "may not use load_file",
		"SELECT 1; DELETE FROM tides":                "a query is one statement",
		"SELECT * FROM tides FOR UPDATE":             "",
		"SELECT 1/0 FROM tides WHERE port = :nobody": ":nobody, which is no parameter",
	} {
		if want == "" {
			continue
		}
		_, err := ask(t, s, query)
		if assert.Error(t, err, query) {
			assert.Contains(t, err.Error(), want, query)
		}
	}
	slow, err := opened(t, "mysql", settings(map[string]any{"longest": "500ms"}), "reader", report.Allowed{})
	require.NoError(t, err)
	_, err = ask(t, slow, "SELECT count(*) FROM seq_1_to_100000000 a JOIN seq_1_to_100000000 b")
	require.ErrorContains(t, err, "longer than its limit of 500ms")
	require.Eventually(t, func() bool {
		var n int
		require.NoError(t,
			root.QueryRow("SELECT count(*) FROM information_schema.processlist WHERE user = 'reader' AND info LIKE "+
				"'%seq_1_to%' AND command <> 'Killed'").Scan(&n))
		return n == 0
	}, time.Minute, 200*time.Millisecond, "the server ended it, too")
	refused, err := opened(t, "mysql", settings(nil), "wrong", report.Allowed{})
	require.NoError(t, err)
	_, err = ask(t, refused, "SELECT 1")
	var f *fault.Fault
	require.True(t, errors.As(err, &f), "%v", err)
	assert.Equal(t, []any{fault.Lasting, fault.Source}, []any{f.Class, f.Scope})
	assert.Contains(t, f.Error(), "Access denied")
	assert.NotContains(t, f.Error(), "wrong\"")
}

// A server's certificate is held against the source's own authority, and the sentence tells
// what is wrong with it.
func TestMariaDBOverTLS(t *testing.T) {
	dir, err := os.MkdirTemp("", "ironbell-certificate-") //nolint:usetesting // open to the server's user
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	cert, ca, err := gate.Certificate()
	require.NoError(t, err)
	key, err := x509.MarshalPKCS8PrivateKey(cert.PrivateKey)
	require.NoError(t, err)
	both := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Certificate[0]}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})...)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "both.pem"), both, 0o644))
	port, root := mariadb(t, "--ssl-cert="+filepath.Join(dir, "both.pem"), "--ssl-key="+filepath.Join(dir, "both.pem"))
	_, err = root.Exec(`CREATE DATABASE tarnwick; CREATE USER reader@'127.0.0.1' IDENTIFIED BY 'reader'; CREATE USER reader@localhost IDENTIFIED BY 'reader'; GRANT SELECT ON tarnwick.* TO reader@'127.0.0.1'; GRANT SELECT ON tarnwick.* TO reader@localhost`)
	require.NoError(t, err)
	_, others, err := gate.Certificate()
	require.NoError(t, err)
	settings := func(host, tls, ca string) map[string]any {
		return map[string]any{
			"host": host, "port": port, "database": "tarnwick", "user": "reader", "tls": tls, "ca": ca,
		}
	}
	for name, c := range map[string]struct {
		settings map[string]any
		wrong    string
		advice   string
	}{
		"own authority": {settings("127.0.0.1", "verify-full", ca), "", ""},
		"unchecked":     {settings("127.0.0.1", "require", ""), "", ""},
		"another authority": {
			settings("127.0.0.1", "verify-full", others),
			"an authority that this machine does not trust", "put it into ca",
		},
		"this machine's": {
			settings("127.0.0.1", "verify-full", ""), "an authority that this machine does not trust",
			"put it into ca",
		},
	} {
		s, err := opened(t, "mysql", c.settings, "reader", report.Allowed{})
		require.NoError(t, err)
		_, err = s.Test(context.Background())
		if c.wrong == "" {
			assert.NoError(t, err, name)
			continue
		}
		f := fault.Of(err)
		assert.ErrorContains(t, err, c.wrong, name)
		assert.Contains(t, f.Advice, c.advice, name)
		assert.Equal(t, []any{fault.Lasting, fault.Source}, []any{f.Class, f.Scope}, name)
	}
}

func TestSQLServerSaysThatItIsUntested(t *testing.T) {
	port, err := freeport.Find(context.Background())
	require.NoError(t, err)
	_, err = opened(t, "sqlserver",
		map[string]any{"host": "127.0.0.1", "port": port, "database": "tarnwick", "user": "reader", "tls": "disable"},
		"secret-1", report.Allowed{})
	require.ErrorContains(t, err, "the driver sqlserver is off")
	s, err := opened(t, "sqlserver",
		map[string]any{"host": "127.0.0.1", "port": port, "database": "tarnwick", "user": "reader", "tls": "disable"},
		"secret-1", report.Allowed{Untried: []string{"sqlserver"}})
	require.NoError(t, err)
	_, err = ask(t, s, "SELECT 1")
	require.Error(t, err)
	assert.Equal(t, fault.Passing, fault.Of(err).Class)
	assert.NotContains(t, err.Error(), "secret-1")
	_, err = ask(t, s, "SELECT * INTO copied FROM sailings")
	assert.ErrorContains(t, err, "may not use into")
	assert.Contains(t, report.Untested, "not been tested")
}
