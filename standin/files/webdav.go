package files

import (
	"crypto/subtle"
	"net"
	"net/http"
	"time"

	"ironbell/standin/gate"

	"golang.org/x/net/webdav"
)

// WebDAV is a server of the protocol WebDAV.
type WebDAV struct {
	*gate.Gate
	disk *disk
}

// StartWebDAV starts a server on a folder.
func StartWebDAV(name, address, folder, user, password string) (*WebDAV, error) {
	w := &WebDAV{}
	w.disk = open(folder, func() gate.Behaviour { return w.Behaviour() }, func() { w.Break() })
	dav := &webdav.Handler{FileSystem: forWeb{w.disk}, LockSystem: webdav.NewMemLS()}
	handler := http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		u, p, _ := r.BasicAuth()
		b := w.disk.concerns(r.URL.Path)
		switch {
		case u != user || subtle.ConstantTimeCompare([]byte(p), []byte(password)) != 1 || b.Mode == gate.Expired:
			out.Header().Set("WWW-Authenticate", `Basic realm="files"`)
			http.Error(out, "Who are you?", http.StatusUnauthorized)
		case b.Mode == gate.Full && r.Method == http.MethodPut:
			http.Error(out, "No room left.", http.StatusInsufficientStorage)
		case b.Mode == gate.Refuse && r.Method == http.MethodPut:
			http.Error(out, "Not here.", http.StatusForbidden)
		default:
			dav.ServeHTTP(out, r)
		}
	})
	var err error
	w.Gate, err = gate.Open(name, address, func(l net.Listener) {
		_ = (&http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}).Serve(l) // ends when it is closed
	})
	return w, err
}

// Modes are the ways in which it can behave.
func (w *WebDAV) Modes() []gate.Mode { return modes }
