package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/report"
	"ironbell/internal/store/db"
)

// checkValues checks the values of a job, overlaid by given ones, against the
// parameters of all its reports. all asks for every required one.
func (ck *checks) checkValues(ctx context.Context, v *fault.Invalid, where string, d job.Definition, given job.Values,
	all bool,
) error {
	zone, err := zone.Load(d.Zone)
	if err != nil {
		return nil //nolint:nilerr // the zone is told of elsewhere
	}
	params, err := ck.parameters(ctx, d)
	if err != nil {
		return err
	}
	if unknown := job.Unknown(params, given); len(unknown) > 0 {
		known, err := ck.splitNames(ctx, &fault.Invalid{}, d)
		if err != nil {
			return err
		}
		known = append(known, d.Own...)
		for _, name := range unknown {
			if !slices.Contains(known, name) {
				v.Add(where+"."+name, "%s; a value of the job's own is named in own", job.NoParameter(params, name))
			}
		}
	}
	_, err = job.Bind(params, given.Over(d.Values), ck.now().In(zone), ck.times.Frame(d.Calendars))
	var wrong *fault.Invalid
	if errors.As(err, &wrong) {
		// What each part has of its own is given when the run is divided.
		own := []string{}
		if all && d.Split.Each != "" {
			if own, err = ck.splitNames(ctx, &fault.Invalid{}, d); err != nil {
				return err
			}
		}
		for _, w := range wrong.Wrong {
			if slices.Contains(own, w.Where) {
				continue
			}
			value := given.Over(d.Values)[w.Where]
			if !all && (value == nil || value == "") {
				continue // a job that is off may be unfinished
			}
			if _, here := given[w.Where]; here || all {
				v.Add(where+"."+w.Where, "%s", w.Sentence)
			}
		}
	}
	return nil
}

// checkChoices checks the values of a job against the choices that come from
// queries. A source that does not answer now keeps nobody from switching on.
func (ck *checks) checkChoices(ctx context.Context, v *fault.Invalid, where string, d job.Definition,
	given job.Values,
) error {
	zone, err := zone.Load(d.Zone)
	if err != nil {
		return nil //nolint:nilerr // the zone is told of elsewhere
	}
	values := given.Over(d.Values)
	// One without any value is told of elsewhere.
	asked := func(p job.Parameter) bool {
		return p.Choices != nil && p.Choices.SQL != "" && (values[p.Name] != nil || p.Default != nil) &&
			d.Split.Each == ""
	}
	for _, t := range d.Tasks {
		if t.Report == nil {
			continue
		}
		r, err := ck.report(ctx, t.Report.Report)
		if db.IsMissing(err) || err == nil && !slices.ContainsFunc(r.Parameters, asked) {
			continue
		}
		if err != nil {
			return err
		}
		source, err := ck.sources.Get(ctx, r.Source, cmp.Or(t.Report.Identity, r.Identity))
		if err != nil {
			continue // its next run says why
		}
		q := report.Query{Params: r.Parameters, Zone: zone.String(), Limit: checkLimit}
		_, err = report.Bind(ctx, source, q, values, ck.now().In(zone), ck.times.Frame(d.Calendars))
		var wrong *fault.Invalid
		if !errors.As(err, &wrong) {
			continue
		}
		for _, w := range wrong.Wrong {
			if slices.ContainsFunc(r.Parameters, func(p job.Parameter) bool { return p.Name == w.Where && asked(p) }) {
				v.Add(where+"."+w.Where, "%s", w.Sentence)
			}
		}
	}
	return nil
}

// checkReady tells what keeps a job from being switched on: nobody is there at
// night to answer a prompt.
func (ck *checks) checkReady(ctx context.Context, v *fault.Invalid, owner string, d job.Definition) error {
	p, _, err := ck.store.PersonByLogin(ctx, owner)
	if err != nil {
		return err
	}
	if p.Mail == "" {
		v.Add("owner", "%s has no mail address, so nobody would hear of a failure; add one", p.Name)
	}
	if len(d.Triggers) == 0 {
		if err := ck.checkChoices(ctx, v, "values", d, nil); err != nil {
			return err
		}
		return ck.checkValues(ctx, v, "values", d, nil, true)
	}
	for i, t := range d.Triggers {
		where := fmt.Sprintf("triggers[%d].values", i)
		found := &fault.Invalid{}
		if t.Wait == nil || len(t.Wait.Take) == 0 { // otherwise the event gives values of its own
			if err := ck.checkChoices(ctx, found, where, d, t.Values); err != nil {
				return err
			}
		}
		if err := ck.checkValues(ctx, found, where, d, t.Values, true); err != nil {
			return err
		}
		for _, w := range found.Wrong {
			if t.Wait != nil {
				if _, taken := t.Wait.Take[strings.TrimPrefix(w.Where, where+".")]; taken {
					continue // the event will give it
				}
			}
			v.Wrong = append(v.Wrong, w)
		}
		if t.Rule == "" {
			continue
		}
		r, err := ck.times.Rule(t.Timing, d.Zone, d.Calendars)
		if err != nil {
			continue // told of elsewhere
		}
		if _, ok := r.Next(ck.now()); !ok {
			v.Add(fmt.Sprintf("triggers[%d].rule", i), "%q never rings again", t.Rule)
		}
	}
	return nil
}
