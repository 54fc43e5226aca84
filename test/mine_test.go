package test_test

import (
	"context"
	"testing"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is open is joined by those to whom it is open, comes to them as a copy that nobody else
// sees, and no longer comes once they leave or it is closed to them.
func TestJoiningWhatIsOpen(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	for login, name := range map[string]string{"oren": "Oren Hask", "brina": "Brina Colm"} {
		_, err := w.C.SavePerson(ctx, login, wire.PersonRequest{
			Name: name, Mail: login + "@tarnwick.example", Role: "reader", Zone: "Europe/London", Password: world.Password,
		})
		require.NoError(t, err)
	}
	oren, brina := w.As("oren"), w.As("brina")
	_, err := w.C.SaveGroup(ctx, "Quay", "person:oren")
	require.NoError(t, err)
	w.Report("Departures", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	d := world.Definition("Departures", "company mail", []string{"csv"}, "desk@tarnwick.example")
	w.Job("Departures", d)

	mine, err := oren.Mine(ctx)
	require.NoError(t, err)
	assert.Empty(t, mine.Open, "nothing is open unless its owner says so")
	assert.ErrorContains(t, oren.Join(ctx, "Departures", true), "not open to them")

	for text, says := range map[string]string{
		"oren@tarnwick.example": "is an address, and only people can", "person:nobody": `there is no person "nobody"`,
		"group:": "names nobody",
	} {
		d.Joiners = []string{text}
		_, err := w.C.SaveJob(ctx, "Departures", wire.JobRequest{Owner: "mara", On: true, Definition: d})
		assert.ErrorContains(t, err, says)
	}
	d.Joiners = []string{"group:Quay"}
	w.Job("Departures", d)
	mine, err = oren.Mine(ctx)
	require.NoError(t, err)
	require.Len(t, mine.Open, 1)
	assert.Equal(t, "Departures", mine.Open[0].Job)
	assert.Equal(t, "Mara Quill", mine.Open[0].Owner)
	assert.False(t, mine.Open[0].Joined)
	assert.ErrorContains(t, brina.Join(ctx, "Departures", true), "not open to them")
	assert.ErrorContains(t, oren.Join(ctx, "Departures", false), "you have not joined them")
	require.NoError(t, oren.Join(ctx, "Departures", true))
	require.NoError(t, oren.Join(ctx, "Departures", true), "once more is the same")

	gets := func(n int, why string) {
		t.Helper()
		assert.Equal(t, job.RunDone, w.Ring("Departures").State)
		assert.Len(t, w.Inbox("oren@tarnwick.example"), n, why)
	}
	gets(1, "he joined")
	letter := w.Inbox("oren@tarnwick.example")[0]
	assert.NotContains(t, w.Raw(w.Inbox("desk@tarnwick.example")[0]), "oren")
	assert.NotContains(t, w.Raw(letter), "To: oren", "it is a copy that nobody sees")
	mine, err = oren.Mine(ctx)
	require.NoError(t, err)
	assert.True(t, mine.Open[0].Joined)
	require.Len(t, mine.Receives, 1)

	// Out of the group, or with the job closed, it no longer comes; within again, it does.
	_, err = w.C.SaveGroup(ctx, "Quay", "person:brina")
	require.NoError(t, err)
	gets(1, "he is not in the group any more")
	_, err = w.C.SaveGroup(ctx, "Quay", "person:oren", "person:brina")
	require.NoError(t, err)
	gets(2, "he is in it again")
	require.NoError(t, oren.Join(ctx, "Departures", false))
	gets(2, "he left")
	require.NoError(t, oren.Join(ctx, "Departures", true))
	gets(3, "he joined again")
	n, err := oren.Leave(ctx, "oren", "Departures", true)
	require.NoError(t, err, "whoever joined may leave")
	assert.Equal(t, int64(1), n)
	_, err = oren.Leave(ctx, "oren", "Departures", true)
	assert.ErrorContains(t, err, "its owner does not let recipients leave", "that is for lists that others wrote")
	gets(3, "he left")

	// What waits for its owner, and what is theirs.
	_, err = w.C.SaveJob(ctx, "Mail of brina", world.WithOwner("mara", world.Tasks(world.ReportOf("Departures"))))
	require.NoError(t, err)
	mara, err := w.As("mara").Mine(ctx)
	require.NoError(t, err)
	var names []string
	for _, j := range mara.Jobs {
		names = append(names, j.Name)
	}
	assert.Equal(t, []string{"Departures", "Mail of brina"}, names)
	out, _, status := w.Ironbell("mine")
	assert.Zero(t, status)
	assert.Contains(t, out, "What waits for you\n  Nothing.")
	assert.Contains(t, out, "none is open to you")
}

// Whoever a report is open to has it sent to themselves, and to nobody else, for as long as it
// is open to them.
func TestOwnSchedules(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	_, err := w.C.SavePerson(ctx, "oren", wire.PersonRequest{
		Name: "Oren Hask", Mail: "oren@tarnwick.example", Role: "reader", Zone: "Europe/London", Password: world.Password,
	})
	require.NoError(t, err)
	oren := w.As("oren")
	asks := job.Parameter{Name: "port", Type: job.TypeText, Default: "TQ"}
	const sql = "SELECT code FROM ports WHERE code = :port"
	w.Report("Departures", sql, asks)
	own := job.OwnSchedule{Report: "Departures", When: "every day at 06:00", Form: "csv", Values: job.Values{"port": "GS"}}
	_, err = oren.Schedule(ctx, "", own)
	assert.ErrorContains(t, err, "is not open to own schedules of Oren Hask", "nothing is open unless its owner says so")

	open := func(to ...string) {
		_, err := w.C.SaveReport(ctx, "Departures", wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{
			Source: "tarnwick", Sections: []job.Section{{Name: "Rows", SQL: sql}}, Parameters: []job.Parameter{asks},
			Schedulers: to,
		}})
		require.NoError(t, err)
	}
	open("person:oren")
	mine, err := oren.Mine(ctx)
	require.NoError(t, err)
	require.Len(t, mine.ToSchedule, 1)
	for when, says := range map[string]string{
		"every 10 minutes": "own schedules come 24 times a day at most", "every blue moon": "moon",
	} {
		wrong := own
		wrong.When = when
		_, err = oren.Schedule(ctx, "", wrong)
		assert.ErrorContains(t, err, says)
	}
	j, err := oren.Schedule(ctx, "", own)
	require.NoError(t, err)
	assert.Equal(t, "Departures for Oren Hask", j.Name)
	assert.True(t, j.On)
	same, err := oren.Schedule(ctx, "", own)
	require.NoError(t, err)
	assert.Equal(t, j.ID, same.ID, "whoever lost the answer and asks again does not get it twice")
	// Nor does whoever presses six times at once, on whichever node.
	pressed, six := own, make(chan int64, 6)
	pressed.When = "every day at 09:30"
	for range 6 {
		go func() {
			j, err := oren.Schedule(ctx, "", pressed)
			assert.NoError(t, err)
			six <- j.ID
		}()
	}
	first := <-six
	for range 5 {
		assert.Equal(t, first, <-six)
	}
	_, err = oren.RemoveRecords(ctx, []wire.RecordName{{Kind: "job", Name: "Departures for Oren Hask 2"}}, false)
	require.NoError(t, err)
	other := own
	other.When = "every day at 07:00"
	again, err := oren.Schedule(ctx, "", other)
	require.NoError(t, err)
	assert.Equal(t, "Departures for Oren Hask 3", again.Name)
	mine, err = oren.Mine(ctx)
	require.NoError(t, err)
	require.Len(t, mine.Schedules, 2)
	assert.Equal(t, own, mine.Schedules[0].OwnSchedule)
	assert.Empty(t, mine.Jobs)

	// It comes to him alone; it is changed, paused and removed by him.
	run, err := oren.Ring(ctx, j.Name, nil)
	require.NoError(t, err)
	w.Until("it has come", func() bool {
		page, err := oren.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunDone
	})
	assert.Len(t, w.Inbox("oren@tarnwick.example"), 1)
	own.When = "on friday at 16:30"
	j, err = oren.Schedule(ctx, j.Name, own)
	require.NoError(t, err)
	assert.Equal(t, "on friday at 16:30", j.Triggers[0].Rule)
	_, err = oren.Switch(ctx, j.Name, false)
	require.NoError(t, err)
	j, err = oren.Schedule(ctx, j.Name, own)
	require.NoError(t, err)
	assert.False(t, j.On, "what is paused stays so")
	remove := func(name string) error {
		_, err := oren.RemoveRecords(ctx, []wire.RecordName{{Kind: "job", Name: name}}, false)
		return err
	}
	require.NoError(t, remove(again.Name))
	again, err = oren.Schedule(ctx, "", other)
	require.NoError(t, err)
	assert.Equal(t, "Departures for Oren Hask 4", again.Name, "the name of what was removed is not free")
	// What belongs to a reader by other ways gives them no more rights than they had.
	_, err = w.C.SaveJob(ctx, "Board", wire.JobRequest{
		Owner: "oren", On: true, Definition: world.Definition("Departures", "company mail", []string{"csv"}, "desk@tarnwick.example"),
	})
	require.NoError(t, err)
	_, err = oren.Ring(ctx, "Board", nil)
	assert.ErrorContains(t, err, "may not ring the job Board")

	// Ways round: another recipient, another place, another report, somebody else's job.
	save := func(change func(d *job.Definition)) error {
		page, err := oren.Job(ctx, j.Name)
		require.NoError(t, err)
		d := page.Definition
		change(&d)
		_, err = oren.SaveJob(ctx, j.Name, wire.JobRequest{On: true, Definition: d})
		return err
	}
	for why, change := range map[string]func(d *job.Definition){
		"another recipient": func(d *job.Definition) { d.Tasks[1].Deliver.To = []string{"x@else.test"} },
		"a copy":            func(d *job.Definition) { d.Tasks[1].Deliver.Bcc = []string{"x@else.test"} },
		"a second form": func(d *job.Definition) {
			d.Tasks[0].Report.Outputs = append(d.Tasks[0].Report.Outputs, job.Output{Format: "pdf"})
		},
		"an identity": func(d *job.Definition) { d.Tasks[0].Report.Identity = "quay" },
		"joiners":     func(d *job.Definition) { d.Joiners = []string{"person:mara"} },
		"a split":     func(d *job.Definition) { d.Split.Each = "port" },
		"another task": func(d *job.Definition) {
			d.Tasks = append(d.Tasks, job.Task{Name: "more", Kind: job.KindReport, Report: &job.ReportTask{Report: "Departures", Outputs: []job.Output{{Format: "csv"}}}})
		},
	} {
		assert.ErrorContains(t, save(change), "sends one report in one form to its owner", why)
	}
	assert.ErrorContains(t, save(func(d *job.Definition) { d.Personal = false }), "may not save the job")
	// Nor is anything asked of a source for whoever calls something else an own schedule.
	page, err := oren.Job(ctx, j.Name)
	require.NoError(t, err)
	lists := page.Definition
	lists.Split = job.Split{Each: "port", Query: &job.ListQuery{Source: "tarnwick", SQL: "SELECT code FROM ports"}}
	_, err = oren.TryJob(ctx, "quite new", wire.JobRequest{On: true, Definition: lists})
	assert.ErrorContains(t, err, "sends one report in one form to its owner")
	w.Report("Wages", "SELECT 1 AS wage")
	assert.ErrorContains(t, save(func(d *job.Definition) { d.Tasks[0].Report.Report = "Wages" }), "not open to own schedules")
	w.Job("Departures of mara", world.Definition("Departures", "company mail", []string{"csv"}, "desk@tarnwick.example"))
	_, err = oren.Schedule(ctx, "Departures of mara", own)
	assert.ErrorContains(t, err, "may not change the job")
	_, err = oren.Ring(ctx, "Departures of mara", nil)
	assert.ErrorContains(t, err, "may not ring the job")
	require.ErrorContains(t, remove("Departures of mara"), "may not remove")

	// Once it is closed to him it no longer comes, whatever was scheduled before.
	open()
	_, err = oren.Ring(ctx, j.Name, nil)
	require.NoError(t, err)
	w.Until("it fails and says why", func() bool {
		runs := w.RunsOf(j.Name)
		return runs[0].State == job.RunFailed && assert.ObjectsAreEqual(true, len(runs) == 2)
	})
	assert.Contains(t, w.RunsOf(j.Name)[0].Reason, "no longer open to own schedules of Oren Hask")
	w.Until("he has the alert that it failed, beside the report of before", func() bool {
		return len(w.Inbox("oren@tarnwick.example")) == 2
	})
}

// Who owns a report may end the own schedules of it, which would keep it for ever, and no others.
func TestAReportsOwnerEndsItsOwnSchedules(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	for login, role := range map[string]string{"oren": "reader", "brina": "owner"} {
		_, err := w.C.SavePerson(ctx, login, wire.PersonRequest{
			Name: login, Mail: login + "@tarnwick.example", Role: role, Zone: "Europe/London", Password: world.Password,
		})
		require.NoError(t, err)
	}
	oren, brina := w.As("oren"), w.As("brina")
	schedule := map[string]string{}
	for report, owner := range map[string]string{"Berths": "brina", "Tides": "mara"} {
		w.Report(report, "SELECT 1 AS n")
		_, err := w.C.SaveReport(ctx, report, wire.ReportRequest{Owner: owner, ReportDefinition: job.ReportDefinition{
			Source: "tarnwick", Sections: []job.Section{{Name: "Rows", SQL: "SELECT 1 AS n"}},
			Schedulers: []string{"person:oren"},
		}})
		require.NoError(t, err)
		j, err := oren.Schedule(ctx, "", job.OwnSchedule{Report: report, When: "every day at 06:00"})
		require.NoError(t, err)
		schedule[report] = j.Name
	}
	remove := func(records ...wire.RecordName) error {
		_, err := brina.RemoveRecords(ctx, records, false)
		return err
	}
	theirs := wire.RecordName{Kind: "report", Name: "Berths"}
	assert.ErrorContains(t, remove(theirs), "needs it", "alone it stays")
	require.ErrorContains(t, remove(wire.RecordName{Kind: "job", Name: schedule["Tides"]}), "may not remove")
	require.NoError(t, remove(theirs, wire.RecordName{Kind: "job", Name: schedule["Berths"]}))
	mine, err := oren.Mine(ctx)
	require.NoError(t, err)
	require.Len(t, mine.Schedules, 1)
	assert.Equal(t, schedule["Tides"], mine.Schedules[0].Name)
	_, err = brina.ReturnRecords(ctx, []wire.RecordName{{Kind: "job", Name: schedule["Berths"]}})
	assert.ErrorContains(t, err, "may not bring back", "ending is all that an owner of the report may do")
}
