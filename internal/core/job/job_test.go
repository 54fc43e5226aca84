package job_test

import (
	"encoding/json"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var nominal = time.Date(2026, 11, 23, 6, 15, 0, 0, time.UTC)

func TestBind(t *testing.T) {
	params := []job.Parameter{
		{Name: "port", Label: "Port", Type: job.TypeText, Required: true},
		{Name: "from", Label: "From", Type: job.TypeDate, Default: "start of month"},
		{Name: "since", Type: job.TypeInstant},
		{Name: "limit", Type: job.TypeWhole, Default: 10.0},
		{Name: "share", Type: job.TypeNumber},
		{Name: "all", Type: job.TypeYesNo, Default: false},
	}
	got, err := job.Bind(params,
		job.Values{"port": "Pennold", "since": "2026-11-01 06:30", "share": "12.50", "all": "yes"}, nominal,
		moment.DefaultFrame)
	require.NoError(t, err)
	assert.Equal(t, []job.Bound{
		{Name: "port", Label: "Port", Type: job.TypeText, Text: "Pennold"},
		{Name: "from", Label: "From", Type: job.TypeDate, Text: "2026-11-01", From: "start of month"},
		{Name: "since", Label: "since", Type: job.TypeInstant, Text: "2026-11-01T06:30:00Z"},
		{Name: "limit", Label: "limit", Type: job.TypeWhole, Text: "10"},
		{Name: "share", Label: "share", Type: job.TypeNumber, Text: "12.50"},
		{Name: "all", Label: "all", Type: job.TypeYesNo, Text: "true"},
	}, got)
}

func TestBindNamesEachParameterThatIsWrong(t *testing.T) {
	params := []job.Parameter{
		{Name: "port", Label: "Port", Type: job.TypeText, Required: true},
		{Name: "from", Label: "From", Type: job.TypeDate},
		{Name: "limit", Label: "At most", Type: job.TypeWhole},
		{Name: "share", Label: "Share", Type: job.TypeNumber},
		{Name: "all", Label: "All", Type: job.TypeYesNo},
		{Name: "name", Label: "Name", Type: job.TypeText},
	}
	_, err := job.Bind(params,
		job.Values{"from": "2026-02-30", "limit": 1.5, "share": "1/3", "all": "perhaps", "name": "a\x00b"}, nominal,
		moment.DefaultFrame)
	var wrong *fault.Invalid
	require.ErrorAs(t, err, &wrong)
	said := map[string]string{}
	for _, w := range wrong.Wrong {
		said[w.Where] = w.Sentence
	}
	assert.Equal(t, map[string]string{
		"port":  "Port needs a value (text)",
		"from":  `From takes a date such as 2026-11-23; "2026-02-30" is no date of the calendar`,
		"limit": `At most takes a whole number, not "1.5"`,
		"share": `Share takes a number such as 12.5, not "1/3"`,
		"all":   `All takes yes or no, not "perhaps"`,
		"name":  "Name holds a zero character, which no database takes",
	}, said)
	_, err = job.Bind(params[:1], job.Values{"port": []any{"a"}}, nominal, moment.DefaultFrame)
	assert.ErrorContains(t, err, "Port takes one text, not a list")
}

func TestReportCheck(t *testing.T) {
	v := &fault.Invalid{}
	job.ReportDefinition{
		Parameters: []job.Parameter{
			{Name: "From", Type: job.TypeDate},
			{Name: "to", Type: job.TypeDate, Default: "some day"},
			{Name: "to", Type: job.TypeText},
		},
		Sections: []job.Section{{Name: "A", SQL: "select 1"}, {Name: "A", SQL: " "}},
	}.Check(v)
	err := v.Err()
	for _, want := range []string{
		`"From" is no parameter name`, `two parameters "to"`, "parameters[1].default",
		`two sections "A"`, `the section "A" has no query`,
	} {
		assert.ErrorContains(t, err, want)
	}
}

func TestRunIDs(t *testing.T) {
	id := job.RunID(26110000048211)
	assert.Equal(t, "2611-48211", id.String())
	back, ok := job.ParseRunID("2611-48211")
	assert.True(t, ok)
	assert.Equal(t, id, back)
	for _, text := range []string{
		"", "48211", "2611", "2611-", "-5", "2611-x", "2611--3", "999999-1",
		"2611-99999999999",
	} {
		_, ok := job.ParseRunID(text)
		assert.False(t, ok, text)
	}
	text, err := json.Marshal(map[string]job.RunID{"id": id})
	require.NoError(t, err)
	assert.JSONEq(t, `{"id":"2611-48211"}`, string(text))
}

func TestDurations(t *testing.T) {
	for text, want := range map[string]string{
		"90s": "1m30s", "10m": "10m", "1h": "1h", "1h30m": "1h30m", "0s": "0s", "500ms": "500ms",
	} {
		var d job.Duration
		require.NoError(t, d.UnmarshalText([]byte(text)), text)
		assert.Equal(t, want, d.String(), text)
	}
	for _, text := range []string{"", "ten", "-5m", "1000h", "5"} {
		var d job.Duration
		assert.ErrorContains(t, d.UnmarshalText([]byte(text)), "is no length of time", text)
	}
}

func TestValuesKeyIsEqualForEqualValues(t *testing.T) {
	assert.Equal(t, job.Values{"a": 1.0, "b": "x"}.Key(), job.Values{"b": "x", "a": 1.0}.Key())
	assert.NotEqual(t, job.Values{"a": "1"}.Key(), job.Values{"a": 1.0}.Key())
	assert.Equal(t, job.Values{}.Key(), job.Values(nil).Key())
	assert.Equal(t, job.Values{"a": "mine", "b": "theirs"},
		job.Values{"a": "mine"}.Over(job.Values{"a": "x", "b": "theirs"}))
}

func TestAnEndedRunWorksAgainOnlyWhenItIsLetGoOn(t *testing.T) {
	for s, mayGoOn := range map[job.RunState]bool{
		job.RunDone: false, job.RunPartly: true, job.RunBlank: true, job.RunFailed: true, job.RunCancelled: true,
		job.RunPassedOver: false,
	} {
		assert.True(t, s.Ended(), s)
		assert.False(t, s.MayBecome(job.RunRunning), s)
		assert.Equal(t, mayGoOn, s.MayBecome(job.RunWaiting), s)
	}
}

func TestCellsKeepWhatTheyAre(t *testing.T) {
	var cells job.Cells
	require.NoError(t, json.Unmarshal(
		[]byte(`{"whole":9007199254740993,"part":2.5,"text":"12","yes":true,"none":null,"large":1e30}`), &cells))
	assert.Equal(t, job.Cells{
		"whole": int64(9007199254740993), "part": 2.5, "text": "12", "yes": true, "none": nil, "large": 1e30,
	}, cells)
	require.Error(t, json.Unmarshal([]byte(`[1]`), &cells))
	require.Error(t, json.Unmarshal([]byte(`{"far":1e999}`), &cells))
}
