package engine

import (
	"context"
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/store"
)

// leaveText is what the link signs by which an address leaves a job's list.
func leaveText(jobID int64, address string) string {
	return fmt.Sprintf("leave:%d:%s", jobID, strings.ToLower(address))
}

// leaveHeaders are the lines by which who gets a mail can leave the job's list with
// one click (RFC 2369, RFC 8058).
func (e *Engine) leaveHeaders(s store.Sending) []string {
	if !s.MayLeave || s.JobID == nil || e.o.Signer == nil {
		return nil
	}
	link := fmt.Sprintf("%s/leave/%d/%s/%s", e.o.URL, *s.JobID, base64.RawURLEncoding.EncodeToString([]byte(s.Address)), e.o.Signer.Sign(leaveText(*s.JobID, s.Address)))
	return []string{"List-Unsubscribe: <" + link + ">", "List-Unsubscribe-Post: List-Unsubscribe=One-Click"}
}

// LeaveLink reads such a link: whose it is and which job it leaves.
func (e *Engine) LeaveLink(ctx context.Context, jobID int64, coded, signature string) (address string, j job.Job, err error) {
	missing := &store.NotFound{Kind: "link", Name: strconv.FormatInt(jobID, 10)}
	text, err := base64.RawURLEncoding.DecodeString(coded)
	if err != nil || e.o.Signer == nil || !e.o.Signer.Signed(leaveText(jobID, string(text)), signature) {
		return "", j, missing
	}
	j, err = e.store.Job(ctx, strconv.FormatInt(jobID, 10))
	return string(text), j, err
}

// LeaveByLink takes an address off a job's list.
func (e *Engine) LeaveByLink(ctx context.Context, address string, j job.Job) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.Leave(ctx, j.ID, address, "by the mail's link"); err != nil {
			return err
		}
		return t.Audit(ctx, address, "leave", "job", j.Name, nil, map[string]any{"by": "the mail's link"})
	})
}

// SaveWishes saves what a person wants for the mails that they get: they
// themselves, or an administrator for them.
func (e *Engine) SaveWishes(ctx context.Context, who job.Person, login string, own job.OwnSettings) (job.Person, error) {
	p, _, err := e.store.PersonByLogin(ctx, login)
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
	for where, clock := range map[string]string{"quiet_from": w.QuietFrom, "quiet_to": w.QuietTo, "digest_at": w.DigestAt} {
		if clock != "" && !clockForm.MatchString(clock) {
			v.Add(where, "%q is no time of day; write it as 22:00", clock)
		}
	}
	if (w.QuietFrom == "") != (w.QuietTo == "") {
		v.Add("quiet_to", "quiet hours need a beginning and an end")
	}
	if w.StandIn != "" {
		in, _, err := e.store.PersonByLogin(ctx, w.StandIn)
		switch {
		case store.IsMissing(err):
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
	err = e.store.Do(ctx, func(t *store.Tx) error {
		if after.Mail, w.MailWanted, err = e.mayHave(ctx, t, who, p, after.Mail); err != nil {
			return err
		}
		after.Wishes = w
		if err := t.PutWishes(ctx, after, nextDigest(w, e.o.Now().In(place))); err != nil {
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
