package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"ironbell/internal/core/job"
	"ironbell/internal/core/shape"
	"ironbell/internal/render"
	"ironbell/internal/workbook"

	"github.com/xuri/excelize/v2"
)

// ownWorkbook is what the gallery calls the form of a report that fills a workbook.
const ownWorkbook = "own workbook"

// own is a workbook as somebody could supply it for sections: a sheet for each, with a
// named table of their columns, one that reckons, and what it comes to above them.
func own(sections []section) (*render.Book, error) {
	f := excelize.NewFile()
	defer func() { _ = f.Close() }() // nothing of it is on disk
	var fills job.Filling
	first := ""
	for n, s := range sections {
		plan, err := shape.Fit(s.Section, s.form, s.columns)
		if err != nil || len(plan.Columns) == 0 || plan.Kind == job.SectionText ||
			slices.ContainsFunc(fills.Tables, func(t job.FilledTable) bool { return t.Section == s.Name && t.Form == s.form }) {
			continue // it has no rows, or others have its name
		}
		name := fmt.Sprintf("Rows_%d", n+1)
		if err := ownSheet(f, name, plan); err != nil {
			return nil, err
		}
		fills.Tables = append(fills.Tables, job.FilledTable{Table: name, Section: s.Name, Form: s.form})
		if first == "" {
			first = name
		}
	}
	if first == "" {
		return nil, errors.New("it has no rows that a table could take")
	}
	err := f.DeleteSheet("Sheet1")
	if err == nil {
		err = f.SetDefinedName(&excelize.DefinedName{Name: "as_of", RefersTo: first + "!$C$1"})
	}
	if err != nil {
		return nil, fmt.Errorf("write the workbook: %w", err)
	}
	fills.Cells = append(fills.Cells, job.FilledCell{Cell: "as_of", Value: job.FactAsOf})
	var data bytes.Buffer
	if err := f.Write(&data); err != nil {
		return nil, fmt.Errorf("write the workbook: %w", err)
	}
	facts, err := workbook.Examine(context.Background(), data.Bytes())
	return &render.Book{
		Name: ownWorkbook, Data: data.Bytes(), Facts: facts, Filling: fills,
		Fill: func(filler *workbook.Filler, o workbook.Order, to io.Writer) ([]string, error) {
			return filler.Fill(context.Background(), o, to)
		},
	}, err
}

func ownSheet(f *excelize.File, name string, plan *shape.Plan) error {
	if _, err := f.NewSheet(name); err != nil {
		return fmt.Errorf("add a sheet: %w", err)
	}
	heads := map[string]bool{}
	reckons := ""
	for i, c := range plan.Columns {
		at, err := excelize.CoordinatesToCellName(i+1, 3)
		if err != nil {
			return fmt.Errorf("place a head: %w", err)
		}
		head := c.Head()
		if heads[head] {
			head += " again"
		}
		if heads[head] = true; c.Kind.Numeric() && reckons == "" {
			reckons, _ = excelize.CoordinatesToCellName(i+1, 4)
		}
		if err := f.SetCellValue(name, at, head); err != nil {
			return fmt.Errorf("write a head: %w", err)
		}
	}
	last, err := excelize.CoordinatesToCellName(len(plan.Columns)+1, 3)
	if err == nil {
		err = f.SetCellValue(name, last, "Twice")
	}
	end, _ := excelize.CoordinatesToCellName(len(plan.Columns)+1, 4)
	if err == nil && reckons != "" {
		err = f.SetCellFormula(name, end, reckons+"*2")
	}
	if err == nil {
		err = f.SetCellFormula(name, "A1", "\"Rows: \"&ROWS("+name+")")
	}
	if err == nil {
		err = f.AddTable(name, &excelize.Table{Range: "A3:" + end, Name: name, StyleName: "TableStyleMedium2"})
	}
	if err != nil {
		return fmt.Errorf("write a sheet: %w", err)
	}
	return nil
}
