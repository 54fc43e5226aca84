package render

import (
	"compress/gzip"
	"fmt"
	"io"

	"ironbell/internal/core/shape"
)

// MaxRowsKept is how many rows of a run are kept to compare it with another.
const MaxRowsKept = 20_000

// rowsFile keeps the rows of a run: the JSON of a report, compressed, with rows
// as lists. It ends before a row too many, and is then forgotten.
type rowsFile struct {
	jsonWriter
	packed *gzip.Writer
	n      int
}

// Full tells that a run had more rows than are kept.
type Full interface{ Full() bool }

func newRowsFile(w io.Writer, h *Head, s *Style) (Writer, error) {
	packed, err := gzip.NewWriterLevel(w, gzip.BestSpeed)
	if err != nil {
		return nil, fmt.Errorf("keep the rows: %w", err)
	}
	made, err := newJSON(packed, h, s)
	if err != nil {
		return nil, err
	}
	j, ok := made.(*jsonWriter)
	if !ok {
		return nil, fmt.Errorf("keep the rows: %T", made)
	}
	j.compact = true
	return &rowsFile{jsonWriter: *j, packed: packed}, nil
}

func (r *rowsFile) Line(line *shape.Line) error {
	if r.n++; r.n > MaxRowsKept {
		return nil
	}
	return r.jsonWriter.Line(line)
}

// Full implements Full.
func (r *rowsFile) Full() bool { return r.n > MaxRowsKept }

func (r *rowsFile) Close() error {
	if err := r.jsonWriter.Close(); err != nil {
		return err
	}
	return r.packed.Close()
}
