package calendar

// Merge adds entries to those that a calendar has. Equal days are one entry, with the label
// that was read last. Missing are the entries of the calendar that were not among those read:
// they stay.
func Merge(had, read []Entry) (merged, added, missing []Entry) {
	type days struct {
		date, rule string
		n          int
	}
	key := func(e Entry) days { return days{e.Date, e.Rule, max(e.Days, 1)} }
	at, seen := map[days]int{}, map[days]bool{}
	for _, e := range had {
		at[key(e)] = len(merged)
		merged = append(merged, e)
	}
	for _, e := range read {
		seen[key(e)] = true
		if i, ok := at[key(e)]; ok {
			if e.Label != "" {
				merged[i].Label = e.Label
			}
			continue
		}
		at[key(e)] = len(merged)
		merged, added = append(merged, e), append(added, e)
	}
	for _, e := range had {
		if !seen[key(e)] {
			missing = append(missing, e)
		}
	}
	return merged, added, missing
}
