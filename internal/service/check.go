package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/shape"
	"ironbell/internal/core/zone"
	"ironbell/internal/event"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/task"
	"ironbell/internal/timetable"
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
	case strings.Contains(name, "/"):
		v.Add(where, "the name holds a slash")
	case strings.ContainsFunc(name, unseen):
		v.Add(where, "the name holds a character that nobody sees, such as a control character or a blank of no width; write it anew")
	case strings.Contains(name, "  "):
		v.Add(where, "the name holds two blanks in a row, which look like one")
	}
}

// blanks are letters and signs by their class that show nothing (Unicode, property
// Default_Ignorable_Code_Point, and the empty Braille cell).
var blanks = []rune{0x034F, 0x115F, 0x1160, 0x17B4, 0x17B5, 0x2800, 0x3164, 0xFFA0}

// joiners join or part letters, or choose their form: some scripts are not written without.
// Names that differ only by them are one (name_key in the schema).
var joiners = []rune{0x200C, 0x200D, 0xFE0E, 0xFE0F}

// unseen tells whether a character cannot be seen, or not told from a blank.
func unseen(r rune) bool {
	if r == ' ' || slices.Contains(joiners, r) {
		return false
	}
	return unicode.In(r, unicode.C, unicode.Z) || slices.Contains(blanks, r) || unicode.Is(unicode.Variation_Selector, r)
}

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
				v.Add(fmt.Sprintf("%s.columns[%d].date", where, i), "the date form %q is not known; use forms such as %%d %%B %%Y", c.Date)
			}
		}
	}
}

// checkText tells what is wrong with the text of a section.
func (ck *checks) checkText(v *fault.Invalid, where string, s job.Section, params []job.Parameter, columns []rows.Column) {
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

// hadIdentity tells which identities a job used before it was changed.
func (ck *checks) hadIdentity(ctx context.Context, old job.Definition) func(source, name string) bool {
	return func(source, name string) bool {
		return slices.ContainsFunc(old.Tasks, func(t job.Task) bool {
			if t.Report == nil || t.Report.Identity != name {
				return false
			}
			r, err := ck.store.Report(ctx, t.Report.Report)
			return err == nil && r.Source == source
		})
	}
}

// checkJob tells what is wrong with a definition. Its error is about our own
// records only.
func (ck *checks) checkJob(ctx context.Context, v *fault.Invalid, who job.Person, name string, d, old job.Definition) (store.Uses, error) {
	var uses store.Uses
	zone, err := zone.Load(d.Zone)
	if err != nil {
		v.Add("zone", "%s", err)
	}
	for i, name := range d.Calendars {
		c, err := ck.store.Calendar(ctx, name)
		switch {
		case store.IsMissing(err):
			v.Add(fmt.Sprintf("calendars[%d]", i), "%s", &timetable.Missing{Calendar: name})
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
		if open, err = ck.times.Calendar(d.Calendars); err != nil {
			return uses, err
		}
	}
	for i, t := range d.Triggers {
		if zone == nil || len(uses.Calendars) < len(d.Calendars) {
			break
		}
		where := fmt.Sprintf("triggers[%d].", i)
		if t.Rule != "" {
			if r, ok := t.Read(v, where, zone, open); ok {
				ck.times.Settings().Floored(v, where, r)
			}
		}
		if err := ck.checkWait(ctx, v, where, name, d, t, &uses); err != nil {
			return uses, err
		}
		if err := ck.checkValues(ctx, v, where+"values", d, t.Values, false); err != nil {
			return uses, err
		}
	}
	if err := ck.checkTasks(ctx, v, who, d, old, &uses); err != nil {
		return uses, err
	}
	checkPolicies(v, d)
	if d.SecondOwner != "" {
		if _, _, err := ck.store.PersonByLogin(ctx, d.SecondOwner); store.IsMissing(err) {
			v.Add("second_owner", "there is no person %q", d.SecondOwner)
		} else if err != nil {
			return uses, err
		}
	}
	return uses, ck.checkValues(ctx, v, "values", d, d.Values, false)
}

// checkTasks tells what is wrong with the chain of a job and with each task.
func (ck *checks) checkTasks(ctx context.Context, v *fault.Invalid, who job.Person, d, old job.Definition, uses *store.Uses) error {
	if len(d.Tasks) == 0 {
		v.Add("tasks", "a job needs at least one task")
	}
	c := chain.Read(d.Tasks, v)
	params, err := ck.parameters(ctx, d)
	if err != nil {
		return err
	}
	totals := &totalsOf{ck: ck, asked: len(task.WantedTotals(d.Tasks)) > 0}
	k := &task.Checking{V: v, Store: ck.store, Uses: uses, Report: ck.report, Totals: totals.of, Who: who, Had: ck.hadIdentity(ctx, old)}
	for i, name := range d.Own {
		if !valueForm.MatchString(name) {
			v.Add(fmt.Sprintf("own[%d]", i), "%q is no name of a value; use letters, digits and _", name)
		}
	}
	k.Label("service")
	for _, tag := range d.Tags {
		k.Label("tag:" + tag)
	}
	if k.Row, err = ck.splitNames(ctx, v, d); err != nil {
		return err
	}
	if q := d.Split.Query; q != nil {
		if err := k.List(ctx, "split.query", *q); err != nil {
			return err
		}
	}
	for i, t := range d.Tasks {
		where := fmt.Sprintf("tasks[%d]", i)
		kind, ok := ck.kinds[t.Kind]
		if says := t.Says(); !ok || len(says) != 1 || says[0] != t.Kind {
			v.Add(where, "a task of kind %s says what to do in %s, and in no other kind's settings", t.Kind, t.Kind)
			continue
		}
		k.Names = task.Names(params)
		k.Names.Tasks = c.Before(t.Name)
		if k.Names.Totals, k.Names.TotalsKnown, err = totals.before(ctx, d, k.Names.Tasks); err != nil {
			return err
		}
		for _, name := range slices.Concat(k.Row, d.Own) {
			if !slices.Contains(k.Names.Values, name) {
				k.Names.Values = append(k.Names.Values, name)
			}
		}
		if t.OnlyIf != "" {
			if _, err := expr.ParseCondition(t.OnlyIf, k.Names); err != nil {
				v.Add(where+".only_if", "%s", err)
			} else if strings.TrimSpace(t.OnlyIf) == "false" {
				v.Add(where+".only_if", "the task is never reached: its condition never holds")
			}
		}
		if err := kind.Check(ctx, k, where+"."+string(t.Kind), t); err != nil {
			return err
		}
	}
	return nil
}

// totalsOf knows which columns the reports of a job add up, as their sources say. It
// asks only when the job speaks of totals.
type totalsOf struct {
	ck    *checks
	asked bool
	known map[string][]string // by report; nil for one whose source does not answer
}

// of lists the columns that a report adds up; known is false when nobody can say.
func (t *totalsOf) of(ctx context.Context, r job.Report) (columns []string, known bool) {
	if !t.asked {
		return nil, false
	}
	if columns, ok := t.known[r.Name]; ok {
		return columns, columns != nil
	}
	if t.known == nil {
		t.known = map[string][]string{}
	}
	t.known[r.Name] = nil
	source, err := t.ck.sources.Get(ctx, r.Source, r.Identity)
	if err != nil {
		return nil, false
	}
	ctx, stop := context.WithTimeout(ctx, checkLimit)
	defer stop()
	columns = []string{}
	for _, s := range r.Sections {
		if strings.TrimSpace(s.SQL) == "" {
			continue
		}
		found, err := source.Describe(ctx, report.Query{SQL: s.SQL, Params: r.Parameters, Zone: "UTC", Limit: checkLimit})
		if err != nil {
			return nil, false
		}
		for _, c := range found {
			if (c.Kind == rows.Whole || c.Kind == rows.Number) && !slices.Contains(columns, c.Name) {
				columns = append(columns, c.Name)
			}
		}
	}
	t.known[r.Name] = columns
	return columns, true
}

// before lists the columns that the reports of some tasks add up.
func (t *totalsOf) before(ctx context.Context, d job.Definition, tasks []string) (all []string, known bool, err error) {
	known = t.asked
	for _, one := range d.Tasks {
		if one.Report == nil || !slices.Contains(tasks, one.Name) || !known {
			continue
		}
		r, err := t.ck.report(ctx, one.Report.Report)
		if store.IsMissing(err) {
			return nil, false, nil // told of elsewhere
		}
		if err != nil {
			return nil, false, err
		}
		var columns []string
		if columns, known = t.of(ctx, r); known {
			all = append(all, columns...)
		}
	}
	return all, known, nil
}

// noteTakes notes which parameters the report of each task has, for its runs to see
// whether they still are there.
func (ck *checks) noteTakes(ctx context.Context, tasks []job.Task) error {
	for i, t := range tasks {
		if t.Report == nil {
			continue
		}
		r, err := ck.report(ctx, t.Report.Report)
		if err != nil {
			return err
		}
		with := *t.Report
		with.Takes = nil
		for _, p := range r.Parameters {
			with.Takes = append(with.Takes, p.Name)
		}
		tasks[i].Report = &with
	}
	return nil
}

var (
	timeOfDay = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]$`)
	tagForm   = regexp.MustCompile(`^[\pL\pN][\pL\pN _.-]{0,59}$`)
)

// checkPolicies tells what is wrong with how a job behaves.
func checkPolicies(v *fault.Invalid, d job.Definition) {
	if d.GiveUpAfter < 0 || time.Duration(d.GiveUpAfter) > 30*24*time.Hour {
		v.Add("give_up_after", "%s is no time to wait; use up to 720h", d.GiveUpAfter)
	}
	for where, text := range map[string]string{"retry.until": d.Retry.Until, "deadline.at": d.Deadline.At} {
		if text != "" && !timeOfDay.MatchString(text) {
			v.Add(where, "%q is no time of day; write it as 09:00", text)
		}
	}
	if d.Deadline.At != "" && d.Deadline.Within != 0 {
		v.Add("deadline", "say either a time of day or how long after it was due")
	}
	if d.Retry.Growth != 0 && d.Retry.Growth < 1 {
		v.Add("retry.growth", "waits may grow, not shrink; use 1 or more")
	}
	for where, do := range map[string]job.IfBlank{"if_blank": d.IfBlank, "if_unusual": d.IfUnusual} {
		if do == job.BlankRetry && d.Retry.Times == 0 {
			v.Add(where, "it is to be tried again, and retry.times says how often: set it")
		}
	}
	for i, tag := range d.Tags {
		if !tagForm.MatchString(tag) {
			v.Add(fmt.Sprintf("tags[%d]", i), "%q is no tag; use letters, digits, blanks, dots, hyphens and _, at most 60", tag)
		}
	}
}

// checkWait tells what is wrong with what a trigger waits for.
func (ck *checks) checkWait(ctx context.Context, v *fault.Invalid, where, name string, d job.Definition, t job.Trigger, uses *store.Uses) error {
	if t.Wait == nil {
		if strings.TrimSpace(t.Rule) == "" {
			v.Add(where+"rule", "the trigger needs a rule, or something to wait for")
		}
		return nil
	}
	if err := event.Check(ctx, &event.Checking{V: v, Store: ck.store, Uses: uses, Job: name}, where+"wait", *t.Wait); err != nil {
		return err
	}
	for value, text := range t.Wait.Take {
		if s, ok := text.(string); ok {
			if _, err := expr.Parse(s, expr.Names{Event: true}); err != nil {
				v.Add(where+"wait.take."+value, "%s", err)
			}
		}
	}
	params, err := ck.parameters(ctx, d)
	if err != nil {
		return err
	}
	for _, value := range job.Unknown(params, t.Wait.Take) {
		if !slices.Contains(d.Own, value) {
			v.Add(where+"wait.take."+value, "%s, or name it among the job's own", job.NoParameter(params, value))
		}
	}
	return nil
}

// checkCircle tells whether a job that was just saved starts itself, by the
// outcomes and events of jobs, and by which way.
func (ck *checks) checkCircle(ctx context.Context, t *store.Tx, v *fault.Invalid, id int64, name string) error {
	edges := map[int64][]store.Edge{}
	for frontier := []int64{id}; len(frontier) > 0 && len(edges) < maxCircle; {
		found, err := t.StartedBy(ctx, frontier)
		if err != nil {
			return err
		}
		for _, from := range frontier {
			edges[from] = nil
		}
		frontier = nil
		for _, edge := range found {
			edges[edge.From] = append(edges[edge.From], edge)
			if _, seen := edges[edge.To]; !seen && !slices.Contains(frontier, edge.To) {
				frontier = append(frontier, edge.To)
			}
		}
	}
	way := chain.Circle(id, func(n int64) []int64 {
		var next []int64
		for _, edge := range edges[n] {
			next = append(next, edge.To)
		}
		return next
	})
	if way == nil {
		return nil
	}
	text := name
	for i := 1; i < len(way); i++ {
		for _, edge := range edges[way[i-1]] {
			if edge.To == way[i] {
				text += fmt.Sprintf(" > %s (by %s)", edge.Name, edge.By)
				break
			}
		}
	}
	v.Add("triggers", "the job would start itself: %s; take one of these steps out", text)
	return v.Err()
}

// maxCircle bounds how many jobs are looked at for a circle.
const maxCircle = 10_000

// checkValues checks the values of a job, overlaid by given ones, against the
// parameters of all its reports. all asks for every required one.
func (ck *checks) checkValues(ctx context.Context, v *fault.Invalid, where string, d job.Definition, given job.Values, all bool) error {
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
func (ck *checks) checkChoices(ctx context.Context, v *fault.Invalid, where string, d job.Definition, given job.Values) error {
	zone, err := zone.Load(d.Zone)
	if err != nil {
		return nil //nolint:nilerr // the zone is told of elsewhere
	}
	values := given.Over(d.Values)
	// One without any value is told of elsewhere.
	asked := func(p job.Parameter) bool {
		return p.Choices != nil && p.Choices.SQL != "" && (values[p.Name] != nil || p.Default != nil) && d.Split.Each == ""
	}
	for _, t := range d.Tasks {
		if t.Report == nil {
			continue
		}
		r, err := ck.report(ctx, t.Report.Report)
		if store.IsMissing(err) || err == nil && !slices.ContainsFunc(r.Parameters, asked) {
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

// parameters lists the parameters of the reports and statements of some tasks.
func (ck *checks) parameters(ctx context.Context, d job.Definition) ([]job.Parameter, error) {
	return task.ParametersOf(ctx, d, ck.report)
}

// changed carries a report as it is about to be saved, so that jobs can be
// checked against it before it is.
type changed struct{}

// report finds a report as jobs are to be checked against it.
func (ck *checks) report(ctx context.Context, name string) (job.Report, error) {
	if r, ok := ctx.Value(changed{}).(job.Report); ok && strings.EqualFold(r.Name, name) {
		return r, nil
	}
	return ck.store.Report(ctx, name)
}

func (ck *checks) owner(ctx context.Context, v *fault.Invalid, login string) (job.Person, error) {
	p, _, err := ck.store.PersonByLogin(ctx, login)
	var missing *store.NotFound
	if errors.As(err, &missing) {
		v.Add("owner", "there is no person %q; name somebody who signs in", login)
		return p, nil
	}
	return p, err
}
