package forecast

import (
	"strconv"
	"strings"

	"ironbell/internal/core/phrase"
)

// Says tells what a change does in a sentence or a few, as the first that somebody reads:
// "3 rings go and 9 move. 2 runs miss their deadline."
func (d *Difference) Says() string {
	c := d.Counts
	var said []string
	add := func(text string) { said = append(said, phrase.Upper(text)+".") }
	var rings []string
	for _, n := range []struct {
		count     int
		one, many string
	}{{c.Gone, "goes", "go"}, {c.New, "is new", "are new"}, {c.Moved, "moves", "move"}} {
		if n.count == 0 {
			continue
		}
		what := strconv.Itoa(n.count)
		if len(rings) == 0 {
			what = phrase.Count(n.count, "ring")
		}
		rings = append(rings, what+" "+phrase.Plural(n.count, n.one, n.many))
	}
	if len(rings) > 0 {
		last := len(rings) - 1
		add(strings.Join(append(rings[:max(0, last-1)], strings.Join(rings[max(0, last-1):], " and ")), ", "))
	}
	runs := func(count int, one, many string) {
		if count > 0 {
			add(phrase.Count(count, "run") + " " + phrase.Plural(count, one, many))
		}
	}
	runs(c.Late, "misses its deadline", "miss their deadlines")
	runs(c.OnTime, "keeps its deadline again", "keep their deadlines again")
	runs(c.Later, "begins later", "begin later")
	runs(c.Sooner, "begins sooner", "begin sooner")
	if c.Joined > 0 {
		add(phrase.Count(c.Joined, "ring") + " " + phrase.Plural(c.Joined, "joins", "join") + " a run that still waits")
	}
	if c.Apart > 0 {
		add(phrase.Count(c.Apart, "ring") + " " + phrase.Plural(c.Apart, "has", "have") + " a run of its own again")
	}
	fresh, worse, ends := d.ClashCounts()
	if fresh > 0 {
		add(clashes(fresh, "new "))
	}
	if worse > 0 {
		add(clashes(worse, "") + " " + phrase.Plural(worse, "becomes", "become") + " worse")
	}
	if ends > 0 {
		add(clashes(ends, "") + " " + phrase.Plural(ends, "ends", "end"))
	}
	if len(said) == 0 {
		return "No ring changes."
	}
	return strings.Join(said, " ")
}

func clashes(n int, which string) string {
	return strconv.Itoa(n) + " " + which + phrase.Plural(n, "clash", "clashes")
}

// ClashCounts tells how many clashes are new, become worse, and end.
func (d *Difference) ClashCounts() (fresh, worse, ends int) {
	for _, c := range d.Clashes {
		switch {
		case c.Ends:
			ends++
		case c.Was == 0:
			fresh++
		case c.Most > c.Was:
			worse++
		}
	}
	return fresh, worse, ends
}
