package job_test

import (
	"testing"

	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
)

func TestDomainsHoldForTheirOwnNamesOnly(t *testing.T) {
	s := job.MailSettings{Domains: []string{" @Tarnwick.example", "harbour.test"}}
	for address, want := range map[string]bool{
		"a@tarnwick.example": true, "a@TARNWICK.EXAMPLE": true, "a@quay.tarnwick.example": true, "a@harbour.test": true,
		"a@nottarnwick.example": false, "a@tarnwick.example.else.test": false, "a@else.test": false,
		"tarnwick.example@else.test": false, "": false,
	} {
		assert.Equal(t, want, s.MayReceive(address), address)
	}
	assert.True(t, job.MailSettings{}.MayReceive("a@else.test"), "without a list nothing is kept back")
}
