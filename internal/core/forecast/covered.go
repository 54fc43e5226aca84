package forecast

import "slices"

// Span is a range of days, both included, as civil serials.
type Span struct{ From, To int64 }

// Covered tells which days between the first and the last that any span holds are in none of
// them, and which are in several. Several are told of only where most days are in one: spans
// that lie over each other on purpose, such as the last eight weeks every two, are no fault.
func Covered(spans []Span) (missed, several []int64) {
	times := map[int64]int{}
	first, last := int64(0), int64(-1)
	for i, s := range spans {
		if s.To < s.From || s.To-s.From > 400 {
			return nil, nil // nobody can tell what is meant
		}
		if i == 0 {
			first, last = s.From, s.To
		}
		first, last = min(first, s.From), max(last, s.To)
		for d := s.From; d <= s.To; d++ {
			times[d]++
		}
	}
	once := 0
	for d := first; d <= last; d++ {
		switch times[d] {
		case 0:
			missed = append(missed, d)
		case 1:
			once++
		default:
			several = append(several, d)
		}
	}
	if once <= len(several) {
		several = nil
	}
	return slices.Clip(missed), slices.Clip(several)
}
