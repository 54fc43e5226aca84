package world

import (
	"context"
	"encoding/json"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/stretchr/testify/require"
)

// Places saves a folder, a source that takes statements and a signed destination.
func (w *World) Places() {
	w.T.Helper()
	ctx := context.Background()
	require.NoError(w.T, os.MkdirAll(filepath.Join(w.Dir, "folders", "tides"), 0o700))
	_, err := w.C.SaveSource(ctx, "tide gauges", wire.PlaceRequest{
		Protocol: "folder", Settings: map[string]any{"folder": filepath.Join(w.Dir, "folders", "tides")},
	})
	require.NoError(w.T, err)
	key := "slipway"
	_, err = w.C.SaveDestination(ctx, "ledger office", wire.PlaceRequest{
		Protocol: "http", Password: &key, Settings: map[string]any{"url": "http://" + w.Outside + "/ledger"},
	})
	require.NoError(w.T, err)
}

// Behind gives host and port of an echo.
func (w *World) Behind(e *Echo, more map[string]any) map[string]any {
	w.T.Helper()
	host, port := w.HostPort(e.address)
	settings := map[string]any{"host": host, "port": port, "user": "bell"}
	maps.Copy(settings, more)
	return settings
}

// Down waits until a destination rests, and gives its alert.
func (w *World) Down(name string) job.Alert {
	w.T.Helper()
	ctx := context.Background()
	var found job.Alert
	w.Until(name+" rests with an alert", func() bool {
		p, err := w.C.Destination(ctx, name)
		require.NoError(w.T, err)
		alerts, err := w.C.Alerts(ctx, "open")
		require.NoError(w.T, err)
		at := slices.IndexFunc(alerts,
			func(a job.Alert) bool { return a.Kind == job.AlertDown && a.Job == "Destination "+name })
		if p.Rests == nil || at < 0 {
			return false
		}
		found = alerts[at]
		return true
	})
	return found
}

// Place saves a destination.
func (w *World) Place(name, protocol, password string, settings map[string]any) {
	w.T.Helper()
	_, err := w.C.SaveDestination(context.Background(), name, wire.PlaceRequest{
		Protocol: protocol, Password: &password, Settings: settings,
	})
	require.NoError(w.T, err)
}

// HostPort parts an address.
func (w *World) HostPort(address string) (string, int) {
	w.T.Helper()
	host, text, err := net.SplitHostPort(address)
	require.NoError(w.T, err)
	port, err := strconv.Atoi(text)
	require.NoError(w.T, err)
	return host, port
}

// FilePlaces saves one destination of each protocol for files, by its protocol.
func (w *World) FilePlaces() map[string]string {
	w.T.Helper()
	folder := filepath.Join(w.Dir, "folders", "archive")
	require.NoError(w.T, os.MkdirAll(folder, 0o700))
	w.Place("archive", "folder", "", map[string]any{"folder": folder})
	host, port := w.HostPort(w.Out.SFTP)
	w.Place("authority sftp", "sftp", w.Out.Password, map[string]any{"host": host, "port": port, "user": w.Out.User})
	host, port = w.HostPort(w.Out.FTP)
	w.Place("authority ftp", "ftp", w.Out.Password, map[string]any{
		"host": host, "port": port, "user": w.Out.User, "ca": w.Out.CA,
	})
	w.Place("quay files", "webdav", w.Out.Password, map[string]any{
		"url": "http://" + w.Out.WebDAV + "/", "user": w.Out.User,
	})
	w.Place("board store", "s3", w.Out.Password, map[string]any{
		"url": "http://" + w.Out.Objects, "bucket": "reports", "prefix": "board", "user": w.Out.User,
	})
	w.Place("ledger office", "http", "a key", map[string]any{
		"url": "http://" + w.Out.Receiver + "/in", "method": "PUT",
	})
	w.Place("quay printer", "ipp", "", map[string]any{"url": "ipp://" + w.Out.Printer + "/ipp/print"})
	return map[string]string{
		"folder": "archive", "sftp": "authority sftp", "ftp": "authority ftp", "webdav": "quay files",
		"s3": "board store", "http": "ledger office", "ipp": "quay printer",
	}
}

// Fetched is the content of a file as the other side has it.
func (w *World) Fetched(protocol, path string) (string, bool) {
	w.T.Helper()
	switch protocol {
	case "folder":
		text, err := os.ReadFile(filepath.Join(w.Dir, "folders", "archive", path))
		return string(text), err == nil
	case "s3":
		return string(w.Get(w.Out.Inbox + "/api/objects/board/" + strings.ReplaceAll(path, " ", "%20"))), true
	case "http":
		var all []struct{ Path, Body string }
		require.NoError(w.T, json.Unmarshal(w.Get(w.Out.Inbox+"/api/received"), &all))
		for _, r := range all {
			if r.Path == "/in/"+path {
				return r.Body, true
			}
		}
		return "", false
	}
	text, err := os.ReadFile(filepath.Join(w.Out.Folder, protocol, path))
	return string(text), err == nil
}

// Beside starts a second node on the same records and files.
func (w *World) Beside() *World {
	w.T.Helper()
	second := *w
	second.Listen = FreeAddress(w.T)
	second.C = client.New("http://"+second.Listen, w.Token)
	second.Start("-node", "second")
	return &second
}
