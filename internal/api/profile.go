package api

import (
	"fmt"
	"net/http"
	"runtime/pprof"
	"strconv"
	"time"

	"ironbell/internal/access"

	"github.com/go-chi/chi/v5"
)

// profiles serves /api/profile/cpu (?seconds=10) and the profiles of package runtime/pprof
// by their names: heap, allocs, goroutine, and those that are switched on elsewhere. One
// node answers: the one that is asked.
func (s *server) profiles(r chi.Router) {
	r.Use(administrators)
	r.Get("/cpu", s.profileProcessor)
	r.Get("/{name}", func(w http.ResponseWriter, r *http.Request) {
		p := pprof.Lookup(chi.URLParam(r, "name"))
		if p == nil {
			writeProblem(w, http.StatusNotFound,
				"There is no profile of this name; there are cpu, heap, allocs and goroutine.")
			return
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		if err := p.WriteTo(w, 0); err != nil {
			s.Log.Warn("could not write a profile", "error", err)
		}
	})
}

func (s *server) profileProcessor(w http.ResponseWriter, r *http.Request) {
	lasts := 10 * time.Second
	if text := r.URL.Query().Get("seconds"); text != "" {
		n, err := strconv.Atoi(text)
		if lasts = time.Duration(n) * time.Second; err != nil || n < 1 || lasts > longestProfile {
			writeProblem(w, http.StatusUnprocessableEntity,
				fmt.Sprintf("seconds is a whole number from 1 to %d.", int(longestProfile/time.Second)))
			return
		}
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	if err := pprof.StartCPUProfile(w); err != nil {
		writeProblem(w, http.StatusConflict,
			"Another profile of the processor is being taken at this node; ask again when it has ended.")
		return
	}
	defer pprof.StopCPUProfile()
	select {
	case <-time.After(lasts):
	case <-r.Context().Done():
	}
}

// Where a node spends its time and memory, for administrators and go tool pprof. What is
// told are names of functions and numbers, nothing of what they work with.

// longestProfile bounds for how long the processor is looked at.
const longestProfile = time.Minute

// administrators lets only those pass who may administer.
func administrators(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p, ok := person(r.Context())
		if !ok {
			writeProblem(w, http.StatusUnauthorized, needSignIn)
			return
		}
		if err := access.May(p, access.Administer, "", ""); err != nil {
			writeProblem(w, http.StatusForbidden, err.Error())
			return
		}
		next.ServeHTTP(w, r)
	})
}
