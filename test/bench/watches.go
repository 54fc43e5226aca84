package main

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
)

// What jobs wait for in folders of this machine: so many patterns, and so many files in one folder.
const (
	watchJobs    = 200
	watchEach    = 50 // triggers of each: 10,000 patterns
	watchFolders = 100
	watchFiles   = 100_000
	watchRest    = 30 * time.Second
	watchAgain   = 5 // looks at what did not change
)

// administrator adds somebody who may do everything, once, and gives the client with which they ask.
func (b *bench) administrator(ctx context.Context, service, at string) (*client.Client, error) {
	if b.token == "" {
		first := exec.CommandContext(ctx, service, "first-administrator", "-db", b.dsn, "-login", "bench", "-name", "Bench", "-mail", "bench@tarnwick.example") //nolint:gosec // the operator named it
		first.Stdin, first.Stderr = strings.NewReader("a-lamp-on-the-pier\n"), os.Stderr
		token, err := first.Output()
		if err != nil {
			return nil, fmt.Errorf("add an administrator: %w", err)
		}
		lines := strings.Fields(string(token))
		b.token = lines[len(lines)-1]
	}
	return client.New(at, b.token), nil
}

// watches measures what looking costs while nothing arrives.
func (b *bench) watches(ctx context.Context) error {
	drop := filepath.Join(b.dir, "drop")
	for n := range watchFolders {
		if err := os.MkdirAll(filepath.Join(drop, fmt.Sprintf("berth-%02d", n)), 0o750); err != nil {
			return err
		}
	}
	many := filepath.Join(drop, "many")
	if err := os.MkdirAll(many, 0o750); err != nil {
		return err
	}
	for n := range watchFiles {
		if err := os.WriteFile(filepath.Join(many, fmt.Sprintf("sailing-%06d.csv", n)), nil, 0o600); err != nil {
			return err
		}
	}
	c, at, _, err := b.serve(ctx, b.service, "-folders", drop)
	if err != nil {
		return err
	}
	defer c.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
	admin, err := b.administrator(ctx, b.service, at)
	if err != nil {
		return err
	}
	none := ""
	if _, err := admin.SaveDestination(ctx, "Drop", wire.PlaceRequest{
		Protocol: "folder", Password: &none, Settings: map[string]any{"folder": drop, "taking": "copy"},
	}); err != nil {
		return err
	}
	if err := b.patterns(ctx, admin); err != nil {
		return err
	}
	pid := c.Process().Pid
	if err := b.looked(ctx, watchJobs*watchEach); err != nil {
		return err
	}
	time.Sleep(5 * time.Second)
	before, err := cpu(pid)
	if err != nil {
		return err
	}
	time.Sleep(watchRest)
	after, err := cpu(pid)
	if err != nil {
		return err
	}
	b.held(fmt.Sprintf("%d watched patterns at rest", watchJobs*watchEach), 100*(after-before).Seconds()/watchRest.Seconds(), "% of a core", "2 % or less")
	fmt.Printf("watches: %d patterns in local folders at rest: %.2f %% of a core (wanted 2)\n", watchJobs*watchEach,
		100*(after-before).Seconds()/watchRest.Seconds())
	if err := save(ctx, admin, "Many", []job.Trigger{dropped("many/*.csv")}); err != nil {
		return err
	}
	if err := b.looked(ctx, watchJobs*watchEach+1); err != nil {
		return err
	}
	if err := b.again(ctx, pid, many); err != nil {
		return err
	}
	// What is measured after it shall not look at anything.
	if _, err := admin.Switch(ctx, "Many", false); err != nil {
		return err
	}
	for n := range watchJobs {
		if _, err := admin.Switch(ctx, dropName(n), false); err != nil {
			return err
		}
	}
	return os.RemoveAll(drop)
}

func dropName(n int) string { return fmt.Sprintf("Drop %03d", n) }

// patterns saves jobs that wait for files.
func (b *bench) patterns(ctx context.Context, admin *client.Client) error {
	for n := range watchJobs {
		triggers := make([]job.Trigger, watchEach)
		for i := range triggers {
			triggers[i] = dropped(fmt.Sprintf("berth-%02d/load-%d-%d-*.csv", (n*watchEach+i)%watchFolders, n, i))
		}
		if err := save(ctx, admin, dropName(n), triggers); err != nil {
			return err
		}
	}
	return nil
}

func dropped(pattern string) job.Trigger {
	return job.Trigger{Wait: &job.Wait{For: []job.Condition{{Files: &job.FileWatch{Destination: "Drop", Pattern: pattern}}}}}
}

func save(ctx context.Context, admin *client.Client, name string, triggers []job.Trigger) error {
	_, err := admin.SaveJob(ctx, name, wire.JobRequest{On: true, Definition: job.Definition{
		Zone: "Europe/London", Triggers: triggers,
		Tasks: []job.Task{{Name: "tell", Kind: job.KindEmit, Emit: &job.EmitTask{Type: "example.tarnwick.told"}}},
	}})
	return err
}

// looked waits until so many watches were looked at.
func (b *bench) looked(ctx context.Context, want int) error {
	for end := time.Now().Add(5 * time.Minute); ; time.Sleep(100 * time.Millisecond) {
		var n int
		if err := b.pool.QueryRow(ctx, `SELECT count(*) FROM watches WHERE looked_at IS NOT NULL`).Scan(&n); err != nil {
			return err
		}
		if n >= want {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("%d of %d watches were looked at after five minutes", n, want)
		}
	}
}

// again measures looks at a folder in which nothing changed, beside a bare walk through it.
func (b *bench) again(ctx context.Context, pid int, folder string) error {
	walked := time.Now()
	if err := filepath.WalkDir(folder, func(_ string, d fs.DirEntry, err error) error {
		if err == nil {
			_, err = d.Info()
		}
		return err
	}); err != nil {
		return err
	}
	floor := time.Since(walked)
	rest, err := memory(pid)
	if err != nil {
		return err
	}
	if err := os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0); err != nil { // the peak begins anew (proc(5))
		return err
	}
	var took []time.Duration
	for range watchAgain {
		var was, now time.Time
		if err := b.pool.QueryRow(ctx, `UPDATE watches SET next_at = now() WHERE id = (SELECT max(id) FROM watches)
			RETURNING looked_at`).Scan(&was); err != nil {
			return err
		}
		began := time.Now()
		if _, err := b.pool.Exec(ctx, `SELECT pg_notify('ironbell', 'watches ')`); err != nil {
			return err
		}
		for now = was; !now.After(was); time.Sleep(2 * time.Millisecond) {
			if err := b.pool.QueryRow(ctx, `SELECT looked_at FROM watches ORDER BY id DESC LIMIT 1`).Scan(&now); err != nil {
				return err
			}
			if time.Since(began) > time.Minute {
				return fmt.Errorf("it was not looked at after a minute")
			}
		}
		took = append(took, time.Since(began))
	}
	most, err := peak(pid)
	if err != nil {
		return err
	}
	b.took(fmt.Sprintf("a look at %d files that did not change, against a bare walk", watchFiles), ms(took, 0.5)/1000, floor.Seconds(), "s", "1 s or less")
	b.held("memory that it takes", float64(max(0, most-rest)>>20), "MB", "30 MB or less")
	fmt.Printf("  %d files that did not change: looked at again in %.2f s (wanted 1), %.1f times a bare walk; %d MB beside the %d MB that the service has before (wanted 30)\n",
		watchFiles, ms(took, 0.5)/1000, ms(took, 0.5)/1000/floor.Seconds(), max(0, most-rest)>>20, rest>>20)
	return nil
}

// peak is the largest resident size of a process since it was last cleared, in bytes (proc(5), status).
func peak(pid int) (int, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kb, err := strconv.Atoi(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(rest), "kB")))
			return kb * 1024, err
		}
	}
	return 0, fmt.Errorf("the system does not tell the resident size")
}
