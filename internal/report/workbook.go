package report

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"

	"github.com/xuri/excelize/v2"
)

// Bounds of a workbook that is read as a table: its own size, what it unpacks to in all, and how
// much of one part is held in memory.
const (
	maxBook     = 64 << 20
	maxUnpacked = 1 << 30
	maxInMemory = 16 << 20
)

// dated finds numbers that a workbook shows as dates or times of day (ECMA-376 part 1, 18.17.4):
// nothing but their form tells them from others.
var dated = regexp.MustCompile(
	`(?i)^\d{1,4}[-/.]\d{1,2}[-/.]\d{1,4}\b|\d:\d\d|\b(jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)`)

// readXLSX reads the first sheet that is shown of a workbook: its first row that holds anything
// has the heads. Numbers stand as they are kept, without the marks and the rounding of their form;
// dates and times stand as they are shown, the usual forms of them as 2026-11-03 and 06:15:00.
func readXLSX(in io.Reader, _ Table) ([]string, func() ([]any, error), error) {
	data, err := io.ReadAll(io.LimitReader(in, maxBook+1))
	if err != nil {
		return nil, nil, fmt.Errorf("read the file: %w", err)
	}
	if len(data) > maxBook {
		return nil, nil, fmt.Errorf("the workbook has more than %d MB, and no more are read", maxBook>>20)
	}
	book, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{
		UnzipSizeLimit: maxUnpacked, UnzipXMLSizeLimit: maxInMemory,
		ShortDatePattern: "yyyy-mm-dd", LongDatePattern: "yyyy-mm-dd", LongTimePattern: "hh:mm:ss",
	})
	if err != nil {
		return nil, nil, fmt.Errorf("the file is no workbook that can be read: %w", err)
	}
	var sheet string
	for _, name := range book.GetSheetList() {
		if shown, err := book.GetSheetVisible(name); err == nil && shown {
			sheet = name
			break
		}
	}
	lines, err := book.Rows(sheet)
	var kept *excelize.Rows // the same rows, as they are kept
	if err == nil {
		kept, err = book.Rows(sheet)
	}
	if err != nil {
		_ = book.Close() // the error that counts is the first
		return nil, nil, fmt.Errorf("read the sheet %q: %w", sheet, err)
	}
	end := func(err error) error {
		_, _, _ = lines.Close(), kept.Close(), book.Close() // only read from
		return err
	}
	var heads []string
	for len(heads) == 0 {
		if !lines.Next() || !kept.Next() {
			return nil, nil, end(errors.New("the file is empty; its first row holds the heads of the columns"))
		}
		if heads, err = lines.Columns(); err == nil {
			_, err = kept.Columns()
		}
		if err != nil {
			return nil, nil, end(err)
		}
	}
	if len(heads) > maxFileColumns {
		return nil, nil, end(fmt.Errorf("the file has %d columns, and at most %d are read", len(heads), maxFileColumns))
	}
	heads = unlikeHeads(heads)
	return heads, func() ([]any, error) {
		if !lines.Next() || !kept.Next() {
			return nil, end(io.EOF)
		}
		cells, err := lines.Columns()
		if err != nil {
			return nil, end(err)
		}
		raw, err := kept.Columns(excelize.Options{RawCellValue: true})
		if err != nil {
			return nil, end(err)
		}
		row := make([]any, len(heads))
		for i, text := range cells[:min(len(cells), len(raw), len(heads))] {
			if _, err := strconv.ParseFloat(raw[i], 64); err == nil && !dated.MatchString(text) {
				text = raw[i]
			}
			if text != "" {
				row[i] = text
			}
		}
		return row, nil
	}, nil
}
