package torture

import (
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/rings"
	"ironbell/internal/task"
	"ironbell/standin/gate"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// burst gives every node its hands full of slow work, that nobody rang for.
func (h *harness) burst() {
	h.t.Helper()
	ctx := context.Background()
	require.NoError(h.t, h.store.Do(ctx, func(t *store.Tx) error {
		j, err := t.Job(ctx, "job 0007 slow 3s")
		if err != nil {
			return err
		}
		runs := make([]rings.NewRun, 100)
		for i := range runs {
			now := time.Now()
			runs[i] = rings.NewRun{
				JobID: j.ID, Job: j.Name, JobVersion: j.Version, Why: "by hand", Nominal: now, Due: now, Zone: j.Zone,
				Priority: 100,
			}
		}
		return t.AddRuns(ctx, runs)
	}))
	h.until(30*time.Second, "the nodes have their hands full",
		func() bool { return h.number(`SELECT count(*) FROM parts WHERE state = 'running'`) >= 60 })
}

// pick chooses a node that is alive.
func (h *harness) pick(random *rand.Rand) int {
	for {
		i := random.IntN(len(h.nodes))
		select {
		case <-h.nodes[i].Ended():
		default:
			return i
		}
	}
}

func (h *harness) behave(b gate.Behaviour, d time.Duration) {
	h.t.Helper()
	require.NoError(h.t, h.mail.Behave(b))
	time.Sleep(d)
	require.NoError(h.t, h.mail.Behave(gate.Behaviour{Mode: gate.Accept}))
}

// exhaust takes all connections that the database gives, for a while.
func (h *harness) exhaust(d time.Duration) {
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	var taken []*pgx.Conn
	for range 200 {
		conn, err := pgx.Connect(ctx, h.pg.DSN("ironbell"))
		if err != nil {
			break
		}
		taken = append(taken, conn)
	}
	h.note("took %d connections", len(taken))
	time.Sleep(d)
	for _, conn := range taken {
		_ = conn.Close(ctx)
	}
}

// fill makes the disk of the artifacts full for a while.
func (h *harness) fill(d time.Duration) {
	h.t.Helper()
	dir := filepath.Join(h.dir, "artifacts")
	if os.Geteuid() != 0 {
		require.NoError(h.t, os.Chmod(dir, 0o500))
		time.Sleep(d)
		require.NoError(h.t, os.Chmod(dir, 0o700))
		return
	}
	path := filepath.Join(dir, "full")
	f, err := os.Create(path)
	require.NoError(h.t, err)
	block := make([]byte, 1<<20)
	for range 2 * diskMegabytes() {
		if _, err = f.Write(block); err != nil {
			break
		}
	}
	h.note("the disk says: %v", err)
	time.Sleep(d)
	require.NoError(h.t, f.Close())
	require.NoError(h.t, os.Remove(path))
}

// vanish takes the folder of a destination away for a while.
func (h *harness) vanish(d time.Duration) {
	h.t.Helper()
	require.NoError(h.t, os.Rename(h.folder(), h.folder()+".away"))
	time.Sleep(d)
	require.NoError(h.t, os.Rename(h.folder()+".away", h.folder()))
}

// unseen is the strain of the nodes to whoever only saves jobs.
type unseen struct{}

func (unseen) Help() task.Help { return task.Help{Kind: job.KindCollect} }

func (unseen) Check(context.Context, *task.Checking, string, job.Task) error { return nil }

func (unseen) Run(context.Context, task.Work, job.Task) (task.Result, error) {
	return task.Result{}, errors.New("only nodes work")
}

// beside does, side by side with everything else, what goes on all day: jobs are saved
// and switched, old records are swept, and now and then the answer to a commit is
// lost. What it gives stops it and tells how often each was done.
func (h *harness) beside(all map[int64]ringing, random *rand.Rand) (stop func() map[string]int) {
	var saved, switched []ringing
	for _, r := range all {
		if r.switched {
			switched = append(switched, r)
		} else {
			saved = append(saved, r)
		}
	}
	byName := func(a, b ringing) int { return strings.Compare(a.name, b.name) }
	slices.SortFunc(saved, byName)
	slices.SortFunc(switched, byName)
	base := h.t.Context()
	ctx, cancel := context.WithCancel(base)
	done := map[string]int{}
	var ended sync.WaitGroup
	ended.Go(func() {
		on := map[string]time.Time{}
		for _, r := range switched {
			on[r.name] = time.Now().Add(h.offset())
		}
		for n := 0; ctx.Err() == nil; n++ {
			var name string
			var err error
			within, end := context.WithTimeout(base, 20*time.Second)
			switch draw := random.IntN(10); {
			case draw < 4:
				name, err = "a job is saved", h.saveAgain(within, saved[random.IntN(len(saved))])
			case draw < 6:
				name, err = "a job is switched", h.switchOver(within, switched[random.IntN(len(switched))], on)
			case draw < 7:
				name, err = "old records are swept", h.sweep(within)
			default:
				name = "the answer to a commit is lost"
				h.mayBreak(1) // it may be that of an offer
				h.line.Lose(1)
			}
			end()
			if err == nil {
				done[name]++
			}
			time.Sleep(time.Duration(50+random.IntN(200)) * time.Millisecond)
		}
		// All are on at the end, as in the beginning.
		for _, r := range switched {
			for tries := 0; on[r.name].IsZero() && tries < 50; tries++ {
				within, end := context.WithTimeout(base, 20*time.Second)
				if h.switchOver(within, r, on) != nil {
					time.Sleep(200 * time.Millisecond)
				}
				end()
			}
			until := time.Now().Add(h.offset())
			if perhaps, known := h.offs[r.name]; known {
				until = perhaps
			}
			h.ons[r.name] = append(h.ons[r.name], span{on[r.name], until})
		}
	})
	return func() map[string]int {
		cancel()
		ended.Wait()
		return done
	}
}

// saveAgain saves a job as it is: its due times go on as if nothing had been.
func (h *harness) saveAgain(ctx context.Context, r ringing) error {
	j, err := h.store.Job(ctx, r.name)
	if err != nil {
		return err
	}
	_, err = h.service.Jobs.Save(ctx, h.person, r.name, "mara", true, j.Definition)
	return err
}

// switchOver switches a job off, or on again, and keeps in mind when it was surely on.
func (h *harness) switchOver(ctx context.Context, r ringing, on map[string]time.Time) error {
	since := on[r.name]
	before := time.Now().Add(h.offset())
	if _, err := h.service.Jobs.Switch(ctx, h.person, r.name, since.IsZero()); err != nil {
		// Its answer may be what was lost: from here on it is perhaps off.
		if _, known := h.offs[r.name]; !since.IsZero() && !known {
			h.offs[r.name] = before
		}
		return err
	}
	if since.IsZero() {
		on[r.name] = time.Now().Add(h.offset())
		return nil
	}
	if perhaps, known := h.offs[r.name]; known {
		before = perhaps
		delete(h.offs, r.name)
	}
	delete(on, r.name)
	h.ons[r.name] = append(h.ons[r.name], span{since, before})
	return nil
}

// sweep removes what was kept long enough, which is nothing here.
func (h *harness) sweep(ctx context.Context) error {
	return errors.Join(h.store.EnsureMonths(ctx), h.store.SweepHistory(ctx),
		h.store.SweepOld(ctx, job.KeepingSettings{}.WithDefaults()), h.store.DropMonths(ctx))
}
