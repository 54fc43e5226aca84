package task

import (
	"context"
	"fmt"
	"io"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/render"
	"ironbell/internal/store/db"
	"ironbell/internal/workbook"
)

// Books keeps the workbooks of owners.
type Books interface {
	WorkbookFile(ctx context.Context, id string) (job.WorkbookFile, error)
	WorkbookData(ctx context.Context, id string) ([]byte, error)
}

// checkWorkbook tells what is wrong with the workbook that an output fills.
func checkWorkbook(v *fault.Invalid, at string, r job.Report, o job.Output) {
	if o.Workbook == "" {
		return
	}
	if len(o.Sections) > 0 {
		v.Add(at+".sections", "the workbook %q says which sections it takes; leave them out", o.Workbook)
	}
	if _, ok := r.Workbook(o.Workbook); ok {
		return
	}
	var names []string
	for _, w := range r.Workbooks {
		names = append(names, w.Name)
	}
	switch {
	case r.Name == "":
		v.Add(at+".workbook", "a workbook belongs to a report, and there is none here")
	case len(names) == 0:
		v.Add(at+".workbook", "the report %q has no workbooks; add %q to the report first", r.Name, o.Workbook)
	default:
		v.Add(at+".workbook", "the report %q has no workbook %q; it has %s", r.Name, o.Workbook, strings.Join(names, ", "))
	}
}

// checkValuesOnly tells where values are to stand in place of formulas that are not reckoned here.
func (c *Checking) checkValuesOnly(ctx context.Context, where string, r job.Report, outputs []job.Output) error {
	for i, o := range outputs {
		w, ok := r.Workbook(o.Workbook)
		if !o.Values || !ok {
			continue
		}
		file, err := c.Store.WorkbookFile(ctx, w.File)
		if db.IsMissing(err) {
			continue // the report says so
		}
		if err != nil {
			return err
		}
		if len(file.Unreckoned) > 0 {
			c.V.Add(fmt.Sprintf("%s.outputs[%d].values_only", where, i), "%s; leave values_only out, or change the formula", file.Unreckoned[0])
		}
	}
	return nil
}

// filling is what a report puts into one of its workbooks.
func (k *Report) filling(ctx context.Context, rep job.Report, name string) (job.WorkbookFile, job.Filling, error) {
	w, ok := rep.Workbook(name)
	if !ok || k.Books == nil {
		return job.WorkbookFile{}, job.Filling{}, fault.New(fault.Task, "fill the workbook "+name,
			fmt.Sprintf("the report %q has no workbook %q", rep.Name, name), "Add it to the report, or correct the output in the job.")
	}
	file, err := k.Books.WorkbookFile(ctx, w.File)
	if err != nil {
		class := fault.Passing
		if db.IsMissing(err) {
			class = fault.Lasting
		}
		return file, job.Filling{}, fault.Wrap(err, class, fault.Task, "fill the workbook "+name, "Send the workbook again, if it is gone.")
	}
	v := &fault.Invalid{What: fmt.Sprintf("workbook %q", name)}
	f := rep.Filling(v, "workbook", w, file.WorkbookFacts)
	if err := v.Err(); err != nil {
		return file, f, fault.Wrap(err, fault.Lasting, fault.Task, "fill the workbook "+name, "Correct the workbook in the report.")
	}
	return file, f, nil
}

// book reads a workbook of a report that is to be filled.
func (k *Report) book(ctx context.Context, rep job.Report, name string) (*render.Book, error) {
	file, f, err := k.filling(ctx, rep, name)
	if err != nil {
		return nil, err
	}
	data, err := k.Books.WorkbookData(ctx, file.ID)
	if err != nil {
		return nil, fault.Wrap(err, fault.Passing, fault.Task, "read the workbook "+name, "Try it again; send the workbook again if that does not help.")
	}
	return &render.Book{
		Name: name, Data: data, Facts: file.WorkbookFacts, Filling: f,
		Fill: func(filler *workbook.Filler, o workbook.Order, to io.Writer) ([]string, error) {
			return filler.Fill(ctx, o, to)
		},
	}, nil
}
