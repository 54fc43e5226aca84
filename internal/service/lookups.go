package service

import (
	"context"
	"errors"
	"regexp"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
	"ironbell/internal/task"
)

// checkLimit is how long a source may take to check a query when it is saved.
const checkLimit = 10 * time.Second

var (
	timeOfDay = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]$`)
	tagForm   = regexp.MustCompile(`^[\pL\pN][\pL\pN _.-]{0,59}$`)
)

// changed carries a report as it is about to be saved, so that jobs can be
// checked against it before it is.
type changed struct{}

// report finds a report as jobs are to be checked against it.
func (ck *checks) report(ctx context.Context, name string) (job.Report, error) {
	if r, ok := ctx.Value(changed{}).(job.Report); ok && strings.EqualFold(r.Name, name) {
		return r, nil
	}
	return ck.store.Report(ctx, name)
}

func (ck *checks) owner(ctx context.Context, v *fault.Invalid, login string) (job.Person, error) {
	p, _, err := ck.store.PersonByLogin(ctx, login)
	var missing *db.NotFound
	if errors.As(err, &missing) {
		v.Add("owner", "there is no person %q; name somebody who signs in", login)
		return p, nil
	}
	return p, err
}

// hadIdentity tells which identities a job used before it was changed.
func (ck *checks) hadIdentity(ctx context.Context, old job.Definition) func(source, name string) bool {
	return func(source, name string) bool {
		for _, w := range old.Watched() {
			if w.Kind == job.WatchQuery && w.Place == source && w.Query.Identity == name {
				return true
			}
		}
		return slices.ContainsFunc(old.Tasks, func(t job.Task) bool {
			if t.Report == nil || t.Report.Identity != name {
				return false
			}
			r, err := ck.store.Report(ctx, t.Report.Report)
			return err == nil && r.Source == source
		})
	}
}

// parameters lists the parameters of the reports and statements of some tasks.
func (ck *checks) parameters(ctx context.Context, d job.Definition) ([]job.Parameter, error) {
	return task.ParametersOf(ctx, d, ck.report)
}
