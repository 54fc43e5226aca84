package proof

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"html"
	"io"
	"path"
	"strings"
)

// The parts of a slide that are drawn (ECMA-376 part 1: 19.3.1 for what is on it, 21.1.2
// for text, 21.1.3 for tables). Lengths are in English metric units, sizes of type in
// hundredths of a point.
type (
	slide struct {
		Shapes   []textShape  `xml:"cSld>spTree>sp"`
		Frames   []frameShape `xml:"cSld>spTree>graphicFrame"`
		Pictures []picShape   `xml:"cSld>spTree>pic"`
	}
	place struct {
		Off struct {
			X int `xml:"x,attr"`
			Y int `xml:"y,attr"`
		} `xml:"off"`
		Ext struct {
			Wide int `xml:"cx,attr"`
			High int `xml:"cy,attr"`
		} `xml:"ext"`
	}
	textShape struct {
		Place place       `xml:"spPr>xfrm"`
		Lines []paragraph `xml:"txBody>p"`
	}
	frameShape struct {
		Place   place `xml:"xfrm"`
		Columns []struct {
			Wide int `xml:"w,attr"`
		} `xml:"graphic>graphicData>tbl>tblGrid>gridCol"`
		Rows []struct {
			High  int         `xml:"h,attr"`
			Cells []tableCell `xml:"tc"`
		} `xml:"graphic>graphicData>tbl>tr"`
	}
	tableCell struct {
		Lines []paragraph `xml:"txBody>p"`
		About struct {
			Below struct {
				Wide   int    `xml:"w,attr"`
				Colour colour `xml:"solidFill>srgbClr"`
			} `xml:"lnB"`
		} `xml:"tcPr"`
	}
	picShape struct {
		Place place `xml:"spPr>xfrm"`
		About struct {
			Says string `xml:"descr,attr"`
		} `xml:"nvPicPr>cNvPr"`
		Blip struct {
			Embed string `xml:"http://schemas.openxmlformats.org/officeDocument/2006/relationships embed,attr"`
		} `xml:"blipFill>blip"`
	}
	paragraph struct {
		About struct {
			Align string `xml:"algn,attr"`
		} `xml:"pPr"`
		Runs   []textRun `xml:"r"`
		Fields []textRun `xml:"fld"`
	}
	textRun struct {
		About struct {
			Size   int    `xml:"sz,attr"`
			Bold   string `xml:"b,attr"`
			Colour colour `xml:"solidFill>srgbClr"`
		} `xml:"rPr"`
		Text string `xml:"t"`
	}
	colour struct {
		Value string `xml:"val,attr"`
	}
	presentation struct {
		Slides []struct {
			ID string `xml:"http://schemas.openxmlformats.org/officeDocument/2006/relationships id,attr"`
		} `xml:"sldIdLst>sldId"`
		Size struct {
			Wide int `xml:"cx,attr"`
			High int `xml:"cy,attr"`
		} `xml:"sldSz"`
	}
	relations struct {
		All []struct {
			ID     string `xml:"Id,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
)

const slideStyle = `.slide{position:relative;width:calc(100% - 20px);margin:10px;background:#fff;box-shadow:0 1px 6px #0003;` +
	`overflow:hidden;container-type:inline-size}.slide>*{position:absolute;margin:0}.slide p{margin:0;overflow-wrap:anywhere}` +
	`table{border-collapse:collapse;table-layout:fixed}td{padding:.25cqw .7cqw .25cqw .35cqw;` +
	`vertical-align:middle}`

// errNoSlides says that a file is no presentation.
var errNoSlides = errors.New("it is no presentation that can be read")

// deck is a presentation while it is drawn.
type deck struct {
	parts map[string]*zip.File
	about presentation
	left  int // bytes that may still be unpacked
}

// slides shows a presentation: each slide with its texts, tables and pictures where they
// stand, in their sizes.
func slides(out *strings.Builder, data []byte) error {
	packed, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return errNoSlides
	}
	d := &deck{parts: map[string]*zip.File{}, left: maxUnpacked}
	for _, f := range packed.File {
		d.parts[f.Name] = f
	}
	const main = "ppt/presentation.xml"
	if err := d.parse(main, &d.about); err != nil {
		return err
	}
	if d.about.Size.Wide <= 0 || d.about.Size.High <= 0 {
		return errNoSlides
	}
	targets, err := d.relations(main)
	if err != nil {
		return err
	}
	begin(out, slideStyle)
	all := len(d.about.Slides)
	for i, one := range d.about.Slides[:min(all, maxSlides)] {
		fmt.Fprintf(out, `<div class="slide" role="group" aria-label="Slide %d of %d" style="aspect-ratio:%d/%d">`, i+1, all,
			d.about.Size.Wide, d.about.Size.High)
		if err := d.slide(out, targets[one.ID]); err != nil {
			return fmt.Errorf("slide %d: %w", i+1, err)
		}
		out.WriteString(`</div>`)
	}
	if all > maxSlides {
		note(out, "The first %d of %d slides; fetch the file for the others.", maxSlides, all)
	}
	return nil
}

func (d *deck) bytes(name string) ([]byte, error) {
	f, ok := d.parts[name]
	if !ok {
		return nil, fmt.Errorf("%w: its part %q is not there", errNoSlides, name)
	}
	from, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("unpack %q: %w", name, err)
	}
	defer func() { _ = from.Close() }() // only read from
	data, err := io.ReadAll(io.LimitReader(from, int64(d.left)+1))
	if err != nil {
		return nil, fmt.Errorf("unpack %q: %w", name, err)
	}
	if d.left -= len(data); d.left < 0 {
		return nil, ErrTooLarge
	}
	return data, nil
}

func (d *deck) parse(name string, into any) error {
	data, err := d.bytes(name)
	if err != nil {
		return err
	}
	if err := xml.Unmarshal(data, into); err != nil {
		return fmt.Errorf("read %q: %w", name, err)
	}
	return nil
}

// relations are the parts that a part names, by their ids.
func (d *deck) relations(of string) (map[string]string, error) {
	folder, file := path.Split(of)
	var r relations
	if err := d.parse(folder+"_rels/"+file+".rels", &r); err != nil {
		return nil, err
	}
	targets := make(map[string]string, len(r.All))
	for _, one := range r.All {
		targets[one.ID] = path.Join(folder, one.Target)
	}
	return targets, nil
}

func (d *deck) slide(out *strings.Builder, name string) error {
	var s slide
	if err := d.parse(name, &s); err != nil {
		return err
	}
	targets, err := d.relations(name)
	if err != nil {
		return err
	}
	if err := d.below(out, targets); err != nil {
		return err
	}
	for _, sh := range s.Shapes {
		out.WriteString(`<div style="` + d.at(sh.Place, true) + `">`)
		d.lines(out, sh.Lines)
		out.WriteString(`</div>`)
	}
	if err := d.pictures(out, s.Pictures, targets); err != nil {
		return err
	}
	for _, f := range s.Frames {
		d.table(out, f)
	}
	return nil
}

// below draws the pictures of the layout that a slide lies on, such as a logo.
func (d *deck) below(out *strings.Builder, targets map[string]string) error {
	for _, part := range targets {
		if path.Dir(part) != "ppt/slideLayouts" {
			continue
		}
		var layout slide
		if err := d.parse(part, &layout); err != nil {
			return err
		}
		if len(layout.Pictures) == 0 {
			return nil
		}
		own, err := d.relations(part)
		if err != nil {
			return err
		}
		return d.pictures(out, layout.Pictures, own)
	}
	return nil
}

func (d *deck) pictures(out *strings.Builder, all []picShape, targets map[string]string) error {
	for _, p := range all {
		picture, err := d.bytes(targets[p.Blip.Embed])
		if err != nil {
			return err
		}
		fmt.Fprintf(out, `<img alt="%s" style="%s" src="data:image/png;base64,%s">`, html.EscapeString(p.About.Says),
			d.at(p.Place, true), base64.StdEncoding.EncodeToString(picture))
	}
	return nil
}

// at is where something stands, in hundredths of the slide.
func (d *deck) at(p place, high bool) string {
	part := func(n, of int) float64 { return 100 * float64(n) / float64(of) }
	text := fmt.Sprintf("left:%.3f%%;top:%.3f%%;width:%.3f%%;", part(p.Off.X, d.about.Size.Wide),
		part(p.Off.Y, d.about.Size.High), part(p.Ext.Wide, d.about.Size.Wide))
	if high {
		text += fmt.Sprintf("height:%.3f%%;", part(p.Ext.High, d.about.Size.High))
	}
	return text
}

// of the slide's width, a length in English metric units.
func (d *deck) cqw(emu int) float64 { return 100 * float64(emu) / float64(d.about.Size.Wide) }

func (d *deck) table(out *strings.Builder, f frameShape) {
	out.WriteString(`<table style="` + d.at(f.Place, false) + `"><colgroup>`)
	for _, c := range f.Columns {
		fmt.Fprintf(out, `<col style="width:%.3fcqw">`, d.cqw(c.Wide))
	}
	out.WriteString(`</colgroup>`)
	for _, row := range f.Rows {
		fmt.Fprintf(out, `<tr style="height:%.3fcqw">`, d.cqw(row.High))
		for _, c := range row.Cells {
			line := ""
			if below := c.About.Below; isColour(below.Colour.Value) && below.Wide > 0 {
				line = fmt.Sprintf("border-bottom:%.3fcqw solid #%s", d.cqw(below.Wide), below.Colour.Value)
			}
			out.WriteString(`<td style="` + line + `">`)
			d.lines(out, c.Lines)
			out.WriteString(`</td>`)
		}
		out.WriteString(`</tr>`)
	}
	out.WriteString(`</table>`)
}

func (d *deck) lines(out *strings.Builder, lines []paragraph) {
	const point = 12700
	for _, p := range lines {
		align := ""
		if p.About.Align == "r" {
			align = "text-align:right"
		}
		out.WriteString(`<p style="` + align + `">`)
		for _, r := range append(p.Runs, p.Fields...) {
			style := ""
			if r.About.Size > 0 {
				style = fmt.Sprintf("font-size:%.3fcqw;", d.cqw(r.About.Size*point/100))
			}
			if r.About.Bold == "1" {
				style += "font-weight:600;"
			}
			if isColour(r.About.Colour.Value) {
				style += "color:#" + r.About.Colour.Value
			}
			out.WriteString(`<span style="` + style + `">` + html.EscapeString(r.Text) + `</span>`)
		}
		out.WriteString(`</p>`)
	}
}
