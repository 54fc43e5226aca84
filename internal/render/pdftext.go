package render

import (
	"bytes"
	"fmt"
	"math"
	"strings"
	"unicode/utf16"

	"ironbell/internal/typeface"

	"codeberg.org/go-pdf/fpdf"
)

// carried are the faces that a PDF has besides its own: the glyphs that were
// used of them.
type carried struct {
	subsets  []*typeface.Subset
	of       map[*typeface.Face]int
	pictures map[string]bool // of glyphs, by their names
}

// letter chooses the letters of what is written next: their weight, empty or B,
// and their size in points.
func (p *pdfWriter) letter(weight string, size float64) {
	p.strong = weight == "B"
	p.pdf.SetFont("sheet", weight, size)
}

// wide is how wide a line is in the letters that are chosen.
func (p *pdfWriter) wide(text string) float64 {
	if p.letters.shaper.Plain(text) {
		return p.pdf.GetStringWidth(text)
	}
	wide := 0.0
	_, size := p.pdf.GetFontSize()
	for _, run := range p.letters.shaper.Line(text, p.strong).Runs {
		if run.Plain {
			wide += p.pdf.GetStringWidth(run.Text)
			continue
		}
		wide += run.Wide * size
	}
	return wide
}

// write writes a line from a point of its foot on.
func (p *pdfWriter) write(x, y float64, text string) {
	if p.letters.shaper.Plain(text) {
		p.pdf.Text(x, y, text)
		return
	}
	_, size := p.pdf.GetFontSize()
	for _, run := range p.letters.shaper.Line(text, p.strong).Runs {
		if run.Plain {
			p.pdf.Text(x, y, run.Text)
			x += p.pdf.GetStringWidth(run.Text)
			continue
		}
		p.shaped(x, y, run)
		x += run.Wide * size
	}
}

// within writes a line in the room of a cell: what is read from right to left
// stands at its right.
func (p *pdfWriter) within(x, y, room float64, text string) {
	if !p.letters.shaper.Plain(text) && typeface.Leftward(text) {
		x += max(0, room-p.wide(text))
	}
	p.write(x, y, text)
}

// shaped writes a run cluster by cluster (ISO 32000-1, 9.4.3).
func (p *pdfWriter) shaped(x, y float64, run typeface.Run) {
	if p.dry {
		return
	}
	at, known := p.faces.of[run.Face]
	if !known {
		if p.faces.of == nil {
			p.faces.of, p.faces.pictures = map[*typeface.Face]int{}, map[string]bool{}
		}
		at = len(p.faces.subsets)
		p.faces.of[run.Face] = at
		p.faces.subsets = append(p.faces.subsets, p.letters.shaper.Subset(run.Face))
	}
	subset := p.faces.subsets[at]
	points, size := p.pdf.GetFontSize()
	_, high := p.pdf.GetPageSize()

	var show strings.Builder
	stands, wanted := 0, 0.0 // where the next one would stand, and is to, in thousandths
	for _, cluster := range run.Clusters() {
		if back := math.Round(float64(stands) - wanted); back != 0 {
			fmt.Fprintf(&show, "%.0f ", back)
			stands -= int(back)
		}
		fmt.Fprintf(&show, "<%04x>", subset.Code(cluster))
		stands += typeface.Width(cluster)
		for _, g := range cluster {
			p.pictured(run.Face, g, x+(wanted/1000+g.X)*size, y-g.Y*size, size)
			wanted += 1000 * g.Advance
		}
	}
	r, g, b := p.pdf.GetTextColor()
	k := 72 / 25.4
	p.pdf.RawWriteStr(fmt.Sprintf("q %.3f %.3f %.3f rg BT /T%d %.2f Tf %.2f %.2f Td [%s] TJ ET Q", float64(r)/255, float64(g)/255,
		float64(b)/255, at, points, x*k, (high-y)*k, show.String()))
	// What the page's own letters are was changed behind its back.
	p.pdf.SetFontSize(points)
}

// pictured draws a glyph that is a picture in colour.
func (p *pdfWriter) pictured(face *typeface.Face, g typeface.Glyph, x, y, size float64) {
	name := fmt.Sprintf("glyph %s %d", face.Name, g.ID)
	known, asked := p.faces.pictures[name]
	if asked && !known {
		return
	}
	o := p.letters.shaper.Outline(face, g.ID)
	if p.faces.pictures[name] = o.Image != nil; o.Image == nil {
		return
	}
	if !asked {
		p.pdf.RegisterImageOptionsReader(name, fpdf.ImageOptions{ImageType: "PNG"}, bytes.NewReader(o.Image))
	}
	p.pdf.ImageOptions(name, x+o.Box[0]*size, y-o.Box[3]*size, (o.Box[2]-o.Box[0])*size, (o.Box[3]-o.Box[1])*size, false,
		fpdf.ImageOptions{ImageType: "PNG"}, 0, "")
}

func utf16Hex(s string) string {
	var out strings.Builder
	for _, u := range utf16.Encode([]rune(s)) {
		fmt.Fprintf(&out, "%04X", u)
	}
	return out.String()
}

// cut shortens a text to a width with an ellipsis.
func (p *pdfWriter) cut(text string, width float64) string {
	return p.letters.shaper.Cut(text, width, p.wide)
}

// split breaks a text into lines of a width; a word that is wider is broken.
func (p *pdfWriter) split(text string, width float64) []string {
	width += rounding
	if !strings.Contains(text, "\n") && p.wide(text) <= width {
		return []string{text}
	}
	var lines []string
	for paragraph := range strings.SplitSeq(text, "\n") {
		if !p.letters.shaper.Plain(paragraph) {
			lines = append(lines, p.letters.shaper.Wrap(paragraph, width, p.wide)...)
			continue
		}
		line := ""
		for word := range strings.SplitSeq(paragraph, " ") {
			next := word
			if line != "" {
				next = line + " " + word
			}
			if p.wide(next) <= width {
				line = next
				continue
			}
			if line != "" {
				lines = append(lines, line)
			}
			for line = word; p.wide(line) > width && len(line) > 1; {
				r := []rune(line)
				n := len(r) - 1
				for n > 1 && p.wide(string(r[:n])) > width {
					n--
				}
				lines, line = append(lines, string(r[:n])), string(r[n:])
			}
		}
		lines = append(lines, line)
	}
	return lines
}
