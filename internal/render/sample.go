package render

import (
	"fmt"
	"io"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/house"
)

// Sample writes a file of invented rows in a format, to show how a house style
// looks: figures, a chart, and a table with totals and marks. It gives what a
// reader of the file should know.
func Sample(w io.Writer, format string, look *house.Look, browser Browser) ([]string, error) {
	style, err := Read(job.Output{Format: format})
	if err != nil {
		return nil, err
	}
	style.Look = look
	file, err := style.Open(w, &Head{
		Report: "Sample", Title: "A sample of the house style", Run: "0000-1", Zone: time.UTC, Browser: browser,
		AsOf: time.Date(2026, 1, 5, 6, 15, 0, 0, time.UTC),
	})
	if err != nil {
		return nil, err
	}
	sections := sampleSections()
	if style.Format.Split {
		sections = sections[1:2]
	}
	for _, s := range sections {
		if err := s.write(file); err != nil {
			return nil, err
		}
	}
	if err := file.Close(); err != nil {
		return nil, err
	}
	if s, ok := file.(Speaker); ok {
		return s.Says(), nil
	}
	return nil, nil
}

type sampleSection struct {
	job.Section

	columns []rows.Column
	rows    [][]string
}

func sampleSections() []sampleSection {
	one := 1
	table := [][]string{}
	for i, place := range []string{"North", "North", "North", "East", "East", "South", "South", "South"} {
		table = append(table, []string{
			place, fmt.Sprintf("Line %d", i+1), fmt.Sprint(1240 - 95*i), fmt.Sprint(float64(96-5*i%17) / 100),
		})
	}
	chart := [][]string{}
	for i := range 8 {
		chart = append(chart, []string{
			fmt.Sprintf("2026-01-%02d", 5+i), fmt.Sprint(620 + 70*((i*3)%5)), fmt.Sprint(540 + 45*((i*2)%7)), fmt.Sprint(300 + 20*i),
		})
	}
	return []sampleSection{
		{
			Section: job.Section{Name: "Figures", Kind: job.SectionFigures, Columns: []job.Column{{Name: "On time", Percent: true, Decimals: &one}}},
			columns: []rows.Column{{Name: "Journeys", Kind: rows.Whole}, {Name: "On time", Kind: rows.Number}},
			rows:    [][]string{{"8120", "0.912"}},
		},
		{
			Section: job.Section{
				Name: "By day", Kind: job.SectionChart,
				Chart: &job.Chart{Form: job.ChartLine, Along: "Day", Series: []string{"North", "East", "South"}, WithoutTable: true},
			},
			columns: []rows.Column{
				{Name: "Day", Kind: rows.Date},
				{Name: "North", Kind: rows.Whole},
				{Name: "East", Kind: rows.Whole},
				{Name: "South", Kind: rows.Whole},
			},
			rows: chart,
		},
		{
			Section: job.Section{Name: "By line", Group: []string{"Part"}, Columns: []job.Column{
				{Name: "Journeys", Total: job.TotalSum},
				{Name: "On time", Percent: true, Decimals: &one, Emphasis: []job.Emphasis{{If: `cell("On time") < 0.85`, As: job.MarkBad}}},
			}},
			columns: []rows.Column{
				{Name: "Part", Kind: rows.Text},
				{Name: "Line", Kind: rows.Text},
				{Name: "Journeys", Kind: rows.Whole},
				{Name: "On time", Kind: rows.Number},
			},
			rows: table,
		},
	}
}

func (s sampleSection) write(file Writer) error {
	plan, err := shape.Fit(s.Section, job.FormWhole, s.columns)
	if err != nil {
		return err //nolint:wrapcheck // the sample is ours, and fits
	}
	shaper, err := shape.NewShaper(plan, []shape.Sink{file}, nil)
	if err != nil {
		return err //nolint:wrapcheck // as above
	}
	for _, cells := range s.rows {
		row := make(rows.Row, len(cells))
		for i, c := range cells {
			row[i] = rows.Cell{Text: []byte(c)}
		}
		if err := shaper.Row(row); err != nil {
			return err //nolint:wrapcheck // as above
		}
	}
	_, err = shaper.End()
	return err //nolint:wrapcheck // as above
}
