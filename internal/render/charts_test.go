package render_test

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fuel is a chart of the fuel of n vessels, one series each, over some weeks.
func fuel(form job.ChartForm, vessels, weeks int) table {
	t := table{
		section: job.Section{
			Name: "Fuel", Kind: job.SectionChart, Chart: &job.Chart{Form: form, Along: "Week", Split: "Vessel", Series: []string{"Litres"}},
		},
		columns: []rows.Column{
			{Name: "Week", Kind: rows.Text}, {Name: "Vessel", Kind: rows.Text}, {Name: "Litres", Kind: rows.Number},
		},
	}
	for w := range weeks {
		for v := range vessels {
			t.rows = append(t.rows, row(fmt.Sprintf("Week %d", w+1), fmt.Sprintf("Vessel %02d", v), fmt.Sprint(100*(v+1)+w)))
		}
	}
	return t
}

// drawn is the first drawing of a page.
func drawn(page string) string {
	before, _, _ := strings.Cut(page, "</svg>")
	_, drawing, _ := strings.Cut(before, "<svg")
	return drawing
}

// What cannot be told apart is drawn together, the greatest alone, and it is said.
func TestManySeriesAreFolded(t *testing.T) {
	for _, format := range []string{"pdf", "png", "pptx", "html", "html-mail", "xlsx"} {
		out, says, err := file(t, job.Output{Format: format, Locale: "de"}, head(), fuel(job.ChartStacked, 30, 4))
		require.NoError(t, err, format)
		assert.Contains(t, strings.Join(says, " "), "draws the 11 greatest series, and 19 together as übrige", format)
		if format == "html" {
			text := string(out)
			assert.Contains(t, text, "übrige (19)")
			assert.Contains(t, text, "Vessel 29")
			assert.NotContains(t, drawn(text), ">Vessel 18<", "it is among the others")
		}
	}
	_, says, err := file(t, job.Output{Format: "png"}, head(), fuel(job.ChartLine, 12, 4))
	require.NoError(t, err)
	assert.Empty(t, says)
	_, _, err = file(t, job.Output{Format: "png"}, head(), fuel(job.ChartLine, 401, 1))
	require.ErrorContains(t, err, "has more than 400 values")
}

func TestNegativeShares(t *testing.T) {
	bad := fuel(job.ChartShare, 2, 2)
	bad.rows[3][2] = rows.Cell{Text: []byte("-5")}
	_, _, err := file(t, job.Output{Format: "pdf"}, head(), bad)
	require.ErrorContains(t, err, "Vessel 01 is -5 at Week 2, and a negative number is no share of a whole")
	bad.section.Chart.Form = job.ChartStacked
	made(t, job.Output{Format: "pdf"}, bad)
}

// A chart without its table says in words how it runs.
func TestAChartStandsWithoutItsTable(t *testing.T) {
	alone := burn()
	alone.section.Chart.WithoutTable = true
	alone.section.Chart.Targets = []job.Target{{At: 9000, Label: "Bunker limit"}, {At: 1000}}
	text := strings.Join(pages(t, made(t, job.Output{Format: "pdf"}, alone)), "")
	assert.NotContains(t, text, "4,337")
	page := string(made(t, job.Output{Format: "html"}, alone))
	assert.NotContains(t, page, "<table")
	assert.Contains(t, page, "Bunker limit")
	assert.Contains(t, page, ">1,000\u00a0l<")
	assert.Contains(t, page, `aria-label="Stacked bar chart: Harrier, Petrel by Week. From 2026-09-28 to 2026-11-16: Harrier rises `+
		"from 4,200\u00a0l to 5,159\u00a0l; Petrel falls from 3,900\u00a0l to 3,480\u00a0l.\"")
	assert.NotContains(t, string(made(t, job.Output{Format: "html-mail"}, alone)), "<table")
	slides := unzip(t, made(t, job.Output{Format: "pptx"}, alone))
	n := 0
	for part := range slides {
		if strings.HasPrefix(part, "ppt/slides/slide") {
			n++
		}
	}
	assert.Equal(t, 2, n, "a title and the chart")
	f := book(t, made(t, job.Output{Format: "xlsx"}, alone))
	sheet, err := f.GetRows("Fuel burn")
	require.NoError(t, err)
	assert.Greater(t, len(sheet), 8, "a sheet has its rows all the same")
	alone.section.Chart.WithoutTable = false
	assert.Contains(t, string(made(t, job.Output{Format: "html"}, alone)), "<table")
}

func TestNumbersStandOnBars(t *testing.T) {
	for _, form := range []job.ChartForm{job.ChartBar, job.ChartStacked, job.ChartShare} {
		one := burn()
		one.section.Chart.Form, one.section.Chart.Numbers = form, true
		page := string(made(t, job.Output{Format: "html"}, one))
		drawing := drawn(page)
		want := "4,200\u00a0l"
		if form == job.ChartShare {
			want = "51.9\u00a0%"
		}
		assert.Contains(t, drawing, want, form)
	}
	line := burn()
	line.section.Chart.Form, line.section.Chart.Numbers = job.ChartLine, true
	_, err := shape.Fit(line.section, line.form, line.columns)
	require.ErrorContains(t, err, "they stand on bars, and this chart has lines")
}

// Labels that would stand on each other are passed over, and long ones are broken over lines; none runs out of the
// picture.
func TestLabelsOfAxes(t *testing.T) {
	close := table{
		section: job.Section{Name: "Delay", Kind: job.SectionChart, Chart: &job.Chart{Form: job.ChartLine, Numbers: false}},
		columns: []rows.Column{{Name: "Day", Kind: rows.Date}, {Name: "Minutes", Kind: rows.Number}},
	}
	for _, day := range []string{"2026-01-01", "2026-01-02", "2026-01-03", "2026-11-28", "2026-11-29", "2026-11-30"} {
		close.rows = append(close.rows, row(day, "-3"), row(day, "4"))
	}
	page := string(made(t, job.Output{Format: "html"}, close))
	drawing := drawn(page)
	assert.Equal(t, 1, strings.Count(drawing, ">2026-01-"), "three days lie side by side")
	assert.Equal(t, 1, strings.Count(drawing, ">2026-11-"))
	made(t, job.Output{Format: "png"}, close)
	long := fuel(job.ChartBar, 1, 0)
	for i, name := range []string{
		"Tarnwick Quay to Ellerhaven", "Ellerhaven to Tarnwick Quay", "Tarnwick Quay to Grey Skerry", "Fennmouth to Tarnwick Quay", "Pennold to Fennmouth by way of the inner sound", "Grey Skerry to Pennold",
	} {
		long.rows = append(long.rows, row(name, "Kittiwake", fmt.Sprint(100*i-100)))
	}
	page = string(made(t, job.Output{Format: "html"}, long))
	drawing = drawn(page)
	tags := regexp.MustCompile(`(?s)<[^>]*>`)
	read := strings.Join(strings.Fields(tags.ReplaceAllString(drawing, " ")), " ")
	for _, r := range long.rows {
		assert.Contains(t, read, string(r[0].Text), "each bar has its whole name, over some lines")
	}
	assert.Contains(t, drawing, "Kittiwake is highest at Grey Skerry to Pennold with 400 and lowest at Tarnwick Quay to Ellerhaven with -100.")
	made(t, job.Output{Format: "png"}, long)
}
