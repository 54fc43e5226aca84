package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
)

// What leaves this installation: to whom, with whose yes, and by which links those who get
// it can answer.

// SaveMail saves the house's own settings of mail. What was kept back since
// nothing left the installation goes out when that is over, as an administrator
// says.
func (st *Settings) SaveMail(ctx context.Context, who job.Person, s job.MailSettings) error {
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
	s.Domains = slices.Clone(s.Domains)
	for i, d := range s.Domains {
		domain, err := deliver.CheckDomain(d)
		if err != nil {
			v.Add(fmt.Sprintf("domains[%d]", i), "%s", err)
		}
		s.Domains[i] = domain
	}
	if err := v.Err(); err != nil {
		return err
	}
	return st.store.Do(ctx, func(t *store.Tx) error {
		if err := t.LockSetting(ctx, db.MailSetting); err != nil {
			return err
		}
		before, err := t.MailSettings(ctx)
		if err != nil {
			return err
		}
		if s, err = st.narrowed(ctx, t, who, before, s); err != nil {
			return err
		}
		if err := t.PutSetting(ctx, db.MailSetting, s); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "setting", db.MailSetting, before, s)
	})
}

const widerCause = "setting:mail:domains"

// narrowed gives the settings of mail as one administrator may save them: more domains
// than there are count once a second administrator, where there are two, saves the
// same. Until then they are kept as a wish, and the others are told.
func (st *Settings) narrowed(ctx context.Context, t *store.Tx, who job.Person,
	before, s job.MailSettings,
) (job.MailSettings, error) {
	wanted, by := before.Wanted, before.WantedBy
	s.Wanted, s.WantedBy = nil, ""
	if !widens(before.Domains, s.Domains) {
		return s, t.CloseAlertsOf(ctx, []string{widerCause})
	}
	all, err := t.Administrators(ctx)
	if err != nil || len(all) < 2 {
		return s, err
	}
	if by != "" && !strings.EqualFold(by, who.Login) && sameDomains(wanted, s.Domains) {
		return s, t.CloseAlertsOf(ctx, []string{widerCause})
	}
	s.Wanted, s.WantedBy, s.Domains = s.Domains, who.Login, before.Domains
	text := "every domain"
	if len(s.Wanted) > 0 {
		text = strings.Join(s.Wanted, ", ")
	} else {
		s.Wanted = []string{"*"}
	}
	return s, t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertConsent, Cause: widerCause, Job: "Allowed domains",
		Happened: fmt.Sprintf("%s wants to let mail go to %s.", who.Name, text), ForWhom: "all jobs that send mail",
		Tried: "It waits for a second administrator.",
		Advice: "Look at the settings of mail: if you want the same, save the same domains; otherwise save them " +
			"as they are.", Next: "Nothing by itself: mail goes where it went.",
	})
}

// widens tells whether a list of domains lets mail go to more than another; an empty
// one lets it go everywhere.
func widens(before, after []string) bool {
	switch {
	case len(before) == 0:
		return false
	case len(after) == 0:
		return true
	}
	settings := job.MailSettings{Domains: before}
	return slices.ContainsFunc(after,
		func(d string) bool { return !settings.MayReceive("x@" + strings.TrimPrefix(strings.TrimSpace(d), "@")) })
}

func sameDomains(a, b []string) bool {
	clean := func(all []string) []string {
		if len(all) == 0 {
			return []string{"*"}
		}
		out := make([]string, len(all))
		for i, d := range all {
			out[i] = strings.ToLower(strings.TrimPrefix(strings.TrimSpace(d), "@"))
		}
		slices.Sort(out)
		return slices.Compact(out)
	}
	return slices.Equal(clean(a), clean(b))
}
