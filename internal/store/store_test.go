package store_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/deliveries"
	"ironbell/internal/store/people"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
	"ironbell/internal/store/sending"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// fresh gives a store with one person, one destination and one report.
func fresh(t *testing.T) (*store.Store, world) {
	t.Helper()
	ctx := context.Background()
	dsn := pgtest.New(t, pgtest.Records, func(ctx context.Context, dsn string) error {
		s, err := store.Open(ctx, dsn, store.Options{Conns: 4})
		if err != nil {
			return err
		}
		defer s.Close()
		return s.Migrate(ctx)
	})
	s, err := store.Open(ctx, dsn, store.Options{Conns: 10})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	var w world
	w.mara, err = s.PutPerson(ctx,
		job.Person{
			Login: "mara", Name: "Mara Quill", Mail: "mara.quill@tarnwick.example", Role: job.RoleOwner,
			Zone: "Europe/London",
		}, "")
	require.NoError(t, err)
	w.mail, err = s.PutPlace(ctx, records.Destination, records.Place{
		Name: "company mail", Protocol: "smtp", Settings: []byte(`{}`),
	})
	require.NoError(t, err)
	return s, w
}

type world struct{ mara, mail int64 }

func put(t *testing.T, s *store.Store, w world, name string, d job.Definition) job.Job {
	t.Helper()
	var saved job.Job
	require.NoError(t, s.Do(context.Background(), func(tx *store.Tx) (err error) {
		d.Zone = "Europe/London"
		saved, err = tx.PutJob(context.Background(), name, w.mara, w.mara, true, d.WithDefaults(), records.Uses{})
		return err
	}))
	return saved
}

func at(minutes int) *time.Time {
	t := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC).Add(time.Duration(minutes) * time.Minute)
	return &t
}

// ring makes one run of a job.
func ring(t *testing.T, s *store.Store, j job.Job, gated bool) job.RunID {
	t.Helper()
	ctx := context.Background()
	var id job.RunID
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		runs := []rings.NewRun{{
			JobID: j.ID, Job: j.Name, JobVersion: j.Version, Why: "test", Nominal: *at(0), Due: *at(0), Zone: j.Zone,
			Gated: gated,
		}}
		err := tx.AddRuns(ctx, runs)
		id = runs[0].ID
		return err
	}))
	return id
}

func claim(t *testing.T, s *store.Store, node string, lease time.Duration) []queue.Claim {
	t.Helper()
	claims, _, err := s.ClaimParts(context.Background(), node, lease, 10, nil)
	require.NoError(t, err)
	return claims
}

func TestMigrateFromSeveralNodesAtOnce(t *testing.T) {
	ctx := context.Background()
	dsn := pgtest.New(t, "empty", func(context.Context, string) error { return nil })
	var nodes sync.WaitGroup
	for range 4 {
		nodes.Go(func() {
			s, err := store.Open(ctx, dsn, store.Options{Conns: 3})
			if assert.NoError(t, err) {
				defer s.Close()
				assert.NoError(t, s.Migrate(ctx))
			}
		})
	}
	nodes.Wait()
}

func TestJobVersionsAndTriggersThatKeepTheirId(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	first := put(t, s, w, "Quay board", job.Definition{
		Triggers: []job.Trigger{
			{Timing: job.Timing{Rule: "*/2 * * * *"}, NextDue: at(2)},
			{Timing: job.Timing{Rule: "0 7 * * *"}, NextDue: at(60)},
		}, Values: job.Values{"day": "yesterday"},
	})
	second := put(t, s, w, "Quay board",
		job.Definition{Triggers: []job.Trigger{
			{Timing: job.Timing{Rule: "0 7 * * *"}, NextDue: at(60)},
			{Timing: job.Timing{Rule: "0 8 * * *"}, NextDue: at(61)},
		}})
	assert.Equal(t, first.ID, second.ID)
	assert.Equal(t, 2, second.Version)
	assert.Equal(t, first.Triggers[1].ID, second.Triggers[0].ID, "the trigger with the same rule is the same trigger")
	old, err := s.JobAt(ctx, first.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, job.Values{"day": "yesterday"}, old.Values, "an earlier version stays as it was")
	assert.Nil(t, old.Triggers[0].NextDue)
	_, err = s.Job(ctx, "no such job")
	var missing *db.NotFound
	assert.ErrorAs(t, err, &missing)

	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error { return tx.SwitchJob(ctx, first.ID, false, nil, "2026a") }))
	off, err := s.Job(ctx, "Quay board")
	require.NoError(t, err)
	assert.False(t, off.On)
	assert.Nil(t, off.Triggers[0].NextDue)
	_, ok, err := s.NextDue(ctx)
	require.NoError(t, err)
	assert.False(t, ok, "a job that is off rings nothing")
}

func TestReportVersions(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	save := func(sql string) job.Report {
		var r job.Report
		require.NoError(t, s.Do(ctx, func(tx *store.Tx) (err error) {
			r, err = tx.PutReport(ctx, "Open defects", w.mara, w.mara, job.ReportDefinition{
				Source: "tarnwick", Sections: []job.Section{{Name: "A", SQL: sql}},
			})
			return err
		}))
		return r
	}
	assert.Equal(t, 1, save("select 1").Version)
	assert.Equal(t, 1, save("select 1").Version, "what is equal makes no version")
	assert.Equal(t, 2, save("select 2").Version)
}

func TestOneClockTakesADueTrigger(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board",
		job.Definition{Triggers: []job.Trigger{{Timing: job.Timing{Rule: "*/2 * * * *"}, NextDue: at(0)}}})
	taken := make(chan int, 1)
	require.NoError(t, s.Do(ctx, func(one *store.Tx) error {
		due, err := one.TakeNext(ctx, *at(1), 10)
		require.NoError(t, err)
		require.Len(t, due, 1)
		// Another node looks while the first decides.
		require.NoError(t, s.Do(ctx, func(other *store.Tx) error {
			due, err := other.TakeNext(ctx, *at(1), 10)
			taken <- len(due)
			return err
		}))
		trigger, first := due[0].ID, job.RunID(-1)
		return one.WriteRings(ctx, &rings.RingPlan{
			Rings: []job.Ring{{
				TriggerID: trigger, Due: *at(0), Nominal: *at(0), Decision: job.RingRun, Reason: "on time",
				RunID: &first,
			}},
			JobOf: map[int64]int64{trigger: j.ID},
			Next:  map[int64]*records.NextRing{trigger: {Due: *at(2), Nominal: *at(2)}},
			Runs: []rings.NewRun{{
				JobID: j.ID, Job: j.Name, JobVersion: 1, TriggerID: &trigger, Why: "rang", Nominal: *at(0), Due: *at(0),
				Zone: "Europe/London", Gated: true,
			}},
		})
	}))
	assert.Zero(t, <-taken, "a trigger that is being decided on is passed over")
	rang, err := s.Rings(ctx, j.ID, *at(600), 10)
	require.NoError(t, err)
	require.Len(t, rang, 1)
	assert.True(t, rang[0].Due.Equal(*at(0)))
	// The same due time a second time is refused by the key of rings.
	err = s.Do(ctx, func(tx *store.Tx) error {
		return tx.WriteRings(ctx, &rings.RingPlan{
			Rings: []job.Ring{{
				TriggerID: rang[0].TriggerID, Due: *at(0), Nominal: *at(0), Decision: job.RingPassedOver,
				Reason: "again",
			}}, JobOf: map[int64]int64{rang[0].TriggerID: j.ID},
		})
	})
	assert.ErrorIs(t, err, rings.ErrStands)
	next, ok, err := s.NextDue(ctx)
	require.NoError(t, err)
	assert.True(t, ok && next.Equal(*at(2)))
}

func TestARunThatWaitsCanBeJoinedUntilItIsClaimed(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board",
		job.Definition{Triggers: []job.Trigger{{Timing: job.Timing{Rule: "*/2 * * * *"}, NextDue: at(0)}}})
	trigger := j.Triggers[0].ID
	var id job.RunID
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		runs := []rings.NewRun{{
			JobID: j.ID, Job: j.Name, JobVersion: 1, TriggerID: &trigger, Why: "rang", Nominal: *at(-2), Due: *at(-2),
			Zone: "Europe/London", Gated: true,
		}}
		err := tx.AddRuns(ctx, runs)
		id = runs[0].ID
		return err
	}))
	look := func() rings.DueTrigger {
		var due []rings.DueTrigger
		require.NoError(t, s.Do(ctx, func(tx *store.Tx) (err error) {
			due, err = tx.TakeDue(ctx, *at(1), []int64{j.ID})
			return err
		}))
		require.Len(t, due, 1)
		return due[0]
	}
	assert.Equal(t, id, look().Waiting)
	require.Len(t, claim(t, s, "a", time.Minute), 1)
	d := look()
	assert.True(t, d.Working)
	assert.Zero(t, d.Waiting, "a run that has begun has its date")
}

func TestRunsOfAJobTakeTurns(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	first, second := ring(t, s, j, true), ring(t, s, j, true)
	together := ring(t, s, put(t, s, w, "Other", job.Definition{}), false)
	got := claim(t, s, "a", time.Minute)
	ids := []job.RunID{}
	for _, c := range got {
		ids = append(ids, c.RunID)
	}
	assert.ElementsMatch(t, []job.RunID{first, together}, ids)
	assert.Empty(t, claim(t, s, "b", time.Minute), "the second waits for the first")
	for _, c := range got {
		if c.RunID == first {
			require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
				if err := tx.WriteEntries(ctx,
					[]*queue.Entry{{
						Claim: c, Part: &queue.PartMove{State: job.PartDone, Reason: "done"},
					}}); err != nil {
					return err
				}
				run, err := tx.LockRun(ctx, c.RunID)
				if err != nil {
					return err
				}
				return tx.MoveRun(ctx, run, job.RunDone, "done")
			}))
		}
	}
	next := claim(t, s, "b", time.Minute)
	require.Len(t, next, 1)
	assert.Equal(t, second, next[0].RunID)
}

func TestConcurrentClaimsTakeEachPartOnce(t *testing.T) {
	s, w := fresh(t)
	for i := range 40 {
		j := put(t, s, w, "Job "+string(rune('A'+i%26))+string(rune('a'+i/26)), job.Definition{})
		ring(t, s, j, true)
		ring(t, s, j, true) // has to wait for the first
	}
	var mu sync.Mutex
	seen := map[job.RunID]int{}
	var nodes sync.WaitGroup
	for n := range 4 {
		nodes.Go(func() {
			for range 30 {
				claims, _, err := s.ClaimParts(context.Background(), string(rune('a'+n)), time.Minute, 3, nil)
				assert.NoError(t, err)
				mu.Lock()
				for _, c := range claims {
					seen[c.RunID]++
				}
				mu.Unlock()
			}
		})
	}
	nodes.Wait()
	assert.Len(t, seen, 40, "one run of each job")
	for id, n := range seen {
		assert.Equal(t, 1, n, id.String())
	}
}

func TestALostLeaseRefusesEveryMove(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	ring(t, s, put(t, s, w, "Quay board", job.Definition{}), true)
	write := func(e queue.Entry) queue.Entry {
		require.NoError(t, s.Do(ctx, func(tx *store.Tx) error { return tx.WriteEntries(ctx, []*queue.Entry{&e}) }))
		return e
	}
	old := claim(t, s, "a", time.Millisecond)[0]
	require.NoError(t, write(queue.Entry{Claim: old, Node: "a", Begin: []string{"report", "program"}}).Err)
	require.Eventually(t, func() bool {
		reaped := 0
		require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
			lost, err := tx.LostParts(ctx, 10)
			for _, c := range lost {
				reaped++
				if err := tx.WriteEntries(ctx,
					[]*queue.Entry{{
						Claim: c, Part: &queue.PartMove{State: job.PartWaiting, Reason: "lost"},
					}}); err != nil {
					return err
				}
			}
			return err
		}))
		return reaped == 1
	}, time.Minute, 10*time.Millisecond)
	taken := claim(t, s, "b", time.Minute)
	require.Len(t, taken, 1)
	assert.Equal(t, old.LeaseNo+1, taken[0].LeaseNo)
	for name, e := range map[string]queue.Entry{
		"begin an attempt": {Claim: old, Begin: []string{"report"}},
		"end an attempt": {
			Claim: old, Ends: []queue.TaskEnd{{Attempt: job.Attempt{Task: "report", Try: 1, State: job.AttemptDone}}},
		},
		"end the part": {Claim: old, Part: &queue.PartMove{State: job.PartDone}},
		"give it back": {Claim: old, Part: &queue.PartMove{State: job.PartWaiting}},
	} {
		assert.ErrorIs(t, write(e).Err, db.ErrStale, name)
	}
	var stand queue.Stand
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) (err error) {
		stand, err = tx.TakeUp(ctx, taken[0], func(task string) bool { return task == "program" })
		return err
	}))
	assert.Equal(t, job.AttemptUnknown, stand.Ended["program"].State, "nobody knows how far it came")
	assert.NotContains(t, stand.Ended, "report")
	assert.Zero(t, stand.Failures["report"], "what was lost with its node is no failure")
	// A stale entry beside a good one harms it not.
	good, stale := queue.Entry{Claim: taken[0], Begin: []string{"report"}},
		queue.Entry{Claim: old, Begin: []string{"report"}}
	require.NoError(t,
		s.Do(ctx, func(tx *store.Tx) error { return tx.WriteEntries(ctx, []*queue.Entry{&stale, &good}) }))
	assert.NoError(t, good.Err)
	assert.ErrorIs(t, stale.Err, db.ErrStale)
	assert.Equal(t, 2, good.Tries["report"])
	attempts, err := s.Attempts(ctx, old.RunID)
	require.NoError(t, err)
	got := map[string][]job.AttemptState{}
	for _, a := range attempts {
		got[a.Task] = append(got[a.Task], a.State)
	}
	assert.Equal(t,
		map[string][]job.AttemptState{"report": {job.AttemptLost, job.AttemptRunning}, "program": {job.AttemptUnknown}},
		got)
}

// freeze makes a message to some addresses and claims its deliveries.
func freeze(t *testing.T, s *store.Store, w world, run job.RunID, jobID int64, lease time.Duration,
	addresses ...string,
) []sending.Sending {
	t.Helper()
	ctx := context.Background()
	var to []sending.Recipient
	for _, a := range addresses {
		to = append(to, sending.Recipient{Address: a})
	}
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		_, err := tx.PutMessage(ctx, sending.NewMessage{
			Message: job.Message{
				RunID: &run, Part: 1, Task: "mail", MessageID: "<a@tarnwick.example>", Subject: "S",
				DestinationID: w.mail, Key: "k", Size: 1,
			},
			JobID: &jobID, To: to, Retry: job.Retry{Times: 2, Wait: job.Duration(time.Minute)},
			IfUnknown: job.UnknownAsk,
		})
		return err
	}))
	out, err := s.ClaimDeliveries(ctx, "a", lease, 10, 10, nil)
	require.NoError(t, err)
	return out
}

func states(t *testing.T, s *store.Store, run job.RunID) map[string]job.DeliveryState {
	t.Helper()
	list, err := s.Deliveries(context.Background(), deliveries.DeliveryFilter{RunID: run, Limit: 100})
	require.NoError(t, err)
	out := map[string]job.DeliveryState{}
	for _, d := range list {
		out[d.Address] = d.State
	}
	return out
}

// offer records one offer and tells whether it may be made.
func offer(t *testing.T, s *store.Store, d sending.Sending) bool {
	t.Helper()
	gate, err := s.GateNow(context.Background(), time.Now())
	require.NoError(t, err)
	d.Gate = gate.No
	done, _, err := s.Offer(context.Background(), []sending.Sending{d})
	require.NoError(t, err)
	return done[d.ID]
}

// receive records that the other side accepted.
func receive(t *testing.T, s *store.Store, id int64) {
	t.Helper()
	require.NoError(t, s.Do(context.Background(), func(tx *store.Tx) error {
		return tx.Receipts(context.Background(), []sending.Received{{ID: id, Answer: "250 OK"}})
	}))
}

func TestDeliveriesGoTheirWay(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	claimed := freeze(t, s, w, run, j.ID, time.Minute, "a@tarnwick.example", "b@tarnwick.example", "A@tarnwick.example",
		"c@tarnwick.example")
	require.Len(t, claimed, 3, "the same address twice gets one delivery")
	by := map[string]sending.Sending{}
	for _, d := range claimed {
		by[d.Address[:1]] = d
	}
	assert.False(t, offer(t, s, sending.Sending{ID: by["a"].ID, LeaseNo: by["a"].LeaseNo + 1}),
		"another's lease offers nothing")
	assert.True(t, offer(t, s, by["a"]))
	assert.False(t, offer(t, s, by["a"]), "an offer is made once")
	receive(t, s, by["a"].ID)
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		return tx.EndSending(ctx, by["b"], sending.Ended{
			State: job.DeliveryWaiting, Wait: time.Hour, Answer: "451 later", Class: "passing",
		})
	}))
	assert.ErrorIs(t, s.Do(ctx, func(tx *store.Tx) error {
		return tx.EndSending(ctx, by["b"], sending.Ended{State: job.DeliveryFailed})
	}), db.ErrStale, "a delivery that waits is nobody's")
	assert.Equal(t,
		map[string]job.DeliveryState{
			"a@tarnwick.example": "sent", "b@tarnwick.example": "waiting", "c@tarnwick.example": "sending",
		}, states(t, s, run))
	again, err := s.ClaimDeliveries(ctx, "a", time.Minute, 10, 10, nil)
	require.NoError(t, err)
	assert.Empty(t, again, "its time has not come")
}

func TestALostOfferIsUnknownAndAReceiptStillCounts(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	claimed := freeze(t, s, w, run, j.ID, 300*time.Millisecond, "offered@tarnwick.example", "early@tarnwick.example")
	for _, d := range claimed {
		if d.Address == "offered@tarnwick.example" {
			require.True(t, offer(t, s, d))
		}
	}
	var offered, safe []sending.Sending
	require.Eventually(t, func() bool {
		require.NoError(t, s.Do(ctx, func(tx *store.Tx) (err error) {
			offered, safe, err = tx.LostSendings(ctx, 10)
			for _, d := range offered {
				require.NoError(t, tx.EndSending(ctx, d, sending.Ended{State: job.DeliveryUnknown}))
			}
			for _, d := range safe {
				require.NoError(t, tx.EndSending(ctx, d, sending.Ended{State: job.DeliveryWaiting, Untried: true}))
			}
			return err
		}))
		return len(offered)+len(safe) > 0
	}, time.Minute, 20*time.Millisecond)
	require.Len(t, offered, 1)
	require.Len(t, safe, 1)
	assert.Equal(t,
		map[string]job.DeliveryState{"offered@tarnwick.example": "unknown", "early@tarnwick.example": "waiting"},
		states(t, s, run))
	// The node that was only slow hears the answer after all.
	receive(t, s, offered[0].ID)
	assert.Equal(t, job.DeliveryState("sent"), states(t, s, run)["offered@tarnwick.example"])
	// A deliberate resend is a new message of the same bytes.
	require.NoError(t,
		s.Do(ctx, func(tx *store.Tx) error { return tx.Resend(ctx, offered[0].ID, "<b@tarnwick.example>") }))
	again, err := s.ClaimDeliveries(ctx, "b", time.Minute, 10, 10, nil)
	require.NoError(t, err)
	ids := map[string]string{}
	for _, d := range again {
		ids[d.Address] = d.MessageID
		assert.Equal(t, "k", d.Key)
	}
	assert.Equal(t,
		map[string]string{
			"offered@tarnwick.example": "<b@tarnwick.example>", "early@tarnwick.example": "<a@tarnwick.example>",
		}, ids)
}

func TestOneCauseOneAlert(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	open := func(happened string) {
		require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
			return tx.OpenAlert(ctx, job.Alert{
				Kind: job.AlertRunFailed, Cause: "run:1:report:lasting", JobID: &j.ID, RunID: &run, Happened: happened,
			})
		}))
	}
	toTell := func() int {
		n := 0
		require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
			alerts, err := tx.AlertsToTell(ctx, 10)
			n = len(alerts)
			for _, a := range alerts {
				require.NoError(t, tx.Told(ctx, a.ID, "told Mara", 1, 0))
			}
			return err
		}))
		return n
	}
	open("first")
	assert.Equal(t, 1, toTell())
	open("second")
	assert.Equal(t, 0, toTell(), "it grows without a second mail")
	alerts, err := s.Alerts(ctx, []string{"open"}, 10)
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Equal(t, 2, alerts[0].Count)
	assert.Equal(t, "second", alerts[0].Happened)
	assert.Equal(t, "mara", alerts[0].Owner)
	require.NoError(t, s.Acknowledge(ctx, alerts[0].ID, "Mara Quill"))
	open("third")
	assert.Equal(t, 1, toTell(), "what was acknowledged and happens again is told again")
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error { return tx.CloseAlertsOfRuns(ctx, []job.RunID{run}, nil) }))
	open("fourth")
	alerts, err = s.Alerts(ctx, []string{"open", "closed"}, 10)
	require.NoError(t, err)
	assert.Len(t, alerts, 2, "after it was closed it is another one")
}

func TestNoticesAreHeard(t *testing.T) {
	s, w := fresh(t)
	ctx, stop := context.WithCancel(context.Background())
	ready, heard, ended := make(chan struct{}), make(chan db.Notice, 10), make(chan struct{})
	go func() {
		defer close(ended)
		_ = s.Listen(ctx, func() { close(ready) }, func(n db.Notice) { heard <- n })
	}()
	<-ready
	run := ring(t, s, put(t, s, w, "Quay board", job.Definition{}), true)
	kinds := map[job.NoticeKind]bool{}
	for !kinds[job.NoticeJobs] || !kinds[job.NoticeParts] {
		select {
		case n := <-heard:
			kinds[n.Kind] = true
		case <-time.After(10 * time.Second):
			t.Fatalf("heard only %v of run %s", kinds, run)
		}
	}
	stop()
	<-ended
}

func TestSettingsPeopleAndTokens(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	require.NoError(t, s.PutSetting(ctx, "alerts", job.AlertSettings{Destination: "company mail"}))
	var a job.AlertSettings
	ok, err := s.Setting(ctx, "alerts", &a)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "company mail", a.Destination)
	ok, err = s.Setting(ctx, "other", &a)
	require.NoError(t, err)
	assert.False(t, ok)
	past := time.Now().Add(-time.Hour)
	for hash, ends := range map[string]*time.Time{"live": nil, "past": &past} {
		id, err := s.BeginSignIn(ctx, people.NewSignIn{
			SignIn: job.SignIn{Kind: job.Token, Name: hash, EndsAt: ends}, PersonID: w.mara, Hash: []byte(hash),
		})
		require.NoError(t, err)
		assert.NotZero(t, id)
	}
	id, err := s.BeginSignIn(ctx, people.NewSignIn{
		SignIn: job.SignIn{Kind: job.Session}, PersonID: w.mara, Proof: "another password",
	})
	require.NoError(t, err)
	assert.Zero(t, id, "the password was changed since it was checked")
	p, _, err := s.PersonByToken(ctx, []byte("live"))
	require.NoError(t, err)
	assert.Equal(t, "mara", p.Login)
	var missing *db.NotFound
	_, _, err = s.PersonByToken(ctx, []byte("past"))
	assert.ErrorAs(t, err, &missing)
	require.NoError(t, s.SweepAccess(ctx))
	_, _, err = s.PersonByToken(ctx, []byte("live"))
	assert.NoError(t, err, "what has not ended stays")
	id, err = s.PutPerson(ctx,
		job.Person{Login: "MARA", Name: "Mara Quill-Tarn", Role: job.RoleReader, Zone: "Europe/London"}, "")
	require.NoError(t, err)
	assert.Equal(t, w.mara, id, "sign-in names do not tell upper from lower case")
}
