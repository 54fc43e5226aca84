package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
	"ironbell/internal/task"
)

// ReportCheck is what a look at a report found before it is saved.
type ReportCheck struct {
	Wrong     []fault.Wrong // what keeps it from being saved
	Described []job.Described
	Workbooks []job.WorkbookPlan
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
func (rp *Reports) Check(ctx context.Context, who job.Person, name, owner string,
	d job.ReportDefinition,
) (ReportCheck, error) {
	c, _, err := rp.lookAt(ctx, who, name, owner, d)
	return c, err
}

// saving is a report about to be saved.
type saving struct {
	old   job.Report
	owner job.Person
	d     job.ReportDefinition // its workbooks by their numbers
	books []sentBook
}

func (rp *Reports) lookAt(ctx context.Context, who job.Person, name, owner string,
	d job.ReportDefinition,
) (ReportCheck, saving, error) {
	var c ReportCheck
	var s saving
	v := &fault.Invalid{What: fmt.Sprintf("report %q", name)}
	CheckName(v, "name", name)
	d.Check(v)
	var err error
	s.old, err = rp.store.Report(ctx, name)
	var missing *db.NotFound
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
	if err := rp.checks.checkJoiners(ctx, v, "schedulers", d.Schedulers); err != nil {
		return c, s, err
	}
	if err := houseStyle(ctx, v, rp.store, d.HouseStyle); err != nil {
		return c, s, err
	}
	if err := rp.mayRead(ctx, v, who, d, s.old.ReportDefinition); err != nil {
		return c, s, err
	}
	if len(v.Wrong) == 0 {
		c.Described = rp.checks.checkQueries(ctx, v, d)
	}
	if s.d, s.books, err = readBooks(ctx, v, d); err != nil {
		return c, s, err
	}
	if c.Workbooks, err = rp.planBooks(ctx, v, s, c.Described); err != nil {
		return c, s, err
	}
	c.Wrong, d = v.Wrong, s.d
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
	same := d.Identity == old.Identity && d.Source == old.Source && reflect.DeepEqual(d.Sections, old.Sections) &&
		reflect.DeepEqual(d.Parameters, old.Parameters)
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
	var uses records.Uses
	if err := rp.checks.checkTasks(ctx, v, who, j.Definition, j.Definition, &uses); err != nil {
		return nil, err
	}
	if err := rp.checks.checkValues(ctx, v, "values", j.Definition, j.Values, false); err != nil {
		return nil, err
	}
	for i, t := range j.Triggers {
		if err := rp.checks.checkValues(ctx, v, fmt.Sprintf("triggers[%d].values", i), j.Definition, t.Values,
			false); err != nil {
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
func (rp *Reports) Save(ctx context.Context, who job.Person, name, owner string, d job.ReportDefinition,
	anyway bool,
) (job.Report, error) {
	name, err := rp.store.Called(ctx, "report", name)
	if err != nil {
		return job.Report{}, err
	}
	c, s, err := rp.lookAt(ctx, who, name, owner, d)
	if err != nil {
		return job.Report{}, err
	}
	d = s.d
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
		if d.HouseStyle != "" { // nobody takes it off while this is saved
			if err := t.LockSetting(ctx, db.HouseSetting); err != nil {
				return err
			}
			if err := houseStyle(ctx, v, t, d.HouseStyle); err != nil {
				return err
			}
			if err := v.Err(); err != nil {
				return err
			}
		}
		if err := holdBooks(ctx, v, t, d, s.books); err != nil {
			return err
		}
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
