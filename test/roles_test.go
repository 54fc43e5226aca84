package test_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What follows from a role is told before it is given, and no role is given
// without which nobody could administer.
func TestWhatFollowsFromARole(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	is := func(login string, role job.Role) error {
		_, err := w.C.SavePerson(ctx, login, wire.PersonRequest{
			Name: strings.ToUpper(login), Mail: login + "@tarnwick.example", Role: string(role), Zone: "Asia/Tokyo",
			Password: world.Password,
		})
		return err
	}
	require.NoError(t, is("oren", job.RoleOwner))
	w.Report("Departures", "SELECT 1 AS n")
	d := world.Definition("Departures", "company mail", []string{"csv"}, "desk@tarnwick.example")
	for _, name := range []string{"Departures", "Arrivals"} {
		_, err := w.C.SaveJob(ctx, name, wire.JobRequest{Owner: "oren", On: name == "Arrivals", Definition: d})
		require.NoError(t, err)
	}
	says := func(login string, role job.Role) string {
		all, err := w.C.InRole(ctx, login, role)
		require.NoError(t, err)
		return strings.Join(all, " ")
	}
	down := says("oren", job.RoleReader)
	assert.Contains(t, down, "They own 2 jobs (1 on) and 0 reports.")
	assert.Contains(t, down, "can no longer change or ring them")
	up := says("oren", job.RoleAdministrator)
	assert.Contains(t, up, "the 0 jobs and 1 report of others")
	assert.Empty(t, says("oren", job.RoleOwner), "nothing follows from the role that they have")
	_, err := w.As("oren").InRole(ctx, "mara", job.RoleReader)
	assert.ErrorContains(t, err, "it takes an administrator")

	// A file that is tried says the same.
	file := filepath.Join(t.TempDir(), "oren.yaml")
	require.NoError(t, os.WriteFile(file, []byte("ironbell: 1\nrecord: person oren\nname: Oren Hask\n"+
		"mail: oren@tarnwick.example\nrole: reader\nzone: Asia/Tokyo\n"), 0o600))
	out, errs, status := w.Ironbell("save", "-try", file)
	require.Zero(t, status, errs)
	assert.Contains(t, out, "They own 2 jobs (1 on) and 0 reports.")

	// Two administrators who make each other readers at once: one of them stays.
	me, err := w.C.Me(ctx)
	require.NoError(t, err)
	require.NoError(t, is("oren", job.RoleAdministrator))
	admins := func() (n int) {
		all, err := w.C.People(ctx)
		require.NoError(t, err)
		for _, p := range all {
			if p.Role == job.RoleAdministrator {
				n++
			}
		}
		return n
	}
	people, err := w.C.People(ctx)
	require.NoError(t, err)
	refused := make(chan error, len(people))
	var wg sync.WaitGroup
	for _, p := range people {
		if p.Role != job.RoleAdministrator {
			continue
		}
		wg.Go(func() {
			_, err := w.C.SavePerson(ctx, p.Login, wire.PersonRequest{
				Name: p.Name, Mail: p.Mail, Role: string(job.RoleReader), Zone: p.Zone,
			})
			refused <- err
		})
	}
	wg.Wait()
	assert.Equal(t, 1, admins(), "of %s and the others", me.Login)
	close(refused)
	var wrong []string
	for err := range refused {
		if err != nil {
			wrong = append(wrong, err.Error())
		}
	}
	assert.Len(t, wrong, 1, "%v", wrong)
}

// A list of many jobs stands in one zone, which is that of whoever reads it; the sheet of a job
// stands in its own.
func TestListsStandInTheReadersZone(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	me, err := w.C.Me(ctx)
	require.NoError(t, err)
	_, err = w.C.SavePerson(ctx, me.Login, wire.PersonRequest{
		Name: me.Name, Mail: me.Mail, Role: string(me.Role), Zone: "Asia/Tokyo",
	})
	require.NoError(t, err)
	w.Report("Departures", "SELECT 1 AS n")
	for name, zone := range map[string]string{"In London": "Europe/London", "In Lima": "America/Lima"} {
		d := world.Definition("Departures", "company mail", []string{"csv"}, "desk@tarnwick.example")
		d.Zone, d.Triggers = zone, []job.Trigger{{Timing: job.Timing{Rule: "every day at 06:00"}}}
		w.Job(name, d)
	}
	w.Ring("In Lima")
	for _, command := range []string{"jobs", "runs"} {
		out, errs, status := w.Ironbell(command)
		require.Zero(t, status, errs)
		assert.Contains(t, out, "JST", command)
		assert.NotRegexp(t, ` (GMT|BST|-05|UTC)\b`, out, command)
	}
	out, errs, status := w.Ironbell("job", "In Lima")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "06:00 -05")
	out, errs, status = w.Ironbell("freeze", "-from", "2031-01-01 00:00", "-reason", "stocktaking", "service")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "from Wed 1 Jan 2031 00:00 JST", "a time that is typed is of the same zone")
}
