// Package typeface sets texts of every script: it finds a face that has their
// letters, shapes them (OpenType, through a kept port of HarfBuzz), puts them
// into the order in which they are seen (Unicode Annex 9), and gives the
// outlines that a document carries.
//
// One face is built in, with Latin, Greek, Cyrillic and many signs. The others
// come from the folders of this machine; they are read when a text first needs
// them and kept as long as the process lives.
package typeface

import (
	"bytes"
	"encoding/binary"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"unicode"

	"codeberg.org/go-fonts/dejavu/dejavusanscondensed"
	"codeberg.org/go-fonts/dejavu/dejavusanscondensedbold"
	"github.com/go-text/typesetting/font"
	"github.com/go-text/typesetting/font/opentype"
	"github.com/go-text/typesetting/language"
)

// The built-in face, as TrueType.
var (
	Regular = dejavusanscondensed.TTF
	Bold    = dejavusanscondensedbold.TTF
)

// System are the folders of faces of this kind of machine.
var System = []string{"/usr/local/share/fonts", "/usr/share/fonts"}

// Bounds of what is looked into.
const (
	mostFiles = 4000
	mostBytes = 40 << 20
	mostSeeks = 2000 // letters for which all files were looked through
)

// Face is one face of a file. It is immutable and may be used by several
// goroutines.
type Face struct {
	Name string // as it is called in documents
	font *font.Font
	main bool // it is built in
}

// file is what is known of a file of faces before and after it is read.
type file struct {
	path  string
	stem  string // its name without weight and ending, in lower case
	bold  bool
	first bool // the operator prefers it

	mu    sync.Mutex
	read  bool
	parts []*part
}

// part is one face of a file, read when it is first asked for: those of a
// collection take some ten MB each.
type part struct {
	loader *opentype.Loader // until it was read
	name   string
	face   *Face // nil when it cannot be read, or may not be embedded
}

// Library is the built-in face and the files that were found. It may be used by
// several goroutines.
type Library struct {
	main  [2]*Face // regular, bold
	own   bool     // main is a house's own, and all that it writes is shaped
	built [2]*Face // the built-in ones behind a house's own
	files []*file

	mu    sync.Mutex
	stood map[seek]*Face
}

// seek is what a face is looked for by.
type seek struct {
	letter rune
	script language.Script
	tongue string
	bold   bool
}

// Here is the library of this machine.
func Here() *Library {
	here.Lock()
	defer here.Unlock()
	if here.library == nil {
		here.library = Open(nil, System...)
	}
	return here.library
}

// Prefer lets the library of this machine look into folders before those of the
// system.
func Prefer(folders ...string) {
	here.Lock()
	defer here.Unlock()
	here.library = Open(folders, System...)
}

var here struct {
	sync.Mutex

	library *Library
}

// Open looks which files folders hold, without reading them; the faces of the
// preferred ones come first. A folder that is not there holds none.
func Open(preferred []string, folders ...string) *Library {
	l := &Library{stood: map[seek]*Face{}}
	for i, ttf := range [][]byte{Regular, Bold} {
		all := parse(ttf, []string{"IronBellSheet", "IronBellSheet-Bold"}[i])
		if len(all) != 1 {
			panic("the built-in face cannot be read")
		}
		all[0].main = true
		l.main[i] = all[0]
	}
	for n, folder := range slices.Concat(preferred, folders) {
		from := len(l.files)
		_ = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return nil //nolint:nilerr // what cannot be looked into has no faces
			}
			name := strings.ToLower(d.Name())
			ending := filepath.Ext(name)
			if len(l.files) == mostFiles || !slices.Contains([]string{".ttf", ".otf", ".ttc", ".otc"}, ending) {
				return nil
			}
			stem := strings.TrimSuffix(name, ending)
			for _, not := range []string{"italic", "oblique", "mono", "light", "thin", "black", "medium", "condensed"} {
				if strings.Contains(stem, not) {
					return nil // a text stands in plain letters or in bold ones
				}
			}
			stem, bold := strings.CutSuffix(stem, "-bold")
			l.files = append(l.files, &file{
				path: path, stem: strings.TrimSuffix(stem, "-regular"), bold: bold,
				first: n < len(preferred),
			})
			return nil
		})
		slices.SortFunc(l.files[from:], func(a, b *file) int { return strings.Compare(a.stem, b.stem) })
	}
	return l
}

// partsOf finds the faces of a file.
func partsOf(data []byte, name string) (all []*part) {
	loaders, err := opentype.NewLoaders(bytes.NewReader(data))
	if err != nil {
		return nil
	}
	for i, ld := range loaders {
		called := name
		if i > 0 {
			called += string(rune('a' + i%26))
		}
		all = append(all, &part{loader: ld, name: called})
	}
	return all
}

// get reads the face, once. Those that may not be embedded are none.
func (p *part) get() *Face {
	if p.loader != nil {
		if embeddable(p.loader) {
			if f, err := font.NewFont(p.loader); err == nil {
				p.face = &Face{Name: p.name, font: f}
			}
		}
		p.loader = nil
	}
	return p.face
}

// parse reads the faces of a file.
func parse(data []byte, name string) (all []*Face) {
	for _, p := range partsOf(data, name) {
		if f := p.get(); f != nil {
			all = append(all, f)
		}
	}
	return all
}

// embeddable tells whether a face's rights let its outlines stand in documents
// (OpenType, OS/2 table, fsType).
func embeddable(ld *opentype.Loader) bool {
	const restricted, bitmapsOnly, usage = 0x0002, 0x0200, 0x000f
	os2, err := ld.RawTable(opentype.MustNewTag("OS/2"))
	if err != nil || len(os2) < 10 {
		return true
	}
	kind := binary.BigEndian.Uint16(os2[8:])
	return kind&usage != restricted && kind&bitmapsOnly == 0
}

// open finds the faces of a file, once. f.mu is held.
func (f *file) open() {
	if f.read {
		return
	}
	f.read = true
	info, err := os.Stat(f.path)
	if err != nil || !info.Mode().IsRegular() || info.Size() > mostBytes {
		return
	}
	data, err := os.ReadFile(f.path)
	if err != nil {
		return
	}
	name := strings.TrimSuffix(filepath.Base(f.path), filepath.Ext(f.path))
	f.parts = partsOf(data, strings.Map(func(r rune) rune {
		if r == '-' || r < 0x80 && (r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z') {
			return r
		}
		return -1
	}, name))
}

// Main is the built-in face.
func (l *Library) Main(bold bool) *Face {
	if bold {
		return l.main[1]
	}
	return l.main[0]
}

// has tells whether a face has a letter.
func (f *Face) has(r rune) bool {
	g, ok := f.font.NominalGlyph(r)
	return ok && g != 0
}

// face finds a face with a letter that stands in a text of a script and a
// language; nil when there is none.
func (l *Library) face(s seek) *Face {
	if plainScript(s.script) && s.letter < firstPictograph {
		for _, main := range [][2]*Face{l.main, l.built} {
			if face := main[map[bool]int{true: 1}[s.bold]]; face != nil && face.has(s.letter) {
				return face
			}
		}
	}
	l.mu.Lock()
	found, known := l.stood[s]
	l.mu.Unlock()
	if known {
		return found
	}
	found = l.look(s)
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.stood) >= mostSeeks {
		clear(l.stood)
	}
	l.stood[s] = found
	return found
}

// firstPictograph is from where on letters are pictures, for which a face of
// pictures comes first.
const firstPictograph = 0x1f000

// look goes through the files: the preferred ones, those that are called like the
// script, the built-in face, and then all others.
func (l *Library) look(s seek) *Face {
	for _, bold := range []bool{s.bold, !s.bold} {
		for _, f := range l.files {
			if f.first && f.bold == bold {
				if face := f.with(s); face != nil {
					return face
				}
			}
		}
	}
	for _, stem := range stems(s) {
		for _, bold := range []bool{s.bold, !s.bold} {
			for _, f := range l.files {
				if f.stem == stem && f.bold == bold {
					if face := f.with(s); face != nil {
						return face
					}
				}
			}
		}
	}
	for _, main := range []*Face{l.Main(s.bold), l.built[0]} {
		if main != nil && main.has(s.letter) {
			return main
		}
	}
	for _, f := range l.files {
		if f.bold {
			continue
		}
		if face := f.with(s); face != nil {
			return face
		}
	}
	return nil
}

// with is the face of a file that has a letter; nil when none does.
func (f *file) with(s seek) *Face {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.open()
	if at := within(s, len(f.parts)); at < len(f.parts) {
		if face := f.parts[at].get(); face != nil && face.has(s.letter) {
			return face
		}
	}
	if len(f.parts) > collection {
		return nil // they have the same letters in other forms
	}
	for _, p := range f.parts {
		if face := p.get(); face != nil && face.has(s.letter) {
			return face
		}
	}
	return nil
}

// collection is from how many faces on a file is one of forms for several languages.
const collection = 3

// stems are the names of the files in which a script is looked for first, as the
// widest family of free faces calls them.
func stems(s seek) []string {
	switch s.script {
	case language.Han, language.Hiragana, language.Katakana, language.Hangul, language.Bopomofo:
		return []string{"notosanscjk"}
	case language.Common, language.Inherited, language.Unknown:
		return []string{"notocoloremoji", "notosanssymbols", "notosanssymbols2", "notosansmath", "notosanscjk"}
	}
	name := scriptNames()[s.script]
	return []string{"notosans" + name, "notoserif" + name, "noto" + name}
}

// scriptNames are the long names of scripts (Unicode Annex 24).
var scriptNames = sync.OnceValue(func() map[language.Script]string {
	out := map[language.Script]string{}
	for name, table := range unicode.Scripts {
		letter := rune(0)
		if len(table.R16) > 0 {
			letter = rune(table.R16[0].Lo)
		} else if len(table.R32) > 0 {
			letter = rune(table.R32[0].Lo)
		}
		out[language.LookupScript(letter)] = strings.ToLower(strings.ReplaceAll(name, "_", ""))
	}
	return out
})

// within is which face of a collection writes a language: those of Chinese,
// Japanese and Korean have the same letters in different forms.
func within(s seek, faces int) int {
	if faces <= collection {
		return 0
	}
	switch {
	case s.script == language.Hangul || strings.HasPrefix(s.tongue, "ko"):
		return 1
	case s.script == language.Hiragana || s.script == language.Katakana || strings.HasPrefix(s.tongue, "ja"):
		return 0
	case strings.HasPrefix(s.tongue, "zh-TW") || strings.HasPrefix(s.tongue, "zh-Hant"):
		return 3
	case strings.HasPrefix(s.tongue, "zh-HK"):
		return 4
	}
	return 2
}
