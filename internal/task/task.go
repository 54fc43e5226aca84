// Package task carries out the steps of a job: one file for each kind. A task
// reads what the run gives it and hands back what it made; it writes none of
// our records itself, so that the engine can write outcome and files in one
// transaction, fenced by the lease.
package task

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/records"
	"ironbell/internal/store/sending"
)

// Work is what a task may see of its run.
type Work struct {
	RunID     job.RunID
	Part      int
	PartName  string // empty when the run is not split
	Task      string // the task at hand
	Try       int
	JobID     int64
	Job       string
	Nominal   time.Time // in the job's zone
	Due       time.Time // in the job's zone
	Frame     moment.Frame
	Values    job.Values
	Row       map[string]string // of a part: the row that it was split off for, by column
	Def       job.Definition
	Limit     time.Duration // longest time for the task
	Rehearsal *job.Person   // who rehearses; nil in earnest

	Corrects   job.RunID // the run that it corrects; 0 when it corrects none
	Correction string    // what was wrong

	Params func(context.Context) ([]job.Parameter, error)
	Report func(ctx context.Context, name string) (job.Report, error) // in the version that the run takes

	Outcomes map[string]string  // of the tasks before, by name
	RowsOf   map[string]int64   // of the tasks before, by name
	Totals   map[string]float64 // of the tasks before, by column
	Cells    job.Cells          // of their first rows, by column
	Files    []job.Artifact     // of the tasks whose files it takes
	Notes    []string           // what a message must say of the results
	Columns  []string           // whose totals later conditions ask for
	First    []string           // of whose first cells later texts speak

	Siblings func(context.Context) ([]sending.Sibling, error) // the parts of a run that is divided; nil otherwise

	Log func(level, text string)
}

// Result is what a task made.
type Result struct {
	Rows     int64
	Counted  bool // Rows says something
	Blank    bool
	Over     string // why there was nothing to do: the task is passed over
	Note     string
	Totals   map[string]float64
	Cells    job.Cells
	Files    []job.Artifact
	Messages []Message         // to be frozen and handed over
	Links    []history.NewLink // that the messages hold
	Event    *job.Event        // to be raised
}

// Message is a mail or a file to be handed over, with those who shall get it.
type Message struct {
	job.Message
	To []sending.Recipient
}

// Kind carries out tasks of one kind. It may be used by several goroutines.
type Kind interface {
	// Help says what the kind is for, with an example.
	Help() Help
	// Check tells what is wrong with a task of this kind when its job is saved,
	// and notes what it uses. Its error is about our own records only.
	Check(ctx context.Context, c *Checking, where string, t job.Task) error
	// Run carries a task out.
	Run(ctx context.Context, w Work, t job.Task) (Result, error)
}

// Help is what the API says of a kind of task.
type Help struct {
	Kind    job.TaskKind
	Summary string
	Text    string // what it does, what comes out, and what can go wrong
	Example job.Task
}

// Checking collects what is wrong with a job's tasks, and what they use.
type Checking struct {
	V     *fault.Invalid
	Store *store.Store
	Uses  *records.Uses
	Names expr.Names // what the task's texts may speak of
	Row   []string   // values that only the parts of a divided run have

	Report func(ctx context.Context, name string) (job.Report, error)
	Totals func(ctx context.Context, r job.Report) (columns []string, known bool) // that a report adds up; may be nil
	// Columns lists those of each section of a report, by its name; may be nil.
	Columns func(ctx context.Context, r job.Report) (by map[string][]string, known bool)

	Who job.Person                     // who saves
	Had func(source, name string) bool // whether the job used this identity before
}

// text checks a text with moving parts.
func (c *Checking) text(where, text string) {
	if _, err := expr.Parse(text, c.Names); err != nil {
		c.V.Add(where, "%s", err)
	}
}

// place checks that there is a source or destination, and notes that it is used.
func (c *Checking) place(ctx context.Context, kind records.PlaceKind, where, name string) (records.Place, bool, error) {
	p, err := c.Store.Place(ctx, kind, name)
	if db.IsMissing(err) {
		c.V.Add(where, "there is no %s %q; an administrator can add it", kind, name)
		return p, false, nil
	}
	if err != nil {
		return p, false, err
	}
	if kind == records.Source {
		c.Uses.Sources = append(c.Uses.Sources, p.ID)
	} else {
		c.Uses.Destinations = append(c.Uses.Destinations, p.ID)
	}
	c.Label(string(kind) + ":" + p.Name)
	return p, true, nil
}

// May checks that an identity of a source exists, and that whoever saves may
// choose it. That of the report itself, and one that the job had, need no leave.
func (c *Checking) May(ctx context.Context, where, source, name, ofReport string) error {
	if name == "" || name == ofReport {
		return nil
	}
	if strings.ContainsAny(name, "{}") {
		// Which one it is shows only when the run is divided: any of them may be.
		c.text(where, name)
		all, err := c.Store.Identities(ctx, source)
		for _, i := range all {
			if err == nil {
				err = c.May(ctx, where, source, i.Name, ofReport)
			}
		}
		return err
	}
	i, err := c.Store.Identity(ctx, source, name)
	if db.IsMissing(err) {
		c.V.Add(where, "the source %q has no identity %q; an administrator can add it", source, name)
		return nil
	}
	if err != nil {
		return err
	}
	if c.Had != nil && c.Had(source, name) {
		return nil
	}
	if !access.MayChoose(c.Who, i.Choosers) {
		c.V.Add(where, "%s may not choose the identity %q of source %q; an administrator can let them", c.Who.Name,
			name, source)
	}
	return nil
}

// List checks a query that gives a list: its source, and as whom it is asked.
func (c *Checking) List(ctx context.Context, where string, q job.ListQuery) error {
	if _, _, err := c.place(ctx, records.Source, where+".source", q.Source); err != nil {
		return err
	}
	return c.May(ctx, where+".identity", q.Source, q.Identity, "")
}

// Label notes a label of the job, by which limits and freezes find it.
func (c *Checking) Label(label string) {
	for _, had := range c.Uses.Labels {
		if had == label {
			return
		}
	}
	c.Uses.Labels = append(c.Uses.Labels, label)
}

// Rows is how many rows the tasks before had in all.
func (w Work) Rows() int64 {
	var n int64
	for _, rows := range w.RowsOf {
		n += rows
	}
	return n
}

// facts gives the moving parts their values.
func (w Work) facts(report string, rows int64, bound []job.Bound) expr.Facts {
	values := make(map[string]string, len(bound)+len(w.Row))
	for name, text := range w.Row {
		values[name] = text
	}
	for _, b := range bound {
		values[b.Name] = b.Text
	}
	files := map[string]string{}
	for _, f := range w.Files {
		if _, had := files[f.Task]; !had {
			files[f.Task] = f.Name
		}
	}
	return expr.Facts{
		Job: w.Job, Report: report, Run: w.RunID.String(), Rows: rows, Date: w.Nominal, Due: w.Due, Values: values,
		Outcomes: w.Outcomes, RowsOf: w.RowsOf, Totals: w.Totals, Cells: w.Cells,
		Files: files,
	}
}

// names are what the texts of this task may speak of.
func (w Work) names(params []job.Parameter) expr.Names {
	n := Names(params)
	n.AnyCell = true // the check of the job knew which there are
	for name := range w.Row {
		if !slices.Contains(n.Values, name) {
			n.Values = append(n.Values, name)
		}
	}
	for _, name := range w.Def.Own {
		if !slices.Contains(n.Values, name) {
			n.Values = append(n.Values, name)
		}
	}
	for name := range w.Outcomes {
		n.Tasks = append(n.Tasks, name)
	}
	return n
}

// Facts gives what conditions and texts of the task may speak of. It asks for
// the parameters of the job's reports, and binds what values it can.
func (w Work) Facts(ctx context.Context) (expr.Names, expr.Facts, error) {
	params, err := w.Params(ctx)
	if err != nil {
		return expr.Names{}, expr.Facts{}, err
	}
	// What is missing here is told of by the report that asks for it.
	bound, _ := job.Bind(params, w.Values, w.Nominal, w.Frame)
	facts := w.facts(w.reports(), w.Rows(), bound)
	for _, name := range w.Def.Own {
		if _, there := facts.Values[name]; !there {
			facts.Values[name] = "" // a value of the job's own that nobody gave
			if value, ok := w.Values[name]; ok && value != nil {
				facts.Values[name] = fmt.Sprint(value)
			}
		}
	}
	return w.names(params), facts, nil
}

// reports are the names of the reports whose files the task takes, or of all that the job
// runs when it takes none.
func (w Work) reports() string {
	var taken, all []string
	for _, t := range w.Def.Tasks {
		if t.Report == nil || slices.Contains(all, t.Report.Report) {
			continue
		}
		all = append(all, t.Report.Report)
		if slices.ContainsFunc(w.Files, func(f job.Artifact) bool { return f.Task == t.Name }) {
			taken = append(taken, t.Report.Report)
		}
	}
	if len(taken) == 0 {
		taken = all
	}
	return strings.Join(taken, ", ")
}

// fill fills in the moving parts of a text; what names it in a fault.
func (w Work) fill(ctx context.Context, what, text string, change func(*expr.Facts)) (string, error) {
	if !strings.ContainsAny(text, "{}") {
		return text, nil
	}
	names, facts, err := w.Facts(ctx)
	if err != nil {
		return "", err
	}
	if change != nil {
		change(&facts)
	}
	out, err := fill(text, names, facts)
	if err != nil {
		return "", fault.Wrap(err, fault.Lasting, fault.Task, "write "+what, "Correct "+what+" in the job.")
	}
	return out, nil
}

// Names are the names that a report's moving parts may speak of.
func Names(params []job.Parameter) expr.Names {
	var n expr.Names
	for _, p := range params {
		n.Values = append(n.Values, p.Name)
	}
	return n
}

// fill reads a text with moving parts and fills it in.
func fill(text string, names expr.Names, f expr.Facts) (string, error) {
	t, err := expr.Parse(text, names)
	if err != nil {
		return "", fmt.Errorf("%q: %w", text, err)
	}
	out, err := t.Fill(f)
	if err != nil {
		return "", fmt.Errorf("%q: %w", text, err)
	}
	return out, nil
}

// rehearsed says of an effect that it was left out in a rehearsal.
func rehearsed(what string) Result {
	return Result{Note: "rehearsal: " + what}
}
