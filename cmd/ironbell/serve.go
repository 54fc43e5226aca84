package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"ironbell/console"
	"ironbell/internal/api"
	"ironbell/internal/artifact"
	"ironbell/internal/assemble"
	"ironbell/internal/cli"
	"ironbell/internal/confined"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/outgoing"
	"ironbell/internal/release"
	"ironbell/internal/render"
	"ironbell/internal/report"
	"ironbell/internal/secret"
	"ironbell/internal/store"
	"ironbell/internal/typeface"
	"ironbell/internal/wallclock"

	"golang.org/x/sys/unix"
)

// settingsFolder is where an operator keeps the service's settings, by custom.
const settingsFolder = "/etc/ironbell"

const (
	openLimit  = 60 * time.Second // for the database to answer at start
	closeLimit = 20 * time.Second // for requests, and for what is left to be written, to end at stop
)

var serveCommand = cli.Command{
	Name: "serve", Summary: "run the service",
	Example: "ironbell serve -db postgres://ironbell@db.tarnwick.example/ironbell -artifacts /srv/ironbell/artifacts " +
		"-key-file /etc/ironbell/key",
	Setup: func(f *flag.FlagSet) func(context.Context, cli.IO, []string) (int, error) {
		var o serveOptions
		f.StringVar(&o.db, "db", os.Getenv("IRONBELL_DB"), "connection `string` of the database; or IRONBELL_DB")
		f.StringVar(&o.listen, "listen", "127.0.0.1:8321", "`address` to listen on")
		f.StringVar(&o.artifacts, "artifacts", "artifacts",
			"`folder` for the files that runs make, shared by all nodes")
		f.StringVar(&o.keyFile, "key-file", "ironbell.key",
			"`file` with the key of the secrets; made when it is not there")
		f.StringVar(&o.url, "url", "",
			"`address` by which people reach the console, for links in mails; http:// and -listen when left out")
		f.DurationVar(&o.engine.Lease, "lease", 15*time.Second, "how long a dead node keeps its work")
		f.IntVar(&o.engine.Workers, "workers", 4, "runs at work at once on this node")
		f.IntVar(&o.engine.Senders, "senders", 4, "lines to one destination at once on this node")
		f.DurationVar(&o.engine.Tell, "alert-wait", 30*time.Second,
			"time between two tries to send an alert while the mail server is down")
		f.DurationVar(&o.engine.Probe, "probe-wait", 5*time.Second,
			"time from the failure of a destination to the first look whether it works again")
		f.DurationVar(&o.engine.Stop, "stop-wait", 30*time.Second,
			"how long programs, files and hand-overs that are under way may go on when the service is told to stop; "+
				"then they are handed back")
		f.StringVar(&o.engine.Node, "node", "", "`name` of this node; made of host and process when left out")
		f.StringVar(&o.engine.Copy, "copy", "",
			"`name` of the clone of a whole machine that this is: it stands still until an administrator says what "+
				"it is (ironbell copy), once for each name")
		f.BoolVar(&o.adopt, "adopt-store", false,
			"work with this folder of artifacts although it is another than before, whose files are lost")
		f.StringVar(&o.engine.Browser, "browser", render.FindBrowser(),
			"`path` of the Chromium that prints tagged PDFs; empty for none")
		f.StringVar(&o.typefaces, "typefaces", "",
			"`folders`, separated by commas, of typefaces that come before those of the system on pages and pictures")
		f.StringVar(&o.languages, "languages", "",
			"`folder` of catalogues (LANGUAGE.po) for the texts of files and mails, before those that come with the program")
		f.StringVar(&o.engine.Programs, "programs", "",
			"`folder` of the programs that tasks may run; none when left out")
		f.StringVar(&o.engine.Walls.User, "programs-user", "",
			"`user` that those programs run as; the service's own when left out, but never root")
		f.StringVar(&o.programsRead, "programs-read", "",
			"`folders` that those programs may read beside what the system is made of, separated by commas")
		f.StringVar(&o.programsWrite, "programs-write", "",
			"`folders` that those programs may write to beside one of their own, separated by commas")
		f.Int64Var(&o.programsMemory, "programs-memory", confined.Memory>>20,
			"`MiB` of data that each process of those programs may have")
		f.StringVar(&o.proxies, "proxies", "",
			"addresses or `networks` of the proxies in front of the service, separated by commas, which may say for "+
				"whom they ask (X-Forwarded-For), such as 10.0.0.5,10.1.0.0/16")
		f.StringVar(&o.untried, "untried", "",
			"`drivers` of sources that were never tried on a real server and are used all the same, separated by "+
				"commas: sqlserver")
		f.StringVar(&o.folders, "folders", "",
			"`folders` that sources may lie in, separated by commas; none when left out")
		f.StringVar(&o.internal, "allow-internal", "",
			"internal `addresses` that tasks may call, as host:port separated by commas")
		f.StringVar(&o.log, "log", "text", "form of the log: text or json")
		return func(ctx context.Context, i cli.IO, args []string) (int, error) {
			if len(args) > 0 {
				return 0, &cli.Usage{Sentence: "it takes no arguments, only flags"}
			}
			if err := hideDatabase(f, o.db); err != nil {
				return 0, err
			}
			return 0, serve(ctx, i.Err, o)
		}
	},
}

// hideDatabase starts this program anew with the database in its environment when it was
// named on the command line, which every process of the machine can read, and with it the
// password. It returns when there is nothing to hide.
func hideDatabase(f *flag.FlagSet, dsn string) error {
	args, named := []string{os.Args[0], "serve"}, false
	f.Visit(func(one *flag.Flag) {
		if one.Name == "db" {
			named = true
			return
		}
		args = append(args, "-"+one.Name+"="+one.Value.String())
	})
	if !named {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("find this program, to hide the database's password: %w", err)
	}
	if err := os.Setenv("IRONBELL_DB", dsn); err != nil {
		return fmt.Errorf("hide the database's password: %w", err)
	}
	return fmt.Errorf("start anew, to hide the database's password: %w", syscall.Exec(self, args, os.Environ())) //nolint:gosec // this program itself
}

type serveOptions struct {
	db, listen, artifacts, keyFile, url, log          string
	folders, internal, untried, proxies               string
	programsRead, programsWrite, typefaces, languages string
	programsMemory                                    int64
	adopt                                             bool
	engine                                            engine.Options
}

func logger(w io.Writer, form string) *slog.Logger {
	if form == "json" {
		return slog.New(slog.NewJSONHandler(w, nil))
	}
	return slog.New(slog.NewTextHandler(w, nil))
}

// open connects to the database and brings it to this version.
func open(ctx context.Context, errs io.Writer, dsn string) (*store.Store, error) {
	if dsn == "" {
		return nil,
			&cli.Usage{Sentence: "name the database with -db or IRONBELL_DB; ironbell demo starts one of its own to " +
				"try things out"}
	}
	ctx, stop := context.WithTimeout(ctx, openLimit)
	defer stop()
	s, err := store.Open(ctx, dsn, store.Options{Waiting: func(err error) {
		fmt.Fprintf(errs, "ironbell: the database does not answer yet, waiting up to %s: %s\n", openLimit,
			fault.Reason(err))
	}})
	if err != nil {
		return nil, err
	}
	if err := s.Migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// list reads texts that are separated by commas.
func list(text string) []string {
	var out []string
	for _, part := range strings.Split(text, ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

// walls puts up the walls around the programs of tasks, and tells which stand.
func (o *serveOptions) walls(ctx context.Context, log *slog.Logger) error {
	w := &o.engine.Walls
	if o.engine.Programs == "" {
		return nil
	}
	if w.User == "" && os.Getuid() == 0 {
		return &cli.Usage{Sentence: "the service runs as root, and the programs of -programs would, too; name " +
			"another user with -programs-user, such as nobody"}
	}
	var err error
	if w.Self, err = os.Executable(); err != nil {
		return fmt.Errorf("find this program, to look after others: %w", err)
	}
	w.Read, w.Write, w.Memory = list(o.programsRead), list(o.programsWrite), o.programsMemory<<20
	for _, path := range []string{o.keyFile, o.artifacts, o.engine.Programs, settingsFolder} {
		if path, err = filepath.Abs(path); err != nil {
			return fmt.Errorf("keep %s from programs: %w", path, err)
		}
		w.Hidden = append(w.Hidden, path)
	}
	if err := w.Try(ctx); err != nil {
		return fmt.Errorf("programs cannot be run within their walls: %w", err)
	}
	// Where Landlock is missing, at least nobody reads our memory and environment.
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return fmt.Errorf("close the service's memory to programs: %w", err)
	}
	sentences, closed := w.Standing()
	if closed {
		log.Info(strings.Join(sentences, " "))
	} else {
		log.Warn(strings.Join(sentences, " "))
	}
	return nil
}

// addLanguages reads the catalogues of a folder.
func addLanguages(folder string) error {
	if folder == "" {
		return nil
	}
	files, err := os.ReadDir(folder)
	if err != nil {
		return fmt.Errorf("the folder of -languages cannot be read: %w", err)
	}
	for _, f := range files {
		language, ok := strings.CutSuffix(f.Name(), ".po")
		if !ok {
			continue
		}
		path := filepath.Join(folder, f.Name())
		data, err := os.ReadFile(path) //nolint:gosec // the operator names the folder
		if err == nil {
			err = locale.Add(language, data)
		}
		if err != nil {
			return fmt.Errorf("the catalogue %s cannot be used: %w", path, err)
		}
	}
	return nil
}

func serve(ctx context.Context, errs io.Writer, o serveOptions) error {
	log, version := logger(errs, o.log), release.This().Name()
	log.Info("Iron Bell begins", "version", version)
	s, err := open(ctx, errs, o.db)
	if err != nil {
		return err
	}
	defer s.Close()
	vault, err := secret.FromFile(o.keyFile, true)
	if err != nil {
		return err
	}
	files, err := artifact.OpenFolder(o.artifacts)
	if err != nil {
		return err
	}
	defer func() { _ = files.Close() }() // nothing is left in it
	if err := addLanguages(o.languages); err != nil {
		return err
	}
	for _, folder := range list(o.typefaces) {
		if _, err := os.ReadDir(folder); err != nil {
			return fmt.Errorf("a folder of -typefaces cannot be read: %w", err)
		}
	}
	typeface.Prefer(list(o.typefaces)...)
	o.engine.Guard = outgoing.New(list(o.internal))
	sources := report.NewSources(s, vault, report.Allowed{
		Folders: list(o.folders), Guard: o.engine.Guard, Untried: list(o.untried),
	})
	defer sources.Close()
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", o.listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w; choose another address with -listen", o.listen, err)
	}
	if o.url == "" {
		o.url = "http://" + l.Addr().String()
	}
	if err := o.walls(ctx, log); err != nil {
		return err
	}
	if by := wallclock.Ahead(); by != 0 {
		log.Warn("the clock of this process is turned, as only tests turn it", "by", by, "variable", wallclock.Variable)
	}
	o.engine.Now = wallclock.Now
	o.engine.Log, o.engine.URL, o.engine.Signer, o.engine.Version = log, o.url, vault, version
	e, asked := assemble.Node(s, sources,
		deliver.NewDestinations(s, vault, deliver.Allowed{Folders: list(o.folders), Guard: o.engine.Guard}), files,
		o.engine)
	if err := e.Installation.KnowItself(ctx, o.adopt); err != nil {
		return err
	}
	proxies, err := networks(o.proxies)
	if err != nil {
		return err
	}
	handler := api.Handler(api.Parts{
		Store: s, Node: e, Service: asked, Now: e.Node.Now, URL: e.Links.URL, Files: files, Vault: vault,
		Console: console.Files(), Log: log, Version: version, Proxies: proxies,
		Secure: strings.HasPrefix(o.url, "https:"),
	})
	// Requests end with the service: streams of notices would never end by themselves.
	requests, endRequests := context.WithCancel(context.WithoutCancel(ctx))
	defer endRequests()
	server := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10, BaseContext: func(net.Listener) context.Context { return requests },
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}

	working, stopWorking := context.WithCancel(ctx)
	defer stopWorking()
	worked := make(chan struct{})
	go func() {
		defer close(worked)
		e.Run(working)
	}()
	served := make(chan error, 1)
	go func() { served <- server.Serve(l) }()
	log.Info("serving", "address", "http://"+l.Addr().String(), "node", e.Name())
	select {
	case <-ctx.Done():
		log.Info("stopping; work goes back to the other nodes or waits")
	case err = <-served:
		err = fmt.Errorf("serve: %w", err)
	}
	stopWorking()
	endRequests()
	closing, stop := context.WithTimeout(context.WithoutCancel(ctx), o.engine.Stop+closeLimit)
	defer stop()
	if shut := server.Shutdown(closing); shut != nil && !errors.Is(shut, http.ErrServerClosed) {
		log.Warn("some requests were broken off", "error", shut)
	}
	select {
	case <-worked:
	case <-closing.Done():
		log.Warn("some work did not end in time; its lease will run out")
	}
	return err
}

var firstCommand = cli.Command{
	Name: "first-administrator", Summary: "add an administrator at the database itself, and print a token for them",
	Example: "ironbell first-administrator -db postgres://... -login sefa -name 'Sefa Orlin' -mail " +
		"sefa.orlin@tarnwick.example < password.txt",
	Setup: func(f *flag.FlagSet) func(context.Context, cli.IO, []string) (int, error) {
		p := job.Person{Role: job.RoleAdministrator}
		db := f.String("db", os.Getenv("IRONBELL_DB"), "connection `string` of the database; or IRONBELL_DB")
		f.StringVar(&p.Login, "login", "", "sign-in name")
		f.StringVar(&p.Name, "name", "", "name")
		f.StringVar(&p.Mail, "mail", "", "mail address")
		f.StringVar(&p.Zone, "zone", "Europe/London", "time zone")
		return func(ctx context.Context, i cli.IO, _ []string) (int, error) {
			s, err := open(ctx, i.Err, *db)
			if err != nil {
				return 0, err
			}
			defer s.Close()
			password, err := cli.AskPassword(i)
			if err != nil {
				return 0, err
			}
			token, err := addAdministrator(ctx, s, p, password)
			if err != nil {
				return 0, err
			}
			fmt.Fprintf(i.Out, "%s may do everything now. A token for programs, shown only here:\n%s\n", p.Name, token)
			return 0, nil
		}
	},
}

func describeCommand() cli.Command {
	return cli.Command{
		Name: "describe", Summary: "print the OpenAPI description of the service's API, or the reference; needs no service",
		Example: "ironbell describe > openapi.json",
		Setup: func(f *flag.FlagSet) func(context.Context, cli.IO, []string) (int, error) {
			reference := f.Bool("reference", false, "print the reference: every command, field, setting, role, number and call")
			return func(_ context.Context, i cli.IO, _ []string) (int, error) {
				if *reference {
					fmt.Fprint(i.Out, "# Reference\n\nMade by `ironbell describe -reference` from what the program itself goes by.\n\n")
					cli.Reference(i.Out, "ironbell", ownCommands()...)
					fmt.Fprint(i.Out, "\n"+api.Reference())
					return 0, nil
				}
				text, err := api.Description()
				if err != nil {
					return 0, err
				}
				_, err = i.Out.Write(append(text, '\n'))
				return 0, err
			}
		},
	}
}

// networks reads addresses and networks, separated by commas.
func networks(text string) ([]netip.Prefix, error) {
	var all []netip.Prefix
	for _, one := range list(text) {
		if at, err := netip.ParseAddr(one); err == nil {
			all = append(all, netip.PrefixFrom(at.Unmap(), at.Unmap().BitLen()))
			continue
		}
		network, err := netip.ParsePrefix(one)
		if err != nil {
			return nil, fmt.Errorf("-proxies: %q is neither an address nor a network", one)
		}
		all = append(all, network.Masked())
	}
	return all, nil
}
