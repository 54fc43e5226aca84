package service

import (
	"context"
	"fmt"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
)

// SaveIdentity checks and saves an identity of a source. A nil password keeps
// the one that is there. A login that could get out of its rows is refused.
func (pl *Places) SaveIdentity(ctx context.Context, who job.Person, source, name, login string, choosers []string,
	password *string, vault interface {
		Sealer
		report.Vault
	},
) (records.Identity, error) {
	if err := access.May(who, access.Administer, "", ""); err != nil {
		return records.Identity{}, err
	}
	v := &fault.Invalid{What: fmt.Sprintf("identity %q", name)}
	CheckName(v, "name", name)
	p, err := pl.store.Place(ctx, records.Source, source)
	if err != nil {
		return records.Identity{}, err
	}
	if strings.TrimSpace(login) == "" {
		v.Add("login", "it needs the login at the source")
	}
	for i, c := range choosers {
		if _, _, err := pl.store.PersonByLogin(ctx, c); db.IsMissing(err) {
			v.Add(fmt.Sprintf("choosers[%d]", i), "there is no person %q", c)
		} else if err != nil {
			return records.Identity{}, err
		}
	}
	settings, err := report.As(p.Settings, login)
	if err != nil {
		v.Add("login", "%s", err)
	}
	if err := v.Err(); err != nil {
		return records.Identity{}, err
	}
	i := records.Identity{Source: source, Name: name, Login: login, Choosers: choosers}
	plain := ""
	record := report.IdentityRecord(source, name)
	if password != nil {
		plain = *password
		if i.Secret, err = vault.Seal(record, plain); err != nil {
			return i, err
		}
		if i.Secret == nil {
			i.Secret = []byte{}
		}
	} else if old, err := pl.store.Identity(ctx, source, name); err == nil {
		if plain, err = vault.Open(record, old.Secret); err != nil {
			return i, err
		}
	}
	opened, err := pl.sources.Open(p.Protocol, source, settings, plain)
	if err != nil {
		return i, err
	}
	defer opened.Close()
	if checked, ok := opened.(report.Checked); ok {
		// A server that does not answer now is asked again when the identity is used.
		if err := report.Confined(ctx, checked, name); err != nil && fault.Of(err).Class == fault.Lasting {
			return i, err
		}
	}
	err = pl.store.Do(ctx, func(t *store.Tx) error {
		old, err := t.Identity(ctx, source, name)
		before, err := had(map[string]any{"login": old.Login, "choosers": old.Choosers}, err)
		if err != nil {
			return err
		}
		if err := t.PutIdentity(ctx, i); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "save", "identity", source+": "+name, before, map[string]any{
			"login": login, "choosers": choosers,
			"password": map[bool]string{true: "changed", false: "kept"}[password != nil],
		})
	})
	if err != nil {
		return i, err
	}
	return pl.store.Identity(ctx, source, name)
}
