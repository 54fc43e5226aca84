package service

import (
	"context"
	"crypto/rand"
	"fmt"
	"strconv"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/render"
	"ironbell/internal/store"
	"ironbell/internal/store/history"
	"ironbell/internal/task/recipients"
)

// LinkWish is what somebody wants a link to a run's files to be.
type LinkWish struct {
	Run   job.RunID
	Files []int64
	For   string   // job.LinkNamed or job.LinkHouse
	Named []string // recipients, for those who are named
	Days  int      // until it ends; 30 when 0
}

// most files of one link.
const mostLinked = 100

// Link makes a link to files that a run made and that are kept. Its token is given once; only
// its hash is kept. Nobody is written to.
func (rc *Records) Link(ctx context.Context, who job.Person, wish LinkWish) (token string, link history.Link, err error) {
	run, err := rc.store.Run(ctx, wish.Run)
	if err != nil {
		return "", link, err
	}
	j, err := rc.store.Job(ctx, strconv.FormatInt(run.JobID, 10))
	if err != nil {
		return "", link, err
	}
	if err := access.May(who, access.Ring, "link files of the job "+j.Name, j.Owner); err != nil {
		return "", link, err
	}
	v := &fault.Invalid{What: "the link"}
	token = strings.ToLower(rand.Text())
	l := history.NewLink{
		Hash: history.LinkHash(token), RunID: wish.Run, Audience: wish.For,
		EndsAt: rc.now().AddDate(0, 0, max(wish.Days, 1)),
	}
	if wish.Days == 0 {
		l.EndsAt = rc.now().AddDate(0, 0, job.DefaultLinkDays)
	}
	if err := rc.linked(ctx, v, wish, &l); err != nil {
		return "", link, err
	}
	if wish.For == job.LinkNamed {
		to, _, wrong, err := recipients.Resolve(ctx, rc.store, rc.now(), wish.Named)
		if err != nil {
			return "", link, err
		}
		if bad, ok := wrong.(*fault.Invalid); ok { //nolint:errorlint // never wrapped
			for _, w := range bad.Wrong {
				v.Add("named", "%s: %s", w.Where, w.Sentence)
			}
		}
		if len(to) == 0 && len(v.Wrong) == 0 {
			v.Add("named", "nobody is named whom the link would be for")
		}
		for _, r := range to {
			l.Named = append(l.Named, strings.ToLower(r.Address))
			if r.PersonID != 0 {
				l.People = append(l.People, r.PersonID)
			}
		}
	}
	if err := v.Err(); err != nil {
		return "", link, err
	}
	err = rc.store.Do(ctx, func(t *store.Tx) error {
		if err := t.AddLink(ctx, l); err != nil {
			return err
		}
		if err := t.Log(ctx, job.LogLine{Text: fmt.Sprintf("%s made a link to %d of its files", who.Name, len(l.Files))},
			wish.Run); err != nil {
			return err
		}
		return t.Audit(ctx, who.Login, "link", "run", wish.Run.String(), nil,
			map[string]any{"for": l.Audience, "named": l.Named, "files": len(l.Files), "ends_at": l.EndsAt})
	})
	if err != nil {
		return "", link, err
	}
	link, err = rc.store.LinkByHash(ctx, l.Hash)
	return token, link, err
}

// linked finds the files that a link is to lead to.
func (rc *Records) linked(ctx context.Context, v *fault.Invalid, wish LinkWish, l *history.NewLink) error {
	if len(wish.Files) == 0 || len(wish.Files) > mostLinked {
		v.Add("files", "name 1 to %d files", mostLinked)
		return nil
	}
	for i, id := range wish.Files {
		f, err := rc.store.Artifact(ctx, id)
		if err != nil {
			return err
		}
		where := fmt.Sprintf("files[%d]", i)
		switch {
		case f.Format == render.RowsKept:
			v.Add(where, "there is no file %d", id)
		case f.RunID != wish.Run:
			v.Add(where, "the file %q belongs to another run", f.Name)
		case f.RemovedAt != nil:
			v.Add(where, "the file %q is not kept any more", f.Name)
		case i > 0 && f.Part != l.Part:
			v.Add(where, "the file %q is of another part; a link leads to files of one", f.Name)
		}
		l.Part = f.Part // and no task: no mail brought it
		l.Files = append(l.Files, f.Key)
	}
	return nil
}
