package mail

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"mime"
	"net/http"
	"slices"
	"strconv"

	"ironbell/standin/gate"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"kb": func(n int) string { return fmt.Sprintf("%.1f kB", float64(n)/1000) },
}).Parse(pageText))

// Steered is a stand-in that takes orders.
type Steered interface {
	Name() string
	Address() string
	Modes() []gate.Mode
	Behave(b gate.Behaviour) error
	Behaviour() gate.Behaviour
}

// Deed is something that a button of the page lets happen.
type Deed struct{ Name, Title string }

// Handler serves the inbox as pages for people and as JSON for programs, and
// takes orders on how the servers shall behave.
func Handler(inbox *Inbox, deeds func() []Deed, servers ...Steered) http.Handler {
	mux := http.NewServeMux()
	message := func(w http.ResponseWriter, r *http.Request) *Message {
		id, err := strconv.Atoi(r.PathValue("id"))
		if m, ok := inbox.Get(id); ok && err == nil {
			return m
		}
		http.Error(w, "There is no such message.", http.StatusNotFound)
		return nil
	}
	show := func(w http.ResponseWriter, m *Message) {
		all := inbox.All()
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		// a reader that left needs no answer
		_ = page.Execute(w, map[string]any{
			"All": all[:min(len(all), 200)], "Count": len(all), "One": m, "Servers": servers, "Deeds": deeds(),
		})
	}
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		var newest *Message
		if all := inbox.All(); len(all) > 0 {
			newest = all[0]
		}
		show(w, newest)
	})
	mux.HandleFunc("GET /messages/{id}", func(w http.ResponseWriter, r *http.Request) {
		if m := message(w, r); m != nil {
			show(w, m)
		}
	})
	mux.HandleFunc("GET /messages/{id}/html", func(w http.ResponseWriter, r *http.Request) {
		if m := message(w, r); m != nil {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().Set("Content-Security-Policy",
				"default-src 'none'; style-src 'unsafe-inline'; img-src data:; sandbox")
			_, _ = w.Write([]byte(m.Shown())) // a reader that left needs no answer
		}
	})
	mux.HandleFunc("GET /messages/{id}/files/{n}", func(w http.ResponseWriter, r *http.Request) {
		m := message(w, r)
		if m == nil {
			return
		}
		n, err := strconv.Atoi(r.PathValue("n"))
		if err != nil || n < 0 || n >= len(m.Attachments) {
			http.Error(w, "There is no such attachment.", http.StatusNotFound)
			return
		}
		a := m.Attachments[n]
		w.Header().Set("Content-Type", a.MediaType)
		w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": a.Name}))
		_, _ = w.Write(a.content) // a reader that left needs no answer
	})
	mux.HandleFunc("GET /messages/{id}/raw", func(w http.ResponseWriter, r *http.Request) {
		if m := message(w, r); m != nil {
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			_, _ = w.Write(m.raw) // a reader that left needs no answer
		}
	})
	mux.HandleFunc("GET /api/messages", func(w http.ResponseWriter, _ *http.Request) { answer(w, inbox.All()) })
	mux.HandleFunc("DELETE /api/messages", func(w http.ResponseWriter, _ *http.Request) {
		inbox.Clear()
		w.WriteHeader(http.StatusNoContent)
	})
	find := func(w http.ResponseWriter, name string) Steered {
		at := slices.IndexFunc(servers, func(s Steered) bool { return s.Name() == name })
		if at < 0 {
			http.Error(w, "There is no such server.", http.StatusNotFound)
			return nil
		}
		return servers[at]
	}
	behave := func(w http.ResponseWriter, s Steered, b gate.Behaviour) bool {
		if !slices.Contains(s.Modes(), b.Mode) {
			http.Error(w, "There is no such mode.", http.StatusUnprocessableEntity)
			return false
		}
		if err := s.Behave(b); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return false
		}
		return true
	}
	mux.HandleFunc("PUT /api/servers/{name}", func(w http.ResponseWriter, r *http.Request) {
		s := find(w, r.PathValue("name"))
		if s == nil {
			return
		}
		var b gate.Behaviour
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 10_000)).Decode(&b); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		if behave(w, s, b) {
			answer(w, s.Behaviour())
		}
	})
	mux.HandleFunc("POST /servers/{name}", func(w http.ResponseWriter, r *http.Request) {
		s := find(w, r.PathValue("name"))
		if s != nil && behave(w, s, gate.Behaviour{Mode: gate.Mode(r.FormValue("mode")), Delay: 5000}) {
			http.Redirect(w, r, "/", http.StatusSeeOther)
		}
	})
	return http.NewCrossOriginProtection().Handler(mux)
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // a reader that left needs no answer
}
