package service

import (
	"context"
	"fmt"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/notify"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
)

// Save checks and saves a person. An empty password keeps the one that is there.
func (pp *People) Save(ctx context.Context, who job.Person, p job.Person, password string) (job.Person, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return p, err
	}
	var err error
	if p.Login, err = pp.store.Called(ctx, "person", p.Login); err != nil {
		return p, err
	}
	hash, err := checkPerson(&p, password)
	if err != nil {
		return p, err
	}
	var saved job.Person
	err = pp.store.Do(ctx, func(t *store.Tx) error {
		old, oldHash, err := t.PersonByLogin(ctx, p.Login)
		before, err := had(old, err)
		if err != nil {
			return err
		}
		if err := onlyTheirs(ctx, t, p.Mail, old.ID); err != nil {
			return err
		}
		waits := ""
		if before != nil {
			if err := leavesAdministrator(ctx, t, old, p.Role); err != nil {
				return err
			}
			if p.Mail, waits, err = pp.mayHave(ctx, t, who, old, p.Mail); err != nil {
				return err
			}
		}
		id, err := t.PutPerson(ctx, p, hash)
		if err != nil {
			return err
		}
		if before != nil && password != "" && !access.Matches(password, oldHash) {
			if err := t.EndAccess(ctx, id); err != nil {
				return err
			}
		}
		if before != nil && old.Wishes.MailWanted != waits {
			old.Wishes.MailWanted = waits
			old.Mail, old.Zone = p.Mail, p.Zone
			if err := t.PutWishes(ctx, old, notify.NextDigest(old.Wishes, pp.now())); err != nil {
				return err
			}
		}
		if saved, err = t.PersonByID(ctx, id); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "save", "person", saved.Login, before, saved); err != nil {
			return err
		}
		saved, err = t.PersonByID(ctx, id)
		return err
	})
	return saved, err
}

// onlyTheirs refuses an address that an administrator gave to somebody else: mail to it is
// theirs, with their pauses and their stand-in.
func onlyTheirs(ctx context.Context, t *store.Tx, mail string, id int64) error {
	if mail == "" {
		return nil
	}
	if err := t.LockSetting(ctx, "addresses"); err != nil {
		return err
	}
	all, err := t.PeopleByMail(ctx, []string{mail})
	if err != nil {
		return err
	}
	for _, other := range all {
		if other.ID != id {
			v := &fault.Invalid{What: "the address"}
			v.Add("mail", "%s has this address already; a person has one of their own, and what several share is a group",
				other.Name)
			return v.Err()
		}
	}
	return nil
}

// PutPerson checks and saves a person without asking who does it: for the
// operator at the machine, who adds the first administrator.
func PutPerson(ctx context.Context, s *store.Store, p job.Person, password string) (job.Person, error) {
	hash, err := checkPerson(&p, password)
	if err != nil {
		return p, err
	}
	var saved job.Person
	err = s.Do(ctx, func(t *store.Tx) error {
		_, oldHash, err := t.PersonByLogin(ctx, p.Login)
		if err != nil && !db.IsMissing(err) {
			return err
		}
		id, err := t.PutPerson(ctx, p, hash)
		if err != nil {
			return err
		}
		if password != "" && oldHash != "" && !access.Matches(password, oldHash) {
			if err := t.EndAccess(ctx, id); err != nil {
				return err
			}
		}
		saved, err = t.PersonByID(ctx, id)
		return err
	})
	return saved, err
}

// ChangePassword gives a person another password, who says the present one. All their
// sessions and tokens end with it, and their link to the forecast.
func (pp *People) ChangePassword(ctx context.Context, who job.Person, present, next string) error {
	another := &fault.Invalid{
		What: "the password", Wrong: []fault.Wrong{{Where: "present", Sentence: "the present password is another one"}},
	}
	_, was, err := pp.store.PersonByLogin(ctx, who.Login)
	if err != nil {
		return err
	}
	if !access.Matches(present, was) {
		return another
	}
	v := &fault.Invalid{What: "the password"}
	checkPassword(v, "next", next, who.Login, who.Name, who.Mail)
	if next == present {
		v.Add("next", "it is the present one")
	}
	if err := v.Err(); err != nil {
		return err
	}
	hash, err := access.HashPassword(next)
	if err != nil {
		return err
	}
	return pp.store.Do(ctx, func(t *store.Tx) error {
		// Whoever gave them another meanwhile meant that one to hold.
		put, err := t.PutPassword(ctx, who.ID, was, hash)
		if err != nil {
			return err
		}
		if !put {
			return another
		}
		if err := t.EndAccess(ctx, who.ID); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "change the password of", "person", who.Login, nil, nil)
	})
}

// checkPassword tells what is wrong with a password. words are those of its person, which
// are guessed first.
func checkPassword(v *fault.Invalid, where, password string, words ...string) {
	if len([]rune(password)) < minPassword {
		v.Add(where, "the password has fewer than %d characters", minPassword)
	}
	if len(password) > maxPassword {
		v.Add(where, "the password is longer than %d bytes", maxPassword)
		return
	}
	if access.Common(password, words...) {
		v.Add(where,
			"the password is a common one, or made of words that are guessed first; take several words that have "+
				"nothing to do with each other")
	}
}

// checkPerson tells what is wrong with a person, and gives the hash of a password;
// none when it is empty.
func checkPerson(p *job.Person, password string) (hash string, err error) {
	v := &fault.Invalid{What: fmt.Sprintf("person %q", p.Login)}
	CheckName(v, "login", p.Login)
	if strings.TrimSpace(p.Name) == "" {
		v.Add("name", "the person needs a name")
	}
	if p.Mail != "" {
		address, err := deliver.CheckAddress(p.Mail)
		if err != nil {
			v.Add("mail", "%s", err)
		}
		p.Mail = address
	}
	if _, err := zone.Load(p.Zone); err != nil {
		v.Add("zone", "%s", err)
	}
	if password != "" {
		checkPassword(v, "password", password, p.Login, p.Name, p.Mail)
		if hash, err = access.HashPassword(password); err != nil {
			return "", err
		}
	}
	return hash, v.Err()
}
