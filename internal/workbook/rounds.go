package workbook

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// mostSteps bounds how many ways from formula to formula are followed.
const mostSteps = 20_000_000

var errTangled = errors.New("its formulas rest on each other in too many ways to be reckoned here")

// column is a column of a sheet.
type column struct {
	sheet string // in small letters
	col   int
}

// rounds fails when formulas rest on themselves: what they come to depends on where one begins.
func rounds(all []asked) error {
	place := map[column]map[int]int{} // row to the number of its formula
	rows := map[column][]int{}        // in order
	for i, a := range all {
		c := column{strings.ToLower(a.sheet), a.at.col}
		if place[c] == nil {
			place[c] = map[int]int{}
		}
		place[c][a.at.row] = i
		rows[c] = append(rows[c], a.at.row) // a sheet is read from above
	}
	steps := 0
	// next are the formulas that a formula rests on.
	next := func(a asked) (out []int) {
		for _, p := range a.over {
			on := strings.ToLower(p.onSheet())
			if on == "" {
				on = strings.ToLower(a.sheet)
			}
			first, last := min(p.first.row, p.last.row), max(p.first.row, p.last.row)
			for col := min(p.first.col, p.last.col); col <= max(p.first.col, p.last.col); col++ {
				c := column{on, col}
				from, _ := slices.BinarySearch(rows[c], first)
				for _, row := range rows[c][from:] {
					if row > last || steps > mostSteps {
						break
					}
					steps++
					out = append(out, place[c][row])
				}
			}
		}
		return out
	}
	const underWay, done = 1, 2
	state := make([]int8, len(all))
	type stop struct {
		at   int
		left []int
	}
	for i := range all {
		if state[i] != 0 {
			continue
		}
		state[i] = underWay
		way := []stop{{i, next(all[i])}}
		for len(way) > 0 {
			s := &way[len(way)-1]
			if steps > mostSteps {
				return errTangled
			}
			if len(s.left) == 0 {
				state[s.at] = done
				way = way[:len(way)-1]
				continue
			}
			n := s.left[0]
			s.left = s.left[1:]
			switch state[n] {
			case underWay:
				return fmt.Errorf("%s rests on itself", cellName(all[n].sheet, all[n].at))
			case 0:
				state[n] = underWay
				way = append(way, stop{n, next(all[n])})
			}
		}
	}
	return nil
}
