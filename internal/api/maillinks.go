package api

import (
	"embed"
	"fmt"
	"html/template"
	"net/http"
	"strconv"

	"ironbell/internal/core/job"

	"github.com/go-chi/chi/v5"
)

func (s *server) ask(w http.ResponseWriter, a asked) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer")
	if a.Status != 0 {
		w.WriteHeader(a.Status)
	}
	if err := mailLinkPage.Execute(w, a); err != nil {
		s.Log.Warn("could not show a page", "error", err)
	}
}

// mailLinks serves the links in mails that act without a sign-in. Each shows on
// GET, which mail programs follow by themselves, and acts on POST.
func (s *server) mailLinks(r chi.Router) {
	// Mails of the version before lead to take-on.
	for _, path := range []string{"/acknowledge", "/take-on"} {
		r.Get(path+"/{alert}/{person}/{signature}", s.acknowledge)
		r.Post(path+"/{alert}/{person}/{signature}", s.acknowledge)
	}
	r.Get("/leave/{job}/{address}/{signature}", s.leave)
	r.Post("/leave/{job}/{address}/{signature}", s.leave)
}

func (s *server) noLink(w http.ResponseWriter, err error) {
	if !isNotFound(err) {
		s.Log.Error("a link of a mail could not be read", "error", err)
		s.ask(w, asked{
			Title: "Not now", Lines: []string{"The service cannot read its records. Try again in a moment."},
			Status: http.StatusServiceUnavailable,
		})
		return
	}
	s.ask(w, asked{
		Title:  "This link leads nowhere",
		Lines:  []string{"It was cut short on its way, or what it is about is gone. Sign in to Iron Bell instead."},
		Status: http.StatusNotFound, Back: s.URL,
	})
}

func (s *server) acknowledge(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.ParseInt(chi.URLParam(r, "alert"), 10, 64)
	who, err2 := strconv.ParseInt(chi.URLParam(r, "person"), 10, 64)
	if err != nil || err2 != nil {
		id, who = 0, 0
	}
	a, p, err := s.Service.Alerts.Link(r.Context(), id, who, chi.URLParam(r, "signature"))
	if err != nil {
		s.noLink(w, err)
		return
	}
	out := asked{Title: a.Job, Lines: []string{a.Happened, a.ForWhom, a.Advice}, Back: s.URL}
	switch {
	case a.State == job.AlertClosed:
		out.Lines = append(out.Lines, "It was put right meanwhile; there is nothing left to acknowledge.")
	case a.State == job.AlertAcknowledged:
		out.Lines = append(out.Lines, a.AcknowledgedBy+" has acknowledged it already.")
	case r.Method == http.MethodPost:
		if err := s.Service.Alerts.AcknowledgeByLink(r.Context(), a, p); err != nil {
			s.noLink(w, err)
			return
		}
		out.Lines = append(out.Lines, fmt.Sprintf("You have acknowledged it, %s. Nobody else is called.", p.Name))
	default:
		out.Lines = append(out.Lines,
			fmt.Sprintf("You are %s. When you acknowledge it, nobody else is called.", p.Name))
		out.Button = "Acknowledge"
	}
	s.ask(w, out)
}

func (s *server) leave(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.ParseInt(chi.URLParam(r, "job"), 10, 64)
	if err != nil {
		id = 0
	}
	address, j, err := s.Service.People.LeaveLink(r.Context(), id, chi.URLParam(r, "address"),
		chi.URLParam(r, "signature"))
	if err != nil {
		s.noLink(w, err)
		return
	}
	out := asked{
		Title: j.Name, Lines: []string{fmt.Sprintf("%s gets the mails of this job.", address)},
		Button: "Send me no more of these",
	}
	if r.Method == http.MethodPost {
		if err := s.Service.People.LeaveByLink(r.Context(), address, j); err != nil {
			s.noLink(w, err)
			return
		}
		out.Lines = []string{fmt.Sprintf("%s gets no more mails of this job. Its owner can put you on the list again.",
			address)}
		out.Button = ""
	}
	s.ask(w, out)
}

//go:embed maillink.html
var mailLinkFile embed.FS

var mailLinkPage = template.Must(template.ParseFS(mailLinkFile, "maillink.html"))

// asked is what a page says that a link of a mail leads to.
type asked struct {
	Title  string
	Lines  []string
	Button string // empty when there is nothing to do
	Status int
	Back   string
}
