package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/task"
	"ironbell/internal/workbook"
)

// sentBook is a workbook that came with a report.
type sentBook struct {
	file job.WorkbookFile
	data []byte
}

// AddWorkbook keeps a workbook for reports: looked through in a process of its own,
// and kept as it is. The same file twice is one.
func (rp *Reports) AddWorkbook(ctx context.Context, who job.Person, name string, data []byte) (job.WorkbookFile, error) {
	if err := access.May(who, access.Write, "send workbooks", who.Login); err != nil {
		return job.WorkbookFile{}, err
	}
	v := &fault.Invalid{What: "the workbook"}
	CheckName(v, "name", name)
	sent, err := readBook(ctx, name, data)
	if err != nil {
		v.Add("data", "%s", err)
	}
	if err := v.Err(); err != nil {
		return job.WorkbookFile{}, err
	}
	return sent.file, rp.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, db.WorkbookLock); err != nil {
			return err
		}
		if err := keepBook(ctx, v, "data", t, sent); err != nil {
			return err
		}
		if err := v.Err(); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "add", "workbook", sent.file.ID, nil, map[string]any{"name": name, "size": sent.file.Size})
	})
}

// readBook looks a workbook through; the error says what is wrong with it.
func readBook(ctx context.Context, name string, data []byte) (sentBook, error) {
	facts, err := workbook.Examine(ctx, data)
	if err != nil {
		return sentBook{}, err //nolint:wrapcheck // it is a sentence for whoever sent the file
	}
	sum := sha256.Sum256(data)
	return sentBook{job.WorkbookFile{ID: hex.EncodeToString(sum[:]), Name: name, Size: int64(len(data)), WorkbookFacts: facts}, data}, nil
}

func keepBook(ctx context.Context, v *fault.Invalid, field string, t *store.Tx, b sentBook) error {
	err := t.KeepWorkbookFile(ctx, b.file, b.data)
	if errors.Is(err, db.ErrFull) {
		v.Add(field, "%d workbooks, of %d GB together, are kept at most; one that no report has goes after 30 days", db.MostWorkbooks,
			db.MostWorkbookBytes>>30)
		return nil
	}
	return err
}

// readBooks looks the workbooks through that came within a report, and names them by their numbers.
func readBooks(ctx context.Context, v *fault.Invalid, d job.ReportDefinition) (job.ReportDefinition, []sentBook, error) {
	d.Workbooks = slices.Clone(d.Workbooks)
	var sent []sentBook
	for i := range d.Workbooks {
		w := &d.Workbooks[i]
		at := fmt.Sprintf("workbooks[%d]", i)
		CheckName(v, at+".name", w.Name)
		if slices.ContainsFunc(d.Workbooks[:i], func(o job.Workbook) bool { return o.Name == w.Name }) {
			v.Add(at+".name", "there are two workbooks %q; give one another name", w.Name)
		}
		if len(w.Data) == 0 {
			if w.File == "" {
				v.Add(at+".file", "send the workbook first (POST /api/workbooks), and name it by its number")
			}
			continue
		}
		one, err := readBook(ctx, w.Name+".xlsx", w.Data)
		if ctx.Err() != nil {
			return d, nil, context.Cause(ctx)
		}
		if err != nil {
			v.Add(at+".data", "%s", err)
			continue
		}
		w.File, w.Data = one.file.ID, nil
		sent = append(sent, one)
	}
	return d, sent, nil
}

// planBooks tells what the workbooks of a report take, and what does not fit.
func (rp *Reports) planBooks(ctx context.Context, v *fault.Invalid, s saving, given []job.Described) ([]job.WorkbookPlan, error) {
	all := []job.WorkbookPlan{}
	for i, w := range s.d.Workbooks {
		if w.File == "" {
			continue
		}
		at := fmt.Sprintf("workbooks[%d]", i)
		var file job.WorkbookFile
		if n := slices.IndexFunc(s.books, func(b sentBook) bool { return b.file.ID == w.File }); n >= 0 {
			file = s.books[n].file
		} else {
			var err error
			file, err = rp.store.WorkbookFile(ctx, w.File)
			if db.IsMissing(err) {
				v.Add(at+".file", "there is no workbook of this number; one that no report has goes after 30 days: send it again (POST /api/workbooks)")
				continue
			}
			if err != nil {
				return nil, err
			}
		}
		for n, c := range w.Cells {
			if _, err := expr.Parse(c.Text, task.Names(s.d.Parameters)); err != nil {
				v.Add(fmt.Sprintf("%s.cells[%d].text", at, n), "%s", err)
			}
		}
		all = append(all, s.d.Plan(v, at, w, file, given))
	}
	return all, nil
}

// holdBooks keeps the workbooks of a report that is being saved.
func holdBooks(ctx context.Context, v *fault.Invalid, t *store.Tx, d job.ReportDefinition, sent []sentBook) error {
	if len(d.Workbooks) == 0 {
		return nil
	}
	if err := t.LockSetting(ctx, db.WorkbookLock); err != nil {
		return err
	}
	for _, b := range sent {
		if err := keepBook(ctx, v, "workbooks", t, b); err != nil {
			return err
		}
	}
	if err := v.Err(); err != nil {
		return err
	}
	for i, w := range d.Workbooks {
		_, err := t.WorkbookFile(ctx, w.File)
		if db.IsMissing(err) {
			v.Add(fmt.Sprintf("workbooks[%d].file", i), "it was removed just now; send it again")
			return v.Err()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Plans tell what the workbooks of a saved report take.
func (rp *Reports) Plans(ctx context.Context, r job.Report) ([]job.WorkbookPlan, error) {
	if len(r.Workbooks) == 0 {
		return []job.WorkbookPlan{}, nil
	}
	v := &fault.Invalid{}
	given := rp.checks.checkQueries(ctx, v, r.ReportDefinition)
	return rp.planBooks(ctx, v, saving{d: r.ReportDefinition}, given)
}

// Workbook gives a workbook of a report as it was sent.
func (rp *Reports) Workbook(ctx context.Context, who job.Person, report, name string) (job.WorkbookFile, []byte, error) {
	r, err := rp.store.Report(ctx, report)
	if err != nil {
		return job.WorkbookFile{}, nil, err
	}
	if err := access.May(who, access.Write, "take workbooks of the report "+r.Name, r.Owner); err != nil {
		return job.WorkbookFile{}, nil, err
	}
	w, ok := r.Workbook(name)
	if !ok {
		v := &fault.Invalid{What: "the workbook"}
		var names []string
		for _, o := range r.Workbooks {
			names = append(names, o.Name)
		}
		v.Add("workbook", "the report %q has no workbook %q; it has %s", r.Name, name, cmp.Or(strings.Join(names, ", "), "none"))
		return job.WorkbookFile{}, nil, v.Err()
	}
	f, err := rp.store.WorkbookFile(ctx, w.File)
	if err != nil {
		return f, nil, err
	}
	data, err := rp.store.WorkbookData(ctx, w.File)
	return f, data, err
}

// InFile is a report as it stands in a file: with its workbooks, where these are small.
func (rp *Reports) InFile(ctx context.Context, r job.Report) (job.ReportDefinition, error) {
	d := r.ReportDefinition
	d.Workbooks = slices.Clone(d.Workbooks)
	for i, w := range d.Workbooks {
		f, err := rp.store.WorkbookFile(ctx, w.File)
		if err != nil {
			return d, err
		}
		if f.Size > mostCarried {
			continue
		}
		if d.Workbooks[i].Data, err = rp.store.WorkbookData(ctx, w.File); err != nil {
			return d, err
		}
	}
	return d, nil
}
