package job_test

import (
	"errors"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var sundayNoon = time.Date(2026, 11, 22, 12, 0, 0, 0, time.UTC)

func TestChoicesAreHeldAgainstTheValues(t *testing.T) {
	port := job.Parameter{
		Name: "port", Label: "Ports", Type: job.TypeText, Several: true, All: true, Required: true,
		Choices: &job.Choices{List: []job.Choice{
			{Value: "EH", Label: "Ellerhaven"},
			{Value: "GS", Label: "Grey Skerry"},
			{Value: "PE"},
		}},
	}
	one := port
	one.Several, one.All = false, false
	for _, c := range []struct {
		p     job.Parameter
		value any
		want  job.Bound
		wrong string
	}{
		{
			port,
			[]any{"GS", "EH", "GS"},
			job.Bound{Text: "GS, EH", Texts: []string{"GS", "EH"}, Shown: "Grey Skerry, Ellerhaven"},
			"",
		},
		{port, "PE", job.Bound{Text: "PE", Texts: []string{"PE"}}, ""},
		{port, "all", job.Bound{Text: "all", All: true, Texts: []string{"EH", "GS", "PE"}, Shown: "all (3)"}, ""},
		{port, []any{"XX"}, job.Bound{}, `Ports takes one of EH, GS, PE, not "XX"`},
		{port, []any{}, job.Bound{}, "Ports needs a value (text)"},
		{one, "GS", job.Bound{Text: "GS", Shown: "Grey Skerry"}, ""},
		{one, []any{"GS"}, job.Bound{}, "Ports takes one text, not a list"},
		{one, "all", job.Bound{}, `not "all"`},
	} {
		bound, err := job.Bind([]job.Parameter{c.p}, job.Values{"port": c.value}, sundayNoon, moment.DefaultFrame)
		if c.wrong != "" {
			assert.ErrorContains(t, err, c.wrong)
			continue
		}
		require.NoError(t, err)
		c.want.Name, c.want.Label, c.want.Type = "port", "Ports", job.TypeText
		assert.Equal(t, c.want, bound[0])
	}
}

func TestChoicesMayDependOnTheValuesBefore(t *testing.T) {
	params := []job.Parameter{
		{Name: "day", Type: job.TypeDate, Default: "start of month"},
		{Name: "port", Type: job.TypeText, Choices: &job.Choices{SQL: "SELECT code FROM ports"}},
		{
			Name: "route", Type: job.TypeWhole, Several: true, All: true,
			Choices: &job.Choices{SQL: "SELECT id FROM routes WHERE port = :port"},
		},
	}
	asked := map[string]int{}
	offer := func(p job.Parameter, sofar []job.Bound) ([]job.Choice, error) {
		asked[p.Name]++
		if p.Name == "port" {
			return []job.Choice{{Value: "EH"}, {Value: "GS"}}, nil
		}
		require.Len(t, sofar, 2)
		assert.Equal(t, "2026-11-01", sofar[0].Text)
		return map[string][]job.Choice{"EH": {{Value: "1"}, {Value: "2"}}, "GS": {{Value: "3"}}}[sofar[1].Text], nil
	}
	bound, err := job.BindWith(params, job.Values{"port": "EH", "route": "all"}, sundayNoon, moment.DefaultFrame, offer)
	require.NoError(t, err)
	assert.Equal(t, []string{"1", "2"}, bound[2].Texts)
	assert.Equal(t, "all (2)", bound[2].Reads())
	_, err = job.BindWith(params, job.Values{"port": "GS", "route": []any{1.0}}, sundayNoon, moment.DefaultFrame, offer)
	assert.ErrorContains(t, err, `route takes one of 3, not "1"`)
	broken := errors.New("the source is away")
	_, err = job.BindWith(params, job.Values{"port": "GS"}, sundayNoon, moment.DefaultFrame,
		func(job.Parameter, []job.Bound) ([]job.Choice, error) { return nil, broken })
	require.ErrorIs(t, err, broken, "a source that does not answer is no wrong value")
	bound, err = job.Bind(params, job.Values{"port": "anything"}, sundayNoon, moment.DefaultFrame)
	require.NoError(t, err, "without their query, choices are left alone")
	assert.True(t, bound[2].Null)
}

func TestAReportThatCannotBeIsRefused(t *testing.T) {
	v := &fault.Invalid{}
	job.ReportDefinition{
		Parameters: []job.Parameter{
			{Name: "a", Type: job.TypeText, All: true},
			{Name: "b", Type: job.TypeText, Choices: &job.Choices{}},
			{
				Name: "c", Type: job.TypeWhole,
				Choices: &job.Choices{List: []job.Choice{{Value: "1"}, {Value: "1"}, {Value: "x"}}},
			},
			{Name: "d", Type: job.TypeText, All: true, Choices: &job.Choices{List: []job.Choice{{Value: "all"}}}},
			{Name: "d_all", Type: job.TypeText},
		},
		Sections: []job.Section{
			{Name: "No query"},
			{Name: "Words", Kind: job.SectionText, SQL: "select 1"},
			{Name: "Drawing", Kind: job.SectionChart, SQL: "select 1"},
			{Name: "Mixed", Kind: job.SectionFigures, SQL: "select 1", Group: []string{"x"}},
			{Name: "Twice", SQL: "select 1", Columns: []job.Column{{Name: "x"}, {Name: "x"}}},
			{
				Name: "Split", Kind: job.SectionChart, SQL: "select 1",
				Chart: &job.Chart{Form: job.ChartLine, Split: "port"},
			},
		},
	}.Check(v)
	said := v.Error()
	for _, want := range []string{
		"all stands for each of the choices, and there are none", "choices come from a list or from a query",
		`"1" is listed twice`, `c takes a whole number, not "x"`, "the word all stands for each",
		`there are two parameters "d_all"`, `"No query" has no query`, `"Words" has no text`,
		"say what the chart draws", "group belongs to a section of the kind table", `"x" is laid out twice`,
		"with split, one column is drawn",
	} {
		assert.Contains(t, said, want)
	}
}
