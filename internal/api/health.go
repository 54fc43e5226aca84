package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"ironbell/internal/core/job"
)

// health tells whether the service is alive, and whether there are alerts that it
// could tell nobody of: whoever watches it from outside is the last to be told.
func (s *server) health(w http.ResponseWriter, r *http.Request) {
	ctx, stop := context.WithTimeout(r.Context(), 2*time.Second)
	defer stop()
	out := map[string]any{"state": "alive"}
	n, err := s.Store.UnreachedAlerts(ctx)
	switch {
	case err != nil:
		out["alerts"] = "not known: the database does not answer"
	case n > 0:
		out["state"], out["unreached_alerts"] = "nobody can be told", n
		out["detail"] = fmt.Sprintf("%d alerts are open of which nobody could be told. Sign in and look at Today.", n)
		writeJSON(w, http.StatusServiceUnavailable, out)
		return
	}
	writeJSON(w, http.StatusOK, out)
}

// metrics gives a few numbers in the text form of Prometheus (exposition format
// 0.0.4): what needs somebody, and what waits.
func (s *server) metrics(w http.ResponseWriter, r *http.Request) {
	ctx, stop := context.WithTimeout(r.Context(), 3*time.Second)
	defer stop()
	n, err := s.Store.Watched(ctx)
	if err != nil {
		http.Error(w, "The database does not answer.", http.StatusServiceUnavailable)
		return
	}
	var b strings.Builder
	gauge := func(name, help string, value int) {
		fmt.Fprintf(&b, "# HELP ironbell_%s %s\n# TYPE ironbell_%s gauge\nironbell_%s %d\n", name, help, name, name, value)
	}
	gauge("alerts_open", "Alerts that nobody has taken on.", n.Open)
	gauge("alerts_unreached", "Alerts of which nobody could be told.", n.Unreached)
	gauge("destinations_resting", "Destinations that do not work.", n.Resting)
	gauge("deliveries_waiting", "Deliveries that wait for their turn or a retry.", n.Waiting)
	fmt.Fprintf(&b, "# HELP ironbell_deliveries_kept_back Deliveries that are kept back, by reason.\n# TYPE ironbell_deliveries_kept_back gauge\n")
	for _, why := range []job.KeptBack{job.KeptForRest, job.KeptForYes, job.KeptForSilent} {
		fmt.Fprintf(&b, "ironbell_deliveries_kept_back{reason=%q} %d\n", why, n.KeptBack[why])
	}
	w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
	_, _ = w.Write([]byte(b.String())) // a reader that left needs no answer
}
