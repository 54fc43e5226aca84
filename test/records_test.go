package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The whole company is written into files, and made from nothing by them alone in another
// installation, whose files are then the same.
func TestACompanyIsMadeOfFilesAlone(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.LoadCompany()
	first, second := t.TempDir(), t.TempDir()
	out, errs, code := w.Ironbell("show", "-into", first)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "Passwords do not: they are never shown.")
	files := world.Files(t, first)
	require.Greater(t, len(files), 50)
	for path, text := range files {
		assert.NotContains(t, text, "password", path)
		assert.NotContains(t, text, w.Out.Password, path)
	}
	out, errs, code = w.Ironbell("save", first)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "0 new, 0 changed,", "what was shown says what is so")

	e := world.OpenEmpty(t)
	folders := "/destination/Port folders.yaml"
	files[folders] = strings.ReplaceAll(files[folders], w.Dir, e.Dir)
	require.NoError(t, os.Mkdir(filepath.Join(e.Dir, "folders", "company"), 0o755))
	require.NoError(t, os.WriteFile(first+folders, []byte(files[folders]), 0o600))
	passwords := filepath.Join(t.TempDir(), "passwords.yaml")
	var lines strings.Builder
	for record, password := range map[string]string{
		"source tarnwick": "reports", "destination company mail": w.Out.Password, "setting bounces": w.Out.Password,
		"destination Harbour authority files": w.Out.Password, "destination Board archive": w.Out.Password,
		"destination Board store": w.Out.Password,
	} {
		lines.WriteString(record + ": '" + password + "'\n")
	}
	for path := range files {
		if name, is := strings.CutPrefix(path, "/identity/"); is {
			name = strings.TrimSuffix(strings.Replace(name, " - ", "/", 1), ".yaml")
			lines.WriteString("identity " + name + ": reports\n")
		}
	}
	require.NoError(t, os.WriteFile(passwords, []byte(lines.String()), 0o600))
	out, errs, code = e.Ironbell("save", "-passwords", passwords, first)
	require.Zero(t, code, errs)
	assert.Contains(t, out, " 0 refused.")
	_, errs, code = e.Ironbell("show", "-into", second)
	require.Zero(t, code, errs)
	again := world.Files(t, second)
	for path, text := range files {
		assert.Equal(t, text, again[path], path)
	}
	assert.Len(t, again, len(files))
	_, errs, code = e.Ironbell("ring", "-follow", "Fuel burn by vessel")
	assert.Zero(t, code, "what came of files works: %s", errs)
}

func TestWhatIsWrongWithAFileIsToldAtItsPlace(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.Report("Ports", "SELECT code FROM ports")
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	const good = `ironbell: 1
record: job Port list
owner: mara
zone: Europe/London
triggers:
- rule: every day at 06:00
tasks:
- name: report
  kind: report
  report:
    report: Ports
    outputs:
    - format: csv
`
	for name, c := range map[string]struct{ from, to, says string }{
		"an unknown field":   {"owner: mara", "ownr: mara", ":3:7: ownr: there is no field ownr here; is owner meant?"},
		"a wrong word":       {"format: csv", "format: doc", ":13:15: tasks[0].report.outputs[0].format: write one of csv, tsv"},
		"no such report":     {"report: Ports", "report: Prots", `:11:13: tasks[0].report.report: there is no report "Prots"`},
		"a bad rule":         {"every day at 06:00", "every dey at 06:00", ":6:9: triggers[0].rule: "},
		"a bad zone":         {"Europe/London", "Europe/Londen", ":4:7: zone: "},
		"a number as a text": {"name: report", "name: 12", ":8:9: tasks[0].name: a number stands here; a text is expected: put it in quotes"},
		"a text as a list":   {"- rule: every day at 06:00", "  rule: every day at 06:00", ":5:1: triggers: fields stand here; a list is expected"},
		"no tasks":           {"tasks:", "tags:", ":2:9: the field tasks is missing"},
		"an unknown kind":    {"job Port list", "jop Port list", `:2:9: There is no kind of record "jop"`},
		"an unknown setting": {"job Port list", "setting Port list", `:2:9: There is no setting "Port list"; there are alerts, mail`},
		"a kind's word":      {"zone: Europe/London", "zone: Europe/London\ntime_limit: soon", "time_limit: write a length of time, such as 90s"},
		"too long a time":    {"zone: Europe/London", "zone: Europe/London\ntime_limit: 900h", `"900h" is no length of time`},
		"an old form":        {"ironbell: 1", "ironbell: 7", ":1:11: ironbell: the file has form 7, and this service reads form 1 alone"},
		"nobody":             {"owner: mara", "owner: nobody", `:3:8: owner: `},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, good, c.from)
			path := write("bad.yaml", strings.Replace(good, c.from, c.to, 1))
			_, errs, code := w.Ironbell("save", path)
			assert.Equal(t, 1, code)
			assert.Contains(t, errs, c.says)
			assert.Contains(t, errs, path)
		})
	}
	_, errs, _ := w.Ironbell("show", "job", "Port list")
	assert.Contains(t, errs, `there is no job "Port list"`, "nothing was saved")

	path := write("good.yaml", good)
	out, errs, code := w.Ironbell("save", "-try", path)
	require.Zero(t, code, errs)
	assert.Regexp(t, "^\\+ job Port list: new, only tried\nUntil .*: No ring changes.\n$", out)
	_, _, code = w.Ironbell("show", "job", "Port list")
	assert.Equal(t, 1, code, "it was only tried")
	out, errs, code = w.Ironbell("save", path)
	require.Zero(t, code, errs)
	assert.Equal(t, "+ job Port list: new\n", out)
	out, _, _ = w.Ironbell("save", path)
	assert.Equal(t, "  job Port list: unchanged\n", out)
	shown, _, _ := w.Ironbell("show", "-revision", "job", "Port list")
	assert.Contains(t, shown, "revision: 1\n")
	stale := write("stale.yaml", strings.Replace(shown, "06:00", "07:00", 1))
	out, _, code = w.Ironbell("save", write("later.yaml", strings.Replace(good, "06:00", "08:00", 1)))
	require.Zero(t, code)
	assert.Contains(t, out, "triggers[0].rule: was \"every day at 06:00\", now \"every day at 08:00\"")
	_, errs, code = w.Ironbell("save", stale)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, `ob "Port list" was changed meanwhile by Sefa Orlin`)
	_, errs, code = w.Ironbell("save", path, write("twice.yaml", good))
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "job Port list stands in "+path+" as well")
}

// Records that cannot be, one after the other and in any order.
func TestRecordsThatCannotBeAreRefused(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	save := func(text string) string {
		_, err := w.C.SaveRecord(t.Context(), []byte("ironbell: 1\n"+text), false)
		if err == nil {
			return ""
		}
		return err.Error()
	}
	require.Empty(t, save("record: group A\nmembers: ['person:mara']\n"))
	require.Empty(t, save("record: group B\nmembers: ['group:A']\n"))
	require.Empty(t, save("record: group C\nmembers: ['group:B', 'person:joren']\n"))
	require.Empty(t, save("record: post Director\nholders: []\n"))
	require.Empty(t, save("record: post Clerk\nunder: Director\nholders: []\n"))
	for text, says := range map[string]string{
		"record: group A\nmembers: ['group:a']\n":                                                      "the group would hold itself",
		"record: group A\nmembers: ['person:mara', 'group:c']\n":                                       "members[1]: the group would hold itself, by way of c",
		"record: post Director\nunder: clerk\nholders: []\n":                                           "it would be a circle",
		"record: post Director\nunder: Director\nholders: []\n":                                        "it would be a circle",
		"record: calendar Harbour\nweek: []\n":                                                         "week: the list is empty",
		"record: calendar Harbour\nweek:\n":                                                            "week: nothing stands behind it",
		"record: calendar Harbour\nclosed:\n- date: 2026-12-25\n  rule:\n":                             "closed[0].rule: nothing stands behind it",
		"record: identity nowhere/Quay\nlogin: quay\n":                                                 `there is no source "nowhere"`,
		"record: setting limits\nservice: 0\n":                                                         "0 is no limit",
		"record: person oren\nname: Oren Hask\nmail: MARA@tarnwick.example\nrole: reader\nzone: UTC\n": "mail: Mara Quill has this address already",
	} {
		assert.Contains(t, save(text), says, text)
	}
	require.Empty(t, save("record: person MARA\nname: Mara Q.\nmail: mara@tarnwick.example\nrole: owner\nzone: UTC\n"))
	p, err := w.C.Records(t.Context(), "person")
	require.NoError(t, err)
	assert.Contains(t, p, named("person", "mara"), "a login in other letters is the same person")
	assert.NotContains(t, p, named("person", "MARA"))
}

// What may be saved by a file is what may be saved on screen, no more.
func TestAFileIsNoWayRound(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	token, err := client.New("http://"+w.Listen, "").MakeToken(t.Context(), "mara", world.Password, "a test")
	require.NoError(t, err)
	mara := client.New("http://"+w.Listen, token.Token)
	for _, text := range []string{
		"record: person mara\nname: Mara Quill\nmail: mara@tarnwick.example\nrole: administrator\nzone: UTC\n",
		"record: destination company mail\nprotocol: smtp\nsettings: {host: mail.tarnwick.example}\n",
		"record: setting limits\nservice: 1\n",
		"record: group All\nmembers: [\"person:mara\"]\n",
		"record: calendar Harbour\nweek: [mon]\n",
	} {
		_, err := mara.SaveRecord(t.Context(), []byte("ironbell: 1\n"+text), false)
		var p *client.Problem
		require.ErrorAs(t, err, &p, text)
		assert.Equal(t, 403, p.Status, text)
	}
	all, err := w.C.Records(t.Context(), "setting")
	require.NoError(t, err)
	assert.Contains(t, all, wire.RecordName{Kind: "setting", Name: "mail"})
	assert.NotContains(t, all, wire.RecordName{Kind: "setting", Name: "heartbeat"}, "nobody has said where it goes")
}
