// Package torture breaks everything that can break while thousands of jobs
// ring, and then reads in the database and in the inbox whether the promise
// held: nothing lost, nothing twice.
package torture

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/timetable"
	"ironbell/standin/gate"

	"github.com/stretchr/testify/require"
)

var (
	seconds = flag.Int("seconds", 12, "how long the faults go on")
	seed    = flag.Uint64("seed", 0, "of the faults; drawn when 0")
	jobs    = flag.Int("jobs", 200, "how many jobs ring")
	every   = flag.Int("every", 20, "seconds between two rings of a job")
)

func TestMain(m *testing.M) {
	flag.Parse()
	status := m.Run()
	if node.path != "" {
		_ = os.RemoveAll(filepath.Dir(node.path)) // a temporary folder
	}
	os.Exit(status)
}

// ringing is a job of the fault test.
type ringing struct {
	name   string
	rule   string
	outage job.AfterOutage
	wait   bool   // overlap wait: rings may join
	sends  string // the destination that its runs send to; none when empty

	switched bool // it is switched off and on meanwhile
}

// strain is a task that does as it is told: the nodes have it in place of the one that
// collects files.
func strain(word string) job.Task {
	return job.Task{Name: "strain", Kind: job.KindCollect, Collect: &job.CollectTask{Source: "strain", Pattern: word}}
}

// handOver is a task that sends to a destination: as the run's mail to j, or as
// the run's file in the folder of j.
func handOver(destination string, j int) job.Task {
	d := &job.DeliverTask{Destination: destination}
	if destination == "port folders" {
		d.Folder, d.Name = fmt.Sprintf("j%d", j), "{run}"
	} else {
		d.To, d.Subject = []string{fmt.Sprintf("j%d@tarnwick.example", j)}, "{run}"
	}
	return job.Task{Name: "deliver", Kind: job.KindDeliver, Deliver: d}
}

// load saves jobs that ring, and gives them by the id of their trigger.
func (h *harness) load(n, every int, start time.Time) map[int64]ringing {
	h.t.Helper()
	ctx := context.Background()
	out := map[int64]ringing{}
	require.NoError(h.t,
		h.store.PutSetting(ctx, timetable.WhenSetting, job.WhenSettings{Floor: job.Duration(time.Second)}))
	require.NoError(h.t, h.store.Do(ctx, func(t *store.Tx) error {
		ids := map[string]int64{}
		for _, name := range []string{"company mail", "port folders"} {
			p, err := t.Place(ctx, records.Destination, name)
			if err != nil {
				return err
			}
			ids[name] = p.ID
		}
		for i := range n {
			words := []string{"ok", "ok", "ok", "ok", "blank", "lasting", "passing", "slow 3s", "slow 500ms", "file"}
			word := words[i%len(words)]
			first := start.Add(time.Duration(i) * time.Duration(every) * time.Second / time.Duration(n)).Truncate(time.Second)
			r := ringing{
				name:     fmt.Sprintf("job %04d %s", i, word),
				switched: i%20 == 4,
				rule: fmt.Sprintf("DTSTART;TZID=Etc/UTC:%s\nRRULE:FREQ=SECONDLY;INTERVAL=%d",
					first.UTC().Format("20060102T150405"), every),
			}
			switch {
			case word == "blank", word == "file" && i/len(words)%2 == 0:
				r.sends = "company mail"
			case word == "file":
				r.sends = "port folders"
			}
			d := job.Definition{
				Zone: "Etc/UTC", Retry: job.Retry{Times: 20, Wait: job.Duration(time.Second)},
				Patience: job.Retry{Times: 100, Wait: job.Duration(time.Second)}, Overlap: job.OverlapTogether,
				Tasks: []job.Task{strain(word)},
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
			uses := records.Uses{Labels: []string{"service"}}
			if r.sends != "" {
				d.Tasks = append(d.Tasks, handOver(r.sends, i))
				uses.Destinations = []int64{ids[r.sends]}
			}
			d.AfterOutage = r.outage
			d = d.WithDefaults()
			d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: r.rule}, NextDue: &first, NextNominal: &first}}
			j, err := t.PutJob(ctx, r.name, h.mara, h.mara, true, d, uses)
			if err != nil {
				return err
			}
			out[j.Triggers[0].ID] = r
		}
		return nil
	}))
	return out
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
			h.mayBreak(h.open())
			h.nodes[i].Stop(syscall.SIGKILL, 5*time.Second, syscall.SIGKILL)
			h.start("")
		}},
		{"a node stops in order", func() {
			i := h.pick(random)
			h.nodes[i].Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
			h.start("")
		}},
		{"a node stands still past its lease", func() {
			i := h.pick(random)
			p := h.nodes[i].Process()
			require.NoError(t, p.Signal(syscall.SIGSTOP))
			h.mayBreak(h.open())
			time.Sleep(4 * time.Second)
			require.NoError(t, p.Signal(syscall.SIGCONT))
		}},
		{"the database is restarted", func() {
			h.mayBreak(h.open())
			h.pg.Stop()
			h.database()
		}},
		{"the database stops in order while it has guests", func() {
			h.mayBreak(h.open())
			h.pg.Leave(time.Second)
			h.database()
		}},
		{"the database ends at once and recovers", func() {
			h.mayBreak(h.open())
			h.pg.Crash()
			h.database()
		}},
		{"all connections are taken", func() {
			h.mayBreak(h.open())
			h.exhaust(1500 * time.Millisecond)
		}},
		{
			"the mail server hangs",
			func() { h.behave(gate.Behaviour{Mode: gate.Slow, Delay: 700}, 1500*time.Millisecond) },
		},
		{"the mail server refuses for now", func() { h.behave(gate.Behaviour{Mode: gate.Busy}, time.Second) }},
		{
			"the mail server drops the line after the data",
			func() { h.behave(gate.Behaviour{Mode: gate.Drop}, 300*time.Millisecond) },
		},
		{
			"the mail server answers, and takes nothing",
			func() { h.behave(gate.Behaviour{Mode: gate.Shut}, 1500*time.Millisecond) },
		},
		{"the mail server is away", func() { h.behave(gate.Behaviour{Mode: gate.Away}, time.Second) }},
		{"the folder of a destination is away", func() { h.vanish(time.Second) }},
		{"the disk of the artifacts is full", func() { h.fill(time.Second) }},
		{"the clock goes seven minutes ahead", func() { h.turn(h.offset() + 7*time.Minute) }},
		{"the clock goes back", func() { h.turn(h.offset() - 4*time.Second) }},
	}
	besides := h.beside(all, rand.New(rand.NewPCG(*seed, 2)))
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
	for name, n := range besides() {
		done[name] = n
	}
	// Nodes that write with a lease that has gone: one stands still with its
	// hands full, as often as it takes.
	stall := slices.IndexFunc(faults, func(f struct {
		name string
		do   func()
	},
	) bool {
		return f.name == "a node stands still past its lease"
	})
	for tries := 0; h.count('x') < 20 && tries < 15; tries++ {
		h.note("a node stands still with its hands full")
		h.burst()
		faults[stall].do()
		time.Sleep(time.Second)
	}
	rings := h.number(`SELECT count(*) FROM rings`)
	h.quiet(6 * time.Minute)
	for _, c := range h.nodes {
		c.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
	}
	h.check(all, start)
	var said []string
	total := 0
	for name, n := range done {
		total += n
		said = append(said, fmt.Sprintf("%d times %s", n, name))
	}
	slices.Sort(said)
	t.Logf("%d rings and %d faults in %s with %d nodes: %s", rings, total, time.Since(h.began).Round(time.Second),
		len(h.counts), strings.Join(said, "; "))
	if t.Failed() {
		h.tell()
	}
}

// one saves one job that rings once and sends one message to a destination.
func (h *harness) one(at time.Time, destination string) {
	h.t.Helper()
	ctx := context.Background()
	require.NoError(h.t, h.store.Do(ctx, func(t *store.Tx) error {
		p, err := t.Place(ctx, records.Destination, destination)
		if err != nil {
			return err
		}
		d := job.Definition{
			Zone: "Etc/UTC", Retry: job.Retry{Times: 5, Wait: job.Duration(time.Second)},
			Patience: job.Retry{Times: 20, Wait: job.Duration(time.Second)},
			Tasks:    []job.Task{strain("file"), handOver(destination, 0)},
			Triggers: []job.Trigger{{
				Timing: job.Timing{Rule: "DTSTART;TZID=Etc/UTC:" + at.UTC().Format("20060102T150405") +
					"\nRRULE:FREQ=YEARLY;COUNT=2"}, NextDue: &at, NextNominal: &at,
			}},
		}.WithDefaults()
		_, err = t.PutJob(ctx, "one", h.mara, h.mara, true, d, records.Uses{
			Destinations: []int64{p.ID}, Labels: []string{"service"},
		})
		return err
	}))
}
