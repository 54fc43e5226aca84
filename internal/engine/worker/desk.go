package worker

import (
	"sync"
	"time"
)

// desk knows how many claimed parts lie before the workers.
type desk struct {
	mu     sync.Mutex
	usual  time.Duration // how long a part takes, smoothed
	queued int           // claimed, not begun
	busy   int           // at work
}

// room is how many parts to claim now; while parts are quick, it is zero until a
// claim is worth it.
func (d *desk) room(workers int) int {
	d.mu.Lock()
	defer d.mu.Unlock()
	ahead := 0
	if d.usual > 0 && d.usual < quick {
		ahead = int(min(int64(maxAhead), int64(quick/d.usual)))
	}
	n := workers + ahead - d.queued - d.busy
	if ahead > 0 && n < (workers+ahead)/2 {
		return 0
	}
	return max(n, 0)
}

// queue notes parts that were claimed.
func (d *desk) queue(n int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.queued += n
}

// begin notes that a worker takes a part.
func (d *desk) begin() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.queued--
	d.busy++
}

// end notes that a worker is done with one, and how long that took.
func (d *desk) end(took time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.busy--
	d.usual = max(1, d.usual+(took-d.usual)/8)
}
