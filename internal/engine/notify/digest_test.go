package notify

import (
	"testing"
	"time"

	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
)

func TestADigestComesAtItsTimeOnTheClocksOfItsReader(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	assert.NoError(t, err)
	assert.Nil(t, NextDigest(job.Wishes{}, time.Now()), "who wants none gets none")
	for now, want := range map[string]string{
		"2026-03-28T06:59:00Z": "2026-03-28T07:00:00Z",
		"2026-03-28T07:00:00Z": "2026-03-29T06:00:00Z", // summer time begins
		"2026-10-24T06:00:00Z": "2026-10-25T07:00:00Z", // and ends
	} {
		at, err := time.Parse(time.RFC3339, now)
		assert.NoError(t, err)
		next := NextDigest(job.Wishes{DigestAt: "07:00"}, at.In(london))
		assert.Equal(t, want, next.UTC().Format(time.RFC3339), now)
	}
}
