package recordfile

import (
	"encoding/json"
	"slices"
	"strings"

	"ironbell/internal/core/job"
)

// order is the one in which the kinds can be saved: each after those that it may speak of.
var order = []string{
	"person", "wishes", "post", "group", "calendar", "source", "identity", "destination", "sender", "subscription", "setting", "report", "job",
}

// Order sorts files so that each stands behind those that it speaks of. Those that speak of
// each other in a circle stand in the order of their names.
func Order(files []File) []File {
	files = slices.Clone(files)
	place := func(kind string) int {
		if at := slices.Index(order, kind); at >= 0 {
			return at
		}
		return len(order)
	}
	slices.SortStableFunc(files, func(a, b File) int {
		if by := place(a.Kind) - place(b.Kind); by != 0 {
			return by
		}
		return strings.Compare(a.Name, b.Name)
	})
	at := make(map[string]int, len(files))
	for i, f := range files {
		at[f.key()] = i
	}
	out, met := make([]File, 0, len(files)), make([]bool, len(files))
	var add func(i int)
	add = func(i int) {
		if met[i] {
			return
		}
		met[i] = true
		for _, name := range files[i].needs() {
			if n, there := at[(File{Kind: files[i].Kind, Name: name}).key()]; there {
				add(n)
			}
		}
		out = append(out, files[i])
	}
	for i := range files {
		add(i)
	}
	return out
}

// key tells records apart; the names of some kinds are the same in any case of their letters.
func (f File) key() string { return f.Kind + " " + strings.ToLower(f.Name) }

// needs names the records of the same kind that a record speaks of.
func (f File) needs() []string {
	var names []string
	switch f.Kind {
	case "post":
		var p struct{ Under string }
		if json.Unmarshal(f.Body, &p) == nil {
			names = append(names, p.Under)
		}
	case "group":
		var g struct{ Members []string }
		if json.Unmarshal(f.Body, &g) == nil {
			for _, m := range g.Members {
				if r, err := job.ReadRecipient(m); err == nil && r.Kind == job.ToGroup {
					names = append(names, r.Name)
				}
			}
		}
	case "job":
		var j struct{ Triggers []job.Trigger }
		if json.Unmarshal(f.Body, &j) == nil {
			for _, t := range j.Triggers {
				if t.Wait == nil {
					continue
				}
				for _, c := range t.Wait.For {
					names = append(names, c.Job)
				}
			}
		}
	}
	return names
}
