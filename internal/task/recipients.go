package task

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/store/db"
	"ironbell/internal/store/sending"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/store"
)

// MaxRecipients bounds what one message goes to.
const MaxRecipients = 20_000

// resolved are the addresses that a list of recipients comes to.
type resolved struct {
	to    []sending.Recipient
	notes []string // who gets nothing, or in whose place somebody else gets it
	named int      // how many were named who want no mail now: they left the list, or pause
}

// addresses are the bare addresses.
func (r resolved) addresses() []string {
	out := make([]string, 0, len(r.to))
	for _, to := range r.to {
		if to.Bad == "" {
			out = append(out, to.Address)
		}
	}
	return out
}

// resolver turns recipients as they stand in a job into addresses.
type resolver struct {
	store *store.Store
	now   time.Time
	known map[string]bool // addresses, in small letters
	seen  map[string]bool // groups and posts on the way
	out   resolved
	wrong fault.Invalid
}

func newResolver(s *store.Store, now time.Time) *resolver {
	return &resolver{
		store: s, now: now, known: map[string]bool{}, seen: map[string]bool{},
		wrong: fault.Invalid{What: "the recipients"},
	}
}

// add resolves some recipients. What is wrong with single ones is collected; the
// error is about our own records.
func (r *resolver) add(ctx context.Context, texts []string) error {
	for _, text := range texts {
		for _, piece := range job.SplitRecipients(text) {
			to, err := job.ReadRecipient(piece)
			if err == nil {
				err = r.one(ctx, to)
			}
			if err != nil {
				if !r.collect(piece, err) {
					return err
				}
			}
			if len(r.out.to) > MaxRecipients {
				return fault.New(fault.Task, "read the recipients",
					fmt.Sprintf("there are more than %d", MaxRecipients), "Divide them over several jobs.")
			}
		}
	}
	return nil
}

// collect notes what is wrong with one recipient; what is no fault of theirs is
// none of it.
func (r *resolver) collect(piece string, err error) bool {
	if db.IsMissing(err) {
		r.wrong.Add(piece, "%s", err)
		return true
	}
	if known := new(badRecipient); asBad(err, known) {
		r.wrong.Add(piece, "%s", known.sentence)
		return true
	}
	return false
}

// badRecipient is wrong in itself.
type badRecipient struct{ sentence string }

func (b badRecipient) Error() string { return b.sentence }

func asBad(err error, to *badRecipient) bool {
	b, ok := err.(badRecipient) //nolint:errorlint // never wrapped
	if ok {
		*to = b
	}
	return ok
}

// one resolves one recipient.
func (r *resolver) one(ctx context.Context, to job.Recipient) error {
	if to.Kind != job.ToAddress && to.Kind != job.ToPerson {
		key := strings.ToLower(to.String())
		if r.seen[key] {
			return nil
		}
		r.seen[key] = true
	}
	switch to.Kind {
	case job.ToAddress:
		address, err := deliver.CheckAddress(to.Name)
		if err != nil {
			return badRecipient{err.Error()}
		}
		return r.address(ctx, address)
	case job.ToPerson:
		p, _, err := r.store.PersonByLogin(ctx, to.Name)
		if err != nil {
			return err
		}
		return r.person(ctx, p, 0)
	case job.ToGroup:
		g, err := r.store.Group(ctx, to.Name)
		if err != nil {
			return err
		}
		if len(g.Members) == 0 {
			r.out.notes = append(r.out.notes, fmt.Sprintf("the group %s is empty", g.Name))
		}
		return r.add(ctx, g.Members)
	case job.ToPost:
		p, err := r.store.Post(ctx, to.Name)
		if err != nil {
			return err
		}
		return r.holders(ctx, []job.Post{p})
	case job.ToUnder:
		all, err := r.store.PostsUnder(ctx, to.Name)
		if err != nil {
			return err
		}
		return r.holders(ctx, all)
	}
	return nil
}

func (r *resolver) holders(ctx context.Context, posts []job.Post) error {
	var logins []string
	for _, p := range posts {
		logins = append(logins, p.Holders...)
	}
	people, err := r.store.PeopleByLogins(ctx, logins)
	if err == nil && len(people) == 0 {
		names := make([]string, len(posts))
		for i, p := range posts {
			names[i] = p.Name
		}
		r.out.notes = append(r.out.notes, fmt.Sprintf("nobody holds %s", shorten(names)))
	}
	for _, p := range people {
		if err == nil {
			err = r.person(ctx, p, 0)
		}
	}
	return err
}

// address adds a plain address; one that is a person's is that person.
func (r *resolver) address(ctx context.Context, address string) error {
	if r.known[strings.ToLower(address)] {
		return nil
	}
	people, err := r.store.PeopleByMail(ctx, []string{address})
	if err != nil {
		return err
	}
	if len(people) > 0 {
		return r.person(ctx, people[0], 0)
	}
	r.put(sending.Recipient{Address: address})
	return nil
}

// maxStandIns bounds how far it goes from one who is away to their stand-in.
const maxStandIns = 3

// person adds a person, or who stands in for them while their mail is paused.
func (r *resolver) person(ctx context.Context, p job.Person, standIns int) error {
	until := p.Wishes.PausedUntil
	if !p.Wishes.Away(r.now) {
		if p.Mail == "" {
			return badRecipient{fmt.Sprintf("%s has no mail address", p.Name)}
		}
		r.put(sending.Recipient{Address: p.Mail, PersonID: p.ID})
		return nil
	}
	away := fmt.Sprintf("%s gets no mail until %s", p.Name, until.Format("2 Jan 2006"))
	if p.Wishes.StandIn == "" || standIns >= maxStandIns {
		r.out.notes = append(r.out.notes, away)
		r.out.named++
		return nil
	}
	in, _, err := r.store.PersonByLogin(ctx, p.Wishes.StandIn)
	if db.IsMissing(err) {
		r.out.notes = append(r.out.notes, away)
		r.out.named++
		return nil
	}
	if err != nil {
		return err
	}
	r.out.notes = append(r.out.notes, fmt.Sprintf("%s; %s gets it instead", away, in.Name))
	return r.person(ctx, in, standIns+1)
}

func (r *resolver) put(to sending.Recipient) {
	key := strings.ToLower(to.Address)
	if !r.known[key] {
		r.known[key] = true
		r.out.to = append(r.out.to, to)
	}
}

// Resolve tells whom some recipients come to now: the addresses, who gets nothing
// and why, and what is wrong with single ones.
func Resolve(ctx context.Context, s *store.Store, now time.Time,
	texts []string,
) (to []sending.Recipient, notes []string, wrong error, err error) {
	r := newResolver(s, now)
	if err := r.add(ctx, texts); err != nil {
		return nil, nil, nil, err
	}
	r.out.notes = append(r.out.notes, marks(ctx, s, r.out)...)
	return r.out.to, r.out.notes, r.wrong.Err(), nil
}

// marks says which addresses mail came back from again and again. Not to know is
// no reason to send nothing.
func marks(ctx context.Context, s *store.Store, all resolved) []string {
	marked, err := s.Marked(ctx, all.addresses())
	if err != nil || len(marked) == 0 {
		return nil
	}
	var notes []string
	for _, to := range all.to {
		if n := marked[strings.ToLower(to.Address)]; n > 0 {
			notes = append(notes, fmt.Sprintf("mail to %s came back %d times lately", to.Address, n))
		}
	}
	return notes
}

// without files out those who left the job's list.
func (k *Deliver) without(ctx context.Context, jobID int64, all resolved) (resolved, error) {
	all.notes = append(all.notes, marks(ctx, k.Store, all)...)
	left, err := k.Store.Left(ctx, jobID, all.addresses())
	if err != nil || len(left) == 0 {
		return all, err
	}
	kept := all.to[:0]
	gone := 0
	for _, to := range all.to {
		if left[strings.ToLower(to.Address)] {
			gone++
			continue
		}
		kept = append(kept, to)
	}
	all.to, all.named = kept, all.named+gone
	all.notes = append(all.notes, fmt.Sprintf("%d left this job's list", gone))
	return all, nil
}
