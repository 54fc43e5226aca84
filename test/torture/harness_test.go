package torture

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/assemble"
	"ironbell/internal/child"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/freeport"
	"ironbell/internal/localpg"
	"ironbell/internal/localpg/lossy"
	"ironbell/internal/outgoing"
	"ironbell/internal/report"
	"ironbell/internal/secret"
	"ironbell/internal/service"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/task"
	"ironbell/standin/gate"
	standin "ironbell/standin/mail"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

var node struct {
	once sync.Once
	path string
	err  error
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
	atStop  int      // offers that were open when something was killed; under mu
	line    *lossy.Line
	dsn     string // over the line
	service *service.Service
	person  job.Person
	mu      sync.Mutex
	began   time.Time
	turns   []turn
	log     []string
	ons     map[string][]span    // by the rule of a job that is switched, when it was surely on, by the nodes' clock
	offs    map[string]time.Time // when a switching off was tried whose answer did not come
}

// span is a stretch of time.
type span struct{ from, to time.Time }

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
	port, err := freeport.Find(context.Background())
	require.NoError(t, err)
	h.options = localpg.Options{Dir: data + "/data", Conns: 150, Port: port}
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
	h.mara, err = h.store.PutPerson(ctx,
		job.Person{Login: "mara", Name: "Mara Quill", Mail: "mara@tarnwick.example", Role: job.RoleOwner, Zone: "UTC"},
		"")
	require.NoError(t, err)
	host, text, err := net.SplitHostPort(h.mail.Address())
	require.NoError(t, err)
	number, err := strconv.Atoi(text)
	require.NoError(t, err)
	settings, err := json.Marshal(deliver.MailSettings{
		Host: host, Port: number, From: "Iron Bell <bell@tarnwick.example>", CA: ca,
	})
	require.NoError(t, err)
	vault, err := secret.FromFile(filepath.Join(h.dir, "key"), true)
	require.NoError(t, err)
	sealed, err := vault.Seal("destination:company mail", "")
	require.NoError(t, err)
	_, err = h.store.PutPlace(ctx, records.Destination, records.Place{
		Name: "company mail", Protocol: "smtp", Settings: settings, Secret: sealed,
	})
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(h.folder(), 0o700))
	folder, err := json.Marshal(deliver.FolderSettings{Folder: h.folder()})
	require.NoError(t, err)
	_, err = h.store.PutPlace(ctx, records.Destination, records.Place{
		Name: "port folders", Protocol: "folder", Settings: folder,
	})
	require.NoError(t, err)
	h.artifacts(filepath.Join(h.dir, "artifacts"))
	h.turn(0)
	h.line, h.dsn, err = lossy.Open(h.pg.DSN("ironbell"))
	require.NoError(t, err)
	t.Cleanup(h.line.Close)
	h.person, err = h.store.PersonByID(ctx, h.mara)
	require.NoError(t, err)
	h.person.Role = job.RoleAdministrator
	files, err := artifact.OpenFolder(filepath.Join(h.dir, "artifacts"))
	require.NoError(t, err)
	guard := outgoing.New(nil)
	sources := report.NewSources(h.store, vault, report.Allowed{})
	t.Cleanup(sources.Close)
	// It saves and switches jobs, and does no work.
	_, h.service = assemble.Node(h.store, sources,
		deliver.NewDestinations(h.store, vault, deliver.Allowed{Guard: guard, Folders: []string{h.folder()}}), files,
		engine.Options{
			Node: "desk", Now: func() time.Time { return time.Now().Add(h.offset()) }, Guard: guard,
			Kinds: map[job.TaskKind]task.Kind{job.KindCollect: unseen{}}, Log: slog.New(slog.DiscardHandler),
		})
	h.ons, h.offs = map[string][]span{}, map[string]time.Time{}
	return h
}

// folder is where files are handed over to.
func (h *harness) folder() string { return filepath.Join(h.dir, "ports") }

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
	if os.Geteuid() != 0 ||
		syscall.Mount("tmpfs", path, "tmpfs", 0, fmt.Sprintf("size=%dm,mode=0700", diskMegabytes())) != nil {
		h.note("the folder of artifacts is no disk of its own: a full disk is played by taking the right to write")
		return
	}
	h.t.Cleanup(func() { _ = syscall.Unmount(path, syscall.MNT_DETACH) })
}

// diskMegabytes is the size of the disk of the artifacts: each file takes a page of
// 4 KB, and a turn of the clock lets some thousands of jobs ring at once.
func diskMegabytes() int { return max(64, *jobs/4, *jobs**seconds/400) }

func (h *harness) note(format string, args ...any) {
	line := fmt.Sprintf("%7.3fs ", time.Since(h.began).Seconds()) + fmt.Sprintf(format, args...)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.log = append(h.log, line)
}

// turn adds to the nodes' clock.
func (h *harness) turn(offset time.Duration) {
	h.t.Helper()
	path := filepath.Join(h.dir, "clock")
	require.NoError(h.t, os.WriteFile(path+".new", []byte(offset.String()), 0o600))
	require.NoError(h.t, os.Rename(path+".new", path))
	h.mu.Lock()
	defer h.mu.Unlock()
	h.turns = append(h.turns, turn{time.Now(), offset})
}

// offset is what is added to the clock now.
func (h *harness) offset() time.Duration {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.turns[len(h.turns)-1].offset
}

// mayBreak says that so many hand-overs may be broken off in the middle now: each may
// become unknown.
func (h *harness) mayBreak(n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.atStop += n
}

// start starts one more node.
func (h *harness) start(crash string) *child.Child {
	h.t.Helper()
	counts := filepath.Join(h.dir, fmt.Sprintf("counts.%d", len(h.counts)))
	h.counts = append(h.counts, counts)
	dsn := h.dsn
	if dsn == "" {
		dsn = h.pg.DSN("ironbell")
	}
	// Each node's clock is off by up to two seconds and goes at a pace of its own.
	skew := time.Duration(len(h.counts)*1300%4000-2000) * time.Millisecond
	cmd := exec.Command(program(h.t), "-db", dsn, "-skew", skew.String(), "-drift",
		strconv.Itoa(len(h.counts)*700%2000-1000), "-artifacts", filepath.Join(h.dir, "artifacts"), "-key",
		filepath.Join(h.dir, "key"), "-folders", h.folder(),
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

// quiet lets all that is under way come to its end.
func (h *harness) quiet(limit time.Duration) {
	h.t.Helper()
	conn := h.conn()
	_, err := conn.Exec(context.Background(), `UPDATE triggers SET next_due = NULL`)
	require.NoError(h.t, err)
	require.NoError(h.t, conn.Close(context.Background()))
	defer func() {
		if h.t.Failed() {
			h.left()
		}
	}()
	h.until(limit, "all runs and deliveries come to an end", func() bool {
		return h.number(`SELECT (SELECT count(*) FROM runs WHERE state IN ('waiting', 'running', 'delivering')) + (SELECT count(*) FROM parts WHERE state IN ('waiting', 'running'))
			+ (SELECT count(*) FROM deliveries WHERE state IN ('waiting', 'sending', 'offered') AND run_id IS NOT NULL)`) == 0
	})
}

// left prints what did not come to its end, and what it waits for.
func (h *harness) left() {
	conn, err := pgx.Connect(context.Background(), h.pg.DSN("ironbell"))
	if err != nil {
		h.t.Log(err)
		return
	}
	defer func() { _ = conn.Close(context.Background()) }()
	rows, err := conn.Query(context.Background(),
		`SELECT 'parts ' || state || ', ' || left(reason, 120) || ': ' || count(*) FROM parts WHERE state IN ('waiting', 'running') GROUP BY state, left(reason, 120)
		UNION ALL SELECT 'deliveries ' || phase || ' ' || kept_back || ', ' || left(answer, 120) || ': ' || count(*) FROM deliveries WHERE state IN ('waiting', 'sending', 'offered', 'taken') GROUP BY phase, kept_back, left(answer, 120)
		UNION ALL SELECT 'rests ' || label || ' until ' || coalesce(probe_at::text, '?') || ': ' || answer FROM rests
		UNION ALL SELECT 'rests ' || name || ' since ' || rests_since FROM destinations WHERE rests_since IS NOT NULL LIMIT 60`)
	if err != nil {
		h.t.Log(err)
		return
	}
	lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
	h.t.Logf("what is left (%v):\n%s", err, strings.Join(lines, "\n"))
}

// numbered is what stands in the name of a file that was not the first of its name.
var numbered = regexp.MustCompile(` \(\d+\)`)

// sentTo is who received which run's message how often, and which file lies in its
// folder how often.
func (h *harness) sentTo() map[string]int {
	got := map[string]int{}
	require.NoError(h.t, filepath.WalkDir(h.folder(), func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || strings.HasPrefix(entry.Name(), ".") {
			return err
		}
		below, err := filepath.Rel(h.folder(), path)
		got["folder "+numbered.ReplaceAllString(below, "")]++
		return err
	}))
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
