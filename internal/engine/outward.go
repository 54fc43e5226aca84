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
	"ironbell/internal/task"
)

// What leaves the house: to whom, with whose yes, and by which links those who get
// it can answer.

// route says of each recipient of a message whether it goes out at once. To whom
// all mail goes, when an installation sends only to one address, is told whom it
// was meant for.
func route(house job.MailSettings, file bool, to []store.Recipient) []store.Recipient {
	out := make([]store.Recipient, len(to))
	for i, r := range to {
		switch {
		case r.KeptBack != "":
		case house.Sending == job.SendNone, house.Sending == job.SendOne && file:
			r.KeptBack = job.KeptForSilent
		case house.Sending == job.SendOne:
			r.MeantFor, r.Address, r.PersonID = r.Address, house.OnlyTo, 0
		case !file && !house.MayReceive(r.Address):
			r.KeptBack = job.KeptForYes
		}
		out[i] = r
	}
	return out
}

// routeAll does so for the messages of a task, and says of what is kept back.
func (p *performance) routeAll(ctx context.Context, made []task.Message) ([]job.LogLine, error) {
	if len(made) == 0 || p.c.Rehearsal {
		return nil, nil
	}
	house, err := p.e.store.MailSettings(ctx)
	if err != nil {
		return nil, err
	}
	kept := map[job.KeptBack][]string{}
	for i, m := range made {
		made[i].To = route(house, m.Name != "", m.To)
		for _, r := range made[i].To {
			if r.KeptBack != "" {
				kept[r.KeptBack] = append(kept[r.KeptBack], r.Address)
			}
		}
	}
	var logs []job.LogLine
	if out := kept[job.KeptForYes]; len(out) > 0 {
		logs = append(logs, job.LogLine{Level: "warn", Text: fmt.Sprintf("kept back until a second person says yes, since mail goes only to %s: %s", strings.Join(house.Domains, ", "), few(out))})
	}
	if out := kept[job.KeptForSilent]; len(out) > 0 {
		logs = append(logs, job.LogLine{Level: "warn", Text: fmt.Sprintf("kept back since this installation sends nothing like it now: %s", few(out))})
	}
	return logs, nil
}

// few lists the first of many.
func few(all []string) string {
	const shown = 20
	text := strings.Join(all[:min(len(all), shown)], ", ")
	if len(all) > shown {
		text += fmt.Sprintf(" and %d more", len(all)-shown)
	}
	return text
}

// Allow says yes to a delivery that waits for a second person: one who does not
// own the job.
func (e *Engine) Allow(ctx context.Context, who job.Person, id int64, yes bool) (job.Delivery, error) {
	var d job.Delivery
	err := e.store.Do(ctx, func(t *store.Tx) error {
		var err error
		if d, err = t.LockDelivery(ctx, id); err != nil {
			return err
		}
		if d.State != job.DeliveryWaiting || d.KeptBack != job.KeptForYes || d.JobID == nil {
			return &fault.Invalid{Wrong: []fault.Wrong{{Sentence: fmt.Sprintf("the delivery to %s does not wait for a yes; it is %s", d.Address, d.State)}}}
		}
		j, err := t.Job(ctx, strconv.FormatInt(*d.JobID, 10))
		if err != nil {
			return err
		}
		if err := access.MayAllow(who, j.Owner); err != nil {
			return err
		}
		text, verdict := fmt.Sprintf("%s said yes: it goes to %s", who.Name, d.Address), "yes"
		if yes {
			err = t.AllowDelivery(ctx, id, who.Name)
		} else {
			text, verdict = fmt.Sprintf("%s said no: it does not go to %s", who.Name, d.Address), "no"
			err = t.GiveUp(ctx, []int64{id}, who.Name+" said no", "", string(fault.Lasting))
		}
		if err != nil {
			return err
		}
		if err := t.Log(ctx, job.LogLine{Part: d.Part, Text: text}, *d.RunID); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, "allow", "delivery", strconv.FormatInt(id, 10), nil, map[string]any{"to": d.Address, "said": verdict}); err != nil {
			return err
		}
		if err := e.settleRun(ctx, t, *d.RunID); err != nil {
			return err
		}
		d, err = t.LockDelivery(ctx, id)
		return err
	})
	return d, err
}

// SaveMailSettings saves the house's own settings of mail. What was kept back since
// nothing left the installation goes out when that is over, as an administrator
// says.
func (e *Engine) SaveMailSettings(ctx context.Context, who job.Person, s job.MailSettings) error {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return err
	}
	v := &fault.Invalid{What: "the settings of mail"}
	for where, text := range map[string]*string{"reply_to": &s.ReplyTo, "only_to": &s.OnlyTo} {
		if *text == "" {
			continue
		}
		address, err := deliver.CheckAddress(*text)
		if err != nil {
			v.Add(where, "%s", err)
		}
		*text = address
	}
	if s.Sending == job.SendOne && s.OnlyTo == "" {
		v.Add("only_to", "name the one address that all mail goes to")
	}
	for i, d := range s.Domains {
		if strings.ContainsAny(d, " ,;@/") || !strings.Contains(d, ".") {
			v.Add(fmt.Sprintf("domains[%d]", i), "%q is no domain; write it as company.example", d)
		}
	}
	if err := v.Err(); err != nil {
		return err
	}
	before, err := e.store.MailSettings(ctx)
	if err != nil {
		return err
	}
	return e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.PutSetting(ctx, store.MailSetting, s); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", store.MailSetting, before, s)
	})
}

// ReleaseSilent lets go, or gives up, what was kept back since nothing left the
// installation.
func (e *Engine) ReleaseSilent(ctx context.Context, who job.Person, send bool) (int64, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return 0, err
	}
	var n int64
	err := e.store.Do(ctx, func(t *store.Tx) error {
		var runs []job.RunID
		var err error
		if n, runs, err = t.ReleaseSilent(ctx, send, who.Name); err != nil {
			return err
		}
		if err := t.Audit(ctx, who.Login, map[bool]string{true: "send", false: "drop"}[send], "deliveries", "silent", nil, map[string]any{"deliveries": n}); err != nil {
			return err
		}
		return e.settleRuns(ctx, t, runs)
	})
	return n, err
}

// takeOnLink is the address at which a person takes an alert on without signing
// in: it shows on GET and acts on POST.
func (e *Engine) takeOnLink(alert, person int64) string {
	if e.o.Signer == nil {
		return fmt.Sprintf("%s/alerts/%d", e.o.URL, alert)
	}
	return fmt.Sprintf("%s/take-on/%d/%d/%s", e.o.URL, alert, person, e.o.Signer.Sign(fmt.Sprintf("take-on:%d:%d", alert, person)))
}

// TakeOnLink reads such an address: whose it is and what it is about.
func (e *Engine) TakeOnLink(ctx context.Context, alert, person int64, signature string) (job.Alert, job.Person, error) {
	if e.o.Signer == nil || !e.o.Signer.Signed(fmt.Sprintf("take-on:%d:%d", alert, person), signature) {
		return job.Alert{}, job.Person{}, &store.NotFound{Kind: "link", Name: strconv.FormatInt(alert, 10)}
	}
	p, err := e.store.PersonByID(ctx, person)
	if err != nil {
		return job.Alert{}, p, err
	}
	a, err := e.store.Alert(ctx, alert)
	return a, p, err
}

// TakeOnByLink takes an alert on for who got the mail with the link.
func (e *Engine) TakeOnByLink(ctx context.Context, a job.Alert, p job.Person) error {
	return e.store.Do(ctx, func(t *store.Tx) error {
		if err := t.Acknowledge(ctx, a.ID, p.Name); err != nil {
			return err
		}
		return t.Audit(ctx, p.Login, "acknowledge", "alert", strconv.FormatInt(a.ID, 10), nil, map[string]any{"by": "the mail's link"})
	})
}

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
		case isMissing(err):
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
	after.Wishes = w
	err = e.store.Do(ctx, func(t *store.Tx) error {
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
