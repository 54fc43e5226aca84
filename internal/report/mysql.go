package report

import (
	"context"
	"crypto/tls"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net"
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
	Host     string `json:"host"`
	Port     int    `json:"port,omitempty"`
	Database string `json:"database"`
	User     string `json:"user"`
	TLS      string `json:"tls,omitempty" enum:"disable,require,verify-full"` // verify-full when empty
	Limits
}

func readServer(name string, settings json.RawMessage) (ServerSettings, error) {
	var s ServerSettings
	if err := json.Unmarshal(settings, &s); err != nil || s.Host == "" || s.Database == "" || s.User == "" {
		return s, fault.New(fault.Source, "open source "+quote(name), "it needs a host, a database and a user", "Save its settings again.")
	}
	switch s.TLS {
	case "", "disable", "require", "verify-full":
		return s, nil
	}
	return s, fault.New(fault.Source, "open source "+quote(name), fmt.Sprintf("tls is disable, require or verify-full, not %q", s.TLS), "Save its settings again.")
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
	c.Net, c.Addr, c.User, c.Passwd, c.DBName = "tcp", net.JoinHostPort(s.Host, strconv.Itoa(s.Port)), s.User, password, s.Database
	c.Timeout, c.CheckConnLiveness, c.Logger = 10*time.Second, true, quiet{}
	c.Params = map[string]string{"time_zone": "'+00:00'", "sql_mode": "'TRADITIONAL'"}
	switch s.TLS {
	case "", "verify-full":
		c.TLS = &tls.Config{ServerName: s.Host, MinVersion: tls.VersionTLS12}
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
	return &database{name: name, user: s.User, db: db, limits: s.Limits, engine: mysqlEngine}, nil
}

// quiet keeps the driver from writing to the log on its own.
type quiet struct{}

func (quiet) Print(...any) {}

var mysqlEngine = engine{
	dialect: dialect{
		place: func(int, job.ValueType) string { return "?" }, backslash: true, backtick: true, hash: true, dashBlank: true, executable: true, onlySelect: true, oneStatement: true, value: typed(time.UTC),
		forbidden: map[string]string{"outfile": "writes files", "dumpfile": "writes files", "load_file": "reads files of the server", "sleep": "only waits", "get_lock": "holds others up"},
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
		stop := context.AfterFunc(ctx, func() {
			ending, stop := context.WithTimeout(context.Background(), 10*time.Second)
			defer stop()
			_, _ = db.ExecContext(ending, "KILL QUERY "+strconv.FormatInt(id, 10)) // it may have ended by itself
		})
		return func() { stop() }, nil
	},
	kind: func(t string) (rows.Kind, bool) {
		switch strings.TrimPrefix(t, "UNSIGNED ") {
		case "TINYINT", "SMALLINT", "MEDIUMINT", "INT", "BIGINT", "YEAR":
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
