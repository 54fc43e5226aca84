package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/jedib0t/go-pretty/v6/table"
)

func destinationsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	test := f.Bool("test", false,
		"try it: write, read back and remove a small file, or sign in, and say what it answers")
	mail := f.Bool("mail", false, "with -test, of a mail server: send a mail to yourself, too")
	protocols := f.Bool("protocols", false, "list the protocols, with what each can be told")
	remove := f.Bool("remove", false, "remove it; one that something went to stays, since the record needs its name")
	settings := valueFlag{}
	protocol := f.String("protocol", "", "add the destination, of this `protocol`, or change it")
	f.Var(settings, "set",
		"a setting to add or change, as `name=value`; name= leaves it out, name=@file takes it from a file, a list "+
			"is given by several")
	secret := f.String("password-from", "",
		"the `file` that its password or key stands in; - asks for it, or reads it from a pipe")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		c := i.connect()
		if *protocols {
			list, err := c.Protocols(ctx)
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, list, printProtocols)
		}
		if len(args) == 0 {
			list, err := c.Destinations(ctx)
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, list, printDestinations)
		}
		name, err := only(args, "destination")
		if err != nil {
			return 0, err
		}
		if *remove {
			if err := c.RemoveDestination(ctx, name); err != nil {
				return 0, err
			}
			fmt.Fprintf(i.Out, "%s was removed.\n", name)
			return exitOK, nil
		}
		if *protocol != "" || len(settings) > 0 || *secret != "" {
			if err := saveDestination(ctx, i, c, name, *protocol, settings, *secret); err != nil {
				return 0, err
			}
			fmt.Fprintf(i.Out, "%s was saved.\n", name)
			if !*test {
				fmt.Fprintf(i.Out, "Test it with: ironbell destinations -test %q\n", name)
				return exitOK, nil
			}
		}
		if *test {
			return testDestination(ctx, i, c, name, *mail)
		}
		p, err := c.Destination(ctx, name)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, p, printDestination)
	}
}

// saveDestination adds a destination, or changes the settings that are named.
func saveDestination(ctx context.Context, i IO, c *client.Client, name, protocol string, changed valueFlag,
	secret string,
) error {
	r := wire.PlaceRequest{Protocol: protocol, Settings: map[string]any{}}
	there, err := c.Destination(ctx, name)
	var p *client.Problem
	switch {
	case err == nil && (protocol == "" || protocol == there.Protocol):
		r.Protocol = there.Protocol
		if err := json.Unmarshal(there.Settings, &r.Settings); err != nil {
			return fmt.Errorf("read the settings of %s: %w", name, err)
		}
	case err == nil:
	case !errors.As(err, &p) || p.Status != 404:
		return err
	case protocol == "":
		return &Usage{fmt.Sprintf("there is no destination %q; say with -protocol what it is", name)}
	}
	all, err := c.Protocols(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(all, func(one job.Protocol) bool { return one.Name == r.Protocol })
	if at < 0 {
		return &Usage{fmt.Sprintf("there is no protocol %q; ironbell destinations -protocols lists them", r.Protocol)}
	}
	for key, value := range changed {
		n := slices.IndexFunc(all[at].Settings, func(s job.Setting) bool { return s.Name == key })
		if n < 0 {
			return &Usage{fmt.Sprintf("%s has no setting %q; ironbell destinations -protocols lists them", r.Protocol,
				key)}
		}
		if value == "" {
			delete(r.Settings, key)
			continue
		}
		if r.Settings[key], err = readSetting(all[at].Settings[n], value); err != nil {
			return err
		}
	}
	if secret != "" {
		text, err := readSecret(i, secret)
		if err != nil {
			return err
		}
		r.Password = &text
	}
	_, err = c.SaveDestination(ctx, name, r)
	return err
}

// readSetting makes the value of a setting of what was written for it, once or
// several times.
func readSetting(s job.Setting, written any) (any, error) {
	texts, several := written.([]string)
	if !several {
		texts = []string{fmt.Sprint(written)}
	}
	for n, text := range texts {
		if path, ok := strings.CutPrefix(text, "@"); ok {
			content, err := os.ReadFile(path) //nolint:gosec // whoever calls names it
			if err != nil {
				return nil, fmt.Errorf("read the setting %s: %w", s.Name, err)
			}
			texts[n] = string(content)
		}
	}
	switch {
	case s.Form == job.SettingList:
		return texts, nil
	case s.Form == job.SettingPairs:
		pairs := map[string]string{}
		for _, text := range texts {
			name, value, ok := strings.Cut(text, ":")
			if !ok {
				return nil, &Usage{fmt.Sprintf("write %s as -set %q", s.Name, s.Name+"=Name: value")}
			}
			pairs[strings.TrimSpace(name)] = strings.TrimSpace(value)
		}
		return pairs, nil
	case several:
		return nil, &Usage{fmt.Sprintf("the setting %s has one value; it was given %d", s.Name, len(texts))}
	case s.Form == job.SettingNumber:
		n, err := strconv.ParseInt(texts[0], 10, 64)
		if err != nil {
			return nil, &Usage{fmt.Sprintf("the setting %s is a number; it was given %q", s.Name, texts[0])}
		}
		return n, nil
	}
	return texts[0], nil
}

const maxSecret = 10_000 // bytes of a password or key

// readSecret reads a password or key: from a file, or as AskPassword does where it
// may have several lines in a pipe.
func readSecret(i IO, path string) (string, error) {
	from := i.In
	if path == "-" {
		if in, ok := i.In.(*os.File); ok && isTerminal(in) {
			return AskPassword(i)
		}
	} else {
		file, err := os.Open(path) //nolint:gosec // whoever calls names it
		if err != nil {
			return "", fmt.Errorf("read the password: %w", err)
		}
		defer func() { _ = file.Close() }() // only read from
		from = file
	}
	text, err := io.ReadAll(io.LimitReader(from, maxSecret))
	if err != nil {
		return "", fmt.Errorf("read the password: %w", err)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}

func testDestination(ctx context.Context, i IO, c *client.Client, name string, mail bool) (int, error) {
	test := c.TestDestination
	if mail {
		test = c.TestByMail
	}
	a, err := test(ctx, name)
	if err != nil {
		return 0, err
	}
	for _, step := range a.Steps {
		fmt.Fprintf(i.Out, "%s %s\n", glyph("done"), step)
	}
	if a.OK {
		return exitOK, nil
	}
	fmt.Fprintf(i.Out, "%s %s\n", glyph("failed"), a.Said)
	if a.Advice != "" {
		fmt.Fprintln(i.Out, a.Advice)
	}
	return 0, errors.New("the destination refused")
}

func printDestinations(i IO, list []wire.Place) {
	if len(list) == 0 {
		fmt.Fprintln(i.Out, "There is no destination yet. Add one: ironbell help destinations shows how.")
		return
	}
	t := newTable(i, "Destination", "Protocol", "", "Saved")
	for _, p := range list {
		t.AppendRow(table.Row{p.Name, p.Protocol, i.placeWord(p), i.wall(p.UpdatedAt)})
	}
	t.Render()
}

// placeWord says whether a destination works, as far as anybody knows.
func (i IO) placeWord(p wire.Place) string {
	switch {
	case p.Rests != nil:
		return glyph("failed") + " down since " + i.wall(p.Rests.Since)
	case p.Tested == nil:
		return glyph("waiting") + " not tested yet"
	case !p.Tested.OK:
		return glyph("failed") + " test failed " + i.wall(p.Tested.At)
	}
	return glyph("done") + " works, tested " + i.wall(p.Tested.At)
}

func printProtocols(i IO, list []job.Protocol) {
	for n, p := range list {
		if n > 0 {
			fmt.Fprintln(i.Out)
		}
		fmt.Fprintf(i.Out, "%s: %s, takes %s\n", p.Name, p.Title, p.Takes)
		all := p.Settings
		if p.Password != nil {
			all = append(slices.Clip(all), *p.Password)
		}
		for _, s := range all {
			text := s.Doc
			if len(s.Choices) > 0 {
				text = strings.Join(s.Choices, ", ") + "; " + text
			}
			if s.Needed {
				text += " (needed)"
			}
			fmt.Fprintf(i.Out, "  %-12s %s\n", s.Name, text)
		}
	}
}

func printDestination(i IO, p wire.DestinationPage) {
	fmt.Fprintf(i.Out, "%s, %s, takes %s\n", p.Name, p.Protocol, p.Kind)
	switch {
	case p.Rests == nil && p.Tested != nil && !p.Tested.OK:
		fmt.Fprintf(i.Out, "%s: %s\n", i.placeWord(p.Place), p.Tested.Answer)
	case p.Rests == nil:
		fmt.Fprintln(i.Out, i.placeWord(p.Place))
	default:
		fmt.Fprintf(i.Out, "%s: %s\n", i.placeWord(p.Place), p.Rests.Answer)
		if p.Rests.Advice != "" {
			fmt.Fprintln(i.Out, p.Rests.Advice)
		}
		fmt.Fprintf(i.Out, "Deliveries that wait for it: %d. What waits goes out by itself when it works.\n", p.Waiting)
	}
	if p.Pin != "" {
		fmt.Fprintf(i.Out, "Host key %s\n", p.Pin)
	}
	fmt.Fprintln(i.Out)
	if len(p.Uses) == 0 {
		fmt.Fprintln(i.Out, "No job sends there.")
		return
	}
	t := newTable(i, "What goes there", "Owner", "", "Sent", "Waits", "Failed", "Last")
	for _, u := range p.Uses {
		last, on := "", "on"
		if u.LastAt != nil {
			last = i.wall(*u.LastAt)
		}
		if !u.On {
			on = "off"
		}
		t.AppendRow(table.Row{u.Job, u.Owner, on, u.Sent, u.Waiting, u.Failed, last})
	}
	t.Render()
	fmt.Fprintln(i.Out, "Counted over the last 30 days.")
}
