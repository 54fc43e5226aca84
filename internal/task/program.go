package task

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/confined"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/scratch"
)

const (
	maxOutput    = 1000    // lines of a program's output that are logged
	maxMade      = 100     // files that a program may leave
	largestMade  = 1 << 30 // bytes of one of them
	programGrace = 5 * time.Second
)

// Program is the task kind that runs a program. The folder of allowed programs
// is the whole list: what lies in it may be run, and nothing else.
type Program struct {
	Folder string // empty when none is allowed
	Files  *artifact.Folder
	Walls  confined.Walls
}

// Help implements Kind.
func (k *Program) Help() Help {
	return Help{
		Kind: job.KindProgram, Summary: "run a program that the operator allowed",
		Text: "Runs a program of the folder of allowed programs, without a shell, in a temporary folder of its own. " +
			"Its environment has PATH, HOME, TMPDIR, LANG, " +
			"IRONBELL_IN, IRONBELL_RUN and what the file PROGRAM.variables beside it names, one a line: NAME=value " +
			"is always handed over, NAME may be set by a job. " +
			"It reads what the system is made of and writes to its own folder; the service's files are out of its " +
			"reach. The files of the tasks before lie in the folder named by IRONBELL_IN; the files that it files " +
			"where it was started become files of the run. What it prints goes to the log. An exit " +
			"status other than 0 is a lasting failure, 75 a passing one. One whose node died in the middle is " +
			"unknown, unless the task is repeatable.",
		Example: job.Task{
			Name: "pack", Kind: job.KindProgram,
			Program: &job.ProgramTask{
				Program: "pack-readings", Arguments: []string{"--day", "{date:%Y-%m-%d}", `{file("readings")}`},
			},
		},
	}
}

// path gives the allowed program of a name.
func (k *Program) path(name string) (string, error) {
	const advice = "An operator puts allowed programs into the folder named by the flag -programs of ironbell serve."
	doing := fmt.Sprintf("run program %q", name)
	if k.Folder == "" {
		return "", fault.New(fault.Task, doing, "no programs are allowed on this machine", advice)
	}
	if name != filepath.Base(name) || strings.HasPrefix(name, ".") {
		return "",
			fault.New(fault.Task, doing, "it is no plain file name",
				"Name a program of the folder of allowed programs, without a path.")
	}
	path := filepath.Join(k.Folder, name)
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() || info.Mode()&0o111 == 0 {
		return "", fault.New(fault.Task, doing, "it is not among the allowed programs", advice)
	}
	return path, nil
}

// Check implements Kind.
func (k *Program) Check(_ context.Context, c *Checking, where string, t job.Task) error {
	if _, err := k.path(t.Program.Program); err != nil {
		c.V.Add(where+".program", "%s", err)
	}
	for i, a := range t.Program.Arguments {
		c.text(fmt.Sprintf("%s.arguments[%d]", where, i), a)
	}
	c.text(where+".input", t.Program.Input)
	named, err := k.variables(t.Program.Program)
	if err != nil {
		c.V.Add(where+".variables", "%s", err)
	}
	for name, text := range t.Program.Variables {
		if err := named.mayBeSet(t.Program.Program, name); err != nil {
			c.V.Add(where+".variables."+name, "%s", err)
		}
		c.text(where+".variables."+name, text)
	}
	return nil
}

// named are the variables that an operator named for a program, with their values; a job
// may set those that have none.
type named map[string]*string

// variableName is what a variable may be called (POSIX.1-2024, Base Definitions 8.1).
var variableName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// ours begins the names of the variables that we hand over.
const ours = "IRONBELL_"

// largestVariables is how many bytes a file of variables may have.
const largestVariables = 64 << 10

// variables reads which variables a program gets: those of the file beside it.
func (k *Program) variables(program string) (named, error) {
	out := named{}
	if k.Folder == "" || program != filepath.Base(program) {
		return out, nil // it is no allowed program
	}
	file := program + ".variables"
	doing := fmt.Sprintf("read which variables the program %q gets", program)
	f, err := os.Open(filepath.Join(k.Folder, file)) //nolint:gosec // a plain name in the operator's folder
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Task, doing, "Make the file readable for the service.")
	}
	defer func() { _ = f.Close() }() // only read from
	lines := bufio.NewScanner(io.LimitReader(f, largestVariables))
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, value, set := strings.Cut(line, "=")
		if !variableName.MatchString(name) || strings.HasPrefix(name, ours) || strings.ContainsRune(value, 0) {
			return nil,
				fault.New(fault.Task, doing, fmt.Sprintf("line %d of %s names no variable", n, file),
					"An operator writes a name, or name=value, on each line; names that begin with "+ours+
						" are the service's own.")
		}
		out[name] = nil
		if set {
			out[name] = &value
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Task, doing, "")
	}
	return out, nil
}

// mayBeSet tells whether a job may set a variable of a program.
func (n named) mayBeSet(program, name string) error {
	value, known := n[name]
	doing := fmt.Sprintf("set the variable %q of the program %q", name, program)
	switch {
	case !known:
		return fault.New(fault.Task, doing, "the operator did not name it for this program",
			fmt.Sprintf("An operator writes its name on a line of the file %s.variables in the folder of allowed "+
				"programs; or hand the value over as an argument or as input.", program))
	case value != nil:
		return fault.New(fault.Task, doing, "the operator set it", "Leave it out of the job.")
	}
	return nil
}

// Run runs the program.
func (k *Program) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	if w.Rehearsal != nil && !t.Repeatable {
		return rehearsed("the program was not run; mark the task as repeatable if a rehearsal may run it"), nil
	}
	doing := fmt.Sprintf("run program %q", t.Program.Program)
	path, err := k.path(t.Program.Program)
	if err != nil {
		return Result{}, err
	}
	if path, err = filepath.Abs(path); err != nil {
		return Result{}, fault.Wrap(err, fault.Lasting, fault.Task, doing, "")
	}
	made, err := scratch.Make("program")
	if err != nil {
		return Result{},
			fault.Wrap(err, fault.Passing, fault.Task, doing, "Check that the machine has room for temporary files.")
	}
	defer made.Remove()
	room := made.Path
	in, out := filepath.Join(room, "in"), filepath.Join(room, "out")
	for _, dir := range []string{in, out, filepath.Join(room, "tmp")} {
		if err := os.Mkdir(dir, 0o700); err != nil {
			return Result{}, fault.Wrap(err, fault.Passing, fault.Task, doing, "")
		}
	}
	first, err := k.lay(ctx, w.Files, in)
	if err != nil {
		return Result{}, err
	}
	fillIn := func(what, text string) (string, error) {
		return w.fill(ctx, what, text, func(f *expr.Facts) { f.Files = first })
	}
	args := make([]string, len(t.Program.Arguments))
	for i, a := range t.Program.Arguments {
		if args[i], err = fillIn("the arguments", a); err != nil {
			return Result{}, err
		}
	}
	cmd := exec.CommandContext(ctx, path, args...) //nolint:gosec // it is on the allowed list, and no shell reads the arguments
	cmd.Dir = out
	cmd.Env = []string{
		"PATH=/usr/local/bin:/usr/bin:/bin", "HOME=" + room, "TMPDIR=" + filepath.Join(room, "tmp"),
		"LANG=C.UTF-8", "IRONBELL_IN=" + in, "IRONBELL_RUN=" + w.RunID.String(),
	}
	variables, err := k.variables(t.Program.Program)
	if err != nil {
		return Result{}, err
	}
	for name, value := range variables {
		if value != nil {
			cmd.Env = append(cmd.Env, name+"="+*value)
		}
	}
	for name, text := range t.Program.Variables {
		if err := variables.mayBeSet(t.Program.Program, name); err != nil {
			return Result{}, err
		}
		value, err := fillIn("the variable "+name, text)
		if err != nil {
			return Result{}, err
		}
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	input, err := fillIn("the input", t.Program.Input)
	if err != nil {
		return Result{}, err
	}
	cmd.Stdin = strings.NewReader(input)
	cmd.WaitDelay = programGrace
	if err := k.Walls.Run(cmd, room, w.Limit, func() error { return k.listen(cmd, w.Log) }); err != nil {
		return Result{}, k.explain(ctx, doing, w.Limit, err)
	}
	files, err := k.gather(ctx, w, t.Name, out)
	if err != nil {
		return Result{}, fault.Wrap(err, fault.Passing, fault.Task, doing, "")
	}
	note := "ended with status 0"
	if len(files) > 0 {
		note += "; made " + phrase.Count(len(files), "file")
	}
	return Result{Files: files, Note: note}, nil
}

// lay puts the files of the tasks before into a folder, and gives the path of
// the first file of each task.
func (k *Program) lay(ctx context.Context, files []job.Artifact, dir string) (map[string]string, error) {
	first, taken := map[string]string{}, map[string]bool{}
	for _, f := range files {
		path := filepath.Join(dir, unlike(expr.FileName(f.Name, "file"), taken))
		if _, had := first[f.Task]; !had {
			first[f.Task] = path
		}
		err := func() error {
			src, err := k.Files.Open(ctx, f.Key)
			if err != nil {
				return err
			}
			defer func() { _ = src.Close() }()                                      // only read from
			dst, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600) //nolint:gosec // its name was made safe, and it lies in a folder of our own
			if err != nil {
				return err
			}
			_, err = io.Copy(dst, src)
			return errors.Join(err, dst.Close())
		}()
		if err != nil {
			return nil,
				fault.Wrap(err, fault.Passing, fault.Task, fmt.Sprintf("lay %q out for the program", f.Name), "")
		}
	}
	return first, nil
}

// listen starts the program, logs what it prints and waits for its end.
func (k *Program) listen(cmd *exec.Cmd, log func(level, text string)) error {
	r, wr, err := os.Pipe()
	if err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr = wr, wr
	if err := cmd.Start(); err != nil {
		_, _ = r.Close(), wr.Close() // nothing was written to it
		return err
	}
	_ = wr.Close() // the program has its own end
	read := make(chan struct{})
	go func() {
		defer close(read)
		lines := bufio.NewReaderSize(r, 4096)
		n := 0
		for {
			line, _, err := lines.ReadLine()
			if err != nil {
				break
			}
			if n++; n <= maxOutput {
				log("info", strings.ToValidUTF8(string(line), "?"))
			}
		}
		if n > maxOutput {
			log("warn", fmt.Sprintf("%d more lines were printed and are not kept", n-maxOutput))
		}
	}()
	err = cmd.Wait()
	// What it started in the background must not outlive it.
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // usually nothing is left
	select {
	case <-read:
	case <-time.After(programGrace):
	}
	_ = r.Close() // ends the reader, if it is still there
	<-read
	return err
}

// tempFail is the exit status for "try again later" (sysexits.h, EX_TEMPFAIL).
const tempFail = 75

func (k *Program) explain(ctx context.Context, doing string, limit time.Duration, err error) error {
	if ctx.Err() != nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return fault.New(fault.Task, doing,
				fmt.Sprintf("it took longer than its limit of %s and was ended", job.Duration(limit)),
				"Make the program faster or the task's time limit longer.")
		}
		return context.Cause(ctx)
	}
	var ended *exec.ExitError
	if !errors.As(err, &ended) {
		return fault.Wrap(err, fault.Lasting, fault.Task, doing, "Check that the program can be run on this machine.")
	}
	class := fault.Lasting
	if ended.ExitCode() == tempFail {
		class = fault.Passing
	}
	said := fmt.Sprintf("it ended with status %d", ended.ExitCode())
	if status, ok := ended.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		said = "it was ended by the signal " + status.Signal().String()
	}
	return fault.Wrap(errors.New(said), class, fault.Task, doing, "See what it printed in the log of the run.")
}

// gather keeps the files that the program left.
func (k *Program) gather(ctx context.Context, w Work, task, dir string) ([]job.Artifact, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }() // only read from
	var names []string
	err = fs.WalkDir(root.FS(), ".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			names = append(names, path)
		}
		if len(names) > maxMade {
			return fault.New(fault.Task, "", fmt.Sprintf("it left more than %d files", maxMade),
				"Let it pack them into one.")
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	var files []job.Artifact
	taken := map[string]bool{}
	for _, name := range names {
		in, err := root.Open(name)
		if err != nil {
			return nil, err
		}
		a, err := keep(ctx, k.Files, in, unlike(expr.FileName(filepath.Base(name), "file"), taken), largestMade)
		_ = in.Close() // only read from
		if err != nil {
			return nil, err
		}
		a.Part, a.Task = w.Part, task
		files = append(files, a)
	}
	return files, nil
}
