package service

import (
	"context"
	"fmt"
	"slices"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/store/history"
)

// MayFetch tells whether a person may have what a run made, by another way than a link: the
// file with a key, or, when it is empty, any of it. Where links lead to it the same holds as
// for them: whoever none of them lets in, since they were withdrawn, have ended or are for
// others, gets it from the job's owner. The error is an *access.Denied.
func (rs *Runs) MayFetch(ctx context.Context, who job.Person, id job.RunID, key string) error {
	links, err := rs.store.LinksOfRun(ctx, id)
	if err != nil {
		return err
	}
	links = slices.DeleteFunc(links, func(l history.Link) bool { return key != "" && !slices.Contains(l.Files.V, key) })
	if len(links) == 0 || slices.ContainsFunc(links, func(l history.Link) bool { return l.Open() && l.For(who) }) {
		return nil
	}
	j, err := rs.store.Job(ctx, fmt.Sprint(links[0].JobID))
	if err != nil {
		return err
	}
	return access.MayOwn(who, access.Ring, "fetch what this run made, since no link to it is open to "+who.Name, j.Owner, j.Personal)
}
