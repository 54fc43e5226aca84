package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ironbell/internal/child"
	"ironbell/internal/freeport"
)

// idle measures the service while nothing is due: how long it takes to start,
// what it needs of a core and of memory.
func (b *bench) idle(ctx context.Context) error {
	if b.quick {
		return nil
	}
	c, _, ready, err := b.serve(ctx, b.service)
	if err != nil {
		return err
	}
	defer c.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
	time.Sleep(5 * time.Second)
	pid := c.Process().Pid
	before, err := cpu(pid)
	if err != nil {
		return err
	}
	const watched = 20 * time.Second
	time.Sleep(watched)
	after, err := cpu(pid)
	if err != nil {
		return err
	}
	resident, err := memory(pid)
	if err != nil {
		return err
	}
	b.held(fmt.Sprintf("ready beside %d jobs", b.jobs), ready.Seconds(), "s", "5 s or less")
	b.held("idle beside them", 100*(after-before).Seconds()/watched.Seconds(), "% of a core", "2 % or less")
	b.held("memory beside them", float64(resident>>20), "MB", "150 MB or less")
	fmt.Printf("idle with %d jobs: ready after %.2f s (wanted 5), %.2f %% of a core (wanted 2), %d MB resident "+
		"(wanted 150)\n",
		b.jobs, ready.Seconds(), 100*(after-before).Seconds()/watched.Seconds(), resident>>20)
	return nil
}

// serve starts the service, and gives its address and how long it took to be ready.
func (b *bench) serve(ctx context.Context, service string, more ...string) (*child.Child, string, time.Duration, error) {
	port, err := freeport.Find(ctx)
	if err != nil {
		return nil, "", 0, err
	}
	address := fmt.Sprintf("127.0.0.1:%d", port)
	args := append([]string{
		"serve", "-listen", address, "-artifacts", filepath.Join(b.dir, "artifacts"), "-key-file", filepath.Join(b.dir, "key"),
	}, more...)
	cmd := exec.Command(service, args...) //nolint:gosec,noctx // the operator named it; Stop ends it
	cmd.Env = append(os.Environ(), "IRONBELL_DB="+b.dsn)
	began := time.Now()
	c, err := child.Start(cmd, syscall.SIGKILL, nil)
	if err != nil {
		return nil, "", 0, err
	}
	for {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+address+"/ready", http.NoBody)
		if err != nil {
			return c, "", 0, err
		}
		res, err := http.DefaultClient.Do(r)
		if err == nil {
			_ = res.Body.Close() // only its status counts
			if res.StatusCode == http.StatusOK {
				return c, "http://" + address, time.Since(began), nil
			}
		}
		if time.Since(began) > time.Minute {
			c.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
			return nil, "", 0, fmt.Errorf("the service is not ready after a minute")
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// cpu is the time that a process has spent on a core (proc(5), stat).
func cpu(pid int) (time.Duration, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	const tick = 10 * time.Millisecond
	user, err := strconv.Atoi(fields[11])
	if err != nil {
		return 0, err
	}
	system, err := strconv.Atoi(fields[12])
	return time.Duration(user+system) * tick, err
}

// memory is the resident size of a process, in bytes (proc(5), statm).
func memory(pid int) (int, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0, err
	}
	pages, err := strconv.Atoi(strings.Fields(string(text))[1])
	return pages * os.Getpagesize(), err
}
