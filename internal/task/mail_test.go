package task

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/task/compose"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func attachment(name string, size int64) deliver.Attachment {
	return deliver.Attachment{Name: name, Size: size, Open: func(context.Context) (io.ReadSeekCloser, error) {
		return closing{strings.NewReader(strings.Repeat("t", int(size)))}, nil
	}}
}

type closing struct{ *strings.Reader }

func (closing) Close() error { return nil }

func TestFilesAreDividedOverMailsInTheirOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sizes := rapid.SliceOfN(rapid.Int64Range(0, 40_000), 1, 30).Draw(t, "sizes")
		limit := rapid.Int64Range(70_000, 300_000).Draw(t, "limit")
		l := deliver.Letter{Plain: "Departures."}
		for _, s := range sizes {
			l.Attachments = append(l.Attachments, attachment("a.csv", s))
		}
		bunches, err := compose.Bunch(l, limit)
		require.NoError(t, err)
		var got []int64
		for _, b := range bunches {
			one := l
			one.Attachments = b
			require.LessOrEqual(t, compose.SizeOf(one), limit, "each mail is within what the server takes")
			require.NotEmpty(t, b)
			for _, a := range b {
				got = append(got, a.Size)
			}
		}
		require.Equal(t, sizes, got, "each file once, in order")
		for i := 1; i < len(bunches); i++ {
			joined := l
			joined.Attachments = append(append([]deliver.Attachment{}, bunches[i-1]...), bunches[i][0])
			require.Greater(t, compose.SizeOf(joined), limit, "no mail more than is needed")
		}
	})
}

func TestAFileThatIsTooLargeForAnyMailIsSaid(t *testing.T) {
	_, err := compose.Bunch(deliver.Letter{Attachments: []deliver.Attachment{
		attachment("small.csv", 10),
		attachment("huge.csv", 1_000_000),
	}}, 100_000)
	assert.ErrorContains(t, err, "the mail server takes 100 kB")
}

func TestTheHouseFillsInWhatAJobLeavesOut(t *testing.T) {
	settings := job.MailSettings{Subject: "Tarnwick: {job}", Body: "Good morning.", ReplyTo: "desk@tarnwick.example"}
	d := withDefaults(job.DeliverTask{}, settings)
	assert.Equal(t, []string{"Tarnwick: {job}", "Good morning.", "desk@tarnwick.example"},
		[]string{d.Subject, d.Body, d.ReplyTo})
	d = withDefaults(job.DeliverTask{Subject: "Own", Body: "Own.", ReplyTo: "mara@tarnwick.example"}, settings)
	assert.Equal(t, []string{"Own", "Own.", "mara@tarnwick.example"}, []string{d.Subject, d.Body, d.ReplyTo})
	d = withDefaults(job.DeliverTask{}, job.MailSettings{})
	assert.Equal(t, DefaultSubject, d.Subject)
	assert.NotEmpty(t, d.Body, "a mail is never empty")
}

func TestAnArchiveHoldsAllFilesWhole(t *testing.T) {
	var out bytes.Buffer
	now := time.Date(2026, 11, 27, 6, 15, 0, 0, time.UTC)
	require.NoError(t,
		compose.WriteZip(context.Background(), &out,
			[]deliver.Attachment{attachment("a.csv", 5000), attachment("åpning.csv", 0)}, now))
	read, err := zip.NewReader(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	require.Len(t, read.File, 2)
	assert.Equal(t, []string{"a.csv", "åpning.csv"}, []string{read.File[0].Name, read.File[1].Name})
	assert.EqualValues(t, 5000, read.File[0].UncompressedSize64)
	assert.Less(t, out.Len(), 1000, "it is compressed")
}

func TestFilesOfOneNameGetNumbersAndStayInTheirFolder(t *testing.T) {
	taken := map[string]bool{}
	var got []string
	for _, name := range []string{
		"2026.11/tides", "2026.11/tides", "2026.11/Tides", "board.pdf", "BOARD.PDF",
		"board (2).pdf",
	} {
		got = append(got, unlike(name, taken))
	}
	assert.Equal(t,
		[]string{
			"2026.11/tides", "2026.11/tides (2)", "2026.11/Tides (3)", "board.pdf", "BOARD (2).PDF",
			"board (2) (2).pdf",
		}, got)
}

func TestWhatIsKnownOnlyWhenATaskRuns(t *testing.T) {
	for text, want := range map[string]bool{
		"{rows} sailings": true, "{run}": true, `{total("litres") > 5}`: true, `{outcome("report")}`: true,
		`{file("report")}`: true, `{rows > 9 ? "many" : "few"}`: true,
		"{date:%Y}": false, "{value.port}": false, "rows without braces": false, "{value.rowsize}": false, "": false,
	} {
		assert.Equal(t, want, later.MatchString(text), text)
	}
	ctx := context.Background()
	w := Work{
		Nominal: time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC),
		Params:  func(context.Context) ([]job.Parameter, error) { return nil, nil },
	}
	f := job.Artifact{Name: "sheet.pdf", Folder: "made"}
	for _, c := range []struct {
		d    job.DeliverTask
		want string
	}{
		{job.DeliverTask{}, "made/sheet.pdf"},
		{job.DeliverTask{Folder: "{date:%Y}/{date:%m}"}, "2026/11/sheet.pdf"},
		{job.DeliverTask{Folder: "in", Name: "day {date:%d}"}, "in/day 27.pdf"},
		{job.DeliverTask{Folder: "{run}", Name: "{rows} rows"}, "{run}/{rows} rows.pdf"},
	} {
		got, err := w.pathOf(ctx, &c.d, f)
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
	}
	f.Section = "By port"
	got, err := w.pathOf(ctx, &job.DeliverTask{Name: "day {date:%d}"}, f)
	require.NoError(t, err)
	assert.Equal(t, "made/day 27 - By port.pdf", got, "one of several files of a report")
	f.Section = ""
	w.RunID = 26110000000042
	got, err = w.pathOf(ctx, &job.DeliverTask{Name: "{run} {rows}"}, f)
	require.NoError(t, err)
	assert.Equal(t, "made/2611-42 0.pdf", got, "a run knows them")
}
