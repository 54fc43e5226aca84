package test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mark is a small picture of one colour.
func mark(c color.Color) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, 60, 20))
	for x := range 60 {
		for y := range 20 {
			img.Set(x, y, c)
		}
	}
	var out bytes.Buffer
	if err := png.Encode(&out, img); err != nil {
		panic(err)
	}
	return out.Bytes()
}

func TestHouseStylesDressWhatLeavesTheHouse(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()

	// The same file sent by several at once is one.
	var all sync.WaitGroup
	ids := make([]string, 4)
	for i := range ids {
		all.Go(func() {
			f, err := w.C.AddHouseFile(ctx, "quay.png", mark(color.NRGBA{R: 0xcc, A: 0xff}))
			if assert.NoError(t, err) {
				ids[i] = f.ID
			}
		})
	}
	all.Wait()
	for _, id := range ids {
		assert.Equal(t, ids[0], id)
	}
	page, err := w.C.House(ctx)
	require.NoError(t, err)
	require.Len(t, page.Files, 1)
	assert.Empty(t, page.Styles)

	_, err = w.C.AddHouseFile(ctx, "bad.svg", []byte(`<svg viewBox="0 0 9 9"><script>1</script></svg>`))
	require.ErrorContains(t, err, `an element "script"`)
	mara := w.As("mara")
	_, err = mara.AddHouseFile(ctx, "quay.png", mark(color.Black))
	require.ErrorContains(t, err, "administrator")
	_, err = mara.SaveHouse(ctx, job.HouseStyles{})
	require.ErrorContains(t, err, "administrator")

	for field, s := range map[string]job.HouseStyle{
		"styles[0].logo":    {Name: "A", Logo: strings.Repeat("0", 64)},
		"styles[0].regular": {Name: "A", Regular: ids[0]},
		"styles[0].footer":  {Name: "A", Footer: "one\ntwo"},
		"styles[0].bold":    {Name: "A", Bold: ids[0]},
	} {
		_, err := w.C.SaveHouse(ctx, job.HouseStyles{Styles: []job.HouseStyle{s}})
		assert.ErrorContains(t, err, field)
	}
	_, err = w.C.SaveHouse(ctx, job.HouseStyles{Styles: []job.HouseStyle{{Name: "A"}, {Name: "a"}}})
	require.ErrorContains(t, err, "two styles called")

	_, err = w.C.SaveReport(ctx, "Departures", wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{
		Source: "tarnwick", HouseStyle: "Port", Sections: []job.Section{{Name: "Departures", SQL: "SELECT 'Grey Skerry' AS port, 3 AS sailings"}},
	}})
	require.ErrorContains(t, err, `there is no house style "Port"`)
	styles := job.HouseStyles{Styles: []job.HouseStyle{
		{Name: "House", Logo: ids[0], Accent: "#0f4c75", Footer: "Quay House, Tarnwick"},
		{Name: "Port", Accent: "#7a1450", Footer: "Port operations"},
	}}
	page, err = w.C.SaveHouse(ctx, styles)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{}, {}}, page.Says)

	// The mail has the style of the report that it brings, and so have its files.
	w.Report("Sailings", "SELECT 'Tarnwick Quay' AS port, 12 AS sailings")
	_, err = w.C.SaveReport(ctx, "Departures", wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{
		Source: "tarnwick", HouseStyle: "Port", Sections: []job.Section{{Name: "Departures", SQL: "SELECT 'Grey Skerry' AS port, 3 AS sailings"}},
	}})
	require.NoError(t, err)
	for report, has := range map[string][3]string{
		"Sailings": {"#0f4c75", "Quay House, Tarnwick", "cid:chart-1@ironbell"}, "Departures": {"#7a1450", "Port operations", ""},
	} {
		w.Job(report, world.Definition(report, "company mail", []string{"html-mail", "html"}, strings.ToLower(report)+"@tarnwick.example"))
		run := w.Ring(report)
		require.Equal(t, job.RunDone, run.State, run.Reason)
		l := w.Inbox(strings.ToLower(report) + "@tarnwick.example")[0]
		assert.Contains(t, l.Plain, has[1])
		for _, want := range has {
			assert.Contains(t, l.HTML, want, report)
		}
		require.Len(t, l.Attachments, 1)
		assert.Contains(t, string(w.Attachment(l, 0)), "border-bottom:3px solid "+has[0])
	}

	// A style that a report chooses stays; what nobody chooses goes.
	_, err = w.C.SaveHouse(ctx, job.HouseStyles{Styles: styles.Styles[:1]})
	require.ErrorContains(t, err, `the report "Departures" chooses the style "Port"`)
	out, _, _ := w.Ironbell("house")
	assert.Contains(t, out, "Port, chosen by reports")
	assert.Contains(t, out, "quay.png, a logo of 60 by 20 dots")

	// Whoever is first, no report is left with a style that is gone.
	for range 12 {
		_, err = w.C.SaveReport(ctx, "Departures", wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{
			Source: "tarnwick", Sections: []job.Section{{Name: "Departures", SQL: "SELECT 'Grey Skerry' AS port, 3 AS sailings"}},
		}})
		require.NoError(t, err)
		_, err = w.C.SaveHouse(ctx, styles)
		require.NoError(t, err)
		var taken, dropped error
		all.Go(func() {
			_, taken = w.C.SaveReport(ctx, "Departures", wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{
				Source: "tarnwick", HouseStyle: "Port", Sections: []job.Section{{Name: "Departures", SQL: "SELECT 'Grey Skerry' AS port, 3 AS sailings"}},
			}})
		})
		all.Go(func() { _, dropped = w.C.SaveHouse(ctx, job.HouseStyles{Styles: styles.Styles[:1]}) })
		all.Wait()
		assert.True(t, (taken == nil) != (dropped == nil), "one of both: %v, %v", taken, dropped)
	}
	_, err = w.C.SaveHouse(ctx, styles)
	require.NoError(t, err)

	// As a record in a file, like every setting.
	file, err := w.C.RecordFile(ctx, "setting", "house", false)
	require.NoError(t, err)
	assert.Contains(t, string(file), "Port operations")
	changed := strings.Replace(string(file), "Port operations", "Port office", 1)
	_, err = w.C.SaveRecord(ctx, []byte(changed), false)
	require.NoError(t, err)
	page, err = w.C.House(ctx)
	require.NoError(t, err)
	assert.Equal(t, "Port office", page.Styles[1].Footer)

	// The sample of a style that is being written, in a frame that runs and fetches nothing.
	ask := func(style, format string) (int, string) {
		form := url.Values{"ask": {fmt.Sprintf(`{"style":%s,"format":%q}`, style, format)}}
		res := w.Ask(http.MethodPost, "/api/frame/house", form.Encode(), map[string]string{
			"Content-Type": "application/x-www-form-urlencoded",
		})
		return res.StatusCode, res.Header.Get("Content-Security-Policy")
	}
	status, policy := ask(`{"name":"A","accent":"#123456"}`, "mail")
	assert.Equal(t, 200, status)
	assert.Contains(t, policy, "default-src 'none'")
	status, _ = ask(`{"name":"A","accent":"red"}`, "mail")
	assert.Equal(t, 422, status)
}
