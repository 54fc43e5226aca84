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

	"github.com/cloudsoda/go-smb2"
)

// SMBSettings are the settings of a destination of the protocol smb: a shared
// folder, by SMB 2 or 3.
type SMBSettings struct {
	Host   string `json:"host" doc:"name or address of the server"`
	Port   int    `json:"port,omitempty" doc:"445 when left out"`
	Share  string `json:"share" doc:"name of the shared folder"`
	User   string `json:"user" doc:"sign-in name"`
	Domain string `json:"domain,omitempty" doc:"of the sign-in name" few:"y"`
	Folder string `json:"folder,omitempty" doc:"that files go below; the share's root when left out"`
	FileTaking
}

type smbPlace struct {
	left leftovers
	Place
	settings SMBSettings
}

func openSMB(p Place, _ Allowed) (Destination, error) {
	s := &smbPlace{Place: p}
	if err := p.read(&s.settings); err != nil {
		return nil, err
	}
	if s.settings.Host == "" || s.settings.Share == "" {
		return nil,
			p.wrong("it names no server or no share",
				`Set host and share, such as "files.company.example" and "reports".`)
	}
	if s.settings.Port == 0 {
		s.settings.Port = 445
	}
	return s, nil
}

// Open implements Destination.
func (s *smbPlace) Open(ctx context.Context) (Line, error) {
	l, _, err := s.open(ctx)
	if err != nil {
		return nil, err
	}
	return l, nil
}

// NTSTATUS values that tell what to do ([MS-ERREF] section 2.3.1).
const (
	statusLogonFailure      = 0xC000006D
	statusPasswordExpired   = 0xC0000071
	statusAccountDisabled   = 0xC0000072
	statusAccountLocked     = 0xC0000234
	statusPasswordMust      = 0xC0000224
	statusBadNetworkName    = 0xC00000CC
	statusDiskFull          = 0xC000007F
	statusQuotaExceeded     = 0xC0000044
	statusSharingViolation  = 0xC0000043
	statusUserSessionEnded  = 0xC0000203
	statusNetworkNameDelete = 0xC00000C9
)

func (s *smbPlace) open(ctx context.Context) (*treeLine, []string, error) {
	address := net.JoinHostPort(s.settings.Host, strconv.Itoa(s.settings.Port))
	share := `\\` + s.settings.Host + `\` + s.settings.Share
	doing := fmt.Sprintf("open the shared folder %q, %s", s.Name, share)
	conn, err := dial(ctx, address, doing)
	if err != nil {
		return nil, nil, err
	}
	limited := hasty(conn)
	session, err := (&smb2.Dialer{Initiator: &smb2.NTLMInitiator{
		User: s.settings.User, Password: s.Secret, Domain: s.settings.Domain,
	}}).DialConn(ctx, limited, address)
	if err != nil {
		_ = conn.Close()
		return nil, nil, s.refused(err, doing)
	}
	mount, err := session.WithContext(ctx).Mount(s.settings.Share)
	if err == nil {
		err = limited.calm()
	}
	if err != nil {
		_ = conn.Close()
		return nil, nil, s.refused(err, doing)
	}
	t := &smbTree{
		share: mount.WithContext(ctx), conn: conn,
		root: strings.Trim(strings.ReplaceAll(s.settings.Folder, `\`, "/"), "/"),
	}
	if t.root != "" {
		if info, err := t.share.Stat(t.root); err != nil || !info.IsDir() {
			t.close()
			return nil, nil,
				fault.New(fault.Destination, doing, "there is no folder "+t.root,
					"Make it there, or correct the destination's folder.")
		}
	}
	return newTreeLine("shared folder "+share, t, &s.left, nil),
		[]string{"connected to " + address, "signed in as " + s.settings.User, "opened " + share}, nil
}

func (s *smbPlace) refused(err error, doing string) error {
	var said *smb2.ResponseError
	if !errors.As(err, &said) {
		return broken(err, doing)
	}
	switch said.Code {
	case statusLogonFailure, statusPasswordExpired, statusAccountDisabled, statusAccountLocked, statusPasswordMust:
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing,
			"Check user, domain and password of the destination.")
	case statusBadNetworkName:
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing,
			fmt.Sprintf("The server has no share %q; correct it.", s.settings.Share))
	}
	return fault.Wrap(err, fault.Lasting, fault.Destination, doing, "Check what the login may do on the share.")
}

// Test implements Destination.
func (s *smbPlace) Test(ctx context.Context) (Tested, error) {
	l, said, err := s.open(ctx)
	if err != nil {
		return Tested{}, err
	}
	defer l.Close()
	return testTree(ctx, l, said)
}

type smbTree struct {
	share *smb2.Share
	conn  net.Conn
	root  string
}

func (t *smbTree) at(file string) string { return path.Join(t.root, file) }

func (t *smbTree) mkdir(dir string) error { return t.share.Mkdir(t.at(dir), 0o750) }

func (t *smbTree) size(file string) (int64, error) {
	info, err := t.share.Stat(t.at(file))
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

func (t *smbTree) put(file string, content io.Reader, _ int64) (int64, error) {
	out, err := t.share.OpenFile(t.at(file), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o640)
	if err != nil {
		return 0, err
	}
	n, err := io.Copy(out, content)
	if err != nil {
		_ = out.Close() // the fault before is the one to tell
		return n, err
	}
	return n, out.Close()
}

// rename replaces always; what must not be replaced was looked for just before.
func (t *smbTree) rename(from, to string, over bool) error {
	if !over {
		if _, err := t.size(to); !errors.Is(err, fs.ErrNotExist) {
			if err == nil {
				err = fs.ErrExist
			}
			return err
		}
	}
	return t.share.Rename(t.at(from), t.at(to))
}

func (t *smbTree) remove(file string) error { return t.share.Remove(t.at(file)) }

func (t *smbTree) read(file string) (io.ReadCloser, error) { return t.share.Open(t.at(file)) }

func (t *smbTree) explain(err error, doing string) (*fault.Fault, bool) {
	var said *smb2.ResponseError
	if !errors.As(err, &said) {
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrPermission) {
			return explainFile(err, doing)
		}
		if line := (*smb2.TransportError)(nil); errors.As(err, &line) {
			err = line.Err // which it hides
		}
		return broken(err, doing), true
	}
	switch said.Code {
	case statusDiskFull, statusQuotaExceeded:
		return fault.Wrap(err, fault.Passing, fault.Destination, doing, "The share has no room left: make some."), false
	case statusSharingViolation:
		return fault.Wrap(err, fault.Passing, fault.Recipient, doing, "Somebody has the file open."), false
	case statusUserSessionEnded, statusNetworkNameDelete:
		return fault.Wrap(err, fault.Passing, fault.Destination, doing, ""), true
	}
	return explainFile(err, doing)
}

func (t *smbTree) close() { _ = t.conn.Close() } // the server ends the session with it
