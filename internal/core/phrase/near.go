package phrase

// Near is the one of some words that was probably meant by a mistyped one, or "". Letters
// added, dropped, changed or swapped with their neighbour are counted; two of them are too
// many for a short word, three for any; of two that are as near the longer is meant.
func Near(word string, known []string) string {
	best, least := "", 3
	if len(word) < 4 {
		least = 2
	}
	if len(word) > 40 {
		return ""
	}
	for _, k := range known {
		d := distance(word, k)
		if d < len(k) && (d < least || d == least && best != "" && len(k) > len(best)) {
			best, least = k, d
		}
	}
	return best
}

func distance(a, b string) int {
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			changed := last[j-1]
			if a[i-1] != b[j-1] {
				changed++
			}
			row[j] = min(last[j]+1, row[j-1]+1, changed)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}
