package db

import (
	"io/fs"
	"strconv"
	"strings"
)

// Schema is the newest version of the schema that this program knows.
func (p *Pool) Schema() int64 {
	var newest int64
	files, _ := fs.ReadDir(migrations, "migrations")
	for _, f := range files {
		if no, _, ok := strings.Cut(f.Name(), "_"); ok {
			if n, err := strconv.ParseInt(no, 10, 64); err == nil {
				newest = max(newest, n)
			}
		}
	}
	return newest
}
