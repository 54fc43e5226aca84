package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/store/sending"

	"github.com/danielgtaylor/huma/v2"
)

// health tells that this process lives, and nothing else: whoever restarts processes
// acts on it.
func (s *server) health(w http.ResponseWriter, _ *http.Request) {
	writeJSON(w, http.StatusOK, map[string]string{"state": "alive"})
}

// ready tells whether this node can serve: whoever spreads requests acts on it.
func (s *server) ready(w http.ResponseWriter, r *http.Request) {
	ctx, stop := context.WithTimeout(r.Context(), 3*time.Second)
	defer stop()
	if err := s.Store.Ping(ctx); err != nil {
		writeProblem(w, http.StatusServiceUnavailable, "The database does not answer.")
		return
	}
	writeJSON(w, http.StatusOK, map[string]string{"state": "ready", "node": s.Node.Name()})
}

func (s *server) watched(ctx context.Context) (job.ServiceState, sending.Watched, error) {
	w := &s.watch
	w.mu.Lock()
	defer w.mu.Unlock()
	if time.Since(w.at) >= time.Second {
		ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second) // for all who ask
		defer stop()
		if w.state, w.err = s.Service.Installation.State(ctx); w.err == nil {
			w.n, w.err = s.Store.Watched(ctx)
		}
		w.state, w.at = outside(w.state), time.Now()
	}
	return w.state, w.n, w.err
}

// state tells what an operator must know of the installation, without names: 503 when
// somebody is needed.
func (s *server) state(w http.ResponseWriter, r *http.Request) {
	st, _, err := s.watched(r.Context())
	if err != nil {
		writeProblem(w, http.StatusServiceUnavailable, "The database does not answer.")
		return
	}
	status := http.StatusOK
	if st.Needs {
		status = http.StatusServiceUnavailable
	}
	writeJSON(w, status, st)
}

// versionOf registers the version, which is told to everybody: a client asks for it before anybody has signed in.
func (s *server) versionOf(a huma.API) {
	huma.Register(a, subject("service").get("show-version", "/api/version", "Show the version of the service", unsigned,
		says("When what it was built from was committed, in UTC, and the beginning of the commit, such as "+
			"2026.12.02.1430+a9c4426; development where nothing is known of it. Every answer of the service carries it, "+
			"too, as Server: Iron-Bell/VERSION.")), s.showVersion)
}

func (s *server) showVersion(context.Context, *struct{}) (*struct{ Body wire.Version }, error) {
	return &struct{ Body wire.Version }{wire.Version{Version: s.Version}}, nil
}

// standing registers what an operator must know, and the nodes.
func (s *server) standing(a huma.API) {
	tags := subject("service")
	huma.Register(a,
		tags.get("show-state", "/api/state",
			"Show what an operator must know: what stands still, rests, fills up, or can tell nobody",
			says("The same without names, for those who watch from outside, stands at /state, which answers 503 when "+
				"somebody is needed.")), s.showState)
	huma.Register(a, tags.get("list-nodes", "/api/nodes", "List the nodes that live, with what each works on"),
		s.listNodes)
	huma.Register(a,
		tags.post("finish-node", "/api/nodes/finish", "Let a node finish what it has and take no more work, or work on",
			refuses(403, 404), answers(http.StatusNoContent),
			says("Its rings, pages and upkeep go on. It is empty when it works on no part and no delivery.")),
		s.finishNode)
}

func (s *server) showState(ctx context.Context, _ *struct{}) (*struct{ Body job.ServiceState }, error) {
	st, err := s.Service.Installation.State(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.ServiceState }{st}, nil
}

func (s *server) listNodes(ctx context.Context, _ *struct{}) (*struct{ Body []wire.Node }, error) {
	nodes, err := s.Service.Installation.Nodes(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	out := make([]wire.Node, len(nodes))
	for i, n := range nodes {
		out[i] = wire.Node{
			Name: n.Name, Version: n.Version, Zones: n.Zones, StartedAt: n.StartedAt, SeenAt: n.SeenAt,
			Finishing: n.Finishing, Parts: n.Parts, Deliveries: n.Deliveries,
		}
	}
	return &struct{ Body []wire.Node }{out}, nil
}

func (s *server) finishNode(ctx context.Context, in *struct{ Body wire.FinishRequest }) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.orProblem(s.Service.Installation.Finish(ctx, who, in.Body.Node, !in.Body.Work))
}

// metrics gives a few numbers in the text form of Prometheus (exposition format
// 0.0.4): what needs somebody, and what waits.
func (s *server) metrics(w http.ResponseWriter, r *http.Request) {
	st, n, err := s.watched(r.Context())
	if err != nil {
		http.Error(w, "The database does not answer.", http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
	_, _ = w.Write(numbers(s.Version, n, st)) // a reader that left needs no answer
}

// watch is what those see who watch from outside. It is reckoned at most once a second
// however many ask, since nobody needs to sign in for it.
type watch struct {
	mu    sync.Mutex
	at    time.Time
	state job.ServiceState
	n     sending.Watched
	err   error // the database does not answer
}

// outside is a state without names and without what others answered.
func outside(st job.ServiceState) job.ServiceState {
	st.Lines = slices.Clone(st.Lines)
	for i := range st.Lines {
		l := &st.Lines[i]
		l.Names, l.Advice = nil, ""
		switch {
		case l.What == "installation" && l.Needs:
			l.Text = "It stands still and sends nothing until an administrator says what it is."
		case l.What == "freeze":
			l.Text = "Everything is frozen."
		case l.What == "mailbox":
			l.Text = "The mailbox for bounces cannot be read."
		case l.What == "sign of life":
			l.Text = "The last sign of life did not arrive."
		case l.What == "disk" && l.N == 0:
			l.Text = "The store of artifacts does not work."
		}
	}
	return st
}

func numbers(version string, n sending.Watched, st job.ServiceState) []byte {
	var b strings.Builder
	gauge := func(name, help string, value int) {
		fmt.Fprintf(&b, "# HELP ironbell_%s %s\n# TYPE ironbell_%s gauge\nironbell_%s %d\n", name, help, name, name,
			value)
	}
	is := map[bool]int{true: 1}
	of := func(what string) int {
		for _, l := range st.Lines {
			if l.What == what {
				return max(l.N, 1)
			}
		}
		return 0
	}
	fmt.Fprintf(&b, "# HELP ironbell_build_info The version of the service; its value is always 1.\n"+
		"# TYPE ironbell_build_info gauge\nironbell_build_info{version=%q} 1\n", version)
	gauge("somebody_needed", "Whether somebody is needed; /state says why.", is[st.Needs])
	gauge("standing_still",
		"Whether nothing rings or begins: a copy, a freeze of everything, a clock that is stuck, or nodes that "+
			"all finish.", is[st.Silent])
	gauge("alerts_open", "Alerts that nobody has acknowledged.", n.Open)
	gauge("alerts_unreached", "Alerts of which nobody could be told.", n.Unreached)
	gauge("destinations_resting", "Destinations that do not work.", n.Resting)
	gauge("sources_resting", "Sources that do not work.", of("sources"))
	gauge("store_failing", "Whether the store of artifacts is nearly full, or does not work.", min(of("disk"), 1))
	gauge("mailbox_failing", "Whether the mailbox for bounces cannot be read.", of("mailbox"))
	gauge("nodes", "Nodes that live.", of("nodes"))
	gauge("deliveries_waiting", "Deliveries that wait for their turn or a retry.", n.Waiting)
	fmt.Fprintf(&b,
		"# HELP ironbell_deliveries_kept_back Deliveries that are kept back, by reason.\n# TYPE "+
			"ironbell_deliveries_kept_back gauge\n")
	for _, why := range []job.KeptBack{job.KeptForRest, job.KeptForYes, job.KeptForSilent, job.KeptForTurn} {
		fmt.Fprintf(&b, "ironbell_deliveries_kept_back{reason=%q} %d\n", why, n.KeptBack[why])
	}
	return []byte(b.String())
}
