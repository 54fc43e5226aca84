package render_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/render"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sailings is a table of n rows with a text, a date and numbers.
func sailings(n int) table {
	t := table{
		section: job.Section{Name: "Sailings"},
		columns: []rows.Column{
			{Name: "Ship", Kind: rows.Text}, {Name: "Day", Kind: rows.Date}, {Name: "Passengers", Kind: rows.Whole},
		},
	}
	for i := range n {
		t.rows = append(t.rows, row(fmt.Sprintf("Sailing %d", i), "2026-11-20", fmt.Sprint(i*7)))
	}
	return t
}

// pages are the texts of a PDF's pages.
func pages(t *testing.T, out []byte) []string {
	t.Helper()
	return strings.Split(strings.TrimSuffix(read(t, out), "\f"), "\f")
}

// No word of a head, no number and no word of a text is broken while letters can be made to fit.
func TestWordsAndNumbersAreNotBroken(t *testing.T) {
	columns := []string{
		"Vessel", "Departures cancelled", "Passengers", "Refreshments", "Administration only", "Total", "Remark", "Port of registry",
		"Classification", "Left", "Chargeable", "Weather",
	}
	for n := 3; n <= len(columns); n++ {
		wide := table{section: job.Section{Name: "Words"}}
		for i, name := range columns[:n] {
			wide.columns = append(wide.columns, rows.Column{Name: name, Kind: map[bool]rows.Kind{true: rows.Number, false: rows.Text}[i%3 == 2]})
		}
		for r := range 5 {
			cells := make([]string, n)
			for i := range cells {
				cells[i] = fmt.Sprintf("unaccompanied freight only %d", r)
				if i%3 == 2 {
					cells[i] = fmt.Sprintf("%d", 1234567890123+r)
				}
			}
			wide.rows = append(wide.rows, row(cells...))
		}
		text := strings.Join(pages(t, made(t, job.Output{Format: "pdf"}, wide)), "\n")
		known := map[string]bool{}
		for _, w := range strings.Fields(text) {
			known[w] = true
		}
		for _, w := range strings.Fields(strings.Join(columns[:n], " ") + " unaccompanied freight only") {
			assert.True(t, known[w], "%d columns: %q is broken in\n%s", n, w, text)
		}
		for r := range 5 {
			assert.Contains(t, text, humanized(1234567890123+r), "%d columns", n)
		}
	}
	// Further down a number is wider than all that the widths were taken from.
	long := sailings(400)
	long.rows[350] = row("Sailing 350", "2026-11-20", "98765432109876543210")
	assert.Contains(t, read(t, made(t, job.Output{Format: "pdf"}, long)), "98,765,432,109,876,543,210")
}

func humanized(n int) string {
	text := fmt.Sprint(n)
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	return text
}

// However many rows there are: none stands on the last page alone, and no total without the row before it.
func TestNoRowStandsAlone(t *testing.T) {
	for n := 38; n <= 56; n++ {
		long := sailings(n)
		all := pages(t, made(t, job.Output{Format: "pdf"}, long))
		got := strings.Count(all[len(all)-1], "Sailing ")
		if len(all) > 1 {
			assert.GreaterOrEqual(t, got, 2, "%d rows", n)
		}
		assert.Equal(t, n, strings.Count(strings.Join(all, ""), "Sailing "))
		long.section.Columns = []job.Column{{Name: "Passengers", Total: job.TotalSum}}
		all = pages(t, made(t, job.Output{Format: "pdf"}, long))
		last := all[len(all)-1]
		require.Contains(t, last, "Total")
		assert.Positive(t, strings.Count(last, "Sailing "), "%d rows: the total stands alone", n)
	}
	// A heading has rows under it.
	for n := 30; n < 48; n += 2 {
		second := sailings(40)
		second.section.Name = "Second part"
		for _, page := range pages(t, made(t, job.Output{Format: "pdf"}, sailings(n), second)) {
			if _, below, found := strings.Cut(page, "Second part"); found {
				assert.GreaterOrEqual(t, strings.Count(below, "Sailing "), 2, "%d rows", n)
			}
		}
	}
}

func TestOnePageIsOnePage(t *testing.T) {
	one := &job.Page{OnePage: true}
	for _, n := range []int{0, 1, 60} {
		all := pages(t, made(t, job.Output{Format: "pdf", Page: one}, figures, sailings(n), words))
		require.Len(t, all, 1, "%d rows", n)
		assert.Equal(t, n, strings.Count(all[0], "Sailing "))
		assert.Contains(t, all[0], "Winter timetable from Monday.")
		assert.Contains(t, all[0], "Page 1 of 1")
	}
	all := pages(t, made(t, job.Output{Format: "pdf", Page: &job.Page{OnePage: true, Size: "A3", Direction: "upright"}}, burn(), sailings(80)))
	require.Len(t, all, 1)
	for _, n := range []int{400, 5000} {
		_, _, err := file(t, job.Output{Format: "pdf", Page: one}, head(), sailings(n))
		require.ErrorContains(t, err, "does not fit on one page in letters that can be read")
	}
	for field, page := range map[string]job.Page{
		"page.contents": {OnePage: true, Contents: true}, "page.wide": {OnePage: true, Wide: job.WideParted},
	} {
		_, err := render.Read(job.Output{Format: "pdf", Page: &page})
		require.ErrorContains(t, err, field)
	}
	_, err := render.Read(job.Output{Format: "html", Page: one})
	require.ErrorContains(t, err, "it belongs to a PDF that is not tagged")
}

// The list of contents names the page on which each section is.
func TestContentsLeadToTheirPages(t *testing.T) {
	var tables []table
	for i := range 60 {
		one := sailings(10 + i%30)
		one.section.Name = fmt.Sprintf("Route number %02d", i)
		tables = append(tables, one)
	}
	out := made(t, job.Output{Format: "pdf", Locale: "de", Page: &job.Page{Contents: true}}, tables...)
	all := pages(t, out)
	assert.Contains(t, all[0], "Inhalt")
	named := regexp.MustCompile(`(Route number \d\d)\s+(\d+)\n`)
	n := 0
	for _, page := range all[:3] {
		for _, m := range named.FindAllStringSubmatch(page, -1) {
			n++
			var at int
			_, err := fmt.Sscan(m[2], &at)
			require.NoError(t, err)
			assert.Contains(t, all[at-1], m[1])
		}
	}
	assert.Equal(t, 60, n)
	path := filepath.Join(t.TempDir(), "a.pdf")
	require.NoError(t, os.WriteFile(path, out, 0o600))
	text, err := exec.Command("pdftohtml", "-xml", "-i", "-stdout", path).CombinedOutput()
	require.NoError(t, err, string(text))
	_, outline, _ := strings.Cut(string(text), "<outline>")
	assert.Equal(t, 60, strings.Count(outline, "Route number"), "each section has a bookmark")
}

// A table that is too wide comes in parts, each with the columns that tell its rows apart.
func TestWideTablesAreParted(t *testing.T) {
	wide := table{section: job.Section{Name: "Wide", Key: []string{"Vessel"}}}
	wide.columns = append(wide.columns, rows.Column{Name: "Vessel", Kind: rows.Text})
	for i := 1; i < 40; i++ {
		wide.columns = append(wide.columns, rows.Column{Name: fmt.Sprintf("Measure%02d", i), Kind: rows.Number})
	}
	for r := range 70 {
		cells := []string{fmt.Sprintf("Kittiwake-%02d", r)}
		for i := 1; i < 40; i++ {
			cells = append(cells, fmt.Sprint(100000+r*100+i))
		}
		wide.rows = append(wide.rows, row(cells...))
	}
	all := strings.Join(pages(t, made(t, job.Output{Format: "pdf", Page: &job.Page{Wide: job.WideParted}}, wide)), "\n")
	parts := strings.Count(all, "Kittiwake-07")
	assert.Greater(t, parts, 2)
	assert.Contains(t, strings.Join(strings.Fields(all), " "), fmt.Sprintf("Wide · 2/%d", parts))
	for r := range 70 {
		for i := 1; i < 40; i++ {
			require.Contains(t, all, humanized(100000+r*100+i))
		}
	}
	// The letters are as large as in any other table, which they are not when all of it stands side by side.
	assert.Equal(t, all, strings.Join(pages(t, made(t, job.Output{Format: "pdf"}, wide)), "\n"), "so it is where nothing is said")
	small := strings.Join(pages(t, made(t, job.Output{Format: "pdf", Page: &job.Page{Wide: job.WideSmaller}}, wide)), "\n")
	assert.Contains(t, small, "Measure39", "heads are not broken")
	assert.NotContains(t, small, "2/")
}

func TestSectionsSayHowTheirPagesLie(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.pdf")
	sideways := sailings(5)
	sideways.direction = "sideways"
	upright := sailings(5)
	upright.direction = "upright"
	require.NoError(t, os.WriteFile(path, made(t, job.Output{Format: "pdf"}, sideways, upright, sideways), 0o600))
	text, err := exec.Command("pdfinfo", "-f", "1", "-l", "9", path).CombinedOutput()
	require.NoError(t, err)
	sizes := regexp.MustCompile(`Page +\d+ size: +(\d+)`).FindAllStringSubmatch(string(text), -1)
	require.Len(t, sizes, 3, string(text))
	assert.Equal(t, []string{"841", "595", "841"}, []string{sizes[0][1], sizes[1][1], sizes[2][1]})
}

func TestAChartOfNothingSaysSoUnderItsHeading(t *testing.T) {
	nothing := burn()
	nothing.rows = nil
	text := read(t, made(t, job.Output{Format: "pdf"}, figures, nothing))
	_, below, found := strings.Cut(text, "Fuel burn")
	require.True(t, found, text)
	assert.Contains(t, below, "No rows.")
}

// The limit counts rows, and not their totals.
func TestTheLimitOfAPDFCountsRows(t *testing.T) {
	grouped := sailings(render.MaxPDF)
	grouped.section.Group = []string{"Day"}
	grouped.section.Columns = []job.Column{{Name: "Passengers", Total: job.TotalSum}}
	for i := range grouped.rows {
		grouped.rows[i][1] = rows.Cell{Text: fmt.Appendf(nil, "2026-11-%02d", 1+i/1000)}
	}
	made(t, job.Output{Format: "pdf"}, grouped)
}

// On a grid charts and tables stand two beside each other; what does not fit fails the run.
func TestAPageOnAGrid(t *testing.T) {
	o := job.Output{Format: "pdf", Page: &job.Page{OnePage: true, Grid: true}}
	figures := table{
		section: job.Section{Name: "The week", Kind: job.SectionFigures},
		columns: []rows.Column{{Name: "Sailings", Kind: rows.Whole}}, rows: []rows.Row{row("560")},
	}
	a, b, c := sailings(9), sailings(5), sailings(7)
	a.section.Name, b.section.Name, c.section.Name = "Northern lines", "Eastern lines", "Southern lines"
	out := made(t, o, figures, a, b, c)
	require.Len(t, pages(t, out), 1)
	at := func(words string) (x, y float64) {
		for _, w := range boxes(t, out) {
			if w.text == words {
				return w.x, w.y
			}
		}
		t.Fatalf("%q is not there", words)
		return 0, 0
	}
	leftX, leftY := at("Northern")
	rightX, rightY := at("Eastern")
	belowX, belowY := at("Southern")
	assert.InDelta(t, leftY, rightY, 0.5)
	assert.Greater(t, rightX, leftX+200)
	assert.InDelta(t, leftX, belowX, 0.5)
	assert.Greater(t, belowY, leftY+100, "below the higher of both")

	_, err := render.Read(job.Output{Format: "pdf", Page: &job.Page{Grid: true}})
	assert.ErrorContains(t, err, "it belongs to one page")
	_, _, err = file(t, o, head(), sailings(600), sailings(600))
	assert.ErrorContains(t, err, "does not fit on one page")
}

// box is a word of a page and where it stands, in points from the upper left.
type box struct {
	text string
	x, y float64
}

// boxes are the words of a PDF, as another reader finds them.
func boxes(t *testing.T, out []byte) (all []box) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "boxes.pdf")
	require.NoError(t, os.WriteFile(path, out, 0o600))
	text, err := exec.Command("pdftotext", "-bbox", path, "-").Output()
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`<word xMin="([\d.]+)" yMin="([\d.]+)"[^>]*>([^<]*)</word>`).FindAllStringSubmatch(string(text), -1) {
		var b box
		_, err := fmt.Sscan(m[1], &b.x)
		require.NoError(t, err)
		_, err = fmt.Sscan(m[2], &b.y)
		require.NoError(t, err)
		b.text = m[3]
		all = append(all, b)
	}
	return all
}
