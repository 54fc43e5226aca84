package api

import (
	"io/fs"
	"net/http"
	"path"
	"strings"
)

// console serves the built console. Every address that is no file is a page of
// it, so the page itself is given and finds its way from the address.
func console(files fs.FS) http.Handler {
	index, err := fs.ReadFile(files, "index.html")
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			writeProblem(w, http.StatusMethodNotAllowed, "Here are only pages to read.")
			return
		}
		if err != nil {
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			w.WriteHeader(http.StatusNotFound)
			// a reader that left needs no answer
			_, _ = w.Write([]byte("The console is not built into this program. Type: make console build\nThe API " +
				"works: /api/openapi.json describes it.\n"))
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(files, name); err == nil && !info.IsDir() && name != "index.html" {
			if strings.HasPrefix(name, "assets/") {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(w, r)
			return
		}
		if strings.HasPrefix(name, "assets/") {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		_, _ = w.Write(index) // a reader that left needs no answer
	})
}
