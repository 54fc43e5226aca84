package rule

import (
	"fmt"
)

// places reads "first", "last", "2nd to last" and lists of them.
func (r *wordReader) places() ([]int, error) {
	var out []int
	for {
		n, err := r.place()
		if err != nil {
			return nil, err
		}
		out = append(out, n)
		isPlace := func() bool {
			r.skip("the")
			return r.peek().kind == ordinalToken || r.is("last")
		}
		if !r.more(func() bool {
			// "the first monday and the last friday": the noun comes between.
			return isPlace()
		}) {
			return out, nil
		}
	}
}

func (r *wordReader) place() (int, error) {
	r.skip("the")
	t := r.peek()
	if r.skip("last") {
		return -1, nil
	}
	if t.kind != ordinalToken || t.value < 1 || t.value > 366 {
		return 0, r.expected("first, second, 3rd, last or 2nd to last", "first", "last")
	}
	r.at++
	if r.is("to") && r.ahead(1).word == "last" {
		r.at += 2
		return -int(t.value), nil
	}
	if r.skip("last") {
		return -int(t.value), nil
	}
	return int(t.value), nil
}

// numbers reads "1, 15 and 20 to 22", "0 to 59 by 7", "1 and the last".
func (r *wordReader) numbers(limit int64) ([]int, error) {
	var out []int
	for {
		if r.is("the", "last") || r.peek().kind == ordinalToken {
			n, err := r.place()
			if err != nil {
				return nil, err
			}
			out = append(out, n)
		} else {
			span, err := r.span(limit)
			if err != nil {
				return nil, err
			}
			out = append(out, span...)
		}
		if !r.more(func() bool {
			if r.peek().kind == numberToken {
				return true
			}
			// "the last" without a noun behind it belongs to the numbers.
			n := 0
			if r.ahead(n).word == "the" {
				n++
			}
			if r.ahead(n).kind == ordinalToken {
				n++
				if r.ahead(n).word == "to" {
					n++
				}
			}
			if r.ahead(n).word == "last" {
				n++
			}
			next := r.ahead(n)
			_, weekday := weekdayWords[next.word]
			return n > 0 && next.kind != ordinalToken && !weekday && next.word != "day" && next.word != "days" &&
				next.word != "open" && next.word != "week"
		}) {
			return out, nil
		}
	}
}

// span reads "5", "5 to 9" and "0 to 59 by 7".
func (r *wordReader) span(limit int64) ([]int, error) {
	number := func() (int, error) {
		t := r.peek()
		if t.kind != numberToken || t.value > limit {
			return 0, r.expected(fmt.Sprintf("a number up to %d", limit))
		}
		r.at++
		return int(t.value), nil
	}
	low, err := number()
	if err != nil {
		return nil, err
	}
	if !r.is("to") || r.ahead(1).kind != numberToken {
		return []int{low}, nil
	}
	r.at++
	column := r.peek().column
	high, err := number()
	if err != nil {
		return nil, err
	}
	if high < low {
		return nil, r.wrongAt(column, "a range runs upwards: %d to %d does not", low, high)
	}
	step := 1
	if r.skip("by") {
		column := r.peek().column
		if step, err = number(); err != nil {
			return nil, err
		}
		if step < 1 {
			return nil, r.wrongAt(column, "a step is at least 1")
		}
	}
	var out []int
	for n := low; n <= high; n += step {
		out = append(out, n)
	}
	return out, nil
}

func (r *wordReader) weekNumbers() error {
	for {
		r.skip("the", "week", "weeks")
		list, err := r.numbers(53)
		if err != nil {
			return err
		}
		for _, n := range list {
			if n == 0 || n > 53 || n < -53 {
				return r.wrongAt(r.peek().column, "weeks are numbered from 1 to 53")
			}
		}
		r.weeks = append(r.weeks, list...)
		r.skip("week", "weeks")
		if !r.more(func() bool { return r.is("the", "week", "weeks") }) {
			break
		}
	}
	if r.skip("of") {
		r.skip("every", "each", "the", "year")
	}
	return nil
}

func (r *wordReader) monthList() (uint16, error) {
	var mask uint16
	for {
		from, ok := monthWords[r.peek().word]
		if !ok {
			return 0, r.expected("a month", nameList(monthWords)...)
		}
		r.at++
		to := from
		if r.is("to", "through") {
			r.at++
			if to, ok = monthWords[r.peek().word]; !ok {
				return 0, r.expected("a month", nameList(monthWords)...)
			}
			r.at++
		}
		for m := from; ; m = m%12 + 1 {
			mask |= 1 << m
			if m == to {
				break
			}
		}
		if !r.more(func() bool { _, ok := monthWords[r.peek().word]; return ok }) {
			return mask, nil
		}
	}
}

// mask reads numbers from 0 to limit as a set of bits.
func (r *wordReader) mask(what string, limit int64) (uint64, error) {
	column := r.peek().column
	list, err := r.numbers(limit)
	var mask uint64
	for _, n := range list {
		if n < 0 {
			return 0, r.wrongAt(column, "%s are numbers from 0 to %d", what, limit)
		}
		mask |= 1 << n
	}
	return mask, err
}
