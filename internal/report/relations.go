package report

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"
)

// Relation is a table or view that a source's login may read.
type Relation struct {
	Schema  string
	Name    string
	Columns []Attribute
}

// Attribute is one of its columns, with its type as the database calls it.
type Attribute struct{ Name, Type string }

// listed is a source whose database tells its tables to a query that gives schema, table,
// column and type, the columns of a table one after another.
type listed interface{ tables() string }

// Bounds of what is told of tables.
const (
	mostColumns = 20_000
	tablesLimit = 10 * time.Second
)

// Relations lists the tables that a source's login may read, with their columns. A source that
// cannot tell has none.
func Relations(ctx context.Context, s Source) ([]Relation, error) {
	out := []Relation{}
	if own, ok := s.(interface {
		relations(ctx context.Context) ([]Relation, error)
	}); ok {
		ctx, stop := context.WithTimeout(ctx, tablesLimit)
		defer stop()
		return own.relations(ctx)
	}
	if d, ok := s.(*database); ok && d.engine.relations != nil {
		return d.engine.relations(ctx, d)
	}
	l, ok := s.(listed)
	if !ok || l.tables() == "" {
		return out, nil
	}
	all, err := List(ctx, s, Query{SQL: l.tables(), Zone: "UTC", Limit: tablesLimit}, mostColumns)
	if err != nil {
		return nil, err
	}
	for _, r := range all.Rows {
		if n := len(out); n == 0 || out[n-1].Schema != r[0] || out[n-1].Name != r[1] {
			out = append(out, Relation{Schema: r[0], Name: r[1]})
		}
		t := &out[len(out)-1]
		t.Columns = append(t.Columns, Attribute{Name: r[2], Type: r[3]})
	}
	return out, nil
}

// mostFiles bounds the tables of a source of files that are looked into.
const mostFiles = 200

// relations are the tables of the settings, with what the beginning of each file shows. One whose
// file is not there, or cannot be read, has no columns.
func (f *files) relations(ctx context.Context) ([]Relation, error) {
	out := []Relation{}
	for _, name := range slices.Sorted(maps.Keys(f.tables)) {
		if len(out) == mostFiles {
			break
		}
		out = append(out, Relation{Name: name, Columns: f.attributes(ctx, f.tables[name])})
	}
	return out, ctx.Err()
}

func (f *files) attributes(ctx context.Context, t Table) []Attribute {
	in, file, err := f.open(ctx, t)
	if err != nil {
		return nil
	}
	defer func() { _ = in.Close() }() // only read from
	heads, next, err := readTable(file, t, in)
	if err != nil {
		return nil
	}
	sample, err := sampleOf(next)
	if err != nil {
		sample = nil // the heads are known
	}
	out := make([]Attribute, len(heads))
	for i, head := range heads {
		out[i] = Attribute{Name: head, Type: strings.ToLower(typeOf(sample, i))}
	}
	return out
}

// sqliteTables names the tables and views of a file; their columns are asked for one by one, since
// what lists them is shut off with all other settings of the engine.
const sqliteTables = `SELECT name FROM sqlite_schema WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\_%' ESCAPE '\'
ORDER BY name LIMIT 200`

// relationsOfSQLite are the tables of a file.
func relationsOfSQLite(ctx context.Context, d *database) ([]Relation, error) {
	all, err := List(ctx, d, Query{SQL: sqliteTables, Zone: "UTC", Limit: tablesLimit}, mostFiles)
	if err != nil {
		return nil, err
	}
	out := make([]Relation, 0, len(all.Rows))
	for _, r := range all.Rows {
		one := Relation{Name: r[0]}
		quoted := `"` + strings.ReplaceAll(r[0], `"`, `""`) + `"`
		columns, err := d.Describe(ctx, Query{SQL: "SELECT * FROM " + quoted, Zone: "UTC", Limit: tablesLimit})
		if err != nil && ctx.Err() != nil {
			return nil, err
		}
		for _, c := range columns {
			one.Columns = append(one.Columns, Attribute{Name: c.Name, Type: string(c.Kind)})
		}
		out = append(out, one)
	}
	return out, nil
}

// postgresTables asks the catalog itself: information_schema lacks materialized views.
const postgresTables = `SELECT n.nspname, c.relname, a.attname, format_type(a.atttypid, a.atttypmod)
FROM pg_class c
JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_attribute a ON a.attrelid = c.oid
WHERE c.relkind IN ('r', 'v', 'm', 'p', 'f') AND a.attnum > 0 AND NOT a.attisdropped
	AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'pg_toast')
	AND has_schema_privilege(n.oid, 'USAGE') AND has_column_privilege(c.oid, a.attnum, 'SELECT')
ORDER BY n.nspname = current_schema() DESC, n.nspname, c.relname, a.attnum
LIMIT 20000`

const mysqlTables = `SELECT '', table_name, column_name, column_type
FROM information_schema.columns
WHERE table_schema = database()
ORDER BY table_name, ordinal_position
LIMIT 20000`

const sqlserverTables = `SELECT TOP 20000 table_schema, table_name, column_name, data_type
FROM information_schema.columns
ORDER BY table_schema, table_name, ordinal_position`

func (p *postgres) tables() string { return postgresTables }

func (d *database) tables() string { return d.engine.tables }
