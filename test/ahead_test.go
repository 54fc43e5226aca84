package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatAJobWouldDoIsToldBeforeItIsSaved(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	names := w.FilePlaces()
	w.Person("oren", "Oren Hask")
	w.Person("brina", "Brina Colm")
	until := w.Now().Add(48 * time.Hour)
	_, err := w.C.SaveWishes(ctx, "brina", job.OwnSettings{Wishes: job.Wishes{PausedUntil: &until, StandIn: "oren"}})
	require.NoError(t, err)
	w.Report("Sheet", "SELECT :port AS port, :day AS day", job.Parameter{Name: "port", Type: job.TypeText},
		job.Parameter{Name: "day", Type: job.TypeDate})
	d := job.Definition{
		Zone: "Europe/London", Triggers: []job.Trigger{{Timing: job.Timing{Rule: "30 5 * * *"}}},
		Values: job.Values{"day": "today - 1 day"},
		Split: job.Split{
			Each: "port",
			Query: &job.ListQuery{
				Source: "tarnwick",
				SQL: "SELECT * FROM (VALUES ('Tarnwick Quay', 'quay.desk@tarnwick.example'), ('Pennold', " +
					"'pennold.desk@tarnwick.example')) v (port, mail)",
			},
		},
		Tasks: []job.Task{
			{
				Name: "report", Kind: job.KindReport,
				Report: &job.ReportTask{
					Report: "Sheet",
					Outputs: []job.Output{
						{Format: "pdf", Name: "{value.port} {value.day}", Folder: "{date:%Y}"},
						{Format: "csv", Name: "{rows} rows"},
						{Format: "html-mail"},
					},
				},
			},
			{
				Name: "mail", Kind: job.KindDeliver,
				Deliver: &job.DeliverTask{
					Destination: "company mail", To: []string{"{value.mail}", "person:brina"},
					Subject: "Sheet of {value.port}", Formats: []string{"pdf", "html-mail"}, Files: job.FilesBoth,
				},
			},
			{
				Name: "archive", Kind: job.KindDeliver, After: []string{"report"},
				Deliver: &job.DeliverTask{
					Destination: names["folder"], Folder: "{value.port}/{date:%m}", Formats: []string{"pdf"},
				},
			},
		},
	}
	ask := wire.JobRequest{Owner: "mara", On: true, Definition: d}
	a, err := w.C.TryJob(ctx, "Port day sheet", ask)
	require.NoError(t, err)
	require.Empty(t, a.Wrong)
	require.Len(t, a.Next, 8)
	next := a.Next[0]
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	assert.Equal(t, "05:30", next.Due.In(london).Format("15:04"))
	assert.Equal(t, 2, a.Parts)
	assert.Equal(t, "Tarnwick Quay", a.Part)
	require.Len(t, a.Tasks, 3)
	by := map[string]job.AheadTask{}
	for _, one := range a.Tasks {
		assert.Empty(t, one.Wrong, one.Task)
		by[one.Task] = one
	}
	day := next.Nominal.In(london).AddDate(0, 0, -1).Format("2006-01-02")
	pdf := "Tarnwick Quay " + day + ".pdf"
	assert.Equal(t, []string{next.Nominal.In(london).Format("2006") + "/" + pdf, "{rows} rows.csv"}, by["report"].Files,
		"what is known only then stands as it is written")
	assert.Equal(t, "Sheet of Tarnwick Quay", by["mail"].Subject)
	assert.Equal(t, []string{"quay.desk@tarnwick.example", "oren@tarnwick.example"}, by["mail"].To)
	assert.Equal(t, 2, by["mail"].Recipients)
	assert.Contains(t, strings.Join(by["mail"].Notes, ";"), "Oren Hask gets it instead")
	assert.Contains(t, by["mail"].Seen, "a link that only the 2 recipients of this mail can follow")
	assert.Equal(t, []string{pdf}, by["mail"].Files)
	assert.Equal(t, []string{"Tarnwick Quay/" + next.Nominal.In(london).Format("01") + "/" + pdf}, by["archive"].Files)
	_, err = w.C.Job(ctx, "Port day sheet")
	assert.Error(t, err, "nothing was saved")

	// What is passed over does not ring.
	closed := ask
	closed.Triggers = []job.Trigger{{Timing: job.Timing{Rule: "every day at 05:30 skip closed days"}}}
	a, err = w.C.TryJob(ctx, "Port day sheet", closed)
	require.NoError(t, err)
	require.Len(t, a.Next, 8)
	for _, r := range a.Next {
		assert.NotContains(t, []time.Weekday{time.Saturday, time.Sunday}, r.Due.In(london).Weekday(),
			"no calendar, so Monday to Friday are open")
	}

	// Whatever is missing is named, all of it at once.
	ask.Tasks = append([]job.Task{}, d.Tasks...)
	ask.Values = nil
	ask.Tasks[1].Deliver = &job.DeliverTask{
		Destination: "company mail", To: []string{"oren at tarnwick", "group:Nobody"},
	}
	ask.Tasks[2].Deliver = &job.DeliverTask{Destination: "the moon"}
	a, err = w.C.TryJob(ctx, "Port day sheet", ask)
	require.NoError(t, err)
	text, err := json.Marshal(a.Wrong)
	require.NoError(t, err)
	for _, part := range []string{"oren at tarnwick", "Nobody", "the moon"} {
		assert.Contains(t, string(text), part)
	}

	// What is saved does what was told.
	w.Job("Port day sheet", d)
	run := w.Ring("Port day sheet")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	got := map[string]bool{}
	for _, dl := range run.Deliveries {
		got[dl.Address] = true
	}
	assert.True(t, got["quay.desk@tarnwick.example"] && got["oren@tarnwick.example"])
	out, errs, status := w.Ironbell("ahead", "Port day sheet")
	require.Zero(t, status, errs)
	for _, part := range []string{
		"Rings", "One run with 2 parts: Tarnwick Quay, Pennold. This is the first, Tarnwick Quay:", pdf,
		"quay.desk@tarnwick.example", "seen by",
	} {
		assert.Contains(t, out, part)
	}

	// It is for those who may save the job.
	w.Person("tavish", "Tavish Rook")
	_, err = w.C.SavePerson(ctx, "tavish", wire.PersonRequest{
		Name: "Tavish Rook", Mail: "tavish@tarnwick.example", Role: "reader", Zone: "Europe/London",
		Password: world.Password,
	})
	require.NoError(t, err)
	var refused *client.Problem
	_, err = w.As("tavish").Ahead(ctx, "Port day sheet")
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, 403, refused.Status)

	p := w.Console()
	p.Do(chromedp.Navigate("http://" + w.Listen + "/jobs/Port%20day%20sheet"))
	p.Sees("What it does")
	p.Click("See what the next ring will do")
	p.Sees("2 parts in one run. This is the first, Tarnwick Quay.")
	p.Sees("to quay.desk@tarnwick.example, oren@tarnwick.example")
	p.Sees("Will be seen by whoever reads the mail of 2 recipients")
}

// Somebody who writes a job is told what is missing at every step, whatever it lacks so far.
func TestWhatIsHalfWrittenIsToldAndNeverBreaks(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports")
	token := w.TokenOf("mara")
	kinds := []job.TaskKind{
		job.KindReport, job.KindDeliver, job.KindCollect, job.KindFetch, job.KindQuery, job.KindProgram, job.KindCall,
		job.KindEmit, "unheard of",
	}
	first := `{"name":"first","kind":"report","report":{"report":"Ports","outputs":[{"format":"csv"}]}}`
	for _, kind := range kinds {
		for name, own := range map[string]string{
			"nothing": ``, "another's": `,"report":{"report":"Ports","outputs":[]}`, "empty": fmt.Sprintf(`,%q:{}`, kind),
			"null": fmt.Sprintf(`,%q:null`, kind),
		} {
			body := fmt.Sprintf(`{"zone":"UTC","on":true,"tasks":[%s,{"name":"second","kind":%q%s}]}`, first, kind, own)
			for _, at := range []string{"ahead", "values"} {
				sent := body
				if at == "values" {
					sent = fmt.Sprintf(`{"job":%s}`, body)
				}
				status, _, said := world.Call(t, http.DefaultClient, http.MethodPost,
					"http://"+w.Listen+"/api/jobs/new/"+at, token, sent)
				assert.Contains(t, []int{http.StatusOK, http.StatusUnprocessableEntity}, status, "%s of %s, %s: %s", at, kind,
					name, said)
			}
			status, _, said := world.Call(t, http.DefaultClient, http.MethodPut, "http://"+w.Listen+"/api/jobs/new", token,
				body)
			assert.Equal(t, http.StatusUnprocessableEntity, status, "saving %s, %s: %s", kind, name, said)
		}
	}
}
