package report

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"
)

// PostgresSettings are the settings of a source of the driver postgres.
type PostgresSettings struct {
	Host       string `json:"host" doc:"name or address of the server"`
	Port       int    `json:"port,omitempty" doc:"5432 when left out"`
	Database   string `json:"database" doc:"name of the database"`
	User       string `json:"user" doc:"login as which reports read where they name no identity; one that may read alone"`
	TLS        string `json:"tls,omitempty" enum:"disable,prefer,require,verify-full" doc:"prefer when left out"`
	CA         string `json:"ca,omitempty" form:"block" few:"yes" doc:"for verify-full: certificates of the authority that signed the server's, as PEM; those of this machine when left out"`
	Statements bool   `json:"statements,omitempty" few:"yes" doc:"tasks of the kind query may change data"`
	MayWrite   bool   `json:"may_write,omitempty" few:"yes" doc:"you know that this login can write, and use it all the same; statements says so, too"`
	Limits
}

type postgres struct {
	name       string
	user       string
	pool       *pgxpool.Pool
	statements bool
	mayWrite   bool
	limits     Limits
	blot       fault.Blotter // of what the server says
}

func openPostgres(name string, settings json.RawMessage, password string) (Source, error) {
	doing := "open source " + quote(name)
	var s PostgresSettings
	if err := readSettings(name, settings, &s); err != nil {
		return nil, err
	}
	if s.Host == "" || s.Database == "" || s.User == "" {
		return nil, fault.New(fault.Source, doing, "it needs a host, a database and a user", "Save its settings again.")
	}
	// The text is built from checked parts; the password never stands in it.
	mode := s.TLS
	if mode == "" {
		mode = "prefer"
	}
	if s.Port == 0 {
		s.Port = 5432
	}
	config, err := pgxpool.ParseConfig("sslmode=" + word(mode) + " host=" + word(s.Host) + " port=" +
		strconv.Itoa(s.Port) +
		" dbname=" + word(s.Database) + " user=" + word(s.User))
	if err != nil {
		return nil,
			fault.New(fault.Source, doing, "its settings cannot be read", "Check host, port, database, user and TLS.")
	}
	switch {
	case mode == "verify-full":
		if config.ConnConfig.TLSConfig, err = trust(name, s.Host, s.CA); err != nil {
			return nil, err
		}
	case s.CA != "":
		return nil,
			fault.New(fault.Source, doing, "it has a ca, and its tls, "+mode+", checks no certificate",
				"Set tls to verify-full, or leave ca out.")
	}
	config.ConnConfig.Password = password
	config.ConnConfig.ConnectTimeout = 10 * time.Second
	config.ConnConfig.DefaultQueryExecMode = pgx.QueryExecModeDescribeExec
	config.ConnConfig.StatementCacheCapacity = 0
	config.ConnConfig.DescriptionCacheCapacity = 0
	config.ConnConfig.RuntimeParams = map[string]string{
		"application_name": "ironbell", "standard_conforming_strings": "on", "datestyle": "ISO, YMD",
		"intervalstyle": "iso_8601", "bytea_output": "hex",
	}
	// A query that is given up is ended at the server, too.
	config.ConnConfig.BuildContextWatcherHandler = func(c *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{
			Conn: c, CancelRequestDelay: 0, DeadlineDelay: 2 * time.Second,
		}
	}
	config.ConnConfig.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		f := pgproto3.NewFrontend(r, w)
		f.SetMaxBodyLen(maxRow)
		return f
	}
	config.MaxConns = int32(s.conns()) //nolint:gosec // at most 1000
	config.MaxConnIdleTime = 5 * time.Minute
	config.AfterRelease = func(c *pgx.Conn) bool {
		ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
		defer stop()
		_, err := c.Exec(ctx, "DISCARD ALL")
		return err == nil
	}
	pool, err := pgxpool.NewWithConfig(context.Background(), config)
	if err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Source, doing, "")
	}
	return &postgres{
		name: name, user: s.User, pool: pool, statements: s.Statements, mayWrite: s.MayWrite || s.Statements,
		limits: s.Limits, blot: fault.NewBlotter(password),
	}, nil
}

// word quotes a value for a connection string of keywords.
func word(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
}

func (p *postgres) Close() { p.pool.Close() }

func (p *postgres) Login() string { return p.user + " at " + p.name }

// Rights asks the server. A group that only carries grants is no way out; one that signs
// in, owns tables or has rights of its own is.
func (p *postgres) Rights(ctx context.Context) (Rights, error) {
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	var super, bypass, createRole, createDatabase, replication, createHere bool
	var outside, acting, member, owned, written, schemas []string
	err := p.pool.QueryRow(ctx,
		`SELECT r.rolsuper, r.rolbypassrls, r.rolcreaterole, r.rolcreatedb, r.rolreplication, has_database_privilege(r.oid, current_database(), 'CREATE'),
		ARRAY(SELECT m.rolname::text FROM pg_roles m WHERE (m.rolsuper OR m.rolname IN ('pg_read_server_files', 'pg_write_server_files', 'pg_execute_server_program')) AND m.oid <> r.oid AND NOT r.rolsuper AND pg_has_role(r.oid, m.oid, 'MEMBER') ORDER BY 1 LIMIT 20),
		ARRAY(SELECT m.rolname::text FROM pg_roles m WHERE m.oid <> r.oid AND NOT r.rolsuper AND pg_has_role(r.oid, m.oid, 'MEMBER')
			AND (m.rolcreaterole OR m.rolcreatedb OR m.rolreplication OR m.rolname IN ('pg_write_all_data', 'pg_signal_backend', 'pg_checkpoint', 'pg_maintain', 'pg_create_subscription', 'pg_database_owner')) ORDER BY 1 LIMIT 20),
		ARRAY(SELECT m.rolname::text FROM pg_roles m WHERE m.oid <> r.oid AND pg_has_role(r.oid, m.oid, 'MEMBER')
			AND (m.rolsuper OR m.rolbypassrls OR m.rolcreaterole OR m.rolcanlogin OR m.rolname LIKE 'pg\_%') ORDER BY 1 LIMIT 20),
		ARRAY(SELECT c.oid::regclass::text FROM pg_class c WHERE pg_has_role(r.oid, c.relowner, 'MEMBER') AND NOT r.rolsuper AND c.relkind IN ('r', 'p', 'v', 'm', 'f', 'S') ORDER BY 1 LIMIT 20),
		ARRAY(SELECT c.oid::regclass::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE NOT r.rolsuper AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema' AND NOT pg_has_role(r.oid, c.relowner, 'MEMBER')
				AND CASE WHEN c.relkind IN ('r', 'p', 'v', 'f') THEN has_table_privilege(r.oid, c.oid, 'INSERT, UPDATE, DELETE, TRUNCATE') OR has_any_column_privilege(r.oid, c.oid, 'INSERT, UPDATE')
					WHEN c.relkind = 'S' THEN has_sequence_privilege(r.oid, c.oid, 'USAGE, UPDATE') END LIMIT 20),
		ARRAY(SELECT n.nspname::text FROM pg_namespace n WHERE NOT r.rolsuper AND n.nspname NOT LIKE 'pg\_%' AND has_schema_privilege(r.oid, n.oid, 'CREATE') ORDER BY 1 LIMIT 20)
		FROM pg_roles r WHERE r.rolname = session_user`).Scan(&super, &bypass, &createRole, &createDatabase, &replication, &createHere, &outside, &acting, &member, &owned, &written, &schemas)
	if err != nil {
		return Rights{}, p.explain(ctx, err, Statement{}, Query{}, "")
	}
	say := func(to *[]string, is bool, text string) {
		if is {
			*to = append(*to, p.user+" "+text)
		}
	}
	r := Rights{Signed: p.mayWrite}
	say(&r.Never, super, "is a superuser")
	say(&r.Never, len(outside) > 0, "is a member of "+some(outside))
	say(&r.Writes, createRole && !super, "may create roles")
	say(&r.Writes, createDatabase && !super, "may create databases")
	say(&r.Writes, replication && !super, "may replicate")
	say(&r.Writes, len(acting) > 0, "is a member of "+some(acting))
	say(&r.Writes, len(owned) > 0, "owns "+some(owned))
	say(&r.Writes, len(written) > 0, "may write to "+some(written))
	say(&r.Writes, len(schemas) > 0, "may create in the schema "+some(schemas))
	say(&r.Writes, createHere && !super, "may create schemas")
	say(&r.Out, bypass, "bypasses row security")
	say(&r.Out, createRole, "may create roles")
	say(&r.Out, replication, "may replicate")
	say(&r.Out, len(member) > 0, "is a member of "+strings.Join(member, ", "))
	say(&r.Out, len(owned) > 0, "owns "+strings.Join(owned, ", "))
	return r, nil
}

func (p *postgres) Test(ctx context.Context) (string, error) {
	var version, user string
	err := p.pool.QueryRow(ctx, `SELECT version(), current_user`).Scan(&version, &user)
	if err != nil {
		return "", p.explain(ctx, err, Statement{}, Query{}, "")
	}
	return fmt.Sprintf("signed in as %s; %s", user, version), nil
}

// begin opens a read-only transaction with the query's limits.
func (p *postgres) begin(ctx context.Context, q Query) (pgx.Tx, error) {
	tx, err := p.pool.BeginTx(ctx, pgx.TxOptions{AccessMode: pgx.ReadOnly, IsoLevel: pgx.RepeatableRead})
	if err != nil {
		return nil, err
	}
	if err := p.limit(ctx, tx, q); err != nil {
		_ = tx.Rollback(ctx) // the first fault is the one to tell
		return nil, err
	}
	return tx, nil
}

// limit sets a transaction's time limit and zone.
func (p *postgres) limit(ctx context.Context, tx pgx.Tx, q Query) error {
	_, err := tx.Exec(ctx, `SELECT set_config('statement_timeout', $1, true), set_config('timezone', $2, true)`,
		strconv.FormatInt(p.limits.shorter(q.Limit).Milliseconds(), 10), q.Zone)
	return err
}

func (p *postgres) Describe(ctx context.Context, q Query) ([]rows.Column, error) {
	st, err := Prepare(q.SQL, q.Params, nil)
	if err != nil {
		return nil, err
	}
	tx, err := p.begin(ctx, q)
	if err != nil {
		return nil, p.explain(ctx, err, st, q, "")
	}
	defer func() { _ = tx.Rollback(ctx) }() // nothing was written
	d, err := tx.Prepare(ctx, "", st.Text)
	if err != nil {
		return nil, p.explain(ctx, err, st, q, "")
	}
	if len(d.Fields) == 0 {
		return nil, errNoRows
	}
	return columns(d.Fields), nil
}

// errNoRows says that a statement is no query.
var errNoRows = errors.New("the statement gives no columns; what is asked here is a SELECT or something like it")

func (p *postgres) Stream(ctx context.Context, q Query, section string, to rows.Sink) (n int64, err error) {
	st, err := Prepare(q.SQL, q.Params, q.Values)
	if err != nil {
		return 0,
			fault.Wrap(err, fault.Lasting, fault.Task, "read the query of section "+quote(section),
				"Mend the report's query, then run again.")
	}
	ctx, stop := context.WithTimeout(ctx, p.limits.shorter(q.Limit)+5*time.Second)
	defer stop()
	tx, err := p.begin(ctx, q)
	if err != nil {
		return 0, p.explain(ctx, err, st, q, section)
	}
	defer func() {
		ending, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer stop()
		_ = tx.Rollback(ending) // nothing was written
	}()
	// Looked at before it runs: what gives no columns is a command, such as SET.
	if d, err := tx.Prepare(ctx, "", st.Text); err != nil {
		return 0, p.explain(ctx, err, st, q, section)
	} else if len(d.Fields) == 0 {
		return 0,
			fault.Wrap(errNoRows, fault.Lasting, fault.Task, "run the query of section "+quote(section),
				"Mend the report's query, then run again.")
	}
	to = guard(to, p.name, section, p.limits, q)
	asking, enough := context.WithCancel(ctx)
	defer enough()
	result, err := tx.Query(asking, st.Text, append([]any{pgx.QueryResultFormats{pgx.TextFormatCode}}, st.Args...)...)
	if err != nil {
		return 0, p.explain(ctx, err, st, q, section)
	}
	defer result.Close()
	fields := result.FieldDescriptions()
	if err := result.Err(); err != nil {
		return 0, p.explain(ctx, err, st, q, section)
	}
	if err := to.Columns(section, columns(fields)); err != nil {
		return 0, err
	}
	row := make(rows.Row, len(fields))
	for result.Next() {
		for i, raw := range result.RawValues() {
			row[i] = rows.Cell{Text: raw, Null: raw == nil}
		}
		if err := to.Row(row); err != nil {
			enough() // the server need not go on with what nobody reads
			if errors.Is(err, errEnough) {
				err = nil
			}
			return n, err
		}
		n++
	}
	result.Close()
	if err := result.Err(); err != nil {
		return n, p.explain(ctx, err, st, q, section)
	}
	return n, nil
}

// statementDialect is that of statements, which an administrator allowed and
// which may use everything.
var statementDialect = func() dialect {
	d := postgresDialect
	d.forbidden = nil
	return d
}()

// PrepareStatement tells what is wrong with a statement of a task.
func PrepareStatement(sql string, params []job.Parameter) (Statement, error) {
	return statementDialect.prepare(sql, params, nil)
}

func (p *postgres) Executes() bool { return p.statements }

// syntaxError is the state of a statement that cannot be read, or of several (class
// 42 of PostgreSQL's error codes). Whether its tables are there shows when it runs: a
// task before it may make them.
const syntaxError = "42601"

func (p *postgres) Read(ctx context.Context, q Query) error {
	st, err := statementDialect.prepare(q.SQL, q.Params, nil)
	if err != nil {
		return err
	}
	tx, err := p.pool.Begin(ctx)
	if err != nil {
		return nil
	}
	defer func() { _ = tx.Rollback(ctx) }() // nothing was written
	_, err = tx.Prepare(ctx, "", st.Text)
	var said *pgconn.PgError
	if errors.As(err, &said) && said.Code == syntaxError {
		if strings.Contains(said.Message, "multiple commands") {
			return errors.New("it holds several statements; a task runs one, so make a task of each")
		}
		return p.explain(ctx, err, st, q, "")
	}
	return nil
}

func (p *postgres) Exec(ctx context.Context, q Query) (int64, error) {
	doing := "run a statement on source " + quote(p.name)
	if !p.statements {
		return 0,
			fault.New(fault.Source, doing, "its settings do not allow statements",
				"An administrator can allow them in the settings of the source.")
	}
	st, err := statementDialect.prepare(q.SQL, q.Params, q.Values)
	if err != nil {
		return 0, fault.Wrap(err, fault.Lasting, fault.Task, doing, "Mend the statement, then run again.")
	}
	ctx, stop := context.WithTimeout(ctx, q.Limit+5*time.Second)
	defer stop()
	var n int64
	err = pgx.BeginFunc(ctx, p.pool, func(tx pgx.Tx) error {
		if err := p.limit(ctx, tx, q); err != nil {
			return err
		}
		done, err := tx.Exec(ctx, st.Text, append([]any{pgx.QueryExecModeDescribeExec}, st.Args...)...)
		n = done.RowsAffected()
		return err
	})
	if err != nil {
		return 0, p.explain(ctx, err, st, q, "")
	}
	return n, nil
}

func columns(fields []pgconn.FieldDescription) []rows.Column {
	out := make([]rows.Column, len(fields))
	for i, f := range fields {
		out[i] = rows.Column{Name: f.Name, Kind: kindOf(f.DataTypeOID)}
	}
	return out
}

func kindOf(oid uint32) rows.Kind {
	switch oid {
	case pgtype.Int2OID, pgtype.Int4OID, pgtype.Int8OID:
		return rows.Whole
	case pgtype.NumericOID, pgtype.Float4OID, pgtype.Float8OID:
		return rows.Number
	case pgtype.DateOID:
		return rows.Date
	case pgtype.TimeOID:
		return rows.Time
	case pgtype.TimestampOID:
		return rows.Local
	case pgtype.TimestamptzOID:
		return rows.Instant
	case pgtype.BoolOID:
		return rows.YesNo
	default:
		return rows.Text
	}
}

// explain gives what the server said a class, a scope and an advice. SQLSTATE
// codes are those of appendix A of the PostgreSQL documentation.
func (p *postgres) explain(ctx context.Context, err error, st Statement, q Query, section string) error {
	return p.blot.Err(p.explained(ctx, err, st, q, section))
}

func (p *postgres) explained(ctx context.Context, err error, st Statement, q Query, section string) error {
	var said *pgconn.PgError
	var refused *pgconn.ConnectError
	var large *pgproto3.ExceededMaxBodyLenErr
	switch {
	case errors.Is(ctx.Err(), context.Canceled):
		return ctx.Err() // we ended it; what the server says of that is no fault
	case errors.As(err, &large):
		return fault.New(fault.Task, "run the query of section "+quote(section),
			fmt.Sprintf("a row has %d bytes, and one of more than %d is not read", large.ActualBodyLen, maxRow),
			"Leave the large column out, or cut it short in the query.")
	case errors.As(err, &said) && errors.As(err, &refused):
		doing := "sign in to source " + quote(p.name)
		if sqlClass(said) == "28" || said.Code == "3D000" {
			return fault.Wrap(errors.New("the server answered: "+said.Message), fault.Lasting, fault.Source, doing,
				"Check user, password and database of the source.")
		}
		return fault.Wrap(errors.New("the server answered: "+said.Message), fault.Passing, fault.Source, doing, "")
	case errors.As(err, &refused):
		if no := insecure(err, p.name); no != nil {
			return no
		}
		return fault.Wrap(errors.New("no connection: "+fault.Reason(err)), fault.Passing, fault.Source,
			"connect to source "+quote(p.name), "Check that the database runs and can be reached from this machine.")
	case errors.As(err, &said):
		doing := "run the query of section " + quote(section)
		if section == "" {
			doing = "put the query"
		}
		text := "the database answered: " + said.Message
		if said.Position > 0 {
			line, column := st.written(q.SQL, int(said.Position))
			text += fmt.Sprintf(" (line %d, column %d)", line, column)
		}
		text += ", SQLSTATE " + said.Code
		switch sqlClass(said) {
		case "08", "53", "40", "58":
			return fault.Wrap(errors.New(text), fault.Passing, fault.Source, doing, "")
		case "57":
			if said.Code == pgCanceled {
				return fault.Wrap(fmt.Errorf("the query took longer than its limit of %s", p.limits.shorter(q.Limit)),
					fault.Lasting, fault.Task, doing,
					"Make the query faster or the job's time limit longer.")
			}
			return fault.Wrap(errors.New(text), fault.Passing, fault.Source, doing, "")
		}
		return fault.Wrap(errors.New(text), fault.Lasting, fault.Task, doing,
			"Mend the report's query, then run again.")
	case errors.Is(err, context.DeadlineExceeded):
		return fault.Wrap(fmt.Errorf("the query took longer than its limit of %s", p.limits.shorter(q.Limit)),
			fault.Lasting, fault.Task, "run the query of section "+quote(section),
			"Make the query faster or the job's time limit longer.")
	}
	return broke(err, p.name)
}

const pgCanceled = "57014"

// sqlClass is the class of an error's SQLSTATE (PostgreSQL, appendix A), which a server of
// bad manners may have left out.
func sqlClass(e *pgconn.PgError) string { return e.Code[:min(2, len(e.Code))] }
