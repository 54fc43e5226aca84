package release

import (
	"runtime/debug"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

const commit = "a9c4426f0e1d2c3b4a5968778695a4b3c2d1e0f9"

func TestAReleaseIsKnownByRepositoryOrArchive(t *testing.T) {
	t.Parallel()
	noted := func(changed string) []debug.BuildSetting {
		return []debug.BuildSetting{
			{Key: "vcs.revision", Value: commit}, {Key: "vcs.time", Value: "2026-12-02T13:44:00Z"}, {Key: "vcs.modified", Value: changed},
		}
	}
	const archive = commit + " 2026-12-02T14:44:00+01:00\n"
	assert.Equal(t, "2026.12.02.1344+a9c4426", of(noted("false"), "$Format:%H %cI$\n").Name())
	assert.Equal(t, "2026.12.02.1344+a9c4426.changed", of(noted("true"), archive).Name(), "the repository is nearer than a file")
	assert.Equal(t, "2026.12.02.1344+a9c4426", of(nil, archive).Name())
	for _, nothing := range []string{"", "$Format:%H %cI$\n", "a9c4426", "short 2026-12-02T14:44:00Z", commit + " yesterday"} {
		assert.Equal(t, "development", of(nil, nothing).Name(), nothing)
	}
}

func TestClientAndServiceSayHowTheyDiffer(t *testing.T) {
	t.Parallel()
	at := func(day int, more string) string {
		return Release{Commit: commit, At: time.Date(2026, 12, day, 9, 0, 0, 0, time.UTC)}.Name() + more
	}
	for _, c := range []struct{ client, service, says string }{
		{at(2, ""), at(2, ""), ""},
		{at(2, ""), "", ""},
		{at(2, ""), at(1, ""), "This service is older than this client"},
		{at(1, ""), at(2, ".changed"), "This client is older than this service"},
		{at(2, ""), at(2, ".changed"), "This service is of another version than this client"},
		{at(2, ""), "development", "This service is of another version than this client"},
	} {
		said := Differ(c.client, c.service)
		if c.says == "" {
			assert.Empty(t, said)
			continue
		}
		assert.Contains(t, said, c.says)
		assert.Contains(t, said, c.client)
		assert.Contains(t, said, c.service)
	}
	assert.Equal(t, This().Name(), FromAgent(Agent()))
	assert.Empty(t, FromAgent("curl/8"))
}
