package service

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/people"
	"ironbell/internal/task/recipients"
)

// Whom tells whom some recipients come to now, who gets nothing, and what is wrong
// with single ones.
func (pp *People) Whom(ctx context.Context,
	texts []string,
) (addresses, notes []string, wrong []fault.Wrong, err error) {
	to, notes, bad, err := recipients.Resolve(ctx, pp.store, pp.now(), texts)
	addresses = []string{}
	for _, r := range to {
		addresses = append(addresses, r.Address)
	}
	if v, ok := bad.(*fault.Invalid); ok { //nolint:errorlint // never wrapped
		wrong = v.Wrong
	}
	return addresses, notes, wrong, err
}

// had is what stood in the records before a change, for the record of changes;
// nothing when there was none.
func had[T any](before T, err error) (any, error) {
	if db.IsMissing(err) {
		return nil, nil //nolint:nilnil // nothing is what was there
	}
	return before, err
}

// SaveGroup checks and saves a group. Lists within its members are taken apart.
func (pp *People) SaveGroup(ctx context.Context, who job.Person, g job.Group) (job.Group, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return g, err
	}
	var err error
	if g.Name, err = pp.store.Called(ctx, "group", g.Name); err != nil {
		return g, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("group %q", g.Name)}
	CheckName(v, "name", g.Name)
	members := []string{}
	for _, text := range g.Members {
		members = append(members, job.SplitRecipients(text)...)
	}
	g.Members = members
	for i, text := range members {
		to, err := job.ReadRecipient(text)
		switch {
		case err != nil:
			v.Add(fmt.Sprintf("members[%d]", i), "%s", err)
			continue
		case to.Kind == job.ToGroup && strings.EqualFold(to.Name, g.Name):
			v.Add(fmt.Sprintf("members[%d]", i), "the group would hold itself")
			continue
		}
		_, _, wrong, err := pp.Whom(ctx, []string{text})
		if err != nil {
			return g, err
		}
		for _, w := range wrong {
			v.Add(fmt.Sprintf("members[%d]", i), "%s", w.Sentence)
		}
	}
	if err := v.Err(); err != nil {
		return g, err
	}
	err = pp.store.Do(ctx, func(t *store.Tx) error {
		if err := noCircle(ctx, t, g); err != nil {
			return err
		}
		before, err := had(t.Group(ctx, g.Name))
		if err != nil {
			return err
		}
		if err := t.PutGroup(ctx, g); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "save", "group", g.Name, before, g); err != nil {
			return err
		}
		g, err = t.Group(ctx, g.Name)
		return err
	})
	return g, err
}

// noCircle refuses a group that would hold itself by way of others. Groups are saved one after
// the other, so that two that are saved at once do not close a circle.
func noCircle(ctx context.Context, t *store.Tx, g job.Group) error {
	if err := t.LockSetting(ctx, "groups"); err != nil {
		return err
	}
	all, err := t.Groups(ctx)
	if err != nil {
		return err
	}
	holds := make(map[string][]string, len(all))
	for _, one := range append(all, g) {
		var names []string
		for _, m := range one.Members {
			if r, err := job.ReadRecipient(m); err == nil && r.Kind == job.ToGroup {
				names = append(names, strings.ToLower(r.Name))
			}
		}
		holds[strings.ToLower(one.Name)] = names
	}
	self := strings.ToLower(g.Name)
	for i, m := range g.Members {
		r, err := job.ReadRecipient(m)
		if err != nil || r.Kind != job.ToGroup {
			continue
		}
		next, met := []string{strings.ToLower(r.Name)}, map[string]bool{}
		for len(next) > 0 {
			one := next[0]
			next = next[1:]
			if one == self {
				v := &fault.Invalid{What: fmt.Sprintf("group %q", g.Name)}
				v.Add(fmt.Sprintf("members[%d]", i), "the group would hold itself, by way of %s", r.Name)
				return v.Err()
			}
			if !met[one] {
				met[one] = true
				next = append(next, holds[one]...)
			}
		}
	}
	return nil
}

// SavePost checks and saves a post.
func (pp *People) SavePost(ctx context.Context, who job.Person, p job.Post) (job.Post, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return p, err
	}
	var err error
	if p.Name, err = pp.store.Called(ctx, "post", p.Name); err != nil {
		return p, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("post %q", p.Name)}
	CheckName(v, "name", p.Name)
	if p.Under != "" {
		all, err := pp.store.PostsUnder(ctx, p.Name)
		if err != nil && !db.IsMissing(err) {
			return p, err
		}
		for _, below := range all {
			if strings.EqualFold(below.Name, p.Under) {
				v.Add("under", "%s stands under %s already: it would be a circle", below.Name, p.Name)
			}
		}
		if _, err := pp.store.Post(ctx, p.Under); db.IsMissing(err) {
			v.Add("under", "there is no post %q", p.Under)
		} else if err != nil {
			return p, err
		}
	}
	for i, login := range p.Holders {
		if _, _, err := pp.store.PersonByLogin(ctx, login); db.IsMissing(err) {
			v.Add(fmt.Sprintf("holders[%d]", i), "there is no person %q", login)
		} else if err != nil {
			return p, err
		}
	}
	if p.Holders == nil {
		p.Holders = []string{}
	}
	if err := v.Err(); err != nil {
		return p, err
	}
	err = pp.store.Do(ctx, func(t *store.Tx) error {
		if err := stillBelow(ctx, t, p); err != nil {
			return err
		}
		before, err := had(t.Post(ctx, p.Name))
		if err != nil {
			return err
		}
		if err := t.PutPost(ctx, p); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "save", "post", p.Name, before, p); err != nil {
			return err
		}
		p, err = t.Post(ctx, p.Name)
		return err
	})
	return p, err
}

// stillBelow refuses a post under one that another has put under it meanwhile.
func stillBelow(ctx context.Context, t *store.Tx, p job.Post) error {
	if err := t.LockSetting(ctx, "posts"); err != nil || p.Under == "" {
		return err
	}
	below, err := t.PostsUnder(ctx, p.Name)
	if err != nil && !db.IsMissing(err) {
		return err
	}
	for _, one := range below {
		if strings.EqualFold(one.Name, p.Under) {
			v := &fault.Invalid{What: fmt.Sprintf("post %q", p.Name)}
			v.Add("under", "%s stands under %s already: it would be a circle", one.Name, p.Name)
			return v.Err()
		}
	}
	return nil
}

// Receives lists the jobs that sent to a person in the last days.
func (pp *People) Receives(ctx context.Context, login string, days int) ([]people.Gets, error) {
	p, _, err := pp.store.PersonByLogin(ctx, login)
	if err != nil {
		return nil, err
	}
	if p.Mail == "" {
		return []people.Gets{}, nil
	}
	return pp.store.GetsOf(ctx, p.Mail, days)
}

var errBound = errors.New("its owner does not let recipients leave; ask them")

// LeaveJobs takes a person off the lists of jobs, or puts them on again: one by
// name, or all that send to them. They themselves leave what lets them; an
// administrator takes them off anything. It tells how many.
func (pp *People) LeaveJobs(ctx context.Context, who job.Person, login, name string, leave bool) (int, error) {
	p, _, err := pp.store.PersonByLogin(ctx, login)
	if err != nil {
		return 0, err
	}
	if err := access.MaySpeakFor(who, p); err != nil {
		return 0, err
	}
	const days = 400
	gets, err := pp.Receives(ctx, login, days)
	if err != nil {
		return 0, err
	}
	n := 0
	v := &fault.Invalid{What: "the list of " + p.Name}
	for _, g := range gets {
		if name != "" && !strings.EqualFold(g.Job, name) && strconv.FormatInt(g.JobID, 10) != name {
			continue
		}
		if g.Left == leave {
			continue
		}
		// Whoever joined by themselves leaves whatever lets others leave.
		bound := leave && !g.MayLeave && !access.Administers(who)
		if err := pp.store.Do(ctx, func(t *store.Tx) error {
			had, err := false, error(nil)
			if leave {
				had, err = t.Unjoin(ctx, g.JobID, p.ID)
			}
			switch {
			case err != nil:
				return err
			case bound && !had:
				return errBound
			case leave && !bound:
				err = t.Leave(ctx, g.JobID, p.Mail, "by "+who.Name)
			case !leave:
				err = t.ComeBack(ctx, g.JobID, p.Mail)
			}
			if err != nil {
				return err
			}
			return t.Audit(ctx, who.Login, map[bool]string{true: "leave", false: "return"}[leave], "job", g.Job, nil,
				map[string]any{"person": p.Login})
		}); errors.Is(err, errBound) {
			v.Add(g.Job, "%s", err)
			continue
		} else if err != nil {
			return n, err
		}
		n++
	}
	if n == 0 && len(v.Wrong) == 0 && name != "" {
		v.Add("", "the job %q sent nothing to %s", name, p.Name)
	}
	if n == 0 {
		return n, v.Err()
	}
	return n, nil
}
