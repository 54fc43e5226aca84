package demo

import (
	"bytes"
	"errors"
	"fmt"

	"github.com/xuri/excelize/v2"
)

// fuelReport is the report whose rows the fuel book takes.
const fuelReport = "Fuel burn by vessel"

// fuelBook is the workbook of Joren Tak, who reckons what the fuel costs: a page
// with named cells, a table for the rows of a report, and a hidden sheet with the price.
func fuelBook() ([]byte, error) {
	f := excelize.NewFile()
	defer func() { _ = f.Close() }() // nothing of it is on disk
	b := &bookMaker{f: f, styles: map[string]int{}}
	b.did(f.SetSheetName("Sheet1", "Summary"))
	b.sheet("Fuel")
	b.sheet("Price")
	b.did(f.SetSheetVisible("Price", false))
	b.did(f.SetDocProps(&excelize.DocProperties{Title: "Fuel book", Creator: "Joren Tak"}))

	b.cell("Price", "A1", "Price of a litre", "label")
	b.cell("Price", "B1", 0.84, "money")
	b.name("price", "Price!$B$1")

	for col, head := range []string{"Vessel", "Week from", "Sailings", "Litres", "Litres a sailing", "Cost"} {
		at, _ := excelize.CoordinatesToCellName(col+1, 3) // within the sheet
		b.cell("Fuel", at, head, map[bool]string{true: "head", false: "numbers"}[col < 2])
	}
	b.cell("Fuel", "A1", "Fuel by vessel and week", "title")
	for row, one := range [][]any{{"Grey Petrel", 46000, 12, 5200, 433.3}, {"Sound Runner", 46007, 14, 4100, 292.9}} {
		at := func(col string) string { return fmt.Sprint(col, row+4) }
		b.cell("Fuel", at("A"), one[0], "")
		b.cell("Fuel", at("B"), one[1], "day")
		b.cell("Fuel", at("C"), one[2], "whole")
		b.cell("Fuel", at("D"), one[3], "whole")
		b.cell("Fuel", at("E"), one[4], "tenth")
		b.cell("Fuel", at("F"), "=Fuel_by_week[[#This Row],[Litres]]*price", "money")
	}
	b.did(f.AddTable("Fuel", &excelize.Table{Range: "A3:F5", Name: "Fuel_by_week", StyleName: "TableStyleLight9"}))
	b.wide("Fuel", map[string]float64{"A": 22, "B": 13, "C": 11, "D": 12, "E": 16, "F": 14})
	b.did(f.SetConditionalFormat("Fuel", "D4:D5", []excelize.ConditionalFormatOptions{{
		Type: "data_bar", Criteria: "=", MinType: "min", MaxType: "max", BarColor: "#8FB3CC", BarSolid: true,
	}}))
	b.did(f.SetPanes("Fuel", &excelize.Panes{Freeze: true, YSplit: 3, TopLeftCell: "A4", ActivePane: "bottomLeft"}))

	b.cell("Summary", "A1", "Fuel book", "title")
	for row, line := range [][3]any{
		{"From", nil, "day"},
		{"To", nil, "day"},
		{"As of", nil, "instant"},
		{nil, nil, ""},
		{"Sailings", "=SUM(Fuel!C4:C5)", "whole"},
		{"Litres", "=SUM(Fuel_by_week[Litres])", "whole"},
		{"Litres a sailing", "=IF(B6=0,0,B7/B6)", "tenth"},
		{"Cost", "=SUM(Fuel_by_week[Cost])", "money"},
		{"Dearest week", "=MAX(Fuel_by_week[Cost])", "money"},
		{"Its vessel", "=INDEX(Fuel_by_week[Vessel],MATCH(MAX(Fuel_by_week[Cost]),Fuel_by_week[Cost],0))", "right"},
	} {
		b.cell("Summary", fmt.Sprint("A", row+2), line[0], "label")
		style, _ := line[2].(string)
		b.cell("Summary", fmt.Sprint("B", row+2), line[1], style)
	}
	for name, at := range map[string]string{"from": "$B$2", "to": "$B$3", "as_of": "$B$4"} {
		b.name(name, "Summary!"+at)
	}
	b.wide("Summary", map[string]float64{"A": 20, "B": 20, "C": 16, "D": 3})
	for col, head := range []string{"Vessel", "Litres", "Cost"} {
		at, _ := excelize.CoordinatesToCellName(col+1, 14) // within the sheet
		b.cell("Summary", at, head, map[bool]string{true: "head", false: "numbers"}[col == 0])
	}
	for row, one := range [][]any{{"Grey Petrel", 5200}, {"Sound Runner", 4100}} {
		b.cell("Summary", fmt.Sprint("A", row+15), one[0], "")
		b.cell("Summary", fmt.Sprint("B", row+15), one[1], "whole")
		b.cell("Summary", fmt.Sprint("C", row+15), "=By_vessel[[#This Row],[Litres]]*price", "money")
	}
	b.did(f.AddTable("Summary", &excelize.Table{Range: "A14:C16", Name: "By_vessel", StyleName: "TableStyleLight9"}))
	b.did(f.AddChart("Summary", "E2", &excelize.Chart{
		Type: excelize.Bar, Dimension: excelize.ChartDimension{Width: 560, Height: 340}, Legend: excelize.ChartLegend{Position: "none"},
		Title: excelize.ChartTitle{Paragraph: []excelize.RichTextRun{{Text: "Litres by vessel", Font: &excelize.Font{Size: 12, Color: "1b262c"}}}},
		XAxis: excelize.ChartAxis{ReverseOrder: true, Font: excelize.Font{Color: "1b262c", Size: 9}},
		YAxis: excelize.ChartAxis{MajorGridLines: true, Font: excelize.Font{Color: "5d6167", Size: 9}},
		Series: []excelize.ChartSeries{{
			Name: "Summary!$B$14", Categories: "Summary!$A$15:$A$16", Values: "Summary!$B$15:$B$16",
			Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"0F4C75"}},
		}},
	}))
	landscape, one, any, yes := "landscape", 1, 0, true
	for _, sheet := range []string{"Summary", "Fuel"} {
		b.did(f.SetPageLayout(sheet, &excelize.PageLayoutOptions{Orientation: &landscape, FitToWidth: &one, FitToHeight: &any}))
		b.did(f.SetSheetProps(sheet, &excelize.SheetPropsOptions{FitToPage: &yes}))
	}
	var out bytes.Buffer
	b.did(f.Write(&out))
	return out.Bytes(), errors.Join(b.failed...)
}

// bookMaker writes a workbook and keeps what went wrong.
type bookMaker struct {
	f      *excelize.File
	styles map[string]int
	failed []error
}

func (b *bookMaker) did(err error) {
	if err != nil {
		b.failed = append(b.failed, err)
	}
}

func (b *bookMaker) sheet(name string) {
	_, err := b.f.NewSheet(name)
	b.did(err)
}

func (b *bookMaker) name(name, ref string) {
	b.did(b.f.SetDefinedName(&excelize.DefinedName{Name: name, RefersTo: ref}))
}

func (b *bookMaker) wide(sheet string, widths map[string]float64) {
	for col, width := range widths {
		b.did(b.f.SetColWidth(sheet, col, col, width))
	}
}

// cell writes a cell; a text that begins with = is a formula.
func (b *bookMaker) cell(sheet, at string, value any, style string) {
	if text, is := value.(string); is && text != "" && text[0] == '=' {
		b.did(b.f.SetCellFormula(sheet, at, text[1:]))
	} else if value != nil {
		b.did(b.f.SetCellValue(sheet, at, value))
	}
	if style == "" {
		return
	}
	id, ok := b.styles[style]
	if !ok {
		var err error
		id, err = b.f.NewStyle(looks(style))
		b.did(err)
		b.styles[style] = id
	}
	b.did(b.f.SetCellStyle(sheet, at, at, id))
}

func looks(style string) *excelize.Style {
	form := map[string]string{
		"money": `"£"#,##0.00`, "day": "dd/mm/yyyy", "instant": "dd/mm/yyyy hh:mm", "whole": "#,##0", "tenth": "#,##0.0",
	}[style]
	s := &excelize.Style{}
	if form != "" {
		s.CustomNumFmt = &form
	}
	switch style {
	case "title":
		s.Font = &excelize.Font{Family: "Calibri", Bold: true, Size: 16, Color: "0F4C75"}
	case "label":
		s.Font = &excelize.Font{Family: "Calibri", Size: 11, Color: "5D6167"}
	case "head", "numbers":
		if style == "numbers" {
			s.Alignment = &excelize.Alignment{Horizontal: "right"}
		}
		s.Font = &excelize.Font{Family: "Calibri", Size: 11, Bold: true, Color: "FFFFFF"}
		s.Fill = excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"0F4C75"}}
	case "right":
		s.Alignment = &excelize.Alignment{Horizontal: "right"}
	}
	return s
}
