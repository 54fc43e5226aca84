package render

import (
	"fmt"

	"ironbell/internal/core/job"
	"ironbell/internal/core/shape"

	"github.com/xuri/excelize/v2"
)

// begins notes with which row groups begin.
func (x *xlsxWriter) begins(line *shape.Line) {
	for level := range x.starts {
		switch isWhole := level == len(x.plan.Groups); {
		case x.starts[level] == 0, !isWhole && level >= line.Fresh:
			x.starts[level] = x.next
		}
	}
	x.last = x.next
}

// named is what stands in a cell of a total: its name, in the column of its group, or of the whole in the first one.
func (x *xlsxWriter) named(line *shape.Line, i int, value any) any {
	words := x.style.Locale.Words
	if line.Kind == shape.GrandTotal {
		if i == 0 && value == nil {
			return words.Total
		}
		return value
	}
	for level, at := range x.plan.Groups {
		switch {
		case at != i:
		case level < line.Level:
			return nil
		case level == line.Level:
			return words.Total + " " + x.forms[i].Text(line.Cells[i])
		}
	}
	return value
}

// subtotals are the functions of SUBTOTAL (ECMA-376 part 1, 18.17.7.324), which passes totals over that lie among
// its rows.
var subtotals = map[job.Total]int{
	job.TotalSum: 9, job.TotalMean: 1, job.TotalLeast: 5, job.TotalMost: 4, job.TotalCount: 3,
}

// formula is the formula of a total; none where it is no number, or its rows stand in several sheets.
func (x *xlsxWriter) formula(line *shape.Line, i int) string {
	c := x.plan.Columns[i]
	of, is := subtotals[c.Total]
	level := len(x.plan.Groups)
	if line.Kind == shape.Subtotal {
		level = line.Level
	}
	if !x.style.Formulas || !is || x.more > 0 || x.starts[level] == 0 || x.texts[i] {
		return ""
	}
	if !c.Kind.Numeric() && c.Total != job.TotalCount {
		return "" // the least and the greatest of dates and texts stand as they are
	}
	column, err := excelize.ColumnNumberToName(i + 1)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("SUBTOTAL(%d,%s%d:%s%d)", of, column, x.starts[level], column, x.last)
}
