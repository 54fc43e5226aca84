package files

import (
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"slices"
	"sync/atomic"

	"ironbell/standin/gate"

	ftpserver "github.com/fclairamb/ftpserverlib"
)

// FTP is a server of the protocol FTP with explicit TLS, in passive mode.
type FTP struct {
	*gate.Gate
	disk           *disk
	user, password string
	tls, newer     *tls.Config // each with the tickets of its sessions
	resumed        atomic.Int64
}

// StartFTP starts a server on a folder. It wants TLS.
func StartFTP(name, address, folder, user, password string, cert tls.Certificate) (*FTP, error) {
	f := &FTP{
		user: user, password: password,
		tls: &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12},
	}
	f.tls.VerifyConnection = func(s tls.ConnectionState) error {
		if s.DidResume {
			f.resumed.Add(1)
		}
		return nil
	}
	f.newer = f.tls.Clone()
	f.newer.MinVersion = tls.VersionTLS13
	f.disk = open(folder, func() gate.Behaviour { return f.Behaviour() }, func() { f.Break() })
	f.disk.full = ftpserver.ErrStorageExceeded
	var err error
	f.Gate, err = gate.Open(name, address, func(l net.Listener) {
		server := ftpserver.NewFtpServer(&driver{FTP: f, listener: l})
		server.Logger = slog.New(slog.DiscardHandler)
		if server.Listen() == nil {
			_ = server.Serve() // ends when it is closed
		}
	})
	return f, err
}

// Modes are the ways in which it can behave.
func (f *FTP) Modes() []gate.Mode { return slices.Insert(slices.Clone(modes), 1, gate.Newer) }

// Resumed is how many lines went on with the session of another one, as data should.
func (f *FTP) Resumed() int64 { return f.resumed.Load() }

// driver is what the library asks.
type driver struct {
	*FTP
	listener net.Listener
}

// GetSettings implements ftpserver.MainDriver.
func (d *driver) GetSettings() (*ftpserver.Settings, error) {
	return &ftpserver.Settings{
		Listener: d.listener, DisableActiveMode: true, TLSRequired: ftpserver.MandatoryEncryption, IdleTimeout: 120,
		ConnectionTimeout:   10,
		DefaultTransferType: ftpserver.TransferTypeBinary,
	}, nil
}

// ClientConnected implements ftpserver.MainDriver.
func (d *driver) ClientConnected(ftpserver.ClientContext) (string, error) { return "stand-in", nil }

// ClientDisconnected implements ftpserver.MainDriver.
func (d *driver) ClientDisconnected(ftpserver.ClientContext) {}

// AuthUser implements ftpserver.MainDriver.
func (d *driver) AuthUser(_ ftpserver.ClientContext, user, password string) (ftpserver.ClientDriver, error) {
	if user != d.user || password != d.password || d.Behaviour().Mode == gate.Expired {
		return nil, errors.New("wrong user or password")
	}
	return d.disk, nil
}

// GetTLSConfig implements ftpserver.MainDriver.
func (d *driver) GetTLSConfig() (*tls.Config, error) {
	if d.Behaviour().Mode == gate.Newer {
		return d.newer, nil
	}
	return d.tls, nil
}
