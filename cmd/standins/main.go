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
	"path/filepath"
	"syscall"
	"time"

	"ironbell/standin/files"
	"ironbell/standin/gate"
	"ironbell/standin/mail"
	"ironbell/standin/web"
)

// World is what the one line says.
type World struct {
	Mail      string `json:"mail"`      // SMTP of the company
	Authority string `json:"authority"` // SMTP of the harbour authority
	Mailbox   string `json:"mailbox"`   // IMAP of the mailbox for bounces
	SFTP      string `json:"sftp"`
	FTP       string `json:"ftp"`
	WebDAV    string `json:"webdav"`
	Objects   string `json:"objects"`
	Printer   string `json:"printer"`
	Receiver  string `json:"receiver"`
	Folder    string `json:"folder"` // holds a folder for each of the servers of files
	Inbox     string `json:"inbox"`  // address of the inbox's pages
	CA        string `json:"ca"`     // certificate of the servers, PEM
	User      string `json:"user"`
	Password  string `json:"password"`
}

// bucket is the one that the store of objects has.
const bucket = "reports"

func main() {
	page := flag.String("inbox", "127.0.0.1:0", "`address` of the inbox's pages")
	smtp := flag.String("mail", "127.0.0.1:0", "`address` of the company's mail server")
	authority := flag.String("authority", "127.0.0.1:0", "`address` of the harbour authority's mail server")
	folder := flag.String("folder", "", "`folder` for the servers of files; a temporary one when left out")
	flag.Parse()
	if err := run(*page, *smtp, *authority, *folder); err != nil {
		fmt.Fprintln(os.Stderr, "standins:", err)
		os.Exit(1)
	}
}

func run(page, smtp, authority, folder string) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	w := World{User: "ironbell", Password: "slipway-lantern", Folder: folder}
	if folder == "" {
		made, err := os.MkdirTemp("", "ironbell-standins-*")
		if err != nil {
			return fmt.Errorf("make a folder: %w", err)
		}
		defer func() { _ = os.RemoveAll(made) }() // a temporary folder
		w.Folder = made
	}
	inbox := &mail.Inbox{}
	all, err := start(&w, inbox, smtp, authority)
	for _, s := range all {
		defer s.Close()
	}
	if err != nil {
		return err
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", page)
	if err != nil {
		return fmt.Errorf("listen for the inbox: %w", err)
	}
	steered := make([]mail.Steered, len(all))
	for i, s := range all {
		steered[i] = s
	}
	mux := http.NewServeMux()
	able := &deeds{folder: w.Folder}
	mux.Handle("/", mail.Handler(inbox, able.all, steered...))
	for _, s := range all {
		switch s := s.(type) {
		case *web.Receiver:
			mux.Handle("GET /api/received", listing(func() any { return s.All() }))
			mux.Handle("GET /api/beats", listing(func() any { return s.Asked() }))
		case *web.Printer:
			mux.Handle("GET /api/printed", listing(func() any { return s.All() }))
		case *web.Objects:
			mux.Handle("GET /api/objects/{key...}", object(s))
		}
	}
	mux.HandleFunc("PUT /happens", able.take)
	mux.HandleFunc("POST /happens/{name}", able.happen)
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(l) }()
	w.Inbox = "http://" + l.Addr().String()
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

// standin is any of them.
type standin interface {
	mail.Steered
	Close()
}

// start starts all stand-ins. What was started before one failed is given, too.
func start(w *World, inbox *mail.Inbox, smtp, authority string) (all []standin, err error) {
	cert, ca, err := gate.Certificate()
	if err != nil {
		return nil, err
	}
	w.CA = ca
	const free = "127.0.0.1:0"
	house, err := mail.Start("mail", smtp, w.User, w.Password, inbox, cert)
	if err != nil {
		return all, err
	}
	all = append(all, house)
	outside, err := mail.Start("authority", authority, "", "", inbox, cert)
	if err != nil {
		return all, err
	}
	all = append(all, outside)
	box, err := mail.OpenMailbox("mailbox", free, w.User, w.Password)
	if err != nil {
		return all, err
	}
	all = append(all, box)
	for _, s := range []*mail.Server{house, outside} {
		s.Returns(func(r mail.Return) { _ = box.Put(r.Raw) }) // a mailbox that is away loses it, as it would
	}
	below := map[string]string{}
	for _, name := range []string{"sftp", "ftp", "webdav"} {
		below[name] = filepath.Join(w.Folder, name)
		if err := os.MkdirAll(below[name], 0o750); err != nil {
			return all, fmt.Errorf("make a folder: %w", err)
		}
	}
	if err := os.MkdirAll(gaugeFolder(w.Folder), 0o750); err != nil {
		return all, fmt.Errorf("make a folder: %w", err)
	}
	for _, more := range []struct {
		address *string
		start   func() (standin, error)
	}{
		{&w.SFTP, func() (standin, error) { return files.StartSFTP("sftp", free, below["sftp"], w.User, w.Password) }},
		{&w.FTP, func() (standin, error) {
			return files.StartFTP("ftp", free, below["ftp"], w.User, w.Password,
				cert)
		}},
		{&w.WebDAV, func() (standin, error) {
			return files.StartWebDAV("webdav", free, below["webdav"], w.User, w.Password)
		}},
		{&w.Objects, func() (standin, error) { return web.StartObjects("objects", free, bucket) }},
		{&w.Printer, func() (standin, error) { return web.StartPrinter("printer", free) }},
		{&w.Receiver, func() (standin, error) { return web.StartReceiver("receiver", free) }},
	} {
		s, err := more.start()
		if err != nil {
			return all, err
		}
		*more.address = s.Address()
		all = append(all, s)
	}
	w.Mail, w.Authority, w.Mailbox = house.Address(), outside.Address(), box.Address()
	return all, nil
}

func listing(all func() any) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(all()) // a reader that left needs no answer
	})
}

func object(s *web.Objects) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		content, ok := s.Object(bucket, r.PathValue("key"))
		if !ok {
			http.Error(w, "There is no such object.", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		_, _ = w.Write(content) //nolint:gosec // it is no page; a reader that left needs no answer
	})
}
