package task

import (
	"context"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/render"
	"ironbell/internal/store/records"
)

// Seer is a kind that can tell beforehand what a task would do: what it would make,
// given what the tasks before it would, and to whom it would hand that over.
type Seer interface {
	Ahead(ctx context.Context, w Work, t job.Task) (job.AheadTask, []job.Artifact, error)
}

// later finds moving parts whose values are known only when a task runs.
var later = regexp.MustCompile(`\{[^{}]*\b(rows|run|total|outcome|file|cell)\b[^{}]*\}`)

const shownAhead = 200 // addresses

// held are the moving parts that were taken out of a text, to be put back as they are written.
type held []string

// heldSign stands for one of them in a text, as a letter that names may have.
const heldSign = "⁂"

// hold takes the moving parts out of a text whose values are known only when a task runs.
func hold(text *string) held {
	parts := later.FindAllString(*text, -1)
	*text = later.ReplaceAllString(*text, heldSign)
	return parts
}

// back puts them in again.
func (h held) back(text string) string {
	for _, part := range h {
		text = strings.Replace(text, heldSign, part, 1)
	}
	return text
}

// Ahead implements Seer.
func (k *Report) Ahead(ctx context.Context, w Work, t job.Task) (job.AheadTask, []job.Artifact, error) {
	var out job.AheadTask
	rep, err := k.Find(ctx, t.Report.Report)
	if err != nil {
		return out, nil, err
	}
	w.Values = maps.Clone(w.Values)
	for name, text := range t.Report.Values {
		parts := hold(&text)
		if text, err = w.fill(ctx, "the value of "+name, text, nil); err != nil {
			return out, nil, err
		}
		if w.Values == nil {
			w.Values = job.Values{}
		}
		w.Values[name] = parts.back(text)
	}
	// What is missing is told by the check of the whole job.
	bound, _ := job.Bind(rep.Parameters, w.Values, w.Nominal, w.Frame)
	names, facts := w.names(rep.Parameters), w.facts(rep.Name, 0, bound)
	var files []job.Artifact
	for _, o := range t.Report.Outputs {
		f := job.Artifact{Task: t.Name, Format: o.Format}
		if o.Format == render.MailTable {
			files = append(files, f)
			continue
		}
		sections, err := sectionNames(rep, o)
		if err != nil {
			return out, nil, err
		}
		name, folder := hold(&o.Name), hold(&o.Folder)
		for _, section := range sections {
			f := f
			f.Section = section
			if f.Name, f.Folder, err = fileName(o, section, names, facts); err != nil {
				return out, nil, err
			}
			f.Name, f.Folder = name.back(f.Name), folder.back(f.Folder)
			files = append(files, f)
			out.Files = append(out.Files, path.Join(f.Folder, f.Name))
		}
	}
	return out, files, nil
}

// Ahead implements Seer.
func (k *Deliver) Ahead(ctx context.Context, w Work, t job.Task) (job.AheadTask, []job.Artifact, error) {
	out := job.AheadTask{Destination: t.Deliver.Destination}
	p, err := k.Store.Place(ctx, records.Destination, t.Deliver.Destination)
	if err != nil {
		return out, nil, err
	}
	w.Files, w.Task = chosenFormats(w.Files, t.Deliver.Formats), t.Name
	if deliver.KindOf(p.Protocol) == deliver.Files {
		out.Seen = fmt.Sprintf("whoever can read %q", p.Name)
		for _, f := range w.Files {
			if f.Format == render.MailTable {
				continue
			}
			to, err := w.pathOf(ctx, t.Deliver, f)
			if err != nil {
				return out, nil, err
			}
			n, err := k.sharedBy(ctx, w, t, f, to)
			if err != nil {
				return out, nil, err
			}
			if n > 1 {
				out.Notes = append(out.Notes,
					fmt.Sprintf("%d parts would write %s; each gets its part's name appended", n, to))
				to = withPart(to, w.PartName)
			}
			out.Files = append(out.Files, to)
		}
		return out, nil, nil
	}
	settings, err := k.Store.MailSettings(ctx)
	if err != nil {
		return out, nil, err
	}
	d := withDefaults(*t.Deliver, settings)
	lang, err := locale.Load(d.Locale)
	if err != nil {
		return out, nil, err
	}
	spoken := func(f *expr.Facts) { f.Locale = lang }
	parts := hold(&d.Subject)
	if out.Subject, err = w.fill(ctx, "the subject", d.Subject, spoken); err != nil {
		return out, nil, err
	}
	out.Subject = parts.back(out.Subject)
	parts = hold(&d.Body)
	if out.Body, err = w.fill(ctx, "the body", d.Body, spoken); err != nil {
		return out, nil, err
	}
	out.Body = parts.back(out.Body)
	parts = hold(&d.FirstLine)
	if out.FirstLine, err = w.fill(ctx, "the first line", d.FirstLine, spoken); err != nil {
		return out, nil, err
	}
	out.FirstLine = parts.back(out.FirstLine)
	to, _, err := k.whom(ctx, w, d)
	if err != nil {
		return out, nil, err
	}
	all := to.Addresses()
	out.Recipients, out.To, out.Notes = len(all), slices.Clone(all[:min(len(all), shownAhead)]), to.Notes
	out.Seen = fmt.Sprintf("whoever reads the mail of %s", phrase.Count(len(all), "recipient"))
	if d.Files == job.FilesLinked || d.Files == job.FilesBoth {
		out.Seen += "; by " + k.link(w, t, d, to).words()
	}
	if d.Files != job.FilesNone && d.Files != job.FilesLinked {
		for _, f := range w.Files {
			if f.Format != render.MailTable {
				out.Files = append(out.Files, f.Name)
			}
		}
	}
	return out, nil, nil
}
