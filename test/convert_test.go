package test

import (
	"context"
	"slices"
	"testing"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Files that were picked up or made become files of other forms: each by itself or all in one, and
// what they hold stays what it is.
func TestFilesAreConverted(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	names := w.FilePlaces()
	w.Places()
	w.Report("Ports", "SELECT code, name, 10 AS berths FROM ports ORDER BY code")
	w.Write("folders/tides/tide_1.csv", "gauge;cm;note\n007;212,5;\"low; slack\"\n008;;x\n", 0o600)
	w.Write("folders/tides/tide_2.csv", "gauge;cm;note\n009;1;\xe4\n", 0o600)
	collect := job.Task{
		Name: "readings", Kind: job.KindCollect, After: []string{},
		Collect: &job.CollectTask{
			Source: "tide gauges", Pattern: "tide_*.csv", Take: job.TakeAll, Settled: job.Duration(50 * time.Millisecond),
		},
	}
	bring := func(uses ...string) job.Task {
		return job.Task{
			Name: "bring", Kind: job.KindDeliver, Uses: uses, After: uses,
			Deliver: &job.DeliverTask{Destination: names["folder"]},
		}
	}
	d := world.Tasks(
		world.ReportOf("Ports"),
		collect,
		job.Task{
			Name: "each", Kind: job.KindConvert, After: []string{"readings"}, Uses: []string{"readings"},
			Convert: &job.ConvertTask{
				Delimiter: ";", Encoding: "windows-1252", Text: []string{"gauge", "cm"},
				Outputs: []job.Output{
					{Format: "json", Name: "{value.original} as data"},
				},
			},
		},
		job.Task{
			Name: "book", Kind: job.KindConvert, After: []string{"ports"}, Uses: []string{"ports"},
			Convert: &job.ConvertTask{Outputs: []job.Output{{Format: "xlsx", DataOnly: true}}},
		},
		job.Task{
			Name: "back", Kind: job.KindConvert, After: []string{"book"}, Uses: []string{"book"},
			Convert: &job.ConvertTask{Pattern: "*.XLSX", Outputs: []job.Output{{Format: "csv", Name: "back"}}},
		},
		job.Task{
			Name: "one", Kind: job.KindConvert, After: []string{"readings", "back"}, Uses: []string{"readings", "back"},
			Convert: &job.ConvertTask{
				Pattern: "tide_*", Form: "csv", Delimiter: ";", Encoding: "windows-1252", Together: true,
				Text: []string{"gauge", "cm"}, Outputs: []job.Output{{Format: "html", Name: "all"}},
			},
		},
		bring("each", "book", "back", "one"),
	)
	ahead, err := w.C.TryJob(ctx, "Conversions", wire.JobRequest{Owner: "mara", On: true, Definition: d})
	require.NoError(t, err)
	require.Empty(t, ahead.Wrong)
	assert.Contains(t, ahead.Says, "The files become a spreadsheet.")
	w.Job("Conversions", d)
	run := w.Ring("Conversions")
	require.Equal(t, job.RunDone, run.State, run.Reason)
	brought := func(name string) string {
		text, ok := w.Fetched("folder", name)
		require.True(t, ok, name)
		return text
	}
	for name, says := range map[string][]string{
		"tide_1 as data.json": {`"007"`, `"212,5"`, `"low; slack"`},
		"tide_2 as data.json": {`"009"`, `"ä"`},
		"all.html":            {"tide_1", "tide_2", "007", "212,5", "ä"},
	} {
		text := brought(name)
		for _, want := range says {
			assert.Contains(t, text, want, name)
		}
	}
	assert.Equal(t, "code,name,berths\r\nEH,Ellerhaven,10\r\n", brought("back.csv")[:36])

	// What cannot be read fails with the file's name; what is not there is blank.
	w.Write("folders/tides/tide_1.csv", "gauge;cm;note\n1;2\n", 0o600)
	run = w.Ring("Conversions")
	assert.Equal(t, job.RunFailed, run.State)
	assert.Contains(t, run.Reason, "tide_1.csv")
	d.Tasks = []job.Task{d.Tasks[0], {
		Name: "none", Kind: job.KindConvert, Convert: &job.ConvertTask{Pattern: "*.tsv", Outputs: []job.Output{{Format: "pdf"}}},
	}}
	w.Job("Nothing to convert", d)
	run = w.Ring("Nothing to convert")
	assert.Equal(t, job.RunDone, run.State, "the report found something")
	none := slices.IndexFunc(run.Attempts, func(a job.Attempt) bool { return a.Task == "none" })
	require.GreaterOrEqual(t, none, 0)
	assert.Equal(t, job.AttemptBlank, run.Attempts[none].State)

	for says, wrong := range map[string]job.ConvertTask{
		"pattern":  {Pattern: "[", Outputs: []job.Output{{Format: "pdf"}}},
		"sections": {Outputs: []job.Output{{Format: "pdf", Sections: []job.Chosen{{Section: "x"}}}}},
		"encoding": {Encoding: "tarnwick-8", Outputs: []job.Output{{Format: "pdf"}}},
		"nothing":  {Outputs: []job.Output{{Format: "pdf", Name: "{nothing}"}}},
	} {
		d.Tasks[1].Convert = &wrong
		_, err := w.C.SaveJob(ctx, "Wrong", wire.JobRequest{Owner: "mara", On: true, Definition: d})
		require.ErrorContains(t, err, says)
	}
	d.Tasks = d.Tasks[1:]
	d.Tasks[0].Convert = &job.ConvertTask{Outputs: []job.Output{{Format: "pdf"}}}
	_, err = w.C.SaveJob(ctx, "Wrong", wire.JobRequest{Owner: "mara", On: true, Definition: d})
	require.ErrorContains(t, err, "no task comes before it")
}
