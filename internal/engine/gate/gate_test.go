package gate

import (
	"testing"

	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
)

func TestWhatLeavesTheHouse(t *testing.T) {
	const inside, outside, desk = "oren@tarnwick.example", "desk@else.test", "test.desk@tarnwick.example"
	domains := []string{"tarnwick.example"}
	for _, c := range []struct {
		what     string
		settings job.MailSettings
		file     bool
		to       string
		want     Passage
		outside  bool
		copy     *job.TestCopy
	}{
		{"everything, by default", job.MailSettings{}, false, outside, Passage{}, false, nil},
		{"an allowed domain", job.MailSettings{Domains: domains}, false, inside, Passage{}, false, nil},
		{"another one needs a yes", job.MailSettings{Domains: domains}, false, outside, Passage{}, true, nil},
		{"files have no domain", job.MailSettings{Domains: domains}, true, "in/a.csv", Passage{}, false, nil},
		{
			"a silent installation",
			job.MailSettings{Sending: job.SendNone, Domains: domains},
			false, outside,
			Passage{Keep: job.KeptForSilent},
			false, nil,
		},
		{
			"and its files",
			job.MailSettings{Sending: job.SendNone},
			true, "in/a.csv",
			Passage{Keep: job.KeptForSilent},
			false, nil,
		},
		{
			"all mail to one address",
			job.MailSettings{Sending: job.SendOne, OnlyTo: desk},
			false, outside,
			Passage{Redirect: desk},
			false, nil,
		},
		{
			"which has it already",
			job.MailSettings{Sending: job.SendOne, OnlyTo: desk},
			false, desk,
			Passage{},
			false,
			nil,
		},
		{
			"but no files",
			job.MailSettings{Sending: job.SendOne, OnlyTo: desk},
			true, "in/a.csv",
			Passage{Keep: job.KeptForSilent},
			false, nil,
		},
		{
			"a copy for tests sends its mail by the same settings",
			job.MailSettings{Sending: job.SendOne, OnlyTo: desk},
			false, outside,
			Passage{Redirect: desk},
			false, &job.TestCopy{},
		},
		{
			"a copy for tests brings no files",
			job.MailSettings{Sending: job.SendOne, OnlyTo: desk},
			true, "in/a.csv",
			Passage{Over: true},
			false, &job.TestCopy{Named: []string{"destination:Else"}},
		},
		{
			"but where it was named",
			job.MailSettings{Sending: job.SendNone},
			true, "in/a.csv",
			Passage{},
			false,
			&job.TestCopy{Named: []string{"destination:harbour files"}},
		},
	} {
		got, needs := BySettings(c.settings, c.copy, !c.file, c.to, "Harbour files")
		assert.Equal(t, c.want, got, c.what)
		assert.Equal(t, c.outside, needs, c.what)
	}
}
