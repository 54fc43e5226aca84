package shape

import (
	"bytes"
	"math"
	"math/big"
	"strconv"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
)

// sum adds the cells of a column up. Decimal numbers are added exactly: as a
// whole number of units of 10^-scale while they fit, as fractions beyond that.
type sum struct {
	n      int64 // cells with a value
	units  int64
	scale  int
	exact  *big.Rat
	lost   bool   // a cell was no number: infinite, or not a number at all
	kept   []byte // of least and most
	number float64
}

// maxScale is how many digits behind the point are added as whole units.
const maxScale = 12

func (s *sum) add(c Column, cell rows.Cell) {
	if cell.Null {
		return
	}
	s.n++
	switch c.Total {
	case job.TotalCount:
	case job.TotalLeast, job.TotalMost:
		s.keep(c, cell)
	default:
		s.plus(cell.Text)
	}
}

// keep holds the least or the most cell.
func (s *sum) keep(c Column, cell rows.Cell) {
	var order int
	number := s.number
	if c.Kind.Numeric() {
		f, err := strconv.ParseFloat(string(cell.Text), 64)
		if err != nil || math.IsNaN(f) {
			return
		}
		number = f
		switch {
		case f < s.number:
			order = -1
		case f > s.number:
			order = 1
		}
	} else {
		order = bytes.Compare(cell.Text, s.kept)
	}
	if s.kept == nil || c.Total == job.TotalLeast && order < 0 || c.Total == job.TotalMost && order > 0 {
		s.kept, s.number = append(s.kept[:0:0], cell.Text...), number
	}
}

func (s *sum) plus(text []byte) {
	if s.exact == nil {
		units, scale, ok := decimal(text)
		if ok && s.fit(units, scale) {
			return
		}
		s.exact = ratOf(s.units, s.scale)
	}
	r, ok := new(big.Rat).SetString(string(text))
	if !ok {
		s.lost = true
		return
	}
	s.exact.Add(s.exact, r)
	// The digits that the sum shows are those of its finest cell.
	if dot := bytes.IndexByte(text, '.'); dot >= 0 {
		s.scale = max(s.scale, min(len(text)-dot-1, 30))
	}
}

// fit adds units of 10^-scale and tells whether the sum still fits.
func (s *sum) fit(units int64, scale int) bool {
	mine := s.units
	for s.scale < scale && mine < math.MaxInt64/10 && mine > math.MinInt64/10 {
		mine *= 10
		s.units, s.scale = mine, s.scale+1
	}
	for scale < s.scale && units < math.MaxInt64/10 && units > math.MinInt64/10 {
		units *= 10
		scale++
	}
	if scale != s.scale {
		return false
	}
	total := mine + units
	if (total > mine) != (units > 0) && units != 0 {
		return false
	}
	s.units = total
	return true
}

// decimal reads digits with at most one point.
func decimal(text []byte) (units int64, scale int, ok bool) {
	negative := len(text) > 0 && text[0] == '-'
	if negative {
		text = text[1:]
	}
	digits, point := 0, false
	for _, c := range text {
		switch {
		case c == '.' && !point:
			point = true
		case c >= '0' && c <= '9' && digits < 18:
			units = units*10 + int64(c-'0')
			digits++
			if point {
				scale++
			}
		default:
			return 0, 0, false
		}
	}
	if negative {
		units = -units
	}
	return units, scale, digits > 0 && scale <= maxScale
}

func ratOf(units int64, scale int) *big.Rat {
	return new(big.Rat).SetFrac(big.NewInt(units), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(scale)), nil))
}

// cell gives the total as canonical text; without any value it is null, but a
// count is 0.
func (s *sum) cell(c Column) rows.Cell {
	switch {
	case c.Total == job.TotalCount:
		return rows.Cell{Text: strconv.AppendInt(nil, s.n, 10)}
	case s.n == 0:
		return rows.Cell{Null: true}
	case c.Total == job.TotalLeast || c.Total == job.TotalMost:
		return rows.Cell{Text: s.kept, Null: s.kept == nil}
	case s.lost:
		return rows.Cell{Text: []byte("NaN")}
	}
	exact, scale := s.exact, s.scale
	if exact == nil {
		exact = ratOf(s.units, s.scale)
	}
	if c.Total == job.TotalMean {
		exact = new(big.Rat).Quo(exact, new(big.Rat).SetInt64(s.n))
		if scale++; c.Decimals != nil {
			scale += *c.Decimals + 2
		}
	}
	return rows.Cell{Text: []byte(exact.FloatString(scale))}
}
