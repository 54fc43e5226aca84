package access

import (
	"strings"
	"sync"
	"time"
)

// How many tries to sign in may fail within a minute.
const (
	triesOfPair    = 10  // of one login from one address
	triesOfAddress = 100 // from one address, whatever the logins
)

// Tries counts tries to sign in that failed, on this node. A login alone is never counted:
// whoever knows somebody's could shut them out with it. It may be used by several
// goroutines.
type Tries struct {
	mu     sync.Mutex
	minute time.Time
	counts map[string]int
}

// Take counts a try before it is made, so that many at once are not let through together,
// and tells whether it may be made. One that went well is given back.
func (t *Tries) Take(now time.Time, login, address string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if minute := now.Truncate(time.Minute); !minute.Equal(t.minute) {
		t.minute, t.counts = minute, map[string]int{}
	}
	pair := pairOf(login, address)
	if t.counts[pair] >= triesOfPair || t.counts[address] >= triesOfAddress {
		return false
	}
	t.counts[pair]++
	t.counts[address]++
	return true
}

// GiveBack takes a try back that did not fail.
func (t *Tries) GiveBack(now time.Time, login, address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !now.Truncate(time.Minute).Equal(t.minute) {
		return
	}
	t.counts[pairOf(login, address)]--
	t.counts[address]--
}

func pairOf(login, address string) string { return address + " " + strings.ToLower(login) }
