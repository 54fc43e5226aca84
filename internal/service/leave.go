package service

import (
	"context"
	"regexp"
	"strconv"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/notify"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
)

var clockForm = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]$`)

// LeaveLink reads such a link: whose it is and which job it leaves.
func (pp *People) LeaveLink(ctx context.Context, jobID int64,
	coded, signature string,
) (address string, j job.Job, err error) {
	missing := &db.NotFound{Kind: "link", Name: strconv.FormatInt(jobID, 10)}
	address, ok := pp.links.WhoLeaves(jobID, coded, signature)
	if !ok {
		return "", j, missing
	}
	j, err = pp.store.Job(ctx, strconv.FormatInt(jobID, 10))
	return address, j, err
}

// LeaveByLink takes an address off a job's list.
func (pp *People) LeaveByLink(ctx context.Context, address string, j job.Job) error {
	return pp.store.Do(ctx, func(t *store.Tx) error {
		if err := t.Leave(ctx, j.ID, address, "by the mail's link"); err != nil {
			return err
		}
		return t.Audit(ctx, address, "leave", "job", j.Name, nil, map[string]any{"by": "the mail's link"})
	})
}

// SaveWishes saves what a person wants for the mails that they get: they
// themselves, or an administrator for them.
func (pp *People) SaveWishes(ctx context.Context, who job.Person, login string,
	own job.OwnSettings,
) (job.Person, error) {
	p, _, err := pp.store.PersonByLogin(ctx, login)
	if err != nil {
		return p, err
	}
	if err := access.MaySpeakFor(who, p); err != nil {
		return p, err
	}
	w, after := own.Wishes, p
	v := &fault.Invalid{What: "the wishes of " + p.Name}
	if own.Mail != nil {
		if after.Mail, err = deliver.CheckAddress(*own.Mail); err != nil {
			v.Add("mail", "%s", err)
		}
	}
	if own.Zone != nil {
		after.Zone = *own.Zone
	}
	place, err := zone.Load(after.Zone)
	if err != nil {
		v.Add("zone", "%s", err)
	}
	if _, err := locale.Load(w.Language); err != nil {
		v.Add("language", "%s", err)
	}
	for where, clock := range map[string]string{
		"quiet_from": w.QuietFrom, "quiet_to": w.QuietTo, "digest_at": w.DigestAt,
	} {
		if clock != "" && !clockForm.MatchString(clock) {
			v.Add(where, "%q is no time of day; write it as 22:00", clock)
		}
	}
	if (w.QuietFrom == "") != (w.QuietTo == "") {
		v.Add("quiet_to", "quiet hours need a beginning and an end")
	}
	if w.StandIn != "" {
		in, _, err := pp.store.PersonByLogin(ctx, w.StandIn)
		switch {
		case db.IsMissing(err):
			v.Add("stand_in", "there is no person %q", w.StandIn)
		case err != nil:
			return p, err
		case in.ID == p.ID:
			v.Add("stand_in", "nobody stands in for themselves")
		}
	}
	if err := v.Err(); err != nil {
		return p, err
	}
	w.MailWanted = "" // told by the service alone
	err = pp.store.Do(ctx, func(t *store.Tx) error {
		if after.Mail, w.MailWanted, err = pp.mayHave(ctx, t, who, p, after.Mail); err != nil {
			return err
		}
		after.Wishes = w
		if err := t.PutWishes(ctx, after, notify.NextDigest(w, pp.now().In(place))); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "save", "wishes", p.Login, p, after); err != nil {
			return err
		}
		after, err = t.PersonByID(ctx, p.ID)
		return err
	})
	return after, err
}
