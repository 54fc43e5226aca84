package report

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/zone"
	"ironbell/internal/outgoing"

	"github.com/go-sql-driver/mysql"
)

// database is a source that is reached through database/sql. What differs from
// one to the other stands in its engine.
type database struct {
	name   string
	user   string
	db     *sql.DB
	limits Limits
	blot   fault.Blotter // of what the server says
	engine engine
}

// engine is what differs between the databases that are reached alike.
type engine struct {
	dialect dialect
	version string // a query that gives what the server says of itself, and as whom it reads
	note    string // said with the answer of a test
	tables  string // a query that lists tables and columns; none when empty
	// relations lists them where no query can; nil otherwise.
	relations func(ctx context.Context, d *database) ([]Relation, error)
	// begin opens a transaction that reads only.
	begin func(ctx context.Context, c *sql.Conn, q Query) (end func(), err error)
	// cancel makes the server end what a connection is doing; nil when the
	// driver does that by itself.
	cancel func(ctx context.Context, db *sql.DB, c *sql.Conn) (func(), error)
	kind   func(databaseType string) (rows.Kind, bool)
	// bytes is how the bytes of a type are written; nil when they are text.
	bytes func(databaseType string) func([]byte) string
	utc   bool // instants come without a zone and are in UTC
	// explain gives an error of the server a class, a scope and its words.
	explain func(err error) (class fault.Class, scope fault.Scope, said string, ok bool)
}

func (d *database) Close() { _ = d.db.Close() } // nothing is written over it

func (d *database) Login() string {
	if d.user == "" {
		return d.name
	}
	return d.user + " at " + d.name
}

func (d *database) Test(ctx context.Context) (string, error) {
	ctx, stop := context.WithTimeout(ctx, 20*time.Second)
	defer stop()
	var version, user string
	if err := d.db.QueryRowContext(ctx, d.engine.version).Scan(&version, &user); err != nil {
		return "", d.wrong(ctx, err, "ask source "+quote(d.name), Query{})
	}
	said := version
	if user != "" {
		said = "signed in as " + user + "; " + version
	}
	if d.engine.note != "" {
		said += "; " + d.engine.note
	}
	return said, nil
}

// Describe puts the query for no rows at all, since these databases describe
// only what runs.
func (d *database) Describe(ctx context.Context, q Query) ([]rows.Column, error) {
	q.Rows, q.Values = 1, nil
	var found described
	_, err := d.Stream(ctx, q, "", &found)
	return found, err
}

// described keeps columns alone.
type described []rows.Column

func (d *described) Columns(_ string, columns []rows.Column) error {
	*d = columns
	return errEnough
}

func (d *described) Row(rows.Row) error { return errEnough }

func (d *database) Stream(ctx context.Context, q Query, section string, to rows.Sink) (int64, error) {
	doing := "run the query of section " + quote(section)
	if section == "" {
		doing = "put the query"
	}
	st, err := d.engine.dialect.prepare(q.SQL, q.Params, q.Values)
	if err != nil {
		return 0, fault.Wrap(err, fault.Lasting, fault.Task, doing, "Mend the report's query, then run again.")
	}
	q.Limit = d.limits.shorter(q.Limit)
	limited, stop := context.WithTimeout(ctx, q.Limit)
	defer stop()
	conn, err := d.db.Conn(limited)
	if err != nil {
		return 0, d.wrong(ctx, err, "connect to source "+quote(d.name), q)
	}
	defer func() { _ = conn.Close() }() // gives it back to the pool
	if d.engine.cancel != nil {
		done, err := d.engine.cancel(limited, d.db, conn)
		if err != nil {
			return 0, d.wrong(ctx, err, doing, q)
		}
		defer done()
	}
	end, err := d.engine.begin(limited, conn, q)
	if err != nil {
		return 0, d.wrong(ctx, err, doing, q)
	}
	defer end()
	result, err := conn.QueryContext(limited, st.Text, st.Args...)
	if err != nil {
		return 0, d.wrong(ctx, err, doing, q)
	}
	defer func() { _ = result.Close() }() // its fault is told by Err
	n, err := d.hand(result, q, section, to)
	if errors.Is(err, errEnough) {
		return n, nil
	}
	var known *fault.Fault
	if err != nil && !errors.As(err, &known) {
		return n, d.wrong(ctx, err, doing, q)
	}
	return n, err
}

// hand hands the rows on as canonical text.
func (d *database) hand(result *sql.Rows, q Query, section string, to rows.Sink) (n int64, err error) {
	types, err := result.ColumnTypes()
	if err != nil {
		return 0, err
	}
	if len(types) == 0 {
		return 0,
			fault.Wrap(errNoRows, fault.Lasting, fault.Task, "run the query of section "+quote(section),
				"Mend the report's query, then run again.")
	}
	place, err := zone.Load(q.Zone)
	if err != nil {
		place = time.UTC
	}
	columns := make([]rows.Column, len(types))
	values, into := make([]any, len(types)), make([]any, len(types))
	open := make([]bool, len(types)) // the database says no type: the first value decides
	written := make([]func([]byte) string, len(types))
	for i, t := range types {
		written[i] = d.engine.bytes(strings.ToUpper(t.DatabaseTypeName()))
		kind, known := d.engine.kind(strings.ToUpper(t.DatabaseTypeName()))
		columns[i], open[i], into[i] = rows.Column{Name: t.Name(), Kind: kind}, !known, &values[i]
	}
	more := result.Next()
	if more {
		if err := result.Scan(into...); err != nil {
			return 0, err
		}
		for i := range columns {
			if open[i] {
				columns[i].Kind = kindOfValue(values[i])
			}
		}
	}
	to = guard(to, d.name, section, d.limits, q)
	if err := to.Columns(section, columns); err != nil {
		return 0, err
	}
	row := make(rows.Row, len(columns))
	buf := make([][]byte, len(columns))
	for ; more; more = result.Next() {
		if n > 0 {
			if err := result.Scan(into...); err != nil {
				return n, err
			}
		}
		for i, v := range values {
			if row[i] = (rows.Cell{Null: v == nil}); v != nil {
				if bytes, ok := v.([]byte); ok && written[i] != nil {
					v = written[i](bytes)
				}
				buf[i] = d.canonical(buf[i][:0], v, columns[i].Kind, place)
				row[i].Text = buf[i]
			}
		}
		if err := to.Row(row); err != nil {
			return n, err
		}
		n++
	}
	return n, result.Err()
}

// hexadecimal writes bytes that are no text.
func hexadecimal(bytes []byte) string {
	if len(bytes) == 0 {
		return ""
	}
	return "0x" + hex.EncodeToString(bytes)
}

func kindOfValue(v any) rows.Kind {
	switch v.(type) {
	case int64:
		return rows.Whole
	case float64:
		return rows.Number
	case bool:
		return rows.YesNo
	case time.Time:
		return rows.Local
	}
	return rows.Text
}

// canonical writes a value as rows has it.
func (d *database) canonical(dst []byte, v any, kind rows.Kind, place *time.Location) []byte {
	switch v := v.(type) {
	case int64:
		if kind == rows.YesNo {
			return strconv.AppendBool(dst, v != 0)
		}
		return strconv.AppendInt(dst, v, 10)
	case float64:
		if kind == rows.YesNo {
			return strconv.AppendBool(dst, v != 0)
		}
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return append(dst, fmt.Sprint(v)...)
		}
		return strconv.AppendFloat(dst, v, 'f', -1, 64)
	case bool:
		return strconv.AppendBool(dst, v)
	case time.Time:
		return appendWhen(dst, v, kind, place)
	case []byte:
		return d.text(dst, string(v), kind, place)
	case string:
		return d.text(dst, v, kind, place)
	}
	return fmt.Append(dst, v)
}

// text writes what came as text; an instant without a zone gets that of the run.
func (d *database) text(dst []byte, s string, kind rows.Kind, place *time.Location) []byte {
	if kind == rows.Instant && d.engine.utc {
		if t, err := time.Parse("2006-01-02 15:04:05.999999", s); err == nil {
			return appendWhen(dst, t, kind, place)
		}
	}
	return append(dst, s...)
}

func appendWhen(dst []byte, t time.Time, kind rows.Kind, place *time.Location) []byte {
	switch kind {
	case rows.Date:
		return t.AppendFormat(dst, "2006-01-02")
	case rows.Time:
		return t.AppendFormat(dst, "15:04:05.999999")
	case rows.Instant:
		return t.In(place).AppendFormat(dst, "2006-01-02 15:04:05.999999-07:00")
	default:
		return t.AppendFormat(dst, "2006-01-02 15:04:05.999999")
	}
}

// typed hands a value over as the driver's own type, and an instant as a wall
// time in a zone; nil leaves it in its own.
func typed(place *time.Location) func(text string, t job.ValueType) any {
	return func(text string, t job.ValueType) any {
		switch t {
		case job.TypeWhole:
			if n, err := strconv.ParseInt(text, 10, 64); err == nil {
				return n
			}
		case job.TypeNumber:
			if n, err := strconv.ParseFloat(text, 64); err == nil {
				return n
			}
		case job.TypeYesNo:
			return text == "true"
		case job.TypeInstant:
			if at, err := time.Parse(time.RFC3339, text); err == nil {
				if place != nil {
					at = at.In(place)
				}
				return at.Format("2006-01-02 15:04:05")
			}
		}
		return text
	}
}

// broke says that the line to a source broke.
func broke(err error, source string) error {
	advice := "Check that the database runs and can be reached from this machine."
	if fault.Broken(err) {
		advice = fault.AfterBroken
	}
	return fault.Wrap(errors.New("the connection broke: "+fault.Reason(err)), fault.Passing, fault.Source,
		"read from source "+quote(source), advice)
}

// trust makes the settings of TLS for a server whose certificate is checked: against an
// authority of its own, in PEM, or against those of this machine when ca is empty.
func trust(source, host, ca string) (*tls.Config, error) {
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if ca == "" {
		return c, nil
	}
	c.RootCAs = x509.NewCertPool()
	if !c.RootCAs.AppendCertsFromPEM([]byte(ca)) {
		return nil,
			fault.New(fault.Source, "open source "+quote(source), "its setting ca holds no certificate",
				"Give the authority's certificate as PEM.")
	}
	return c, nil
}

// insecure explains why no line over TLS to a source came about, or gives nil.
func insecure(err error, source string) error {
	doing := "connect to source " + quote(source)
	if no := outgoing.Insecure(err, fault.Source, doing); no != nil {
		return no
	}
	// pgconn has no name for it
	if errors.Is(err, mysql.ErrNoTLS) || strings.Contains(err.Error(), "server refused TLS connection") {
		return fault.New(fault.Source, doing, "the server offers no TLS",
			"Let whoever keeps it switch TLS on; or set tls of the source to disable, when the way there is "+
				"safe without.")
	}
	return nil
}

// wrong gives an error a class, a scope and an advice.
func (d *database) wrong(ctx context.Context, err error, doing string, q Query) error {
	var known *fault.Fault
	switch {
	case errors.As(err, &known):
		return err
	case errors.Is(ctx.Err(), context.Canceled):
		return ctx.Err() // we ended it; what the server says of that is no fault
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		return fault.Wrap(fmt.Errorf("the query took longer than its limit of %s", q.Limit), fault.Lasting, fault.Task,
			doing, "Make the query faster or the job's time limit longer.")
	}
	class, scope, said, ok := d.engine.explain(err)
	said = d.blot.Text(said)
	if !ok {
		// how drivers say that the server ended the line
		if errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, driver.ErrBadConn) {
			return broke(io.ErrUnexpectedEOF, d.name)
		}
		if no := insecure(err, d.name); no != nil {
			return d.blot.Err(no)
		}
		return fault.Wrap(errors.New("no connection: "+d.blot.Text(fault.Reason(err))), fault.Passing, fault.Source,
			"connect to source "+quote(d.name), "Check that the database runs and can be reached from this machine.")
	}
	advice := "Mend the report's query, then run again."
	if scope == fault.Source {
		advice = "Check the settings of the source."
	}
	return fault.Wrap(errors.New("the database answered: "+said), class, scope, doing, advice)
}
