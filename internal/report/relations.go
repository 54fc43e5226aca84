package report

import (
	"context"
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
