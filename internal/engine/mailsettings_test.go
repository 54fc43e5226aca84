package engine

import (
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/engine/node"

	"github.com/stretchr/testify/assert"
)

func TestWhatLeavesTheHouse(t *testing.T) {
	const inside, outside, desk = "oren@tarnwick.example", "desk@else.test", "test.desk@tarnwick.example"
	domains := []string{"tarnwick.example"}
	for _, c := range []struct {
		what    string
		house   job.MailSettings
		file    bool
		to      string
		want    passage
		outside bool
		copy    *job.TestCopy
	}{
		{"everything, by default", job.MailSettings{}, false, outside, passage{}, false, nil},
		{"an allowed domain", job.MailSettings{Domains: domains}, false, inside, passage{}, false, nil},
		{"another one needs a yes", job.MailSettings{Domains: domains}, false, outside, passage{}, true, nil},
		{"files have no domain", job.MailSettings{Domains: domains}, true, "in/a.csv", passage{}, false, nil},
		{"a silent installation", job.MailSettings{Sending: job.SendNone, Domains: domains}, false, outside, passage{keep: job.KeptForSilent}, false, nil},
		{"and its files", job.MailSettings{Sending: job.SendNone}, true, "in/a.csv", passage{keep: job.KeptForSilent}, false, nil},
		{"all mail to one address", job.MailSettings{Sending: job.SendOne, OnlyTo: desk}, false, outside, passage{redirect: desk}, false, nil},
		{"which has it already", job.MailSettings{Sending: job.SendOne, OnlyTo: desk}, false, desk, passage{}, false, nil},
		{"but no files", job.MailSettings{Sending: job.SendOne, OnlyTo: desk}, true, "in/a.csv", passage{keep: job.KeptForSilent}, false, nil},
		{"a copy for tests sends its mail by the same settings", job.MailSettings{Sending: job.SendOne, OnlyTo: desk}, false, outside, passage{redirect: desk}, false, &job.TestCopy{}},
		{"a copy for tests brings no files", job.MailSettings{Sending: job.SendOne, OnlyTo: desk}, true, "in/a.csv", passage{over: true}, false, &job.TestCopy{Named: []string{"destination:Else"}}},
		{"but where it was named", job.MailSettings{Sending: job.SendNone}, true, "in/a.csv", passage{}, false, &job.TestCopy{Named: []string{"destination:harbour files"}}},
	} {
		got, needs := gateFor(c.house, c.copy, !c.file, c.to, "Harbour files")
		assert.Equal(t, c.want, got, c.what)
		assert.Equal(t, c.outside, needs, c.what)
	}
}

func TestDomainsHoldForTheirOwnNamesOnly(t *testing.T) {
	s := job.MailSettings{Domains: []string{" @Tarnwick.example", "harbour.test"}}
	for address, want := range map[string]bool{
		"a@tarnwick.example": true, "a@TARNWICK.EXAMPLE": true, "a@quay.tarnwick.example": true, "a@harbour.test": true,
		"a@nottarnwick.example": false, "a@tarnwick.example.else.test": false, "a@else.test": false, "tarnwick.example@else.test": false, "": false,
	} {
		assert.Equal(t, want, s.MayReceive(address), address)
	}
	assert.True(t, job.MailSettings{}.MayReceive("a@else.test"), "without a list nothing is kept back")
}

func TestProbesComeLessAndLessOften(t *testing.T) {
	e := &Engine{node: &node.Node{FirstProbe: 5 * time.Second}}
	last := time.Duration(0)
	for probes := range 40 {
		wait := e.probeWait(probes)
		assert.GreaterOrEqual(t, wait, last)
		assert.LessOrEqual(t, wait, probeLongest)
		last = wait
	}
	assert.Equal(t, 5*time.Second, e.probeWait(0))
	assert.Equal(t, probeLongest, last)
}

func TestNamesStandInAShellAsTheyAre(t *testing.T) {
	for name, want := range map[string]string{
		"authority": "authority", "company mail": "'company mail'", "Oren's $HOME": `'Oren'\''s $HOME'`, "a`b": "'a`b'", `a"b`: `'a"b'`,
	} {
		assert.Equal(t, want, quoted(name))
	}
}

func TestManyAreListedByTheFirst(t *testing.T) {
	many := make([]string, 25)
	for i := range many {
		many[i] = "a"
	}
	assert.Equal(t, "a, a", phrase.Few(many[:2]))
	assert.Contains(t, phrase.Few(many), " and 5 more")
}

func TestADigestComesAtItsTimeOnTheClocksOfItsReader(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	assert.NoError(t, err)
	assert.Nil(t, nextDigest(job.Wishes{}, time.Now()), "who wants none gets none")
	for now, want := range map[string]string{
		"2026-03-28T06:59:00Z": "2026-03-28T07:00:00Z",
		"2026-03-28T07:00:00Z": "2026-03-29T06:00:00Z", // summer time begins
		"2026-10-24T06:00:00Z": "2026-10-25T07:00:00Z", // and ends
	} {
		at, err := time.Parse(time.RFC3339, now)
		assert.NoError(t, err)
		next := nextDigest(job.Wishes{DigestAt: "07:00"}, at.In(london))
		assert.Equal(t, want, next.UTC().Format(time.RFC3339), now)
	}
}
