package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/usual"
	"ironbell/internal/core/zone"
	"ironbell/internal/event"
	"ironbell/internal/store/db"
	"ironbell/internal/store/history"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
	"ironbell/internal/task"
)

// Waiting tells what jobs wait for, and how far each has come; of one job, or of all when name is empty.
func (js *Jobs) Waiting(ctx context.Context, name string) ([]job.Waiting, error) {
	if name != "" {
		if _, err := js.store.Job(ctx, name); err != nil {
			return nil, err
		}
	}
	rows, err := js.store.WaitingTriggers(ctx, name)
	if err != nil {
		return nil, err
	}
	out := make([]job.Waiting, 0, len(rows))
	for _, r := range rows {
		out = append(out, waitingOf(r, js.now()))
	}
	return out, nil
}

// waitingOf says how far a trigger has come.
func waitingOf(r rings.WaitingTrigger, now time.Time) job.Waiting {
	place, err := zone.Load(r.Zone)
	if err != nil {
		place = time.UTC
	}
	w := job.Waiting{Job: r.Job, Owner: r.Owner, On: r.On, Zone: r.Zone, Rule: r.Rule, Starts: r.Starts}
	for _, id := range r.Held.V {
		w.Runs = append(w.Runs, job.RunID(id))
	}
	wait := r.Waits.V.WithDefaults()
	// What belongs together is told of together: that of which something came last.
	latest := ""
	for _, h := range r.Came.V {
		latest = max(latest, h.Bunch)
	}
	enough := wait.Need == job.NeedAny && slices.ContainsFunc(r.Usual.V, func(u rings.WaitingUsual) bool {
		return u.Last != nil && usual.Day(*u.Last, place) == usual.Day(now, place)
	})
	var missing []string
	var since time.Time
	for i, c := range wait.For {
		one := job.WaitingCondition{Reading: event.Reading(c)}
		for _, h := range r.Came.V {
			counts := wait.Match != job.MatchWindow || now.Sub(h.At) <= time.Duration(wait.Within)
			if h.Place == i && h.Bunch == latest && counts {
				one.Came, one.What = &h.At, h.What
				if since.IsZero() || h.At.Before(since) {
					since = h.At
				}
			}
		}
		for _, l := range r.Watches.V {
			if l.Place == i {
				one.Looked, one.Next, one.Failing, one.Since, one.Note = l.Looked, l.Next, l.Failing, l.Since, l.Note
			}
		}
		for _, l := range r.Usual.V {
			if l.Place == i {
				one.Last, one.Missed = l.Last, !enough && missed(l, place, now)
				if l.By != nil && usual.Day(*l.By, place) == usual.Day(now, place) {
					one.Usual, one.Late = l.By, l.Late
				}
			}
		}
		if one.Came == nil {
			missing = append(missing, one.Reading)
		}
		w.Conditions = append(w.Conditions, one)
	}
	w.Sentence = howFar(wait, len(wait.For)-len(missing), missing, since.In(place))
	switch {
	case !r.On:
		w.Sentence = "Its job is off: nothing starts it."
	case r.Starts != nil:
		w.Sentence = fmt.Sprintf("All is there; it starts at %s, when nothing more comes.",
			r.Starts.In(place).Format("15:04 MST on 2 January"))
	case len(w.Runs) > 0:
		w.Sentence = phrase.Upper(phrase.Count(len(w.Runs), "run")+phrase.Plural(len(w.Runs), " waits", " wait")) + ". " + w.Sentence
	}
	return w
}

// missed tells whether something has not come today, though it is late by its own past.
func missed(u rings.WaitingUsual, place *time.Location, now time.Time) bool {
	if u.Late == nil || now.Before(*u.Late) || usual.Day(*u.Late, place) != usual.Day(now, place) {
		return false
	}
	return u.Last == nil || usual.Day(*u.Last, place) != usual.Day(now, place)
}

// howFar says how much has come, and what has not.
func howFar(wait job.Wait, have int, missing []string, since time.Time) string {
	between := " and "
	if wait.Need == job.NeedAny {
		between = " or "
	}
	text := strings.Join(missing, between)
	switch {
	case have > 0 && len(missing) > 0 && wait.Need == job.NeedAll:
		return fmt.Sprintf("%d of %d: waits for %s since %s.", have, len(wait.For), text, since.Format("15:04 MST on 2 January"))
	case len(missing) == 0:
		return "All of it came at " + since.Format("15:04 MST on 2 January") + "."
	}
	if have == 0 && len(wait.For) > 1 {
		if wait.Need == job.NeedAny {
			return "Waits for any of them; none has come yet."
		}
		return fmt.Sprintf("0 of %d: none of them has come yet.", len(wait.For))
	}
	return "Waits for " + strings.TrimSuffix(text, ".") + "."
}

// LookNow looks at what a condition waits for, as it is now, and starts nothing. Whoever may save jobs may do
// so, of what they may save.
func (js *Jobs) LookNow(ctx context.Context, who job.Person, c job.Condition) (job.Looked, error) {
	if err := access.May(who, access.Write, "look at what jobs wait for", ""); err != nil {
		return job.Looked{}, err
	}
	v := &fault.Invalid{What: "the condition"}
	var uses records.Uses
	checking := &task.Checking{V: v, Store: js.checks.store, Uses: &uses, Who: who, Had: func(string, string) bool { return false }}
	if err := js.checks.checkConditions(ctx, checking, "", "", job.Wait{For: []job.Condition{c}}); err != nil {
		return job.Looked{}, err
	}
	for i := range v.Wrong { // it stands alone here, and in no trigger
		v.Wrong[i].Where = strings.TrimPrefix(strings.TrimPrefix(v.Wrong[i].Where, ".for[0]"), ".")
	}
	if err := v.Err(); err != nil {
		return job.Looked{}, err
	}
	switch {
	case c.Files != nil:
		return unlessRefused(js.looks.FilesNow(ctx, *c.Files))
	case c.Query != nil:
		return unlessRefused(js.looks.AnswerNow(ctx, *c.Query))
	case c.Start != "":
		return js.lastEvent(ctx, job.Condition{Event: job.EventStarted, OnlyIf: c.OnlyIf})
	case c.Event != "":
		return js.lastEvent(ctx, c)
	}
	j, err := js.store.Job(ctx, c.Job)
	if err != nil {
		return job.Looked{}, err
	}
	all, err := js.store.Runs(ctx, history.RunFilter{JobID: j.ID, Limit: 1})
	if err != nil || len(all) == 0 {
		return job.Looked{Sentence: fmt.Sprintf("%s has no run yet.", c.Job)}, err
	}
	counts := "would not count"
	if slices.Contains(c.Outcomes(), all[0].State) {
		counts = "would count"
	}
	return job.Looked{Sentence: fmt.Sprintf("The last run of %s, %s, is %s, which %s.", c.Job, all[0].ID, all[0].State, counts)}, nil
}

// unlessRefused tells what a place refused as something that is seen, and no failure of ours.
func unlessRefused(seen job.Looked, err error) (job.Looked, error) {
	if err == nil {
		return seen, nil
	}
	f := fault.Of(err)
	return job.Looked{Failing: true, Sentence: strings.TrimSpace(phrase.Upper("it cannot be seen now: "+f.Error()+". ") + f.Advice)}, nil
}

// lastEvent tells whether the last event of a type is what a condition means.
func (js *Jobs) lastEvent(ctx context.Context, c job.Condition) (job.Looked, error) {
	last, err := js.store.LastEvent(ctx, c.Event, c.Source, c.Subject)
	if db.IsMissing(err) {
		return job.Looked{Sentence: "No such event was ever reported."}, nil
	}
	if err != nil {
		return job.Looked{}, err
	}
	ev := last.Read()
	facts, err := event.Facts(ev)
	if err != nil {
		return job.Looked{}, err
	}
	out := job.Looked{
		Number: last.Row, Sentence: "The last such event would count.",
		Columns: []string{"Type", "Source", "Subject", "Received", "Data"},
		Rows:    [][]string{{ev.Type, ev.Source, ev.Subject, ev.Received.UTC().Format(time.RFC3339), string(ev.Data)}},
	}
	if ok, why := event.Matches(c, event.Happening{Event: &ev, Facts: facts}); !ok {
		out.Sentence = "The last such event would not count: the job " + why + "."
	}
	return out, nil
}
