// Package access knows who somebody is and what they may do. Every question
// "may they?" is asked of May, and nowhere else.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/people"

	"golang.org/x/crypto/argon2"
)

// Act is something that a person may or may not do.
type Act string

// The acts.
const (
	Read       Act = "read"       // see jobs, reports, runs and their files
	Ring       Act = "ring"       // run a job, switch it, acknowledge its alerts, settle its deliveries
	Write      Act = "write"      // save a job or a report
	Administer Act = "administer" // save sources, destinations, people and settings
)

// Denied says that a person may not do something, and who may.
type Denied struct {
	Act    Act
	Person job.Person
	What   string // `ring the job Quay board`
	Second bool   // it takes somebody else, whoever they are
	Source string // of an event that may not be reported
	Ask    string // whom to ask, where no role helps
	Sender string // a program, in place of the person
	Free   bool   // it belongs to nobody yet
}

func (e *Denied) Error() string {
	if e.Second && e.What != "" {
		return fmt.Sprintf("%s may not say yes here, since %s %s: it takes somebody who had no hand in it",
			e.Person.Name, "this person", e.What)
	}
	if e.Second {
		return fmt.Sprintf("%s may not say yes here: it takes a second person, an owner or administrator who does "+
			"not own the job", e.Person.Name)
	}
	if e.Sender != "" {
		return fmt.Sprintf("the sender %q may not send events of the type %q from the source %q; an administrator says what it may",
			e.Sender, e.What, e.Source)
	}
	if e.Source != "" {
		return fmt.Sprintf("events of the source %q may not be reported by you: it takes the token or "+
			"the key of a sender that may, which an administrator makes; your own source is %s", e.Source, e.Person.OwnSource())
	}
	if e.Ask != "" {
		return fmt.Sprintf("%s may not %s: ask %s", e.Person.Name, e.What, e.Ask)
	}
	if e.Act == Administer {
		return fmt.Sprintf("%s may not do this: it takes an administrator", e.Person.Name)
	}
	if e.Free {
		return fmt.Sprintf("%s may not %s: it takes a report owner or an administrator", e.Person.Name, e.What)
	}
	return fmt.Sprintf("%s may not %s: it takes its owner or an administrator", e.Person.Name, e.What)
}

// May tells whether a person may do something to what belongs to owner (a
// login; empty when it belongs to nobody yet). The error is a *Denied.
func May(p job.Person, act Act, what, owner string) error {
	switch {
	case p.Role == job.RoleAdministrator, act == Read:
		return nil
	case p.Role == job.RoleOwner && (act == Ring || act == Write) && (owner == "" || strings.EqualFold(owner, p.Login)):
		return nil
	}
	return &Denied{Act: act, Person: p, What: what, Free: owner == ""}
}

// MayOwn tells whether a person may do something to a job: to an own schedule of theirs
// whatever their role, and otherwise as May says.
func MayOwn(p job.Person, act Act, what, owner string, personal bool) error {
	if personal && owner != "" && strings.EqualFold(owner, p.Login) {
		return nil
	}
	return May(p, act, what, owner)
}

// Administers tells whether a person may do what concerns everybody.
func Administers(p job.Person) bool { return May(p, Administer, "", "") == nil }

// Acts lists what a person may do to anything, and what to what is their own or nobody's yet.
func Acts(p job.Person) (all, own []Act) {
	for _, act := range []Act{Read, Ring, Write, Administer} {
		switch {
		case May(p, act, "", p.Login+"'s neighbour") == nil:
			all, own = append(all, act), append(own, act)
		case May(p, act, "", p.Login) == nil:
			own = append(own, act)
		}
	}
	return all, own
}

// MayChoose tells whether a person may choose an identity of a source that is
// not the report's own: administrators may, and those whose logins are listed.
func MayChoose(p job.Person, choosers []string) bool {
	return Administers(p) ||
		slices.ContainsFunc(choosers, func(login string) bool { return strings.EqualFold(login, p.Login) })
}

// ErrSignIn says that login and password do not belong together, without saying
// which of them is wrong.
var ErrSignIn = errors.New("this sign-in name and password do not belong together")

// Parameters of argon2id (RFC 9106 section 4, the second recommended option,
// with one pass less memory): 64 MiB would let a few sign-ins at once fill a
// small machine.
const (
	argonTime    = 3
	argonMemory  = 19 * 1024 // KiB
	argonThreads = 1
	argonKey     = 32
)

// HashPassword makes the text that is kept of a password.
func HashPassword(password string) (string, error) {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", fmt.Errorf("salt the password: %w", err)
	}
	return hashText(salt, argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)), nil
}

func hashText(salt, key []byte) string {
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
}

// Matches tells whether a password is the one that HashPassword made a hash of.
func Matches(password, hash string) bool { return matches(password, hash) }

// matches checks a password against what HashPassword made.
func matches(password, hash string) bool {
	var version int
	var memory, passes uint32
	var threads uint8
	fields := strings.Split(hash, "$")
	if len(fields) != 6 || fields[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(fields[2], "v=%d", &version); err != nil || version != argon2.Version {
		return false
	}
	if _, err := fmt.Sscanf(fields[3], "m=%d,t=%d,p=%d", &memory, &passes, &threads); err != nil {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(fields[4])
	want, err2 := base64.RawStdEncoding.DecodeString(fields[5])
	if err != nil || err2 != nil || len(want) != argonKey {
		return false
	}
	return subtle.ConstantTimeCompare(argon2.IDKey([]byte(password), salt, passes, memory, threads, argonKey),
		want) == 1
}

// nobody is a hash that no password has, so that an unknown name takes as long
// as a wrong password. It is guessed and not reckoned: this program is started for much
// that asks for no password.
var nobody = func() string {
	random := make([]byte, 16+argonKey)
	_, _ = rand.Read(random) // it never fails (crypto/rand)
	return hashText(random[:16], random[16:])
}()

// hashing bounds how many passwords are checked at once: each takes its memory.
var hashing = make(chan struct{}, 4)

// Check finds the person to whom login and password belong, with the hash that proved it.
func Check(ctx context.Context, s *store.Store, login, password string) (job.Person, string, error) {
	p, hash, err := s.PersonByLogin(ctx, login)
	var missing *db.NotFound
	known := err == nil && hash != ""
	if err != nil && !errors.As(err, &missing) {
		return job.Person{}, "", err
	}
	if !known {
		hash = nobody
	}
	select {
	case hashing <- struct{}{}:
		defer func() { <-hashing }()
	case <-ctx.Done():
		return job.Person{}, "", ctx.Err()
	}
	if !matches(password, hash) || !known {
		return job.Person{}, "", ErrSignIn
	}
	return p, hash, nil
}

// SignIn opens a way in for the person to whom login and password belong, and gives its
// number and, of a token, its text. It is recorded with the address, and so is a failure.
func SignIn(ctx context.Context, s *store.Store, login, password string,
	way job.SignIn,
) (p job.Person, id int64, token string, err error) {
	p, proof, err := Check(ctx, s, login, password)
	if err == nil {
		id, token, err = open(ctx, s, people.NewSignIn{SignIn: way, PersonID: p.ID, Proof: proof}, p.Login)
	}
	if errors.Is(err, ErrSignIn) {
		err = errors.Join(err,
			s.Audit(ctx, login, "fail to sign in", "sign-in", login, nil, map[string]any{
				"kind": way.Kind, "address": way.Address,
			}))
	}
	return p, id, token, err
}

// open opens a way in. The text of a token is given once; only its hash is kept.
func open(ctx context.Context, s *store.Store, n people.NewSignIn, by string) (id int64, token string, err error) {
	if n.Kind == job.Token {
		token = tokenMark + rand.Text() + rand.Text()
		n.Hash = TokenHash(token)
	}
	err = s.Do(ctx, func(t *store.Tx) error {
		if id, err = t.BeginSignIn(ctx, n); err != nil {
			return err
		}
		if id == 0 {
			return ErrSignIn
		}
		return t.Audit(ctx, by, "sign in", "sign-in", by, nil, map[string]any{
			"id": id, "kind": n.Kind, "name": n.Name, "address": n.Address,
		})
	})
	return id, token, err
}

// tokenMark begins every token, so that one that leaks can be recognised.
const tokenMark = "bell_"

// NewToken makes a token for a person without their password: at the machine itself, or by
// an administrator, who is named.
func NewToken(ctx context.Context, s *store.Store, person int64, by string,
	way job.SignIn,
) (token string, id int64, err error) {
	way.Kind = job.Token
	id, token, err = open(ctx, s, people.NewSignIn{SignIn: way, PersonID: person}, by)
	return token, id, err
}

// ByToken finds whom a token belongs to.
func ByToken(ctx context.Context, s *store.Store, token string) (job.Person, job.SignIn, error) {
	return s.PersonByToken(ctx, TokenHash(token))
}

// EndSignIn ends a way in: one's own, or, by an administrator, anybody's.
func EndSignIn(ctx context.Context, s *store.Store, who job.Person, id int64, address string) error {
	return s.Do(ctx, func(t *store.Tx) error {
		was, whose, err := t.EndSignIn(ctx, id)
		if err != nil {
			return err
		}
		if err := MaySpeakFor(who, whose); err != nil {
			// whether there is one is nobody else's business
			return &db.NotFound{Kind: "session or token", Name: strconv.FormatInt(id, 10)}
		}
		return t.Audit(ctx, who.Login, "end", "sign-in", whose.Login,
			map[string]any{"id": was.ID, "kind": was.Kind, "name": was.Name, "address": was.Address},
			map[string]any{"address": address})
	})
}

// MayReport tells whether a person may report an event. What others report must not be forged, or
// taken for reported when it comes: a source belongs to those senders to whom an administrator gave it.
func MayReport(p job.Person, source string) error {
	switch {
	case strings.EqualFold(source, p.OwnSource()):
		return May(p, Ring, "report events", "")
	case Administers(p) && !job.IsHouse(source):
		return nil
	}
	return &Denied{Act: Ring, Person: p, Source: source}
}

// MaySend tells whether a sender may report an event.
func MaySend(s job.Sender, source, kind string) error {
	if s.Lets(source, kind) {
		return nil
	}
	return &Denied{Sender: s.Name, Source: source, What: kind}
}

// BySenderToken finds which sender a token belongs to.
func BySenderToken(ctx context.Context, s *store.Store, token string) (job.Sender, error) {
	return s.SenderByToken(ctx, TokenHash(token))
}

// TokenHash is what is kept of a token. It needs no salt and no slowness: a token has more than 200 random bits.
func TokenHash(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// NewFeed makes a person's link to the forecast and gives its key, which is
// shown once. The link before it ends.
func NewFeed(ctx context.Context, s *store.Store, person int64) (string, error) {
	key := rand.Text() + rand.Text()
	return key, s.PutFeed(ctx, person, TokenHash(key))
}

// ByFeed finds whose link to the forecast a key belongs to.
func ByFeed(ctx context.Context, s *store.Store, key string) (job.Person, error) {
	return s.PersonByFeed(ctx, TokenHash(key))
}

// MayAllow tells whether a person may say yes to mail to addresses outside the allowed domains: a
// second person, who does not own the job.
func MayAllow(p job.Person, owner string) error {
	if strings.EqualFold(owner, p.Login) || p.Role == job.RoleReader {
		return &Denied{Act: Ring, Person: p, Second: true}
	}
	return nil
}

// MaySpeakFor tells whether a person may say what another one wishes.
func MaySpeakFor(p, of job.Person) error {
	if p.ID == of.ID || p.Role == job.RoleAdministrator {
		return nil
	}
	return &Denied{Act: Administer, Person: p}
}
