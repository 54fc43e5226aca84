package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/chain"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
	"ironbell/internal/task"
	"ironbell/internal/task/recipients"
	"ironbell/internal/timetable"
)

// checkJob tells what is wrong with a definition. Its error is about our own
// records only.
func (ck *checks) checkJob(ctx context.Context, v *fault.Invalid, who job.Person, name string,
	d, old job.Definition,
) (records.Uses, error) {
	var uses records.Uses
	zone, err := zone.Load(d.Zone)
	if err != nil {
		v.Add("zone", "%s", err)
	}
	for i, name := range d.Calendars {
		c, err := ck.store.Calendar(ctx, name)
		switch {
		case db.IsMissing(err):
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
		if err := ck.checkWait(ctx, v, who, where, name, d, old, t, &uses); err != nil {
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
	if err := ck.checkJoiners(ctx, v, "joiners", d.Joiners); err != nil {
		return uses, err
	}
	if d.SecondOwner != "" {
		if _, _, err := ck.store.PersonByLogin(ctx, d.SecondOwner); db.IsMissing(err) {
			v.Add("second_owner", "there is no person %q", d.SecondOwner)
		} else if err != nil {
			return uses, err
		}
	}
	return uses, ck.checkValues(ctx, v, "values", d, d.Values, false)
}

// checkTasks tells what is wrong with the chain of a job and with each task.
func (ck *checks) checkTasks(ctx context.Context, v *fault.Invalid, who job.Person, d, old job.Definition,
	uses *records.Uses,
) error {
	if len(d.Tasks) == 0 {
		v.Add("tasks", "a job needs at least one task")
	}
	c := chain.Read(d.Tasks, v)
	params, err := ck.parameters(ctx, d)
	if err != nil {
		return err
	}
	totals := &totalsOf{ck: ck, asked: len(task.WantedTotals(d.Tasks))+len(task.WantedCells(d.Tasks)) > 0 || task.NamesColumns(d.Tasks)}
	k := &task.Checking{
		V: v, Store: ck.store, Uses: uses, Report: ck.report, Totals: totals.of, Columns: totals.sections, Who: who,
		Had: ck.hadIdentity(ctx, old),
	}
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
		columns, known, err := totals.before(ctx, d, k.Names.Tasks)
		if err != nil {
			return err
		}
		k.Names.Totals, k.Names.TotalsKnown = columns.numbers, known
		k.Names.Columns, k.Names.AnyCell = columns.all, !known
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
			v.Add(fmt.Sprintf("tags[%d]", i),
				"%q is no tag; use letters, digits, blanks, dots, hyphens and _, at most 60", tag)
		}
	}
}

// checkWait tells what is wrong with what a trigger waits for.
func (ck *checks) checkWait(ctx context.Context, v *fault.Invalid, who job.Person, where, name string,
	d, old job.Definition, t job.Trigger, uses *records.Uses,
) error {
	if t.Wait == nil {
		if strings.TrimSpace(t.Rule) == "" {
			v.Add(where+"rule", "the trigger needs a rule, or something to wait for")
		}
		return nil
	}
	looks := &task.Checking{V: v, Store: ck.store, Uses: uses, Who: who, Had: ck.hadIdentity(ctx, old)}
	if err := ck.checkConditions(ctx, looks, where+"wait", name, *t.Wait); err != nil {
		return err
	}
	checkStart(v, where, t)
	checkOwnFiles(v, where+"wait", d, *t.Wait)
	for value, text := range t.Wait.Take {
		if s, ok := text.(string); ok {
			if _, err := expr.Parse(s, expr.Names{Event: true}); err != nil {
				v.Add(where+"wait.take."+value, "%s", err)
			}
		}
	}
	for value := range t.Wait.Otherwise {
		if _, takes := t.Wait.Take[value]; !takes {
			v.Add(where+"wait.otherwise."+value, "it is taken from no event, so there is nothing that could be lacking")
		}
	}
	if err := ck.checkValues(ctx, v, where+"wait.otherwise", d, t.Wait.Otherwise, false); err != nil {
		return err
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
	edges := map[int64][]rings.Edge{}
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

// checkJoiners looks through those to whom something is open: people, by themselves, in groups
// or in posts. An address is nobody's login.
func (ck *checks) checkJoiners(ctx context.Context, v *fault.Invalid, where string, texts []string) error {
	for i, text := range texts {
		at := fmt.Sprintf("%s[%d]", where, i)
		for _, piece := range job.SplitRecipients(text) {
			to, err := job.ReadRecipient(piece)
			switch {
			case err != nil:
				v.Add(at, "%s", err)
				continue
			case to.Kind == job.ToAddress:
				v.Add(at, "%q is an address, and only people can; name them as person:login, group:name, post:name or under:name", piece)
				continue
			}
			r := recipients.New(ck.store, ck.now())
			if err := r.Add(ctx, []string{piece}); err != nil {
				return err
			}
			for _, wrong := range r.Wrong.Wrong {
				v.Add(at, "%s", wrong.Sentence)
			}
		}
	}
	return nil
}
