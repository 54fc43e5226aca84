// Package test drives the real programs end to end: the service on loopback
// through its client, its API and its console, with real PostgreSQL, the
// stand-in mail server and headless Chromium.
package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/api/wire"
	"ironbell/internal/child"
	"ironbell/internal/core/job"
	"ironbell/internal/freeport"
	"ironbell/internal/localpg/pgtest"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "ironbell-test-*")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	programs.dir = dir
	status := pgtest.Run(m)
	_ = os.RemoveAll(dir) // a temporary folder
	os.Exit(status)
}

var programs struct {
	once sync.Once
	dir  string
	err  error
}

// build makes the programs once.
func build(t testing.TB) string {
	t.Helper()
	programs.once.Do(func() {
		cmd := exec.Command("go", "build", "-o", programs.dir+"/", "../cmd/...")
		if out, err := cmd.CombinedOutput(); err != nil {
			programs.err = fmt.Errorf("%w: %s", err, out)
		}
	})
	require.NoError(t, programs.err)
	return programs.dir
}

// patience is how long a test waits for what must come: long enough for a slow machine with
// other work, since waiting costs nothing when it comes.
const patience = 2 * time.Minute

const password = "harbour-lantern"

// world is one service with all around it.
type world struct {
	t       testing.TB
	dir     string
	db      string // of our records
	company string // whose reports are run
	listen  string
	outside string // an internal address that the service may call
	token   string
	service *child.Child
	out     standins
	c       *client.Client
}

// standins are the programs outside.
type standins struct {
	Mail, Authority, Mailbox, SFTP, FTP, WebDAV, Objects, Printer, Receiver, Folder, Inbox, CA, User, Password string

	child *child.Child
}

// open starts a world: a database of its own, stand-ins, and a service with a
// short lease. Everything ends with the test.
func open(t testing.TB) *world {
	t.Helper()
	bin := build(t)
	ctx := context.Background()
	w := &world{
		t: t, dir: t.TempDir(), db: pgtest.New(t, "ironbell", func(context.Context, string) error { return nil }),
	}
	company := pgtest.New(t, "tarnwick", func(ctx context.Context, dsn string) error {
		conn, err := pgx.Connect(ctx, dsn)
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close(ctx) }()
		zone, err := time.LoadLocation(demo.Zone)
		if err != nil {
			return err
		}
		return demo.Fill(ctx, conn, 1, time.Now().In(zone), "reports")
	})
	w.company = company
	w.out = startStandins(t, bin)
	w.listen, w.outside = freeAddress(t), freeAddress(t)
	// the user of programs reaches theirs
	for dir, mode := range map[string]os.FileMode{
		"programs": 0o755, "folders": 0o700, "notes": 0o777, ".": 0o755, "..": 0o755,
	} {
		if err := os.Mkdir(filepath.Join(w.dir, dir), mode); !errors.Is(err, fs.ErrExist) {
			require.NoError(t, err)
		}
		require.NoError(t, os.Chmod(filepath.Join(w.dir, dir), mode))
	}
	add := exec.Command(bin+"/ironbell", "first-administrator", "-db", w.db, "-login", "sefa", "-name", "Sefa Orlin",
		"-mail", "sefa.orlin@tarnwick.example")
	add.Stdin = strings.NewReader(password + "\n")
	text, err := add.CombinedOutput()
	require.NoError(t, err, string(text))
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	w.token = lines[len(lines)-1]
	w.c = client.New("http://"+w.listen, w.token)
	w.start()
	config, err := pgx.ParseConfig(company)
	require.NoError(t, err)
	place := demo.World{
		DatabasePort: int(config.Port), ReportsPassword: "reports", Mail: w.out.Mail, MailUser: w.out.User,
		MailPassword: w.out.Password, CA: w.out.CA, Authority: w.out.Authority, PeoplesPassword: password,
	}
	require.NoError(t, demo.Connect(ctx, w.c, place))
	reports := "reports"
	_, err = w.c.SaveSource(ctx, "tarnwick",
		wire.PlaceRequest{Protocol: "postgres", Password: &reports, Settings: map[string]any{
			"host": config.Host, "port": config.Port, "database": config.Database, "user": "tarnwick_reports",
			"tls": "disable",
		}})
	require.NoError(t, err)
	for login, name := range map[string]string{"mara": "Mara Quill", "joren": "Joren Tak"} {
		_, err = w.c.SavePerson(ctx, login, wire.PersonRequest{
			Name: name, Mail: login + "@tarnwick.example", Role: "owner", Zone: demo.Zone, Password: password,
		})
		require.NoError(t, err)
	}
	return w
}

func startStandins(t testing.TB, bin string) standins {
	t.Helper()
	var s standins
	cmd := exec.Command(bin + "/standins")
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

func freeAddress(t testing.TB) string {
	t.Helper()
	port, err := freeport.Find(context.Background())
	require.NoError(t, err)
	return fmt.Sprintf("127.0.0.1:%d", port)
}

// start starts the service and waits until it is ready.
func (w *world) start(flags ...string) {
	w.t.Helper()
	flags = append([]string{"-probe-wait", "300ms", "-programs-write", filepath.Join(w.dir, "notes")}, flags...)
	if os.Getuid() == 0 {
		flags = append(flags, "-programs-user", "nobody")
	}
	w.startFrom(build(w.t)+"/ironbell", flags...)
}

// startFrom starts the service from a program of its own.
func (w *world) startFrom(program string, flags ...string) {
	w.t.Helper()
	log, err := os.OpenFile(filepath.Join(w.dir, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(w.t, err)
	args := append([]string{
		"serve", "-listen", w.listen, "-artifacts", filepath.Join(w.dir, "artifacts"), "-key-file",
		filepath.Join(w.dir, "key"), "-lease", "2s", "-alert-wait", "1s",
		"-programs", filepath.Join(w.dir, "programs"), "-folders", filepath.Join(w.dir, "folders"), "-allow-internal",
		strings.Join([]string{w.outside, w.out.WebDAV, w.out.Objects, w.out.Printer, w.out.Receiver}, ","),
	}, flags...)
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), "IRONBELL_DB="+w.db)
	cmd.Stdout, cmd.Stderr = log, log
	w.service, err = child.Start(cmd, syscall.SIGKILL, nil)
	require.NoError(w.t, err)
	service := w.service
	w.t.Cleanup(func() {
		service.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
		_ = log.Close()
		if w.t.Failed() {
			text, _ := os.ReadFile(log.Name())
			w.t.Logf("the service's log:\n%s", text)
		}
	})
	w.until("the service is ready", func() bool {
		res, err := http.Get("http://" + w.listen + "/ready")
		if err != nil {
			return false
		}
		_ = res.Body.Close()
		return res.StatusCode == http.StatusOK
	})
}

// kill ends the service as a power cut would.
func (w *world) kill() { w.service.Stop(syscall.SIGKILL, 10*time.Second, syscall.SIGKILL) }

// until waits for a condition, as long as a wait is patient.
func (w *world) until(what string, holds func() bool) {
	w.t.Helper()
	w.within(patience, what, holds)
}

// within waits for a condition, at most so long.
func (w *world) within(limit time.Duration, what string, holds func() bool) {
	w.t.Helper()
	end := time.Now().Add(limit)
	for !holds() {
		if time.Now().After(end) {
			w.t.Fatalf("waited %s in vain: %s", limit, what)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// letter is a message in the stand-in's inbox.
type letter struct {
	ID          int      `json:"id"`
	From        string   `json:"from"`
	To          []string `json:"to"`
	Subject     string   `json:"subject"`
	MessageID   string   `json:"message_id"`
	Plain       string   `json:"plain"`
	HTML        string   `json:"html"`
	Attachments []struct {
		Name string `json:"name"`
		Size int    `json:"size"`
	} `json:"attachments"`
}

func (w *world) get(address string) []byte {
	w.t.Helper()
	res, err := http.Get(address)
	require.NoError(w.t, err)
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	require.NoError(w.t, err)
	require.Equal(w.t, http.StatusOK, res.StatusCode, string(text))
	return text
}

// inbox lists the letters to an address, the newest first.
func (w *world) inbox(to string) []letter {
	w.t.Helper()
	var all, mine []letter
	require.NoError(w.t, json.Unmarshal(w.get(w.out.Inbox+"/api/messages"), &all))
	for _, l := range all {
		if l.To[0] == to {
			mine = append(mine, l)
		}
	}
	return mine
}

// attachment fetches a file of a letter.
func (w *world) attachment(l letter, n int) []byte {
	return w.get(fmt.Sprintf("%s/messages/%d/files/%d", w.out.Inbox, l.ID, n))
}

// behave tells a stand-in how to behave.
func (w *world) behave(server, mode string, delay int) { w.behaveTo(server, mode, "", delay) }

// behaveTo tells a stand-in how to behave towards one recipient.
func (w *world) behaveTo(server, mode, only string, delay int) {
	w.t.Helper()
	text, err := json.Marshal(map[string]any{"mode": mode, "only": only, "delay_ms": delay})
	require.NoError(w.t, err)
	req, err := http.NewRequest(http.MethodPut, w.out.Inbox+"/api/servers/"+server, bytes.NewReader(text))
	require.NoError(w.t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(w.t, err)
	_ = res.Body.Close()
	require.Equal(w.t, http.StatusOK, res.StatusCode)
}

// report saves a report with one section.
func (w *world) report(name, sql string, params ...job.Parameter) {
	w.t.Helper()
	_, err := w.c.SaveReport(context.Background(), name, wire.ReportRequest{
		Owner: "mara",
		ReportDefinition: job.ReportDefinition{
			Source: "tarnwick", Parameters: params, Sections: []job.Section{{Name: "Rows", SQL: sql}},
		},
	})
	require.NoError(w.t, err)
}

// definition is a job of one report, mailed to addresses.
func definition(report, destination string, formats []string, to ...string) job.Definition {
	var outputs []job.Output
	for _, f := range formats {
		outputs = append(outputs, job.Output{Format: f})
	}
	return job.Definition{
		Zone: demo.Zone, Retry: job.Retry{Times: 2, Wait: job.Duration(time.Second)},
		Patience: job.Retry{Times: 2, Wait: job.Duration(time.Second)}, Tasks: []job.Task{
			{Name: "report", Kind: job.KindReport, Report: &job.ReportTask{Report: report, Outputs: outputs}},
			{Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: destination, To: to}},
		},
	}
}

func (w *world) job(name string, d job.Definition) {
	w.t.Helper()
	_, err := w.c.SaveJob(context.Background(), name, wire.JobRequest{Owner: "mara", On: true, Definition: d})
	require.NoError(w.t, err)
}

// ring rings a job and follows it to its outcome.
func (w *world) ring(name string) wire.RunPage {
	w.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	run, err := w.c.Ring(ctx, name, nil)
	require.NoError(w.t, err)
	page, err := w.c.Follow(ctx, run.ID, func(wire.RunPage) error { return nil })
	require.NoError(w.t, err)
	return page
}

// ironbell runs the client's program and gives what it printed and its exit status.
func (w *world) ironbell(args ...string) (out, errs string, status int) {
	w.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	cmd := exec.CommandContext(ctx, build(w.t)+"/ironbell", args...)
	cmd.Env = append(os.Environ(), "IRONBELL_URL=http://"+w.listen, "IRONBELL_TOKEN="+w.token)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	if cmd.ProcessState == nil {
		require.NoError(w.t, err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

// connect opens our own database, to look at it or to play time.
func connect(t testing.TB, dsn string) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	return conn
}

// withOwner is a job as somebody else's.
func withOwner(login string, d job.Definition) wire.JobRequest {
	return wire.JobRequest{Owner: login, Definition: d}
}

// loadDemo loads the demo's people, reports and jobs.
func loadDemo(ctx context.Context, w *world) error {
	return demo.Load(ctx, w.c, demo.World{PeoplesPassword: password, ReportsPassword: "reports"})
}

// clientWhich chooses the deliveries of a run that are kept back for a reason.
func clientWhich(run job.RunID, keptBack string) client.Which {
	return client.Which{Run: run.String(), KeptBack: keptBack, Limit: 1000}
}
