package engine

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"ironbell/internal/access"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/render"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// checkLimit is how long a source may take to check a query when it is saved.
const checkLimit = 10 * time.Second

var onlyDigits = regexp.MustCompile(`^[0-9]+$`)

// CheckName tells what is wrong with the name of a record.
func CheckName(v *fault.Invalid, where, name string) {
	switch {
	case strings.TrimSpace(name) == "":
		v.Add(where, "it needs a name")
	case strings.TrimSpace(name) != name:
		v.Add(where, "the name begins or ends with a blank")
	case utf8.RuneCountInString(name) > 200:
		v.Add(where, "the name is longer than 200 characters")
	case onlyDigits.MatchString(name):
		v.Add(where, "a name of digits only would be taken for a number; add a letter")
	case strings.ContainsFunc(name, func(r rune) bool { return r < 0x20 || r == 0x7f || r == '/' }):
		v.Add(where, "the name holds a slash or a control character")
	}
}

// SaveReport checks a report, also with its source, and saves it as a new version.
func (e *Engine) SaveReport(ctx context.Context, who job.Person, name, owner string, d job.ReportDefinition) (job.Report, error) {
	v := &fault.Invalid{What: fmt.Sprintf("report %q", name)}
	CheckName(v, "name", name)
	d.Check(v)
	old, err := e.store.Report(ctx, name)
	var missing *store.NotFound
	if err != nil && !errors.As(err, &missing) {
		return job.Report{}, err
	}
	if owner == "" {
		owner = orElse(old.Owner, who.Login)
	}
	if err := access.May(who, access.Write, "save the report "+name, orElse(old.Owner, owner)); err != nil {
		return job.Report{}, err
	}
	person, err := e.owner(ctx, v, owner)
	if err != nil {
		return job.Report{}, err
	}
	if len(v.Wrong) == 0 {
		e.checkQueries(ctx, v, d)
	}
	if err := v.Err(); err != nil {
		return job.Report{}, err
	}
	var saved job.Report
	err = e.store.Do(ctx, func(t *store.Tx) error {
		saved, err = t.PutReport(ctx, name, person.ID, who.ID, d)
		if err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "report", name, old.ReportDefinition, d)
	})
	return saved, err
}

// checkQueries lets the source describe each query. A source that cannot be
// reached right now keeps nobody from saving.
func (e *Engine) checkQueries(ctx context.Context, v *fault.Invalid, d job.ReportDefinition) {
	source, err := e.sources.Get(ctx, d.Source)
	if err != nil {
		v.Add("source", "%s", err)
		return
	}
	ctx, stop := context.WithTimeout(ctx, checkLimit)
	defer stop()
	for i, s := range d.Sections {
		_, err := source.Describe(ctx, report.Query{SQL: s.SQL, Params: d.Parameters, Zone: "UTC", Limit: checkLimit})
		if err != nil && fault.Of(err).Scope != fault.Source {
			v.Add(fmt.Sprintf("sections[%d].sql", i), "%s", err)
		}
	}
}

func (e *Engine) owner(ctx context.Context, v *fault.Invalid, login string) (job.Person, error) {
	p, _, err := e.store.PersonByLogin(ctx, login)
	var missing *store.NotFound
	if errors.As(err, &missing) {
		v.Add("owner", "there is no person %q; name somebody who signs in", login)
		return p, nil
	}
	return p, err
}

// SaveJob checks a job and saves it as a new version. It takes effect at once:
// its triggers ring from now on when it is on.
func (e *Engine) SaveJob(ctx context.Context, who job.Person, name, owner string, on bool, d job.Definition) (job.Job, error) {
	v := &fault.Invalid{What: fmt.Sprintf("job %q", name)}
	CheckName(v, "name", name)
	old, err := e.store.Job(ctx, name)
	var missing *store.NotFound
	if err != nil && !errors.As(err, &missing) {
		return job.Job{}, err
	}
	if owner == "" {
		owner = orElse(old.Owner, who.Login)
	}
	if err := access.May(who, access.Write, "save the job "+name, orElse(old.Owner, owner)); err != nil {
		return job.Job{}, err
	}
	d = d.WithDefaults()
	if err := e.times.refresh(ctx, e.store); err != nil {
		return job.Job{}, err
	}
	person, err := e.owner(ctx, v, owner)
	if err != nil {
		return job.Job{}, err
	}
	uses, err := e.checkJob(ctx, v, d)
	if err != nil {
		return job.Job{}, err
	}
	if on && len(v.Wrong) == 0 {
		if err := e.checkReady(ctx, v, owner, d); err != nil {
			return job.Job{}, err
		}
	}
	if err := v.Err(); err != nil {
		return job.Job{}, err
	}
	for i := range d.Triggers {
		t := &d.Triggers[i]
		t.NextDue, t.NextNominal = nil, nil
		if r, err := e.times.rule(t.Timing, d.Zone, d.Calendars); on && err == nil {
			if next := firstRing(r, e.o.Now()); next != nil {
				t.NextDue, t.NextNominal = &next.Due, &next.Nominal
			}
		}
	}
	var saved job.Job
	err = e.store.Do(ctx, func(t *store.Tx) error {
		saved, err = t.PutJob(ctx, name, person.ID, who.ID, on, d, uses)
		if err != nil {
			return err
		}
		var before any
		if old.ID != 0 {
			before = old.Definition
		}
		return t.Audit(ctx, who.Login, "save", "job", name, before, d)
	})
	return e.Described(saved), err
}

// checkJob tells what is wrong with a definition. Its error is about our own
// records only.
func (e *Engine) checkJob(ctx context.Context, v *fault.Invalid, d job.Definition) (store.Uses, error) {
	var uses store.Uses
	zone, err := zone.Load(d.Zone)
	if err != nil {
		v.Add("zone", "%s", err)
	}
	for i, name := range d.Calendars {
		c, err := e.store.Calendar(ctx, name)
		switch {
		case isMissing(err):
			v.Add(fmt.Sprintf("calendars[%d]", i), "%s", &Missing{name})
		case err != nil:
			return uses, err
		case slices.Contains(uses.Calendars, c.ID):
			v.Add(fmt.Sprintf("calendars[%d]", i), "the calendar %q is named twice", name)
		default:
			uses.Calendars = append(uses.Calendars, c.ID)
		}
	}
	var open rule.Calendar
	if len(uses.Calendars) == len(d.Calendars) && len(d.Calendars) > 0 {
		if open, err = e.times.calendar(d.Calendars); err != nil {
			return uses, err
		}
	}
	for i, t := range d.Triggers {
		if zone == nil || len(uses.Calendars) < len(d.Calendars) {
			break
		}
		where := fmt.Sprintf("triggers[%d].", i)
		if r, ok := t.Read(v, where, zone, open); ok {
			e.When().Floored(v, where, r)
		}
		if err := e.checkValues(ctx, v, where+"values", d, t.Values, false); err != nil {
			return uses, err
		}
	}
	if len(d.Tasks) == 0 {
		v.Add("tasks", "a job needs at least one task")
	}
	names := map[string]bool{}
	for i, t := range d.Tasks {
		where := fmt.Sprintf("tasks[%d]", i)
		if names[t.Name] {
			v.Add(where+".name", "there are two tasks %q; give one another name", t.Name)
		}
		names[t.Name] = true
		if strings.TrimSpace(t.Name) == "" {
			v.Add(where+".name", "the task needs a name")
		}
		switch {
		case t.Kind == job.KindReport && t.Report != nil && t.Deliver == nil:
			err = e.checkReportTask(ctx, v, where+".report", t, &uses)
		case t.Kind == job.KindDeliver && t.Deliver != nil && t.Report == nil:
			err = e.checkDeliverTask(ctx, v, where+".deliver", t, &uses)
		default:
			v.Add(where, "a task of kind report says what in report, one of kind deliver in deliver, and neither has both")
		}
		if err != nil {
			return uses, err
		}
	}
	return uses, e.checkValues(ctx, v, "values", d, d.Values, false)
}

func (e *Engine) checkReportTask(ctx context.Context, v *fault.Invalid, where string, t job.Task, uses *store.Uses) error {
	r, err := e.store.Report(ctx, t.Report.Report)
	var missing *store.NotFound
	if errors.As(err, &missing) {
		v.Add(where+".report", "there is no report %q; save the report first", t.Report.Report)
		return nil
	}
	if err != nil {
		return err
	}
	uses.Reports = append(uses.Reports, r.ID)
	if len(t.Report.Outputs) == 0 {
		v.Add(where+".outputs", "a report task needs at least one output")
	}
	for i, o := range t.Report.Outputs {
		at := fmt.Sprintf("%s.outputs[%d]", where, i)
		if _, err := render.ByName(o.Format); err != nil {
			v.Add(at+".format", "%s", err)
		}
		if _, err := expr.Parse(o.Name, task.Names(r.Parameters)); err != nil {
			v.Add(at+".name", "%s", err)
		}
	}
	return nil
}

func (e *Engine) checkDeliverTask(ctx context.Context, v *fault.Invalid, where string, t job.Task, uses *store.Uses) error {
	d := t.Deliver
	p, err := e.store.Place(ctx, store.Destination, d.Destination)
	var missing *store.NotFound
	switch {
	case errors.As(err, &missing):
		v.Add(where+".destination", "there is no destination %q; an administrator can add it", d.Destination)
	case err != nil:
		return err
	default:
		uses.Destinations = append(uses.Destinations, p.ID)
	}
	if len(d.To) == 0 {
		v.Add(where+".to", "nobody is named; add at least one address")
	}
	for i, to := range d.To {
		if _, err := deliver.CheckAddress(to); err != nil {
			v.Add(fmt.Sprintf("%s.to[%d]", where, i), "%s", err)
		}
	}
	for name, text := range map[string]string{"subject": d.Subject, "body": d.Body} {
		if _, err := expr.Parse(text, expr.Names{}); err != nil {
			v.Add(where+"."+name, "%s", err)
		}
	}
	return nil
}

// checkValues checks the values of a job, overlaid by given ones, against the
// parameters of all its reports. all asks for every required one.
func (e *Engine) checkValues(ctx context.Context, v *fault.Invalid, where string, d job.Definition, given job.Values, all bool) error {
	zone, err := zone.Load(d.Zone)
	if err != nil {
		return nil //nolint:nilerr // the zone is told of elsewhere
	}
	var params []job.Parameter
	for _, t := range d.Tasks {
		if t.Report == nil {
			continue
		}
		r, err := e.store.Report(ctx, t.Report.Report)
		var missing *store.NotFound
		if errors.As(err, &missing) {
			return nil // told of elsewhere
		}
		if err != nil {
			return err
		}
		for _, p := range r.Parameters {
			if !slices.ContainsFunc(params, func(q job.Parameter) bool { return q.Name == p.Name && q.Type == p.Type }) {
				params = append(params, p)
			}
		}
	}
	for _, name := range job.Unknown(params, given) {
		known := make([]string, len(params))
		for i, p := range params {
			known[i] = p.Name
		}
		has := "its reports have none"
		if len(known) > 0 {
			has = "its reports have " + strings.Join(known, ", ")
		}
		v.Add(where+"."+name, "there is no parameter %q; %s", name, has)
	}
	_, err = job.Bind(params, given.Over(d.Values), e.o.Now().In(zone), e.frame(d.Calendars))
	var wrong *fault.Invalid
	if errors.As(err, &wrong) {
		for _, w := range wrong.Wrong {
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

// checkReady tells what keeps a job from being switched on: nobody is there at
// night to answer a prompt.
func (e *Engine) checkReady(ctx context.Context, v *fault.Invalid, owner string, d job.Definition) error {
	p, _, err := e.store.PersonByLogin(ctx, owner)
	if err != nil {
		return err
	}
	if p.Mail == "" {
		v.Add("owner", "%s has no mail address, so nobody would hear of a failure; add one", p.Name)
	}
	if len(d.Triggers) == 0 {
		return e.checkValues(ctx, v, "values", d, nil, true)
	}
	for i, t := range d.Triggers {
		if err := e.checkValues(ctx, v, fmt.Sprintf("triggers[%d].values", i), d, t.Values, true); err != nil {
			return err
		}
		r, err := e.times.rule(t.Timing, d.Zone, d.Calendars)
		if err != nil {
			continue // told of elsewhere
		}
		if _, ok := r.Next(e.o.Now()); !ok {
			v.Add(fmt.Sprintf("triggers[%d].rule", i), "%q never rings again", t.Rule)
		}
	}
	return nil
}

func orElse(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}
