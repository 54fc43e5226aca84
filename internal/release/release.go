// Package release says from which state of the repository this program was built: the go command notes it in a
// program that it builds in a checkout; an archive of the repository (git archive) carries it in the file RELEASE,
// since there is no repository beside it.
package release

import (
	_ "embed"
	"fmt"
	"runtime/debug"
	"strings"
	"sync"
	"time"
)

// Release is a state of the repository. The zero value is one of which nothing is known.
type Release struct {
	Commit  string    // in full
	At      time.Time // at which it was committed
	Changed bool      // files differed from what was committed when the program was built
}

// unknown is the name of a program of which nothing is known, such as one that go run built.
const unknown = "development"

const (
	stamp  = "2006.01.02.1504" // UTC
	short  = 7                 // letters of a commit
	edited = ".changed"
)

//go:embed RELEASE
var carried string

// This is the release of this program. It is found once; any goroutine may ask.
var This = sync.OnceValue(func() Release {
	build, ok := debug.ReadBuildInfo()
	if !ok {
		return of(nil, carried)
	}
	return of(build.Settings, carried)
})

// of finds a release by what the go command noted, and else by what an archive carries.
func of(noted []debug.BuildSetting, carried string) Release {
	var r Release
	for _, s := range noted {
		switch s.Key {
		case "vcs.revision":
			r.Commit = s.Value
		case "vcs.time":
			r.At, _ = time.Parse(time.RFC3339, s.Value) // a time that cannot be read is none
		case "vcs.modified":
			r.Changed = s.Value == "true"
		}
	}
	if r.Commit != "" && !r.At.IsZero() {
		return r
	}
	commit, at, ok := strings.Cut(strings.TrimSpace(carried), " ")
	when, err := time.Parse(time.RFC3339, at)
	if !ok || err != nil || len(commit) < short { // a checkout, in which nothing was filled in
		return Release{}
	}
	return Release{Commit: commit, At: when}
}

// Name is what people read, and programs compare: when it was committed, in UTC, and the beginning of the commit,
// such as 2026.12.02.1430+a9c4426; with .changed behind it when it is not quite that one.
func (r Release) Name() string {
	if r.Commit == "" {
		return unknown
	}
	name := r.At.UTC().Format(stamp) + "+" + r.Commit[:min(short, len(r.Commit))]
	if r.Changed {
		name += edited
	}
	return name
}

// Agent names this program to others, as a product of HTTP (RFC 9110 section 10.1.5).
func Agent() string { return "Iron-Bell/" + This().Name() }

// FromAgent is the name of the release in what a program calls itself; empty when it is none of ours.
func FromAgent(agent string) string {
	first, _, _ := strings.Cut(agent, " ")
	name, ok := strings.CutPrefix(first, "Iron-Bell/")
	if !ok {
		return ""
	}
	return name
}

// Differ says in words how a client and the service that it asks stand to each other by the names of their releases;
// nothing when they are of one, or nothing is known.
func Differ(client, service string) string {
	if client == service || client == "" || service == "" {
		return ""
	}
	pair := fmt.Sprintf("this client is %s, the service %s", client, service)
	ours, err := time.Parse(stamp, before(client))
	theirs, err2 := time.Parse(stamp, before(service))
	switch {
	case err != nil || err2 != nil || ours.Equal(theirs):
		return "This service is of another version than this client: " + pair + "."
	case theirs.Before(ours):
		return "This service is older than this client, and may refuse what is new in it: " + pair + "."
	}
	return "This client is older than this service, and does not know what is new in it: " + pair + "."
}

func before(name string) string {
	at, _, _ := strings.Cut(name, "+")
	return at
}
