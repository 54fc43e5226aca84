package render

import (
	"slices"
	"strings"

	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/typeface"
)

// tableFit finds how wide the columns of a table are, on a page or a slide: in the unit in which width measures.
type tableFit struct {
	plan    *shape.Plan
	heads   []string
	lines   []textLine // by which the widths are found
	width   func(text string, bold bool) float64
	pad     float64 // beside each cell
	natural struct {
		head, cell float64 // how wide a head and a text become at most by themselves
	}
	longest float64 // of a word that is kept whole
	shaper  *typeface.Shaper
}

// needs finds how wide each column would be, and how narrow it may become: no word of a head and no number is
// broken, and no word of a text unless it is very long. Both are with what stands beside each cell.
func (f *tableFit) needs() (natural, least []float64) {
	n := len(f.plan.Columns)
	natural, least = make([]float64, n), make([]float64, n)
	for i, c := range f.plan.Columns {
		least[i] = f.widestWord(f.heads[i], true, 0)
		natural[i] = max(least[i], min(f.width(f.heads[i], true), f.natural.head))
		if c.Width > 0 {
			natural[i] = max(least[i], float64(c.Width)*f.width("0", true))
		}
	}
	for _, bold := range []bool{false, true} { // each at once, since to change the letters takes longer than to measure
		for _, line := range f.lines {
			if (line.kind != shape.Data) != bold {
				continue
			}
			for i, text := range line.cells {
				w := f.width(text, bold)
				if f.plan.Columns[i].Width == 0 {
					natural[i] = max(natural[i], min(w, f.natural.cell))
				}
				switch {
				case w <= least[i]:
				case f.plan.Columns[i].Kind != rows.Text:
					least[i] = w
				default:
					least[i] = f.widestWord(text, bold, least[i])
				}
			}
		}
	}
	for i := range natural {
		natural[i] = max(natural[i], least[i]) + 2*f.pad
		least[i] += 2 * f.pad
	}
	return natural, least
}

// widestWord is the width of the widest word of a text, at least least and at most that of the longest kept whole.
func (f *tableFit) widestWord(text string, bold bool, least float64) float64 {
	if !f.shaper.Plain(text) {
		return max(least, f.shaper.Widest(text, f.longest, func(s string) float64 { return f.width(s, bold) }))
	}
	for word := range strings.FieldsSeq(text) {
		if least >= f.longest {
			return least
		}
		least = max(least, min(f.width(word, bold), f.longest))
	}
	return least
}

// spread gives some columns their widths within a width. scale is how much smaller than usual letters must be, 1 when
// all fits.
func spread(width float64, show []int, natural, least []float64) (widths []float64, scale float64) {
	widths = make([]float64, len(natural))
	all, fewest := 0.0, 0.0
	for _, i := range show {
		all, fewest = all+natural[i], fewest+least[i]
	}
	for _, i := range show {
		switch {
		case all <= width:
			widths[i] = natural[i]
			// What is left over goes to all, but not so that a row falls apart.
			if all > width*0.6 {
				widths[i] += (width - all) * natural[i] / all
			}
		case fewest <= width:
			widths[i] = least[i] + (natural[i]-least[i])*(width-fewest)/(all-fewest)
		default:
			widths[i] = least[i] * width / fewest
		}
	}
	if fewest <= width {
		return widths, 1
	}
	return widths, width / fewest
}

// allColumns are the places of all columns of a plan.
func allColumns(p *shape.Plan) []int {
	out := make([]int, len(p.Columns))
	for i := range out {
		out[i] = i
	}
	return out
}

// partsOf parts the columns of a table that is too wide: each part has the columns that tell its rows apart, and as
// many of the others as a width holds.
func partsOf(p *shape.Plan, width float64, natural []float64) (parts [][]int) {
	keys := p.Key
	if len(keys) == 0 {
		keys = p.Groups
	}
	if len(keys) == 0 {
		keys = []int{0}
	}
	taken := 0.0
	for _, i := range keys {
		taken += natural[i]
	}
	left := 0.0
	for _, i := range allColumns(p) {
		if slices.Contains(keys, i) {
			continue
		}
		if len(parts) == 0 || natural[i] > left {
			parts, left = append(parts, slices.Clone(keys)), width-taken
		}
		parts[len(parts)-1] = append(parts[len(parts)-1], i)
		left -= natural[i]
	}
	if len(parts) == 0 {
		return [][]int{keys}
	}
	return parts
}
