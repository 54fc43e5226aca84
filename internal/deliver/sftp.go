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
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"unicode"

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
	HostKey string `json:"host_key,omitempty" doc:"fingerprint as SHA256:..., or several with blanks between; the one of the first test when left out" few:"y"`
	FileWays
	FileTaking
}

type sftpPlace struct {
	left leftovers
	Place
	settings SFTPSettings
	pins     []string // fingerprints of host keys that are taken
	key      ssh.Signer
	kind     atomic.Int32 // which of hostKeys the pinned key is of
}

// hostKeys are the kinds of host keys that servers have, each with the algorithms that sign
// with it (RFC 8709, RFC 5656, RFC 8332). A server has one of each, and shows the first that
// it is asked for.
var hostKeys = [][]string{
	{ssh.KeyAlgoED25519},
	{ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521},
	{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256},
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
	}
	if err := s.settings.check(p); err != nil {
		return nil, err
	}
	s.pins = strings.FieldsFunc(s.settings.HostKey, func(r rune) bool { return r == ',' || unicode.IsSpace(r) })
	for _, pin := range s.pins {
		if !strings.HasPrefix(pin, "SHA256:") {
			return nil,
				p.wrong(fmt.Sprintf("%q does not begin with SHA256:", pin),
					"Write the fingerprint as ssh-keygen -l shows it, or leave it out and test the destination.")
		}
	}
	if len(s.pins) == 0 && p.Pin != "" {
		s.pins = []string{p.Pin}
	}
	if s.settings.Port == 0 {
		s.settings.Port = 22
	}
	if strings.HasPrefix(p.Secret, "-----BEGIN") {
		key, err := ssh.ParsePrivateKey([]byte(p.Secret))
		if err != nil {
			return nil, p.wrong("its private key cannot be read: "+err.Error(), "Save it again, without a passphrase.")
		}
		s.key = key
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
type errHostKey struct{ seen, pinned []string }

func (e *errHostKey) Error() string {
	seen := "its host key is " + strings.Join(e.seen, " or ")
	if len(e.pinned) == 0 {
		return seen + ", which was never confirmed"
	}
	return seen + ", and the one that was pinned is " + strings.Join(e.pinned, " or ")
}

// errRefused says that the server let nobody in, and by which ways it was tried.
type errRefused struct {
	tried []string
	err   error
}

func (e *errRefused) Error() string {
	var asked *errAsked
	switch {
	case errors.As(e.err, &asked):
		return asked.Error()
	case len(e.tried) == 0:
		return "the server takes none of our ways to sign in"
	}
	return "the server refused to sign us in by " + strings.Join(e.tried, " and ")
}

func (e *errRefused) Unwrap() error { return e.err }

// errAsked says that the server wants to know what nobody is there to answer.
type errAsked struct{ question string }

func (e *errAsked) Error() string {
	return fmt.Sprintf("the server asks %q, and nobody is there to answer", e.question)
}

// maxRounds bounds how often a server may ask at one sign-in; some ask nothing first.
const maxRounds = 5

// signIn are the ways to sign in, and what was tried of them. A password is offered once: by
// the way of its name, or, where a server has only that, as an answer to its questions
// (RFC 4256), of which only those that are not to be shown while they are answered count.
func (s *sftpPlace) signIn() ([]ssh.AuthMethod, func() []string) {
	var tried []string
	rounds := 0
	if s.key != nil {
		return []ssh.AuthMethod{ssh.PublicKeysCallback(func() ([]ssh.Signer, error) {
			tried = append(tried, "its key")
			return []ssh.Signer{s.key}, nil
		})}, func() []string { return tried }
	}
	return []ssh.AuthMethod{
		ssh.PasswordCallback(func() (string, error) {
			tried = append(tried, "password")
			return s.Secret, nil
		}),
		ssh.KeyboardInteractive(func(_, _ string, questions []string, shown []bool) ([]string, error) {
			if rounds++; rounds > maxRounds {
				return nil, errors.New("the server asks on and on")
			}
			answers := make([]string, len(questions))
			for i, q := range questions {
				switch {
				case shown[i]:
					return nil, &errAsked{oneLine(q)}
				case slices.Contains(tried, "password"), slices.Contains(tried, "the answer to its question"):
					return nil, errors.New("the password was refused before") // once more may lock the login
				}
				answers[i] = s.Secret
			}
			if len(questions) > 0 {
				tried = append(tried, "the answer to its question")
			}
			return answers, nil
		}),
	}, func() []string { return tried }
}

// open connects. Where a key is pinned, the server is asked for its keys of one kind after
// another until it shows that one. The first key that is seen is taken when first says so.
func (s *sftpPlace) open(ctx context.Context, first bool) (*treeLine, []string, error) {
	if len(s.pins) == 0 {
		return s.openWith(ctx, first, nil)
	}
	other := &errHostKey{pinned: s.pins}
	from := int(s.kind.Load())
	var whole *fault.Fault
	for i := range hostKeys {
		kind := (from + i) % len(hostKeys)
		l, said, err := s.openWith(ctx, false, hostKeys[kind])
		var key *errHostKey
		switch {
		case errors.As(err, &key):
			other.seen = append(other.seen, key.seen...)
			whole = fault.Of(err)
		case errors.Is(err, errNoSuchKey):
			if whole == nil {
				whole = fault.Of(err)
			}
		default:
			if err == nil {
				s.kind.Store(int32(kind)) //nolint:gosec // below three
			}
			return l, said, err
		}
	}
	if len(other.seen) > 0 {
		return nil, nil, s.refused(other, whole.Doing)
	}
	return nil, nil, whole
}

// errNoSuchKey says that the server has no host key of the kinds that were asked for.
var errNoSuchKey = errors.New("the server has no host key of a kind that we know (ed25519, ECDSA, RSA with SHA-2)")

func (s *sftpPlace) openWith(ctx context.Context, first bool, kinds []string) (*treeLine, []string, error) {
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
	seen := ""
	auth, tried := s.signIn()
	limited := hasty(conn)
	shell, chans, reqs, err := ssh.NewClientConn(limited, address, &ssh.ClientConfig{
		User: s.settings.User, Auth: auth, Timeout: dialLimit, HostKeyAlgorithms: kinds,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			seen = ssh.FingerprintSHA256(key)
			if !slices.Contains(s.pins, seen) && (len(s.pins) > 0 || !first) {
				return &errHostKey{[]string{seen}, s.pins}
			}
			return nil
		},
	})
	var none *ssh.AlgorithmNegotiationError
	var other *errHostKey
	switch {
	case err == nil:
	case errors.As(err, &none) && strings.Contains(err.Error(), "host key"):
		return fail(errNoSuchKey)
	case errors.As(err, &other), seen == "", fault.ByNetwork(err), errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF):
		return fail(err)
	default: // once its key is known, only the sign-in is left to go wrong
		return fail(&errRefused{tried(), err})
	}
	client := ssh.NewClient(shell, chans, reqs)
	files, err := sftp.NewClient(client)
	if err == nil {
		err = limited.calm()
	}
	if err != nil {
		return fail(fmt.Errorf("the server signed us in and offers no files: %w", err))
	}
	root := s.settings.Folder
	if root == "" {
		root = "."
	}
	t := &sftpTree{client: files, shell: client, root: root}
	if info, err := files.Stat(root); (err != nil || !info.IsDir()) &&
		(!s.settings.blind() || errors.Is(err, fs.ErrNotExist)) {
		t.close()
		unwatch()
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, nil,
				fault.Wrap(fmt.Errorf("the folder %s cannot be looked at: %w", root, err), fault.Lasting,
					fault.Destination, doing,
					"If the server only takes files, set looking of the destination to no: that a file is whole is "+
						"then the server's word alone, and jobs must overwrite or stamp.")
		}
		return nil, nil,
			fault.New(fault.Destination, doing, fmt.Sprintf("there is no folder %s", root),
				"Make it there, or correct the destination's folder.")
	}
	said := []string{
		"connected to " + address + ", " + string(shell.ServerVersion()), "host key " + seen,
		"signed in as " + s.settings.User,
	}
	l := newTreeLine("SFTP server "+address, t, &s.left, func() { unwatch() })
	l.ways = s.settings.FileWays
	return l, said, nil
}

// refused tells why no line was had.
func (s *sftpPlace) refused(err error, doing string) error {
	var key *errHostKey
	var refused *errRefused
	var asked *errAsked
	switch {
	case errors.As(err, &key) && len(key.pinned) == 0:
		return fault.Wrap(key, fault.Lasting, fault.Destination, doing,
			"Test the destination: the test shows the key and pins it.")
	case errors.As(err, &key):
		return fault.Wrap(key, fault.Lasting, fault.Destination, doing,
			"Somebody may stand between, or the server was set up anew. Ask who keeps it; when the new key is right, "+
				"set it as host_key of the destination.")
	case errors.As(err, &asked):
		return fault.Wrap(asked, fault.Lasting, fault.Destination, doing,
			"Ask who keeps the server for a sign-in that asks for nothing but a password, or for one by key.")
	case errors.As(err, &refused) && len(refused.tried) == 0:
		return fault.Wrap(refused, fault.Lasting, fault.Destination, doing,
			"Ask who keeps the server which ways it takes; the password of the destination may be a private key in "+
				"place of a password.")
	case errors.As(err, &refused):
		return fault.Wrap(refused, fault.Lasting, fault.Destination, doing,
			"Check user and password, or key, of the destination.")
	case errors.Is(err, errNoSuchKey):
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing, "Let whoever keeps the server give it one.")
	}
	return fault.Wrap(errors.New(fault.Reason(err)), fault.Passing, fault.Destination, doing,
		"Check that the server runs and speaks SSH.")
}

// Test implements Destination. It pins the host key that is seen first.
func (s *sftpPlace) Test(ctx context.Context) (Tested, error) {
	l, said, err := s.open(ctx, true)
	if err != nil {
		return Tested{}, err
	}
	defer l.Close()
	out, err := testTree(ctx, l, said)
	if len(s.pins) == 0 {
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
	n, err := out.ReadFrom(content)
	if err != nil {
		_ = out.Close() // the fault before is the one to tell
		return n, err
	}
	return n, out.Close()
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
	case errors.Is(err, sftp.ErrSSHFxConnectionLost):
		return broken(io.ErrUnexpectedEOF, doing), true // what the library says in its own words
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), fault.ByNetwork(err):
		return broken(err, doing), true
	case errors.As(err, &said) && said.FxCode() == sftp.ErrSSHFxFailure:
		// The general failure: a full disk, a quota, a name that is taken.
		return fault.Wrap(fmt.Errorf("the server answered: %w", err), fault.Passing, fault.Recipient, doing,
			"The server gives no reason; a full disk or a quota is the usual one."), false
	}
	return explainFile(err, doing)
}

func (t *sftpTree) close() {
	_ = t.shell.Close() // first, so that nothing waits for an answer
	_ = t.client.Close()
}
