package render

import (
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/unicode/norm"
)

// charmaps are the encodings of one byte for a character. Their names are those
// of the IANA registry of character sets, in small letters.
var charmaps = map[string]*charmap.Charmap{
	"windows-1250": charmap.Windows1250, "windows-1251": charmap.Windows1251, "windows-1252": charmap.Windows1252,
	"windows-1253": charmap.Windows1253,
	"windows-1254": charmap.Windows1254, "windows-1255": charmap.Windows1255, "windows-1256": charmap.Windows1256,
	"windows-1257": charmap.Windows1257,
	"windows-1258": charmap.Windows1258, "iso-8859-1": charmap.ISO8859_1, "iso-8859-2": charmap.ISO8859_2,
	"iso-8859-3": charmap.ISO8859_3,
	"iso-8859-4": charmap.ISO8859_4, "iso-8859-5": charmap.ISO8859_5, "iso-8859-6": charmap.ISO8859_6,
	"iso-8859-7": charmap.ISO8859_7,
	"iso-8859-8": charmap.ISO8859_8, "iso-8859-9": charmap.ISO8859_9, "iso-8859-10": charmap.ISO8859_10,
	"iso-8859-13": charmap.ISO8859_13,
	"iso-8859-14": charmap.ISO8859_14, "iso-8859-15": charmap.ISO8859_15, "iso-8859-16": charmap.ISO8859_16,
}

// encodingOf finds an encoding and its name at IANA.
func encodingOf(name string) (charset string, table *charmap.Charmap, err error) {
	name = strings.ToLower(name)
	switch name {
	case "", "utf-8", "utf-8-mark":
		return "utf-8", nil, nil
	case "utf-16":
		return "utf-16", nil, nil
	}
	if table, ok := charmaps[name]; ok {
		return name, table, nil
	}
	return "", nil,
		fmt.Errorf("there is no encoding %q; there are utf-8, utf-8-mark, utf-16, windows-1250 to windows-1258 and "+
			"iso-8859-1 to iso-8859-16", name)
}

// encoder writes UTF-8 text in another encoding.
type encoder struct {
	out   io.Writer
	name  string
	table *charmap.Charmap
	wide  bool
	unfit job.Unfit
	buf   []byte
	lost  int64  // characters that did not fit
	first rune   // of them
	rest  []byte // an unfinished character at the end of what was written
}

func newEncoder(w io.Writer, name string, unfit job.Unfit) (*encoder, error) {
	_, table, err := encodingOf(name)
	if err != nil {
		return nil, err
	}
	name = strings.ToLower(name)
	e := &encoder{out: w, name: name, table: table, wide: name == "utf-16", unfit: unfit}
	mark := ""
	if name == "utf-8-mark" {
		mark = "\xef\xbb\xbf"
	} else if e.wide {
		mark = "\xff\xfe" // little-endian, as RFC 2781 lets the mark say
	}
	if mark != "" {
		_, err = io.WriteString(w, mark)
	}
	return e, err
}

func (e *encoder) Write(p []byte) (int, error) {
	if e.table == nil && !e.wide {
		return e.out.Write(p)
	}
	n := len(p)
	if len(e.rest) > 0 {
		p = append(e.rest, p...)
		e.rest = nil
	}
	e.buf = e.buf[:0]
	for i := 0; i < len(p); {
		c := p[i]
		if c < utf8.RuneSelf {
			if e.buf = append(e.buf, c); e.wide {
				e.buf = append(e.buf, 0)
			}
			i++
			continue
		}
		if !utf8.FullRune(p[i:]) {
			e.rest = append(e.rest, p[i:]...)
			break
		}
		r, size := utf8.DecodeRune(p[i:])
		i += size
		if e.wide {
			for _, unit := range utf16.AppendRune(nil, r) {
				e.buf = binary.LittleEndian.AppendUint16(e.buf, unit)
			}
			continue
		}
		if b, ok := e.table.EncodeRune(r); ok {
			e.buf = append(e.buf, b)
			continue
		}
		if err := e.replace(r); err != nil {
			return 0, err
		}
	}
	if _, err := e.out.Write(e.buf); err != nil {
		return 0, err
	}
	return n, nil
}

// replace writes something for a character that does not fit.
func (e *encoder) replace(r rune) error {
	if e.unfit == job.UnfitFail {
		return fault.New(fault.Task, "write the text file",
			fmt.Sprintf("the character %q (U+%04X) does not exist in %s", r, r, e.name),
			"Choose another encoding, or say what becomes of such characters.")
	}
	if e.lost++; e.lost == 1 {
		e.first = r
	}
	if e.unfit == job.UnfitPlain {
		wrote := false
		for _, part := range plainLetters(r) {
			if unicode.Is(unicode.Mn, part) {
				continue
			}
			if b, ok := e.table.EncodeRune(part); ok {
				e.buf, wrote = append(e.buf, b), true
			}
		}
		if wrote {
			return nil
		}
	}
	e.buf = append(e.buf, '?')
	return nil
}

// likeness has letters and marks that do not come apart by themselves.
var likeness = map[rune]string{
	'–': "-", '—': "-", '−': "-", '‐': "-", '‑': "-", '‘': "'", '’': "'", '‚': "'", '“': `"`, '”': `"`, '„': `"`,
	'«': `"`, '»': `"`, '…': "...", '\u202f': " ", '\u2009': " ",
	'ß': "ss", 'ł': "l", 'Ł': "L", 'ø': "o", 'Ø': "O", 'đ': "d", 'Đ': "D", 'æ': "ae", 'Æ': "AE", 'œ': "oe", 'Œ': "OE",
	'þ': "th", 'Þ': "Th", 'ı': "i", '€': "EUR",
}

func plainLetters(r rune) string {
	if text, ok := likeness[r]; ok {
		return text
	}
	return norm.NFKD.String(string(r))
}

func (e *encoder) Close() error { return nil }

func (e *encoder) says() []string {
	if e.lost == 0 {
		return nil
	}
	become := "became question marks"
	if e.unfit == job.UnfitPlain {
		become = "became plain letters or question marks"
	}
	return []string{fmt.Sprintf("%d characters that %s does not have, the first of them %q, %s", e.lost, e.name,
		e.first, become)}
}
