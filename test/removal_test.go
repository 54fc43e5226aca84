package test

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func named(kind, name string) wire.RecordName { return wire.RecordName{Kind: kind, Name: name} }

// A record that others need stays; what nobody needs is removed, several at once, says what
// ends with it, and comes back as it was.
func TestRecordsAreRemovedAndBroughtBack(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	_, err := w.C.SavePost(ctx, "Port master", "", "joren")
	require.NoError(t, err)
	_, err = w.C.SaveGroup(ctx, "Port desk", "post:Port master", "person:joren", "person:mara")
	require.NoError(t, err)
	d := world.Tasks(world.ReportOf("Ports"), world.MailTo("group:Port desk"))
	d.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "every day at 00:00"}}}
	w.Job("Port list", d)
	run := w.Ring("Port list").ID

	for kind, c := range map[string]struct{ name, needs string }{
		"report":      {"Ports", `job "Port list" runs it`},
		"source":      {"tarnwick", `report "Ports" asks it`},
		"destination": {"company mail", `job "Port list" sends there`},
		"group":       {"Port desk", `job "Port list" sends to it`},
		"post":        {"Port master", `group "Port desk" holds it`},
		"person":      {"mara", `job "Port list" is theirs; give it another owner`},
	} {
		_, err := w.C.RemoveRecords(ctx, []wire.RecordName{named(kind, c.name)}, false)
		var p *client.Problem
		require.ErrorAs(t, err, &p, kind)
		assert.Equal(t, 422, p.Status)
		assert.ErrorContains(t, err, c.needs, kind)
	}
	_, err = w.C.RemoveRecords(ctx, []wire.RecordName{named("person", "sefa")}, false)
	assert.ErrorContains(t, err, "you would shut yourself out")

	out, errs, code := w.Ironbell("remove", "-try", "report", "Ports")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "report Ports: cannot be removed alone\n  needed by job Port list, which runs it\n")
	out, errs, code = w.Ironbell("remove", "report", "Ports", "job", "Port list", "group", "Port desk")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "job Port list: removed\n  It rings no more.\n  Its runs, files and links stay")
	for _, args := range [][]string{{"ring", "Port list"}, {"job", "Port list"}, {"report", "Ports"}, {"on", "Port list"}} {
		_, errs, code = w.Ironbell(args...)
		assert.Equal(t, 1, code)
		assert.Contains(t, errs, "it was removed by Sefa Orlin on", args)
	}
	out, _, _ = w.Ironbell("run", run.String())
	assert.Contains(t, out, "Port list", "history keeps its name")
	_, err = w.C.SaveGroup(ctx, "port desk", "person:mara")
	assert.ErrorContains(t, err, "belongs to a group that is not gone yet")
	out, _, _ = w.Ironbell("bring-back")
	assert.Contains(t, out, "Port list")

	// A job comes back on when it was, and rings from now on; without what it needs it is off.
	back, err := w.C.ReturnRecords(ctx, []wire.RecordName{named("job", "Port list")})
	require.NoError(t, err)
	require.Len(t, back.Notes, 1)
	assert.Contains(t, back.Notes[0], `The job "Port list" came back switched off, although it was on: `)
	assert.Contains(t, back.Notes[0], `there is no report "Ports"`)
	page, err := w.C.Job(ctx, "Port list")
	require.NoError(t, err)
	assert.False(t, page.On)
	_, err = w.C.RemoveRecords(ctx, []wire.RecordName{named("job", "Port list")}, false)
	require.NoError(t, err)
	out, errs, code = w.Ironbell("bring-back", "job", "Port list", "group", "Port desk", "report", "Ports")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "group Port desk is back.")
	_, err = w.C.Switch(ctx, "Port list", true)
	require.NoError(t, err)
	_, err = w.C.RemoveRecords(ctx, []wire.RecordName{named("job", "Port list")}, false)
	require.NoError(t, err)
	_, err = w.C.ReturnRecords(ctx, []wire.RecordName{named("job", "Port list")})
	require.NoError(t, err)
	page, err = w.C.Job(ctx, "Port list")
	require.NoError(t, err)
	assert.True(t, page.On)
	require.Len(t, page.Upcoming, 20, "it rings again")

	// Who is removed is out at once, gets nothing, and is told of as such.
	joren := client.New("http://"+w.Listen, w.TokenOf("joren"))
	removed, err := w.C.RemoveRecords(ctx, []wire.RecordName{named("person", "Joren")}, false)
	require.NoError(t, err)
	require.Len(t, removed, 1)
	assert.Contains(t, removed[0].Ends, "They hold the post Port master, which nobody holds then.")
	_, err = joren.Jobs(ctx, "")
	var p *client.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, 401, p.Status)
	_, err = client.New("http://"+w.Listen, "").MakeToken(ctx, "joren", world.Password, "a test")
	require.ErrorAs(t, err, &p)
	assert.Equal(t, 401, p.Status)
	out, _, _ = w.Ironbell("whom", "group:Port desk")
	assert.NotContains(t, out, "joren@tarnwick.example")
	assert.Contains(t, out, "was removed")
	_, err = w.C.SavePerson(ctx, "JOREN", wire.PersonRequest{
		Name: "Another", Mail: "another@tarnwick.example", Role: "reader", Zone: "UTC",
	})
	assert.ErrorContains(t, err, "not gone yet", "nobody else may sign in by a name that may come back")
	_, err = w.C.ReturnRecords(ctx, []wire.RecordName{named("person", "joren")})
	require.NoError(t, err)
	_, err = client.New("http://"+w.Listen, "").MakeToken(ctx, "joren", world.Password, "a test")
	require.NoError(t, err)
	_, err = w.C.ReturnRecords(ctx, []wire.RecordName{named("person", "joren")})
	assert.ErrorContains(t, err, `person "joren" is there; there is nothing to bring back`)
}

// Mails that wait for a destination that is removed are kept back, and go out when it is back.
// A run that is under way when its job is removed goes on to its end.
func TestWhatIsUnderWayOutlivesARemoval(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Ports", "SELECT code FROM ports")
	d := world.Definition("Ports", "harbour authority mail", []string{"csv"}, "desk@harbour.example")
	w.Job("Manifest", d)
	w.Behave("authority", "busy", 0)
	rung, err := w.C.Ring(ctx, "Manifest", nil)
	require.NoError(t, err)
	state := func() job.RunState {
		r, err := w.C.Run(ctx, rung.ID)
		require.NoError(t, err)
		return r.State
	}
	w.Until("it waits to go out", func() bool { return state() == job.RunDelivering })
	require.NoError(t, w.C.SaveAlertSettings(ctx, job.AlertSettings{Destination: "company mail"}))
	removed, err := w.C.RemoveRecords(ctx, []wire.RecordName{
		named("destination", "harbour authority mail"), named("job", "Manifest"),
	}, false)
	require.NoError(t, err)
	require.Len(t, removed, 2)
	assert.Contains(t, removed[0].Ends, "What was made already still goes out: 1 delivery.")
	assert.Equal(t, []string{
		"1 delivery waits for it: kept back until it comes back, and given up when its job says so.",
	}, removed[1].Ends)
	w.Behave("authority", "accept", 0)
	w.Until("it is kept back, once a try that was under way has ended", func() bool {
		out, _, _ := w.Ironbell("deliveries", "-kept-back", "rest")
		return strings.Contains(out, "desk@harbour.example")
	})
	assert.Empty(t, w.Inbox("desk@harbour.example"))
	out, _, _ := w.Ironbell("state")
	assert.NotContains(t, out, "harbour authority mail", "what was removed needs nobody")
	_, err = w.C.ReturnRecords(ctx, []wire.RecordName{named("destination", "harbour authority mail")})
	require.NoError(t, err)
	w.Until("it arrives", func() bool { return len(w.Inbox("desk@harbour.example")) == 1 })
	w.Until("its run is done, although its job is removed", func() bool { return state() == job.RunDone })

	// What fails of a job that was removed with its owner is told to those who are left.
	require.NoError(t, w.C.SaveAlertSettings(ctx, job.AlertSettings{
		Destination: "company mail", Second: job.Duration(time.Second), Administrators: job.Duration(time.Second),
	}))
	d.Tasks[1].Deliver.Destination, d.GiveUpAfter = "harbour authority mail", job.Duration(3*time.Second)
	w.Job("Manifest again", d)
	w.Behave("authority", "busy", 0)
	_, err = w.C.Ring(ctx, "Manifest again", nil)
	require.NoError(t, err)
	w.Until("it waits", func() bool {
		out, _, _ := w.Ironbell("deliveries", "-state", "waiting")
		return strings.Contains(out, "desk@harbour.example")
	})
	_, err = w.C.RemoveRecords(ctx, []wire.RecordName{
		named("job", "Manifest again"), named("report", "Ports"), named("person", "mara"),
		named("destination", "harbour authority mail"),
	}, false)
	require.NoError(t, err)
	w.Until("an administrator is told", func() bool {
		for _, letter := range w.Inbox("sefa.orlin@tarnwick.example") {
			if strings.Contains(letter.Plain, "Manifest again") {
				return true
			}
		}
		return false
	})
}

// Copies say what their originals say. A new name is rewritten wherever the old one stood, and the
// old one still finds the record.
func TestRecordsAreCopiedAndRenamed(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.LoadCompany()
	ctx := context.Background()
	copies(t, w)
	before, after := t.TempDir(), t.TempDir()
	_, errs, code := w.Ironbell("show", "-into", before)
	require.Zero(t, code, errs)
	due := func() map[string]string {
		jobs, err := w.C.Jobs(ctx, "")
		require.NoError(t, err)
		all := map[string]string{}
		for _, j := range jobs {
			if j.NextDue != nil && j.NextDue.Sub(w.Now()) > time.Hour { // the others ring meanwhile
				all[strings.Replace(j.Name, "Port day sheet (all)", "Port day sheet", 1)] = j.NextDue.String()
			}
		}
		return all
	}
	err := w.C.SaveLimits(ctx, map[string]int{"source:tarnwick": 3})
	require.NoError(t, err)
	rings := due()
	// What was removed is rewritten as well, and fits when it comes back.
	gone := []wire.RecordName{named("job", "Open defects"), named("report", "Open defects")}
	_, err = w.C.RemoveRecords(ctx, gone, false)
	require.NoError(t, err)
	delete(rings, "Open defects")
	renames := [][3]string{
		{"source", "tarnwick", "tarnwick sound"},
		{"destination", "company mail", "house mail"},
		{"report", "Fuel burn by vessel", "Fuel of each vessel"},
		{"person", "mara", "quill"},
		{"job", "Port day sheet", "Port day sheet (all)"},
	}
	for _, r := range renames {
		out, errs, code := w.Ironbell("rename", "-try", r[0], r[1], r[2])
		require.Zero(t, code, errs)
		assert.Contains(t, out, "would be called "+r[2])
		out, errs, code = w.Ironbell("rename", r[0], r[1], r[2])
		require.Zero(t, code, "%v: %s", r, errs)
		assert.Contains(t, out, "is called "+r[2]+" now. The old name still finds it.")
		shown, errs, code := w.Ironbell("show", r[0], r[1])
		require.Zero(t, code, errs)
		now, _, _ := w.Ironbell("show", r[0], r[2])
		assert.Equal(t, strings.Split(now, "\n")[2:], strings.Split(shown, "\n")[2:])
	}
	is := due()
	for name, at := range rings {
		if later, still := is[name]; still {
			assert.Equal(t, at, later, "%s rings when it would have", name)
		}
	}
	assert.NotEmpty(t, is)
	back, err := w.C.ReturnRecords(ctx, gone)
	require.NoError(t, err)
	assert.Empty(t, back.Notes)
	_, errs, code = w.Ironbell("show", "-into", after)
	require.Zero(t, code, errs)
	was, now := world.Files(t, before), world.Files(t, after)
	assert.Equal(t, len(was), len(now))
	for path, text := range now {
		for _, r := range renames[:4] {
			for _, form := range []string{": " + r[1] + "\n", "- " + r[1] + "\n", "person:" + r[1], ":" + r[1] + ":"} {
				if r[0] == "person" && strings.HasPrefix(path, "/job/") && form == ": "+r[1]+"\n" {
					form = "owner: " + r[1] + "\n"
				}
				if r[0] == "report" {
					form = "report" + form // a job has this name as well, and keeps it
				}
				assert.NotContains(t, text, form, path)
			}
		}
	}
	// What was sealed for the old name opens under the new one, and all still works.
	for _, args := range [][]string{{"sources", "-test", "tarnwick sound"}, {"destinations", "-test", "house mail"}} {
		_, errs, code = w.Ironbell(args...)
		assert.Zero(t, code, errs)
	}
	for _, name := range []string{"Fuel burn by vessel", "Port day sheet (all)"} {
		out, errs, code := w.Ironbell("ring", "-follow", name)
		assert.Zero(t, code, "%s: %s%s", name, out, errs)
	}
	limits, err := w.C.Limits(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{"source:tarnwick sound": 3}, limits)

	_, errs, code = w.Ironbell("save", filepath.Join(before, "source", "tarnwick.yaml"))
	assert.Equal(t, 1, code, "a file of before")
	assert.Contains(t, errs, `:2:9: the source "tarnwick" is called "tarnwick sound" now`)

	// The old name is taken until it is freed; a name of another is not to be had.
	_, errs, code = w.Ironbell("rename", "person", "joren", "mara")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, `the person "quill" had the name "mara" before`)
	_, errs, code = w.Ironbell("rename", "person", "joren", "QUILL")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, `there is a person "QUILL" already`)
	_, errs, code = w.Ironbell("rename", "-free", "person", "quill", "mara")
	require.Zero(t, code, errs)
	_, errs, code = w.Ironbell("rename", "person", "joren", "mara")
	require.Zero(t, code, errs)
	_, errs, code = w.Ironbell("rename", "job", "Port day sheet (all)", "Port day sheet")
	require.Zero(t, code, errs, "its own old name it may have again")
}

// copies makes a copy of a record of each kind, which says what its original says.
func copies(t *testing.T, w *world.World) {
	t.Helper()
	ctx := context.Background()
	for kind, name := range map[string]string{
		"job": "Port day sheet", "report": "Vehicle-deck load", "group": "Port masters", "post": "Engineering superintendent",
		"destination": "company mail", "calendar": "Harbour", "source": "tarnwick", "person": "mara",
	} {
		all, err := w.C.Records(ctx, kind)
		require.NoError(t, err)
		if !slices.Contains(all, named(kind, name)) {
			name = all[0].Name
		}
		_, errs, code := w.Ironbell("duplicate", kind, name, "a copy")
		require.Zero(t, code, "%s: %s", kind, errs)
		_, errs, code = w.Ironbell("duplicate", kind, name, "a copy")
		assert.Equal(t, 1, code, kind)
		assert.NotEmpty(t, errs)
		if kind == "person" {
			continue
		}
		was, err := w.C.RecordFile(ctx, kind, name, false)
		require.NoError(t, err)
		is, err := w.C.RecordFile(ctx, kind, "a copy", false)
		require.NoError(t, err)
		without := func(text []byte) string {
			lines := strings.Split(string(text), "\n")[2:]
			return strings.Join(slices.DeleteFunc(lines, func(l string) bool {
				return strings.HasPrefix(l, "owner: ") || strings.HasPrefix(l, "'on': ")
			}), "\n")
		}
		assert.Equal(t, without(was), without(is), kind)
	}
	page, err := w.C.Job(ctx, "a copy")
	require.NoError(t, err)
	assert.False(t, page.On)
	_, errs, code := w.Ironbell("destinations", "-test", "a copy")
	assert.Zero(t, code, "its password was copied: %s", errs)
	all := []wire.RecordName{}
	for _, kind := range []string{"job", "report", "group", "post", "destination", "calendar", "source", "person"} {
		all = append(all, named(kind, "a copy"))
	}
	_, err = w.C.RemoveRecords(ctx, all, false)
	require.NoError(t, err, "one of each kind at once")
}
