package task

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/render"
	"ironbell/internal/report"
	"ironbell/internal/store/history"
	"ironbell/internal/store/sending"
	"ironbell/internal/task/compose"
	"ironbell/internal/task/recipients"
)

// maxAddresses bounds what a query for addresses gives.
const maxAddresses = recipients.MaxRecipients

// shownInHeader bounds the addresses that a mail's header shows; of more the
// header says nothing, as mail servers refuse such headers.
const shownInHeader = 500

// mail composes the messages of a mail.
func (k *Deliver) mail(ctx context.Context, w Work, t job.Task, id int64, mailer deliver.Mailer) (Result, error) {
	settings, err := k.Store.MailSettings(ctx)
	if err != nil {
		return Result{}, err
	}
	d := withDefaults(*t.Deliver, settings)
	to, address, err := k.whom(ctx, w, d)
	if err != nil {
		return Result{}, err
	}
	if len(to.To) == 0 {
		why := strings.Join(to.Notes, "; ")
		switch {
		case w.Corrects != 0, to.Named > 0, d.IfNobody == job.NobodyPassOver:
			return Result{Over: joined("nobody is to get it", why)}, nil
		case why == "":
			why = "its recipients come to nobody"
		}
		return Result{},
			fault.New(fault.Message, "send the mail", "nobody is to get it: "+why,
				"Fill the group, post or list that it goes to, or let the task be passed over then (if_nobody).")
	}
	groups, err := k.tongues(ctx, d, to)
	if err != nil {
		return Result{}, err
	}
	p := &posting{k: k, w: w, t: t, d: d, id: id, mailer: mailer, to: to, address: address}
	for _, g := range groups {
		if err := p.write(ctx, g); err != nil {
			return Result{}, err
		}
	}
	res := p.res
	if p.link != nil {
		res.Links = []history.NewLink{p.link.NewLink}
		res.Note += "; " + p.link.words()
	}
	for _, n := range to.Notes {
		res.Note += "; " + n
	}
	return res, nil
}

func joined(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// carried tells whether a mail has the files that it was told to carry: of each format
// that it names, and of each task whose files it names. One that was passed over, or
// found nothing, has none to give.
func carried(w Work, t job.Task, d job.DeliverTask) error {
	if d.Files == job.FilesNone {
		return nil
	}
	excused := func(task string) bool {
		state := job.AttemptState(w.Outcomes[task])
		return state == job.AttemptOver || state == job.AttemptBlank
	}
	var makers []string
	for _, m := range w.Def.Tasks {
		_, before := w.Outcomes[m.Name]
		if m.Kind.Makes() && before && (len(t.Uses) == 0 || slices.Contains(t.Uses, m.Name)) {
			makers = append(makers, m.Name)
		}
	}
	lacking := func(what string) error {
		return fault.New(fault.Message, "compose the mail", "it lacks "+what+", which it was told to carry",
			"Let a task before it make that file, or take it out of the mail.")
	}
	for _, format := range d.Formats {
		has := slices.ContainsFunc(w.Files, func(f job.Artifact) bool { return f.Format == format })
		if !has && !slices.ContainsFunc(makers, excused) {
			return lacking("a file of the format " + format)
		}
	}
	for _, name := range t.Uses {
		has := slices.ContainsFunc(w.Files, func(f job.Artifact) bool { return f.Task == name })
		if !has && len(d.Formats) == 0 && slices.Contains(makers, name) && !excused(name) {
			return lacking("the files of task " + name)
		}
	}
	return nil
}

// withDefaults fills in what the house's own templates give.
func withDefaults(d job.DeliverTask, settings job.MailSettings) job.DeliverTask {
	d.Subject = orElse(d.Subject, orElse(settings.Subject, DefaultSubject))
	d.Body = orElse(d.Body, orElse(settings.Body, "{job}, {date:%A %e %B %Y}."))
	d.ReplyTo = orElse(d.ReplyTo, settings.ReplyTo)
	return d
}

// letter writes the mail but for its recipients; its dates in a language, or as they are everywhere.
func (k *Deliver) letter(ctx context.Context, w Work, d job.DeliverTask,
	mailer deliver.Mailer, lang *locale.Locale,
) (deliver.Letter, error) {
	spoken := func(f *expr.Facts) { f.Locale = lang }
	look, err := k.look(ctx, w)
	if err != nil {
		return deliver.Letter{}, err
	}
	letter := deliver.Letter{From: mailer.From(), Date: k.Now(), Priority: d.Priority, House: look, Headers: map[string]string{
		"Auto-Submitted": "auto-generated", // RFC 3834
	}}
	taken := map[string]bool{}
	for _, f := range w.Files {
		if f.Format == render.MailTable {
			table, err := k.read(ctx, f)
			if err != nil {
				return letter, err
			}
			letter.Tables = append(letter.Tables, table)
			continue
		}
		letter.Attachments = append(letter.Attachments, deliver.Attachment{
			Name: unlike(f.Name, taken), MediaType: f.MediaType, Size: f.Size,
			Open: func(ctx context.Context) (io.ReadSeekCloser, error) { return k.Files.Open(ctx, f.Key) },
		})
	}
	if letter.Subject, err = w.fill(ctx, "the subject", d.Subject, spoken); err != nil {
		return letter, err
	}
	if letter.Plain, err = w.fill(ctx, "the body", d.Body, spoken); err != nil {
		return letter, err
	}
	if letter.FirstLine, err = w.fill(ctx, "the first line", d.FirstLine, spoken); err != nil {
		return letter, err
	}
	letter.FirstLine = firstLine(letter.FirstLine)
	if d.ReplyTo != "" {
		text, err := w.fill(ctx, "the address for answers", d.ReplyTo, nil)
		if err != nil {
			return letter, err
		}
		if letter.ReplyTo, err = deliver.CheckAddress(text); err != nil {
			return letter,
				fault.Wrap(err, fault.Lasting, fault.Task, "read the address for answers",
					"Correct reply_to in the job.")
		}
	}
	for _, note := range w.Notes {
		letter.Plain += "\n\n" + note
	}
	letter.Footer = lang.Say("Iron Bell, run %s, due %s", w.RunID, wall(w.Due, lang))
	if lang != nil {
		letter.Lang = lang.Lang
	}
	return letter, nil
}

// mostFirstLine is how many characters of a first line are kept; mail programs show fewer.
const mostFirstLine = 300

// firstLine makes one line of what was filled in.
func firstLine(text string) string {
	line := []rune(strings.Join(strings.Fields(text), " "))
	if len(line) > mostFirstLine {
		return string(line[:mostFirstLine-1]) + "…"
	}
	return string(line)
}

// whom finds who gets a mail. address writes those into its header who are seen, and says above its text what is to
// be said of them.
func (k *Deliver) whom(ctx context.Context, w Work, d job.DeliverTask) (to recipients.Resolved, address func(*deliver.Letter),
	err error,
) {
	address = func(*deliver.Letter) {}
	r := recipients.New(k.Store, k.Now())
	var counts []int
	asked, err := k.asked(ctx, w, d.ToQuery)
	if err != nil {
		return recipients.Resolved{}, nil, err
	}
	for _, list := range [][]string{append(slices.Clone(d.To), asked...), d.Cc, d.Bcc} {
		filled := make([]string, len(list))
		for i, text := range list {
			if filled[i], err = w.fill(ctx, "the recipients", text, nil); err != nil {
				return recipients.Resolved{}, nil, err
			}
		}
		if err := r.Add(ctx, filled); err != nil {
			return recipients.Resolved{}, nil, err
		}
		counts = append(counts, len(r.Out.To))
	}
	if err := k.joined(ctx, w, r); err != nil {
		return recipients.Resolved{}, nil, err
	}
	// One that is wrong is one delivery that fails; the others get theirs.
	for _, bad := range r.Wrong.Wrong {
		wrong := bad.Where
		if wrong == "" {
			wrong = badAddress(bad.Sentence)
		}
		r.Out.To = append(r.Out.To, sending.Recipient{Address: wrong, Bad: bad.Sentence})
	}
	all, err := recipients.Without(ctx, k.Store, w.JobID, r.Out)
	if err != nil {
		return recipients.Resolved{}, nil, err
	}
	if w.Corrects != 0 {
		// It goes to those who have the wrong one, whoever would get it now.
		if all, err = k.reached(ctx, w); err != nil {
			return recipients.Resolved{}, nil, err
		}
		r.Out, counts = all, []int{len(all.To), len(all.To)}
		address = func(letter *deliver.Letter) {
			letter.Subject = "Correction: " + letter.Subject
			letter.FirstLine = "This corrects what you got before: " + w.Correction
			letter.Plain = letter.FirstLine + "\nPlease use this one, and throw the other away.\n\n" + letter.Plain
		}
	}
	corrects := address
	if w.Rehearsal != nil {
		only := recipients.Resolved{
			To: []sending.Recipient{{Address: w.Rehearsal.Mail, PersonID: w.Rehearsal.ID}}, Notes: all.Notes,
		}
		return only, func(letter *deliver.Letter) {
			corrects(letter)
			letter.Subject = "Rehearsal: " + letter.Subject
			letter.FirstLine = fmt.Sprintf("This is a rehearsal for %s. In earnest it would have gone to %s.",
				w.Rehearsal.Name, phrase.Few(all.Addresses()))
			letter.Plain = letter.FirstLine + "\n\n" + letter.Plain
			letter.Footer = "Rehearsal. " + letter.Footer
			letter.To = []string{w.Rehearsal.Mail}
		}, nil
	}
	place := map[string]int{}
	for i, to := range r.Out.To {
		place[to.Address] = i
	}
	return all, func(letter *deliver.Letter) {
		corrects(letter)
		for _, to := range all.To {
			switch at := place[to.Address]; {
			case to.Bad != "":
			case at < counts[0]:
				letter.To = append(letter.To, to.Address)
			case at < counts[1]:
				letter.Cc = append(letter.Cc, to.Address)
			}
		}
		if len(letter.To)+len(letter.Cc) > shownInHeader {
			letter.To, letter.Cc = nil, nil
		}
	}, nil
}

// joined adds those who joined the job and still may: as copies that nobody else sees.
func (k *Deliver) joined(ctx context.Context, w Work, r *recipients.Resolver) error {
	if len(w.Def.Joiners) == 0 || w.JobID == 0 {
		return nil
	}
	all, err := k.Store.Joined(ctx, w.JobID)
	if err != nil || len(all) == 0 {
		return err
	}
	may, err := recipients.Named(ctx, k.Store, w.Def.Joiners)
	if err != nil {
		return err
	}
	closed := 0
	for _, p := range all {
		if !may[p.ID] {
			closed++
			continue
		}
		if err := r.Add(ctx, []string{"person:" + p.Login}); err != nil {
			return err
		}
	}
	if closed > 0 {
		r.Out.Notes = append(r.Out.Notes, fmt.Sprintf("%d joined, and it is no longer open to them", closed))
	}
	return nil
}

// badAddress is what stands in place of an address that is none: the text as it came,
// cut to a bearable length.
func badAddress(sentence string) string {
	const most = 200
	if runes := []rune(sentence); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return sentence
}

// reached are those who got the mail of the run that this one corrects.
func (k *Deliver) reached(ctx context.Context, w Work) (recipients.Resolved, error) {
	list, err := k.Store.Reached(ctx, w.Corrects, w.Task, w.PartName)
	var out recipients.Resolved
	known := map[string]bool{}
	for _, d := range list {
		if !known[d.Address] {
			known[d.Address] = true
			out.To = append(out.To, sending.Recipient{Address: d.Address})
		}
	}
	if len(out.To) == 0 {
		out.Notes = []string{fmt.Sprintf("nobody got anything from run %s", w.Corrects)}
	}
	return out, err
}

// asked are the addresses that a source gives.
func (k *Deliver) asked(ctx context.Context, w Work, q *job.ListQuery) ([]string, error) {
	if q == nil {
		return nil, nil
	}
	list, err := Ask(ctx, k.Sources, w, *q, maxAddresses)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, r := range list.Rows {
		if len(r) > 0 && strings.TrimSpace(r[0]) != "" {
			out = append(out, r[0])
		}
	}
	return out, nil
}

// keep composes a mail and keeps its bytes.
func (k *Deliver) keep(ctx context.Context, l deliver.Letter, id int64) (job.Message, error) {
	l.MessageID = MessageID(DomainOf(l.From))
	file, err := k.Files.Create()
	if err != nil {
		return job.Message{}, err
	}
	if err := deliver.Compose(ctx, file, l); err != nil {
		file.Drop()
		return job.Message{}, fault.Wrap(err, fault.Lasting, fault.Message, "compose the message", "")
	}
	kept, err := file.Keep()
	return job.Message{
		MessageID: "<" + l.MessageID + ">", Subject: expr.HeaderLine(l.Subject), DestinationID: id, Key: kept.Key,
		Size: kept.Size, SHA256: kept.SHA256,
	}, err
}

// zip makes one archive of the attachments.
func (k *Deliver) zip(ctx context.Context, w Work, name string, all []deliver.Attachment) (deliver.Attachment, error) {
	text, err := w.fill(ctx, "the archive's name", name, nil)
	if err != nil {
		return deliver.Attachment{}, err
	}
	text = expr.FileName(text, "files")
	if !strings.EqualFold(path.Ext(text), ".zip") {
		text += ".zip"
	}
	file, err := k.Files.Create()
	if err != nil {
		return deliver.Attachment{}, err
	}
	if err := compose.WriteZip(ctx, file, all, k.Now()); err != nil {
		file.Drop()
		return deliver.Attachment{}, fault.Wrap(err, fault.Passing, fault.Task, "write the archive "+text, "")
	}
	kept, err := file.Keep()
	return deliver.Attachment{
		Name: text, MediaType: "application/zip", Size: kept.Size,
		Open: func(ctx context.Context) (io.ReadSeekCloser, error) { return k.Files.Open(ctx, kept.Key) },
	}, err
}

// newLink is a link to the files of a mail.
type newLink struct {
	history.NewLink
	url string
}

// link makes a link to the files that a mail brings. Its address holds a token,
// and only the token's hash is kept.
func (k *Deliver) link(w Work, t job.Task, d job.DeliverTask, to recipients.Resolved) *newLink {
	token := strings.ToLower(rand.Text())
	l := &newLink{
		NewLink: history.NewLink{
			Hash: history.LinkHash(token), RunID: w.RunID, Part: w.Part, Task: t.Name,
			Audience: orElse(d.Link.For, job.LinkNamed), Archive: d.Link.Archive,
		}, url: k.URL + "/l/" + token,
	}
	for _, f := range w.Files {
		if f.Format != render.MailTable {
			l.Files = append(l.Files, f.Key)
		}
	}
	if l.Audience == job.LinkNamed {
		for _, a := range to.Addresses() {
			l.Named = append(l.Named, strings.ToLower(a))
		}
		for _, r := range to.To {
			if r.PersonID != 0 {
				l.People = append(l.People, r.PersonID)
			}
		}
	}
	days := d.Link.Days
	if days == 0 {
		days = job.DefaultLinkDays
	}
	l.EndsAt = k.Now().AddDate(0, 0, days)
	return l
}

// words say who may follow the link.
func (l *newLink) words() string {
	if l.Audience == job.LinkHouse {
		return "a link for everybody who can sign in to Iron Bell"
	}
	return fmt.Sprintf("a link that only the %d %s of this mail can follow", len(l.Named),
		phrase.Plural(len(l.Named), "recipient", "recipients"))
}

// wall writes an instant by the clock of its zone, in a language.
func wall(at time.Time, lang *locale.Locale) string {
	if lang == nil {
		return at.Format("Mon 2 Jan 2006 15:04 MST")
	}
	return lang.DateTime(at) + at.Format(" MST")
}

func (l *newLink) text(w Work, lang *locale.Locale) string {
	what, whose := "The files: %s", lang.Say("It is a link that only the recipients of this mail can follow, %d in all.", len(l.Named))
	if l.Archive {
		what = "The files, with those of earlier runs: %s"
	}
	if l.Audience == job.LinkHouse {
		whose = lang.Say("It is a link for everybody who can sign in to Iron Bell.")
	}
	return lang.Say(what, l.url) + "\n" + whose + " " +
		lang.Say("You sign in to follow it. It ends on %s.", wall(l.EndsAt.In(w.Due.Location()), lang))
}

// Ask puts a query that gives a list to its source, with the values of a run.
func Ask(ctx context.Context, sources *report.Sources, w Work, q job.ListQuery, most int) (report.Listing, error) {
	doing := fmt.Sprintf("ask source %q for a list", q.Source)
	source, err := sources.Get(ctx, q.Source, q.Identity)
	if err != nil {
		return report.Listing{}, err
	}
	bound, err := job.Bind(q.Parameters, w.Values, w.Nominal, w.Frame)
	if err != nil {
		return report.Listing{},
			fault.Wrap(err, fault.Lasting, fault.Task, doing, "Correct the values of the job, then ring it again.")
	}
	return report.List(ctx, source,
		report.Query{
			SQL: q.SQL, Params: q.Parameters, Values: bound, Zone: w.Nominal.Location().String(), Limit: w.Limit,
		}, most)
}
