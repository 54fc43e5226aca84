package world

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	pages "ironbell/console"
	"ironbell/demo"
	"ironbell/internal/api"
	"ironbell/internal/artifact"
	"ironbell/internal/aside"
	"ironbell/internal/assemble"
	"ironbell/internal/child"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/house"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/outgoing"
	"ironbell/internal/proof"
	"ironbell/internal/report"
	"ironbell/internal/secret"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/workbook"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// ServeTurned runs the service in this process by a clock that is turned. What it gives
// ends it.
func (w *World) ServeTurned(s *store.Store, c *Turned) (asked *service.Service, stop func()) {
	t := w.T
	t.Helper()
	vault, err := secret.FromFile(filepath.Join(w.Dir, "key"), false)
	require.NoError(t, err)
	files, err := artifact.OpenFolder(filepath.Join(w.Dir, "artifacts"))
	require.NoError(t, err)
	guard := outgoing.New([]string{w.Out.WebDAV, w.Out.Objects, w.Out.Printer, w.Out.Receiver})
	folders := []string{filepath.Join(w.Dir, "folders"), w.Out.Folder}
	sources := report.NewSources(s, vault, report.Allowed{Folders: folders, Guard: guard})
	log := slog.New(slog.DiscardHandler)
	e, asked := assemble.Node(s, sources,
		deliver.NewDestinations(s, vault, deliver.Allowed{Folders: folders, Guard: guard}), files, engine.Options{
			Poll: 25 * time.Millisecond, Lease: 5 * time.Second, Stop: 5 * time.Second, Now: c.Now, Guard: guard,
			Signer: vault, URL: "http://" + w.Listen, Log: log, Browser: "",
		})
	require.NoError(t, e.Installation.KnowItself(context.Background(), false))
	server := &http.Server{
		Handler: api.Handler(api.Parts{
			Store: s, Node: e, Service: asked, Now: e.Node.Now, URL: e.Links.URL, Files: files, Vault: vault,
			Console: pages.Files(), Log: log, Version: "soak",
		}), ReadHeaderTimeout: 10 * time.Second,
	}
	listener, err := net.Listen("tcp", w.Listen)
	require.NoError(t, err)
	ctx, end := context.WithCancel(context.Background())
	served, worked := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(served)
		_ = server.Serve(listener) // it ends by Close
	}()
	go func() {
		defer close(worked)
		e.Run(ctx)
	}()
	return asked, func() {
		end()
		<-worked
		_ = server.Close()
		<-served
		sources.Close()
		_ = files.Close()
	}
}

// Run runs the tests, with a folder for the programs that they build, and gives the status
// that the test's program is to end with.
func Run(m *testing.M) int {
	aside.Main(map[string]aside.Task{proof.Task: proof.Draw, house.Task: house.Weigh, workbook.Task: workbook.Do})
	dir, err := os.MkdirTemp("", "ironbell-test-*")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	programs.dir = dir
	if err := live(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	status := pgtest.Run(m)
	endBrowser()
	_ = os.RemoveAll(dir) // a temporary folder
	return status
}

var programs struct {
	once sync.Once
	dir  string
	err  error
}

// Build makes the programs once, unless IRONBELL_PROGRAMS names the folder in which they were just made.
func Build(t testing.TB) string {
	t.Helper()
	programs.once.Do(func() {
		if made := os.Getenv("IRONBELL_PROGRAMS"); made != "" {
			programs.dir = made
			return
		}
		cmd := exec.Command("go", "build", "-ldflags=-w", "-o", programs.dir+"/", "./cmd/...")
		cmd.Dir = Path("")
		if out, err := cmd.CombinedOutput(); err != nil {
			programs.err = fmt.Errorf("%w: %s", err, out)
		}
	})
	require.NoError(t, programs.err)
	return programs.dir
}

// Start starts the service and waits until it is ready.
func (w *World) Start(flags ...string) {
	w.T.Helper()
	flags = append([]string{"-probe-wait", "300ms", "-programs-write", filepath.Join(w.Dir, "notes")}, flags...)
	if os.Getuid() == 0 {
		flags = append(flags, "-programs-user", "nobody")
	}
	w.StartFrom(Build(w.T)+"/ironbell", flags...)
}

// StartFrom starts the service from a program of its own.
func (w *World) StartFrom(program string, flags ...string) {
	w.T.Helper()
	log, err := os.OpenFile(filepath.Join(w.Dir, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(w.T, err)
	args := append([]string{
		"serve", "-listen", w.Listen, "-artifacts", filepath.Join(w.Dir, "artifacts"), "-key-file",
		filepath.Join(w.Dir, "key"), "-lease", "2s", "-alert-wait", "1s",
		"-programs", filepath.Join(w.Dir, "programs"), "-folders", filepath.Join(w.Dir, "folders"), "-allow-internal",
		strings.Join([]string{w.Outside, w.Out.WebDAV, w.Out.Objects, w.Out.Printer, w.Out.Receiver}, ","),
	}, flags...)
	cmd := exec.Command(program, args...)
	cmd.Env = w.Environment("IRONBELL_DB=" + w.Db)
	cmd.Stdout, cmd.Stderr = log, log
	w.Service, err = child.Start(cmd, syscall.SIGKILL, nil)
	require.NoError(w.T, err)
	service := w.Service
	w.T.Cleanup(func() {
		service.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
		_ = log.Close()
		if w.T.Failed() {
			text, _ := os.ReadFile(log.Name())
			w.T.Logf("the service's log:\n%s", text)
		}
	})
	w.Until("the service is ready", func() bool {
		res, err := http.Get("http://" + w.Listen + "/ready")
		if err != nil {
			return false
		}
		_ = res.Body.Close()
		return res.StatusCode == http.StatusOK
	})
}

// Kill ends the service as a power cut would.
func (w *World) Kill() { w.Service.Stop(syscall.SIGKILL, 10*time.Second, syscall.SIGKILL) }

// Ironbell runs the client's program and gives what it printed and its exit status.
func (w *World) Ironbell(args ...string) (out, errs string, status int) {
	w.T.Helper()
	ctx, stop := context.WithTimeout(context.Background(), Patience)
	defer stop()
	cmd := exec.CommandContext(ctx, Build(w.T)+"/ironbell", args...)
	cmd.Env = w.Environment("IRONBELL_URL=http://"+w.Listen, "IRONBELL_TOKEN="+w.Token)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	if cmd.ProcessState == nil {
		require.NoError(w.T, err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

// LoadDemo loads the demo's people, reports and jobs.
func LoadDemo(ctx context.Context, w *World) error {
	return demo.Load(ctx, w.C, demo.World{PeoplesPassword: Password, ReportsPassword: "reports"})
}

// LoadCompany connects the whole company with the stand-ins, and loads its people, reports and jobs.
func (w *World) LoadCompany() {
	w.T.Helper()
	config, err := pgx.ParseConfig(w.Company)
	require.NoError(w.T, err)
	company := w.CompanyAt(config.Database, int(config.Port))
	company.Outside.Folder = filepath.Join(w.Dir, "folders", "company")
	require.NoError(w.T, os.Mkdir(company.Outside.Folder, 0o755))
	ctx := context.Background()
	require.NoError(w.T, demo.Connect(ctx, w.C, company))
	require.NoError(w.T, demo.Load(ctx, w.C, company))
}

// CompanyAt is the demo's company, with all that lies outside it.
func (w *World) CompanyAt(database string, port int) demo.World {
	return demo.World{
		Database: database, DatabasePort: port, ReportsPassword: "reports", Mail: w.Out.Mail, MailUser: w.Out.User,
		MailPassword: w.Out.Password, CA: w.Out.CA, Authority: w.Out.Authority, PeoplesPassword: Password,
		AdministratorsIn: true, Programs: true,
		Outside: demo.Outside{
			SFTP: w.Out.SFTP, WebDAV: w.Out.WebDAV, Objects: w.Out.Objects, Printer: w.Out.Printer,
			Receiver: w.Out.Receiver, Mailbox: w.Out.Mailbox, User: w.Out.User, Password: w.Out.Password,
			Folder: w.Out.Folder,
		},
	}
}
