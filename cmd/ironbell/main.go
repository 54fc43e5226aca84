// Command ironbell is the service, its client and the demo's starter.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"ironbell/internal/aside"
	"ironbell/internal/cli"
	"ironbell/internal/confined"
	"ironbell/internal/house"
	"ironbell/internal/proof"
	"ironbell/internal/wallclock"
	"ironbell/internal/workbook"
)

func main() {
	confined.Main() // when this program was started to look after another one, or to become it
	aside.Main(map[string]aside.Task{proof.Task: proof.Draw, house.Task: house.Weigh, workbook.Task: workbook.Do})
	if err := wallclock.Read(); err != nil {
		fmt.Fprintln(os.Stderr, "ironbell:", err)
		os.Exit(2)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	status := cli.Main(ctx, "ironbell", os.Args[1:], cli.IO{In: os.Stdin, Out: os.Stdout, Err: os.Stderr},
		ownCommands()...)
	stop()
	os.Exit(status)
}

// ownCommands are those that need no service, beside the client's.
func ownCommands() []cli.Command {
	return []cli.Command{serveCommand, firstCommand, describeCommand(), demoCommand}
}
