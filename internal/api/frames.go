package api

import (
	"encoding/json"
	"html"
	"io"
	"mime"
	"net/http"
	"strings"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/proof"
)

// framePolicy is what a frame may do: show what stands in it.
const framePolicy = "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:; frame-ancestors 'self'"

// frameRequest is what a frame is to show: one output of a report that is being written.
type frameRequest struct {
	Report string     `json:"report"`
	Output job.Output `json:"output"`
	wire.LookRequest
}

// frame answers a form of the console whose target is a frame: a report as it will arrive,
// the pages of a PDF, a sheet, a slide, a mail, a page of HTML. Such an answer is shut off from the console: in
// it no script runs and nothing is fetched. It is no part of the described API: its body
// is a form with one field, ask, as forms alone can fill a frame by POST.
func (s *server) frame(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("X-Frame-Options", "SAMEORIGIN")
	h.Set("Content-Security-Policy", framePolicy)
	who, _ := person(r.Context())
	r.Body = http.MaxBytesReader(w, r.Body, maxBody)
	var in frameRequest
	if err := json.Unmarshal([]byte(r.PostFormValue("ask")), &in); err != nil {
		frameSays(w, http.StatusBadRequest, "What is to be shown cannot be read: "+err.Error())
		return
	}
	made, err := s.Service.Reports.Make(r.Context(), who, reportPath{in.Report}.look(in.LookRequest), []job.Output{in.Output})
	if err != nil {
		frameSays(w, http.StatusUnprocessableEntity, s.problem(err).Error())
		return
	}
	defer made.Remove()
	if len(made.Files) != 1 {
		frameSays(w, http.StatusOK, "It would be several files; choose a single section to look at one.")
		return
	}
	f := made.Files[0]
	file, err := made.Open(r.Context(), f)
	if err != nil {
		s.Log.Error("a file could not be read", "file", f.Name, "error", err)
		frameSays(w, http.StatusInternalServerError, "The file could not be read: "+fault.Reason(err))
		return
	}
	defer func() { _ = file.Close() }() // only read from
	s.showFile(w, r, f, file)
}

// showFile answers a frame with a file, as it can be looked at in a browser.
func (s *server) showFile(w http.ResponseWriter, r *http.Request, f job.Artifact, file io.ReadSeeker) {
	h := w.Header()
	kind, _, _ := mime.ParseMediaType(f.MediaType)
	switch {
	case proof.Can(kind):
		h.Set("Content-Type", "text/html; charset=utf-8")
		if err := proof.Write(r.Context(), w, kind, file); err != nil {
			s.Log.Info("a file could not be drawn", "file", f.Name, "error", err)
			frameSays(w, http.StatusOK, "It cannot be shown here: "+fault.Reason(err)+".")
		}
		return
	case kind == "text/html", strings.HasPrefix(kind, "image/"):
	case strings.HasPrefix(kind, "text/"), kind == "application/json":
		f.MediaType = "text/plain; charset=utf-8"
	default:
		frameSays(w, http.StatusOK, "A browser does not show a file of this kind; fetch it to look at it.")
		return
	}
	h.Set("Content-Type", f.MediaType)
	h.Set("Content-Disposition", mime.FormatMediaType("inline", map[string]string{"filename": f.Name}))
	if _, err := io.Copy(w, file); err != nil {
		s.Log.Info("a reader left before its file ended", "file", f.Name, "error", err)
	}
}

// frameSays answers a frame with a sentence.
func frameSays(w http.ResponseWriter, status int, sentence string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	// a reader that left needs no answer
	_, _ = io.WriteString(w, `<!doctype html><title>Iron Bell</title><style>body{font:14px/1.5 sans-serif;margin:24px;`+
		`color:#24272b;background:#fbf8f2}</style><p>`+html.EscapeString(sentence))
}
