package cli

import (
	"bytes"
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A service of another version says so where its refusal might be due to it, and when it is asked.
func TestAServiceOfAnotherVersionIsNamed(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Server", "Iron-Bell/2020.01.31.0900+0a1b2c3")
		if r.URL.Path == "/api/version" {
			_, _ = w.Write([]byte(`{"version":"2020.01.31.0900+0a1b2c3"}`))
			return
		}
		w.WriteHeader(http.StatusUnprocessableEntity)
		_, _ = w.Write([]byte(`{"detail":"There is no such thing here."}`))
	}))
	defer service.Close()
	t.Setenv("IRONBELL_URL", service.URL)
	t.Setenv("IRONBELL_TOKEN", "token")
	call := func(args ...string) (out, errs string, status int) {
		var o, e bytes.Buffer
		status = Main(context.Background(), "ironbell", args, IO{In: strings.NewReader(""), Out: &o, Err: &e})
		return o.String(), e.String(), status
	}
	out, errs, status := call("version")
	assert.Zero(t, status, errs)
	assert.Contains(t, out, "service  2020.01.31.0900+0a1b2c3, at "+service.URL)
	assert.Contains(t, out, "This service is of another version than this client")
	_, errs, status = call("nodes")
	assert.Equal(t, exitError, status)
	assert.Contains(t, errs, "There is no such thing here.\n  This service is of another version than this client")
}
