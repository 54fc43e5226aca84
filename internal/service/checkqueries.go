package service

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/report"
	"ironbell/internal/task"
)

// checkQueries lets the source describe each query. A source that cannot be
// reached right now keeps nobody from saving. It gives what the queries give.
func (ck *checks) checkQueries(ctx context.Context, v *fault.Invalid, d job.ReportDefinition) []job.Described {
	source, err := ck.sources.Get(ctx, d.Source, d.Identity)
	if f := fault.Of(err); err != nil && f.Scope == fault.Source && f.Class == fault.Passing {
		return nil
	}
	if err != nil {
		v.Add("source", "%s", err)
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, checkLimit)
	defer stop()
	describe := func(where, sql string, params []job.Parameter) ([]rows.Column, bool) {
		columns, err := source.Describe(ctx, report.Query{SQL: sql, Params: params, Zone: "UTC", Limit: checkLimit})
		if err != nil && fault.Of(err).Scope != fault.Source {
			v.Add(where, "%s", err)
		}
		return columns, err == nil
	}
	for i, p := range d.Parameters {
		if p.Choices == nil || p.Choices.SQL == "" {
			continue
		}
		where := fmt.Sprintf("parameters[%d].choices.sql", i)
		if columns, ok := describe(where, p.Choices.SQL, d.Parameters[:i]); ok && len(columns) > 2 {
			v.Add(where, "it gives %d columns; choices have a value and perhaps a label", len(columns))
		}
	}
	var found []job.Described
	for i, s := range d.Sections {
		where := fmt.Sprintf("sections[%d]", i)
		ck.checkSection(v, where, s, d.Parameters)
		for _, form := range []job.Form{job.FormWhole, job.FormDetail} {
			in := s.InForm(form)
			if form == job.FormDetail && s.Detail == nil || strings.TrimSpace(in.SQL) == "" {
				continue
			}
			at := where
			if form == job.FormDetail {
				at += ".detail"
			}
			columns, ok := describe(at+".sql", in.SQL, d.Parameters)
			if !ok {
				continue
			}
			given := job.Described{Section: s.Name, Form: form}
			for _, c := range columns {
				given.Columns = append(given.Columns, job.PreviewColumn{Name: c.Name, Kind: c.Kind})
			}
			found = append(found, given)
			if _, err := shape.Fit(s, form, columns); err != nil {
				addAll(v, at, err)
			}
			ck.checkText(v, where, s, d.Parameters, columns)
		}
		if s.SQL == "" {
			ck.checkText(v, where, s, d.Parameters, nil)
		}
	}
	return found
}

// checkSection tells what is wrong with a section's looks and texts, as far as
// they can be told without its source.
func (ck *checks) checkSection(v *fault.Invalid, where string, s job.Section, params []job.Parameter) {
	if _, err := expr.Parse(s.Title, task.Names(params)); err != nil {
		v.Add(where+".title", "%s", err)
	}
	for i, c := range s.Columns {
		if c.Date != "" {
			if err := locale.CheckDate(c.Date); err != nil {
				v.Add(fmt.Sprintf("%s.columns[%d].date", where, i),
					"the date form %q is not known; use forms such as %%d %%B %%Y", c.Date)
			}
		}
	}
}

// checkText tells what is wrong with the text of a section.
func (ck *checks) checkText(v *fault.Invalid, where string, s job.Section, params []job.Parameter,
	columns []rows.Column,
) {
	if s.Kind != job.SectionText {
		return
	}
	names := task.Names(params)
	for _, c := range columns {
		names.Columns = append(names.Columns, c.Name)
	}
	if _, err := expr.Parse(s.Text, names); err != nil {
		v.Add(where+".text", "%s", err)
	}
}

// addAll adds what another check found below a place.
func addAll(v *fault.Invalid, where string, err error) {
	var inner *fault.Invalid
	if !errors.As(err, &inner) {
		v.Add(where, "%s", err)
		return
	}
	for _, w := range inner.Wrong {
		v.Add(where+"."+w.Where, "%s", w.Sentence)
	}
}
