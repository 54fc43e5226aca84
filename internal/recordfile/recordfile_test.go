package recordfile_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"ironbell/internal/recordfile"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestAFileIsReadableAndReadsBack(t *testing.T) {
	body := `{"owner":"mara","on":true,"zone":"Europe/London","sql":"SELECT day,\n  sum(litres) -- all\nFROM fuel\n",` +
		`"code":"007","yes":"yes","day":"2026-11-01","at":"18:00","n":12,"share":0.25,"none":null,"list":[],` +
		`"text":"a: b # c","tasks":[{"name":"figures","outputs":[{"format":"pdf"}]}],"empty":"","{x}":"{date:%Y}"}`
	revision := int64(7)
	text, err := recordfile.Write(recordfile.File{
		Kind: "job", Name: "Fuel: by vessel", Revision: &revision, Body: []byte(body),
	})
	require.NoError(t, err)
	assert.Equal(t, `ironbell: 1
record: 'job Fuel: by vessel'
revision: 7
owner: mara
'on': true
zone: Europe/London
sql: |
  SELECT day,
    sum(litres) -- all
  FROM fuel
code: '007'
'yes': 'yes'
day: '2026-11-01'
at: '18:00'
'n': 12
share: 0.25
none: null
list: []
text: 'a: b # c'
tasks:
- name: figures
  outputs:
  - format: pdf
empty: ''
'{x}': '{date:%Y}'
`, string(text))
	f, err := recordfile.Read(text)
	require.NoError(t, err)
	assert.Equal(t, "job", f.Kind)
	assert.Equal(t, "Fuel: by vessel", f.Name)
	assert.Equal(t, revision, *f.Revision)
	assert.Equal(t, body, string(f.Body))
}

// Whatever a record holds comes back as it was.
func TestEveryBodyReadsBack(t *testing.T) {
	scalar := rapid.OneOf(
		rapid.Map(rapid.String(), func(s string) any { return s }),
		rapid.Map(rapid.StringMatching(`[-+ \t\n.:#'"{}\[\]&*!|>%@0-9a-zA-Zäß_~]{0,12}`), func(s string) any { return s }),
		rapid.Map(rapid.Int64(), func(n int64) any { return json.Number(fmt.Sprint(n)) }),
		rapid.Map(rapid.Bool(), func(b bool) any { return b }),
		rapid.Just[any](nil),
	)
	value := rapid.OneOf(scalar, rapid.Map(rapid.SliceOfN(scalar, 0, 4), func(s []any) any { return s }),
		rapid.Map(rapid.MapOfN(rapid.StringMatching(`[a-zA-Z0-9 .:\[\]-]{1,8}`), scalar, 0, 4),
			func(m map[string]any) any { return m }))
	rapid.Check(t, func(t *rapid.T) {
		said := rapid.MapOfN(rapid.StringMatching(`[a-z_]{1,12}`).Filter(func(s string) bool {
			return s != "ironbell" && s != "record" && s != "revision"
		}), value, 0, 8).Draw(t, "body")
		body, err := json.Marshal(said)
		require.NoError(t, err)
		text, err := recordfile.Write(recordfile.File{Kind: "report", Name: "Fuel burn", Body: body})
		require.NoError(t, err)
		f, err := recordfile.Read(text)
		require.NoError(t, err, "%s", text)
		require.JSONEq(t, string(body), string(f.Body), "%s", text)
	})
}

func TestWhatIsWrongHasItsPlace(t *testing.T) {
	const head = "ironbell: 1\nrecord: job Fuel\n"
	deep := head + "a: " + strings.Repeat("[", 70) + strings.Repeat("]", 70)
	for name, c := range map[string]struct {
		text, says string
		line, col  int
	}{
		"empty":              {"", "the file is empty", 0, 0},
		"only remarks":       {"# nothing\n", "the file is empty", 0, 0},
		"a list":             {"- a\n", "a record is a list of fields", 1, 1},
		"not ours":           {"name: Fuel\n", "first line is ironbell: 1", 1, 1},
		"another form":       {"ironbell: 2\nrecord: job Fuel\n", "form 2, and this service reads form 1", 1, 11},
		"a word as form":     {"ironbell: new\n", "number of the form", 1, 11},
		"no record":          {"ironbell: 1\nzone: UTC\n", "kind and name are missing", 1, 11},
		"no name":            {"ironbell: 1\nrecord: job\n", "write the kind and the name", 2, 9},
		"bad revision":       {head + "revision: old\n", "number of the revision", 3, 11},
		"a second record":    {head + "---\n" + head, "a second document begins here", 3, 1},
		"a key twice":        {head + "zone: UTC\nowner: mara\nzone: UTC\n", "zone stands here a second time; the first is in line 3", 5, 1},
		"deep key twice":     {head + "tasks:\n  - name: a\n    name: b\n", "name stands here a second time", 5, 5},
		"a tab":              {head + "tasks:\n\t- name: a\n", "a tab stands here", 4, 1},
		"a tab after blanks": {head + "keep:\n  runs: 1\n \tlog: 2\n", "a tab stands here", 5, 2},
		"an alias":           {head + "a: &x 1\nb: *x\n", "&x marks it", 3, 4},
		"a merge":            {head + "a:\n  <<: {b: 1}\n", "<< takes fields from elsewhere", 4, 3},
		"a tag":              {head + "a: !!str 12\n", "is a tag", 3, 4},
		"leading zeros":      {head + "a: 007\n", "this could be a number or a text", 3, 4},
		"octal":              {head + "a: 0o17\n", "could be a number or a text", 3, 4},
		"underscores":        {head + "a: 1_000\n", "could be a number or a text", 3, 4},
		"infinite":           {head + "a: .inf\n", "could be a number or a text", 3, 4},
		"a bracket open":     {head + "a: [1, 2\nb: 3\n", "this is no YAML", 4, 2},
		"a quote open":       {head + "a: \"x\n", "this is no YAML", 4, 1},
		"no UTF-8":           {head + "a: \xff\n", "no UTF-8", 3, 4},
		"a NUL":              {head + "a: \x00\n", "a NUL stands here", 3, 4},
		"too deep":           {deep, "", 3, 0},
		"too large":          {head + strings.Repeat("a", recordfile.MaxBytes), "bytes; a record has", 0, 0},
		"a list as a name":   {head + "? [a, b]\n: 1\n", "the name of a field is a plain text", 3, 3},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := recordfile.Read([]byte(c.text))
			var e *recordfile.Invalid
			require.ErrorAs(t, err, &e)
			require.NotEmpty(t, e.Wrong)
			w := e.Wrong[0]
			assert.Contains(t, w.Sentence, c.says)
			assert.Equal(t, c.line, w.Line, "%s", w)
			if c.col > 0 {
				assert.Equal(t, c.col, w.Column, "%s", w)
			}
		})
	}
}

func TestAPlaceOfTheRecordIsFoundInTheFile(t *testing.T) {
	f, err := recordfile.Read([]byte("ironbell: 1\nrecord: job Fuel\nzone: UTC\nvalues:\n  a.b: 1\n  a: 2\ntasks:\n" +
		"  - name: figures\n    report: {report: Fuel, outputs: [{format: pdf}]}\n"))
	require.NoError(t, err)
	for where, want := range map[string][2]int{
		"":                                  {2, 9},
		"name":                              {2, 9},
		"zone":                              {3, 7},
		"values.a.b":                        {5, 8},
		"values.a":                          {6, 6},
		"tasks":                             {7, 1},
		"tasks[0].name":                     {8, 11},
		"tasks[0].report.report":            {9, 22},
		"tasks[0].report.outputs[0].format": {9, 47},
		"tasks[0].report.outputs[3].format": {9, 28},
		"tasks[0].kind":                     {8, 5},
		"tasks[7]":                          {7, 1},
	} {
		line, column := f.At(where)
		assert.Equal(t, want, [2]int{line, column}, where)
	}
}

func TestTenThousandLinesAreRead(t *testing.T) {
	text := "ironbell: 1\nrecord: group All\nmembers:\n" + strings.Repeat("- person:mara\n", 10_000)
	f, err := recordfile.Read([]byte(text))
	require.NoError(t, err)
	line, _ := f.At("members[9999]")
	assert.Equal(t, 10_003, line)
	_, err = recordfile.Read([]byte(text + strings.Repeat("- 007\n", 200)))
	var e *recordfile.Invalid
	require.ErrorAs(t, err, &e)
	assert.Len(t, e.Wrong, 50)
	assert.Equal(t, 150, e.More)
}
