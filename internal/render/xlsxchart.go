package render

import (
	"bytes"
	"fmt"
	"strings"

	"ironbell/internal/core/job"

	"github.com/xuri/excelize/v2"
)

// drawn sets a picture of a chart beside its rows: a sheet's own chart cannot
// make a series of each value of a column.
func (x *xlsxWriter) drawn() error {
	var picture bytes.Buffer
	if err := x.split.png(&picture, 570, 300, 144); err != nil {
		return err
	}
	at, err := excelize.CoordinatesToCellName(len(x.plan.Columns)+2, x.first)
	if err != nil {
		return fmt.Errorf("place the chart: %w", err)
	}
	half := 0.6
	if err := x.file.AddPictureFromBytes(x.name, at, &excelize.Picture{
		Extension: ".png", File: picture.Bytes(),
		Format: &excelize.GraphicOptions{AltText: x.split.alt(), ScaleX: half, ScaleY: half, Positioning: "oneCell"},
	}); err != nil {
		return fmt.Errorf("add the chart: %w", err)
	}
	for _, said := range x.split.says() {
		x.saidOnce(said)
	}
	return nil
}

// chart sets a native chart beside the rows that it draws.
func (x *xlsxWriter) chart() error {
	c := x.plan.Chart
	if x.split != nil {
		return x.drawn()
	}
	kind := map[job.ChartForm]excelize.ChartType{
		job.ChartLine: excelize.Line, job.ChartBar: excelize.Col, job.ChartStacked: excelize.ColStacked,
		job.ChartShare: excelize.ColPercentStacked,
	}[c.Form]
	last := x.next - 1
	area := func(column, from, to int) string {
		a, _ := excelize.CoordinatesToCellName(column+1, from, true)
		b, _ := excelize.CoordinatesToCellName(column+1, to, true)
		return "'" + strings.ReplaceAll(x.name, "'", "''") + "'!" + a + ":" + b
	}
	// Some programs write every label, whatever is said of passing over: many stand aslant.
	slant := 0
	if last-x.first > 8 {
		slant = 45
	}
	chart := &excelize.Chart{
		Type: kind, Title: excelize.ChartTitle{Paragraph: []excelize.RichTextRun{{Text: x.plan.Title}}},
		Legend:    excelize.ChartLegend{Position: "bottom"},
		Dimension: excelize.ChartDimension{Width: 760, Height: 400},
		XAxis: excelize.ChartAxis{
			TickLabelSkip: (last - x.first + 7) / 8, NumFmt: excelize.ChartNumFmt{SourceLinked: true},
			Font: excelize.Font{Color: x.style.Look.Faint}, Title: axisTitle(c.AlongTitle), Alignment: excelize.Alignment{TextRotation: slant},
		}, YAxis: excelize.ChartAxis{
			Title:  axisTitle(c.ValueTitle),
			NumFmt: excelize.ChartNumFmt{SourceLinked: true}, Font: excelize.Font{Color: x.style.Look.Faint},
			MajorGridLines: true,
		},
		Format: excelize.GraphicOptions{AltText: altOf(x.plan), Positioning: "oneCell"},
	}
	for n, s := range c.Series {
		head := area(s, x.first, x.first)
		chart.Series = append(chart.Series, excelize.ChartSeries{
			Name: strings.SplitN(head, ":", 2)[0], Categories: area(c.Along, x.first+1, last),
			Values: area(s, x.first+1, last),
			Fill: excelize.Fill{
				Type: "pattern", Pattern: 1, Color: []string{x.style.Look.Series[n%len(x.style.Look.Series)]},
			},
			Line: excelize.LineOptions{Width: 2}, Marker: excelize.ChartMarker{Symbol: "none"},
		})
	}
	at, err := excelize.CoordinatesToCellName(len(x.plan.Columns)+2, x.first)
	if err != nil {
		return fmt.Errorf("place the chart: %w", err)
	}
	if err := x.file.AddChart(x.name, at, chart); err != nil {
		return fmt.Errorf("add the chart: %w", err)
	}
	return nil
}

// axisTitle is the title of an axis; none for the empty text.
func axisTitle(text string) (t excelize.ChartTitle) {
	if text != "" {
		t.Paragraph = []excelize.RichTextRun{{Text: text}}
	}
	return t
}
