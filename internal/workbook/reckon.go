package workbook

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
)

// mostReckonedBytes are those of sheets that are held in memory to be reckoned.
const mostReckonedBytes = 64 << 20

// reckoned are the values of formulas by the place where they stand.
type reckoned map[string]map[at]Value

var errLong = errors.New("its formulas take longer than the time that there is for them")

// asked is a formula that is reckoned.
type asked struct {
	sheet  string
	at     at
	touchy bool
	sub    bool    // it is a SUBTOTAL
	over   []piece // what it is reckoned over
}

// reckon works out what all formulas come to. What is not reckoned here is told
// to unfit, and its cell has no value.
func (b *book) reckon(limit time.Duration, most int, unfit func(sheet string, p at, why string)) (reckoned, error) {
	size := 0
	for _, s := range b.sheets {
		size += len(b.parts[s.part])
	}
	if size > mostReckonedBytes {
		return nil, fmt.Errorf("its sheets have %d MB; at most %d are reckoned here", size>>20, mostReckonedBytes>>20)
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	numbers, err := b.numbersAsTexts()
	if err != nil {
		return nil, err
	}
	plain, all, err := b.plainForm(unfit)
	if err != nil || len(all) == 0 {
		return reckoned{}, err
	}
	if len(all) > most {
		return nil, fmt.Errorf("%d of its cells reckon; at most %d are reckoned here", len(all), most)
	}
	if err := rounds(all); err != nil {
		return nil, err
	}
	var packed bytes.Buffer
	if err := plain.write(&packed); err != nil {
		return nil, err
	}
	file, err := excelize.OpenReader(bytes.NewReader(packed.Bytes()), excelize.Options{
		UnzipSizeLimit: 2 * MaxUnpacked, UnzipXMLSizeLimit: 2 * MaxUnpacked, RawCellValue: true,
	})
	if err != nil {
		return nil, fmt.Errorf("its formulas cannot be reckoned: %w", err)
	}
	got, err := evaluate(ctx, file, all, unfit)
	if err != nil {
		return nil, err
	}
	for _, values := range got {
		for _, v := range values {
			numbers = numbers || v.Kind == Words && looksLikeNumber(v.Text)
		}
	}
	doubted(all, numbers, unfit)
	return got, nil
}

// plainForm is the workbook with plain references alone in the formulas that are
// reckoned, and those formulas.
func (b *book) plainForm(unfit func(sheet string, p at, why string)) (*pack, []asked, error) {
	plain := &pack{names: b.names, parts: maps.Clone(b.parts)}
	var all []asked
	for _, s := range b.sheets {
		if !b.cells(s) {
			continue
		}
		out, err := newSplicer(nil, func(p at, f *formula) (*formula, Value) {
			why := b.unreckoned(s, f)
			text := ""
			if why == "" {
				var err error
				if text, err = b.plainly(s, p, f.text); err != nil {
					why = err.Error()
				}
			}
			if why != "" {
				unfit(s.name, p, why)
				return nil, Value{Kind: Fault, Text: "#N/A"}
			}
			one := asked{sheet: s.name, at: p}
			for _, p := range pieces(text) {
				one.touchy = one.touchy || p.kind == function && touchy[plainName(p.text)]
				one.sub = one.sub || p.kind == function && plainName(p.text) == "SUBTOTAL"
				if p.kind == reference {
					one.over = append(one.over, p)
				}
			}
			all = append(all, one)
			return &formula{text: text}, Value{}
		}).sheet(b.parts[s.part], func(*element) {})
		if err != nil {
			return nil, nil, err
		}
		plain.parts[s.part] = out
	}
	return plain, all, nil
}

// evaluate asks for the value of each formula, and of which type it is: by formulas
// on a sheet of their own, since the library tells the one and not the other.
func evaluate(ctx context.Context, file *excelize.File, all []asked, unfit func(sheet string, p at, why string)) (reckoned, error) {
	const beside = "reckoned beside"
	if _, err := file.NewSheet(beside); err != nil {
		return nil, fmt.Errorf("its formulas cannot be reckoned: %w", err)
	}
	for i, a := range all {
		ref := sheetMark(a.sheet) + a.at.String()
		for col, text := range map[string]string{"A": "TYPE(" + ref + ")", "B": ref} {
			if err := file.SetCellFormula(beside, col+itoa(i+1), text); err != nil {
				return nil, fmt.Errorf("its formulas cannot be reckoned: %w", err)
			}
		}
	}
	got := reckoned{}
	for i, a := range all {
		if ctx.Err() != nil {
			return nil, errLong
		}
		v, err := reckonOne(file, beside, i+1)
		if err != nil {
			unfit(a.sheet, a.at, err.Error())
			continue
		}
		if got[a.sheet] == nil {
			got[a.sheet] = map[at]Value{}
		}
		got[a.sheet][a.at] = v
	}
	return got, nil
}

// doubted tells the formulas whose values are not what office programs say, among
// the values that there are.
func doubted(all []asked, numbers bool, unfit func(sheet string, p at, why string)) {
	subtotals := slices.DeleteFunc(slices.Clone(all), func(a asked) bool { return !a.sub })
	for _, a := range all {
		if numbers && a.touchy {
			unfit(a.sheet, a.at, "it looks among texts that are written as numbers, such as 0042")
		}
		// Office programs pass over subtotals within a subtotal.
		if a.sub && slices.ContainsFunc(a.over, func(p piece) bool {
			return slices.ContainsFunc(subtotals, func(o asked) bool {
				on := p.onSheet()
				return (on == o.sheet || on == "" && a.sheet == o.sheet) && area{p.first.at, p.last.at}.holds(o.at)
			})
		}) {
			unfit(a.sheet, a.at, "it has subtotals among what it is reckoned over")
		}
	}
}

func looksLikeNumber(text string) bool {
	_, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
	return err == nil
}

var withPoint = regexp.MustCompile(`[0-9]+\.[0-9]+`)

// hasLongNumber tells whether a text has a number with more digits than a sheet knows.
func hasLongNumber(text string) bool {
	const known = 15
	return slices.ContainsFunc(withPoint.FindAllString(text, -1), func(n string) bool {
		return len(strings.TrimLeft(n, "0.")) > known+1 // its point
	})
}

// faults are the values that stand for errors (ECMA-376 part 1, 18.17.3).
var faults = []string{"#DIV/0!", "#N/A", "#NAME?", "#NULL!", "#NUM!", "#REF!", "#VALUE!"}

func reckonOne(file *excelize.File, beside string, row int) (v Value, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("it cannot be reckoned (%v)", r)
		}
	}()
	kind, failed := file.CalcCellValue(beside, "A"+itoa(row))
	text, err := file.CalcCellValue(beside, "B"+itoa(row))
	if slices.Contains(faults, text) && kind != "2" {
		return Value{Kind: Fault, Text: text}, nil
	}
	if err == nil {
		err = failed
	}
	if err != nil {
		if slices.Contains(faults, err.Error()) {
			return Value{Kind: Fault, Text: err.Error()}, nil
		}
		return v, fmt.Errorf("it cannot be reckoned (%w)", err)
	}
	switch kind {
	case "2":
		if hasLongNumber(text) {
			return v, fmt.Errorf("it puts a number that is not rounded into a text (%s)", short(text))
		}
		return Value{Kind: Words, Text: text}, nil
	case "4":
		v = Value{Kind: YesNo}
		if strings.EqualFold(text, "TRUE") || text == "1" {
			v.Number = 1
		}
		return v, nil
	}
	if text == "" {
		return Value{Kind: Number}, nil // a reference to nothing is nought
	}
	if v.Number, err = strconv.ParseFloat(text, 64); err != nil {
		return v, fmt.Errorf("it cannot be reckoned (%q)", short(text))
	}
	v.Kind = Number
	return v, nil
}

// numbersAsTexts tells whether some cell holds a text that looks like a number.
func (b *book) numbersAsTexts() (found bool, err error) {
	texts, err := b.texts()
	if err != nil {
		return false, err
	}
	for _, s := range b.sheets {
		if !b.cells(s) {
			continue
		}
		if err := walk(b.parts[s.part], func(r *row) error {
			for _, c := range r.cells {
				switch c.kind {
				case "s":
					n, err := strconv.Atoi(strings.TrimSpace(c.value))
					found = found || err == nil && n >= 0 && n < len(texts) && looksLikeNumber(texts[n])
				case "inlineStr":
					found = found || looksLikeNumber(c.value)
				}
			}
			return nil
		}); err != nil {
			return false, err
		}
	}
	return found, nil
}

// texts are those that cells name by their number (18.4.9).
func (b *book) texts() ([]string, error) {
	part := b.sharedPart()
	if part == "" {
		return nil, nil
	}
	var read struct {
		All []struct {
			Text string   `xml:"t"`
			Runs []string `xml:"r>t"`
		} `xml:"si"`
	}
	if err := decode(b.parts[part], &read); err != nil {
		return nil, fmt.Errorf("its texts cannot be read: %w", err)
	}
	out := make([]string, len(read.All))
	for i, t := range read.All {
		out[i] = t.Text + strings.Join(t.Runs, "")
	}
	return out, nil
}

// sharedPart is the part of the texts that cells name by their number.
func (b *book) sharedPart() string {
	for _, l := range b.links[b.contents] {
		if b.types[l.target] == sheets+"sharedstrings+xml" {
			return l.target
		}
	}
	return ""
}
