package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/civil"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
	"ironbell/internal/core/zone"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// ReportCheck is what a look at a report found before it is saved.
type ReportCheck struct {
	Wrong     []fault.Wrong // what keeps it from being saved
	Described []job.Described
	Jobs      []JobTrouble // jobs that would no longer fit
}

// JobTrouble is a job that does not fit a changed report.
type JobTrouble struct {
	Job   string
	On    bool
	Wrong []fault.Wrong
}

// Check looks at a report without saving it: what is wrong with it, what
// its queries give, and which jobs would no longer fit.
func (rp *Reports) Check(ctx context.Context, who job.Person, name, owner string, d job.ReportDefinition) (ReportCheck, error) {
	c, _, err := rp.lookAt(ctx, who, name, owner, d)
	return c, err
}

// saving is a report about to be saved.
type saving struct {
	old   job.Report
	owner job.Person
}

func (rp *Reports) lookAt(ctx context.Context, who job.Person, name, owner string, d job.ReportDefinition) (ReportCheck, saving, error) {
	var c ReportCheck
	var s saving
	v := &fault.Invalid{What: fmt.Sprintf("report %q", name)}
	CheckName(v, "name", name)
	d.Check(v)
	var err error
	s.old, err = rp.store.Report(ctx, name)
	var missing *store.NotFound
	if err != nil && !errors.As(err, &missing) {
		return c, s, err
	}
	if owner == "" {
		owner = cmp.Or(s.old.Owner, who.Login)
	}
	if err := access.May(who, access.Write, "save the report "+name, cmp.Or(s.old.Owner, owner)); err != nil {
		return c, s, err
	}
	if s.owner, err = rp.checks.owner(ctx, v, owner); err != nil {
		return c, s, err
	}
	if err := rp.mayRead(ctx, v, who, d, s.old.ReportDefinition); err != nil {
		return c, s, err
	}
	if len(v.Wrong) == 0 {
		c.Described = rp.checks.checkQueries(ctx, v, d)
	}
	c.Wrong = v.Wrong
	if len(v.Wrong) == 0 && s.old.ID != 0 {
		next := s.old
		next.ReportDefinition = d
		c.Jobs, err = rp.unfit(ctx, who, next)
	}
	return c, s, err
}

// mayRead checks that whoever saves a report may choose its identity: also of one that
// has it already, when anything changes that it would be asked.
func (rp *Reports) mayRead(ctx context.Context, v *fault.Invalid, who job.Person, d, old job.ReportDefinition) error {
	same := d.Identity == old.Identity && d.Source == old.Source && reflect.DeepEqual(d.Sections, old.Sections) && reflect.DeepEqual(d.Parameters, old.Parameters)
	if d.Identity == "" || same {
		return nil
	}
	k := &task.Checking{V: v, Store: rp.store, Who: who}
	return k.May(ctx, "identity", d.Source, d.Identity, "")
}

// unfit lists the jobs that fit a report as it stands and not as it would be.
func (rp *Reports) unfit(ctx context.Context, who job.Person, next job.Report) ([]JobTrouble, error) {
	jobs, err := rp.store.JobsUsing(ctx, "report", next.ID)
	if err != nil {
		return nil, err
	}
	with := context.WithValue(ctx, changed{}, next)
	var found []JobTrouble
	for _, j := range jobs {
		before, err := rp.troubles(ctx, who, j)
		if err != nil {
			return nil, err
		}
		after, err := rp.troubles(with, who, j)
		if err != nil {
			return nil, err
		}
		after = slices.DeleteFunc(after, func(w fault.Wrong) bool { return slices.Contains(before, w) })
		if len(after) > 0 {
			found = append(found, JobTrouble{Job: j.Name, On: j.On, Wrong: after})
		}
	}
	return found, nil
}

// troubles lists what is wrong with a saved job as reports stand in ctx.
func (rp *Reports) troubles(ctx context.Context, who job.Person, j job.Job) ([]fault.Wrong, error) {
	v := &fault.Invalid{}
	var uses store.Uses
	if err := rp.checks.checkTasks(ctx, v, who, j.Definition, j.Definition, &uses); err != nil {
		return nil, err
	}
	if err := rp.checks.checkValues(ctx, v, "values", j.Definition, j.Values, false); err != nil {
		return nil, err
	}
	for i, t := range j.Triggers {
		if err := rp.checks.checkValues(ctx, v, fmt.Sprintf("triggers[%d].values", i), j.Definition, t.Values, false); err != nil {
			return nil, err
		}
	}
	if j.On && len(v.Wrong) == 0 {
		if err := rp.checks.checkReady(ctx, v, j.Owner, j.Definition); err != nil {
			return nil, err
		}
	}
	return v.Wrong, nil
}

// Save checks a report, also with its source, and saves it as a new
// version. Jobs that would no longer fit keep it from being saved, unless it is
// to be saved anyway: their next runs then fail and say why.
func (rp *Reports) Save(ctx context.Context, who job.Person, name, owner string, d job.ReportDefinition, anyway bool) (job.Report, error) {
	c, s, err := rp.lookAt(ctx, who, name, owner, d)
	if err != nil {
		return job.Report{}, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("report %q", name), Wrong: c.Wrong}
	if !anyway {
		for _, j := range c.Jobs {
			for _, w := range j.Wrong {
				v.Add("jobs."+j.Job+"."+w.Where, "the job %q would no longer fit: %s", j.Job, w.Sentence)
			}
		}
	}
	if err := v.Err(); err != nil {
		return job.Report{}, err
	}
	var saved job.Report
	err = rp.store.Do(ctx, func(t *store.Tx) error {
		var err error
		if saved, err = t.PutReport(ctx, name, s.owner.ID, who.ID, d); err != nil {
			return err
		}
		if s.old.ID != 0 && s.old.Source != d.Source {
			if err := t.Relabel(ctx, saved.ID, "source:"+s.old.Source, "source:"+d.Source); err != nil {
				return err
			}
		}
		var before any
		if s.old.ID != 0 {
			before = s.old.ReportDefinition
		}
		if err := t.Audit(ctx, who.Login, "save", "report", name, before, d); err != nil {
			return err
		}
		saved, err = t.Report(ctx, name)
		return err
	})
	return saved, err
}

// Look is how somebody looks at a report.
type Look struct {
	Report     string                // name of a saved one
	Definition *job.ReportDefinition // or one that is being written
	Identity   string                // in place of the report's
	Values     job.Values
	Zone       string    // in which moments are reckoned; that of the person when empty
	Date       time.Time // the nominal date; now when zero
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
	out := looking{frame: rp.times.Frame(nil)}
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
		bound, err := job.BindWith(out.rep.Parameters[i:i+1], l.Values, out.at, out.frame, func(job.Parameter, []job.Bound) ([]job.Choice, error) { return o.Offers, nil })
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
func (rp *Reports) Preview(ctx context.Context, who job.Person, l Look, sections []string, most int64) (job.Preview, error) {
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
