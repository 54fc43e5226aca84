// Package localpg starts a PostgreSQL server of its own on loopback, from
// Debian's packages, for the demo, the tests and a first try, and stops it
// afterwards. In production a connection string is given instead.
package localpg

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ironbell/internal/child"
	"ironbell/internal/freeport"

	"github.com/jackc/pgx/v5"
)

// Options of a server.
type Options struct {
	Dir      string // where its data is kept; made when it is not there
	Volatile bool   // the data may be lost with the machine: no fsync. For tests
	Conns    int    // connections at most; 100 when 0
	Port     int    // a free one when 0
	Settings map[string]string
}

// Server is a running server.
type Server struct {
	port     int
	password string
	child    *child.Child
	log      string
}

// ErrMissing says that no PostgreSQL server is installed, and what to type.
var ErrMissing = errors.New("no PostgreSQL server is installed; type: sudo apt-get install postgresql")

// bin finds the newest installed version's programs.
func bin() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil || len(found) == 0 {
		return "", ErrMissing
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(strings.Split(path, "/")[4]) // what is no number sorts first
		return n
	}
	sort.Slice(found, func(i, j int) bool { return version(found[i]) > version(found[j]) })
	return filepath.Dir(found[0]), nil
}

// Start starts the server, makes its data folder when it is new, and returns
// when it answers.
func Start(ctx context.Context, o Options) (*Server, error) {
	programs, err := bin()
	if err != nil {
		return nil, err
	}
	data, as, err := place(o.Dir)
	if err != nil {
		return nil, err
	}
	s := &Server{log: filepath.Join(data, "server.log")}
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := initialise(ctx, programs, data, as); err != nil {
			return nil, err
		}
	}
	secret, err := os.ReadFile(filepath.Join(data, "ironbell.password")) //nolint:gosec // our own folder
	if err != nil {
		return nil, fmt.Errorf("read the local database's password: %w", err)
	}
	s.password = strings.TrimSpace(string(secret))
	if s.port = o.Port; s.port == 0 {
		if s.port, err = freeport.Find(ctx); err != nil {
			return nil, err
		}
	}
	args := []string{
		"-D", data, "-p", strconv.Itoa(s.port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "max_connections=" + strconv.Itoa(max(o.Conns, 100)), "-c", "log_min_messages=fatal", "-c",
		"shared_buffers=128MB",
	}
	if o.Volatile {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	for name, value := range o.Settings {
		args = append(args, "-c", name+"="+value)
	}
	log, err := os.OpenFile(s.log, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the local database's log: %w", err)
	}
	defer func() { _ = log.Close() }()                                // written by the child only
	cmd := exec.Command(filepath.Join(programs, "postgres"), args...) //nolint:gosec,noctx // found above; Stop ends it
	cmd.Stdout, cmd.Stderr, cmd.Dir = log, log, data
	cmd.Env = []string{"LC_ALL=C.UTF-8", "PATH=/usr/bin:/bin"}
	if s.child, err = child.Start(cmd, syscall.SIGINT, as); err != nil {
		return nil, fmt.Errorf("start the local database: %w", err)
	}
	if err := s.await(ctx); err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

// DSN is the connection string for one of its databases, as its superuser.
func (s *Server) DSN(database string) string {
	return fmt.Sprintf("postgres://ironbell:%s@127.0.0.1:%d/%s?sslmode=disable", s.password, s.port, database)
}

// Port is the port on which it listens.
func (s *Server) Port() int { return s.port }

// Process is the id of the server's process.
func (s *Server) Process() int { return s.child.Process().Pid }

// Ensure makes a database when it is not there.
func (s *Server) Ensure(ctx context.Context, database string) error {
	conn, err := pgx.Connect(ctx, s.DSN("postgres"))
	if err != nil {
		return fmt.Errorf("connect to the local database: %w", err)
	}
	defer func() { _ = conn.Close(ctx) }() // nothing is left on it
	var there bool
	if err := conn.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM pg_database WHERE datname = $1)`,
		database).Scan(&there); err != nil {
		return fmt.Errorf("look for the database %s: %w", database, err)
	}
	if there {
		return nil
	}
	if _, err := conn.Exec(ctx, `CREATE DATABASE `+pgx.Identifier{database}.Sanitize()); err != nil {
		return fmt.Errorf("make the database %s: %w", database, err)
	}
	return nil
}

// Stop ends the server: quickly, but in good order; after ten seconds by force.
func (s *Server) Stop() { s.child.Stop(syscall.SIGINT, 10*time.Second, syscall.SIGQUIT) }

// Leave asks the server to end when its guests have left (a smart shutdown), waits so
// long, and stops it then.
func (s *Server) Leave(wait time.Duration) {
	s.child.Stop(syscall.SIGTERM, wait, syscall.SIGINT)
	s.Stop()
}

// Crash ends the server at once, as pg_ctl's immediate mode does: it recovers
// when it is started again.
func (s *Server) Crash() { s.child.Stop(syscall.SIGQUIT, 10*time.Second, syscall.SIGKILL) }

// Ended is closed when the server's process has ended.
func (s *Server) Ended() <-chan struct{} { return s.child.Ended() }

func (s *Server) await(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, 60*time.Second)
	defer stop()
	for {
		conn, err := pgx.Connect(ctx, s.DSN("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-s.child.Ended():
			text, _ := os.ReadFile(s.log) // without it the message is shorter
			return fmt.Errorf("the local database ended at its start; its log says: %s", bytes.TrimSpace(text))
		case <-ctx.Done():
			return fmt.Errorf("the local database does not answer: %w", err)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// place finds where the data may lie and as whom the server runs. PostgreSQL
// refuses to run as root, so root starts it as the user of Debian's package;
// when that user cannot reach the folder, the data lies under /var/lib.
func place(dir string) (string, *syscall.Credential, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", nil, fmt.Errorf("find the folder %s: %w", dir, err)
	}
	if os.Geteuid() != 0 {
		return dir, nil, os.MkdirAll(dir, 0o700)
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return "", nil, ErrMissing
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil || err2 != nil {
		return "", nil, fmt.Errorf("the user postgres has no numeric id")
	}
	if !reachable(filepath.Dir(dir)) {
		sum := sha256.Sum256([]byte(dir))
		dir = filepath.Join("/var/lib/ironbell", hex.EncodeToString(sum[:8]))
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil { //nolint:gosec // the server's user must pass
		return "", nil, fmt.Errorf("make the local database's folder: %w", err)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", nil, fmt.Errorf("make the local database's folder: %w", err)
	}
	return dir, &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, os.Chown(dir, int(uid), int(gid))
}

// reachable tells whether every user may pass through the folder.
func reachable(dir string) bool {
	for {
		info, err := os.Stat(dir)
		if err == nil && info.Mode().Perm()&0o001 == 0 {
			return false
		}
		parent := filepath.Dir(dir)
		if parent == dir {
			return true
		}
		dir = parent
	}
}

// Forget removes the data of a server that is not running.
func Forget(dir string) error {
	data, _, err := place(dir)
	if err != nil {
		return err
	}
	return os.RemoveAll(data)
}

func initialise(ctx context.Context, programs, data string, as *syscall.Credential) error {
	password := filepath.Join(data, "ironbell.password")
	secret, err := os.CreateTemp("", "ironbell-password-*")
	if err != nil {
		return fmt.Errorf("make the local database's password: %w", err)
	}
	defer func() { _ = os.Remove(secret.Name()) }() // a temporary file
	text := rand.Text()
	if _, err := secret.WriteString(text + "\n"); err != nil {
		return fmt.Errorf("write the local database's password: %w", err)
	}
	if err := secret.Close(); err != nil {
		return fmt.Errorf("write the local database's password: %w", err)
	}
	if as != nil {
		if err := os.Chown(secret.Name(), int(as.Uid), int(as.Gid)); err != nil {
			return fmt.Errorf("hand over the local database's password: %w", err)
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(programs, "initdb"), "-D", data, "-U", "ironbell", "-A", "scram-sha-256", //nolint:gosec // found above
		"--pwfile="+secret.Name(), "-E", "UTF8", "--locale=C.UTF-8", "--no-sync", "--no-instructions")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	cmd.Dir = data
	cmd.Env = []string{"LC_ALL=C.UTF-8", "PATH=/usr/bin:/bin"}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("make the local database: %w: %s", err, bytes.TrimSpace(out))
	}
	if err := os.WriteFile(password, []byte(text+"\n"), 0o600); err != nil {
		return fmt.Errorf("keep the local database's password: %w", err)
	}
	return nil
}
