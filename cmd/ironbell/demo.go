package main

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"ironbell/client"
	"ironbell/demo"
	"ironbell/internal/access"
	"ironbell/internal/child"
	"ironbell/internal/cli"
	"ironbell/internal/confined"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/freeport"
	"ironbell/internal/localpg"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/wallclock"

	"github.com/jackc/pgx/v5"
)

var demoCommand = cli.Command{
	Name: "demo", Summary: "start Tarnwick Sound Ferries: database, mail server and service, on this machine only",
	Example: "ironbell demo\nironbell demo -reset",
	Setup: func(f *flag.FlagSet) func(context.Context, cli.IO, []string) (int, error) {
		var o demoOptions
		f.StringVar(&o.dir, "dir", ".demo", "`folder` for its state, kept between starts")
		f.StringVar(&o.listen, "listen", "127.0.0.1:8321",
			"`address` of the service; another port is taken when it is in use")
		f.StringVar(&o.inbox, "inbox", "127.0.0.1:8325",
			"`address` of the inbox's pages; another port is taken when it is in use")
		f.BoolVar(&o.reset, "reset", false, "forget its state, and do not start")
		return func(ctx context.Context, i cli.IO, _ []string) (int, error) {
			if o.reset {
				return 0, resetDemo(i.Out, o.dir)
			}
			return 0, runDemo(ctx, i, o)
		}
	},
}

type demoOptions struct {
	dir, listen, inbox string
	reset              bool
}

// demoSeed makes the company's data the same at every start.
const demoSeed = 1887

func resetDemo(out io.Writer, dir string) error {
	if err := localpg.Forget(filepath.Join(dir, "database")); err != nil {
		return fmt.Errorf("forget the demo's database: %w", err)
	}
	if err := os.RemoveAll(dir); err != nil {
		return fmt.Errorf("forget the demo: %w", err)
	}
	fmt.Fprintln(out, "The demo's state is forgotten; the next start makes it anew.")
	return nil
}

// secrets are what the demo keeps between starts beside its database.
type secrets struct {
	People  string `json:"people"`  // password of everybody who signs in
	Reports string `json:"reports"` // password of the reports' login
	Token   string `json:"token"`
	Loaded  bool   `json:"loaded"`
	Edition string `json:"edition,omitempty"` // of the company that was loaded
}

func runDemo(ctx context.Context, i cli.IO, o demoOptions) error {
	began := time.Now()
	say := func(format string, args ...any) {
		fmt.Fprintf(i.Out, "%5.1f s  %s\n", time.Since(began).Seconds(), fmt.Sprintf(format, args...))
	}
	if err := os.MkdirAll(o.dir, 0o755); err != nil { //nolint:gosec // the database's user must pass
		return fmt.Errorf("make the demo's folder: %w", err)
	}
	kept, err := readSecrets(o.dir)
	if err != nil {
		return err
	}
	say("starting PostgreSQL")
	pg, err := localpg.Start(ctx, localpg.Options{Dir: filepath.Join(o.dir, "database")})
	if err != nil {
		return err
	}
	defer pg.Stop()
	for _, name := range []string{"ironbell", "tarnwick"} {
		if err := pg.Ensure(ctx, name); err != nil {
			return err
		}
	}
	if err := fillCompany(ctx, pg, kept, say); err != nil {
		return err
	}
	if err := prepareService(ctx, i.Err, pg, &kept); err != nil {
		return err
	}
	world, standins, err := startStandins(ctx, i, o)
	if err != nil {
		return err
	}
	defer standins.Stop(syscall.SIGTERM, 5*time.Second, syscall.SIGKILL)
	listen := freeOr(ctx, o.listen)
	programs, err := demoPrograms(ctx, o.dir)
	if err != nil {
		say("the tide-gauge job hands its readings to no program: %s", err)
	}
	service, err := startService(o, pg, listen, world, programs)
	if err != nil {
		return err
	}
	defer service.Stop(syscall.SIGTERM, 25*time.Second, syscall.SIGKILL)
	base := "http://" + listen
	if err := awaitReady(ctx, base, service); err != nil {
		return err
	}
	c := client.New(base, kept.Token)
	w := demo.World{
		DatabasePort: pg.Port(), ReportsPassword: kept.Reports, Mail: world.Mail, MailUser: world.User,
		MailPassword: world.Password, CA: world.CA, Authority: world.Authority, PeoplesPassword: kept.People, Programs: programs != "",
	}
	folders, err := portFolders(o.dir)
	if err != nil {
		return err
	}
	w.Outside = demo.Outside{
		SFTP: world.SFTP, WebDAV: world.WebDAV, Objects: world.Objects, Printer: world.Printer,
		Receiver: world.Receiver, Mailbox: world.Mailbox, User: world.User, Password: world.Password, Folder: folders,
	}
	if err := demo.Connect(ctx, c, w); err != nil {
		return err
	}
	if err := misbehave(ctx, world.Inbox); err != nil {
		return err
	}
	if err := loadCompany(ctx, c, w, o.dir, &kept, say); err != nil {
		return err
	}
	if err := writeEnvironment(o.dir, base, kept.Token); err != nil {
		return err
	}
	able, err := deeds(ctx, c, base, pg)
	if err != nil {
		return err
	}
	withdraw, err := offer(ctx, world.Inbox, able)
	if err != nil {
		return err
	}
	defer withdraw()
	say("ready")
	if err := greet(ctx, i.Out, c, base, world.Inbox, o.dir, kept); err != nil {
		return err
	}
	select {
	case <-ctx.Done():
		fmt.Fprintln(i.Out, "\nStopping service, mail server and database.")
		return nil
	case <-service.Ended():
		return fmt.Errorf("the service ended by itself: %w; its log is %s", service.Err(),
			filepath.Join(o.dir, "service.log"))
	case <-standins.Ended():
		return fmt.Errorf("the stand-ins ended by themselves: %w", standins.Err())
	case <-pg.Ended():
		return errors.New("the database ended by itself")
	}
}

// loadCompany saves the company's records at the first start; at one over the state of another edition it adds what
// that lacks.
func loadCompany(ctx context.Context, c *client.Client, w demo.World, dir string, kept *secrets, say func(string, ...any)) error {
	edition := demo.Edition()
	switch {
	case !kept.Loaded:
		say("loading people, reports and jobs")
		if err := demo.Load(ctx, c, w); err != nil {
			return err
		}
	case kept.Edition != edition:
		say("taking up the state of another version of the demo")
		added, err := demo.TakeUp(ctx, c, w)
		if err != nil {
			return fmt.Errorf("the state in %s is of another version of the demo and cannot be taken up: %w; make demo-reset forgets it, "+
				"and the next start makes it anew", dir, err)
		}
		if len(added) == 0 {
			say("it lacked nothing; what is there stays as it is, and make demo-reset makes all anew")
		} else {
			say("added: %s; what was there stays as it is, and make demo-reset makes all anew", strings.Join(added, ", "))
		}
	default:
		return nil
	}
	kept.Loaded, kept.Edition = true, edition
	return writeSecrets(dir, *kept)
}

func readSecrets(dir string) (secrets, error) {
	var k secrets
	text, err := os.ReadFile(filepath.Join(dir, "secrets.json")) //nolint:gosec // our own folder
	if errors.Is(err, os.ErrNotExist) {
		k = secrets{People: strings.ToLower(rand.Text()[:12]), Reports: rand.Text()}
		return k, writeSecrets(dir, k)
	}
	if err == nil {
		err = json.Unmarshal(text, &k)
	}
	if err != nil {
		return k, fmt.Errorf("read the demo's state: %w; make demo-reset forgets it", err)
	}
	return k, nil
}

func writeSecrets(dir string, k secrets) error {
	text, err := json.Marshal(k)
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "secrets.json"), text, 0o600)
	}
	if err != nil {
		return fmt.Errorf("keep the demo's state: %w", err)
	}
	return nil
}

// fillCompany makes the company's data when there is none, or when it does not
// end yesterday.
func fillCompany(ctx context.Context, pg *localpg.Server, k secrets, say func(string, ...any)) error {
	conn, err := pgx.Connect(ctx, pg.DSN("tarnwick"))
	if err != nil {
		return fmt.Errorf("connect to the company's database: %w", err)
	}
	defer func() { _ = conn.Close(ctx) }() // nothing is left on it
	zone, err := zone.Load(demo.Zone)
	if err != nil {
		return fmt.Errorf("find the company's zone: %w", err)
	}
	today := wallclock.Now().In(zone)
	if day, ok := demo.Ends(ctx, conn, demo.Zone); ok && (!k.Loaded || k.Edition == demo.Edition()) &&
		day == today.AddDate(0, 0, -1).Format(time.DateOnly) {
		return nil
	}
	say("making two years of Tarnwick's sailings")
	if err := demo.Fill(ctx, conn, demoSeed, today, k.Reports); err != nil {
		return err
	}
	return sailings(ctx, pg, unfinished)
}

// prepareService migrates our own database and adds the administrator.
func prepareService(ctx context.Context, errs io.Writer, pg *localpg.Server, k *secrets) error {
	s, err := open(ctx, errs, pg.DSN("ironbell"))
	if err != nil {
		return err
	}
	defer s.Close()
	if by := wallclock.Ahead(); by != 0 {
		if err := s.TurnClock(ctx, by); err != nil {
			return err
		}
	}
	if k.Token != "" {
		if _, _, err := access.ByToken(ctx, s, k.Token); err == nil {
			return nil
		}
	}
	k.Loaded = false
	k.Token, err = addAdministrator(ctx, s,
		job.Person{
			Login: "sefa", Name: "Sefa Orlin", Mail: "sefa.orlin@tarnwick.example", Role: job.RoleAdministrator,
			Zone: demo.Zone,
		}, k.People)
	return err
}

// addAdministrator adds a person without asking anybody, and makes a token.
func addAdministrator(ctx context.Context, s *store.Store, p job.Person, password string) (string, error) {
	saved, err := service.PutPerson(ctx, s, p, password)
	if err != nil {
		return "", err
	}
	token, _, err := access.NewToken(ctx, s, saved.ID, saved.Login, job.SignIn{Name: "made at the machine"})
	return token, err
}

// standinWorld is the line that the stand-ins print.
type standinWorld struct {
	Mail, Authority, Mailbox, SFTP, WebDAV, Objects, Printer, Receiver, Inbox, CA, User, Password string
}

func startStandins(ctx context.Context, i cli.IO, o demoOptions) (standinWorld, *child.Child, error) {
	var w standinWorld
	self, err := os.Executable()
	if err != nil {
		return w, nil, fmt.Errorf("find our own program: %w", err)
	}
	cmd := exec.Command(filepath.Join(filepath.Dir(self), "standins"), "-inbox", freeOr(ctx, o.inbox), "-folder", filepath.Join(o.dir, "outside")) //nolint:gosec,noctx // beside our own program; child.Stop ends it
	cmd.Stderr = i.Err
	out, err := cmd.StdoutPipe()
	if err != nil {
		return w, nil, fmt.Errorf("hear the stand-ins: %w", err)
	}
	c, err := child.Start(cmd, syscall.SIGTERM, nil)
	if err != nil {
		return w, nil, fmt.Errorf("%w; make build makes it", err)
	}
	heard := make(chan error, 1)
	go func() {
		line, err := bufio.NewReader(out).ReadBytes('\n')
		if err == nil {
			err = json.Unmarshal(line, &w)
		}
		heard <- err
	}()
	select {
	case err = <-heard:
	case <-time.After(10 * time.Second):
		err = errors.New("they do not say where they listen")
	case <-ctx.Done():
		err = ctx.Err()
	}
	if err != nil {
		c.Stop(syscall.SIGTERM, 5*time.Second, syscall.SIGKILL)
		return w, nil, fmt.Errorf("start the stand-ins: %w", err)
	}
	return w, c, nil
}

func startService(o demoOptions, pg *localpg.Server, listen string, w standinWorld, programs string,
) (*child.Child, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find our own program: %w", err)
	}
	log, err := os.OpenFile(filepath.Join(o.dir, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the service's log: %w", err)
	}
	defer func() { _ = log.Close() }() // written by the child only
	folders, err := portFolders(o.dir)
	if err != nil {
		return nil, err
	}
	inside := strings.Join([]string{w.WebDAV, w.Objects, w.Printer, w.Receiver}, ",")
	cmd := exec.Command(self, "serve", "-listen", listen, "-artifacts", filepath.Join(o.dir, "artifacts"), "-key-file", filepath.Join(o.dir, "key"), "-folders", folders, "-allow-internal", inside, "-programs", programs, "-programs-user", programsUser()) //nolint:gosec,noctx // our own program; child.Stop ends it
	cmd.Env = append(os.Environ(), "IRONBELL_DB="+pg.DSN("ironbell"))
	cmd.Stdout, cmd.Stderr = log, log
	return child.Start(cmd, syscall.SIGTERM, nil)
}

// programsUser is who runs the programs of tasks: nobody, where we are root and would run them ourselves.
func programsUser() string {
	if os.Getuid() == 0 {
		return "nobody"
	}
	return ""
}

// demoPrograms lays down the programs that the company's jobs run, and gives their folder; or says why none can be run.
func demoPrograms(ctx context.Context, dir string) (string, error) {
	folder, err := filepath.Abs(filepath.Join(dir, "programs"))
	if err != nil {
		return "", fmt.Errorf("find the folder of programs: %w", err)
	}
	if err := os.MkdirAll(folder, 0o755); err != nil { //nolint:gosec // another user runs them
		return "", fmt.Errorf("make the folder of programs: %w", err)
	}
	if err := demo.LayPrograms(folder); err != nil {
		return "", err
	}
	self, err := os.Executable()
	if err != nil {
		return "", fmt.Errorf("find our own program: %w", err)
	}
	walls := confined.Walls{Self: self, User: programsUser(), Read: []string{folder}}
	if err := walls.Try(ctx, "/bin/ls", folder); err != nil {
		return "", fmt.Errorf("it cannot be run here: %w", err)
	}
	return folder, nil
}

// portFolders is the folder that results may be brought to.
func portFolders(dir string) (string, error) {
	folder, err := filepath.Abs(filepath.Join(dir, "ports"))
	if err == nil {
		err = os.MkdirAll(folder, 0o750)
	}
	if err != nil {
		return "", fmt.Errorf("make the folder for results: %w", err)
	}
	return folder, nil
}

// misbehave tells the stand-ins how they begin: the harbour authority is away, and
// what goes to the yard comes back.
func misbehave(ctx context.Context, inbox string) error {
	for server, b := range map[string]string{
		"authority": `{"mode":"away"}`, "sftp": `{"mode":"away"}`,
		"mail": `{"mode":"bounce","only":"yard@slipway-works.test","delay_ms":20000}`,
	} {
		if err := put(ctx, inbox+"/api/servers/"+server, []byte(b)); err != nil {
			return fmt.Errorf("tell %s how to behave: %w", server, err)
		}
	}
	return nil
}

func awaitReady(ctx context.Context, base string, service *child.Child) error {
	ctx, stop := context.WithTimeout(ctx, openLimit)
	defer stop()
	for {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, base+"/ready", nil)
		if err != nil {
			return fmt.Errorf("ask the service: %w", err)
		}
		if res, err := http.DefaultClient.Do(req); err == nil {
			_ = res.Body.Close() // only its status counts
			if res.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-service.Ended():
			return fmt.Errorf("the service ended at its start: %w; its log says why", service.Err())
		case <-ctx.Done():
			return errors.New("the service does not become ready; its log says why")
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// freeOr gives the address when its port is free, and otherwise one that is.
func freeOr(ctx context.Context, address string) string {
	if l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", address); err == nil {
		defer func() { _ = l.Close() }() // it only lent its number
		if !strings.HasSuffix(address, ":0") {
			return l.Addr().String()
		}
	}
	port, err := freeport.Find(ctx)
	if err != nil {
		return address // listening there will say what is wrong
	}
	return fmt.Sprintf("127.0.0.1:%d", port)
}

// writeEnvironment keeps what the client needs, to be read by a shell.
func writeEnvironment(dir, base, token string) error {
	text := fmt.Sprintf("export IRONBELL_URL=%s IRONBELL_TOKEN=%s PATH=\"$PATH:%s\"\n", base, token, binDir())
	if err := os.WriteFile(filepath.Join(dir, "env"), []byte(text), 0o600); err != nil {
		return fmt.Errorf("keep the client's environment: %w", err)
	}
	return nil
}

func binDir() string {
	self, err := os.Executable()
	if err != nil {
		return "bin"
	}
	return filepath.Dir(self)
}

func greet(ctx context.Context, out io.Writer, c *client.Client, base, inbox, dir string, k secrets) error {
	day, err := c.Day(ctx, "", demo.Zone)
	if err != nil {
		return fmt.Errorf("ask what rings next: %w", err)
	}
	fmt.Fprintf(out,
		"\n  Console   %s\n            sign in as sefa (administrator) or mara (report owner), password %s\n  Inbox  "+
			"   %s\n  Client    . %s, then: ironbell jobs\n\nNext rings, in %s:\n",
		base, k.People, inbox, filepath.Join(dir, "env"), demo.Zone)
	zone, err := zone.Load(demo.Zone)
	if err != nil {
		return fmt.Errorf("find the company's zone: %w", err)
	}
	for _, n := range day.Next[:min(6, len(day.Next))] {
		fmt.Fprintf(out, "  %s  %s\n", n.At.In(zone).Format("15:04 MST"), n.Job)
	}
	fmt.Fprintln(out,
		"\nThe harbour authority's file server is away: the passenger manifest waits for it, is given up, and "+
			"its\nowner gets an alert. Bring it back on the inbox page, where buttons also let a file arrive, close the\n"+
			"ledger and finish an import. Ctrl-C stops everything.")
	return nil
}
