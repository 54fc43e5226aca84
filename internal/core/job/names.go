package job

import (
	"slices"
	"strings"
)

// Naming is asked for each name of another record that a record speaks of, and says what it
// is called now. Kinds are report, job, source, destination, calendar, person, group and post.
type Naming func(kind, name string) string

// Renames gives the naming by which one record has another name. The names of people, groups
// and posts are the same in any case of their letters.
func Renames(kind, from, to string) Naming {
	return func(k, name string) string {
		fold := k == "person" || k == "group" || k == "post"
		if k == kind && (name == from || fold && strings.EqualFold(name, from)) {
			return to
		}
		return name
	}
}

// Named gives the definition with every name as it is called now. The one that it is made of
// stays as it is. Names that are filled in by moving parts are not known.
func (d Definition) Named(now Naming) Definition {
	d.Calendars = each(d.Calendars, func(c string) string { return now("calendar", c) })
	if d.SecondOwner != "" {
		d.SecondOwner = now("person", d.SecondOwner)
	}
	d.Joiners = RecipientsNamed(d.Joiners, now)
	d.Split.Query = d.Split.Query.named(now)
	d.Triggers = each(d.Triggers, func(t Trigger) Trigger {
		if t.Wait != nil {
			w := *t.Wait
			w.For = each(w.For, func(c Condition) Condition {
				if c.Job != "" {
					c.Job = now("job", c.Job)
				}
				if c.Files != nil {
					f := *c.Files
					f.Destination = now("destination", f.Destination)
					c.Files = &f
				}
				if c.Query != nil {
					q := *c.Query
					q.Source = now("source", q.Source)
					c.Query = &q
				}
				return c
			})
			t.Wait = &w
		}
		return t
	})
	d.Tasks = each(d.Tasks, func(t Task) Task { return t.named(now) })
	return d
}

func (t Task) named(now Naming) Task {
	if t.Report != nil {
		r := *t.Report
		r.Report = now("report", r.Report)
		t.Report = &r
	}
	if t.Collect != nil {
		c := *t.Collect
		if c.Source != "" {
			c.Source = now("source", c.Source)
		}
		if c.Destination != "" {
			c.Destination = now("destination", c.Destination)
		}
		t.Collect = &c
	}
	if t.Fetch != nil && t.Fetch.Source != "" {
		f := *t.Fetch
		f.Source = now("source", f.Source)
		t.Fetch = &f
	}
	if t.Query != nil {
		q := *t.Query
		q.Source = now("source", q.Source)
		t.Query = &q
	}
	if t.Call != nil {
		c := *t.Call
		c.Destination = now("destination", c.Destination)
		t.Call = &c
	}
	if t.Deliver != nil {
		d := *t.Deliver
		d.Destination = now("destination", d.Destination)
		d.To, d.Cc, d.Bcc = RecipientsNamed(d.To, now), RecipientsNamed(d.Cc, now), RecipientsNamed(d.Bcc, now)
		d.ToQuery = d.ToQuery.named(now)
		t.Deliver = &d
	}
	return t
}

func (q *ListQuery) named(now Naming) *ListQuery {
	if q == nil {
		return nil
	}
	with := *q
	with.Source = now("source", q.Source)
	return &with
}

// Named gives the definition with the name of its source as it is called now.
func (d ReportDefinition) Named(now Naming) ReportDefinition {
	d.Source = now("source", d.Source)
	d.Schedulers = RecipientsNamed(d.Schedulers, now)
	return d
}

// RecipientsNamed gives recipients with every name as it is called now. A text in which
// nothing changes stays as it was written.
func RecipientsNamed(texts []string, now Naming) []string {
	return each(texts, func(text string) string {
		list := SplitRecipients(text)
		changed := false
		for i, one := range list {
			r, err := ReadRecipient(one)
			if err != nil || r.Kind == ToAddress {
				continue
			}
			kind := string(r.Kind)
			if r.Kind == ToUnder {
				kind = "post"
			}
			if name := now(kind, r.Name); name != r.Name {
				r.Name, changed = name, true
				list[i] = r.String()
			}
		}
		if !changed {
			return text
		}
		return strings.Join(list, ", ")
	})
}

// each gives a list with each of its entries changed; nil stays nil.
func each[T any](list []T, change func(T) T) []T {
	list = slices.Clone(list)
	for i := range list {
		list[i] = change(list[i])
	}
	return list
}
