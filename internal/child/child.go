// Package child runs programs that end when we end: each in a group of its own,
// so that Ctrl-C at a terminal reaches only us, and with a signal from the
// kernel should we be killed.
package child

import (
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"time"
)

// Child is a running program.
type Child struct {
	cmd   *exec.Cmd
	ended chan struct{}
	err   error
}

// Start starts a program. atDeath is the signal that it gets when we die; as is
// the user it runs as, nil for ours.
func Start(cmd *exec.Cmd, atDeath syscall.Signal, as *syscall.Credential) (*Child, error) {
	c := &Child{cmd: cmd, ended: make(chan struct{})}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: atDeath, Credential: as}
	started := make(chan error)
	go func() {
		// The signal at death is tied to the thread that started the child, so
		// the thread stays for as long as the child.
		runtime.LockOSThread()
		defer close(c.ended)
		err := cmd.Start()
		started <- err
		if err == nil {
			c.err = cmd.Wait()
		}
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("start %s: %w", cmd.Path, err)
	}
	return c, nil
}

// Ended is closed when the program has ended.
func (c *Child) Ended() <-chan struct{} { return c.ended }

// Err is how the program ended; it may be asked after Ended.
func (c *Child) Err() error { return c.err }

// Process is the program's process.
func (c *Child) Process() *os.Process { return c.cmd.Process }

// Stop sends a signal, waits for the program's end, and ends it by force when it
// takes longer than patience.
func (c *Child) Stop(by syscall.Signal, patience time.Duration, force syscall.Signal) {
	_ = c.cmd.Process.Signal(by) // one that is gone needs none
	select {
	case <-c.ended:
	case <-time.After(patience):
		_ = c.cmd.Process.Signal(force)
		<-c.ended
	}
}
