// Package recipients resolves whom recipients come to at an instant: addresses, people, groups,
// posts and those under a post, with their stand-ins, pauses and marks. It sends nothing.
package recipients

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/store/db"
	"ironbell/internal/store/sending"
)

// MaxRecipients bounds what one message goes to.
const MaxRecipients = 20_000

// Resolved are the addresses that a list of recipients comes to.
type Resolved struct {
	To    []sending.Recipient
	Notes []string // who gets nothing, or in whose place somebody else gets it
	Named int      // how many were named who want no mail now: they left the list, or pause
}

// Addresses are the bare addresses.
func (r Resolved) Addresses() []string {
	out := make([]string, 0, len(r.To))
	for _, to := range r.To {
		if to.Bad == "" {
			out = append(out, to.Address)
		}
	}
	return out
}

// Records are what recipients are looked up in.
type Records interface {
	PersonByLogin(ctx context.Context, login string) (p job.Person, hash string, err error)
	PeopleByLogins(ctx context.Context, logins []string) ([]job.Person, error)
	PeopleByMail(ctx context.Context, addresses []string) ([]job.Person, error)
	Group(ctx context.Context, name string) (job.Group, error)
	Post(ctx context.Context, name string) (job.Post, error)
	PostsUnder(ctx context.Context, name string) ([]job.Post, error)
	Marked(ctx context.Context, addresses []string) (map[string]int, error)
	Left(ctx context.Context, jobID int64, addresses []string) (map[string]bool, error)
}

// Resolver turns recipients as they stand in a job into addresses.
type Resolver struct {
	store Records
	now   time.Time
	known map[string]bool // addresses, in small letters
	seen  map[string]bool // groups and posts on the way
	Out   Resolved
	Wrong fault.Invalid
}

// New makes a resolver as of an instant.
func New(s Records, now time.Time) *Resolver {
	return &Resolver{
		store: s, now: now, known: map[string]bool{}, seen: map[string]bool{},
		Wrong: fault.Invalid{What: "the recipients"},
	}
}

// Add resolves some recipients. What is wrong with single ones is collected; the
// error is about our own records.
func (r *Resolver) Add(ctx context.Context, texts []string) error {
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
			if len(r.Out.To) > MaxRecipients {
				return fault.New(fault.Task, "read the recipients",
					fmt.Sprintf("there are more than %d", MaxRecipients), "Divide them over several jobs.")
			}
		}
	}
	return nil
}

// collect notes what is wrong with one recipient; what is no fault of theirs is
// none of it.
func (r *Resolver) collect(piece string, err error) bool {
	if db.IsMissing(err) {
		r.Wrong.Add(piece, "%s", err)
		return true
	}
	if known := new(badRecipient); asBad(err, known) {
		r.Wrong.Add(piece, "%s", known.sentence)
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
func (r *Resolver) one(ctx context.Context, to job.Recipient) error {
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
		if gone := new(db.NotFound); errors.As(err, &gone) && gone.Removed != nil {
			r.Out.Notes = append(r.Out.Notes, fmt.Sprintf("%s was removed by %s and gets nothing", to.Name, gone.Removed.By))
			return nil
		}
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
			r.Out.Notes = append(r.Out.Notes, fmt.Sprintf("the group %s is empty", g.Name))
		}
		return r.Add(ctx, g.Members)
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

func (r *Resolver) holders(ctx context.Context, posts []job.Post) error {
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
		r.Out.Notes = append(r.Out.Notes, fmt.Sprintf("nobody holds %s", phrase.Few(names)))
	}
	for _, p := range people {
		if err == nil {
			err = r.person(ctx, p, 0)
		}
	}
	return err
}

// address adds a plain address; one that is a person's is that person.
func (r *Resolver) address(ctx context.Context, address string) error {
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
func (r *Resolver) person(ctx context.Context, p job.Person, standIns int) error {
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
		r.Out.Notes = append(r.Out.Notes, away)
		r.Out.Named++
		return nil
	}
	in, _, err := r.store.PersonByLogin(ctx, p.Wishes.StandIn)
	if db.IsMissing(err) {
		r.Out.Notes = append(r.Out.Notes, away)
		r.Out.Named++
		return nil
	}
	if err != nil {
		return err
	}
	r.Out.Notes = append(r.Out.Notes, fmt.Sprintf("%s; %s gets it instead", away, in.Name))
	return r.person(ctx, in, standIns+1)
}

func (r *Resolver) put(to sending.Recipient) {
	key := strings.ToLower(to.Address)
	if !r.known[key] {
		r.known[key] = true
		r.Out.To = append(r.Out.To, to)
	}
}

// Resolve tells whom some recipients come to now: the addresses, who gets nothing
// and why, and what is wrong with single ones.
func Resolve(ctx context.Context, s Records, now time.Time,
	texts []string,
) (to []sending.Recipient, notes []string, wrong error, err error) {
	r := New(s, now)
	if err := r.Add(ctx, texts); err != nil {
		return nil, nil, nil, err
	}
	r.Out.Notes = append(r.Out.Notes, marks(ctx, s, r.Out)...)
	return r.Out.To, r.Out.Notes, r.Wrong.Err(), nil
}

// marks says which addresses mail came back from again and again. Not to know is
// no reason to send nothing.
func marks(ctx context.Context, s Records, all Resolved) []string {
	marked, err := s.Marked(ctx, all.Addresses())
	if err != nil || len(marked) == 0 {
		return nil
	}
	var notes []string
	for _, to := range all.To {
		if n := marked[strings.ToLower(to.Address)]; n > 0 {
			notes = append(notes, fmt.Sprintf("mail to %s came back %d times lately", to.Address, n))
		}
	}
	return notes
}

// Named gives the people whom recipients name, by themselves or as one of a group or post, by
// their ids, whatever they want for their mails. What there is no more names nobody, and an
// address is no person: anybody may have taken it for themselves.
func Named(ctx context.Context, s Records, texts []string) (map[int64]bool, error) {
	n := naming{s: s, seen: map[string]bool{}}
	if err := n.all(ctx, texts); err != nil {
		return nil, err
	}
	people, err := s.PeopleByLogins(ctx, n.logins)
	out := make(map[int64]bool, len(people))
	for _, p := range people {
		out[p.ID] = true
	}
	return out, err
}

type naming struct {
	s      Records
	seen   map[string]bool // groups on the way
	logins []string
}

func (n *naming) all(ctx context.Context, texts []string) error {
	for _, text := range texts {
		for _, piece := range job.SplitRecipients(text) {
			to, err := job.ReadRecipient(piece)
			if err != nil {
				continue
			}
			if err := n.one(ctx, to); err != nil && !db.IsMissing(err) {
				return err
			}
		}
	}
	return nil
}

func (n *naming) one(ctx context.Context, to job.Recipient) error {
	var posts []job.Post
	var err error
	switch to.Kind {
	case job.ToAddress:
	case job.ToPerson:
		n.logins = append(n.logins, to.Name)
	case job.ToGroup:
		key := strings.ToLower(to.Name)
		if n.seen[key] {
			return nil
		}
		n.seen[key] = true
		g, err := n.s.Group(ctx, to.Name)
		if err != nil {
			return err
		}
		return n.all(ctx, g.Members)
	case job.ToPost:
		post, missing := n.s.Post(ctx, to.Name)
		posts, err = []job.Post{post}, missing
	case job.ToUnder:
		posts, err = n.s.PostsUnder(ctx, to.Name)
	}
	for _, p := range posts {
		n.logins = append(n.logins, p.Holders...)
	}
	return err
}

// Without leaves out those who left the job's list, and notes who is marked since mail to them came back.
func Without(ctx context.Context, s Records, jobID int64, all Resolved) (Resolved, error) {
	all.Notes = append(all.Notes, marks(ctx, s, all)...)
	left, err := s.Left(ctx, jobID, all.Addresses())
	if err != nil || len(left) == 0 {
		return all, err
	}
	kept := all.To[:0]
	gone := 0
	for _, to := range all.To {
		if left[strings.ToLower(to.Address)] {
			gone++
			continue
		}
		kept = append(kept, to)
	}
	all.To, all.Named = kept, all.Named+gone
	all.Notes = append(all.Notes, fmt.Sprintf("%d left this job's list", gone))
	return all, nil
}
