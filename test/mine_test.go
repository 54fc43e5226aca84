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
