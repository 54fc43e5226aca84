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

	"ironbell/internal/artifact"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/locale"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/house"
	"ironbell/internal/render"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/store/sending"
	"ironbell/internal/task/recipients"
)

// DefaultSubject is the subject of a message whose task gives none.
const DefaultSubject = "{job} {date:%Y-%m-%d}"

// Deliver is the task kind that makes what is handed over out of the files made
// before it: mails, or files for a place. Their bytes are kept once; the
// deliveries hand them over.
type Deliver struct {
	Store        *store.Store
	Destinations *deliver.Destinations
	Sources      *report.Sources
	Files        *artifact.Folder
	URL          string // of the console, for links
	Now          func() time.Time
	Looks        *house.Shelf
	shared       shared
}

// look is how the mail of a task looks: as the report does whose files it brings.
func (k *Deliver) look(ctx context.Context, w Work) (*house.Look, error) {
	if k.Looks == nil {
		return house.Plain(), nil
	}
	style := ""
	for _, f := range w.Files {
		at := slices.IndexFunc(w.Def.Tasks, func(t job.Task) bool { return t.Name == f.Task && t.Report != nil })
		if at < 0 || w.Report == nil {
			continue
		}
		rep, err := w.Report(ctx, w.Def.Tasks[at].Report.Report)
		if err != nil {
			return nil, err
		}
		style = rep.HouseStyle
		break
	}
	look, err := k.Looks.Look(ctx, k.Store, style)
	if err != nil {
		return nil, fault.Wrap(err, fault.Passing, fault.Task, "read the house style", "Look into the house style in the settings.")
	}
	return look, nil
}

// MessageID makes an id in a domain that is unique over all nodes (RFC 5322
// section 3.6.4), without angle brackets.
func MessageID(domain string) string {
	if domain == "" {
		domain = "ironbell.invalid"
	}
	return strings.ToLower(rand.Text()) + "@" + domain
}

// DomainOf is the domain of a sender's address.
func DomainOf(from string) string {
	address, err := deliver.CheckAddress(from)
	if err != nil {
		return ""
	}
	return address[strings.LastIndexByte(address, '@')+1:]
}

// Help implements Kind.
func (k *Deliver) Help() Help {
	return Help{
		Kind: job.KindDeliver, Summary: "hand the files over: as a mail, or to a place",
		Text: "To a mail server it composes messages of the files of the tasks before, tables in the body and all " +
			"else attached or linked, and hands them over to each recipient by itself: " +
			"who has it never gets it twice. To any other destination it brings the files, each under a temporary " +
			"name first. The task is done when all of that is on record; " +
			"the deliveries go on after it. In a rehearsal a mail goes only to the one who rehearses, and no file " +
			"goes anywhere.",
		Example: job.Task{
			Name: "mail", Kind: job.KindDeliver,
			Deliver: &job.DeliverTask{
				Destination: "company mail", To: []string{"oren.hask@tarnwick.example"},
				Subject: "Day sheet {date:%Y-%m-%d}: {rows} sailings",
			},
		},
	}
}

// Check implements Kind.
func (k *Deliver) Check(ctx context.Context, c *Checking, where string, t job.Task) error {
	d := t.Deliver
	p, ok, err := c.place(ctx, records.Destination, where+".destination", d.Destination)
	if err != nil {
		return err
	}
	for i, f := range d.Formats {
		if _, err := render.ByName(f); err != nil {
			c.V.Add(fmt.Sprintf("%s.formats[%d]", where, i), "%s", err)
		}
	}
	if ok && deliver.KindOf(p.Protocol) == deliver.Files {
		return k.checkFiles(c, where, p, d)
	}
	if !ok && len(d.To)+len(d.Cc)+len(d.Bcc) == 0 && d.ToQuery == nil {
		return nil // whether mails or files go there is not known, and files need no recipients
	}
	return k.checkMail(ctx, c, where, d)
}

func (k *Deliver) checkFiles(c *Checking, where string, p records.Place, d *job.DeliverTask) error {
	for field, given := range map[string]bool{
		"to": len(d.To) > 0, "cc": len(d.Cc) > 0, "bcc": len(d.Bcc) > 0, "to_query": d.ToQuery != nil,
		"reply_to": d.ReplyTo != "", "priority": d.Priority != "",
		"subject": d.Subject != "", "body": d.Body != "", "files": d.Files != "", "too_large": d.TooLarge != "",
		"may_leave": d.MayLeave, "first_line": d.FirstLine != "", "locale": d.Locale != "",
	} {
		if given {
			c.V.Add(where+"."+field, "the destination %q is of the protocol %s and takes files; this belongs to a mail",
				p.Name, p.Protocol)
		}
	}
	c.text(where+".folder", d.Folder)
	c.text(where+".name", d.Name)
	return nil
}

func (k *Deliver) checkMail(ctx context.Context, c *Checking, where string, d *job.DeliverTask) error {
	if len(d.To)+len(d.Cc)+len(d.Bcc) == 0 && d.ToQuery == nil {
		c.V.Add(where+".to", "nobody is named; add at least one address")
	}
	for _, list := range []struct {
		name string
		all  []string
	}{{"to", d.To}, {"cc", d.Cc}, {"bcc", d.Bcc}} {
		for i, text := range list.all {
			at := fmt.Sprintf("%s.%s[%d]", where, list.name, i)
			if strings.ContainsAny(text, "{}") {
				c.text(at, text) // whom it comes to shows when it is filled in
				continue
			}
			r := recipients.New(k.Store, k.Now())
			if err := r.Add(ctx, []string{text}); err != nil {
				return err
			}
			for _, w := range r.Wrong.Wrong {
				c.V.Add(at, "%s", w.Sentence)
			}
			for _, to := range r.Out.To {
				if to.PersonID == 0 && d.Files == job.FilesLinked {
					c.V.Add(at,
						"%s is nobody who signs in here, and could not follow the link; attach the files as well, or "+
							"add the person", to.Address)
				}
			}
		}
	}
	if q := d.ToQuery; q != nil {
		if err := c.List(ctx, where+".to_query", *q); err != nil {
			return err
		}
	}
	if d.ReplyTo != "" && !strings.ContainsAny(d.ReplyTo, "{}") {
		if _, err := deliver.CheckAddress(d.ReplyTo); err != nil {
			c.V.Add(where+".reply_to", "%s", err)
		}
	}
	c.text(where+".reply_to", d.ReplyTo)
	c.text(where+".subject", d.Subject)
	c.text(where+".body", d.Body)
	c.text(where+".first_line", d.FirstLine)
	if _, err := locale.Load(d.Locale); err != nil {
		c.V.Add(where+".locale", "%s", err)
	}
	c.text(where+".zip", d.Zip)
	for field, given := range map[string]bool{
		"folder": d.Folder != "", "name": d.Name != "", "if_exists": d.IfExists != "",
	} {
		if given {
			c.V.Add(where+"."+field, "this belongs to files that go to a place; a mail has none")
		}
	}
	if d.Zip != "" && (d.Files == job.FilesLinked || d.Files == job.FilesNone) {
		c.V.Add(where+".zip", "an archive holds the files that are attached, and none are")
	}
	return nil
}

// Run composes and keeps what is handed over.
func (k *Deliver) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	id, destination, err := k.Destinations.ByName(ctx, t.Deliver.Destination)
	if err != nil {
		return Result{}, err
	}
	w.Files, w.Task = chosenFormats(w.Files, t.Deliver.Formats), t.Name
	if mailer, ok := destination.(deliver.Mailer); ok {
		return k.mail(ctx, w, t, id, mailer)
	}
	return k.files(ctx, w, t, id)
}

func chosenFormats(files []job.Artifact, formats []string) []job.Artifact {
	if len(formats) == 0 {
		return files
	}
	var out []job.Artifact
	for _, f := range files {
		if slices.Contains(formats, f.Format) {
			out = append(out, f)
		}
	}
	return out
}

// files makes a message of each file, for a place.
func (k *Deliver) files(ctx context.Context, w Work, t job.Task, id int64) (Result, error) {
	d := t.Deliver
	var res Result
	var said []string
	taken := map[string]bool{}
	for _, f := range w.Files {
		if f.Format == render.MailTable {
			continue // it belongs into the body of a mail
		}
		to, err := w.pathOf(ctx, d, f)
		if err != nil {
			return Result{}, err
		}
		n, err := k.sharedBy(ctx, w, t, f, to)
		if err != nil {
			return Result{}, err
		}
		if n > 1 {
			to = withPart(to, w.PartName)
		}
		// Two files of one name are two files, whatever is to be done with one that
		// lies there.
		to = unlike(to, taken)
		exists := orExists(d.IfExists)
		if to, err = k.ownName(ctx, w, t, id, to, exists); err != nil {
			return Result{}, err
		}
		if w.Corrects != 0 {
			exists = job.ExistsOverwrite // the wrong one is to go
		}
		said = append(said, to)
		res.Messages = append(res.Messages, Message{
			Message: job.Message{
				MessageID: "<" + MessageID("") + ">", Subject: path.Base(to), DestinationID: id, Key: f.Key,
				Size: f.Size, SHA256: f.SHA256,
				Name: path.Base(to), MediaType: f.MediaType, IfExists: exists,
				Stamp: w.Due.Format("2006-01-02 15.04.05"),
			},
			To: []sending.Recipient{{Address: to}},
		})
	}
	if len(res.Messages) == 0 {
		return Result{},
			fault.New(fault.Task, "bring files to "+d.Destination, "the tasks before made no file",
				"Name tasks and formats that make one.")
	}
	if w.Rehearsal != nil {
		return rehearsed(fmt.Sprintf("%s did not go to %q", phrase.Few(said), d.Destination)), nil
	}
	res.Note = fmt.Sprintf("%s to %q: %s", phrase.Count(len(res.Messages), "file"), d.Destination, phrase.Few(said))
	return res, nil
}

// pathOf is where a file goes below its destination. What is known only when the
// task runs, and is not yet, stands as it is written.
func (w Work) pathOf(ctx context.Context, d *job.DeliverTask, f job.Artifact) (string, error) {
	folder, name := f.Folder, f.Name
	ownFolder, ownName := d.Folder, d.Name
	var inFolder, inName held
	if w.RunID == 0 { // it is told ahead
		inFolder, inName = hold(&ownFolder), hold(&ownName)
	}
	if ownFolder != "" {
		names, facts, err := w.Facts(ctx)
		if err != nil {
			return "", err
		}
		if folder, err = folderName(ownFolder, names, facts); err != nil {
			return "", fault.Wrap(err, fault.Lasting, fault.Task, "name the folder", "Correct the folder in the job.")
		}
		folder = inFolder.back(folder)
	}
	if ownName != "" {
		text, err := w.fill(ctx, "the name", ownName, nil)
		if err != nil {
			return "", err
		}
		if f.Section != "" {
			text += " - " + f.Section
		}
		name = inName.back(expr.FileName(text+path.Ext(f.Name), f.Name))
	}
	return path.Join(folder, name), nil
}

func orExists(e job.IfExists) job.IfExists {
	if e == "" {
		return job.ExistsNumber
	}
	return e
}

func (k *Deliver) read(ctx context.Context, f job.Artifact) (string, error) {
	in, err := k.Files.Open(ctx, f.Key)
	if err != nil {
		return "", err
	}
	defer func() { _ = in.Close() }() // only read from
	text, err := io.ReadAll(in)
	if err != nil {
		return "", fault.Wrap(err, fault.Passing, fault.Task, "read the table "+f.Name, "")
	}
	return string(text), nil
}

func orElse(text, otherwise string) string {
	if strings.TrimSpace(text) == "" {
		return otherwise
	}
	return text
}

// NextMessageID makes an id for a message that goes out once more, in the domain of the first.
func NextMessageID(old string) string {
	_, domain, _ := strings.Cut(strings.Trim(old, "<>"), "@")
	return "<" + MessageID(domain) + ">"
}
