package worker

import (
	"sync"
	"time"
)

// slots counts what claimed parts wait for a worker, and those at work.
type slots struct {
	mu     sync.Mutex
	usual  time.Duration // how long a part takes, smoothed
	queued int           // claimed, not begun
	busy   int           // at work
}

// room is how many parts to claim now; while parts are quick, it is zero until a
// claim is worth it.
func (s *slots) room(workers int) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	ahead := 0
	if s.usual > 0 && s.usual < quick {
		ahead = int(min(int64(maxAhead), int64(quick/s.usual)))
	}
	n := workers + ahead - s.queued - s.busy
	if ahead > 0 && n < (workers+ahead)/2 {
		return 0
	}
	return max(n, 0)
}

// queue notes parts that were claimed.
func (s *slots) queue(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.queued += n
}

// begin notes that a worker takes a part.
func (s *slots) begin() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.queued--
	s.busy++
}

// end notes that a worker is done with one, and how long that took.
func (s *slots) end(took time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.busy--
	s.usual = max(1, s.usual+(took-s.usual)/8)
}
