package engine

import (
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store"

	"github.com/stretchr/testify/assert"
)

func TestWhatLeavesTheHouse(t *testing.T) {
	inside, outside := store.Recipient{Address: "oren@tarnwick.example", PersonID: 4}, store.Recipient{Address: "desk@else.test"}
	domains := []string{"tarnwick.example"}
	for _, c := range []struct {
		what  string
		house job.MailSettings
		file  bool
		to    store.Recipient
		want  store.Recipient
	}{
		{"everything, by default", job.MailSettings{}, false, outside, outside},
		{"an allowed domain", job.MailSettings{Domains: domains}, false, inside, inside},
		{"another one waits for a yes", job.MailSettings{Domains: domains}, false, outside, store.Recipient{Address: "desk@else.test", KeptBack: job.KeptForYes}},
		{"files have no domain", job.MailSettings{Domains: domains}, true, store.Recipient{Address: "in/a.csv"}, store.Recipient{Address: "in/a.csv"}},
		{"a silent installation", job.MailSettings{Sending: job.SendNone}, false, inside, store.Recipient{Address: inside.Address, PersonID: 4, KeptBack: job.KeptForSilent}},
		{"and its files", job.MailSettings{Sending: job.SendNone}, true, store.Recipient{Address: "in/a.csv"}, store.Recipient{Address: "in/a.csv", KeptBack: job.KeptForSilent}},
		{"all mail to one address", job.MailSettings{Sending: job.SendOne, OnlyTo: "test.desk@tarnwick.example"}, false, outside, store.Recipient{Address: "test.desk@tarnwick.example", MeantFor: "desk@else.test"}},
		{"but no files", job.MailSettings{Sending: job.SendOne, OnlyTo: "test.desk@tarnwick.example"}, true, store.Recipient{Address: "in/a.csv"}, store.Recipient{Address: "in/a.csv", KeptBack: job.KeptForSilent}},
		{"what is kept back already stays so", job.MailSettings{}, false, store.Recipient{Address: "a@b.example", KeptBack: job.KeptForYes}, store.Recipient{Address: "a@b.example", KeptBack: job.KeptForYes}},
	} {
		before := c.to
		assert.Equal(t, []store.Recipient{c.want}, route(c.house, c.file, []store.Recipient{c.to}), c.what)
		assert.Equal(t, before, c.to, "%s: what was given is left alone", c.what)
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
	e := &Engine{o: Options{Probe: 5 * time.Second}}
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
	assert.Equal(t, "a, a", few(many[:2]))
	assert.Contains(t, few(many), " and 5 more")
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
