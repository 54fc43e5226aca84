package report

import (
	"context"
	"fmt"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/rows"
)

// Listing is a small result, as text; what is null is empty.
type Listing struct {
	Columns []string
	Kinds   []rows.Kind // of the columns
	Rows    [][]string
}

// List puts a query whose result is a list to work with, of at most so many rows.
func List(ctx context.Context, s Source, q Query, most int) (Listing, error) {
	l := &lister{most: most}
	_, err := s.Stream(ctx, q, "list", l)
	return l.Listing, err
}

type lister struct {
	Listing
	most int
}

// Columns implements rows.Sink.
func (l *lister) Columns(_ string, columns []rows.Column) error {
	for _, c := range columns {
		l.Listing.Columns = append(l.Listing.Columns, c.Name)
		l.Kinds = append(l.Kinds, c.Kind)
	}
	return nil
}

// Row implements rows.Sink.
func (l *lister) Row(r rows.Row) error {
	if len(l.Rows) >= l.most {
		return fault.New(fault.Task, "read the list", fmt.Sprintf("it has more than %d rows", l.most),
			"Restrict the query.")
	}
	row := make([]string, len(r))
	for i, c := range r {
		if !c.Null {
			row[i] = string(c.Text)
		}
	}
	l.Rows = append(l.Rows, row)
	return nil
}
