package files

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"sync"

	"ironbell/standin/gate"

	"github.com/pkg/sftp"
	"github.com/spf13/afero"
	"golang.org/x/crypto/ssh"
)

// SFTP is a server of the protocol SFTP.
type SFTP struct {
	*gate.Gate
	disk           *disk
	user, password string

	mu  sync.Mutex
	key ssh.Signer
}

// StartSFTP starts a server on a folder.
func StartSFTP(name, address, folder, user, password string) (*SFTP, error) {
	s := &SFTP{user: user, password: password}
	if err := s.keptKey(folder + ".key"); err != nil {
		return nil, err
	}
	s.disk = open(folder, func() gate.Behaviour { return s.Behaviour() }, func() { s.Break() })
	var err error
	s.Gate, err = gate.Open(name, address, s.serve)
	return s, err
}

// Modes are the ways in which it can behave.
func (s *SFTP) Modes() []gate.Mode { return slices.Insert(slices.Clone(modes), 1, gate.Asks) }

// keptKey gives the server the host key that it had when it was started here
// before; a new one the first time.
func (s *SFTP) keptKey(path string) error {
	text, err := os.ReadFile(path) //nolint:gosec // beside its own folder
	if errors.Is(err, os.ErrNotExist) {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return fmt.Errorf("make a host key: %w", err)
		}
		block, err := ssh.MarshalPrivateKey(private, "stand-in")
		if err != nil {
			return fmt.Errorf("write a host key: %w", err)
		}
		text = pem.EncodeToMemory(block)
		if err := os.WriteFile(path, text, 0o600); err != nil {
			return fmt.Errorf("keep the host key: %w", err)
		}
	} else if err != nil {
		return fmt.Errorf("read the host key: %w", err)
	}
	key, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return fmt.Errorf("read the host key: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.key = key
	return nil
}

// NewKey gives the server another host key, as a server has that was set up anew
// or that only stands in for the right one.
func (s *SFTP) NewKey() error {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return fmt.Errorf("make a host key: %w", err)
	}
	key, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return fmt.Errorf("make a host key: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.key = key
	return nil
}

var errWrongPassword = errors.New("wrong password")

func (s *SFTP) serve(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go s.session(conn)
	}
}

func (s *SFTP) session(conn net.Conn) {
	defer func() { _ = conn.Close() }() // gone either way
	// Rights that are nil are all of them to the library.
	password := func(c ssh.ConnMetadata, password []byte) error {
		if c.User() != s.user || string(password) != s.password || s.Behaviour().Mode == gate.Expired {
			return errWrongPassword
		}
		return nil
	}
	config := &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, given []byte) (*ssh.Permissions, error) {
		return nil, password(c, given)
	}}
	if s.Behaviour().Mode == gate.Asks {
		config = &ssh.ServerConfig{KeyboardInteractiveCallback: func(c ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			answers, err := ask("", "Harbour authority", []string{"Password: "}, []bool{false})
			if err != nil || len(answers) != 1 {
				return nil, errWrongPassword
			}
			return nil, password(c, []byte(answers[0]))
		}}
	}
	s.mu.Lock()
	config.AddHostKey(s.key)
	s.mu.Unlock()
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for c := range channels {
		if c.ChannelType() != "session" {
			_ = c.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		channel, asks, err := c.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range asks {
				ok := r.Type == "subsystem" && len(r.Payload) > 4 && string(r.Payload[4:]) == "sftp"
				_ = r.Reply(ok, nil) // a client that left needs no answer
			}
		}()
		go func() {
			h := &handlers{s.disk}
			server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h},
				sftp.WithStartDirectory("/"))
			_ = server.Serve() // ends with the channel
			_ = channel.Close()
		}()
	}
}

// handlers carry requests out on the disk.
type handlers struct{ *disk }

// Fileread implements sftp.FileReader.
func (h *handlers) Fileread(r *sftp.Request) (io.ReaderAt, error) { return h.Open(r.Filepath) }

// Filewrite implements sftp.FileWriter.
func (h *handlers) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	return h.OpenFile(r.Filepath, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o640)
}

// Filecmd implements sftp.FileCmder.
func (h *handlers) Filecmd(r *sftp.Request) error {
	switch r.Method {
	case "Setstat":
		return nil
	case "Rename": // which replaces nothing
		if _, err := h.Stat(r.Target); err == nil {
			return sftp.ErrSSHFxFailure
		}
		return h.Rename(r.Filepath, r.Target)
	case "Rmdir", "Remove":
		return h.Remove(r.Filepath)
	case "Mkdir":
		return h.Mkdir(r.Filepath, 0o750)
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename implements sftp.PosixRenameFileCmder.
func (h *handlers) PosixRename(r *sftp.Request) error { return h.Rename(r.Filepath, r.Target) }

// Filelist implements sftp.FileLister.
func (h *handlers) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method == "List" {
		all, err := afero.ReadDir(h.disk, r.Filepath)
		return listed(all), err
	}
	info, err := h.Stat(r.Filepath)
	if err != nil {
		return nil, err
	}
	return listed{info}, nil
}

type listed []os.FileInfo

// ListAt implements sftp.ListerAt.
func (l listed) ListAt(to []os.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(to, l[at:])
	if n < len(to) {
		return n, io.EOF
	}
	return n, nil
}
