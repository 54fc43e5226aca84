// Command standins is the simulated outside world: stand-ins for the systems
// that Iron Bell speaks to, each speaking its real protocol. It prints one line
// of JSON with their addresses when they answer, and ends with its standard
// input or by a signal.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"

	"ironbell/standin/mail"
)

// World is what the one line says.
type World struct {
	Mail      string `json:"mail"`      // SMTP of the company
	Authority string `json:"authority"` // SMTP of the harbour authority
	Inbox     string `json:"inbox"`     // address of the inbox's pages
	CA        string `json:"ca"`        // certificate of the mail servers, PEM
	User      string `json:"user"`
	Password  string `json:"password"`
}

func main() {
	page := flag.String("inbox", "127.0.0.1:0", "`address` of the inbox's pages")
	smtp := flag.String("mail", "127.0.0.1:0", "`address` of the company's mail server")
	authority := flag.String("authority", "127.0.0.1:0", "`address` of the harbour authority's mail server")
	away := flag.Bool("authority-away", false, "the harbour authority's mail server does not listen until it is told to")
	flag.Parse()
	if err := run(*page, *smtp, *authority, *away); err != nil {
		fmt.Fprintln(os.Stderr, "standins:", err)
		os.Exit(1)
	}
}

func run(page, smtp, authority string, away bool) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	cert, ca, err := mail.Certificate()
	if err != nil {
		return err
	}
	w := World{CA: ca, User: "ironbell", Password: "slipway-lantern"}
	inbox := &mail.Inbox{}
	house, err := mail.Start("mail", smtp, w.User, w.Password, inbox, cert)
	if err != nil {
		return err
	}
	defer house.Close()
	outside, err := mail.Start("authority", authority, "", "", inbox, cert)
	if err != nil {
		return err
	}
	defer outside.Close()
	if away {
		if err := outside.Behave(mail.Behaviour{Mode: mail.Away}); err != nil {
			return err
		}
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", page)
	if err != nil {
		return fmt.Errorf("listen for the inbox: %w", err)
	}
	server := &http.Server{Handler: mail.Handler(inbox, house, outside), ReadHeaderTimeout: 10 * time.Second}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(l) }()
	w.Mail, w.Authority, w.Inbox = house.Address(), outside.Address(), "http://"+l.Addr().String()
	if err := json.NewEncoder(os.Stdout).Encode(w); err != nil { //nolint:gosec // who started us needs it
		return fmt.Errorf("tell the addresses: %w", err)
	}
	select {
	case <-ctx.Done():
	case err := <-ended:
		return fmt.Errorf("serve the inbox: %w", err)
	}
	return server.Close()
}
