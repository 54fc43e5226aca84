package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"

	"github.com/jedib0t/go-pretty/v6/table"
	"golang.org/x/term"
)

func signInCommand(f *flag.FlagSet) runner {
	url := f.String("url", defaultURL, "address of the service")
	login := f.String("login", "", "sign-in name")
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		if *login == "" {
			return 0, &Usage{"say with -login who you are"}
		}
		password, err := AskPassword(i)
		if err != nil {
			return 0, err
		}
		return signIn(ctx, i, *url, *login, password)
	}
}

// signIn makes a token and keeps it.
func signIn(ctx context.Context, i IO, url, login, password string) (int, error) {
	host, err := os.Hostname()
	if err != nil {
		host = "a machine"
	}
	t, err := client.New(url, "").MakeToken(ctx, login, password, "ironbell on "+host)
	if err != nil {
		return 0, err
	}
	path, err := profilePath()
	if err != nil {
		return 0, err
	}
	text, err := json.Marshal(profile{URL: url, Token: t.Token})
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		err = os.WriteFile(path, text, 0o600)
	}
	if err != nil {
		return 0, fmt.Errorf("keep the token: %w", err)
	}
	fmt.Fprintf(i.Out, "Signed in at %s as %s until %s. The token is kept in %s.\n", url, t.Person.Name,
		t.EndsAt.In(zoneOf(t.Person.Zone)).Format("2 Jan 2006 15:04 MST"), path)
	return exitOK, nil
}

func signOutCommand(*flag.FlagSet) runner {
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) > 0 {
			return 0, &Usage{"it takes nothing"}
		}
		if err := i.connect().SignOut(ctx); err != nil {
			return 0, err
		}
		fmt.Fprintln(i.Out, "Signed out; the token has ended.")
		if endedByName(i) {
			return exitOK, nil
		}
		path, err := profilePath()
		if err == nil {
			err = os.Remove(path)
		}
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return 0, fmt.Errorf("the token has ended; forget it: %w", err)
		}
		return exitOK, nil
	}
}

func passwordCommand(*flag.FlagSet) runner {
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) > 0 {
			return 0, &Usage{"it takes nothing, and asks for the present password and for the new one"}
		}
		c := i.connect()
		me, err := c.Me(ctx)
		if err != nil {
			return 0, err
		}
		words, err := askSecrets(i, "Present password: ", "New password: ", "New password again: ")
		if err != nil {
			return 0, err
		}
		if words[1] != words[2] {
			return 0, errors.New("the new password was typed in two ways; nothing was changed")
		}
		if err := c.ChangePassword(ctx, words[0], words[1]); err != nil {
			return 0, err
		}
		fmt.Fprintln(i.Out, "The password is changed. All sessions and tokens from before have ended.")
		endedByName(i)
		return signIn(ctx, i, c.URL(), me.Login, words[1])
	}
}

func signInsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	of := f.String("of", "", "whose, by `login`; yours when left out")
	end := f.Int64("end", 0, "end the one with this `number`")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) > 0 {
			return 0, &Usage{"it takes nothing; say with -of whose you mean"}
		}
		c := i.connect()
		if *end != 0 {
			if err := c.EndSignIn(ctx, *end); err != nil {
				return 0, err
			}
			fmt.Fprintf(i.Out, "%d has ended.\n", *end)
			return exitOK, nil
		}
		all, err := c.SignIns(ctx, *of)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, all, func(i IO, all []wire.SignIn) {
			if len(all) == 0 {
				fmt.Fprintln(i.Out, "No session or token is open.")
				return
			}
			t := newTable(i, "", "Kind", "Of", "From", "Since", "Last used", "Ends", "")
			for _, one := range all {
				var notes []string
				if one.This {
					notes = append(notes, "this one")
				}
				t.AppendRow(table.Row{
					one.ID, one.Kind, one.Name, cmp.Or(one.Address, "the machine"),
					i.wall(one.BeganAt), i.wallOr(one.UsedAt, "never"), i.wallOr(one.EndsAt, "never"),
					strings.Join(notes, ", "),
				})
			}
			t.Render()
		})
	}
}

func (i IO) wallOr(at *time.Time, otherwise string) string {
	if at == nil {
		return otherwise
	}
	return i.wall(*at)
}

// endedByName tells whether the token that has ended is the environment's, which goes
// before the one that is kept.
func endedByName(i IO) bool {
	if os.Getenv("IRONBELL_TOKEN") == "" {
		return false
	}
	fmt.Fprintln(i.Out, "IRONBELL_TOKEN still names the token that has ended: unset it.")
	return true
}

func isTerminal(in *os.File) bool { return term.IsTerminal(int(in.Fd())) }

// AskPassword reads a password without showing it, or a line of a pipe.
func AskPassword(i IO) (string, error) {
	words, err := askSecrets(i, "Password: ")
	if err != nil {
		return "", err
	}
	return words[0], nil
}

// askSecrets asks for secrets without showing them, or reads a line of a pipe for each.
func askSecrets(i IO, prompts ...string) ([]string, error) {
	words := make([]string, len(prompts))
	in, ok := i.In.(*os.File)
	if ok && isTerminal(in) {
		for n, prompt := range prompts {
			fmt.Fprint(i.Err, prompt)
			text, err := term.ReadPassword(int(in.Fd()))
			fmt.Fprintln(i.Err)
			if err != nil {
				return nil, fmt.Errorf("read the password: %w", err)
			}
			words[n] = string(text)
		}
		return words, nil
	}
	lines := bufio.NewReader(i.In)
	for n := range prompts {
		line, err := lines.ReadString('\n')
		if err != nil && line == "" {
			return nil, fmt.Errorf("read the password from standard input: %w", err)
		}
		words[n] = strings.TrimRight(line, "\r\n")
	}
	return words, nil
}
