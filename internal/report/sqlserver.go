package report

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"

	mssql "github.com/microsoft/go-mssqldb"
)

// Untested is said wherever a driver shows that was never tried on a real server.
const Untested = "this driver has not been tested against a real server yet"

// openSQLServer opens a SQL Server. It was compiled and never tried on a real
// one; its screen and its documentation say so, and an operator must ask for it.
func openSQLServer(a Allowed, name string, settings json.RawMessage, password string) (Source, error) {
	if !slices.Contains(a.Untried, "sqlserver") {
		return nil,
			fault.New(fault.Source, "open source "+quote(name), "the driver sqlserver is off: "+Untested,
				"An operator who wants to try it starts the nodes with -untried sqlserver.")
	}
	s, err := readServer(name, settings)
	if err != nil {
		return nil, err
	}
	if s.Port == 0 {
		s.Port = 1433
	}
	query := url.Values{
		"database": {s.Database}, "app name": {"ironbell"}, "ApplicationIntent": {"ReadOnly"}, "dial timeout": {"10"},
		"encrypt": {"true"},
	}
	switch s.TLS {
	case "disable":
		query.Set("encrypt", "disable")
	case "require":
		query.Set("TrustServerCertificate", "true")
	}
	dsn := &url.URL{
		Scheme: "sqlserver", User: url.UserPassword(s.User, password), Host: s.Host + ":" + strconv.Itoa(s.Port),
		RawQuery: query.Encode(),
	}
	connector, err := mssql.NewConnector(dsn.String())
	if err != nil {
		return nil,
			fault.New(fault.Source, "open source "+quote(name), "its settings cannot be read",
				"Check host, port, database and user.")
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(s.conns())
	db.SetMaxIdleConns(-1) // each query has a session of its own
	return &sqlServer{database{
		name: name, user: s.User, db: db, limits: s.Limits, blot: fault.NewBlotter(password), engine: sqlServerEngine,
	}}, nil
}

// sqlServer is a source whose server tells what its login may do. It knows no transactions
// that only read, so nothing beyond reading is signed for.
type sqlServer struct{ database }

// Rights asks the server.
func (s *sqlServer) Rights(ctx context.Context) (Rights, error) {
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	var may sql.NullString
	if err := s.db.QueryRowContext(ctx, sqlServerRights).Scan(&may); err != nil {
		return Rights{}, s.wrong(ctx, err, "ask source "+quote(s.name)+" what its login may do", Query{})
	}
	if !may.Valid {
		return Rights{}, nil
	}
	return Rights{Never: []string{s.user + " may do more than connect and select: " + may.String}}, nil
}

// sqlServerWords begin statements of other kinds, which need no semicolon before them, or
// reach outside. They are a hint; the wall is the login.
var sqlServerWords = func() map[string]string {
	out := map[string]string{}
	for why, words := range map[string]string{
		"writes":                "insert update delete merge into truncate bulk writetext updatetext",
		"changes what is there": "create alter drop grant revoke deny backup restore dbcc enable disable",
		"runs statements": "exec execute declare prepare deallocate goto while return throw " +
			"raiserror print",
		"ends the transaction that only reads": "commit rollback save begin tran transaction",
		"changes the session":                  "set use revert setuser reconfigure",
		"connects elsewhere":                   "openrowset openquery opendatasource openxml",
		"holds others up":                      "waitfor kill shutdown checkpoint receive send",
	} {
		for _, word := range strings.Fields(words) {
			out[word] = why
		}
	}
	return out
}()

// sqlServerRights lists what a login may do beside connecting and selecting; NULL when
// that is all.
const sqlServerRights = `SELECT string_agg(permission_name, ', ') FROM (
	SELECT DISTINCT permission_name FROM fn_my_permissions(NULL, 'SERVER') UNION SELECT DISTINCT permission_name FROM fn_my_permissions(NULL, 'DATABASE')
) p WHERE permission_name NOT IN ('CONNECT', 'CONNECT SQL', 'SELECT', 'VIEW ANY DATABASE', 'VIEW ANY COLUMN ENCRYPTION KEY DEFINITION', 'VIEW ANY COLUMN MASTER KEY DEFINITION')`

var sqlServerEngine = engine{
	tables: sqlserverTables,
	dialect: dialect{
		place: func(n int, _ job.ValueType) string { return "@p" + strconv.Itoa(n) }, reuse: true, brackets: true,
		nested: true, loose: true, onlySelect: true, oneStatement: true,
		forbidden: sqlServerWords,
	},
	version: "SELECT @@VERSION, SUSER_SNAME()",
	note:    Untested,
	begin: func(ctx context.Context, c *sql.Conn, _ Query) (func(), error) {
		// The wall is the login: it may connect and select, and nothing else.
		var may sql.NullString
		if err := c.QueryRowContext(ctx, sqlServerRights).Scan(&may); err != nil {
			return nil, err
		}
		if may.Valid {
			return nil,
				fault.New(fault.Source, "read as its login",
					"the login may do more than connect and select: "+may.String,
					"Give the source a login that has CONNECT and SELECT only.")
		}
		// It knows no transactions that only read: what is done is rolled back.
		if _, err := c.ExecContext(ctx, "BEGIN TRANSACTION"); err != nil {
			return nil, err
		}
		return func() {
			ending, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer stop()
			_, _ = c.ExecContext(ending, "ROLLBACK TRANSACTION") // nothing is to stay
		}, nil
	},
	kind: func(t string) (rows.Kind, bool) {
		switch t {
		case "TINYINT", "SMALLINT", "INT", "BIGINT":
			return rows.Whole, true
		case "DECIMAL", "NUMERIC", "MONEY", "SMALLMONEY", "FLOAT", "REAL":
			return rows.Number, true
		case "DATE":
			return rows.Date, true
		case "TIME":
			return rows.Time, true
		case "DATETIME", "DATETIME2", "SMALLDATETIME":
			return rows.Local, true
		case "DATETIMEOFFSET":
			return rows.Instant, true
		case "BIT":
			return rows.YesNo, true
		}
		return rows.Text, true
	},
	bytes: func(t string) func([]byte) string {
		switch {
		case t == "UNIQUEIDENTIFIER":
			return func(bytes []byte) string {
				var id mssql.UniqueIdentifier
				if id.Scan(bytes) != nil {
					return hexadecimal(bytes)
				}
				return id.String()
			}
		case t == "IMAGE", t == "TIMESTAMP", t == "UDT", strings.HasSuffix(t, "BINARY"):
			return hexadecimal
		}
		return nil
	},
	explain: func(err error) (fault.Class, fault.Scope, string, bool) {
		var said mssql.Error
		if !errors.As(err, &said) {
			return fault.Passing, fault.Source, "", false
		}
		text := fmt.Sprintf("%s, error %d", said.Message, said.Number)
		switch said.Number {
		case 18456, 4060:
			return fault.Lasting, fault.Source, text, true
		case 1205, 1222:
			return fault.Passing, fault.Source, text, true
		}
		return fault.Lasting, fault.Task, text, true
	},
}
