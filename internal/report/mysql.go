package report

import (
	"context"
	"crypto/tls"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"

	"github.com/go-sql-driver/mysql"
)

// ServerSettings are the settings of a source of the drivers mysql (MariaDB,
// too) and sqlserver.
type ServerSettings struct {
	Host     string `json:"host" doc:"name or address of the server"`
	Port     int    `json:"port,omitempty" doc:"the server's usual one when left out"`
	Database string `json:"database" doc:"name of the database"`
	User     string `json:"user" doc:"login as which reports read where they name no identity; one that may read alone"`
	TLS      string `json:"tls,omitempty" enum:"disable,require,verify-full" doc:"verify-full when left out"`
	CA       string `json:"ca,omitempty" form:"block" few:"yes" doc:"certificates of the authority that signed the server's, as PEM; those of this machine when left out"`
	MayWrite bool   `json:"may_write,omitempty" few:"yes" doc:"you know that this login can write, and use it all the same"`
	Limits
}

func readServer(name string, settings json.RawMessage) (ServerSettings, error) {
	var s ServerSettings
	if err := readSettings(name, settings, &s); err != nil {
		return s, err
	}
	if s.Host == "" || s.Database == "" || s.User == "" {
		return s,
			fault.New(fault.Source, "open source "+quote(name), "it needs a host, a database and a user",
				"Save its settings again.")
	}
	switch s.TLS {
	case "", "disable", "require", "verify-full":
		return s, nil
	}
	return s,
		fault.New(fault.Source, "open source "+quote(name),
			fmt.Sprintf("tls is disable, require or verify-full, not %q", s.TLS), "Save its settings again.")
}

func openMySQL(name string, settings json.RawMessage, password string) (Source, error) {
	s, err := readServer(name, settings)
	if err != nil {
		return nil, err
	}
	if s.Port == 0 {
		s.Port = 3306
	}
	c := mysql.NewConfig()
	c.Net, c.Addr, c.User, c.Passwd, c.DBName = "tcp", net.JoinHostPort(s.Host, strconv.Itoa(s.Port)), s.User, password,
		s.Database
	c.Timeout, c.CheckConnLiveness, c.Logger = 10*time.Second, true, quiet{}
	c.Params = map[string]string{"time_zone": "'+00:00'", "sql_mode": "'TRADITIONAL'"}
	switch s.TLS {
	case "", "verify-full":
		if c.TLS, err = trust(name, s.Host, s.CA); err != nil {
			return nil, err
		}
	case "require":
		c.TLS = &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12} //nolint:gosec // require asks for a cipher, not for a name
	}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Source, "open source "+quote(name), "Check its settings.")
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(s.conns())
	db.SetMaxIdleConns(-1) // each query has a session of its own: the protocol as it is used here cannot reset one
	return &mysqlSource{database{
		name: name, user: s.User, db: db, limits: s.Limits, blot: fault.NewBlotter(password), engine: mysqlEngine,
	}, s.MayWrite}, nil
}

// mysqlSource is a source of MariaDB or MySQL, whose server tells what its login may do.
type mysqlSource struct {
	database
	mayWrite bool
}

// harmless are the rights that let nobody write: USAGE is none at all, and the rest reads.
var harmless = []string{"USAGE", "SELECT", "SHOW VIEW", "SHOW DATABASES", "SHOW CREATE ROUTINE"}

// maxRoles bounds how many roles of a login are looked at.
const maxRoles = 100

// Rights reads the grants of the login and of each role that was granted to it, on which
// it may call without a word of ours (SHOW GRANTS of both servers).
func (m *mysqlSource) Rights(ctx context.Context) (Rights, error) {
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	conn, err := m.db.Conn(ctx)
	if err != nil {
		return Rights{}, m.wrong(ctx, err, "connect to source "+quote(m.name), Query{})
	}
	defer func() { _ = conn.Close() }() // nothing was written
	r := Rights{Signed: m.mayWrite}
	// A role is asked for by its name as the server itself wrote it.
	ask, seen := []string{"CURRENT_USER()"}, map[string]bool{}
	for len(ask) > 0 {
		of := ask[0]
		ask = ask[1:]
		if seen[of] {
			continue
		}
		if seen[of] = true; len(seen) > maxRoles {
			r.Writes = append(r.Writes, m.user+" has more roles than are looked at")
			break
		}
		grants, err := grantsOf(ctx, conn, of)
		var said *mysql.MySQLError
		if errors.As(err, &said) && of != "CURRENT_USER()" {
			// MariaDB tells of a role to whoever acts in it.
			if _, err = conn.ExecContext(ctx, "SET ROLE "+of); err == nil {
				grants, err = grantsOf(ctx, conn, "CURRENT_ROLE")
			}
		}
		if errors.As(err, &said) && of != "CURRENT_USER()" {
			r.Writes = append(r.Writes,
				fmt.Sprintf("%s has the role %s, whose rights cannot be read: %s", m.user, of, said.Message))
			continue
		}
		if err != nil {
			return Rights{}, m.wrong(ctx, err, "ask source "+quote(m.name)+" what its login may do", Query{})
		}
		for _, g := range grants {
			rights, on, roles := readGrant(g)
			ask = append(ask, roles...)
			if more := slices.DeleteFunc(rights,
				func(one string) bool { return slices.Contains(harmless, one) }); len(more) > 0 {
				r.Writes = append(r.Writes, fmt.Sprintf("%s may %s on %s", m.user, strings.Join(more, ", "), on))
			}
		}
	}
	r.Writes = r.Writes[:min(len(r.Writes), 20)]
	return r, nil
}

func grantsOf(ctx context.Context, c *sql.Conn, who string) ([]string, error) {
	result, err := c.QueryContext(ctx, "SHOW GRANTS FOR "+who)
	if err != nil {
		return nil, err
	}
	defer func() { _ = result.Close() }() // its fault is told by Err
	var grants []string
	for result.Next() {
		var g string
		if err := result.Scan(&g); err != nil {
			return nil, err
		}
		grants = append(grants, g)
	}
	return grants, result.Err()
}

// readGrant takes apart what the server says of one grant: rights on something, or roles.
// Rights on single columns count as the right alone. What it does not understand it gives
// as a right of its own, so that nobody takes it for harmless.
func readGrant(grant string) (rights []string, on string, roles []string) {
	rest, ok := strings.CutPrefix(grant, "GRANT ")
	if !ok {
		if strings.HasPrefix(grant, "SET DEFAULT ROLE ") {
			return nil, "", nil // names one that is listed as granted, too
		}
		return unread(grant)
	}
	var parts []string // what is granted, without what stands in brackets
	var part strings.Builder
	depth, named := 0, false
	for i := 0; i < len(rest); i++ {
		c := rest[i]
		if c == '`' || c == '\'' || c == '"' {
			end := i + 1
			for end < len(rest) && (rest[end] != c || end+1 < len(rest) && rest[end+1] == c) {
				if rest[end] == c {
					end++
				}
				end++
			}
			end = min(end+1, len(rest))
			if depth == 0 {
				named = true
				part.WriteString(rest[i:end])
			}
			i = end - 1
			continue
		}
		switch {
		case c == '(':
			depth++
		case c == ')':
			depth--
		case depth > 0:
		case strings.HasPrefix(rest[i:], " ON "), strings.HasPrefix(rest[i:], " TO "):
			parts = append(parts, strings.TrimSpace(part.String()))
			if strings.HasPrefix(rest[i:], " TO ") {
				return nil, "", parts // roles are granted on nothing
			}
			if named {
				return unread(grant)
			}
			on, _, _ = strings.Cut(rest[i+len(" ON "):], " TO ")
			if strings.HasSuffix(grant, " WITH GRANT OPTION") {
				parts = append(parts, "GRANT OPTION")
			}
			return parts, on, nil
		case c == ',':
			parts = append(parts, strings.TrimSpace(part.String()))
			part.Reset()
		default:
			part.WriteByte(c)
		}
	}
	return unread(grant)
}

// unread is a grant that is not understood, without whom it is for and how they sign in.
func unread(grant string) (rights []string, on string, roles []string) {
	head, _, _ := strings.Cut(grant, " TO ")
	return []string{head}, "something that is not understood", nil
}

// quiet keeps the driver from writing to the log on its own.
type quiet struct{}

func (quiet) Print(...any) {}

var mysqlEngine = engine{
	tables: mysqlTables,
	dialect: dialect{
		place: func(int, job.ValueType) string { return "?" }, backslash: true, backtick: true, hash: true,
		dashBlank: true, executable: true, onlySelect: true, oneStatement: true, value: typed(time.UTC),
		forbidden: map[string]string{
			"outfile": "writes files", "dumpfile": "writes files", "load_file": "reads files of the server",
			"sleep": "only waits", "get_lock": "holds others up",
		},
	},
	version: "SELECT version(), current_user()",
	begin: func(ctx context.Context, c *sql.Conn, q Query) (func(), error) {
		if _, err := c.ExecContext(ctx, "START TRANSACTION READ ONLY"); err != nil {
			return nil, err
		}
		return func() {
			ending, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer stop()
			_, _ = c.ExecContext(ending, "ROLLBACK") // nothing was written
		}, nil
	},
	// The server goes on with a query whose client went away: it is told to end.
	cancel: func(ctx context.Context, db *sql.DB, c *sql.Conn) (func(), error) {
		var id int64
		if err := c.QueryRowContext(ctx, "SELECT connection_id()").Scan(&id); err != nil {
			return nil, err
		}
		kill := func() {
			ending, stop := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
			defer stop()
			_, _ = db.ExecContext(ending, "KILL QUERY "+strconv.FormatInt(id, 10)) // it may have ended by itself
		}
		stop := context.AfterFunc(ctx, kill)
		return func() {
			// Whoever waits for the query may hear of the end of ctx before that began.
			if stop() && ctx.Err() != nil {
				kill()
			}
		}, nil
	},
	kind: func(t string) (rows.Kind, bool) {
		switch strings.TrimPrefix(t, "UNSIGNED ") {
		case "TINYINT", "SMALLINT", "MEDIUMINT", "INT", "BIGINT", "YEAR", "BIT":
			return rows.Whole, true
		case "DECIMAL", "FLOAT", "DOUBLE":
			return rows.Number, true
		case "DATE":
			return rows.Date, true
		case "DATETIME":
			return rows.Local, true
		case "TIMESTAMP":
			return rows.Instant, true
		}
		return rows.Text, true
	},
	bytes: func(t string) func([]byte) string {
		switch {
		case t == "BIT":
			return func(bits []byte) string { return new(big.Int).SetBytes(bits).String() }
		case t == "GEOMETRY", t == "VECTOR", strings.HasSuffix(t, "BINARY"), strings.HasSuffix(t, "BLOB"):
			return hexadecimal
		}
		return nil
	},
	utc: true,
	explain: func(err error) (fault.Class, fault.Scope, string, bool) {
		if errors.Is(err, mysql.ErrPktTooLarge) {
			return fault.Lasting, fault.Task, "a row is larger than the 64 MB that are read at once", true
		}
		var said *mysql.MySQLError
		if !errors.As(err, &said) {
			return fault.Passing, fault.Source, "", false
		}
		text := fmt.Sprintf("%s, error %d", said.Message, said.Number)
		switch said.Number {
		case 1044, 1045, 1049, 1698: // access denied, no such database
			return fault.Lasting, fault.Source, text, true
		case 1040, 1205, 1213, 1317, 1053: // too many connections, lock, deadlock, interrupted, shutdown
			return fault.Passing, fault.Source, text, true
		}
		return fault.Lasting, fault.Task, text, true
	},
}
