package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/civil"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
	"ironbell/internal/core/zone"
	"ironbell/internal/report"
	"ironbell/internal/task"
)

// Look is how somebody looks at a report.
type Look struct {
	Report     string                // name of a saved one
	Definition *job.ReportDefinition // or one that is being written
	Identity   string                // in place of the report's
	Values     job.Values
	Zone       string    // in which moments are reckoned; that of the person when empty
	Date       time.Time // the nominal date; now when zero
	Calendars  []string  // of open days; Monday to Friday when empty
}

// looking is a report that somebody may look at, with its open source.
type looking struct {
	rep    job.Report
	source report.Source
	query  report.Query
	at     time.Time
	frame  moment.Frame
}

// lookLimit is how long a query may take while somebody waits for it.
const lookLimit = 2 * time.Minute

// lookBytes is how large an answer may be that somebody looks at.
const lookBytes = 64 << 20

func (rp *Reports) look(ctx context.Context, who job.Person, l Look) (looking, error) {
	out := looking{frame: rp.times.Frame(l.Calendars)}
	if err := access.May(who, access.Write, "look at reports", who.Login); err != nil {
		return out, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("report %q", l.Report)}
	var err error
	if l.Definition != nil {
		out.rep = job.Report{Name: cmp.Or(l.Report, "new report"), ReportDefinition: *l.Definition}
		out.rep.Check(v)
	} else if out.rep, err = rp.store.Report(ctx, l.Report); err != nil {
		return out, err
	}
	k := &task.Checking{V: v, Store: rp.store, Who: who}
	out.rep.Identity = cmp.Or(l.Identity, out.rep.Identity)
	if err := k.May(ctx, "identity", out.rep.Source, out.rep.Identity, ""); err != nil {
		return out, err
	}
	if err := v.Err(); err != nil {
		return out, err
	}
	for _, name := range job.Unknown(out.rep.Parameters, l.Values) {
		v.Add("values."+name, "%s", job.NoParameter(out.rep.Parameters, name))
	}
	if err := v.Err(); err != nil {
		return out, err
	}
	place, err := zone.Load(cmp.Or(l.Zone, who.Zone))
	if err != nil {
		v.Add("zone", "%s", err)
		return out, v.Err()
	}
	if out.at = l.Date; l.Date.IsZero() {
		out.at = rp.now()
	}
	if !civil.Known(out.at.Year()) {
		v.Add("date", "name a time from the years %d to %d", civil.FirstYear, civil.LastYear)
		return out, v.Err()
	}
	out.at = out.at.In(place)
	if out.source, err = rp.sources.Get(ctx, out.rep.Source, out.rep.Identity); err != nil {
		return out, err
	}
	out.query = report.Query{Params: out.rep.Parameters, Zone: place.String(), Limit: lookLimit, Bytes: lookBytes}
	return out, nil
}

// Offers gives the parameters of a report with their choices, which may depend
// on the values before them, and what each value comes to.
func (rp *Reports) Offers(ctx context.Context, who job.Person, l Look) ([]job.Offered, error) {
	out, err := rp.look(ctx, who, l)
	if err != nil {
		return nil, err
	}
	offers := make([]job.Offered, 0, len(out.rep.Parameters))
	var sofar []job.Bound
	for i, p := range out.rep.Parameters {
		o := job.Offered{Parameter: p}
		if p.Choices != nil {
			if o.Offers, err = report.Choices(ctx, out.source, out.query, p, sofar); err != nil {
				return nil, err
			}
		}
		bound, err := job.BindWith(out.rep.Parameters[i:i+1], l.Values, out.at, out.frame,
			func(job.Parameter, []job.Bound) ([]job.Choice, error) { return o.Offers, nil })
		var wrong *fault.Invalid
		switch {
		case errors.As(err, &wrong):
			o.Trouble = wrong.Wrong[0].Sentence
		case err != nil:
			return nil, err
		}
		if len(bound) > 0 {
			o.Bound = &bound[0]
			sofar = append(sofar, bound[0])
		}
		offers = append(offers, o)
	}
	return offers, nil
}

// Preview gives the first rows of each section.
func (rp *Reports) Preview(ctx context.Context, who job.Person, l Look, sections []string,
	most int64,
) (job.Preview, error) {
	out, err := rp.look(ctx, who, l)
	if err != nil {
		return job.Preview{}, err
	}
	if out.query.Values, err = report.Bind(ctx, out.source, out.query, l.Values, out.at, out.frame); err != nil {
		return job.Preview{}, err
	}
	return rp.reports.Preview(ctx, workOf(out, l.Values), out.rep, out.source, out.query, sections, most)
}

// Make renders outputs of a report outside of any job. Whoever asks removes the
// files.
func (rp *Reports) Make(ctx context.Context, who job.Person, l Look, outputs []job.Output) (task.Made, error) {
	out, err := rp.look(ctx, who, l)
	if err != nil {
		return task.Made{}, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("report %q", out.rep.Name)}
	for i, o := range outputs {
		task.CheckOutput(v, fmt.Sprintf("outputs[%d]", i), out.rep, o)
	}
	if err := v.Err(); err != nil {
		return task.Made{}, err
	}
	if out.query.Values, err = report.Bind(ctx, out.source, out.query, l.Values, out.at, out.frame); err != nil {
		return task.Made{}, err
	}
	return rp.reports.Make(ctx, workOf(out, l.Values), out.rep, out.source, out.query, outputs)
}

// workOf is the work of a report that belongs to no run.
func workOf(l looking, values job.Values) task.Work {
	return task.Work{Job: l.rep.Name, Nominal: l.at, Due: l.at, Frame: l.frame, Values: values, Limit: lookLimit}
}

// Tables lists what a source has for queries, as one of its identities may read it.
func (rp *Reports) Tables(ctx context.Context, who job.Person, source, identity string) ([]report.Relation, error) {
	if err := access.May(who, access.Write, "look into the source "+source, who.Login); err != nil {
		return nil, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("source %q", source)}
	k := &task.Checking{V: v, Store: rp.store, Who: who}
	if err := k.May(ctx, "identity", source, identity, ""); err != nil {
		return nil, err
	}
	if err := v.Err(); err != nil {
		return nil, err
	}
	src, err := rp.sources.Get(ctx, source, identity)
	if err != nil {
		return nil, err
	}
	return report.Relations(ctx, src)
}
