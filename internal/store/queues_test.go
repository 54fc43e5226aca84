package store_test

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/store/sending"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// another saves one more destination.
func another(t *testing.T, s *store.Store, name string) int64 {
	t.Helper()
	id, err := s.PutPlace(context.Background(), records.Destination, records.Place{
		Name: name, Protocol: "smtp", Settings: []byte(`{}`),
	})
	require.NoError(t, err)
	return id
}

// queue freezes n messages for a destination, about an alert when it is not 0.
func queued(t *testing.T, s *store.Store, destination int64, run job.RunID, alert int64, n int) {
	t.Helper()
	ctx := context.Background()
	m := job.Message{
		Part: 1, Task: "mail", MessageID: "<q@tarnwick.example>", Subject: "S", DestinationID: destination, Key: "k",
		Size: 1,
	}
	if alert != 0 {
		m.AlertID = &alert
	} else {
		m.RunID = &run
	}
	to := make([]sending.Recipient, n)
	for i := range to {
		to[i].Address = fmt.Sprintf("reader%d@tarnwick.example", i)
	}
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		_, err := tx.PutMessage(ctx, sending.NewMessage{Message: m, To: to, IfUnknown: job.UnknownAsk})
		return err
	}))
}

func claimSome(t *testing.T, s *store.Store, limit, destinations int, leftOut ...int64) map[int64]int {
	t.Helper()
	got, err := s.ClaimDeliveries(context.Background(), "a", time.Minute, limit, destinations, leftOut)
	require.NoError(t, err)
	out := map[int64]int{}
	for i, d := range got {
		out[d.DestinationID]++
		if d.AlertID == nil && i+1 < len(got) {
			assert.Nil(t, got[i+1].AlertID, "alerts come first")
		}
	}
	return out
}

func TestEachDestinationHasAQueueOfItsOwn(t *testing.T) {
	s, w := fresh(t)
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	port, board := another(t, s, "port mail"), another(t, s, "board mail")
	queued(t, s, w.mail, run, 0, 30)
	queued(t, s, port, run, 0, 3)
	queued(t, s, board, run, 0, 2)
	assert.Equal(t, map[int64]int{w.mail: 10, port: 3, board: 2}, claimSome(t, s, 10, 10),
		"the long queue of one holds up nobody")
	queued(t, s, port, run, 0, 4)
	assert.Equal(t, map[int64]int{port: 4}, claimSome(t, s, 10, 10, w.mail), "what is busy is left out")
	queued(t, s, port, run, 0, 1)
	queued(t, s, board, run, 0, 1)
	assert.Len(t, claimSome(t, s, 1, 2), 2, "no more destinations than there is room for")
	assert.Len(t, claimSome(t, s, 1, 1), 1)
}

func TestAlertsGoBeforeAllOthers(t *testing.T) {
	s, w := fresh(t)
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	queued(t, s, w.mail, run, 0, 50)
	queued(t, s, w.mail, 0, 7, 2)
	got, err := s.ClaimDeliveries(context.Background(), "a", time.Minute, 5, 10, nil)
	require.NoError(t, err)
	require.Len(t, got, 7)
	for i, d := range got {
		assert.Equal(t, i < 2, d.AlertID != nil, "place %d", i)
	}
}

func TestARestKeepsAWholeQueueBackAndLetsItGo(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	port := another(t, s, "port mail")
	queued(t, s, w.mail, run, 0, 20)
	queued(t, s, port, run, 0, 2)
	first := claimSome(t, s, 5, 10)
	require.Equal(t, map[int64]int{w.mail: 5, port: 2}, first)
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		_, _, err := tx.Rest(ctx, w.mail, fault.New(fault.Destination, "connect", "connection refused", ""),
			time.Minute)
		return err
	}))
	assert.Empty(t, claimSome(t, s, 5, 10), "it rests")
	waiting, err := s.WaitingFor(ctx, w.mail)
	require.NoError(t, err)
	assert.Equal(t, 15, waiting.Deliveries)
	queued(t, s, w.mail, run, 0, 1)
	assert.Empty(t, claimSome(t, s, 5, 10), "what comes meanwhile waits with the others")
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		woke, err := tx.Wake(ctx, w.mail)
		assert.True(t, woke)
		return err
	}))
	_, err = s.LetGo(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[int64]int{w.mail: 16}, claimSome(t, s, 100, 10))
}

func TestWhatIsGivenBackKeepsItsPlace(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	claimed := freeze(t, s, w, run, j.ID, time.Minute, "a@tarnwick.example", "b@tarnwick.example", "c@tarnwick.example")
	require.True(t, offer(t, s, claimed[0]))
	stale := claimed[1]
	stale.LeaseNo++
	require.NoError(t, s.Do(ctx, func(tx *store.Tx) error {
		return tx.GiveBack(ctx, []sending.Sending{claimed[0], stale, claimed[2]})
	}))
	got := states(t, s, run)
	assert.Equal(t, job.DeliveryWaiting, got[claimed[0].Address],
		"an offer that was recorded and not made would be unknown otherwise")
	assert.Equal(t, job.DeliverySending, got[claimed[1].Address], "another's lease gives nothing back")
	assert.Equal(t, job.DeliveryWaiting, got[claimed[2].Address])
	again, err := s.ClaimDeliveries(ctx, "b", time.Minute, 10, 10, nil)
	require.NoError(t, err)
	require.Len(t, again, 2)
	for _, d := range again {
		assert.Equal(t, 1, d.Tries, "it does not count as a try")
	}
}

func TestOneIsAloneWithANameOverAllNodes(t *testing.T) {
	ctx := context.Background()
	s, _ := fresh(t)
	second, err := store.Open(ctx, s.Connections().Config().ConnString(), store.Options{Conns: 4})
	require.NoError(t, err)
	defer second.Close()
	release, err := s.Alone(ctx, 7, "tides.csv", time.Minute)
	require.NoError(t, err)
	other, err := second.Alone(ctx, 8, "tides.csv", time.Minute)
	require.NoError(t, err, "another destination is another matter")
	other()
	other, err = second.Alone(ctx, 7, "tides.xlsx", time.Minute)
	require.NoError(t, err, "and so is another name")
	other()
	short, stop := context.WithTimeout(ctx, 50*time.Millisecond)
	defer stop()
	for _, node := range []*store.Store{s, second} {
		_, err = node.Alone(short, 7, "tides.csv", time.Minute)
		assert.ErrorIs(t, err, context.DeadlineExceeded)
	}
	release()
	release, err = second.Alone(ctx, 7, "tides.csv", time.Minute)
	require.NoError(t, err)
	release()

	// A node that hangs is alone no longer than it may be.
	hung, err := s.Alone(ctx, 7, "tides.csv", 300*time.Millisecond)
	require.NoError(t, err)
	release, err = second.Alone(ctx, 7, "tides.csv", time.Minute)
	require.NoError(t, err)
	hung()
	brief, stopBrief := context.WithTimeout(ctx, 50*time.Millisecond)
	defer stopBrief()
	_, err = s.Alone(brief, 7, "tides.csv", time.Minute)
	require.ErrorIs(t, err, context.DeadlineExceeded, "what it gives back late is not its own any more")
	release()

	// Many at once, over more names than there are connections to be alone with.
	var inside [12]atomic.Int32
	var all sync.WaitGroup
	for i := range 48 {
		all.Go(func() {
			release, err := []*store.Store{s, second}[i%2].Alone(ctx, 7, fmt.Sprintf("%d.csv", i%len(inside)),
				time.Minute)
			if !assert.NoError(t, err) {
				return
			}
			defer release()
			assert.Equal(t, int32(1), inside[i%len(inside)].Add(1))
			assert.NoError(t, s.Ping(ctx), "others find a connection meanwhile")
			inside[i%len(inside)].Add(-1)
		})
	}
	all.Wait()
}

func TestAPinBelongsToItsServer(t *testing.T) {
	s, _ := fresh(t)
	ctx := context.Background()
	save := func(settings string) string {
		id, err := s.PutPlace(ctx, records.Destination, records.Place{
			Name: "authority", Protocol: "sftp", Settings: []byte(settings),
		})
		require.NoError(t, err)
		p, err := s.PlaceByID(ctx, records.Destination, id)
		require.NoError(t, err)
		if p.Pin == "" {
			require.NoError(t, s.PinDestination(ctx, id, "SHA256:first"))
		}
		return p.Pin
	}
	assert.Empty(t, save(`{"host":"files.harbour.example","user":"ferries"}`))
	assert.Equal(t, "SHA256:first", save(`{"host":"files.harbour.example","user":"ferries","folder":"in"}`),
		"another folder is the same server")
	assert.Empty(t, save(`{"host":"files2.harbour.example","user":"ferries"}`), "another server shows its own key")
	assert.Empty(t, save(`{"host":"files2.harbour.example","port":2222,"user":"ferries"}`))
}

// What waits for a destination that was removed is counted, and kept back until it comes back.
func TestWhatWaitsForARemovedDestinationIsCounted(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	j := put(t, s, w, "Quay board", job.Definition{})
	run := ring(t, s, j, true)
	port := another(t, s, "port mail")
	open := func(kind string, id int64) int {
		_, _, open, err := s.OpenOf(ctx, kind, id)
		require.NoError(t, err)
		return open
	}
	assert.Zero(t, open("destination", port))
	queued(t, s, port, run, 0, 3)
	assert.Equal(t, 3, open("destination", port))
	waits, _, _, err := s.OpenOf(ctx, "job", j.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, waits)
}

// A delivery that moves while a run's are listed is neither left out nor listed twice, and
// those that were not sent come first.
func TestDeliveriesOfARunInOneLook(t *testing.T) {
	s, w := fresh(t)
	ctx := context.Background()
	run := ring(t, s, put(t, s, w, "Quay board", job.Definition{}), false)
	queued(t, s, w.mail, run, 0, 40)
	all, err := s.DeliveriesOfRun(ctx, run, 100)
	require.NoError(t, err)
	require.Len(t, all, 40)
	moved := make(chan error, 1)
	go func() {
		for _, d := range all[10:] {
			for _, to := range []job.DeliveryState{
				job.DeliveryUnknown, job.DeliverySent, job.DeliveryFailed,
				job.DeliverySent,
			} {
				if err := s.Do(ctx,
					func(tx *store.Tx) error { return tx.SettleDelivery(ctx, d.ID, to, "moved") }); err != nil {
					moved <- err
					return
				}
			}
		}
		moved <- nil
	}()
	for looking := true; looking; {
		select {
		case err := <-moved:
			require.NoError(t, err)
			looking = false
		default:
		}
		list, err := s.DeliveriesOfRun(ctx, run, 100)
		require.NoError(t, err)
		require.Len(t, list, 40)
		seen, sent := map[int64]bool{}, false
		for _, d := range list {
			assert.False(t, seen[d.ID])
			assert.False(t, sent && d.State != job.DeliverySent, "what was sent comes last")
			seen[d.ID], sent = true, d.State == job.DeliverySent
		}
	}
	few, err := s.DeliveriesOfRun(ctx, run, 12)
	require.NoError(t, err)
	require.Len(t, few, 12)
	open := 0
	for _, d := range few {
		if d.State != job.DeliverySent {
			open++
		}
	}
	assert.Equal(t, 10, open, "those that were not sent are there, however many others there are")
}
