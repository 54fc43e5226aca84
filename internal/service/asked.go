package service

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/store/db"
)

// Asked is a value that a job takes, with what it would be by itself.
type Asked struct {
	job.Offered
	BySelf any    // the value that it has when nobody gives one
	From   string // whose that value is: trigger, job, report, or nothing
}

// AskedValues are the values of a job for one ring.
type AskedValues struct {
	Zone    string
	Nominal time.Time // the date that they are reckoned for
	Values  []Asked
}

// AskFor says for which ring of a job its values are asked.
type AskFor struct {
	Trigger int        // its place among the job's triggers; -1 for none
	Nominal time.Time  // the next ring of the trigger, or now, when zero
	Given   job.Values // what goes before all else
}

// Asked tells which values a job takes, what each would be by itself for a ring and why,
// the choices that there are, and what is wrong with it. It may ask sources for choices.
// Without a definition it is the job as it is saved.
func (js *Jobs) Asked(ctx context.Context, who job.Person, name string, d *job.Definition, f AskFor,
) (AskedValues, error) {
	owner := who.Login
	saved, err := js.store.Job(ctx, name)
	switch {
	case err == nil:
		owner = saved.Owner
	case d == nil || !db.IsMissing(err):
		return AskedValues{}, err
	}
	if d == nil {
		d = &saved.Definition
	}
	if err := access.May(who, access.Write, "see what the job asks for", owner); err != nil {
		return AskedValues{}, err
	}
	place, err := zone.Load(d.Zone)
	if err != nil {
		v := &fault.Invalid{What: "the values"}
		v.Add("zone", "%s", err)
		return AskedValues{}, v.Err()
	}
	if err := js.times.Refresh(ctx, js.store); err != nil {
		return AskedValues{}, err
	}
	var own job.Values
	if f.Trigger >= 0 && f.Trigger < len(d.Triggers) {
		own = d.Triggers[f.Trigger].Values
	}
	out := AskedValues{Zone: d.Zone, Nominal: js.askedDate(*d, f).In(place), Values: []Asked{}}
	values := f.Given.Over(own.Over(d.Values))
	offers, err := js.askedOffers(ctx, who, *d, values, out.Nominal)
	if err != nil {
		return out, err
	}
	for _, o := range offers {
		a := Asked{Offered: o, BySelf: o.Default, From: "report"}
		if v, ok := own[o.Name]; ok {
			a.BySelf, a.From = v, "trigger"
		} else if v, ok := d.Values[o.Name]; ok {
			a.BySelf, a.From = v, "job"
		} else if o.Default == nil {
			a.From = "nothing"
		}
		out.Values = append(out.Values, a)
	}
	return out, nil
}

// askedDate is the date for which values are reckoned.
func (js *Jobs) askedDate(d job.Definition, f AskFor) time.Time {
	if !f.Nominal.IsZero() {
		return f.Nominal
	}
	now := js.now()
	if f.Trigger >= 0 && f.Trigger < len(d.Triggers) && d.Triggers[f.Trigger].Rule != "" {
		if r, err := js.times.Rule(d.Triggers[f.Trigger].Timing, d.Zone, d.Calendars); err == nil {
			if due, ok := r.Next(now); ok {
				next, _ := r.Step(due.Add(-1))
				return next.Nominal
			}
		}
	}
	return now
}

// askedOffers lists the parameters of all that a job does, each once, with what its value
// comes to.
func (js *Jobs) askedOffers(ctx context.Context, who job.Person, d job.Definition, values job.Values, at time.Time,
) ([]job.Offered, error) {
	params, err := js.checks.parameters(ctx, d)
	if err != nil {
		return nil, err
	}
	found := map[string]job.Offered{}
	for _, t := range d.Tasks {
		if t.Report == nil {
			continue
		}
		rep, err := js.checks.report(ctx, t.Report.Report)
		if db.IsMissing(err) {
			continue // it is told of as wrong when the job is checked
		}
		if err != nil {
			return nil, err
		}
		offers, err := js.reports.Offers(ctx, who, Look{
			Report: rep.Name, Identity: plain(t.Report.Identity), Values: only(rep.Parameters, values),
			Zone: d.Zone, Calendars: d.Calendars, Date: at,
		})
		if err != nil {
			// Whoever may not read the source, or while it is down, still sees what is asked.
			if offers, err = unasked(rep.Parameters, values, at, js, d, err); err != nil {
				return nil, err
			}
		}
		for _, o := range offers {
			if _, ok := found[o.Name]; !ok {
				found[o.Name] = o
			}
		}
	}
	out := make([]job.Offered, 0, len(params))
	seen := map[string]bool{}
	for _, p := range params {
		if seen[p.Name] {
			continue
		}
		seen[p.Name] = true
		o, ok := found[p.Name]
		if !ok {
			all, err := unasked([]job.Parameter{p}, values, at, js, d, nil)
			if err != nil {
				return nil, err
			}
			o = all[0]
		}
		out = append(out, o)
	}
	return out, nil
}

// unasked reckons values without asking any source; why says why it was not asked.
func unasked(params []job.Parameter, values job.Values, at time.Time, js *Jobs, d job.Definition, why error,
) ([]job.Offered, error) {
	out := make([]job.Offered, 0, len(params))
	for i, p := range params {
		o := job.Offered{Parameter: p}
		if p.Choices != nil && p.Choices.SQL == "" {
			o.Offers = p.Choices.List
		}
		bound, err := job.Bind(params[i:i+1], values, at, js.times.Frame(d.Calendars))
		var wrong *fault.Invalid
		switch {
		case errors.As(err, &wrong):
			o.Trouble = wrong.Wrong[0].Sentence
		case err != nil:
			return nil, err
		case why != nil && p.Choices != nil && p.Choices.SQL != "":
			o.Trouble = "its choices cannot be read: " + why.Error()
		}
		if len(bound) > 0 {
			o.Bound = &bound[0]
		}
		out = append(out, o)
	}
	return out, nil
}

// only leaves those values that parameters take.
func only(params []job.Parameter, values job.Values) job.Values {
	out := maps.Clone(values)
	maps.DeleteFunc(out, func(name string, _ any) bool {
		return !slices.ContainsFunc(params, func(p job.Parameter) bool { return p.Name == name })
	})
	return out
}

// plain is an identity's name, unless it has moving parts: those are known when a part runs.
func plain(identity string) string {
	if strings.Contains(identity, "{") {
		return ""
	}
	return identity
}
