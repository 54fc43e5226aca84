package faults

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// peak is the largest resident size that a process has had, in bytes.
func peak(t *testing.T, pid int) int64 {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	for _, line := range strings.Split(string(text), "\n") {
		if kb, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			n, err := strconv.ParseInt(strings.Fields(kb)[0], 10, 64)
			require.NoError(t, err)
			return n * 1024
		}
	}
	t.Fatal("the system does not tell the resident size")
	return 0
}

// A million rows become a text file and a spreadsheet within 300 MB, and a table
// for a mail that says where the rest is.
func TestAMillionRows(t *testing.T) {
	w := world.Open(t)
	const count = 1_000_000
	w.Report("Many",
		fmt.Sprintf(`SELECT n AS "Number", 'Sailing ' || n AS "Name", n * 1.25 AS "Litres", date '2026-01-01' + n %% 365 AS "Day",
		timestamptz '2026-01-01 06:00+00' + n * interval '1 minute' AS "Left", n %% 7 = 0 AS "Late", n %% 5 AS "Port", 'Grey Skerry' AS "From" FROM generate_series(1, %d) n`, count))
	d := world.Definition("Many", "company mail", []string{"csv", "xlsx", "html-mail"}, "a@tarnwick.example")
	d.Tasks = d.Tasks[:1] // the files are fetched, not mailed
	w.Job("Many", d)
	page := w.Ring("Many")
	require.Equal(t, job.RunDone, page.State, page.Reason)
	byFormat := map[string]job.Artifact{}
	for _, f := range page.Artifacts {
		byFormat[f.Format] = f
		assert.Equal(t, int64(count), f.Rows)
	}
	mb := peak(t, w.Service.Process().Pid) >> 20
	t.Logf("%d rows: CSV %d MB, XLSX %d MB; the service had %d MB at most; took %s", count, byFormat["csv"].Size>>20,
		byFormat["xlsx"].Size>>20, mb, page.EndedAt.Sub(*page.StartedAt).Round(time.Millisecond))
	assert.Less(t, mb, int64(300))
	in, err := w.C.File(context.Background(), byFormat["html-mail"].ID)
	require.NoError(t, err)
	var table bytes.Buffer
	_, err = table.ReadFrom(in)
	require.NoError(t, err)
	require.NoError(t, in.Close())
	assert.Contains(t, table.String(),
		"Shown here are the first 5,000 of 1,000,000 rows. All of them are in "+byFormat["csv"].Name+", "+
			byFormat["xlsx"].Name)
	in, err = w.C.File(context.Background(), byFormat["csv"].ID)
	require.NoError(t, err)
	var text bytes.Buffer
	_, err = text.ReadFrom(in)
	require.NoError(t, err)
	require.NoError(t, in.Close())
	assert.Equal(t, count+1, bytes.Count(text.Bytes(), []byte("\r\n")))
	in, err = w.C.File(context.Background(), byFormat["xlsx"].ID)
	require.NoError(t, err)
	var book bytes.Buffer
	_, err = book.ReadFrom(in)
	require.NoError(t, err)
	require.NoError(t, in.Close())
	z, err := zip.NewReader(bytes.NewReader(book.Bytes()), int64(book.Len()))
	require.NoError(t, err)
	sheet, err := z.Open("xl/worksheets/sheet1.xml")
	require.NoError(t, err)
	defer func() { _ = sheet.Close() }()
	rows, chunk, rest := 0, make([]byte, 1<<20), ""
	for {
		n, err := sheet.Read(chunk)
		part := rest + string(chunk[:n])
		rows += strings.Count(part, "<row ")
		rest = part[max(0, len(part)-4):]
		if err != nil {
			break
		}
	}
	assert.Equal(t, 2+1+count, rows, "a title, what it is, a header, and all rows")
}

func TestTheDemoLoads(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	require.NoError(t, world.LoadDemo(ctx, w))
	jobs, err := w.C.Jobs(ctx, "")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(jobs), 7)
	for _, j := range jobs {
		assert.True(t, j.On, j.Name)
		assert.True(t, j.NextDue != nil || strings.HasPrefix(j.Readings[0], "when "), "%s rings, or waits for others",
			j.Name)
	}
	w.Behave("authority", "accept", 0)
	for _, j := range jobs {
		page := w.Ring(j.Name)
		want := job.RunDone
		if j.Name == "Crew rest watch" {
			want = job.RunBlank
		}
		assert.Equal(t, want, page.State, "%s: %s", j.Name, page.Reason)
		for _, f := range page.Artifacts {
			if f.Format != "html-mail" && want == job.RunDone {
				assert.Positive(t, f.Rows, "%s: %s", j.Name, f.Name)
			}
		}
	}
}
