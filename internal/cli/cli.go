// Package cli is the command line: thin, and through the client.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/internal/core/zone"
	"ironbell/internal/release"

	"golang.org/x/term"
)

// Exit statuses. Those of a run that was followed stand in follow.go.
const (
	exitOK    = 0
	exitError = 1
	exitUsage = 2
)

// Command is one word of the command line.
type Command struct {
	Name    string
	Was     string // its name in versions before, which works on
	Args    string // what stands behind the flags
	Summary string
	Example string
	// Run gets the flags that define it and carries it out. It returns the exit
	// status; an error is printed and makes it 1, or 2 when it is a *Usage.
	Setup func(*flag.FlagSet) func(ctx context.Context, io IO, args []string) (int, error)
}

// IO is where a command reads and writes.
type IO struct {
	In  io.Reader
	Out io.Writer
	Err io.Writer

	raw     io.Writer // Out before it was made plain
	service *client.Client
}

// connect is the service that a command speaks with.
func (i IO) connect() *client.Client { return i.service }

// zone is where the person who signed in reads times, so that a list of many
// jobs stands in one zone; this machine's before the service has answered.
func (i IO) zone() *time.Location {
	z, err := zone.Load(i.service.Zone())
	if err != nil {
		return time.Local
	}
	return z
}

// plain drops control characters: what a mail server said must not steer the
// terminal of the person who reads it.
type plain struct{ out io.Writer }

func (p plain) Write(text []byte) (int, error) {
	clean := bytes.Map(func(r rune) rune {
		if r < 0x20 && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0 {
			return -1
		}
		return r
	}, text)
	if _, err := p.out.Write(clean); err != nil {
		return 0, fmt.Errorf("write: %w", err)
	}
	return len(text), nil
}

// Terminal tells whether the output is a terminal, where a progress line may stand.
func (i IO) Terminal() bool {
	f, ok := i.raw.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Usage is an error in how a command was called.
type Usage struct{ Sentence string }

func (e *Usage) Error() string { return e.Sentence }

// Main carries out a command line and gives the exit status.
func Main(ctx context.Context, name string, args []string, i IO, more ...Command) int {
	commands := slices.Concat(clientCommands, more)
	i.raw, i.Out, i.Err, i.service = i.Out, plain{i.Out}, plain{i.Err}, service()
	if len(args) == 0 || args[0] == "help" && len(args) == 1 || args[0] == "-h" || args[0] == "-help" ||
		args[0] == "--help" {
		overview(i.Out, name, commands)
		return exitOK
	}
	if args[0] == "help" {
		args = []string{args[1], "-h"}
	}
	at := slices.IndexFunc(commands, func(c Command) bool { return c.Name == args[0] || c.Was != "" && c.Was == args[0] })
	if at < 0 {
		fmt.Fprintf(i.Err, "%s: there is no command %q; type %s help for all of them\n", name, args[0], name)
		return exitUsage
	}
	c := commands[at]
	flags := flag.NewFlagSet(name+" "+c.Name, flag.ContinueOnError)
	flags.SetOutput(i.Err)
	flags.Usage = func() {
		takes := false
		flags.VisitAll(func(*flag.Flag) { takes = true })
		called := name + " " + c.Name
		if takes {
			called += " [flags]"
		}
		fmt.Fprintf(flags.Output(), "%s\n  %s\n\nExample:\n  %s\n", strings.TrimSpace(called+" "+c.Args),
			c.Summary, strings.ReplaceAll(c.Example, "\n", "\n  "))
		if takes {
			fmt.Fprintln(flags.Output(), "\nFlags:")
			flags.PrintDefaults()
		}
	}
	run := c.Setup(flags)
	rest, err := parse(flags, args[1:])
	if errors.Is(err, flag.ErrHelp) {
		return exitOK
	}
	if err != nil {
		return exitUsage // the flag package has said why
	}
	status, err := run(ctx, i, rest)
	var usage *Usage
	switch {
	case err == nil:
		return status
	case errors.Is(err, context.Canceled):
		return exitError // the person who pressed Ctrl-C knows
	case errors.As(err, &usage):
		fmt.Fprintf(i.Err, "%s %s: %s\n  %s -h shows how\n", name, c.Name, err, name+" "+c.Name)
		return exitUsage
	}
	fmt.Fprintf(i.Err, "%s: %s\n", name, explain(err))
	var refused *client.Problem
	if differ := release.Differ(release.This().Name(), i.service.ServiceVersion()); differ != "" && errors.As(err, &refused) {
		fmt.Fprintf(i.Err, "  %s\n", differ)
	}
	return exitError
}

// parse lets flags stand before, between and behind the arguments.
func parse(flags *flag.FlagSet, args []string) (rest []string, err error) {
	for {
		if err := flags.Parse(args); err != nil {
			return nil, err
		}
		left := flags.Args()
		if len(left) == 0 {
			return rest, nil
		}
		// flag stops at "--" and drops it; what follows are arguments.
		if n := len(args) - len(left); n > 0 && args[n-1] == "--" {
			return append(rest, left...), nil
		}
		rest, args = append(rest, left[0]), left[1:]
	}
}

func overview(w io.Writer, name string, commands []Command) {
	fmt.Fprintf(w,
		"Iron Bell fires saved reports on time, delivers the results and tells owners when a delivery failed.\n\n")
	for _, c := range commands {
		fmt.Fprintf(w, "  %-28s %s\n", c.Name+" "+c.Args, c.Summary)
	}
	fmt.Fprintf(w,
		"\n%s help COMMAND shows its flags and an example.\nThe service is found by IRONBELL_URL and IRONBELL_TOKEN, "+
			"or where `%s sign-in` has signed in.\n", name, name)
}

// explain adds to an error what can be done.
func explain(err error) string {
	var p *client.Problem
	var u *client.Unreachable
	switch {
	case errors.As(err, &p) && p.Status == 401:
		return p.Error() + "\n  ironbell sign-in signs in, or set IRONBELL_TOKEN"
	case errors.As(err, &u):
		return u.Error() + "\n  check that it runs, and IRONBELL_URL or -url"
	}
	return err.Error()
}

// profile is what sign-in keeps.
type profile struct {
	URL   string `json:"url"`
	Token string `json:"token"`
}

func profilePath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("find the folder for settings: %w", err)
	}
	return filepath.Join(dir, "ironbell", "client.json"), nil
}

const defaultURL = "http://127.0.0.1:8321"

// service makes a client from the environment or from what sign-in kept.
func service() *client.Client {
	p := profile{}
	if path, err := profilePath(); err == nil {
		if text, err := os.ReadFile(path); err == nil { //nolint:gosec // our own file
			_ = json.Unmarshal(text, &p) // one that cannot be read counts as none
		}
	}
	if v := os.Getenv("IRONBELL_URL"); v != "" {
		if v != p.URL {
			p.Token = "" // a token goes only where it was made
		}
		p.URL = v
	}
	if v := os.Getenv("IRONBELL_TOKEN"); v != "" {
		p.Token = v
	}
	if p.URL == "" {
		p.URL = defaultURL
	}
	return client.New(p.URL, p.Token)
}

// askedZone is zone, asked of the service when it has not answered yet: for times that are read.
func (i IO) askedZone(ctx context.Context) (*time.Location, error) {
	if i.service.Zone() == "" {
		if _, err := i.service.Me(ctx); err != nil {
			return nil, err
		}
	}
	return i.zone(), nil
}

func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return fmt.Errorf("write the answer: %w", err)
	}
	return nil
}
