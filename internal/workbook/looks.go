package workbook

import (
	"fmt"
	"strconv"
	"strings"
)

// looks are the forms of cells that a workbook has (ECMA-376 part 1, 18.8.10), and
// those that are added to it.
type looks struct {
	part  string
	forms []string // numFmtId of each
	added []added
}

// added is a form like another one with a form of numbers.
type added struct{ like, form int }

// Built-in forms of numbers (18.8.30).
const (
	generalForm = "0"
	dateForm    = 14
	momentForm  = 22
)

func (f *filling) readLooks() (*looks, error) {
	l := &looks{}
	for _, one := range f.links[f.contents] {
		if f.types[one.target] == sheets+"styles+xml" {
			l.part = one.target
		}
	}
	if l.part == "" {
		return l, nil
	}
	var read struct {
		Forms []struct {
			ID   string `xml:"numFmtId,attr"`
			Code string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		All []struct {
			Form string `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if err := decode(f.parts[l.part], &read); err != nil {
		return nil, fmt.Errorf("its forms of cells cannot be read: %w", err)
	}
	for _, x := range read.All {
		for _, f := range read.Forms {
			if f.ID == x.Form && strings.EqualFold(f.Code, "General") { // some programs name it once more
				x.Form = generalForm
			}
		}
		if x.Form == "" {
			x.Form = generalForm
		}
		l.forms = append(l.forms, x.Form)
	}
	return l, nil
}

// fit is the number of a form in which a value can be read: a date in a cell that
// says nothing of numbers would stand there as a number.
func (l *looks) fit(style string, kind byte) string {
	form := map[byte]int{Date: dateForm, Moment: momentForm}[kind]
	like := 0
	if style != "" {
		like, _ = strconv.Atoi(style)
	}
	if form == 0 || like >= len(l.forms) || l.forms[like] != generalForm {
		return style
	}
	want := added{like, form}
	for i, a := range l.added {
		if a == want {
			return itoa(len(l.forms) + i)
		}
	}
	l.added = append(l.added, want)
	return itoa(len(l.forms) + len(l.added) - 1)
}

// write adds the forms that were asked for.
func (l *looks) write(p *pack) error {
	if len(l.added) == 0 {
		return nil
	}
	var like [][]byte // each form as it stands
	t := newTokens(p.parts[l.part])
	if err := t.each("cellXfs", "xf", func(raw []byte) { like = append(like, raw) }); err != nil {
		return err
	}
	end := ""
	for _, a := range l.added {
		one, err := rewritten(like[a.like], func(e *element) {
			if e.name == "xf" {
				e.set("numFmtId", itoa(a.form))
				e.set("applyNumberFormat", "1")
			}
		})
		if err != nil {
			return err
		}
		end += string(one)
	}
	out, err := rewritten(p.parts[l.part], func(e *element) {
		if e.name == "cellXfs" {
			e.set("count", itoa(len(l.forms)+len(l.added)))
			e.end = end
		}
	})
	p.parts[l.part] = out
	return err
}
