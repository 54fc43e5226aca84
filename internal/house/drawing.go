package house

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"image"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"ironbell/internal/typeface"

	"github.com/fyne-io/oksvg"
	"github.com/srwiley/rasterx"
)

// Elements and attributes of SVG 1.1 that a drawing may have: shapes, paths,
// texts, and what colours them. What is not here is refused by its name; what
// only describes is left out.
var (
	drawn = []string{
		"svg", "g", "defs", "path", "rect", "circle", "ellipse", "line", "polyline", "polygon", "text", "tspan",
		"linearGradient", "radialGradient", "stop",
	}
	described  = []string{"title", "desc", "metadata", "namedview", "style-sheet"}
	attributes = []string{
		"viewBox", "width", "height", "x", "y", "x1", "y1", "x2", "y2", "cx", "cy", "r", "rx", "ry", "fx", "fy", "d", "points",
		"transform", "fill", "fill-opacity", "fill-rule", "stroke", "stroke-width", "stroke-linecap", "stroke-linejoin",
		"stroke-miterlimit", "stroke-opacity", "stroke-dasharray", "stroke-dashoffset", "opacity", "offset", "stop-color",
		"stop-opacity", "gradientUnits", "gradientTransform", "spreadMethod", "id", "font-size", "font-weight", "text-anchor",
	}
)

// svgSpace is the namespace of SVG.
const svgSpace = "http://www.w3.org/2000/svg"

const (
	mostElements = 5000
	mostDepth    = 50
)

// weighDrawing reads an SVG, writes it anew with nothing but its shapes, and
// draws it as a picture.
func weighDrawing(data []byte) (Weighed, error) {
	if len(data) > maxSVG {
		return Weighed{}, fmt.Errorf("the SVG has %d bytes; a drawing has at most %d kB", len(data), maxSVG>>10)
	}
	anew, err := rewrite(data)
	if err != nil {
		return Weighed{}, err
	}
	icon, err := oksvg.ReadIconStream(bytes.NewReader(anew), oksvg.StrictErrorMode)
	if err != nil {
		return Weighed{}, fmt.Errorf("the SVG cannot be drawn: %w", err)
	}
	w, h := icon.ViewBox.W, icon.ViewBox.H
	if !(w > 0 && h > 0 && w < 1e6 && h < 1e6) {
		return Weighed{}, errors.New("the SVG says neither its viewBox nor its width and height")
	}
	scale := min(keptWide/w, keptHigh/h)
	wide, high := max(1, int(math.Round(w*scale))), max(1, int(math.Round(h*scale)))
	icon.SetTarget(0, 0, float64(wide), float64(high))
	img := image.NewRGBA(image.Rect(0, 0, wide, high))
	icon.Draw(rasterx.NewDasher(wide, high, rasterx.NewScannerGV(wide, high, img, img.Bounds())), 1)
	if slices.Max(img.Pix) == 0 {
		return Weighed{}, errors.New("the SVG draws nothing")
	}
	return logo(img)
}

// rewriter writes a drawing anew.
type rewriter struct {
	out    bytes.Buffer
	shaper *typeface.Shaper
	open   []string
	n      int
}

func rewrite(data []byte) ([]byte, error) {
	r := &rewriter{shaper: typeface.Open(nil).Shaper("en")}
	in := xml.NewDecoder(bytes.NewReader(data))
	for {
		token, err := in.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("the SVG cannot be read: %w", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			if err := r.begin(in, t); err != nil {
				return nil, err
			}
		case xml.EndElement:
			r.out.WriteString("</" + r.open[len(r.open)-1] + ">")
			r.open = r.open[:len(r.open)-1]
		case xml.Directive:
			return nil, errors.New("the SVG has a document type; save it without one")
		}
	}
	if r.n == 0 {
		return nil, errors.New("the SVG is empty")
	}
	return r.out.Bytes(), nil
}

func (r *rewriter) begin(in *xml.Decoder, t xml.StartElement) error {
	name := t.Name.Local
	if r.n++; r.n > mostElements || len(r.open) > mostDepth {
		return fmt.Errorf("the SVG has more than %d elements, or %d within each other", mostElements, mostDepth)
	}
	if r.n == 1 && name != "svg" {
		return errors.New("it is no SVG")
	}
	foreign := t.Name.Space != "" && t.Name.Space != svgSpace
	if foreign || slices.Contains(described, name) { // notes of the program that drew it
		return in.Skip() //nolint:wrapcheck // the next token says it again
	}
	if !slices.Contains(drawn, name) {
		advice := "a logo has shapes, paths and texts only"
		if name == "style" {
			advice = "let the program that draws it write colours with its shapes (as presentation attributes)"
		}
		return fmt.Errorf("the SVG has an element %q; %s", name, advice)
	}
	kept := map[string]string{}
	for _, a := range t.Attr {
		if err := keep(kept, a); err != nil {
			return err
		}
	}
	if name == "text" {
		return r.text(in, kept)
	}
	if name == "tspan" {
		return errors.New("the SVG has a text that does not stand in a text")
	}
	r.element(name, kept)
	r.open = append(r.open, name)
	return nil
}

func (r *rewriter) element(name string, with map[string]string) {
	r.out.WriteString("<" + name)
	if len(r.open) == 0 {
		r.out.WriteString(` xmlns="http://www.w3.org/2000/svg"`)
	}
	for _, a := range attributes {
		if v, ok := with[a]; ok {
			r.out.WriteString(" " + a + `="`)
			_ = xml.EscapeText(&r.out, []byte(v)) // memory takes all
			r.out.WriteString(`"`)
		}
	}
	r.out.WriteString(">")
}

// keep takes an attribute over. Those that reach or run something are refused.
func keep(into map[string]string, a xml.Attr) error {
	name, value := a.Name.Local, strings.TrimSpace(a.Value)
	lower := strings.ToLower(name)
	switch {
	case a.Name.Space == "xmlns" || name == "xmlns":
		return nil
	case lower == "href" && strings.HasPrefix(value, "#"):
		return fmt.Errorf("the SVG takes %q from another place of itself; save it plain, with each of its parts where it stands", value)
	case strings.HasPrefix(lower, "on") || lower == "href":
		return fmt.Errorf("the SVG has an attribute %q; a logo runs nothing and fetches nothing", name)
	case name == "style":
		for part := range strings.SplitSeq(value, ";") {
			property, v, ok := strings.Cut(part, ":")
			if !ok {
				continue
			}
			if err := keep(into, xml.Attr{Name: xml.Name{Local: strings.TrimSpace(property)}, Value: v}); err != nil {
				return err
			}
		}
		return nil
	case !slices.Contains(attributes, name) || a.Name.Space != "":
		return nil
	}
	if at := strings.Index(strings.ToLower(value), "url("); at >= 0 && !strings.HasPrefix(value[at+4:], "#") {
		return fmt.Errorf("the SVG points to %q; a logo fetches nothing", value)
	}
	into[name] = value
	return nil
}

// text turns a text into the outlines of its letters, so that it looks the same
// everywhere.
func (r *rewriter) text(in *xml.Decoder, with map[string]string) error {
	var words strings.Builder
	for depth := 1; depth > 0; {
		token, err := in.Token()
		if err != nil {
			return fmt.Errorf("the SVG cannot be read: %w", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			if t.Name.Local != "tspan" {
				return fmt.Errorf("the SVG has an element %q in a text; a logo has shapes, paths and texts only", t.Name.Local)
			}
			for _, a := range t.Attr {
				if own := map[string]string{}; true {
					if err := keep(own, a); err != nil {
						return err
					}
					for _, place := range []string{"x", "y"} {
						if v, ok := own[place]; ok && v != with[place] && words.Len() > 0 {
							return errors.New("the SVG has a text of several places; turn its letters into paths")
						} else if ok {
							with[place] = v
						}
					}
				}
			}
			depth++
		case xml.EndElement:
			depth--
		case xml.CharData:
			words.Write(t)
		}
	}
	line := strings.Join(strings.Fields(words.String()), " ")
	for _, letter := range line {
		if !r.shaper.Has(letter) {
			return fmt.Errorf("the SVG has a text with %q, which the built-in typeface lacks; turn its letters into paths", letter)
		}
	}
	size, x, y := number(with["font-size"], 16), number(with["x"], 0), number(with["y"], 0)
	bold := with["font-weight"] == "bold" || number(with["font-weight"], 400) >= 600
	set := r.shaper.Line(line, bold)
	switch with["text-anchor"] {
	case "middle":
		x -= set.Wide * size / 2
	case "end":
		x -= set.Wide * size
	}
	var d strings.Builder
	for _, run := range set.Runs {
		for _, g := range run.Glyphs {
			outline(&d, r.shaper.Outline(run.Face, g.ID).Steps, x+g.X*size, y-g.Y*size, size)
			x += g.Advance * size
		}
	}
	for _, only := range []string{"x", "y", "font-size", "font-weight", "text-anchor"} {
		delete(with, only)
	}
	if with["d"] = d.String(); d.Len() > 0 {
		r.element("path", with)
		r.out.WriteString("</path>")
	}
	return nil
}

func outline(d *strings.Builder, steps []typeface.Step, x, y, size float64) {
	for i, s := range steps {
		if s.Kind == 'M' && i > 0 {
			d.WriteString("Z")
		}
		d.WriteByte(s.Kind)
		for n := 0; n < 6 && (n < 2 || s.Kind == 'C'); n += 2 {
			fmt.Fprintf(d, "%.3f %.3f ", x+s.At[n]*size, y-s.At[n+1]*size)
		}
	}
	if len(steps) > 0 {
		d.WriteString("Z")
	}
}

// number reads a length in the drawing's own unit.
func number(text string, otherwise float64) float64 {
	v, err := strconv.ParseFloat(strings.TrimSuffix(strings.TrimSpace(text), "px"), 64)
	if err != nil || math.IsNaN(v) || math.Abs(v) > 1e6 {
		return otherwise
	}
	return v
}
