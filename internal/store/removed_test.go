package store_test

import (
	"context"
	"testing"
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// remove removes a record.
func remove(t *testing.T, s *store.Store, kind, name string) {
	t.Helper()
	do(t, s, func(tx *store.Tx) error {
		id, _, err := tx.LockRecord(t.Context(), kind, name)
		if err != nil {
			return err
		}
		return tx.Remove(t.Context(), kind, id, "mara")
	})
}

// rename gives a record another name.
func rename(t *testing.T, s *store.Store, kind, from, to string) {
	t.Helper()
	do(t, s, func(tx *store.Tx) error {
		id, now, err := tx.LockRecord(t.Context(), kind, from)
		if err != nil {
			return err
		}
		return tx.Rename(t.Context(), kind, id, now, to)
	})
}

// A record of each kind: how it is made, and found.
var kinds = map[string]struct {
	put  func(ctx context.Context, s *store.Store, w world, name string) error
	find func(ctx context.Context, s *store.Store, name string) (string, error)
	list func(ctx context.Context, s *store.Store) ([]string, error)
}{
	"job": {
		func(ctx context.Context, s *store.Store, w world, name string) error {
			_, err := s.PutJob(ctx, name, w.mara, w.mara, false, job.Definition{Zone: "UTC"}, records.Uses{})
			return err
		},
		func(ctx context.Context, s *store.Store, name string) (string, error) {
			j, err := s.Job(ctx, name)
			return j.Name, err
		},
		func(ctx context.Context, s *store.Store) (names []string, err error) {
			all, err := s.Jobs(ctx, "", 100)
			for _, r := range all {
				names = append(names, r.Name)
			}
			return names, err
		},
	},
	"report": {
		func(ctx context.Context, s *store.Store, w world, name string) error {
			_, err := s.PutReport(ctx, name, w.mara, w.mara, job.ReportDefinition{Source: "tarnwick"})
			return err
		},
		func(ctx context.Context, s *store.Store, name string) (string, error) {
			r, err := s.Report(ctx, name)
			return r.Name, err
		},
		func(ctx context.Context, s *store.Store) (names []string, err error) {
			all, err := s.Reports(ctx, 100)
			for _, r := range all {
				names = append(names, r.Name)
			}
			return names, err
		},
	},
	"group": {
		func(ctx context.Context, s *store.Store, _ world, name string) error {
			return s.PutGroup(ctx, job.Group{Name: name, Members: []string{"person:mara"}})
		},
		func(ctx context.Context, s *store.Store, name string) (string, error) {
			g, err := s.Group(ctx, name)
			return g.Name, err
		},
		func(ctx context.Context, s *store.Store) (names []string, err error) {
			all, err := s.Groups(ctx)
			for _, r := range all {
				names = append(names, r.Name)
			}
			return names, err
		},
	},
	"post": {
		func(ctx context.Context, s *store.Store, _ world, name string) error {
			return s.PutPost(ctx, job.Post{Name: name, Holders: []string{}})
		},
		func(ctx context.Context, s *store.Store, name string) (string, error) {
			p, err := s.Post(ctx, name)
			return p.Name, err
		},
		func(ctx context.Context, s *store.Store) (names []string, err error) {
			all, err := s.Posts(ctx)
			for _, r := range all {
				names = append(names, r.Name)
			}
			return names, err
		},
	},
	"destination": {
		func(ctx context.Context, s *store.Store, _ world, name string) error {
			_, err := s.PutPlace(ctx, records.Destination, records.Place{
				Name: name, Protocol: "smtp", Settings: []byte("{}"), Secret: []byte("sealed"),
			})
			return err
		},
		findPlace(records.Destination), listPlaces(records.Destination),
	},
	"source": {
		func(ctx context.Context, s *store.Store, _ world, name string) error {
			_, err := s.PutPlace(ctx, records.Source, records.Place{Name: name, Protocol: "folder", Settings: []byte("{}")})
			return err
		},
		findPlace(records.Source), listPlaces(records.Source),
	},
	"calendar": {
		func(ctx context.Context, s *store.Store, w world, name string) error {
			_, err := s.PutCalendar(ctx, name, w.mara, calendar.Definition{})
			return err
		},
		func(ctx context.Context, s *store.Store, name string) (string, error) {
			c, err := s.Calendar(ctx, name)
			return c.Name, err
		},
		func(ctx context.Context, s *store.Store) (names []string, err error) {
			all, err := s.Calendars(ctx)
			for _, r := range all {
				names = append(names, r.Name)
			}
			return names, err
		},
	},
	"sender": {
		func(ctx context.Context, s *store.Store, _ world, name string) error {
			_, err := s.PutSender(ctx, name, job.SenderDefinition{})
			return err
		},
		func(ctx context.Context, s *store.Store, name string) (string, error) {
			one, err := s.Sender(ctx, name)
			return one.Name, err
		},
		func(ctx context.Context, s *store.Store) (names []string, err error) {
			all, err := s.Senders(ctx)
			for _, r := range all {
				names = append(names, r.Name)
			}
			return names, err
		},
	},
	"subscription": {
		func(ctx context.Context, s *store.Store, _ world, name string) error {
			_, err := s.PutSubscription(ctx, name, job.SubscriptionDefinition{Destination: "duty screen", Types: []string{"*"}})
			return err
		},
		func(ctx context.Context, s *store.Store, name string) (string, error) {
			one, err := s.Subscription(ctx, name)
			return one.Name, err
		},
		func(ctx context.Context, s *store.Store) (names []string, err error) {
			all, err := s.Subscriptions(ctx)
			for _, r := range all {
				names = append(names, r.Name)
			}
			return names, err
		},
	},
	"person": {
		func(ctx context.Context, s *store.Store, _ world, name string) error {
			_, err := s.PutPerson(ctx, job.Person{
				Login: name, Name: name, Mail: "someone@tarnwick.example", Role: job.RoleAdministrator, Zone: "UTC",
			}, "hash")
			return err
		},
		func(ctx context.Context, s *store.Store, name string) (string, error) {
			p, _, err := s.PersonByLogin(ctx, name)
			return p.Login, err
		},
		func(ctx context.Context, s *store.Store) (names []string, err error) {
			for _, list := range []func(context.Context) ([]job.Person, error){s.People, s.Administrators} {
				all, err := list(ctx)
				if err != nil {
					return nil, err
				}
				for _, r := range all {
					names = append(names, r.Login)
				}
			}
			named, err := s.PeopleByMail(ctx, []string{"someone@tarnwick.example"})
			for _, r := range named {
				names = append(names, r.Login)
			}
			return names, err
		},
	},
}

func findPlace(kind records.PlaceKind) func(ctx context.Context, s *store.Store, name string) (string, error) {
	return func(ctx context.Context, s *store.Store, name string) (string, error) {
		p, err := s.Place(ctx, kind, name)
		return p.Name, err
	}
}

func listPlaces(kind records.PlaceKind) func(ctx context.Context, s *store.Store) ([]string, error) {
	return func(ctx context.Context, s *store.Store) (names []string, err error) {
		all, err := s.Places(ctx, kind)
		for _, r := range all {
			names = append(names, r.Name)
		}
		return names, err
	}
}

// Whatever its kind, a record that was removed is found by nobody, keeps its name for thirty
// days, comes back as it was, and is gone after them.
func TestRecordsAreRemovedBroughtBackAndGone(t *testing.T) {
	for _, table := range db.Tables {
		kind, k := table.Kind, kinds[table.Kind]
		t.Run(kind, func(t *testing.T) {
			s, w := fresh(t)
			ctx := t.Context()
			const name, other = "Harbour desk", "Quay desk"
			require.NoError(t, k.put(ctx, s, w, name))
			remove(t, s, kind, name)
			_, err := k.find(ctx, s, name)
			var missing *db.NotFound
			require.ErrorAs(t, err, &missing)
			assert.ErrorContains(t, err, "it was removed by Mara Quill on")
			names, err := k.list(ctx, s)
			require.NoError(t, err)
			assert.NotContains(t, names, name)
			var taken *db.Taken
			require.ErrorAs(t, k.put(ctx, s, w, name), &taken, "its name is kept for it")
			assert.ErrorContains(t, taken, "belongs to a "+kind+" that is not gone yet: it was removed by Mara Quill")
			err = s.Do(ctx, func(tx *store.Tx) error {
				_, _, err := tx.LockRecord(ctx, kind, name)
				return err
			})
			require.ErrorAs(t, err, &missing, "nobody removes it twice")

			all, err := s.RemovedRecords(ctx, 10)
			require.NoError(t, err)
			require.Len(t, all, 1)
			assert.Equal(t, kind+" "+name, all[0].Kind+" "+all[0].Name)
			n, err := s.Gone(ctx, time.Now().Add(-db.KeepRemoved), 10)
			require.NoError(t, err)
			assert.Zero(t, n, "thirty days have not passed")
			do(t, s, func(tx *store.Tx) error {
				id, _, err := tx.LockRemoved(ctx, kind, name)
				if err != nil {
					return err
				}
				return tx.Return(ctx, kind, id)
			})
			found, err := k.find(ctx, s, name)
			require.NoError(t, err)
			assert.Equal(t, name, found)

			rename(t, s, kind, name, other)
			found, err = k.find(ctx, s, name)
			require.NoError(t, err, "the old name finds it")
			assert.Equal(t, other, found)
			require.NoError(t, k.put(ctx, s, w, name), "saved under its old name it keeps the new one")
			names, err = k.list(ctx, s)
			require.NoError(t, err)
			assert.Contains(t, names, other)
			assert.NotContains(t, names, name)

			remove(t, s, kind, name)
			_, err = k.find(ctx, s, other)
			require.ErrorAs(t, err, &missing)
			require.ErrorAs(t, k.put(ctx, s, w, name), &taken, "its old name is kept for it, too")
			n, err = s.Gone(ctx, time.Now().Add(time.Hour), 10)
			require.NoError(t, err)
			assert.Equal(t, 1, n)
			for _, free := range []string{name, other} {
				_, err = k.find(ctx, s, free)
				require.ErrorAs(t, err, &missing)
				assert.NotContains(t, err.Error(), "removed", "nothing can be brought back any more")
				require.NoError(t, k.put(ctx, s, w, free), "another may have the name")
			}
			all, err = s.RemovedRecords(ctx, 10)
			require.NoError(t, err)
			assert.Empty(t, all)
		})
	}
}

func TestWhatIsGoneKeepsNoSecret(t *testing.T) {
	s, w := fresh(t)
	ctx := t.Context()
	require.NoError(t, kinds["destination"].put(ctx, s, w, "Harbour files"))
	p, err := s.Place(ctx, records.Destination, "Harbour files")
	require.NoError(t, err)
	require.NoError(t, kinds["person"].put(ctx, s, w, "oren"))
	oren, _, err := s.PersonByLogin(ctx, "oren")
	require.NoError(t, err)
	remove(t, s, "destination", "Harbour files")
	remove(t, s, "person", "oren")
	_, err = s.Gone(ctx, time.Now().Add(time.Hour), 10)
	require.NoError(t, err)
	p, err = s.PlaceByID(ctx, records.Destination, p.ID)
	require.NoError(t, err, "history knows it by its number")
	assert.Contains(t, p.Name, "Harbour files (removed 20")
	assert.Empty(t, p.Secret)
	assert.JSONEq(t, "{}", string(p.Settings))
	oren, err = s.PersonByID(ctx, oren.ID)
	require.NoError(t, err)
	assert.Empty(t, oren.Mail)
	assert.Equal(t, "oren", oren.Name, "who did what stays on record")
}

// A job that is saved while its report is being removed waits for that, and is refused.
func TestWhatIsRemovedMeanwhileIsNotUsed(t *testing.T) {
	s, w := fresh(t)
	ctx := t.Context()
	r, err := s.PutReport(ctx, "Fuel burn", w.mara, w.mara, job.ReportDefinition{Source: "tarnwick"})
	require.NoError(t, err)
	saved := make(chan error, 1)
	do(t, s, func(tx *store.Tx) error {
		id, _, err := tx.LockRecord(ctx, "report", "Fuel burn")
		if err != nil {
			return err
		}
		go func() {
			saved <- s.Do(ctx, func(other *store.Tx) error {
				_, err := other.PutJob(ctx, "Fuel", w.mara, w.mara, false, job.Definition{Zone: "UTC"},
					records.Uses{Reports: []int64{r.ID}})
				return err
			})
		}()
		return tx.Remove(ctx, "report", id, "mara")
	})
	require.ErrorContains(t, <-saved, `there is no report "Fuel burn"; it was removed by Mara Quill`)
	jobs, err := s.Jobs(ctx, "", 10)
	require.NoError(t, err)
	assert.Empty(t, jobs, "nothing was saved by halves")
}
