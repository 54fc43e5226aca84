package service

import (
	"context"
	"fmt"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/store"
	"ironbell/internal/store/people"
)

// theAdministrators is locked by whoever takes one away, so that the last two
// cannot be taken away at once.
const theAdministrators = "administrators"

// leavesAdministrator refuses a role without which nobody could administer.
func leavesAdministrator(ctx context.Context, t *store.Tx, old job.Person, role job.Role) error {
	if old.Role != job.RoleAdministrator || role == job.RoleAdministrator {
		return nil
	}
	if err := t.LockSetting(ctx, theAdministrators); err != nil {
		return err
	}
	admins, err := t.Administrators(ctx)
	if err != nil {
		return err
	}
	for _, p := range admins {
		if p.ID != old.ID {
			return nil
		}
	}
	v := &fault.Invalid{What: "the person"}
	v.Add("role", "nobody would be left who can administer; make somebody else an administrator first")
	return v.Err()
}

// InRole says in sentences what follows for a person, and for what is theirs,
// when an administrator gives them a role. Nothing is changed.
func (pp *People) InRole(ctx context.Context, who job.Person, login string, role job.Role) ([]string, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return nil, err
	}
	p, _, err := pp.store.PersonByLogin(ctx, login)
	if err != nil {
		return nil, err
	}
	if p.Role == role {
		return []string{}, nil
	}
	has, err := pp.store.Belongings(ctx, p)
	if err != nil {
		return nil, err
	}
	gets, err := pp.Receives(ctx, p.Login, recentDays)
	if err != nil {
		return nil, err
	}
	says := []string{whatTheyOwn(role, has)}
	if others := others(has); role == job.RoleAdministrator {
		says = append(says, "They can change and ring "+others+", too, and change all sources, destinations, people and "+
			"settings; they are told of alerts that nobody acknowledged.")
	} else if p.Role == job.RoleAdministrator {
		says = append(says, "They can no longer change or ring "+others+", nor change sources, destinations, people "+
			"and settings.", administratorsLeft(has.Administrators-1))
	}
	if has.Own > 0 {
		says = append(says, fmt.Sprintf("%s of theirs %s theirs.", phrase.Count(has.Own, "own schedule"),
			phrase.Plural(has.Own, "stays", "stay")))
	}
	if len(gets) > 0 {
		says = append(says, fmt.Sprintf("What they receive stays: %s sent to them in the last %d days.",
			phrase.Count(len(gets), "job"), recentDays))
	}
	if has.SignIns > 0 {
		says = append(says, fmt.Sprintf("%s of theirs %s by the new role at once.",
			phrase.Count(has.SignIns, "open session or token"), phrase.Plural(has.SignIns, "goes", "go")))
	}
	return says, nil
}

// recentDays is for how long back it is told what somebody received.
const recentDays = 30

func whatTheyOwn(role job.Role, has people.Belongings) string {
	owns := phrase.Count(has.Jobs, "job")
	if has.Jobs > 0 {
		owns += fmt.Sprintf(" (%d on)", has.On)
	}
	owns += " and " + phrase.Count(has.Reports, "report")
	switch {
	case has.Jobs+has.Reports == 0 && role == job.RoleReader:
		return "They own nothing that they could no longer change."
	case has.Jobs+has.Reports == 0:
		return "They own no job and no report yet; from now on they can make some."
	case role == job.RoleReader:
		return "They own " + owns + ". These go on and their alerts still come to them, but they can no longer change " +
			"or ring them, nor answer for what they send: give them another owner."
	}
	return "They own " + owns + ", and change and ring them."
}

func others(has people.Belongings) string {
	return fmt.Sprintf("the %s and %s of others", phrase.Count(has.AllJobs-has.Jobs, "job"),
		phrase.Count(has.AllReports-has.Reports, "report"))
}

func administratorsLeft(n int) string {
	if n == 0 {
		return "Nobody would be left who can administer, so this is refused."
	}
	return fmt.Sprintf("%s %s.", phrase.Count(n, "other administrator"), phrase.Plural(n, "is left", "are left"))
}
