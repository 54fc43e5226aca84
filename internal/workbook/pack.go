package workbook

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
)

// Bounds of what is taken.
const (
	MaxPacked   = 20 << 20  // bytes of a workbook
	MaxUnpacked = 200 << 20 // bytes of all of its parts
	mostParts   = 5000
)

// pack is a workbook, as the parts that it is made of (ECMA-376 part 2).
type pack struct {
	names    []string // in the order of the file
	parts    map[string][]byte
	types    map[string]string // media type of each part
	links    map[string][]link // of each part, and of the whole under the empty name
	contents string            // the part that lists the sheets
}

// link is a relationship of a part (ECMA-376 part 2, 6.5).
type link struct {
	id, kind, target string
	outside          bool
}

// open reads a workbook. The error is a sentence for whoever sent it.
func open(data []byte) (*pack, error) {
	if bytes.HasPrefix(data, []byte("\xd0\xcf\x11\xe0")) {
		return nil, errors.New("it is protected by a password, or of a form before 2007; save it as .xlsx without a password")
	}
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, errors.New("it is no workbook of the form .xlsx")
	}
	if len(z.File) > mostParts {
		return nil, fmt.Errorf("it has %d parts; %d are taken at most", len(z.File), mostParts)
	}
	p := &pack{parts: map[string][]byte{}, types: map[string]string{}, links: map[string][]link{}}
	had := map[string]bool{}
	left := int64(MaxUnpacked)
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		lower := strings.ToLower(f.Name)
		if had[lower] || f.Name != path.Clean(f.Name) || strings.HasPrefix(f.Name, "/") ||
			strings.HasPrefix(f.Name, "..") || strings.ContainsAny(f.Name, "\\\x00%") {
			return nil, fmt.Errorf("its part %q stands there twice, or has no proper name", f.Name)
		}
		had[lower] = true
		part, err := unpack(f, left)
		if err != nil {
			return nil, err
		}
		left -= int64(len(part))
		p.names, p.parts[f.Name] = append(p.names, f.Name), part
	}
	if err := p.read(); err != nil {
		return nil, err
	}
	return p, nil
}

func unpack(f *zip.File, left int64) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("its part %s cannot be unpacked: %w", f.Name, err)
	}
	defer func() { _ = r.Close() }() // it was read
	part, err := io.ReadAll(io.LimitReader(r, left+1))
	if err != nil {
		return nil, fmt.Errorf("its part %s cannot be unpacked: %w", f.Name, err)
	}
	if int64(len(part)) > left {
		return nil, fmt.Errorf("unpacked it is larger than %d MB", MaxUnpacked>>20)
	}
	return part, nil
}

const typesPart = "[Content_Types].xml"

// read reads what the parts are and how they hang together.
func (p *pack) read() error {
	var types struct {
		Defaults []struct {
			Extension   string `xml:"Extension,attr"`
			ContentType string `xml:"ContentType,attr"`
		} `xml:"Default"`
		Overrides []struct {
			PartName    string `xml:"PartName,attr"`
			ContentType string `xml:"ContentType,attr"`
		} `xml:"Override"`
	}
	if err := decode(p.parts[typesPart], &types); err != nil {
		return errors.New("it is no workbook of the form .xlsx: it does not say what its parts are")
	}
	byEnding := map[string]string{}
	for _, d := range types.Defaults {
		byEnding[strings.ToLower(d.Extension)] = d.ContentType
	}
	byName := map[string]string{}
	for _, o := range types.Overrides {
		byName[strings.ToLower(strings.TrimPrefix(o.PartName, "/"))] = o.ContentType
	}
	for _, name := range p.names {
		t, ok := byName[strings.ToLower(name)]
		if !ok {
			t = byEnding[strings.ToLower(strings.TrimPrefix(path.Ext(name), "."))]
		}
		p.types[name] = strings.ToLower(strings.TrimSpace(t))
	}
	for _, name := range p.names {
		of, ok := linksOf(name)
		if !ok {
			continue
		}
		all, err := p.readLinks(of, p.parts[name])
		if err != nil {
			return err
		}
		p.links[of] = all
	}
	for _, l := range p.links[""] {
		if strings.HasSuffix(l.kind, "/officeDocument") {
			p.contents = l.target
		}
	}
	if _, ok := p.parts[p.contents]; !ok || p.contents == "" {
		return errors.New("it is no workbook of the form .xlsx: it has no list of sheets")
	}
	return nil
}

// linksOf is the part whose relationships stand in a part.
func linksOf(name string) (string, bool) {
	dir, base := path.Split(name)
	if path.Base(dir) != "_rels" || !strings.HasSuffix(base, ".rels") {
		return "", false
	}
	if of := path.Join(path.Dir(path.Clean(dir)), strings.TrimSuffix(base, ".rels")); of != "." {
		return of, true
	}
	return "", true
}

// linksPart is the part in which the relationships of a part stand.
func linksPart(of string) string { return path.Join(path.Dir(of), "_rels", path.Base(of)+".rels") }

func (p *pack) readLinks(of string, data []byte) ([]link, error) {
	var read struct {
		All []struct {
			ID     string `xml:"Id,attr"`
			Type   string `xml:"Type,attr"`
			Target string `xml:"Target,attr"`
			Mode   string `xml:"TargetMode,attr"`
		} `xml:"Relationship"`
	}
	if err := decode(data, &read); err != nil {
		return nil, fmt.Errorf("what its part %s hangs together with cannot be read", of)
	}
	var all []link
	for _, r := range read.All {
		l := link{id: r.ID, kind: r.Type, target: r.Target, outside: strings.EqualFold(r.Mode, "External")}
		if !l.outside {
			l.target = p.named(resolved(of, r.Target))
		}
		all = append(all, l)
	}
	return all, nil
}

func resolved(of, target string) string {
	if strings.HasPrefix(target, "/") {
		return strings.TrimPrefix(path.Clean(target), "/")
	}
	return path.Join(path.Dir(of), target)
}

// named is a part as it is called in the file: names are equal in any case of letters.
func (p *pack) named(name string) string {
	if _, ok := p.parts[name]; ok {
		return name
	}
	for _, n := range p.names {
		if strings.EqualFold(n, name) {
			return n
		}
	}
	return name
}

// linked is the part that a part is linked to by an id.
func (p *pack) linked(of, id string) string {
	for _, l := range p.links[of] {
		if l.id == id {
			return l.target
		}
	}
	return ""
}

// drop takes parts out, and what leads to them.
func (p *pack) drop(gone func(name string) bool) error {
	dropped := map[string]bool{}
	for _, name := range p.names {
		if gone(name) {
			dropped[strings.ToLower(name)] = true
			dropped[strings.ToLower(linksPart(name))] = true
		}
	}
	if len(dropped) == 0 {
		return nil
	}
	p.names = slices.DeleteFunc(p.names, func(n string) bool { return dropped[strings.ToLower(n)] })
	for of, all := range p.links {
		p.links[of] = slices.DeleteFunc(all, func(l link) bool { return !l.outside && dropped[strings.ToLower(l.target)] })
	}
	for name := range p.parts {
		if dropped[strings.ToLower(name)] {
			delete(p.parts, name)
			delete(p.links, name)
		}
	}
	for _, name := range p.names {
		of, is := linksOf(name)
		if name != typesPart && !is {
			continue
		}
		out, err := rewritten(p.parts[name], func(e *element) {
			switch {
			case e.name == "Override":
				e.drop = dropped[strings.ToLower(strings.TrimPrefix(e.attr("PartName"), "/"))]
			case e.name == "Relationship" && !strings.EqualFold(e.attr("TargetMode"), "External"):
				e.drop = dropped[strings.ToLower(resolved(of, e.attr("Target")))]
			}
		})
		if err != nil {
			return err
		}
		p.parts[name] = out
	}
	return nil
}

// unreached are the parts that nothing leads to.
func (p *pack) unreached() func(name string) bool {
	reached := map[string]bool{typesPart: true}
	var reach func(of string)
	reach = func(of string) {
		reached[linksPart(of)] = true
		for _, l := range p.links[of] {
			if !l.outside && !reached[l.target] {
				reached[l.target] = true
				reach(l.target)
			}
		}
	}
	reached["_rels/.rels"] = true
	reach("")
	return func(name string) bool { return !reached[name] }
}

// write packs the parts again.
func (p *pack) write(w io.Writer) error {
	z := zip.NewWriter(w)
	for _, name := range p.names {
		f, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate})
		if err == nil {
			_, err = f.Write(p.parts[name])
		}
		if err != nil {
			return fmt.Errorf("pack the workbook: %w", err)
		}
	}
	if err := z.Close(); err != nil {
		return fmt.Errorf("pack the workbook: %w", err)
	}
	return nil
}

// decode reads a small part.
func decode(data []byte, to any) error {
	return xml.NewDecoder(bytes.NewReader(data)).Decode(to) //nolint:wrapcheck // by its caller
}
