package render

import (
	"archive/zip"
	"bytes"
	_ "embed"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/shape"
	"ironbell/internal/house"
	"ironbell/internal/typeface"
)

// slides writes a presentation (ECMA-376 part 1, PresentationML): a slide with
// the title, then one or more slides for each section. Tables are tables, with
// their first row marked as head; a chart is a picture that says in words what
// it shows, with its table on the slides behind it.
type slides struct {
	out   io.Writer
	zip   *zip.Writer
	head  *Head
	style *Style
	n     int // slides
	media int
	hand  *lettering
	said  []string
	grid  *gridParts // of the one slide that is composed; nil for slides of sections

	reading
	lines []textLine
}

// The parts of a presentation that are always the same.
var (
	//go:embed pptx/theme.xml
	pptxTheme string
	//go:embed pptx/master.xml
	pptxMaster string
	//go:embed pptx/layout.xml
	pptxLayout string
	//go:embed pptx/notes.xml
	pptxNotes string
)

// Measures of a slide, in English metric units: 914,400 to an inch.
const (
	slideWide  = 12192000
	slideHigh  = 6858000
	slideEdge  = 609600
	slideBody  = 1371600
	emuOfPoint = 12700
)

func newSlides(w io.Writer, h *Head, s *Style) (Writer, error) {
	hand, err := newLettering(newLetters(s))
	if err != nil {
		return nil, err
	}
	p := &slides{out: w, zip: zip.NewWriter(w), head: h, style: s, hand: hand}
	if s.Page != nil && s.Page.Grid {
		p.grid = &gridParts{}
		return p, nil
	}
	words := s.Locale.Words
	about := words.AsOf + " " + h.asOf(s.Locale)
	if h.Run != "" {
		about += "  ·  " + words.Run + " " + h.Run
	}
	title, size, lines := p.titled(h.Title, "", 36, 120)
	high := int(float64(lines*size) / 100 * slideLine * emuOfPoint) // it stands on what follows
	body := placed("title", 2, "Title", slideEdge, 3300000-high, slideWide-2*slideEdge, high, paragraph(title, size, true, p.style.Look.Ink)) +
		placed("", 3, "About", slideEdge, 3450000, slideWide-2*slideEdge, 1200000,
			paragraph(about, 1600, false, p.style.Look.Faint)+paragraph(h.valuesLine(), 1400, false, p.style.Look.Faint)) +
		p.imprint()
	return p, p.slide(body, "")
}

// imprint is the house's small print on the first slide.
func (p *slides) imprint() string {
	house := joined(p.style.Look.Footer, p.style.Look.Legal)
	if house == "" {
		return ""
	}
	return placed("", 92, "Imprint", slideEdge, slideHigh-1300000, slideWide-2*slideEdge, 800000,
		paragraph(house, 900, false, p.style.Look.Faint))
}

func escape(s string) string {
	var out bytes.Buffer
	_ = xml.EscapeText(&out, []byte(s)) // a buffer takes everything
	return out.String()
}

func paragraph(s string, size int, bold bool, colour string) string {
	b := ""
	if bold {
		b = ` b="1"`
	}
	return fmt.Sprintf(`<a:p>%s<a:r><a:rPr lang="en" sz="%d"%s><a:solidFill><a:srgbClr val="%s"/></a:solidFill></a:rPr><a:t>%s</a:t></a:r></a:p>`,
		towards("l", s), size, b, colour, escape(s))
}

// towards is where a paragraph stands in its box; one that is read from right to left stands at the right.
func towards(align, s string) string {
	if typeface.Leftward(s) {
		return `<a:pPr algn="r" rtl="1"/>`
	}
	return `<a:pPr algn="` + align + `"/>`
}

// placed is a box of text; kind names a placeholder of the layout.
func placed(kind string, id int, name string, x, y, w, h int, paragraphs string) string {
	holder, box := "", ` txBox="1"`
	if kind != "" {
		holder, box = `<p:ph type="`+kind+`"/>`, ""
	}
	return fmt.Sprintf(`<p:sp><p:nvSpPr><p:cNvPr id="%d" name="%s"/><p:cNvSpPr%s/><p:nvPr>%s</p:nvPr></p:nvSpPr><p:spPr><a:xfrm><a:off x="%d" y="%d"/><a:ext cx="%d" cy="%d"/></a:xfrm><a:prstGeom prst="rect"><a:avLst/></a:prstGeom></p:spPr><p:txBody><a:bodyPr wrap="square" lIns="0" tIns="0" rIns="0" bIns="0"><a:normAutofit/></a:bodyPr><a:lstStyle/>%s</p:txBody></p:sp>`,
		id, escape(name), box, holder, x, y, w, h, paragraphs)
}

const namespaces = `xmlns:a="http://schemas.openxmlformats.org/drawingml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships" xmlns:p="http://schemas.openxmlformats.org/presentationml/2006/main"`

const xmlHead = `<?xml version="1.0" encoding="UTF-8" standalone="yes"?>` + "\n"

// slide adds a slide; rels are its relations beside the layout.
func (p *slides) slide(body, rels string) error {
	if p.n >= MaxSlides {
		return tooMuch("presentation", MaxSlides, "slides",
			"Choose pdf or xlsx for this output, the summary of the section, or fewer sections.")
	}
	p.n++
	text := xmlHead + `<p:sld ` + namespaces +
		`><p:cSld><p:spTree><p:nvGrpSpPr><p:cNvPr id="1" name=""/><p:cNvGrpSpPr/><p:nvPr/></p:nvGrpSpPr><p:grpSpPr/>` +
		body +
		`</p:spTree></p:cSld><p:clrMapOvr><a:masterClrMapping/></p:clrMapOvr></p:sld>`
	if err := p.put(fmt.Sprintf("ppt/slides/slide%d.xml", p.n), text); err != nil {
		return err
	}
	if err := p.put(fmt.Sprintf("ppt/slides/_rels/slide%d.xml.rels", p.n),
		relations(`<Relationship Id="rId1" Type="`+officeRel+`slideLayout" Target="../slideLayouts/slideLayout1.xml"/>`+
			fmt.Sprintf(`<Relationship Id="rId9" Type="%snotesSlide" Target="../notesSlides/notesSlide%d.xml"/>`, officeRel, p.n)+
			rels)); err != nil {
		return err
	}
	return p.notes()
}

const officeRel = "http://schemas.openxmlformats.org/officeDocument/2006/relationships/"

func relations(inner string) string {
	return xmlHead + `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">` + inner +
		`</Relationships>`
}

func (p *slides) put(name, text string) error {
	h := &zip.FileHeader{Name: name, Method: zip.Deflate}
	if strings.HasSuffix(name, ".png") {
		h.Method = zip.Store // it is packed already
	}
	w, err := p.zip.CreateHeader(h)
	if err == nil {
		_, err = io.WriteString(w, text)
	}
	if err != nil {
		return fmt.Errorf("write the presentation: %w", err)
	}
	return nil
}

func (p *slides) Begin(plan *shape.Plan) error {
	p.lines = nil
	return p.begin(p.style, plan, "presentation", MaxColumns)
}

func (p *slides) Line(line *shape.Line) error {
	if done, err := p.take(p.style, line); done || err != nil {
		return err
	}
	if len(p.lines) >= mostRows*MaxSlides {
		return tooMuch("presentation", MaxSlides, "slides",
			"Choose pdf or xlsx for this output, or the summary of the section.")
	}
	p.lines = append(p.lines, shownLine(p.plan, line, p.forms, p.totals, p.style.Locale))
	return nil
}

func (p *slides) End() error {
	if p.grid != nil {
		return p.gather()
	}
	switch p.plan.Kind {
	case job.SectionText:
		return p.prose()
	case job.SectionFigures:
		return p.figures()
	}
	if p.chart != nil && len(p.chart.along) > 0 {
		if err := p.picture(); err != nil || p.plan.Chart.WithoutTable {
			return err
		}
	}
	if len(p.lines) == 0 {
		return p.slide(p.title("")+
			placed("", 3, "Text", slideEdge, slideBody, slideWide-2*slideEdge, 600000,
				paragraph(p.style.Locale.Words.NoRows, 1800, false, p.style.Look.Faint))+p.footer(), "")
	}
	return p.tables()
}

func (p *slides) title(more string) string {
	const high = 700000
	text, size, _ := p.titled(p.plan.Title, more, 26, high/emuOfPoint)
	return placed("title", 2, "Title", slideEdge, 420000, slideWide-2*slideEdge, high, paragraph(text, size, true, p.style.Look.Ink))
}

func (p *slides) footer() string {
	words := p.style.Locale.Words
	text := p.head.Title + "  ·  " + words.AsOf + " " + p.head.asOf(p.style.Locale)
	if p.head.Run != "" {
		text += "  ·  " + words.Run + " " + p.head.Run
	}
	wide := slideWide - 2*slideEdge - 900000
	if p.style.Look.Logo != nil {
		w, _ := p.logo()
		wide -= w + 200000
	}
	body := paragraph(p.oneLine(text, 10, wide), 1000, false, p.style.Look.Faint)
	if house := joined(p.style.Look.Footer, p.style.Look.Legal); house != "" {
		body += paragraph(p.oneLine(house, 8, wide), 800, false, p.style.Look.Faint)
	}
	return placed("", 90, "Foot", slideEdge, slideHigh-450000, wide, 330000, body) +
		placed("", 91, "Number", slideWide-slideEdge-800000, slideHigh-420000, 800000, 250000,
			`<a:p><a:pPr algn="r"/><a:fld id="{5C7A2A3D-9C55-4B0B-8A53-0A5D2C7C6B11}" type="slidenum"><a:rPr lang="en" sz="1000"><a:solidFill><a:srgbClr val="`+p.style.Look.Faint+`"/></a:solidFill></a:rPr><a:t>`+fmt.Sprint(p.n+1)+`</a:t></a:fld></a:p>`)
}

// oneLine cuts a text to a line of letters of a size in points.
func (p *slides) oneLine(text string, size float64, wide int) string {
	room := float64(wide) / emuOfPoint * slideFont / size
	return p.hand.letters.shaper.Cut(text, room, func(s string) float64 { return p.points(s, false) })
}

// logo is how large the logo of the house stands at the foot.
func (p *slides) logo() (wide, high int) {
	w, h := p.style.Look.Logo.Within(1500000, 330000)
	return int(w), int(h)
}

// dressed are the parts of a presentation that are the same in all of a house: its theme, and the layout with its
// logo.
func (p *slides) dressed() (theme, layout, related string, err error) {
	look := p.style.Look
	colours := []string{"<a:dk1><a:srgbClr val=\"24272B\"", `<a:dk1><a:srgbClr val="` + look.Ink + `"`}
	for i, own := range house.Series[:6] {
		colours = append(colours, fmt.Sprintf(`<a:accent%d><a:srgbClr val="%s"`, i+1, own),
			fmt.Sprintf(`<a:accent%d><a:srgbClr val="%s"`, i+1, look.Series[i]))
	}
	if look.Family != "" {
		colours = append(colours, `<a:latin typeface="Calibri"/>`, `<a:latin typeface="`+escape(look.Family)+`"/>`)
	}
	theme, layout = strings.NewReplacer(colours...).Replace(pptxTheme), pptxLayout
	if look.Logo == nil {
		return theme, layout, "", nil
	}
	w, h := p.logo()
	picture := fmt.Sprintf(`<p:pic><p:nvPicPr><p:cNvPr id="9" name="Logo" descr="%s"/><p:cNvPicPr><a:picLocks noChangeAspect="1"/></p:cNvPicPr><p:nvPr userDrawn="1"/></p:nvPicPr><p:blipFill><a:blip r:embed="rId2"/><a:stretch><a:fillRect/></a:stretch></p:blipFill><p:spPr><a:xfrm><a:off x="%d" y="%d"/><a:ext cx="%d" cy="%d"/></a:xfrm><a:prstGeom prst="rect"><a:avLst/></a:prstGeom></p:spPr></p:pic>`,
		escape(look.Name), slideWide-slideEdge-900000-w, slideHigh-420000-h/4, w, h)
	layout = strings.Replace(layout, "</p:spTree>", picture+"</p:spTree>", 1)
	return theme, layout, `<Relationship Id="rId2" Type="` + officeRel + `image" Target="../media/logo.png"/>`,
		p.put("ppt/media/logo.png", string(look.Logo.PNG))
}

// joined puts the texts that are there one behind the other.
func joined(texts ...string) string {
	return strings.Join(slices.DeleteFunc(texts, func(s string) bool { return s == "" }), "  ·  ")
}

func (p *slides) figures() error {
	if len(p.shown) == 0 {
		return p.slide(p.title("")+placed("", 3, "Text", slideEdge, slideBody, slideWide-2*slideEdge, 600000,
			paragraph(p.style.Locale.Words.NoRows, 1800, false, p.style.Look.Faint))+p.footer(), "")
	}
	const across, most = 3, 9
	const width = (slideWide - 2*slideEdge) / across
	const room = (width - 150000) / emuOfPoint
	all := (len(p.shown) + most - 1) / most
	for n := range all {
		body := p.title(partOf(n, all))
		for i, f := range p.shown[n*most : min((n+1)*most, len(p.shown))] {
			colour, ok := markColours[f.mark]
			if !ok {
				colour = p.style.Look.Faint
			}
			size := 40.0
			if w := p.points(f.text, true) * size / slideFont; w > room {
				size *= room / w // a number is rather smaller than broken
			}
			body += placed("", 10+i, f.label, slideEdge+width*(i%across), slideBody+200000+1550000*(i/across), width-150000,
				1450000,
				paragraph(f.label, 1400, false, p.style.Look.Faint)+paragraph(f.text, int(size*100), true, p.style.Look.Ink)+
					paragraph(f.change, 1300, false, colour))
		}
		if err := p.slide(body+p.footer(), ""); err != nil {
			return err
		}
	}
	return nil
}

func (p *slides) picture() error {
	const wide, high = slideWide - 2*slideEdge, slideHigh - slideBody - 700000
	var png bytes.Buffer
	if err := p.chart.png(&png, wide/emuOfPoint, high/emuOfPoint, 144); err != nil {
		return err
	}
	p.media++
	if err := p.put(fmt.Sprintf("ppt/media/chart%d.png", p.media), png.String()); err != nil {
		return err
	}
	p.said = append(p.said, p.chart.says()...)
	pic := pictured("rId2", 4, "Chart", p.chart.alt(), slideEdge, slideBody-100000, wide, high)
	return p.slide(p.title("")+pic+p.footer(),
		fmt.Sprintf(`<Relationship Id="rId2" Type="%simage" Target="../media/chart%d.png"/>`, officeRel, p.media))
}

func (p *slides) Close() error {
	if p.grid != nil {
		if err := p.compose(); err != nil {
			return err
		}
	}
	if p.n > MaxSlides*4/5 {
		p.saidOnce(fmt.Sprintf("it has %d of the %d slides that it holds at most; choose pdf or xlsx, or the summary of its sections, "+
			"before it has more", p.n, MaxSlides))
	}
	var types, list, rels strings.Builder
	for i := 1; i <= p.n; i++ {
		fmt.Fprintf(&types,
			`<Override PartName="/ppt/slides/slide%d.xml" ContentType="application/vnd.openxmlformats-officedocument.presentationml.slide+xml"/>`+
				`<Override PartName="/ppt/notesSlides/notesSlide%d.xml" ContentType="application/vnd.openxmlformats-officedocument.presentationml.notesSlide+xml"/>`, i, i)
		fmt.Fprintf(&list, `<p:sldId id="%d" r:id="rId%d"/>`, 255+i, i+3)
		fmt.Fprintf(&rels, `<Relationship Id="rId%d" Type="%sslide" Target="slides/slide%d.xml"/>`, i+3, officeRel, i)
	}
	when := p.head.AsOf.UTC().Format(time.RFC3339)
	about := "Run " + p.head.Run
	if values := p.head.valuesLine(); values != "" {
		about += "; " + values
	}
	if p.head.Identity != "" {
		about += "; read as " + p.head.Identity
	}
	theme, layout, logo, err := p.dressed()
	if err != nil {
		return err
	}
	const of = "application/vnd.openxmlformats-officedocument."
	for _, part := range [][2]string{
		{
			"[Content_Types].xml",
			`<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/><Default Extension="png" ContentType="image/png"/>` +
				`<Override PartName="/ppt/presentation.xml" ContentType="` + of +
				`presentationml.presentation.main+xml"/><Override PartName="/ppt/slideMasters/slideMaster1.xml" ContentType="` + of + `presentationml.slideMaster+xml"/>` +
				`<Override PartName="/ppt/slideLayouts/slideLayout1.xml" ContentType="` + of +
				`presentationml.slideLayout+xml"/><Override PartName="/ppt/theme/theme1.xml" ContentType="` + of +
				`theme+xml"/><Override PartName="/ppt/theme/theme2.xml" ContentType="` + of +
				`theme+xml"/><Override PartName="/ppt/notesMasters/notesMaster1.xml" ContentType="` + of +
				`presentationml.notesMaster+xml"/>` +
				`<Override PartName="/docProps/core.xml" ContentType="application/vnd.openxmlformats-package.core-properties+xml"/><Override PartName="/docProps/app.xml" ContentType="` + of + `extended-properties+xml"/>` + types.String() + `</Types>`,
		},
		{
			"ppt/presentation.xml",
			`<p:presentation ` + namespaces +
				`><p:sldMasterIdLst><p:sldMasterId id="2147483648" r:id="rId1"/></p:sldMasterIdLst><p:notesMasterIdLst><p:notesMasterId r:id="rId3"/></p:notesMasterIdLst><p:sldIdLst>` +
				list.String() +
				fmt.Sprintf(`</p:sldIdLst><p:sldSz cx="%d" cy="%d"/><p:notesSz cx="%d" cy="%d"/></p:presentation>`,
					slideWide, slideHigh, slideHigh, slideWide),
		},
		{
			"docProps/core.xml",
			`<cp:coreProperties xmlns:cp="http://schemas.openxmlformats.org/package/2006/metadata/core-properties" xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:dcterms="http://purl.org/dc/terms/" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"><dc:title>` +
				escape(p.head.Title) + `</dc:title><dc:creator>Iron Bell</dc:creator><dc:description>` + escape(about) +
				`</dc:description><dc:language>` + p.style.Locale.Lang +
				`</dc:language><dcterms:created xsi:type="dcterms:W3CDTF">` + when +
				`</dcterms:created></cp:coreProperties>`,
		},
		{
			"docProps/app.xml",
			`<Properties xmlns="http://schemas.openxmlformats.org/officeDocument/2006/extended-properties"><Application>Iron Bell</Application></Properties>`,
		},
		{"ppt/theme/theme1.xml", theme},
		{"ppt/theme/theme2.xml", theme},
		{"ppt/notesMasters/notesMaster1.xml", pptxNotes},
		{"ppt/slideMasters/slideMaster1.xml", pptxMaster},
		{"ppt/slideLayouts/slideLayout1.xml", layout},
	} {
		if err := p.put(part[0], xmlHead+part[1]); err != nil {
			return err
		}
	}
	for _, part := range [][2]string{
		{
			"_rels/.rels",
			`<Relationship Id="rId1" Type="` + officeRel +
				`officeDocument" Target="ppt/presentation.xml"/><Relationship Id="rId2" Type="http://schemas.openxmlformats.org/package/2006/relationships/metadata/core-properties" Target="docProps/core.xml"/><Relationship Id="rId3" Type="` + officeRel + `extended-properties" Target="docProps/app.xml"/>`,
		},
		{
			"ppt/_rels/presentation.xml.rels",
			`<Relationship Id="rId1" Type="` + officeRel +
				`slideMaster" Target="slideMasters/slideMaster1.xml"/><Relationship Id="rId2" Type="` + officeRel +
				`theme" Target="theme/theme1.xml"/><Relationship Id="rId3" Type="` + officeRel +
				`notesMaster" Target="notesMasters/notesMaster1.xml"/>` + rels.String(),
		},
		{
			"ppt/slideMasters/_rels/slideMaster1.xml.rels",
			`<Relationship Id="rId1" Type="` + officeRel +
				`slideLayout" Target="../slideLayouts/slideLayout1.xml"/><Relationship Id="rId2" Type="` + officeRel +
				`theme" Target="../theme/theme1.xml"/>`,
		},
		{
			"ppt/notesMasters/_rels/notesMaster1.xml.rels",
			`<Relationship Id="rId1" Type="` + officeRel + `theme" Target="../theme/theme2.xml"/>`,
		},
		{
			"ppt/slideLayouts/_rels/slideLayout1.xml.rels",
			`<Relationship Id="rId1" Type="` + officeRel + `slideMaster" Target="../slideMasters/slideMaster1.xml"/>` + logo,
		},
	} {
		if err := p.put(part[0], relations(part[1])); err != nil {
			return err
		}
	}
	if err := p.zip.Close(); err != nil {
		return fmt.Errorf("write the presentation: %w", err)
	}
	return nil
}

// Says tells what a reader of the file should know.
func (p *slides) Says() []string { return p.said }
