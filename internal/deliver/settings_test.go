package deliver_test

import (
	"encoding/json"
	"os"
	"slices"
	"strings"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/deliver"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEverySettingIsDescribed(t *testing.T) {
	all := deliver.Describe()
	require.Len(t, all, len(deliver.Protocols()))
	text, err := os.ReadFile("../../docs/deliver.md")
	require.NoError(t, err)
	for _, p := range all {
		assert.NotEmpty(t, p.Title, p.Name)
		assert.Contains(t, []string{"mail", "files"}, p.Takes, p.Name)
		at := slices.IndexFunc(strings.Split(string(text), "\n"),
			func(line string) bool { return strings.HasPrefix(line, "| "+p.Name+" |") })
		require.GreaterOrEqual(t, at, 0, "docs/deliver.md has a row of %s", p.Name)
		row := strings.Split(string(text), "\n")[at]
		for _, s := range p.Settings {
			assert.NotEmpty(t, s.Name, p.Name)
			assert.NotEmpty(t, s.Doc, "%s %s", p.Name, s.Name)
			assert.Equal(t, s.Form == job.SettingChoice, len(s.Choices) > 0, "%s %s", p.Name, s.Name)
			assert.False(t, s.Needed && s.Further, "%s %s: what is needed is no further setting", p.Name, s.Name)
			assert.Contains(t, row, s.Name, "docs/deliver.md, row of %s", p.Name)
		}
	}
}

func TestSettingsAreHeldToTheirProtocol(t *testing.T) {
	d := deliver.NewDestinations(nil, nil, deliver.Allowed{Folders: []string{"/srv"}})
	check := func(protocol, settings string) error {
		return d.Check(protocol, "quay", json.RawMessage(settings))
	}
	assert.NoError(t, check("folder", `{"folder":"/srv/reports"}`))
	for settings, want := range map[string]string{
		`{"folder":"/srv/reports","foldr":"x"}`: `folder has no setting "foldr"; there are folder`,
		`{"folder":7}`:                          "the setting folder takes no number",
		`{"folder":`:                            "cannot be read",
		`{"folder":"/etc"}`:                     "is not allowed on this machine",
		``:                                      "unexpected end",
	} {
		assert.ErrorContains(t, check("folder", settings), want, settings)
	}
	assert.ErrorContains(t, check("pigeon", `{}`), `there is no protocol "pigeon"`)
	assert.ErrorContains(t, check("http", `{"url":"https://desk.tarnwick.example","headers":{"X-A":"b\r\nX-C: d"}}`),
		"more than one line")
	assert.ErrorContains(t, check("http", `{"url":"https://desk.tarnwick.example","headers":{"X A":"b"}}`), "no header")
	// What an earlier version kept is still read.
	_, err := deliver.Open(deliver.Place{
		Protocol: "folder", Name: "quay", Settings: json.RawMessage(`{"folder":"/srv/reports","older":1}`),
	}, deliver.Allowed{Folders: []string{"/srv"}})
	assert.NoError(t, err)
}
