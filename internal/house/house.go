// Package house is how what leaves the house looks: a style as records have it
// (core/job), its files read and its colours worked out, ready to draw with.
package house

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"sync"

	"ironbell/internal/core/job"
	"ironbell/internal/typeface"
)

// Look is a house style, ready to draw with. It is immutable and may be used by
// several goroutines. Colours are six hexadecimal digits in capitals.
type Look struct {
	Name   string
	Accent string   // of rules, and of the first series
	Ink    string   // of letters
	Faint  string   // of what is less important
	Line   string   // of thin rules and plain areas
	Series []string // of charts
	Family string   // typeface that readers may have; empty for none of the house's
	Faces  *typeface.Library
	Own    [2][]byte // the house's own typeface, regular and bold; nil for none
	Logo   *Logo     // nil for none
	Footer string
	Legal  string
	Note   string // what is to be said of it; empty mostly
}

// Logo is a picture of a size in dots.
type Logo struct {
	PNG           []byte
	Width, Height int
	Small         []byte // the same for mails, which many copies are made of
}

// Within is the size of the logo in a room, with its shape kept.
func (l *Logo) Within(wide, high float64) (w, h float64) {
	scale := min(wide/float64(l.Width), high/float64(l.Height))
	return float64(l.Width) * scale, float64(l.Height) * scale
}

// The service's own colours. Those of series tell them apart also for those who
// see few colours: they differ in lightness, too.
const (
	Accent = "86561B"
	Ink    = "24272B"
	Faint  = "5D6167"
	Line   = "E5DDCD"
)

// Series are the service's own colours of series.
var Series = []string{
	"86561B", "2F6F8F", "5B8C6A", "B5483A", "6B5B95", "C79A3B", "3C4A57", "9AB7C4", "A77B95", "7A8B3D", "D08770", "50727B",
}

// Plain is how the service looks where there is no house style.
func Plain() *Look {
	return &Look{Accent: Accent, Ink: Ink, Faint: Faint, Line: Line, Series: Series, Faces: typeface.Here()}
}

// Files gives the bytes of uploaded files.
type Files interface {
	HouseFile(ctx context.Context, id string) (job.HouseFile, []byte, error)
}

// Make makes a look of a style.
func Make(ctx context.Context, s job.HouseStyle, files Files) (*Look, error) {
	l := Plain()
	l.Name, l.Family, l.Footer, l.Legal = s.Name, s.Typeface, s.Footer, s.Legal
	if s.Accent != "" {
		l.Accent = digits(s.Accent)
		l.Line = mixed(l.Accent, "FFFFFF", 0.82)
		l.Series = append([]string{l.Accent}, Series[1:]...)
	}
	if s.Ink != "" {
		l.Ink = digits(s.Ink)
		l.Faint = mixed(l.Ink, "FFFFFF", 0.28)
	}
	if len(s.Series) > 0 {
		l.Series = nil
		for _, c := range s.Series {
			l.Series = append(l.Series, digits(c))
		}
		l.Series = append(l.Series, Series[min(len(s.Series), len(Series)):]...)
	}
	data := map[string][]byte{}
	for _, id := range s.Files() {
		f, bytes, err := files.HouseFile(ctx, id)
		if err != nil {
			return nil, fmt.Errorf("read a file of the house style %s: %w", s.Name, err)
		}
		if data[id] = bytes; id == s.Logo {
			small, err := reduced(bytes)
			if err != nil {
				return nil, fmt.Errorf("read the logo of the house style %s: %w", s.Name, err)
			}
			l.Logo = &Logo{PNG: bytes, Width: f.Width, Height: f.Height, Small: small}
		}
	}
	if s.Regular != "" {
		faces, err := typeface.Here().House(data[s.Regular], data[s.Bold])
		if err != nil {
			return nil, fmt.Errorf("read the house style %s: %w", s.Name, err)
		}
		l.Faces, l.Own = faces, [2][]byte{data[s.Regular], data[s.Bold]}
	}
	return l, nil
}

func digits(colour string) string { return strings.ToUpper(strings.TrimPrefix(colour, "#")) }

// channels are the parts of a colour from 0 to 255.
func channels(colour string) (out [3]float64) {
	n, err := strconv.ParseUint(digits(colour), 16, 32)
	if err != nil {
		return out // colours are checked where they are given
	}
	return [3]float64{float64(n >> 16 & 255), float64(n >> 8 & 255), float64(n & 255)}
}

// RGB are the parts of a colour.
func RGB(colour string) (out [3]int) {
	for i, c := range channels(colour) {
		out[i] = int(c)
	}
	return out
}

// mixed is a colour with a share of another one.
func mixed(a, b string, share float64) string {
	var out strings.Builder
	x, y := channels(a), channels(b)
	for i := range x {
		fmt.Fprintf(&out, "%02X", int(math.Round(x[i]*(1-share)+y[i]*share)))
	}
	return out.String()
}

// Contrast is the contrast of two colours, from 1 to 21 (WCAG 2.2, contrast ratio).
func Contrast(a, b string) float64 {
	light := func(colour string) float64 {
		l := 0.0
		for i, c := range channels(colour) {
			s := c / 255
			if s <= 0.04045 {
				s /= 12.92
			} else {
				s = math.Pow((s+0.055)/1.055, 2.4)
			}
			l += s * [3]float64{0.2126, 0.7152, 0.0722}[i]
		}
		return l
	}
	x, y := light(a), light(b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

// On is the colour of letters on an area: the ink or white, whichever can be read better.
func (l *Look) On(area string) string {
	if Contrast(l.Ink, area) >= Contrast("FFFFFF", area) {
		return l.Ink
	}
	return "FFFFFF"
}

// Says tells which colours of a look some readers will not make out, and what
// would help (WCAG 2.2, 1.4.3 and 1.4.11).
func (l *Look) Says() (said []string) {
	const letters, areas = 4.5, 3
	if c := Contrast(l.Ink, "FFFFFF"); c < letters {
		said = append(said, fmt.Sprintf("The letters (#%s) have a contrast of %.1f on white; 4.5 can be read by most. Take a darker ink.", l.Ink, c))
	} else if c := Contrast(l.Faint, "FFFFFF"); c < letters {
		said = append(said, fmt.Sprintf("Small print is drawn in a lighter form of the ink (#%s), with a contrast of %.1f on white; 4.5 can be read by most. Take a darker ink.", l.Faint, c))
	}
	if c := Contrast(l.Accent, "FFFFFF"); c < areas {
		said = append(said, fmt.Sprintf("The accent (#%s) has a contrast of %.1f on white; rules and bars with less than 3 are missed by some.", l.Accent, c))
	}
	for i, s := range l.Series {
		if c := Contrast(s, "FFFFFF"); c < 1.6 && i < 12 {
			said = append(said, fmt.Sprintf("Series %d (#%s) can hardly be seen on white: a contrast of %.1f.", i+1, s, c))
		}
		if i > 0 && i < 4 && Contrast(s, l.Series[i-1]) < 1.08 {
			said = append(said, fmt.Sprintf("Series %d and %d (#%s, #%s) are equally light, so that who sees few colours, or prints in black, cannot tell them apart.", i, i+1, l.Series[i-1], s))
		}
	}
	return said
}

// Store is what a shelf reads from.
type Store interface {
	Files
	HouseStyles(ctx context.Context) (job.HouseStyles, error)
}

// Shelf keeps looks that were made. It may be used by several goroutines.
type Shelf struct {
	mu   sync.Mutex
	made map[[32]byte]*Look
}

// NewShelf begins an empty shelf.
func NewShelf() *Shelf { return &Shelf{made: map[[32]byte]*Look{}} }

// mostMade is how many looks are kept at once.
const mostMade = 40

// Look is the look of a style by its name; the first of the house for the empty
// name, and the service's own where there is none. In place of a style that is
// gone the first stands, and its Note says so: what must arrive is not held up by
// how it looks.
func (s *Shelf) Look(ctx context.Context, from Store, name string) (*Look, error) {
	all, err := from.HouseStyles(ctx)
	if err != nil {
		return nil, err //nolint:wrapcheck // the store says what it could not read
	}
	if style, ok := all.Find(name); ok {
		return s.look(ctx, from, style)
	}
	look := Plain()
	if style, ok := all.Find(""); ok {
		if look, err = s.look(ctx, from, style); err != nil {
			return nil, err
		}
	}
	if name != "" {
		noted := *look
		noted.Note = fmt.Sprintf("there is no house style %q any more; the file has the usual one", name)
		look = &noted
	}
	return look, nil
}

func (s *Shelf) look(ctx context.Context, from Files, style job.HouseStyle) (*Look, error) {
	text, err := json.Marshal(style)
	if err != nil {
		return nil, fmt.Errorf("read the house style: %w", err)
	}
	key := sha256.Sum256(text)
	s.mu.Lock()
	look := s.made[key]
	s.mu.Unlock()
	if look != nil {
		return look, nil
	}
	if look, err = Make(ctx, style, from); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.made) >= mostMade {
		clear(s.made)
	}
	s.made[key] = look
	return look, nil
}

// ByNight is the accent on dark ground: lighter, so that it can be read there.
func (l *Look) ByNight() string {
	const ground, letters = "1C1E21", 4.5
	colour := l.Accent
	for share := 0.1; Contrast(colour, ground) < letters && share <= 1; share += 0.1 {
		colour = mixed(l.Accent, "FFFFFF", share)
	}
	return strings.ToLower(colour)
}

// FaceRule lets a page of HTML that is printed here write in the house's own
// typeface (CSS Fonts 4, 4.1): it holds all of it. Empty for none.
func (l *Look) FaceRule() string {
	var out strings.Builder
	for i, data := range l.Own {
		if len(data) > 0 {
			fmt.Fprintf(&out, "@font-face{font-family:House;font-weight:%s;src:url(data:font/sfnt;base64,%s)}\n",
				[]string{"400", "600 900"}[i], base64.StdEncoding.EncodeToString(data))
		}
	}
	if out.Len() > 0 {
		out.WriteString("body{font-family:House,sans-serif}\n")
	}
	return out.String()
}

// CSS is a style sheet of ours in the colours and the typeface of the look: it
// names ours in small letters. It is for sheets that are written by us alone,
// never for texts.
func (l *Look) CSS(sheet string) string {
	pairs := []string{
		"#" + strings.ToLower(Accent), "#" + strings.ToLower(l.Accent), "#" + strings.ToLower(Ink), "#" + strings.ToLower(l.Ink),
		"#" + strings.ToLower(Faint), "#" + strings.ToLower(l.Faint), "#" + strings.ToLower(Line), "#" + strings.ToLower(l.Line),
	}
	if l.Family != "" {
		pairs = append(pairs, `"Segoe UI"`, `"`+l.Family+`","Segoe UI"`, `'Segoe UI'`, `'`+l.Family+`','Segoe UI'`,
			"7.5pt sans-serif", `7.5pt "`+l.Family+`",sans-serif`)
	}
	return strings.NewReplacer(pairs...).Replace(sheet)
}
