// Package files holds stand-ins for servers of files: SFTP, FTP and WebDAV, each
// on a folder of its own.
package files

import (
	"context"
	"os"
	"strings"
	"syscall"

	"ironbell/standin/gate"

	"github.com/spf13/afero"
	"golang.org/x/net/webdav"
)

var modes = []gate.Mode{gate.Accept, gate.Slow, gate.Refuse, gate.Full, gate.Expired, gate.Drop, gate.Away}

// disk is a folder that misbehaves as its gate says.
type disk struct {
	afero.Fs
	gate func() gate.Behaviour
	drop func()
	full error // what is said when there is no room
}

func open(folder string, g func() gate.Behaviour, drop func()) *disk {
	return &disk{Fs: afero.NewBasePathFs(afero.NewOsFs(), folder), gate: g, drop: drop, full: syscall.ENOSPC}
}

// concerns tells how to behave towards a file.
func (d *disk) concerns(name string) gate.Behaviour {
	b := d.gate()
	if b.Only != "" && !strings.Contains(name, b.Only) {
		return gate.Behaviour{Mode: gate.Accept}
	}
	return b
}

// OpenFile implements afero.Fs.
func (d *disk) OpenFile(name string, flag int, perm os.FileMode) (afero.File, error) {
	writes := flag&(os.O_WRONLY|os.O_RDWR) != 0
	b := d.concerns(name)
	if writes && b.Mode == gate.Refuse {
		return nil, &os.PathError{Op: "open", Path: name, Err: syscall.EACCES}
	}
	f, err := d.Fs.OpenFile(name, flag, perm)
	if err != nil || !writes {
		return f, err
	}
	return &file{File: f, b: b, full: d.full}, nil
}

// Create implements afero.Fs.
func (d *disk) Create(name string) (afero.File, error) {
	return d.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o640)
}

// Rename implements afero.Fs. When the line is to break it does so after.
func (d *disk) Rename(from, to string) error {
	b := d.concerns(to)
	b.Pause()
	err := d.Fs.Rename(from, to)
	if b.Mode == gate.Drop {
		d.drop()
	}
	return err
}

// file has no room when its gate says so.
type file struct {
	afero.File
	b    gate.Behaviour
	full error
}

// Write implements io.Writer.
func (f *file) Write(p []byte) (int, error) {
	if f.b.Mode == gate.Full {
		return 0, f.full
	}
	return f.File.Write(p)
}

// WriteAt implements io.WriterAt.
func (f *file) WriteAt(p []byte, at int64) (int, error) {
	if f.b.Mode == gate.Full {
		return 0, f.full
	}
	return f.File.WriteAt(p, at)
}

// forWeb gives a disk the form that the WebDAV library wants.
type forWeb struct{ *disk }

// Mkdir implements webdav.FileSystem.
func (w forWeb) Mkdir(_ context.Context, name string, perm os.FileMode) error {
	return w.disk.Mkdir(name, perm)
}

// OpenFile implements webdav.FileSystem.
func (w forWeb) OpenFile(_ context.Context, name string, flag int, perm os.FileMode) (webdav.File, error) {
	return w.disk.OpenFile(name, flag, perm)
}

// RemoveAll implements webdav.FileSystem.
func (w forWeb) RemoveAll(_ context.Context, name string) error { return w.disk.RemoveAll(name) }

// Rename implements webdav.FileSystem.
func (w forWeb) Rename(_ context.Context, from, to string) error { return w.disk.Rename(from, to) }

// Stat implements webdav.FileSystem.
func (w forWeb) Stat(_ context.Context, name string) (os.FileInfo, error) { return w.disk.Stat(name) }
