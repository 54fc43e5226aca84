package torture

import (
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"ironbell/internal/store"
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
		ids, err := t.RunIDs(ctx, 100)
		if err != nil {
			return err
		}
		runs := make([]store.NewRun, len(ids))
		for i, id := range ids {
			now := time.Now()
			runs[i] = store.NewRun{ID: id, JobID: j.ID, Job: j.Name, JobVersion: j.Version, Why: "by hand", Nominal: now, Due: now, Zone: j.Zone, Priority: 100}
		}
		return t.AddRuns(ctx, runs)
	}))
	h.until(30*time.Second, "the nodes have their hands full", func() bool { return h.number(`SELECT count(*) FROM parts WHERE state = 'running'`) >= 60 })
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
