package report

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"modernc.org/libc"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// What a report's query may do with SQLite is not read from its text: the engine itself
// asks us for each thing that a statement would do (sqlite3_set_authorizer), and holds
// its own limits. Both belong to a handle, which is new for each query.

// sqliteLimits are the engine's own limits (https://www.sqlite.org/limits.html). What a
// text or blob holds bounds also what a function makes of it.
var sqliteLimits = map[int]int{
	sqlite3.SQLITE_LIMIT_LENGTH:              1 << 20,
	sqlite3.SQLITE_LIMIT_SQL_LENGTH:          1 << 20,
	sqlite3.SQLITE_LIMIT_COLUMN:              500,
	sqlite3.SQLITE_LIMIT_EXPR_DEPTH:          200,
	sqlite3.SQLITE_LIMIT_COMPOUND_SELECT:     100,
	sqlite3.SQLITE_LIMIT_VDBE_OP:             250_000,
	sqlite3.SQLITE_LIMIT_FUNCTION_ARG:        100,
	sqlite3.SQLITE_LIMIT_ATTACHED:            0,
	sqlite3.SQLITE_LIMIT_LIKE_PATTERN_LENGTH: 1000,
	sqlite3.SQLITE_LIMIT_TRIGGER_DEPTH:       1,
	sqlite3.SQLITE_LIMIT_WORKER_THREADS:      0,
}

// sqliteHeap bounds the memory of all handles together: what a wide row of long values
// takes. The engine counts it only when it is told to before its first use
// (https://www.sqlite.org/c3ref/hard_heap_limit64.html).
const sqliteHeap = 256 << 20

var sqliteCounts = func() bool {
	tls := libc.NewTLS()
	defer tls.Close()
	args := libc.NewVaList(int32(1))
	defer libc.Xfree(tls, args)
	return sqlite3.Xsqlite3_config(tls, sqlite3.SQLITE_CONFIG_MEMSTATUS, args) == sqlite3.SQLITE_OK
}()

// sqliteFunctions are those that reach nothing but their arguments
// (https://www.sqlite.org/lang_corefunc.html and its kin).
var sqliteFunctions = func() map[string]bool {
	out := map[string]bool{}
	for _, group := range []string{
		"abs char coalesce concat concat_ws format glob hex ifnull iif if instr length like likelihood likely lower " +
			"ltrim max min nullif octet_length printf quote random randomblob replace round rtrim sign soundex " +
			"sqlite_version substr substring trim typeof unhex unicode unistr unistr_quote unlikely upper zeroblob",
		"date time datetime julianday unixepoch strftime timediff current_date current_time current_timestamp",
		"avg count group_concat string_agg sum total median percentile percentile_cont percentile_disc",
		"row_number rank dense_rank percent_rank cume_dist ntile lag lead first_value last_value nth_value",
		"acos acosh asin asinh atan atan2 atanh ceil ceiling cos cosh degrees exp floor ln log log10 log2 mod pi pow " +
			"power radians sin sinh sqrt tan tanh trunc",
		"json jsonb json_array jsonb_array json_array_length json_error_position json_extract jsonb_extract " +
			"json_insert jsonb_insert json_object jsonb_object json_patch jsonb_patch json_pretty json_remove " +
			"jsonb_remove json_replace jsonb_replace json_set jsonb_set json_type json_valid json_quote " +
			"json_group_array jsonb_group_array json_group_object jsonb_group_object -> ->>",
	} {
		for _, name := range strings.Fields(group) {
			out[name] = true
		}
	}
	return out
}()

// sqliteMay says what the statement of a report may do: select, read tables of its own
// database, recurse, and use the listed functions. What the engine shows of itself as
// tables (pages, settings, statements) is none of it.
func sqliteMay(tables map[string]bool) sqlite.AuthorizerFn {
	return func(action sqlite.AuthorizerActionCode, first, second, _, _ string) sqlite.AuthorizerReturnCode {
		allowed := false
		switch action {
		case sqlite.AuthSelect, sqlite.AuthRecursive:
			allowed = true
		case sqlite.AuthRead:
			allowed = tables[strings.ToLower(first)]
		case sqlite.AuthFunction:
			allowed = sqliteFunctions[strings.ToLower(second)]
		case sqlite.AuthPragma: // full-text tables ask whether the file has changed
			allowed = first == "data_version" && second == ""
		}
		if allowed {
			return sqlite.AuthorizerOK
		}
		return sqlite.AuthorizerDeny
	}
}

// confineSQLite puts a handle behind the wall. It stays there: the handle is closed after
// its query.
func confineSQLite(ctx context.Context, c *sql.Conn, _ Query) (func(), error) {
	if !sqliteCounts {
		return nil, errors.New("the memory of queries cannot be bounded")
	}
	tables := map[string]bool{
		"": true, "json_each": true, "json_tree": true, "sqlite_schema": true, "sqlite_master": true,
	}
	names, err := c.QueryContext(ctx, `SELECT name FROM sqlite_schema WHERE type IN ('table', 'view')`)
	if err != nil {
		return nil, err
	}
	defer func() { _ = names.Close() }() // its fault is told by Err
	for names.Next() {
		var name string
		if err := names.Scan(&name); err != nil {
			return nil, err
		}
		tables[strings.ToLower(name)] = true
	}
	if err := names.Err(); err != nil {
		return nil, err
	}
	for id, most := range sqliteLimits {
		if _, err := sqlite.Limit(c, id, most); err != nil {
			return nil, fmt.Errorf("set the limits of the query: %w", err)
		}
	}
	err = c.Raw(func(conn any) error {
		handle, ok := conn.(sqlite.AuthorizerRegisterer)
		if !ok {
			return errors.New("the driver takes no authorizer")
		}
		return handle.RegisterAuthorizer(sqliteMay(tables))
	})
	if err != nil {
		return nil, fmt.Errorf("confine the query: %w", err)
	}
	return func() {}, nil
}
