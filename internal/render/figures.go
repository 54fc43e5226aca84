package render

import (
	"math/big"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
)

// figure is one large number with its change.
type figure struct {
	column int
	label  string
	cell   rows.Cell
	text   string
	change string // such as +12 (+4.1 %), from 290; empty without an earlier number
	mark   job.Mark
}

// figuresOf reads the figures off the first row of a section.
func figuresOf(p *shape.Plan, cells rows.Row, l *locale.Locale, forms []*locale.Form) []figure {
	figures := []figure{}
	for i, c := range p.Columns {
		if !p.Figure(i) {
			continue
		}
		f := figure{
			column: i, label: c.Head(), text: forms[i].Text(cells[i]),
			cell: rows.Cell{Text: append([]byte(nil), cells[i].Text...), Null: cells[i].Null},
		}
		if cells[i].Null {
			f.text = "–"
		}
		if at, ok := p.Before(i); ok {
			f.change, f.mark = change(c, cells[i], cells[at], l, forms[i])
		}
		figures = append(figures, f)
	}
	return figures
}

// change says how a number changed, exactly, and whether that is good.
func change(c shape.Column, now, before rows.Cell, l *locale.Locale, form *locale.Form) (string, job.Mark) {
	a, ok := ratOf(now)
	b, had := ratOf(before)
	if !ok || !had {
		return "", job.MarkNone
	}
	difference := new(big.Rat).Sub(a, b)
	scale := max(scaleOf(now.Text), scaleOf(before.Text))
	text := form.Text(rows.Cell{Text: []byte(difference.FloatString(scale))})
	if c.Percent {
		// From 95 % to 93 % is a fall by two points, not by two per cent.
		text = strings.TrimSuffix(text, "%") + "pp"
	}
	if difference.Sign() > 0 {
		text = "+" + text
	}
	if b.Sign() != 0 && !c.Percent {
		share := new(big.Rat).Quo(difference, new(big.Rat).Abs(b))
		one := 1
		percents, err := l.Form(rows.Number, job.Column{Percent: true, Decimals: &one}, nil, true)
		if err != nil {
			return text, job.MarkFaint
		}
		percent := percents.Text(rows.Cell{Text: []byte(share.FloatString(8))})
		if share.Sign() > 0 {
			percent = "+" + percent
		}
		text += " (" + percent + ")"
	}
	text += ", " + l.Words.Before + " " + form.Text(before)
	better := map[job.Better]int{job.BetterMore: 1, job.BetterLess: -1}[c.Better] * difference.Sign()
	switch {
	case better > 0:
		return text, job.MarkGood
	case better < 0:
		return text, job.MarkBad
	}
	return text, job.MarkFaint
}

func ratOf(c rows.Cell) (*big.Rat, bool) {
	if c.Null || len(c.Text) > 400 || strings.ContainsAny(string(c.Text), "xX/_") {
		return nil, false
	}
	return new(big.Rat).SetString(string(c.Text))
}

func scaleOf(text []byte) int {
	for i, c := range text {
		if c == '.' {
			return min(len(text)-i-1, 12)
		}
	}
	return 0
}
