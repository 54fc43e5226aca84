package test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Which version it is stands wherever somebody may look for it.
func TestTheVersionIsToldEverywhere(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	out, errs, status := w.Ironbell("version", "-json")
	require.Zero(t, status, errs)
	var said struct{ Client, Service, Says string }
	require.NoError(t, json.Unmarshal([]byte(out), &said))
	assert.Regexp(t, `^(\d{4}\.\d\d\.\d\d\.\d{4}\+[0-9a-f]{7}(\.changed)?|development)$`, said.Service)
	assert.Equal(t, said.Client, said.Service, "one program is both")
	assert.Empty(t, said.Says)

	res, err := http.Get("http://" + w.Listen + "/api/version")
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, http.StatusOK, res.StatusCode, "nobody needs to sign in for it")
	assert.Equal(t, "Iron-Bell/"+said.Service, res.Header.Get("Server"))
	code, _, numbers := world.Call(t, http.DefaultClient, http.MethodGet, "http://"+w.Listen+"/metrics", "", "")
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, numbers, `ironbell_build_info{version="`+said.Service+`"} 1`)
	log, err := os.ReadFile(filepath.Join(w.Dir, "service.log"))
	require.NoError(t, err)
	first, _, _ := bytes.Cut(log, []byte("\n"))
	assert.Contains(t, string(first), "version="+said.Service, "before anything that may go wrong")
	out, errs, status = w.Ironbell("nodes")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "version "+said.Service+",")

	w.Report("Ports", "SELECT code FROM ports")
	w.Job("Board", world.Definition("Ports", "company mail", []string{"csv"}, "a@tarnwick.example"))
	require.Equal(t, job.RunDone, w.Ring("Board").State)
	assert.Contains(t, w.Raw(w.Inbox("a@tarnwick.example")[0]), "User-Agent: Iron-Bell/"+said.Service+"\r\n")

	w.Stopped()
	out, _, status = w.Ironbell("version")
	assert.Zero(t, status)
	assert.Contains(t, out, "does not answer, so that its version is not known.")
}
