package deliver

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/textproto"
	"path"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"

	"github.com/jlaffaye/ftp"
)

// FTPSettings are the settings of a destination of the protocol ftp (RFC 959, in
// passive mode; explicit TLS as in RFC 4217).
type FTPSettings struct {
	Host     string `json:"host" doc:"name or address of the server"`
	Port     int    `json:"port,omitempty" doc:"21 when left out"`
	Security string `json:"security,omitempty" enum:"tls,none" doc:"explicit TLS when left out"`
	User     string `json:"user" doc:"sign-in name"`
	Folder   string `json:"folder,omitempty" doc:"that files go below; the login's own when left out"`
	CA       string `json:"ca,omitempty" form:"block" doc:"certificates to trust, in PEM; those of the machine when left out" few:"y"`
	FileWays
	FileTaking
}

type ftpPlace struct {
	left leftovers
	Place
	settings FTPSettings
	tls      *tls.Config
	newer    atomic.Bool // the server speaks TLS 1.3 alone
}

func openFTP(p Place, _ Allowed) (Destination, error) {
	f := &ftpPlace{Place: p}
	if err := p.read(&f.settings); err != nil {
		return nil, err
	}
	if f.settings.Host == "" {
		return nil, p.wrong("it names no server", "Set the host.")
	}
	if err := f.settings.check(p); err != nil {
		return nil, err
	}
	if f.settings.Port == 0 {
		f.settings.Port = 21
	}
	switch f.settings.Security {
	case "none":
	case "", "tls":
		var err error
		if f.tls, err = p.trust(f.settings.Host, f.settings.CA); err != nil {
			return nil, err
		}
	default:
		return nil, p.wrong(fmt.Sprintf("there is no security %q", f.settings.Security), "Choose tls or none.")
	}
	return f, nil
}

// Open implements Destination.
func (f *ftpPlace) Open(ctx context.Context) (Line, error) {
	l, _, err := f.open(ctx)
	if err != nil {
		return nil, err
	}
	return l, nil
}

// probe signs in and opens a data line, as every hand-over does: it lists the folder.
func (f *ftpPlace) probe(ctx context.Context) error {
	l, _, err := f.open(ctx)
	if err != nil {
		return err
	}
	defer l.Close()
	tree, ok := l.tree.(*ftpTree)
	if !ok {
		return nil
	}
	if _, err := tree.conn.NameList("."); err != nil {
		var said *textproto.Error
		if errors.As(err, &said) && said.Code == ftp.StatusFileUnavailable {
			return nil // an empty folder is none to some servers
		}
		return f.refused(err, fmt.Sprintf("open a data line to FTP server %q", f.Name))
	}
	return nil
}

// alertVersion is protocol_version (RFC 8446 section 6.2) in the words of crypto/tls.
const alertVersion = "protocol version not supported"

// tooOld tells whether the server refused TLS 1.2, which is found out once.
func (f *ftpPlace) tooOld(err error) bool {
	return outgoing.Alert(err) == alertVersion && f.newer.CompareAndSwap(false, true)
}

// session is TLS for one line and the data that belongs to it; nil without TLS. Servers want
// the data to come over the session of its own commands, and most know it again only by the
// tickets of TLS 1.2, so that 1.3 is spoken only where nothing else is.
func (f *ftpPlace) session() *tls.Config {
	if f.tls == nil {
		return nil
	}
	c := f.tls.Clone()
	c.ClientSessionCache = tls.NewLRUClientSessionCache(2)
	if !f.newer.Load() {
		c.MaxVersion = tls.VersionTLS12
	}
	return c
}

func (f *ftpPlace) open(ctx context.Context) (*treeLine, []string, error) {
	address := net.JoinHostPort(f.settings.Host, strconv.Itoa(f.settings.Port))
	doing := fmt.Sprintf("connect to FTP server %q at %s", f.Name, address)
	t := &ftpTree{root: f.settings.Folder}
	secure := f.session()
	options := []ftp.DialOption{ftp.DialWithDialFunc(func(_, at string) (net.Conn, error) {
		conn, err := dial(ctx, at, doing)
		if err != nil {
			return nil, err
		}
		unwatch := context.AfterFunc(ctx, func() { _ = conn.Close() })
		limited := &watched{hasty(conn), unwatch}
		if t.control == nil {
			t.control = limited
			return limited, nil
		}
		if secure == nil {
			return limited, nil
		}
		return &gentle{tls.Client(limited, secure)}, nil
	})}
	if secure != nil {
		options = append(options, ftp.DialWithExplicitTLS(secure))
	}
	var err error
	if t.conn, err = ftp.Dial(address, options...); err != nil {
		if t.control != nil {
			_ = t.control.Close() // the library may have left it
		}
		if f.tooOld(err) {
			return f.open(ctx)
		}
		return nil, nil, f.refused(err, doing)
	}
	if err := t.conn.Login(f.settings.User, f.Secret); err != nil {
		t.close()
		if f.tooOld(err) { // the line is secured with the first word on it
			return f.open(ctx)
		}
		return nil, nil, f.refused(err, fmt.Sprintf("sign in to FTP server %q as %s", f.Name, f.settings.User))
	}
	if t.root != "" {
		if err := t.conn.ChangeDir(t.root); err != nil {
			t.close()
			return nil, nil,
				fault.Wrap(ftpSaid(err), fault.Lasting, fault.Destination, doing,
					fmt.Sprintf("Make the folder %s there, or correct the destination's folder.", t.root))
		}
	}
	if t.root, err = t.conn.CurrentDir(); err != nil {
		t.close()
		return nil, nil, f.refused(err, doing)
	}
	security := "without TLS"
	if f.tls != nil {
		security = "over TLS"
	}
	l := newTreeLine("FTP server "+address, t, &f.left, nil)
	l.ways = f.settings.FileWays
	return l, []string{"connected to " + address + " " + security, "signed in as " + f.settings.User}, nil
}

// refused tells why no line was had.
func (f *ftpPlace) refused(err error, doing string) error {
	if no := outgoing.Insecure(err, fault.Destination, doing); no != nil {
		return no
	}
	var known *fault.Fault
	if errors.As(err, &known) {
		return known
	}
	var said *textproto.Error
	if errors.As(err, &said) {
		class, advice := fault.Lasting, "Check user and password of the destination."
		switch {
		case said.Code < 500:
			class, advice = fault.Passing, "The server is busy, or closed for now."
		case said.Code != 530:
			advice = "Check the security of the destination: the server may offer no TLS, or want it."
		case f.tls == nil:
			advice = "Check user and password of the destination, and its security: the server may take them " +
				"over TLS alone."
		}
		return fault.Wrap(ftpSaid(err), class, fault.Destination, doing, advice)
	}
	if !fault.ByNetwork(err) && !fault.Broken(err) {
		// The library keeps the words of some answers, and not their code.
		return fault.Wrap(fmt.Errorf("the server answered: %w", err), fault.Lasting, fault.Destination, doing,
			"Check user and password of the destination, and its security: the server may offer no TLS, or want it.")
	}
	return broken(err, doing)
}

// Test implements Destination.
func (f *ftpPlace) Test(ctx context.Context) (Tested, error) {
	l, said, err := f.open(ctx)
	if err != nil {
		return Tested{}, err
	}
	defer l.Close()
	return testTree(ctx, l, said)
}

// watched is a connection that ends with its context.
type watched struct {
	*hurried
	unwatch func() bool
}

func (w *watched) Close() error {
	w.unwatch()
	return w.hurried.Close()
}

// gentle closes the data's connection as TLS has it: it says so, and hears the
// other side say so. A server that is only cut off keeps a file too short.
type gentle struct{ *tls.Conn }

func (g *gentle) Close() error {
	err := g.CloseWrite()
	if err == nil {
		if err = g.SetReadDeadline(time.Now().Add(5 * time.Second)); err == nil {
			_, _ = io.Copy(io.Discard, io.LimitReader(g.Conn, 64<<10)) // whatever comes, the size is checked after
		}
	}
	if closing := g.Conn.Close(); err == nil && !errors.Is(closing, net.ErrClosed) {
		err = closing
	}
	return err
}

// counting counts what is read.
type counting struct {
	from io.Reader
	n    int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	c.n += int64(n)
	return n, err
}

type ftpTree struct {
	conn    *ftp.ServerConn
	control net.Conn
	root    string
}

func (t *ftpTree) at(file string) string { return path.Join(t.root, file) }

func (t *ftpTree) mkdir(dir string) error {
	err := t.conn.MakeDir(t.at(dir))
	if err != nil && t.conn.ChangeDir(t.at(dir)) == nil {
		return fs.ErrExist
	}
	return err
}

// size reads the listing's entry where the server has no SIZE.
func (t *ftpTree) size(file string) (int64, error) {
	n, err := t.conn.FileSize(t.at(file))
	var said *textproto.Error
	if errors.As(err, &said) && said.Code == ftp.StatusFileUnavailable {
		return 0, fs.ErrNotExist
	}
	return n, err
}

func (t *ftpTree) put(file string, content io.Reader, _ int64) (int64, error) {
	counted := &counting{from: content}
	err := t.conn.Stor(t.at(file), counted)
	return counted.n, err
}

// rename replaces on some servers and not on others: what is to be replaced is
// removed when the server refuses.
func (t *ftpTree) rename(from, to string, over bool) error {
	err := t.conn.Rename(t.at(from), t.at(to))
	var said *textproto.Error
	if over && errors.As(err, &said) && t.conn.Delete(t.at(to)) == nil {
		return t.conn.Rename(t.at(from), t.at(to))
	}
	return err
}

func (t *ftpTree) remove(file string) error { return t.conn.Delete(t.at(file)) }

func (t *ftpTree) read(file string) (io.ReadCloser, error) { return t.conn.Retr(t.at(file)) }

func (t *ftpTree) explain(err error, doing string) (*fault.Fault, bool) {
	var said *textproto.Error
	if !errors.As(err, &said) {
		if no := outgoing.Insecure(err, fault.Destination, doing); no != nil {
			return no, true
		}
		return broken(err, doing), true
	}
	err = ftpSaid(err)
	switch said.Code {
	case ftp.StatusNotAvailable: // 421: it hangs up
		return fault.Wrap(err, fault.Passing, fault.Destination, doing, ""), true
	case ftp.StatusCanNotOpenDataConnection, ftp.StatusTransfertAborted: // 425, 426: the line of the commands goes on
		return fault.Wrap(err, fault.Passing, fault.Destination, doing,
				"No line for data came about, or it broke: ask who keeps the server for the ports of its passive mode."),
			false
	case 522, 534, 536, 521: // RFC 4217 section 12
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing,
			"The server wants data over another kind of line: check the security of the destination, and ask who "+
				"keeps the server."), false
	case 530, 532: // not signed in any more
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing, "Check user and password of the destination."),
			true
	case ftp.StatusExceededStorage, 452: // 552: over quota
		return fault.Wrap(err, fault.Passing, fault.Destination, doing, "The server has no room left: make some."),
			false
	}
	class := fault.Lasting
	if said.Code < 500 {
		class = fault.Passing
	}
	return fault.Wrap(err, class, fault.Recipient, doing,
		"Check the folder and the name, and that the login may write there."), false
}

// ftpSaid is what the server answered, on one line.
func ftpSaid(err error) error {
	var said *textproto.Error
	if errors.As(err, &said) {
		return fmt.Errorf("the server answered: %d %s", said.Code, strings.Join(strings.Fields(said.Msg), " "))
	}
	return err
}

func (t *ftpTree) close() {
	// Not politely: a QUIT would wait for a server that may be gone.
	_ = t.control.Close()
}
