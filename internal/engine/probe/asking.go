package probe

import (
	"context"
	"sync"
)

// AsksAtOnce is how many others this node asks at once how they are.
const AsksAtOnce = 8

// asking bounds how many others are asked at once how they are, each of them once at a
// time: one that hangs holds up nobody else. Questions begin in one goroutine, that of
// probe.
type asking struct {
	mu   sync.Mutex
	whom map[string]bool
	all  sync.WaitGroup
}

func newAsking() *asking { return &asking{whom: map[string]bool{}} }

// free tells whether somebody else may be asked now.
func (a *asking) free() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.whom) < AsksAtOnce
}

// ask asks somebody beside all else, unless they are being asked already or nobody else
// may be asked now.
func (pb *Prober) ask(ctx context.Context, whom, doing string, question func() error) {
	a := pb.asking
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.whom[whom] || len(a.whom) >= AsksAtOnce {
		return
	}
	a.whom[whom] = true
	a.all.Go(func() {
		if err := question(); err != nil {
			pb.node.Failed(ctx, doing, err)
		}
		a.mu.Lock()
		delete(a.whom, whom)
		a.mu.Unlock()
		pb.node.Probe.Wake()
	})
}
