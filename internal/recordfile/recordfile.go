// Package recordfile is the form in which a record stands in a file: a job, a report, a
// destination, any record that people edit. It is YAML 1.2 with one record in one file:
//
//	ironbell: 1                      # number of the form
//	record: job Morning departures   # kind, a blank, name
//	owner: mara                      # and from here on what the API takes of such a record
//
// A file is meant for people and for version control: fields stand in the order of the
// record, what is as it would be anyway is left out, texts of several lines stand as they
// are. What YAML could read in two ways is refused and not guessed: anchors and aliases,
// tags, a key that comes twice, digits like 007. A third field, revision, may stand in the
// head: the record is then saved only while it has that revision.
//
// The package knows the form and no kind of record. Whatever it finds wrong has a line and
// a column, and it finds the line and column of a place such as tasks[0].report that
// others find something wrong with.
package recordfile

import (
	"fmt"
	"strings"
)

// Form is the number of the form that is written, and the only one that is read.
const Form = 1

// Bounds of a file.
const (
	MaxBytes = 4 << 20
	maxDepth = 60
	maxWrong = 50 // faults that are told at once
)

// The fields of a head.
const (
	formField     = "ironbell"
	recordField   = "record"
	revisionField = "revision"
)

// File is a record as it stood in a file.
type File struct {
	Kind, Name string
	Revision   *int64 // from which the change began; nil when the file does not say
	Body       []byte // what is said of the record, as a JSON object

	top *node
}

// Wrong is one thing that is wrong with a file. Line and Column count from 1, Column in
// characters; both are 0 when it is no place in the file.
type Wrong struct {
	Line, Column int
	Where        string // place in the record, such as tasks[0].kind; empty in what is no record yet
	Sentence     string
}

// Invalid says what is wrong with a file.
type Invalid struct {
	Wrong []Wrong
	More  int // faults that are not told
}

func (e *Invalid) Error() string {
	lines := make([]string, 0, len(e.Wrong)+1)
	for _, w := range e.Wrong {
		lines = append(lines, w.String())
	}
	if e.More > 0 {
		lines = append(lines, fmt.Sprintf("and %d more", e.More))
	}
	return strings.Join(lines, "\n")
}

// String is "line 12, column 7: triggers[0].rule: …".
func (w Wrong) String() string {
	text := w.Sentence
	if w.Where != "" {
		text = w.Where + ": " + text
	}
	if w.Line > 0 {
		text = fmt.Sprintf("line %d, column %d: %s", w.Line, w.Column, text)
	}
	return text
}

func (e *Invalid) add(line, column int, where, sentence string, args ...any) {
	if len(e.Wrong) >= maxWrong {
		e.More++
		return
	}
	e.Wrong = append(e.Wrong, Wrong{line, column, where, fmt.Sprintf(sentence, args...)})
}

// Misfit makes an error of what others found wrong with the record, and where. A place that
// is not in the file is told at the nearest one that holds it.
func (f File) Misfit(wrong []Wrong) *Invalid {
	e := &Invalid{}
	for _, w := range wrong {
		line, column := f.At(w.Where)
		e.add(line, column, w.Where, "%s", w.Sentence)
	}
	return e
}

// At is the line and column of a place such as tasks[0].report.outputs[1]; of the nearest
// one that holds it when it is not in the file, and of the record's name when it is none.
func (f File) At(where string) (line, column int) {
	at := f.top.field(recordField)
	for n, rest := f.top, where; rest != ""; {
		var ok bool
		if n, rest, ok = n.step(rest); !ok {
			break
		}
		at = n
	}
	if at == nil {
		return 1, 1
	}
	return at.line, at.column
}
