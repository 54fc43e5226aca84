package notify

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/deliveries"
)

// NotBy tells who may not say yes to mail of a run of a job to some addresses, with
// the reason: its owners, whoever rang, and everybody who had a hand in it since the
// addresses were allowed last. By login, in small letters.
func (nr *Notifier) NotBy(ctx context.Context, t *store.Tx, j job.Job, run job.RunID,
	addresses []string,
) (map[string]string, error) {
	through, err := nr.through(ctx, t, j)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	saved, err := t.SavedSince(ctx, j, addresses, through)
	if err != nil {
		return nil, err
	}
	for login, what := range saved {
		out[login] = "saved " + what + ", through which it goes there"
	}
	if asked, err := t.AskedBy(ctx, run); err != nil {
		return nil, err
	} else if asked != "" {
		out[strings.ToLower(asked)] = "rang the job"
	}
	if j.SecondOwner != "" {
		out[strings.ToLower(j.SecondOwner)] = "is the job's second owner"
	}
	out[strings.ToLower(j.Owner)] = "owns the job"
	return out, nil
}

// through names the reports, groups and posts through which mail of a job goes out.
// Recipients that show only when the job runs may come through any of them.
func (nr *Notifier) through(ctx context.Context, t *store.Tx, j job.Job) (deliveries.Through, error) {
	var out deliveries.Through
	any := false
	var walk func(texts []string) error
	walk = func(texts []string) error {
		for _, text := range texts {
			if strings.ContainsAny(text, "{}") {
				any = true
				continue
			}
			for _, piece := range job.SplitRecipients(text) {
				to, err := job.ReadRecipient(piece)
				if err != nil {
					continue
				}
				switch to.Kind {
				case job.ToGroup:
					if slices.Contains(out.Groups, to.Name) {
						continue
					}
					out.Groups = append(out.Groups, to.Name)
					g, err := t.Group(ctx, to.Name)
					if err != nil && !db.IsMissing(err) {
						return err
					}
					if err := walk(g.Members); err != nil {
						return err
					}
				case job.ToPost:
					out.Posts = append(out.Posts, to.Name)
				case job.ToUnder:
					all, err := t.PostsUnder(ctx, to.Name)
					if err != nil && !db.IsMissing(err) {
						return err
					}
					for _, p := range all {
						out.Posts = append(out.Posts, p.Name)
					}
				}
			}
		}
		return nil
	}
	for _, task := range j.Tasks {
		if task.Report != nil {
			out.Reports = append(out.Reports, task.Report.Report)
		}
		if task.Deliver != nil {
			if err := walk(slices.Concat(task.Deliver.To, task.Deliver.Cc, task.Deliver.Bcc)); err != nil {
				return out, err
			}
		}
	}
	if any {
		groups, err := t.Groups(ctx)
		if err != nil {
			return out, err
		}
		posts, err := t.Posts(ctx)
		if err != nil {
			return out, err
		}
		for _, g := range groups {
			out.Groups = append(out.Groups, g.Name)
		}
		for _, p := range posts {
			out.Posts = append(out.Posts, p.Name)
		}
	}
	return out, nil
}

// mayConsent lists the people who may say yes: administrators, and where none of them
// may, owners.
func (nr *Notifier) mayConsent(ctx context.Context, t *store.Tx, a job.Alert) (first, others []job.Person, err error) {
	if a.JobID == nil || a.RunID == nil {
		return nil, nil, nil
	}
	j, err := t.Job(ctx, strconv.FormatInt(*a.JobID, 10))
	if db.IsMissing(err) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	waiting, err := t.Asking(ctx, j.ID, maxAsking)
	if err != nil {
		return nil, nil, err
	}
	var addresses []string
	for _, d := range waiting {
		addresses = append(addresses, d.Address)
	}
	not, err := nr.NotBy(ctx, t, j, *a.RunID, addresses)
	if err != nil {
		return nil, nil, err
	}
	all, err := t.People(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range all {
		_, no := not[strings.ToLower(p.Login)]
		switch {
		case no || access.MayAllow(p, j.Owner) != nil:
		case access.Administers(p):
			first = append(first, p)
		default:
			others = append(others, p)
		}
	}
	if len(first) == 0 {
		first, others = others, nil
	}
	return first, others, nil
}
