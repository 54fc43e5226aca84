package task

import (
	"context"
	"fmt"

	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/store/sending"
	"ironbell/internal/task/compose"
	"ironbell/internal/task/recipients"

	"github.com/dustin/go-humanize"
)

// tongue is whom a mail goes to in one language.
type tongue struct {
	lang *locale.Locale // nil is the neutral one
	to   []sending.Recipient
}

// posting writes the mails of a task, one in each language of those who get it.
type posting struct {
	k       *Deliver
	w       Work
	t       job.Task
	d       job.DeliverTask
	id      int64
	mailer  deliver.Mailer
	to      recipients.Resolved
	address func(*deliver.Letter)
	link    *newLink // the same in all of them
	res     Result
}

// linked makes the link to the files, once.
func (p *posting) linked() {
	if p.link == nil {
		p.link = p.k.link(p.w, p.t, p.d, p.to)
	}
}

// write writes the mail in one language. Its head names all who get it.
func (p *posting) write(ctx context.Context, g tongue) error {
	w, d := p.w, p.d
	letter, err := p.k.letter(ctx, w, d, p.mailer, g.lang)
	if err != nil {
		return err
	}
	p.address(&letter)
	if err := carried(w, p.t, d); err != nil {
		return err
	}
	linked := d.Files == job.FilesLinked || d.Files == job.FilesBoth
	attached := letter.Attachments
	if d.Files == job.FilesLinked || d.Files == job.FilesNone {
		letter.Attachments = nil
	} else if d.Zip != "" && len(attached) > 0 {
		zipped, err := p.k.zip(ctx, w, d.Zip, attached)
		if err != nil {
			return err
		}
		letter.Attachments = []deliver.Attachment{zipped}
	}
	bunches := [][]deliver.Attachment{letter.Attachments}
	if limit := p.mailer.Largest(); limit > 0 && compose.SizeOf(letter) > limit {
		switch d.TooLarge {
		case job.LargeLink:
			bunches, linked = [][]deliver.Attachment{nil}, true
		case job.LargeFail:
			return compose.TooLarge(compose.SizeOf(letter), limit)
		default:
			if bunches, err = compose.Bunch(letter, limit); err != nil {
				return err
			}
		}
	}
	if linked {
		p.linked()
		letter.Plain += "\n\n" + p.link.text(w, g.lang)
	}
	for i, b := range bunches {
		one := letter
		one.Attachments = b
		if i > 0 {
			one.Tables, one.FirstLine = nil, "" // they stand in the first
		}
		if len(bunches) > 1 {
			one.Subject = g.lang.Say("%s (%d of %d)", letter.Subject, i+1, len(bunches))
		}
		m, err := p.k.keep(ctx, one, p.id)
		if err != nil {
			return err
		}
		m.MayLeave = d.MayLeave && w.Rehearsal == nil
		p.res.Messages = append(p.res.Messages, Message{Message: m, To: g.to})
		p.res.Note = joined(p.res.Note,
			fmt.Sprintf("%s to %d %s, %s", phrase.Count(len(b), "file"), len(g.to),
				phrase.Plural(len(g.to), "recipient", "recipients"), humanize.Bytes(uint64(max(m.Size, 0)))))
	}
	return nil
}

// tongues parts those who get a mail by their language: that of the task, or what each wishes; without a wish the neutral
// one.
func (k *Deliver) tongues(ctx context.Context, d job.DeliverTask, to recipients.Resolved) ([]tongue, error) {
	wished := map[int64]string{}
	if d.Locale == "" {
		ids := make([]int64, 0, len(to.To))
		for _, r := range to.To {
			if r.PersonID != 0 {
				ids = append(ids, r.PersonID)
			}
		}
		var err error
		if wished, err = k.Store.LanguagesOf(ctx, ids); err != nil {
			return nil, err
		}
	}
	var all []tongue
	places := map[string]int{}
	for _, r := range to.To {
		name := orElse(d.Locale, wished[r.PersonID])
		at, known := places[name]
		if !known {
			at = len(all)
			places[name] = at
			one := tongue{}
			if l, err := locale.Load(name); err == nil && l.Name != "" { // it was there when it was chosen
				one.lang = l
			}
			all = append(all, one)
		}
		all[at].to = append(all[at].to, r)
	}
	return all, nil
}
