package deliver

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"unicode/utf8"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
)

const (
	// MostDepth is how many folders below each other are looked into.
	MostDepth   = 30
	mostEntries = 1_000_000 // of a place that are looked at
	longestPath = 1000      // bytes
)

// Odd is what was found and cannot be taken, since its name cannot be written down.
type Odd struct {
	count int
	first string
}

// Note says how many there were; nothing when there were none.
func (o Odd) Note() string {
	if o.count == 0 {
		return ""
	}
	return fmt.Sprintf("%s passed over, whose names are no UTF-8 or longer than %d bytes; the first is %s",
		phrase.Count(o.count, "file"), longestPath, o.first)
}

// Find gives the files that a pattern means, and others that also picks. What lies deeper than the pattern is
// not looked at, nor are parts of files that we write ourselves. That the folder in which all of them lie is
// not there is an error.
func Find(look Look, pattern string, also func(file string) bool, each func(e Entry, also bool) error) (Odd, error) {
	watch := job.FileWatch{Pattern: pattern}
	base := watch.Base()
	below := pattern
	if base != "" {
		below = strings.TrimPrefix(pattern, base+"/")
	}
	depth := strings.Count(below, "/")
	if strings.Contains(pattern, "**") {
		depth = MostDepth
	}
	type level struct {
		dir   string
		depth int
	}
	var odd Odd
	entries := 0
	for todo := []level{{base, depth}}; len(todo) > 0; {
		at := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		err := look.List(at.dir, func(e Entry) error {
			e.Changed = e.Changed.UTC() // so that equal ones are equal
			if entries++; entries > mostEntries {
				return fault.New(fault.Task, "look for "+pattern,
					fmt.Sprintf("there are more than %d files and folders", mostEntries),
					"Let the pattern begin with the folder that is meant.")
			}
			switch {
			case e.Folder && at.depth > 0:
				todo = append(todo, level{e.Path, at.depth - 1})
			case e.Folder, strings.HasPrefix(path.Base(e.Path), ".ironbell-"):
			case !utf8.ValidString(e.Path), strings.ContainsRune(e.Path, 0), len(e.Path) > longestPath:
				if odd.count++; odd.count == 1 {
					odd.first = fmt.Sprintf("%.100q", e.Path)
				}
			case also(e.Path):
				return each(e, true)
			case job.PathMatches(pattern, e.Path):
				return each(e, false)
			}
			return nil
		})
		if errors.Is(err, fs.ErrNotExist) && at.dir != base {
			continue // gone meanwhile
		}
		if err != nil {
			return odd, err
		}
	}
	return odd, nil
}
