package report

import (
	"context"
	"fmt"
	"strings"

	"ironbell/internal/core/fault"
)

// Rights is what a login of a source may do beside reading what was granted to it, as
// its server tells it. A reader of texts can be deceived; a login that may not write
// cannot be made to.
type Rights struct {
	Never  []string // with any of these it is used for nothing
	Writes []string // with these it is used only when an administrator signed that it can write
	Out    []string // what would let a query out of the login's own rows, when it is an identity
	Signed bool     // whether the settings say that it can write
}

// Checked is a source whose server tells what its login may do.
type Checked interface {
	Rights(ctx context.Context) (Rights, error)
}

// Confined tells whether a query that runs as an identity stays within its rows.
func Confined(ctx context.Context, source Checked, identity string) error {
	r, err := source.Rights(ctx)
	if err != nil {
		return err
	}
	ways := append(append([]string{}, r.Never...), r.Out...)
	if !r.Signed {
		ways = append(ways, r.Writes...)
	}
	if len(ways) == 0 {
		return nil
	}
	return fault.New(fault.Source, "read as identity "+quote(identity),
		"a query could get out of it: "+strings.Join(ways, "; "),
		"Take these rights from the login, or give the identity another login.")
}

// ReadsOnly tells whether a source's own login is one that reports may be read with, and
// gives what it could write, all the same, when that was signed.
func ReadsOnly(ctx context.Context, source Source, name string) (writes []string, err error) {
	checked, ok := source.(Checked)
	if !ok {
		return nil, nil // a file is opened to be read, and nobody signs in
	}
	r, err := checked.Rights(ctx)
	if err != nil {
		return nil, err
	}
	return r.readsOnly(name)
}

func (r Rights) readsOnly(name string) (writes []string, err error) {
	doing := "sign in to source " + quote(name)
	if len(r.Never) > 0 {
		return nil,
			fault.New(fault.Source, doing, "its login may do anything: "+strings.Join(r.Never, "; "),
				"Give the source a login of its own that may only read.")
	}
	if len(r.Writes) > 0 && !r.Signed {
		return nil, fault.New(fault.Source, doing, "its login may do more than read: "+strings.Join(r.Writes, "; "),
			"Give the source a login that may only read. An administrator who has to take this one says so in its "+
				"settings with may_write.")
	}
	return r.Writes, nil
}

// some names a few of many.
func some(names []string) string {
	const shown = 3
	if len(names) <= shown {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and more", strings.Join(names[:shown], ", "))
}
