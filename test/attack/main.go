// Command attack runs the tables of attacks and tells how many attacks were tried, refused,
// and got through. It ends with 1 when any did, or when a test failed.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"strings"

	"ironbell/internal/attack"

	"github.com/jedib0t/go-pretty/v6/table"
)

// tests names those that attack, and packages where they are.
const tests = "Attack|Reaches|Rights|Secrets|Refusal|LookAlike|Forge|Hostile|Walls|Variables|Identity|CanWrite"

var packages = []string{
	"./internal/report", "./internal/confined", "./internal/task", "./internal/access",
	"./internal/outgoing", "./internal/deliver", "./internal/core/...", "./test", "./test/faults",
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	err := run(ctx)
	stop()
	if err != nil {
		fmt.Fprintln(os.Stderr, "attack:", err)
		os.Exit(1)
	}
}

// line is a line of go test -json.
type line struct{ Action, Package, Test, Output string }

func run(ctx context.Context) error {
	cmd := exec.CommandContext(ctx, "go", append([]string{"test", "-count=1", "-json", "-v", "-timeout=15m", "-run", tests}, packages...)...) //nolint:gosec // all of it is ours
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	t.AppendHeader(table.Row{"On", "Tried", "Refused", "Got through"})
	var tried, refused, through, passed int
	var failed []string
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		var l line
		if json.Unmarshal(lines.Bytes(), &l) != nil {
			continue
		}
		switch {
		case l.Action == "output":
			_, sum, _ := strings.Cut(l.Output, "attacks on ")
			name, counts, _ := strings.Cut(sum, ": ")
			var a, b, c int
			if _, err := fmt.Sscanf(counts, "%d tried, %d refused, %d got through", &a, &b, &c); err == nil {
				t.AppendRow(table.Row{name, a, b, c})
				tried, refused, through = tried+a, refused+b, through+c
			}
			if strings.Contains(l.Output, "got through on ") {
				failed = append(failed, strings.TrimSpace(l.Output))
			}
		case l.Action == "fail" && l.Test != "":
			failed = append(failed, l.Package+" "+l.Test)
		case l.Action == "pass" && l.Test != "":
			passed++
		}
	}
	ended := cmd.Wait()
	t.AppendFooter(table.Row{fmt.Sprintf("%d tests hold", passed), tried, refused, through})
	t.Render()
	for _, f := range failed {
		fmt.Println(f)
	}
	if tried == 0 {
		return fmt.Errorf("no test told of attacks in the form %q", attack.Line)
	}
	return ended
}
