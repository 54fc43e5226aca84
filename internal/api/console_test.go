package api

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
)

func TestTheConsoleThatIsNotBuiltSaysSo(t *testing.T) {
	answer := func(files fstest.MapFS, method, path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		console(files).ServeHTTP(w, httptest.NewRequest(method, path, nil))
		return w
	}
	w := answer(fstest.MapFS{".keep": {}}, http.MethodGet, "/jobs")
	assert.Equal(t, http.StatusNotFound, w.Code)
	assert.Contains(t, w.Body.String(), "The console is not built into this program. Type: make console build")

	built := fstest.MapFS{"index.html": {Data: []byte("<!doctype html>")}, "assets/a.js": {Data: []byte("1")}}
	for path, want := range map[string]int{
		"/": 200, "/jobs/3": 200, "/assets/a.js": 200, "/assets/b.js": 404, "/../../etc/passwd": 200,
	} {
		w := answer(built, http.MethodGet, path)
		assert.Equal(t, want, w.Code, path)
		assert.NotContains(t, w.Body.String(), "root:", path)
	}
	assert.Equal(t, http.StatusMethodNotAllowed, answer(built, http.MethodPost, "/").Code)
}
