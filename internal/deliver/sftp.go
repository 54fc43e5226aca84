package deliver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strconv"
	"strings"

	"ironbell/internal/core/fault"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// SFTPSettings are the settings of a destination of the protocol sftp. Its
// password is one, or a private key in PEM.
type SFTPSettings struct {
	Host    string `json:"host" doc:"name or address of the server"`
	Port    int    `json:"port,omitempty" doc:"22 when left out"`
	User    string `json:"user" doc:"sign-in name"`
	Folder  string `json:"folder,omitempty" doc:"that files go below; the login's own when left out"`
	HostKey string `json:"host_key,omitempty" doc:"fingerprint as SHA256:...; the one of the first test when left out" few:"y"`
}

type sftpPlace struct {
	Place
	settings SFTPSettings
	auth     ssh.AuthMethod
}

func openSFTP(p Place, _ Allowed) (Destination, error) {
	s := &sftpPlace{Place: p}
	if err := p.read(&s.settings); err != nil {
		return nil, err
	}
	switch {
	case s.settings.Host == "":
		return nil, p.wrong("it names no server", "Set the host.")
	case s.settings.User == "":
		return nil, p.wrong("it names no user", "Set the user to sign in as.")
	case s.settings.HostKey != "" && !strings.HasPrefix(s.settings.HostKey, "SHA256:"):
		return nil, p.wrong("its host_key does not begin with SHA256:", "Write the fingerprint as ssh-keygen -l shows it, or leave it out and test the destination.")
	}
	if s.settings.Port == 0 {
		s.settings.Port = 22
	}
	s.auth = ssh.Password(p.Secret)
	if strings.HasPrefix(p.Secret, "-----BEGIN") {
		key, err := ssh.ParsePrivateKey([]byte(p.Secret))
		if err != nil {
			return nil, p.wrong("its private key cannot be read: "+err.Error(), "Save it again, without a passphrase.")
		}
		s.auth = ssh.PublicKeys(key)
	}
	return s, nil
}

// Open implements Destination.
func (s *sftpPlace) Open(ctx context.Context) (Line, error) {
	l, _, err := s.open(ctx, false)
	if err != nil {
		return nil, err
	}
	return l, nil
}

// errHostKey says that the server is not the one that it was.
type errHostKey struct{ seen, pinned string }

func (e *errHostKey) Error() string {
	if e.pinned == "" {
		return "its host key " + e.seen + " was never confirmed"
	}
	return fmt.Sprintf("its host key is %s, and the one that was pinned is %s", e.seen, e.pinned)
}

// open connects. The first key that is seen is taken when first says so.
func (s *sftpPlace) open(ctx context.Context, first bool) (*treeLine, []string, error) {
	address := net.JoinHostPort(s.settings.Host, strconv.Itoa(s.settings.Port))
	doing := fmt.Sprintf("connect to SFTP server %q at %s", s.Name, address)
	conn, err := dial(ctx, address, doing)
	if err != nil {
		return nil, nil, err
	}
	unwatch := context.AfterFunc(ctx, func() { _ = conn.Close() })
	fail := func(err error) (*treeLine, []string, error) {
		unwatch()
		_ = conn.Close()
		return nil, nil, s.refused(err, doing)
	}
	pinned := s.Pin
	if s.settings.HostKey != "" {
		pinned = s.settings.HostKey
	}
	seen := ""
	limited := hasty(conn)
	shell, chans, reqs, err := ssh.NewClientConn(limited, address, &ssh.ClientConfig{
		User: s.settings.User, Auth: []ssh.AuthMethod{s.auth}, Timeout: dialLimit,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			seen = ssh.FingerprintSHA256(key)
			if seen != pinned && (pinned != "" || !first) {
				return &errHostKey{seen, pinned}
			}
			return nil
		},
	})
	if err != nil {
		return fail(err)
	}
	client := ssh.NewClient(shell, chans, reqs)
	files, err := sftp.NewClient(client)
	if err == nil {
		err = limited.calm()
	}
	if err != nil {
		return fail(err)
	}
	root := s.settings.Folder
	if root == "" {
		root = "."
	}
	t := &sftpTree{client: files, shell: client, root: root}
	if info, err := files.Stat(root); err != nil || !info.IsDir() {
		t.close()
		unwatch()
		return nil, nil, fault.New(fault.Destination, doing, fmt.Sprintf("there is no folder %s", root), "Make it there, or correct the destination's folder.")
	}
	said := []string{"connected to " + address + ", " + string(shell.ServerVersion()), "host key " + seen, "signed in as " + s.settings.User}
	return newTreeLine("SFTP server "+address, t, func() { unwatch() }), said, nil
}

// refused tells why no line was had.
func (s *sftpPlace) refused(err error, doing string) error {
	var key *errHostKey
	switch {
	case errors.As(err, &key) && key.pinned == "":
		return fault.Wrap(key, fault.Lasting, fault.Destination, doing, "Test the destination: the test shows the key and pins it.")
	case errors.As(err, &key):
		return fault.Wrap(key, fault.Lasting, fault.Destination, doing, "Somebody may stand between, or the server was set up anew. Ask who keeps it; when the new key is right, set it as host_key of the destination.")
	case strings.Contains(err.Error(), "unable to authenticate"):
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing, "Check user and password, or key, of the destination.")
	}
	return fault.Wrap(errors.New(fault.Reason(err)), fault.Passing, fault.Destination, doing, "Check that the server runs and speaks SSH.")
}

// Test implements Destination. It pins the host key that is seen first.
func (s *sftpPlace) Test(ctx context.Context) (Tested, error) {
	l, said, err := s.open(ctx, true)
	if err != nil {
		return Tested{}, err
	}
	defer l.Close()
	out, err := testTree(ctx, l, said)
	if s.settings.HostKey == "" && s.Pin == "" {
		out.Pin = strings.TrimPrefix(said[1], "host key ")
		out.Said = append(out.Said, "pinned the host key; from now on another one is refused")
	}
	return out, err
}

type sftpTree struct {
	client *sftp.Client
	shell  *ssh.Client
	root   string
}

func (t *sftpTree) at(file string) string { return path.Join(t.root, file) }

func (t *sftpTree) mkdir(dir string) error {
	err := t.client.Mkdir(t.at(dir))
	if err != nil {
		// The protocol has no word for "it is there already".
		if info, look := t.client.Stat(t.at(dir)); look == nil && info.IsDir() {
			return fs.ErrExist
		}
	}
	return err
}

func (t *sftpTree) size(file string) (int64, error) {
	info, err := t.client.Stat(t.at(file))
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

func (t *sftpTree) put(file string, content io.Reader, _ int64) (int64, error) {
	out, err := t.client.OpenFile(t.at(file), os.O_CREATE|os.O_TRUNC|os.O_WRONLY)
	if err != nil {
		return 0, err
	}
	if _, err = out.ReadFrom(content); err != nil {
		_ = out.Close() // the fault before is the one to tell
		return 0, err
	}
	if err := out.Close(); err != nil {
		return 0, err
	}
	return t.size(file)
}

// rename replaces by the extension posix-rename@openssh.com; where it is missing,
// by removing first.
func (t *sftpTree) rename(from, to string, over bool) error {
	if !over {
		return t.client.Rename(t.at(from), t.at(to))
	}
	if _, ok := t.client.HasExtension("posix-rename@openssh.com"); ok {
		return t.client.PosixRename(t.at(from), t.at(to))
	}
	if err := t.client.Remove(t.at(to)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return t.client.Rename(t.at(from), t.at(to))
}

func (t *sftpTree) remove(file string) error { return t.client.Remove(t.at(file)) }

func (t *sftpTree) read(file string) (io.ReadCloser, error) { return t.client.Open(t.at(file)) }

func (t *sftpTree) explain(err error, doing string) (*fault.Fault, bool) {
	var said *sftp.StatusError
	switch {
	case errors.Is(err, sftp.ErrSSHFxConnectionLost), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), fault.ByNetwork(err):
		return broken(err, doing), true
	case errors.As(err, &said) && said.FxCode() == sftp.ErrSSHFxFailure:
		// The general failure: a full disk, a quota, a name that is taken.
		return fault.Wrap(fmt.Errorf("the server answered: %w", err), fault.Passing, fault.Recipient, doing, "The server gives no reason; a full disk or a quota is the usual one."), false
	}
	return explainFile(err, doing)
}

func (t *sftpTree) close() {
	_ = t.shell.Close() // first, so that nothing waits for an answer
	_ = t.client.Close()
}
