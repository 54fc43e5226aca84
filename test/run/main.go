// Command run runs Go tests as `make test` does: on a day that it draws and prints, beside one PostgreSQL server
// that all test programs share; and it tells at the end what the slowest cost. Its arguments are those of go test.
//
//	go run ./test/run -p 3 -parallel 2 ./...
//	IRONBELL_DAY=2028-02-29T23:58:00Z go run ./test/run ./test/...
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"ironbell/internal/localpg"
	"ironbell/internal/localpg/pgtest"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	status, err := run(ctx, os.Args[1:])
	if err != nil {
		fmt.Fprintln(os.Stderr, "test/run:", err)
		status = 1
	}
	stop()
	os.Exit(status)
}

func run(ctx context.Context, args []string) (status int, err error) {
	if err := chooseDay(); err != nil {
		return 0, err
	}
	dir, err := os.MkdirTemp("", "ironbell-pg-*")
	if err != nil {
		return 0, fmt.Errorf("make a folder for the tests' database: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	if err := os.Chmod(dir, 0o755); err != nil { //nolint:gosec // the server's user must pass
		return 0, fmt.Errorf("open the folder of the tests' database to its user: %w", err)
	}
	server, err := localpg.Start(ctx, pgtest.Options(filepath.Join(dir, "data")))
	if err != nil {
		return 0, err
	}
	defer server.Stop()
	// The compiler may have memory in place of collecting it, which takes a quarter off its time; what it made must not.
	cmd := exec.CommandContext(ctx, "go", append([]string{"test", "-json", "-exec", "env -u GOGC -u GOMEMLIMIT"}, args...)...) //nolint:gosec // whoever runs the tests says which
	cmd.Env = append(os.Environ(), pgtest.Variable+"="+server.DSN("postgres"), "GOGC=off", "GOMEMLIMIT=1200MiB")
	cmd.Stderr = os.Stderr
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	cmd.WaitDelay = time.Minute
	out, err := cmd.StdoutPipe()
	if err != nil {
		return 0, fmt.Errorf("hear the tests: %w", err)
	}
	began := time.Now()
	if err := cmd.Start(); err != nil {
		return 0, fmt.Errorf("start the tests: %w", err)
	}
	r := report{out: bufio.NewWriter(os.Stdout), said: map[string][]string{}}
	hearing := r.hear(out)
	ended := cmd.Wait()
	r.end(time.Since(began))
	var failed *exec.ExitError
	if errors.As(ended, &failed) {
		return max(failed.ExitCode(), 1), hearing
	}
	return 0, errors.Join(hearing, ended)
}

// event is a line of go test -json (cmd/test2json).
type event struct {
	Action, Package, Test, Output string
	ImportPath                    string // of what could not be built
	Elapsed                       float64
}

// slowest is how many tests are listed at the end.
const slowest = 10

// report tells what is heard: a line for each package, and all that a test said which failed.
type report struct {
	out                     *bufio.Writer
	said                    map[string][]string // by package and test
	took                    []event
	passed, failed, skipped int
}

// tell prints at once, since the next line may be a minute away. A terminal that is gone stops nothing.
func (r *report) tell(text string) {
	_, _ = r.out.WriteString(text)
	_ = r.out.Flush()
}

func (r *report) hear(in io.Reader) error {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var e event
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			r.tell(lines.Text() + "\n") // what is no event is told as it is
			continue
		}
		r.take(e)
	}
	return lines.Err()
}

func (r *report) take(e event) {
	key := e.Package + " " + e.Test
	switch e.Action {
	case "build-output":
		r.tell(e.Output)
	case "output":
		r.said[key] = append(r.said[key], e.Output)
	case "pass", "fail", "skip":
		r.end1(e, key)
		delete(r.said, key)
	}
}

func (r *report) end1(e event, key string) {
	if e.Test == "" {
		for _, line := range r.said[key] {
			if line != "PASS\n" && !strings.HasPrefix(line, "testing: warning") {
				r.tell(line)
			}
		}
		return
	}
	switch e.Action {
	case "pass":
		r.passed++
	case "fail":
		r.failed++
		r.tell(strings.Join(r.said[key], ""))
	case "skip":
		r.skipped++
		r.tell(strings.Join(r.said[key], ""))
	}
	if !strings.Contains(e.Test, "/") {
		r.took = append(r.took, e)
	}
}

func (r *report) end(wall time.Duration) {
	for key, lines := range r.said { // of a program that ended in the middle of a test
		r.tell(key + "\n" + strings.Join(lines, ""))
	}
	slices.SortFunc(r.took, func(a, b event) int { return int(1000 * (b.Elapsed - a.Elapsed)) })
	if n := min(len(r.took), slowest); n > 0 {
		r.tell(fmt.Sprintf("\nThe slowest of %d tests, in seconds beside others, of %.0f in all:\n", len(r.took), wall.Seconds()))
		for _, e := range r.took[:n] {
			r.tell(fmt.Sprintf("  %5.1f  %s  %s\n", e.Elapsed, strings.TrimPrefix(e.Package, "ironbell/"), e.Test))
		}
	}
	r.tell(fmt.Sprintf("%d passed, %d failed, %d skipped\n", r.passed, r.failed, r.skipped))
}
