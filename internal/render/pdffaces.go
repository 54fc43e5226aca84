package render

import (
	"bytes"
	"compress/zlib"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ironbell/internal/typeface"
)

// output writes the file. Faces besides its own are added behind it as an
// incremental update (ISO 32000-1, 7.5.6): the package that writes pages knows
// no glyphs.
func (p *pdfWriter) output() error {
	if len(p.faces.subsets) == 0 {
		return p.finished(p.pdf.Output(p.out))
	}
	var file bytes.Buffer
	if err := p.pdf.Output(&file); err != nil {
		return p.finished(err)
	}
	u, err := newUpdate(file.Bytes())
	if err != nil {
		return p.finished(err)
	}
	var names strings.Builder
	for i, s := range p.faces.subsets {
		fmt.Fprintf(&names, "/T%d %d 0 R\n", i, u.face(s, i))
	}
	// The package writes one object with the resources of all pages.
	from := bytes.Index(u.before, []byte("\n2 0 obj\n"))
	fonts := []byte("/Font <<\n")
	if from < 0 {
		return p.finished(fmt.Errorf("its resources are not where they are expected"))
	}
	resources, _, ok := bytes.Cut(u.before[from+len("\n2 0 obj\n"):], []byte("endobj"))
	if !ok || !bytes.Contains(resources, fonts) {
		return p.finished(fmt.Errorf("its resources name no fonts"))
	}
	u.object(2, bytes.Replace(resources, fonts, append(fonts, names.String()...), 1))
	return p.finished(u.write(p.out))
}

func (p *pdfWriter) finished(err error) error {
	if err != nil {
		return fmt.Errorf("write the PDF: %w", err)
	}
	return nil
}

// update is what is added behind a PDF.
type update struct {
	before  []byte
	last    int // where its list of objects begins
	trailer string
	next    int
	places  map[int]int
	added   bytes.Buffer
}

// newUpdate reads the end of a PDF that has a list of its objects in plain form
// (ISO 32000-1, 7.5.5).
func newUpdate(file []byte) (*update, error) {
	u := &update{before: file, places: map[int]int{}}
	tail := string(file[bytes.LastIndex(file, []byte("trailer"))+1:])
	_, dict, ok := strings.Cut(tail, "<<")
	dict, rest, ok2 := strings.Cut(dict, ">>")
	fields := strings.Fields(rest)
	if !ok || !ok2 || len(fields) < 2 {
		return nil, fmt.Errorf("it has no end that can be read")
	}
	var err error
	if u.last, err = strconv.Atoi(fields[1]); err != nil {
		return nil, fmt.Errorf("read its end: %w", err)
	}
	words := strings.Fields(dict)
	at := slices.Index(words, "/Size")
	if at < 0 || at+1 >= len(words) {
		return nil, fmt.Errorf("its end tells no number of objects")
	}
	if u.next, err = strconv.Atoi(words[at+1]); err != nil {
		return nil, fmt.Errorf("read its end: %w", err)
	}
	u.trailer = strings.Join(slices.Delete(words, at, at+2), " ")
	return u, nil
}

func (u *update) object(n int, body []byte) {
	u.places[n] = len(u.before) + u.added.Len()
	fmt.Fprintf(&u.added, "%d 0 obj\n%s\nendobj\n", n, bytes.TrimRight(body, "\n"))
}

func (u *update) add(body []byte) int {
	u.next++
	u.object(u.next-1, body)
	return u.next - 1
}

// stream adds a packed stream with more of its dictionary.
func (u *update) stream(dict string, data []byte) int {
	var packed bytes.Buffer
	w := zlib.NewWriter(&packed)
	_, _ = w.Write(data) // memory takes all
	_ = w.Close()
	return u.add(fmt.Appendf(nil, "<< %s /Filter /FlateDecode /Length %d >>\nstream\n%s\nendstream", dict, packed.Len(),
		packed.Bytes()))
}

// face adds a font whose codes are glyphs (ISO 32000-1, 9.7), and gives its number.
func (u *update) face(s *typeface.Subset, n int) int {
	table, box := s.CFF()
	name := "/" + subsetTag(n) + "+" + s.Face.Name
	file := u.stream("/Subtype /CIDFontType0C", table)
	descriptor := u.add(fmt.Appendf(nil,
		"<< /Type /FontDescriptor /FontName %s /Flags 4 /FontBBox [%d %d %d %d] /ItalicAngle 0 /Ascent %d /Descent %d "+
			"/CapHeight 700 /StemV 80 /FontFile3 %d 0 R >>", name, box[0], box[1], box[2], box[3], box[3], box[1], file))
	descendant := u.add(fmt.Appendf(nil,
		"<< /Type /Font /Subtype /CIDFontType0 /BaseFont %s /CIDSystemInfo << /Registry (Adobe) /Ordering (Identity) "+
			"/Supplement 0 >> /FontDescriptor %d 0 R /DW 1000 /W [0 %s] >>", name, descriptor,
		strings.ReplaceAll(fmt.Sprint(s.Widths()), ",", " ")))
	return u.add(fmt.Appendf(nil,
		"<< /Type /Font /Subtype /Type0 /BaseFont %s /Encoding /Identity-H /DescendantFonts [%d 0 R] /ToUnicode %d 0 R >>",
		name, descendant, u.stream("", toUnicode(s.Texts()))))
}

// subsetTag is what a part of a font is called by: six letters (ISO 32000-1, 9.6.4).
func subsetTag(n int) string {
	tag := []byte("IBAAAA")
	for i := len(tag) - 1; n > 0 && i > 1; i-- {
		tag[i] += byte(n % 26)
		n /= 26
	}
	return string(tag)
}

// toUnicode tells what the codes of a font stand for (ISO 32000-1, 9.10.3).
func toUnicode(texts []string) []byte {
	const most = 100 // of one block
	var lines []string
	for code, text := range texts {
		if text != "" {
			lines = append(lines, fmt.Sprintf("<%04X> <%s>", code, utf16Hex(text)))
		}
	}
	var out bytes.Buffer
	out.WriteString("/CIDInit /ProcSet findresource begin\n12 dict begin\nbegincmap\n/CIDSystemInfo << /Registry (Adobe) " +
		"/Ordering (UCS) /Supplement 0 >> def\n/CMapName /Adobe-Identity-UCS def\n/CMapType 2 def\n" +
		"1 begincodespacerange\n<0000> <FFFF>\nendcodespacerange\n")
	for block := range slices.Chunk(lines, most) {
		fmt.Fprintf(&out, "%d beginbfchar\n%s\nendbfchar\n", len(block), strings.Join(block, "\n"))
	}
	out.WriteString("endcmap\nCMapName currentdict /CMap defineresource pop\nend\nend\n")
	return out.Bytes()
}

// write writes the file and what was added to it.
func (u *update) write(w io.Writer) error {
	list := len(u.before) + u.added.Len()
	u.added.WriteString("xref\n")
	for _, n := range slices.Sorted(maps.Keys(u.places)) {
		fmt.Fprintf(&u.added, "%d 1\n%010d 00000 n \n", n, u.places[n])
	}
	fmt.Fprintf(&u.added, "trailer\n<< %s /Size %d /Prev %d >>\nstartxref\n%d\n%%%%EOF\n", u.trailer, u.next, u.last, list)
	if _, err := w.Write(u.before); err != nil {
		return err
	}
	_, err := u.added.WriteTo(w)
	return err
}
