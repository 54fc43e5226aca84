// Package torture breaks everything that can break while thousands of jobs
// ring, and then reads in the database and in the inbox whether the promise
// held: nothing lost, nothing twice.
package torture

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ironbell/internal/child"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/localpg"
	"ironbell/internal/secret"
	"ironbell/internal/store"
	"ironbell/standin/gate"
	standin "ironbell/standin/mail"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

var (
	seconds = flag.Int("seconds", 12, "how long the faults go on")
	seed    = flag.Uint64("seed", 0, "of the faults; drawn when 0")
	jobs    = flag.Int("jobs", 200, "how many jobs ring")
	every   = flag.Int("every", 20, "seconds between two rings of a job")
)

var node struct {
	once sync.Once
	path string
	err  error
}

func TestMain(m *testing.M) {
	flag.Parse()
	status := m.Run()
	if node.path != "" {
		_ = os.RemoveAll(filepath.Dir(node.path)) // a temporary folder
	}
	os.Exit(status)
}

// program builds the node once.
func program(t *testing.T) string {
	t.Helper()
	node.once.Do(func() {
		dir, err := os.MkdirTemp("", "ironbell-node-*") //nolint:usetesting // it outlives the test that makes it
		if err != nil {
			node.err = err
			return
		}
		node.path = filepath.Join(dir, "node")
		if out, err := exec.Command("go", "build", "-o", node.path, "./node").CombinedOutput(); err != nil {
			node.err = fmt.Errorf("%w: %s", err, out)
		}
	})
	require.NoError(t, node.err)
	return node.path
}

// harness is the world of a fault test.
type harness struct {
	t       *testing.T
	dir     string
	options localpg.Options
	pg      *localpg.Server
	mail    *standin.Server
	inbox   *standin.Inbox
	store   *store.Store
	mara    int64
	nodes   []*child.Child
	counts  []string // file of each node that was ever started
	atStop  int      // offers that were open when something was killed
	began   time.Time
	turns   []turn
	log     []string
}

// turn is a change of the nodes' clock.
type turn struct {
	at     time.Time
	offset time.Duration
}

func raise(t *testing.T) *harness {
	t.Helper()
	h := &harness{t: t, dir: t.TempDir(), began: time.Now()}
	require.NoError(t, os.Chmod(h.dir, 0o755))
	data, err := os.MkdirTemp("", "ironbell-torture-*") //nolint:usetesting // the server's user must reach it
	require.NoError(t, err)
	require.NoError(t, os.Chmod(data, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(data) })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	h.options = localpg.Options{Dir: data + "/data", Conns: 150, Port: l.Addr().(*net.TCPAddr).Port}
	require.NoError(t, l.Close())
	h.database()
	t.Cleanup(func() { h.pg.Stop() })
	require.NoError(t, h.pg.Ensure(context.Background(), "ironbell"))

	cert, ca, err := gate.Certificate()
	require.NoError(t, err)
	h.inbox = &standin.Inbox{}
	h.mail, err = standin.Start("mail", "127.0.0.1:0", "", "", h.inbox, cert)
	require.NoError(t, err)
	t.Cleanup(h.mail.Close)

	ctx := context.Background()
	h.store, err = store.Open(ctx, h.pg.DSN("ironbell"), store.Options{Conns: 4})
	require.NoError(t, err)
	t.Cleanup(h.store.Close)
	require.NoError(t, h.store.Migrate(ctx))
	h.mara, err = h.store.PutPerson(ctx, job.Person{Login: "mara", Name: "Mara Quill", Mail: "mara@tarnwick.example", Role: job.RoleOwner, Zone: "UTC"}, "")
	require.NoError(t, err)
	host, port, err := net.SplitHostPort(h.mail.Address())
	require.NoError(t, err)
	number, err := strconv.Atoi(port)
	require.NoError(t, err)
	settings, err := json.Marshal(deliver.MailSettings{Host: host, Port: number, From: "Iron Bell <bell@tarnwick.example>", CA: ca})
	require.NoError(t, err)
	vault, err := secret.FromFile(filepath.Join(h.dir, "key"), true)
	require.NoError(t, err)
	sealed, err := vault.Seal("destination:company mail", "")
	require.NoError(t, err)
	_, err = h.store.PutPlace(ctx, store.Destination, store.Place{Name: "company mail", Protocol: "smtp", Settings: settings, Secret: sealed})
	require.NoError(t, err)
	h.artifacts(filepath.Join(h.dir, "artifacts"))
	h.turn(0)
	return h
}

// database starts PostgreSQL, with its default durability.
func (h *harness) database() {
	h.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	pg, err := localpg.Start(ctx, h.options)
	require.NoError(h.t, err)
	h.pg = pg
}

// artifacts makes the folder of artifacts: a small disk of its own where that
// may be done.
func (h *harness) artifacts(path string) {
	h.t.Helper()
	require.NoError(h.t, os.MkdirAll(path, 0o700))
	if os.Geteuid() != 0 || syscall.Mount("tmpfs", path, "tmpfs", 0, "size=64m,mode=0700") != nil {
		h.note("the folder of artifacts is no disk of its own: a full disk is played by taking the right to write")
		return
	}
	h.t.Cleanup(func() { _ = syscall.Unmount(path, syscall.MNT_DETACH) })
}

func (h *harness) note(format string, args ...any) {
	line := fmt.Sprintf("%7.3fs ", time.Since(h.began).Seconds()) + fmt.Sprintf(format, args...)
	h.log = append(h.log, line)
}

// turn adds to the nodes' clock.
func (h *harness) turn(offset time.Duration) {
	h.t.Helper()
	path := filepath.Join(h.dir, "clock")
	require.NoError(h.t, os.WriteFile(path+".new", []byte(offset.String()), 0o600))
	require.NoError(h.t, os.Rename(path+".new", path))
	h.turns = append(h.turns, turn{time.Now(), offset})
}

// offset is what is added to the clock now.
func (h *harness) offset() time.Duration { return h.turns[len(h.turns)-1].offset }

// start starts one more node.
func (h *harness) start(crash string) *child.Child {
	h.t.Helper()
	counts := filepath.Join(h.dir, fmt.Sprintf("counts.%d", len(h.counts)))
	h.counts = append(h.counts, counts)
	cmd := exec.Command(program(h.t), "-db", h.pg.DSN("ironbell"), "-artifacts", filepath.Join(h.dir, "artifacts"), "-key", filepath.Join(h.dir, "key"),
		"-clock", filepath.Join(h.dir, "clock"), "-counts", counts, "-crash", crash)
	log, err := os.OpenFile(filepath.Join(h.dir, "nodes.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(h.t, err)
	defer func() { _ = log.Close() }()
	cmd.Stderr = log
	c, err := child.Start(cmd, syscall.SIGKILL, nil)
	require.NoError(h.t, err)
	h.t.Cleanup(func() { c.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL) })
	h.nodes = append(h.nodes, c)
	return c
}

// count counts what a node noted: o for an offer, a for its end, x for a write
// that was refused.
func (h *harness) count(c byte) int {
	n := 0
	for _, path := range h.counts {
		text, err := os.ReadFile(path)
		if err == nil {
			n += strings.Count(string(text), string(c))
		}
	}
	return n
}

// open counts the offers that are open, as at a kill: each may become unknown.
func (h *harness) open() int { return h.count('o') - h.count('a') }

// conn is a connection of the test's own.
func (h *harness) conn() *pgx.Conn {
	h.t.Helper()
	conn, err := pgx.Connect(context.Background(), h.pg.DSN("ironbell"))
	require.NoError(h.t, err)
	return conn
}

// number reads one number.
func (h *harness) number(query string, args ...any) int {
	h.t.Helper()
	conn := h.conn()
	defer func() { _ = conn.Close(context.Background()) }()
	var n int
	require.NoError(h.t, conn.QueryRow(context.Background(), query, args...).Scan(&n), query)
	return n
}

// until waits for a condition, at most so long.
func (h *harness) until(limit time.Duration, what string, holds func() bool) {
	h.t.Helper()
	for end := time.Now().Add(limit); !holds(); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			h.tell()
			h.t.Fatalf("waited %s in vain: %s", limit, what)
		}
	}
}

// tell prints the faults, and the nodes' last words.
func (h *harness) tell() {
	h.t.Helper()
	h.t.Log("faults:\n" + strings.Join(h.log, "\n"))
	text, err := os.ReadFile(filepath.Join(h.dir, "nodes.log"))
	if err == nil {
		h.t.Logf("the nodes' log ends:\n%s", text[max(0, len(text)-4000):])
	}
}

// ringing is a job of the fault test.
type ringing struct {
	name   string
	rule   string
	outage job.AfterOutage
	wait   bool // overlap wait: rings may join
	mailed bool
}

// load saves jobs that ring, and gives them by the id of their trigger.
func (h *harness) load(n, every int, start time.Time) map[int64]ringing {
	h.t.Helper()
	ctx := context.Background()
	out := map[int64]ringing{}
	require.NoError(h.t, h.store.Do(ctx, func(t *store.Tx) error {
		mails, err := t.Place(ctx, store.Destination, "company mail")
		if err != nil {
			return err
		}
		for i := range n {
			words := []string{"ok", "ok", "ok", "ok", "blank", "lasting", "passing", "slow 3s", "slow 500ms", "file"}
			word := words[i%len(words)]
			first := start.Add(time.Duration(i) * time.Duration(every) * time.Second / time.Duration(n)).Truncate(time.Second)
			r := ringing{
				name: fmt.Sprintf("job %04d %s", i, word), mailed: word == "file" || word == "blank",
				rule: fmt.Sprintf("DTSTART;TZID=Etc/UTC:%s\nRRULE:FREQ=SECONDLY;INTERVAL=%d", first.UTC().Format("20060102T150405"), every),
			}
			d := job.Definition{
				Zone: "Etc/UTC", Retry: job.Retry{Times: 20, Wait: job.Duration(time.Second)}, Overlap: job.OverlapTogether,
				Tasks: []job.Task{{Name: "strain", Kind: "strain", Query: &job.QueryTask{SQL: word}}},
			}
			switch {
			case i%50 == 0:
				r.outage = job.OutageEach
			case i%7 == 0:
				r.outage = job.OutageNone
			default:
				r.outage = job.OutageOnce
			}
			if r.wait = i%3 == 0 && r.outage != job.OutageEach; r.wait {
				d.Overlap = job.OverlapWait
			}
			if word == "blank" {
				d.Tasks[0].Kind = "strain"
			}
			if r.mailed {
				d.Tasks = append(d.Tasks, job.Task{Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: "company mail", To: []string{fmt.Sprintf("j%d@tarnwick.example", i)}, Subject: "{run}"}})
			}
			d.AfterOutage = r.outage
			d = d.WithDefaults()
			d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: r.rule}, NextDue: &first, NextNominal: &first}}
			j, err := t.PutJob(ctx, r.name, h.mara, h.mara, true, d, store.Uses{Destinations: []int64{mails.ID}, Labels: []string{"service"}})
			if err != nil {
				return err
			}
			out[j.Triggers[0].ID] = r
		}
		return nil
	}))
	return out
}

// quiet lets all that is under way come to its end.
func (h *harness) quiet(limit time.Duration) {
	h.t.Helper()
	conn := h.conn()
	_, err := conn.Exec(context.Background(), `UPDATE triggers SET next_due = NULL`)
	require.NoError(h.t, err)
	require.NoError(h.t, conn.Close(context.Background()))
	h.until(limit, "all runs and deliveries come to an end", func() bool {
		return h.number(`SELECT (SELECT count(*) FROM runs WHERE state IN ('waiting', 'running', 'delivering')) + (SELECT count(*) FROM parts WHERE state IN ('waiting', 'running'))
			+ (SELECT count(*) FROM deliveries WHERE state IN ('waiting', 'sending', 'offered') AND run_id IS NOT NULL)`) == 0
	})
}

func TestTorture(t *testing.T) {
	if *seed == 0 {
		*seed = rand.Uint64()
	}
	t.Logf("seed %d: -seed repeats these faults", *seed)
	random := rand.New(rand.NewPCG(*seed, 1))
	h := raise(t)
	start := time.Now().Add(2 * time.Second).Truncate(time.Second)
	all := h.load(*jobs, *every, start)
	for range 3 {
		h.start("")
	}
	h.until(20*time.Second, "runs are made", func() bool { return h.number(`SELECT count(*) FROM runs`) > 0 })
	faults := []struct {
		name string
		do   func()
	}{
		{"a node is killed", func() {
			i := h.pick(random)
			h.atStop += h.open()
			h.nodes[i].Stop(syscall.SIGKILL, 5*time.Second, syscall.SIGKILL)
			h.start("")
		}},
		{"a node stands still past its lease", func() {
			i := h.pick(random)
			p := h.nodes[i].Process()
			require.NoError(t, p.Signal(syscall.SIGSTOP))
			h.atStop += h.open()
			time.Sleep(4 * time.Second)
			require.NoError(t, p.Signal(syscall.SIGCONT))
		}},
		{"the database is restarted", func() {
			h.atStop += h.open()
			h.pg.Stop()
			h.database()
		}},
		{"the database ends at once and recovers", func() {
			h.atStop += h.open()
			h.pg.Crash()
			h.database()
		}},
		{"all connections are taken", func() {
			h.atStop += h.open()
			h.exhaust(1500 * time.Millisecond)
		}},
		{"the mail server hangs", func() { h.behave(gate.Behaviour{Mode: gate.Slow, Delay: 700}, 1500*time.Millisecond) }},
		{"the mail server refuses for now", func() { h.behave(gate.Behaviour{Mode: gate.Busy}, time.Second) }},
		{"the mail server drops the line after the data", func() { h.behave(gate.Behaviour{Mode: gate.Drop}, 300*time.Millisecond) }},
		{"the mail server is away", func() { h.behave(gate.Behaviour{Mode: gate.Away}, time.Second) }},
		{"the disk of the artifacts is full", func() { h.fill(time.Second) }},
		{"the clock goes seven minutes ahead", func() { h.turn(h.offset() + 7*time.Minute) }},
		{"the clock goes back", func() { h.turn(h.offset() - 4*time.Second) }},
	}
	order := random.Perm(len(faults))
	end := time.Now().Add(time.Duration(*seconds) * time.Second)
	done := map[string]int{}
	for n := 0; n < len(order) || time.Now().Before(end); n++ {
		f := faults[order[n%len(order)]]
		if n >= len(order) {
			f = faults[random.IntN(len(faults))]
		}
		h.note("%s", f.name)
		done[f.name]++
		f.do()
		time.Sleep(time.Duration(200+random.IntN(600)) * time.Millisecond)
	}
	// Nodes that write with a lease that has gone: one stands still with its
	// hands full, as often as it takes.
	for tries := 0; h.count('x') < 20 && tries < 15; tries++ {
		h.note("a node stands still with its hands full")
		h.burst()
		faults[1].do()
		time.Sleep(time.Second)
	}
	rings := h.number(`SELECT count(*) FROM rings`)
	h.quiet(3 * time.Minute)
	for _, c := range h.nodes {
		c.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
	}
	h.check(all, start)
	var said []string
	for name, n := range done {
		said = append(said, fmt.Sprintf("%d times %s", n, name))
	}
	slices.Sort(said)
	t.Logf("%d rings in %s with %d nodes: %s", rings, time.Since(h.began).Round(time.Second), len(h.counts), strings.Join(said, "; "))
	if t.Failed() {
		h.tell()
	}
}

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
	for n := 0; n < 128; n++ {
		if _, err = f.Write(block); err != nil {
			break
		}
	}
	h.note("the disk says: %v", err)
	time.Sleep(d)
	require.NoError(h.t, f.Close())
	require.NoError(h.t, os.Remove(path))
}

// sentTo is who received which run's message how often.
func (h *harness) sentTo() map[string]int {
	got := map[string]int{}
	for _, m := range h.inbox.All() {
		to, err := mail.ParseAddress(m.To[0])
		require.NoError(h.t, err)
		got[m.Subject+" "+to.Address]++
	}
	return got
}

// zoneUTC is the zone of all jobs here.
func zoneUTC(t *testing.T) *time.Location {
	t.Helper()
	z, err := zone.Load("Etc/UTC")
	require.NoError(t, err)
	return z
}

// one saves one job that rings once and sends one mail.
func (h *harness) one(at time.Time) {
	h.t.Helper()
	ctx := context.Background()
	require.NoError(h.t, h.store.Do(ctx, func(t *store.Tx) error {
		mails, err := t.Place(ctx, store.Destination, "company mail")
		if err != nil {
			return err
		}
		d := job.Definition{
			Zone: "Etc/UTC", Retry: job.Retry{Times: 5, Wait: job.Duration(time.Second)},
			Tasks: []job.Task{
				{Name: "strain", Kind: "strain", Query: &job.QueryTask{SQL: "file"}},
				{Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{Destination: "company mail", To: []string{"j0@tarnwick.example"}, Subject: "{run}"}},
			},
			Triggers: []job.Trigger{{Timing: job.Timing{Rule: "DTSTART;TZID=Etc/UTC:" + at.UTC().Format("20060102T150405") + "\nRRULE:FREQ=YEARLY;COUNT=2"}, NextDue: &at, NextNominal: &at}},
		}.WithDefaults()
		_, err = t.PutJob(ctx, "one", h.mara, h.mara, true, d, store.Uses{Destinations: []int64{mails.ID}, Labels: []string{"service"}})
		return err
	}))
}
