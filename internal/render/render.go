// Package render turns rows into files. Each format stands in a file of its
// own and in one line of the table below. A writer streams: its memory does not
// grow with the number of rows.
package render

import (
	"fmt"
	"io"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
)

// Head is what a file says of itself.
type Head struct {
	Report string
	Run    string // the run's number
	AsOf   time.Time
	Values []job.Bound
	Files  []string // the files beside it, for a table in a mail that is cut short; set before Close
}

// Writer makes one file out of one or more sections. It belongs to one
// goroutine. Close finishes the file and must be called once.
type Writer interface {
	rows.Sink
	Close() error
}

// Format is a form of output.
type Format struct {
	Name      string
	MediaType string
	Ending    string // of file names, with its dot
	Split     bool   // a file holds one section only
	New       func(io.Writer, *Head) (Writer, error)
}

// formats is the table of all formats.
var formats = []Format{
	{Name: "csv", MediaType: "text/csv; charset=utf-8", Ending: ".csv", Split: true, New: newCSV},
	{Name: "xlsx", MediaType: "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", Ending: ".xlsx", New: newXLSX},
	{Name: MailTable, MediaType: "text/html; charset=utf-8", Ending: ".html", New: newMailTable},
}

// MailTable is the name of the format that stands in the body of a mail.
const MailTable = "html-mail"

// ByName finds a format.
func ByName(name string) (Format, error) {
	for _, f := range formats {
		if f.Name == name {
			return f, nil
		}
	}
	return Format{}, fmt.Errorf("there is no format %q; there are csv, xlsx and html-mail", name)
}
