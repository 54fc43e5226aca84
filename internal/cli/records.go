package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/recordfile"
)

func recordsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		all, err := i.connect().Records(ctx, strings.Join(args, " "))
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, all, func(i IO, all []wire.RecordName) {
			for _, r := range all {
				fmt.Fprintf(i.Out, "%s %s\n", r.Kind, r.Name)
			}
		})
	}
}

func schemaCommand(*flag.FlagSet) runner {
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		text, err := i.connect().RecordSchema(ctx)
		if err != nil {
			return 0, err
		}
		fmt.Fprintf(i.Out, "%s\n", text)
		return exitOK, nil
	}
}

func showCommand(f *flag.FlagSet) runner {
	revision := f.Bool("revision", false, "with its revision in the head: it is then saved only over this one")
	into := f.String("into", "", "write every record, or all of the named kind, into this `folder`, a file for each")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		c := i.connect()
		if *into != "" {
			if len(args) > 1 {
				return 0, &Usage{"with -into it takes one kind, or none for all"}
			}
			return showAll(ctx, i, c, strings.Join(args, ""), *into, *revision)
		}
		if len(args) < 2 {
			return 0, &Usage{`it takes a kind and a name, such as job "Port day sheet"; ironbell records lists them`}
		}
		text, err := c.RecordFile(ctx, args[0], strings.Join(args[1:], " "), *revision)
		if err != nil {
			return 0, err
		}
		if _, err := i.Out.Write(text); err != nil {
			return 0, fmt.Errorf("write the record: %w", err)
		}
		return exitOK, nil
	}
}

// showAll writes records into a folder: one for each kind in it, with a file for each record.
func showAll(ctx context.Context, i IO, c *client.Client, kind, dir string, revision bool) (int, error) {
	all, err := c.Records(ctx, kind)
	if err != nil {
		return 0, err
	}
	used := map[string]bool{}
	for _, r := range all {
		text, err := c.RecordFile(ctx, r.Kind, r.Name, revision)
		var p *client.Problem
		if errors.As(err, &p) && p.Status == 404 {
			continue // it was removed meanwhile
		}
		if err != nil {
			return 0, err
		}
		path := filepath.Join(dir, fileName(r, used))
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return 0, fmt.Errorf("make the folder: %w", err)
		}
		if err := os.WriteFile(path, text, 0o600); err != nil {
			return 0, fmt.Errorf("write the file: %w", err)
		}
	}
	fmt.Fprintf(i.Out, "%d records stand in %s. Passwords do not: they are never shown.\n", len(used), dir)
	return exitOK, nil
}

// fileName is where a record stands below a folder. No name of a record leads out of it or
// hides its file; names that would be one file are told apart by a number.
func fileName(r wire.RecordName, used map[string]bool) string {
	const longest = 200 // bytes; file systems take 255
	name := strings.NewReplacer("/", " - ", `\`, " - ").Replace(r.Name)
	if strings.HasPrefix(name, ".") {
		name = "_" + name
	}
	for n := len(name); n > longest; n = len(name) {
		name = strings.ToValidUTF8(name[:longest], "")
	}
	for n := 1; ; n++ {
		path := filepath.Join(r.Kind, name+".yaml")
		if n > 1 {
			path = filepath.Join(r.Kind, fmt.Sprintf("%s %d.yaml", name, n))
		}
		if key := strings.ToLower(path); !used[key] {
			used[key] = true
			return path
		}
	}
}

func saveCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	try := f.Bool("try", false, "save nothing, and tell what would be refused or would change")
	passwords := f.String("passwords", "",
		`a `+"`file`"+` of passwords for new records, YAML with lines such as "destination company mail": "…"`)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) == 0 {
			return 0, &Usage{"it takes files of records, or folders with them; - reads one from the input"}
		}
		secrets := map[string]string{}
		if *passwords != "" {
			text, err := readFile(*passwords)
			if err != nil {
				return 0, fmt.Errorf("read the passwords: %w", err)
			}
			if secrets, err = recordfile.ReadPasswords(text); err != nil {
				return 0, err
			}
		}
		texts, err := readRecords(i, args)
		if err != nil {
			return 0, err
		}
		return saveAll(ctx, i, i.connect(), texts, secrets, *try, *asJSON)
	}
}

// A recordText is a file of a record, where it was read.
type recordText struct {
	path string
	text []byte
}

const mostFiles = 100_000

// readRecords reads the files that were named, and all in the folders that were.
func readRecords(i IO, args []string) ([]recordText, error) {
	var out []recordText
	for _, arg := range args {
		info, err := os.Stat(arg)
		if arg == "-" || err == nil && !info.IsDir() || err != nil {
			text, err := readInput(i, arg)
			if err != nil {
				return nil, err
			}
			out = append(out, recordText{arg, text})
			continue
		}
		err = filepath.WalkDir(arg, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !slices.Contains([]string{".yaml", ".yml"}, filepath.Ext(path)) {
				return err
			}
			if len(out) == mostFiles {
				return fmt.Errorf("there are more than %d files", mostFiles)
			}
			text, err := readFile(path)
			out = append(out, recordText{path, text})
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("read the files of %s: %w", arg, err)
		}
		if len(out) == 0 {
			return nil, fmt.Errorf("no file in %s ends in .yaml", arg)
		}
	}
	return out, nil
}

// readInput reads a file, or the input when it is called -.
func readInput(i IO, path string) ([]byte, error) {
	if path != "-" {
		return readFile(path)
	}
	text, err := io.ReadAll(io.LimitReader(i.In, maxFileSize+1))
	if err != nil {
		return nil, fmt.Errorf("read the input: %w", err)
	}
	return text, nil
}

// saveAll saves files, each after those that it speaks of. One that is refused keeps back no
// other that does not need it.
func saveAll(ctx context.Context, i IO, c *client.Client, texts []recordText, secrets map[string]string, try,
	asJSON bool,
) (int, error) {
	files, paths, wrong, asked := []recordfile.File{}, map[string]recordText{}, 0, 0
	for _, t := range texts {
		f, err := recordfile.Read(t.text)
		if err != nil {
			wrong++
			complain(i, t.path, err)
			continue
		}
		key := f.Kind + " " + f.Name
		if first, twice := paths[key]; twice {
			wrong++
			fmt.Fprintf(i.Err, "%s: %s stands in %s as well; nothing of this file was saved\n", t.path, key, first.path)
			continue
		}
		paths[key] = t
		files = append(files, f)
	}
	all := []wire.RecordSaved{}
	for _, f := range recordfile.Order(files) {
		t := paths[f.Kind+" "+f.Name]
		text := t.text
		if p, ok := secrets[f.Kind+" "+f.Name]; ok {
			text = recordfile.WithPassword(text, p)
		}
		saved, err := c.SaveRecord(ctx, text, try)
		if err != nil {
			if ctx.Err() != nil {
				return 0, err
			}
			wrong++
			complain(i, t.path, err)
			continue
		}
		all = append(all, saved)
		if asJSON {
			continue
		}
		printSaved(i, saved)
		if try && saved.What != "unchanged" && asked < whatIfRecords {
			rings, ok, err := ringsOf(ctx, c, f)
			if err != nil {
				wrong++
				complain(i, t.path, err)
			} else if ok {
				asked++
				printWhatIf(i, rings)
			}
			if err := sayRole(ctx, i, f); err != nil {
				wrong++
				complain(i, t.path, err)
			}
		}
	}
	if asJSON {
		if err := printJSON(i.Out, all); err != nil {
			return 0, err
		}
	}
	if len(texts) > 1 && !asJSON {
		fmt.Fprintln(i.Out, summary(all, wrong, try))
	}
	if wrong > 0 {
		return exitError, nil
	}
	return exitOK, nil
}

// sayRole tells what follows from the role that a person's file gives, when they are there already.
func sayRole(ctx context.Context, i IO, f recordfile.File) error {
	if f.Kind != "person" {
		return nil
	}
	var file wire.PersonFile
	if err := json.Unmarshal(f.Body, &file); err != nil {
		return fmt.Errorf("read the person: %w", err)
	}
	says, err := i.connect().InRole(ctx, f.Name, file.Role)
	var p *client.Problem
	if errors.As(err, &p) && p.Status == http.StatusNotFound {
		return nil
	}
	for _, sentence := range says {
		fmt.Fprintln(i.Out, "  "+sentence)
	}
	return err
}

// complain tells what is wrong with a file as FILE:LINE:COLUMN: SENTENCE, as editors read it.
func complain(i IO, path string, err error) {
	var invalid *recordfile.Invalid
	var p *client.Problem
	switch {
	case errors.As(err, &invalid):
		for _, w := range invalid.Wrong {
			fmt.Fprintln(i.Err, at(path, w))
		}
		if invalid.More > 0 {
			fmt.Fprintf(i.Err, "%s: and %d more\n", path, invalid.More)
		}
	case errors.As(err, &p) && len(p.Errors) > 0:
		for _, e := range p.Errors {
			if e.Location != "" {
				path := path + ":" + e.Location
				fmt.Fprintf(i.Err, "%s: %s\n", path, e.Message)
				continue
			}
			fmt.Fprintf(i.Err, "%s: %s\n", path, e.Message)
		}
	default:
		fmt.Fprintf(i.Err, "%s: %s\n", path, explain(err))
	}
}

func at(path string, w recordfile.Wrong) string {
	if w.Line > 0 {
		path = fmt.Sprintf("%s:%d:%d", path, w.Line, w.Column)
	}
	if w.Where != "" {
		return path + ": " + w.Where + ": " + w.Sentence
	}
	return path + ": " + w.Sentence
}

func printSaved(i IO, s wire.RecordSaved) {
	mark := map[string]string{"new": "+", "changed": "~", "unchanged": " "}[s.What]
	fmt.Fprintf(i.Out, "%s %s %s: %s%s\n", mark, s.Kind, s.Name, s.What,
		map[bool]string{true: "", false: ", only tried"}[s.Saved || s.What == "unchanged"])
	for _, c := range s.Changes {
		switch {
		case c.Was == "":
			fmt.Fprintf(i.Out, "    %s: now %s\n", c.Where, c.Now)
		case c.Now == "":
			fmt.Fprintf(i.Out, "    %s: was %s, now left out\n", c.Where, c.Was)
		default:
			fmt.Fprintf(i.Out, "    %s: was %s, now %s\n", c.Where, c.Was, c.Now)
		}
	}
}

// summary says in one line what became of several files.
func summary(all []wire.RecordSaved, wrong int, try bool) string {
	count := map[string]int{}
	for _, s := range all {
		count[s.What]++
	}
	text := fmt.Sprintf("%d new, %d changed, %d unchanged, %d refused", count["new"], count["changed"],
		count["unchanged"], wrong)
	if try {
		text += "; nothing was saved. A record that speaks of a new one is refused until that one is saved"
	}
	return text + "."
}

func editCommand(f *flag.FlagSet) runner {
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) < 2 {
			return 0, &Usage{`it takes a kind and a name, such as job "Port day sheet"; ironbell records lists them`}
		}
		editor := os.Getenv("VISUAL")
		if editor == "" {
			editor = os.Getenv("EDITOR")
		}
		if editor == "" {
			return 0, errors.New("no editor is named: set EDITOR, such as EDITOR=nano; or use ironbell show and ironbell save")
		}
		c := i.connect()
		// With its revision: what somebody else saves meanwhile is not overwritten.
		text, err := c.RecordFile(ctx, args[0], strings.Join(args[1:], " "), true)
		if err != nil {
			return 0, err
		}
		file, err := os.CreateTemp("", "ironbell-*.yaml")
		if err != nil {
			return 0, fmt.Errorf("make a file to edit: %w", err)
		}
		path := file.Name()
		_, err = file.Write(text)
		if err = errors.Join(err, file.Close()); err != nil {
			return 0, fmt.Errorf("write the file to edit: %w", err)
		}
		//nolint:gosec // the user's own editor, as they call it
		cmd := exec.CommandContext(ctx, "sh", "-c", editor+` "$1"`, "sh", path)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = i.In, i.raw, i.Err
		if err := cmd.Run(); err != nil {
			return 0, fmt.Errorf("the editor %s: %w; what you wrote stands in %s", editor, err, path)
		}
		changed, err := os.ReadFile(path) //nolint:gosec // our own
		if err != nil {
			return 0, fmt.Errorf("read what was edited: %w", err)
		}
		if bytes.Equal(text, changed) {
			fmt.Fprintln(i.Out, "Nothing was changed.")
			return exitOK, os.Remove(path) //nolint:wrapcheck // it names the path
		}
		saved, err := c.SaveRecord(ctx, changed, false)
		if err != nil {
			complain(i, path, err)
			fmt.Fprintf(i.Err, "What you wrote stands in %s; mend it there and save it with: ironbell save %s\n", path, path)
			return exitError, nil
		}
		printSaved(i, saved)
		return exitOK, os.Remove(path) //nolint:wrapcheck // it names the path
	}
}
