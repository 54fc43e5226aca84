package report

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// FileSettings are the settings of a source of the driver sqlite.
type FileSettings struct {
	File string `json:"file" doc:"database file on the machine, in a folder that its operator allowed"`
	Limits
}

func openSQLite(name string, settings json.RawMessage, allowed []string) (Source, error) {
	doing := "open source " + quote(name)
	var s FileSettings
	if err := readSettings(name, settings, &s); err != nil {
		return nil, err
	}
	if s.File == "" {
		return nil, fault.New(fault.Source, doing, "it needs a file", "Save its settings again.")
	}
	folder, err := allowedFolder(doing, filepath.Dir(s.File), allowed)
	if err != nil {
		return nil, err
	}
	file := filepath.Join(folder, filepath.Base(s.File))
	if info, err := os.Lstat(file); err != nil || !info.Mode().IsRegular() {
		return nil,
			fault.New(fault.Source, doing, "there is no file "+quote(s.File)+" on this machine",
				"Name a database file.")
	}
	db, err := openSQLiteFile(file, true)
	if err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Source, doing, "")
	}
	db.SetMaxOpenConns(s.conns())
	db.SetMaxIdleConns(-1) // each query has a handle of its own: nothing that one leaves behind is seen by another
	return &database{name: name, db: db, limits: s.Limits, engine: sqliteEngine}, nil
}

func openSQLiteFile(file string, readOnly bool) (*sql.DB, error) {
	mode := url.Values{}
	if readOnly {
		mode = url.Values{
			"mode": {"ro"}, "_defensive": {"1"}, "_dqs": {"0"},
			"_pragma": {
				"query_only(1)", "trusted_schema(0)", "cell_size_check(1)", "busy_timeout(5000)",
				fmt.Sprintf("hard_heap_limit(%d)", sqliteHeap),
			},
		}
	}
	return sql.Open("sqlite", "file:"+(&url.URL{Path: file}).EscapedPath()+"?"+mode.Encode())
}

// sqliteEngine reads SQLite. What its text says is no wall; that is confineSQLite.
var sqliteEngine = engine{
	relations: relationsOfSQLite,
	dialect: dialect{
		place: func(int, job.ValueType) string { return "?" }, backtick: true, brackets: true, onlySelect: true,
		oneStatement: true, value: typed(nil),
	},
	version: "SELECT 'SQLite ' || sqlite_version(), ''",
	begin:   confineSQLite,
	kind: func(t string) (rows.Kind, bool) {
		word, _, _ := strings.Cut(t, "(")
		switch strings.TrimSpace(word) {
		case "INT", "INTEGER", "BIGINT", "SMALLINT", "TINYINT":
			return rows.Whole, true
		case "REAL", "DOUBLE", "FLOAT", "NUMERIC", "DECIMAL":
			return rows.Number, true
		case "DATE":
			return rows.Date, true
		case "DATETIME", "TIMESTAMP":
			return rows.Local, true
		case "BOOLEAN":
			return rows.YesNo, true
		case "":
			return rows.Text, false // an expression: its values tell
		}
		return rows.Text, true
	},
	bytes: func(string) func([]byte) string { return hexadecimal }, // text comes as such
	explain: func(err error) (fault.Class, fault.Scope, string, bool) {
		var said *sqlite.Error
		if !errors.As(err, &said) {
			return fault.Lasting, fault.Task, fault.Reason(err), true
		}
		if code := said.Code() & 0xff; code == sqlite3.SQLITE_AUTH || strings.Contains(said.Error(), "not authorized") {
			return fault.Lasting, fault.Task,
				"the query would do more than read the tables of its source: " + said.Error(), true
		}
		switch said.Code() & 0xff {
		case 5, 6: // SQLITE_BUSY, SQLITE_LOCKED
			return fault.Passing, fault.Source, said.Error(), true
		case 7, 18: // SQLITE_NOMEM, SQLITE_TOOBIG
			return fault.Lasting, fault.Task,
				fmt.Sprintf("a value of the query is longer than %d bytes, or it takes too much memory: %s",
					sqliteLimits[sqlite3.SQLITE_LIMIT_LENGTH], said.Error()), true
		case 14, 26, 11, 10: // SQLITE_CANTOPEN, SQLITE_NOTADB, SQLITE_CORRUPT, SQLITE_IOERR
			return fault.Lasting, fault.Source, said.Error(), true
		}
		return fault.Lasting, fault.Task, said.Error(), true
	},
}
