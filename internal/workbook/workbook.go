// Package workbook fills spreadsheets that owners supply (ECMA-376): named cells
// take values, named tables take rows, and their own formulas, charts and layout
// go on working. All that is not filled stays as it is, byte by byte. What a
// stranger sent is read in a process of its own (internal/aside).
package workbook

import (
	"bytes"
	"context"
	"encoding/gob"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"ironbell/internal/aside"
	"ironbell/internal/core/job"
)

// Task is the name of what reads and fills workbooks in a process of its own.
const Task = "workbook"

// Bounds of that process, and of what a workbook takes.
const (
	lookTime  = 60 * time.Second
	fillTime  = 240 * time.Second
	room      = 3 << 30 // bytes of memory
	mostFacts = 4 << 20
	mostMade  = 256 << 20

	MaxRows  = 100_000   // of all tables of a workbook
	MaxCells = 2_000_000 // of all rows
)

// Do does Task.
func Do(out io.Writer, about string, in io.Reader) error {
	if about == "fill" {
		return doFill(out, in)
	}
	data, err := io.ReadAll(io.LimitReader(in, MaxPacked+1))
	if err != nil {
		return fmt.Errorf("read it: %w", err)
	}
	return doLook(out, data)
}

// Examine looks a workbook through. The error says what is wrong with it, or why
// it is not taken. The program must do Do aside, by the name Task.
func Examine(ctx context.Context, data []byte) (f job.WorkbookFacts, err error) {
	if len(data) == 0 || len(data) > MaxPacked {
		return f, fmt.Errorf("it has %d bytes; a workbook has at most %d MB", len(data), MaxPacked>>20)
	}
	out, err := aside.Do(ctx, Task, "look", data, aside.Bounds{Time: lookTime, Memory: room, Most: mostFacts})
	if err != nil {
		return f, inOneSentence(err)
	}
	if err := json.Unmarshal(out, &f); err != nil {
		return f, fmt.Errorf("read what was found in it: %w", err)
	}
	return f, nil
}

// inOneSentence is an error of a process aside: when it broke down rather than said what
// is wrong, that is all that is to be told.
func inOneSentence(err error) error {
	if errors.Is(err, aside.ErrTooMuch) {
		return errors.New("it has more tables and names, or becomes larger, than is taken")
	}
	if strings.Contains(err.Error(), "\n") {
		return errors.New("it cannot be read within the memory that there is for it")
	}
	return err
}

// Filler takes the rows of a workbook's tables and then fills it. It belongs to
// one goroutine, and is to be dropped.
type Filler struct {
	spool *os.File // the rows, as they are read aside
	put   *gob.Encoder
	rows  int
	cells int
}

// ErrFull says that a workbook takes no more rows.
var ErrFull = fmt.Errorf("it takes at most %d rows, of %d cells together", MaxRows, MaxCells)

// Row keeps a row of one of the tables. The error is ErrFull when it is one too many.
func (f *Filler) Row(r Row) error {
	f.rows++
	if f.cells += len(r.Cells); f.rows > MaxRows || f.cells > MaxCells {
		return ErrFull
	}
	if f.spool == nil {
		file, err := os.CreateTemp("", "ironbell-rows-")
		if err != nil {
			return fmt.Errorf("keep the rows of a workbook: %w", err)
		}
		f.spool = file
		if err := os.Remove(file.Name()); err != nil { // nothing is left of it, whatever comes
			return fmt.Errorf("keep the rows of a workbook: %w", err)
		}
		f.put = gob.NewEncoder(file)
	}
	if err := f.put.Encode(r); err != nil {
		return fmt.Errorf("keep the rows of a workbook: %w", err)
	}
	return nil
}

// Drop forgets the rows.
func (f *Filler) Drop() {
	if f.spool != nil {
		_ = f.spool.Close() // it has no name any more
		f.spool = nil
	}
}

// Fill writes the filled workbook and tells what a reader should know of it.
func (f *Filler) Fill(ctx context.Context, order Order, to io.Writer) ([]string, error) {
	var first bytes.Buffer
	if err := gob.NewEncoder(&first).Encode(order); err != nil {
		return nil, fmt.Errorf("say what is to be filled: %w", err)
	}
	in := io.Reader(&first)
	if f.spool != nil {
		if _, err := f.spool.Seek(0, io.SeekStart); err != nil {
			return nil, fmt.Errorf("read the rows of a workbook: %w", err)
		}
		in = io.MultiReader(&first, f.spool)
	}
	split := &afterLine{to: to}
	if err := aside.Pipe(ctx, Task, "fill", in, split, aside.Bounds{Time: fillTime, Memory: room, Most: mostMade}); err != nil {
		return nil, inOneSentence(err)
	}
	var told Told
	if err := json.Unmarshal(split.line, &told); err != nil {
		return nil, fmt.Errorf("read what came of it: %w", err)
	}
	return told.Says, nil
}

// afterLine keeps the first line and lets what follows through.
type afterLine struct {
	line []byte
	done bool
	to   io.Writer
}

func (a *afterLine) Write(p []byte) (int, error) {
	n := len(p)
	if !a.done {
		at := bytes.IndexByte(p, '\n')
		if at < 0 {
			a.line = append(a.line, p...)
			return n, nil
		}
		a.line, a.done, p = append(a.line, p[:at]...), true, p[at+1:]
	}
	if _, err := a.to.Write(p); err != nil {
		return 0, err //nolint:wrapcheck // of whom it is written for
	}
	return n, nil
}
