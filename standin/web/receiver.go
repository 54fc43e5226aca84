package web

import (
	"io"
	"net/http"
	"sync"
	"time"

	"ironbell/standin/gate"
)

// Received is a request that came.
type Received struct {
	At      time.Time         `json:"at"`
	Method  string            `json:"method"`
	Path    string            `json:"path"`
	Headers map[string]string `json:"headers"`
	Size    int               `json:"size"`
	Body    string            `json:"body"` // its first 10,000 bytes
}

const maxReceived = 10_000

// Receiver takes requests and keeps them.
type Receiver struct {
	*gate.Gate
	mu   sync.Mutex
	all  []Received
	gets int
	seen map[string]bool // idempotency keys
}

// StartReceiver starts a receiver.
func StartReceiver(name, address string) (*Receiver, error) {
	r := &Receiver{seen: map[string]bool{}}
	var err error
	r.Gate, err = gate.Open(name, address, serve(http.HandlerFunc(r.take)))
	return r, err
}

// Modes are the ways in which it can behave.
func (r *Receiver) Modes() []gate.Mode {
	return []gate.Mode{gate.Accept, gate.Slow, gate.Refuse, gate.Busy, gate.Expired, gate.Drop, gate.Away}
}

func (r *Receiver) take(w http.ResponseWriter, q *http.Request) {
	b := r.Behaviour()
	body, err := io.ReadAll(io.LimitReader(q.Body, 64<<20))
	if err != nil {
		return
	}
	switch b.Mode {
	case gate.Refuse:
		http.Error(w, "Not wanted.", http.StatusUnprocessableEntity)
		return
	case gate.Busy:
		http.Error(w, "Not now.", http.StatusServiceUnavailable)
		return
	case gate.Expired:
		http.Error(w, "Who are you?", http.StatusUnauthorized)
		return
	}
	b.Pause()
	switch q.Method {
	case http.MethodPost, http.MethodPut:
		r.keep(q, body)
	case http.MethodGet:
		r.mu.Lock()
		r.gets++
		r.mu.Unlock()
	}
	if b.Mode == gate.Drop {
		r.Break()
		return
	}
	w.WriteHeader(http.StatusAccepted)
	_, _ = io.WriteString(w, "taken") // a client that left needs no answer
}

func (r *Receiver) keep(q *http.Request, body []byte) {
	in := Received{
		At: time.Now(), Method: q.Method, Path: q.URL.Path, Headers: map[string]string{}, Size: len(body),
		Body: string(body[:min(len(body), 10_000)]),
	}
	for name := range q.Header {
		in.Headers[name] = q.Header.Get(name)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if key := q.Header.Get("Idempotency-Key"); key != "" {
		if r.seen[key] {
			return
		}
		r.seen[key] = true
	}
	if len(r.all) < maxReceived {
		r.all = append(r.all, in)
	}
}

// Asked is how often it was asked by GET.
func (r *Receiver) Asked() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.gets
}

// All lists what came, the oldest first.
func (r *Receiver) All() []Received {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]Received{}, r.all...)
}
