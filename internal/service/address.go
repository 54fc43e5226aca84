package service

import (
	"context"
	"fmt"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
)

// mailCause is the cause of the question whether a person may have an address.
func mailCause(p job.Person) string { return "mail:" + strings.ToLower(p.Login) }

// mayHave gives the address that a person gets who saves one for somebody: one of
// one's own outside the allowed domains waits for another person, an administrator.
func (pp *People) mayHave(ctx context.Context, t *store.Tx, who, p job.Person,
	wanted string,
) (mail, waits string, err error) {
	settings, err := t.MailSettings(ctx)
	if err != nil {
		return "", "", err
	}
	if strings.EqualFold(wanted, p.Mail) || wanted == "" || settings.MayReceive(wanted) ||
		who.ID != p.ID && access.Administers(who) {
		return wanted, "", t.CloseAlertsOf(ctx, []string{mailCause(p)})
	}
	if all, err := t.Administrators(ctx); err != nil || len(all) == 1 && all[0].ID == p.ID {
		return wanted, "", err // there is no other
	}
	return p.Mail, wanted, t.OpenAlert(ctx, job.Alert{
		Kind: job.AlertConsent, Cause: mailCause(p), Job: "Address of " + p.Name,
		Happened: fmt.Sprintf("%s wants to get mail at %s, which lies outside the allowed domains.", p.Name, wanted),
		ForWhom:  p.Name,
		Tried:    "Their mail goes where it went.",
		Advice:   fmt.Sprintf("If that is right, set the address for them: %s/people?who=%s", pp.links.URL, p.Login),
		Next:     "Nothing by itself.",
	})
}
