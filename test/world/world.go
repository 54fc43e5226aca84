// Package world is the world of the tests: the real programs, with real PostgreSQL, the stand-ins, people and
// headless Chromium, each test with a database and a folder of its own.
package world

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/api/wire"
	"ironbell/internal/child"
	"ironbell/internal/freeport"
	"ironbell/internal/wallclock"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// Password is that of everybody.
const Password = "harbour-lantern"

// World is one service with all around it.
type World struct {
	T       testing.TB
	ahead   time.Duration // by which its clocks are ahead of the machine's
	Dir     string
	Db      string // of our records
	Company string // whose reports are run
	Listen  string
	Outside string // an internal address that the service may call
	Token   string
	Service *child.Child
	Out     standins
	C       *client.Client
}

// standins are the programs outside.
type standins struct {
	Mail, Authority, Mailbox, SFTP, FTP, WebDAV, Objects, Printer, Receiver, Folder, Inbox, CA, User, Password string

	child *child.Child
}

// Open starts a world: a database of its own, stand-ins, and a service with a
// short lease, which knows its source, its mail servers and two owners. It lives on the day of this run of the
// tests (Live). Everything ends with the test.
func Open(t testing.TB) *World {
	t.Helper()
	w := begin(t, wallclock.Ahead())
	w.staff()
	w.Start()
	w.settle()
	return w
}

// OpenToday starts a world that lives today, for tests that turn clocks themselves or run programs of another
// release.
func OpenToday(t testing.TB) *World {
	t.Helper()
	w := begin(t, 0)
	w.staff()
	w.Start()
	w.settle()
	return w
}

// OpenEmpty starts a world in which the service knows nothing but its first administrator, as it is installed.
func OpenEmpty(t testing.TB) *World {
	t.Helper()
	w := begin(t, wallclock.Ahead())
	w.Db = records(t, w.ahead)
	add := exec.Command(Build(t)+"/ironbell", "first-administrator", "-db", w.Db, "-login", sefa.Login, "-name", sefa.Name,
		"-mail", sefa.Mail)
	add.Env = w.Environment()
	add.Stdin = strings.NewReader(Password + "\n")
	text, err := add.CombinedOutput()
	require.NoError(t, err, string(text))
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	w.Token = lines[len(lines)-1]
	w.C = client.New("http://"+w.Listen, w.Token)
	w.Start()
	return w
}

// Now is the time in this world.
func (w *World) Now() time.Time { return time.Now().Add(w.ahead) }

// begin makes a world without records and without a service.
func begin(t testing.TB, ahead time.Duration) *World {
	t.Helper()
	w := &World{T: t, ahead: ahead, Dir: t.TempDir()}
	w.Company = company(t, w.Now())
	w.Out = w.startStandins()
	w.Listen, w.Outside = FreeAddress(t), FreeAddress(t)
	// the user of programs reaches theirs
	for dir, mode := range map[string]os.FileMode{
		"programs": 0o755, "folders": 0o700, "notes": 0o777, ".": 0o755, "..": 0o755,
	} {
		if err := os.Mkdir(filepath.Join(w.Dir, dir), mode); !errors.Is(err, fs.ErrExist) {
			require.NoError(t, err)
		}
		require.NoError(t, os.Chmod(filepath.Join(w.Dir, dir), mode))
	}
	require.NoError(t, demo.LayPrograms(filepath.Join(w.Dir, "programs")))
	return w
}

func (w *World) settle() {
	t, ctx := w.T, context.Background()
	t.Helper()
	config, err := pgx.ParseConfig(w.Company)
	require.NoError(t, err)
	place := demo.World{
		DatabasePort: int(config.Port), ReportsPassword: "reports", Mail: w.Out.Mail, MailUser: w.Out.User,
		MailPassword: w.Out.Password, CA: w.Out.CA, Authority: w.Out.Authority, PeoplesPassword: Password,
	}
	require.NoError(t, demo.Connect(ctx, w.C, place))
	reports := "reports"
	_, err = w.C.SaveSource(ctx, "tarnwick",
		wire.PlaceRequest{Protocol: "postgres", Password: &reports, Settings: map[string]any{
			"host": config.Host, "port": config.Port, "database": config.Database, "user": "tarnwick_reports",
			"tls": "disable",
		}})
	require.NoError(t, err)
}

func (w *World) startStandins() standins {
	t := w.T
	t.Helper()
	var s standins
	cmd := exec.Command(Build(t) + "/standins")
	cmd.Env = w.Environment()
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	s.child, err = child.Start(cmd, syscall.SIGKILL, nil)
	require.NoError(t, err)
	t.Cleanup(func() { s.child.Stop(syscall.SIGTERM, 5*time.Second, syscall.SIGKILL) })
	line, err := bufio.NewReader(out).ReadBytes('\n')
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(line, &s))
	return s
}

// FreeAddress is an address on loopback at which nobody listens.
func FreeAddress(t testing.TB) string {
	t.Helper()
	port, err := freeport.Find(context.Background())
	require.NoError(t, err)
	return fmt.Sprintf("127.0.0.1:%d", port)
}

// Connect opens our own database, to look at it or to play time.
func Connect(t testing.TB, dsn string) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	return conn
}

// Path is the path of a file of the project, of which name is the path from its root.
func Path(name string) string {
	_, here, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(here), "..", "..", name)
}
