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
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store"

	"golang.org/x/crypto/argon2"
)

// Act is something that a person may or may not do.
type Act string

// The acts.
const (
	Read       Act = "read"       // see jobs, reports, runs and their files
	Ring       Act = "ring"       // run a job, switch it, take on its alerts, settle its deliveries
	Write      Act = "write"      // save a job or a report
	Administer Act = "administer" // save sources, destinations, people and settings
)

// Denied says that a person may not do something, and who may.
type Denied struct {
	Act    Act
	Person job.Person
	What   string // `ring the job Quay board`
	Second bool   // it takes somebody else, whoever they are
}

func (e *Denied) Error() string {
	if e.Second && e.What != "" {
		return fmt.Sprintf("%s may not say yes here, since %s %s: it takes somebody who had no hand in it", e.Person.Name, "this person", e.What)
	}
	if e.Second {
		return fmt.Sprintf("%s may not say yes here: it takes a second person, an owner or administrator who does not own the job", e.Person.Name)
	}
	if e.Act == Administer {
		return fmt.Sprintf("%s may not do this: it takes an administrator", e.Person.Name)
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
	return &Denied{Act: act, Person: p, What: what}
}

// MayChoose tells whether a person may choose an identity of a source that is
// not the report's own: administrators may, and those whose logins are listed.
func MayChoose(p job.Person, choosers []string) bool {
	return p.Role == job.RoleAdministrator || slices.ContainsFunc(choosers, func(login string) bool { return strings.EqualFold(login, p.Login) })
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
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key)), nil
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
	return subtle.ConstantTimeCompare(argon2.IDKey([]byte(password), salt, passes, memory, threads, argonKey), want) == 1
}

// nobody is a hash that no password has, so that an unknown name takes as long
// as a wrong password.
var nobody, _ = HashPassword(rand.Text())

// SignIn finds the person to whom login and password belong.
func SignIn(ctx context.Context, s *store.Store, login, password string) (job.Person, error) {
	p, hash, err := s.PersonByLogin(ctx, login)
	var missing *store.NotFound
	switch {
	case errors.As(err, &missing), err == nil && hash == "":
		matches(password, nobody)
		return job.Person{}, ErrSignIn
	case err != nil:
		return job.Person{}, err
	case !matches(password, hash):
		return job.Person{}, ErrSignIn
	}
	return p, nil
}

// tokenMark begins every token, so that one that leaks can be recognised.
const tokenMark = "bell_"

// NewToken makes a token for a person. The text is shown once; only its hash is
// kept. A zero end means that it has none.
func NewToken(ctx context.Context, s *store.Store, person int64, name string, ends time.Time) (string, error) {
	token := tokenMark + rand.Text() + rand.Text()
	return token, s.AddToken(ctx, person, name, tokenHash(token), ends)
}

// ByToken finds whom a token belongs to.
func ByToken(ctx context.Context, s *store.Store, token string) (job.Person, error) {
	return s.PersonByToken(ctx, tokenHash(token))
}

// EndToken ends a token.
func EndToken(ctx context.Context, s *store.Store, token string) error {
	return s.RemoveToken(ctx, tokenHash(token))
}

// tokenHash needs no salt and no slowness: a token has more than 200 random bits.
func tokenHash(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// NewFeed makes a person's link to the forecast and gives its key, which is
// shown once. The link before it ends.
func NewFeed(ctx context.Context, s *store.Store, person int64) (string, error) {
	key := rand.Text() + rand.Text()
	return key, s.PutFeed(ctx, person, tokenHash(key))
}

// ByFeed finds whose link to the forecast a key belongs to.
func ByFeed(ctx context.Context, s *store.Store, key string) (job.Person, error) {
	return s.PersonByFeed(ctx, tokenHash(key))
}

// MayAllow tells whether a person may say yes to mail that leaves the house: a
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
