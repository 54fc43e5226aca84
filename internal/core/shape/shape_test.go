package shape_test

import (
	"fmt"
	"math/big"
	"strings"
	"testing"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// told is a sink that writes down what it is told.
type told struct{ lines []string }

func (s *told) Begin(p *shape.Plan) error {
	heads := make([]string, len(p.Columns))
	for i, c := range p.Columns {
		heads[i] = c.Head()
	}
	s.lines = append(s.lines, "begin "+p.Title+": "+strings.Join(heads, "|"))
	return nil
}

func (s *told) Line(l *shape.Line) error {
	cells := make([]string, len(l.Cells))
	for i, c := range l.Cells {
		cells[i] = string(c.Text)
		if i < len(l.Marks) && l.Marks[i] != "" {
			cells[i] += "(" + string(l.Marks[i]) + ")"
		}
	}
	kind := map[shape.LineKind]string{shape.Data: "row", shape.Subtotal: "subtotal", shape.GrandTotal: "total"}[l.Kind]
	s.lines = append(s.lines, kind+" "+strings.Join(cells, "|"))
	return nil
}

func (s *told) End() error {
	s.lines = append(s.lines, "end")
	return nil
}

var columns = []rows.Column{
	{Name: "Port", Kind: rows.Text},
	{Name: "Route", Kind: rows.Text},
	{Name: "Cars", Kind: rows.Whole},
	{Name: "Metres", Kind: rows.Number},
	{Name: "Manager", Kind: rows.Text},
}

var section = job.Section{
	Name: "Deck load", Group: []string{"Port", "Route"},
	Columns: []job.Column{
		{
			Name: "Cars", Total: job.TotalSum,
			Emphasis: []job.Emphasis{
				{If: `cell("Cars") > 10 && cell("Manager") == "Oren"`, As: job.MarkBad},
				{If: `cell("Cars") > 10`, As: job.MarkStrong},
			},
		},
		{Name: "Metres", Label: "Freight", Total: job.TotalMean},
		{Name: "Manager", Hidden: true},
	},
}

var given = [][]string{
	{"EH", "to TQ", "5", "1.5", "Brina"},
	{"EH", "to TQ", "12", "2.25", "Oren"},
	{"EH", "to PE", "NULL", "NULL", "Brina"},
	{"GS", "to TQ", "20", "0.75", "Tavish"},
}

func lay(t *testing.T, s job.Section, form job.Form, columns []rows.Column, given [][]string) (laid, flat []string) {
	t.Helper()
	plan, err := shape.Fit(s, form, columns)
	require.NoError(t, err)
	var a, b told
	shaper, err := shape.NewShaper(plan, []shape.Sink{&a}, []shape.Sink{&b})
	require.NoError(t, err)
	row := make(rows.Row, len(columns))
	for _, cells := range given {
		for i, text := range cells {
			row[i] = rows.Cell{Text: []byte(text), Null: text == "NULL"}
			if row[i].Null {
				row[i].Text = nil
			}
		}
		require.NoError(t, shaper.Row(row))
	}
	n, err := shaper.End()
	require.NoError(t, err)
	assert.EqualValues(t, len(given), n)
	return a.lines, b.lines
}

func TestGroupsHaveSubtotalsAndHiddenColumnsAreGone(t *testing.T) {
	laid, flat := lay(t, section, job.FormWhole, columns, given)
	assert.Equal(t, []string{
		"begin Deck load: Port|Route|Cars|Freight",
		"row EH|to TQ|5|1.5", "row EH|to TQ|12(bad)|2.25", "subtotal EH|to TQ|17|1.875",
		"row EH|to PE||", "subtotal EH|to PE||", "subtotal EH||17|1.875",
		"row GS|to TQ|20(strong)|0.75", "subtotal GS|to TQ|20|0.750", "subtotal GS||20|0.750",
		"total ||37|1.500", "end",
	}, laid)
	assert.Equal(t,
		[]string{
			"begin Deck load: Port|Route|Cars|Freight", "row EH|to TQ|5|1.5", "row EH|to TQ|12(bad)|2.25",
			"row EH|to PE||", "row GS|to TQ|20(strong)|0.75", "end",
		}, flat)
}

func TestASummaryIsTheSubtotalsAlone(t *testing.T) {
	laid, flat := lay(t, section, job.FormSummary, columns, given)
	assert.Equal(t,
		[]string{
			"begin Deck load: Port|Route|Cars|Freight", "row EH|to TQ|17|1.875", "row EH|to PE||",
			"row GS|to TQ|20|0.750", "end",
		}, flat)
	assert.Contains(t, laid, "subtotal EH||17|1.875")
	assert.Contains(t, laid, "total ||37|1.500")
	detail, _ := lay(t, section, job.FormDetail, columns, given)
	assert.Equal(t, "begin Deck load, detail: Port|Route|Cars|Freight", detail[0])
	assert.NotContains(t, strings.Join(detail, "\n"), "subtotal")
	none, _ := lay(t, section, job.FormWhole, columns, nil)
	assert.Equal(t, []string{"begin Deck load: Port|Route|Cars|Freight", "end"}, none)
}

func TestWhatDoesNotFitIsNamed(t *testing.T) {
	for want, s := range map[string]job.Section{
		`the query gives no column "Trucks"; it gives Port, Route, Cars`: {Columns: []job.Column{{Name: "Trucks"}}},
		`group[0]: the column "Manager" is hidden and would be seen here`: {
			Group: []string{"Manager"}, Columns: []job.Column{{Name: "Manager", Hidden: true}},
		},
		`key[0]: the query gives no column "Id"`: {Key: []string{"Id"}},
		`"Port" holds text, of which there is no sum`: {Columns: []job.Column{{
			Name:  "Port",
			Total: job.TotalSum,
		}}},
		`cell("Trucks") speaks of a column that is not there`: {Columns: []job.Column{{
			Name: "Cars", Emphasis: []job.Emphasis{{If: `cell("Trucks") > 1`, As: job.MarkBad}},
		}}},
		`"Port" holds text, and a chart draws numbers`: {
			Kind: job.SectionChart, Chart: &job.Chart{Form: job.ChartBar, Series: []string{"Port"}},
		},
		`text: the column "Manager" is hidden`: {
			Kind: job.SectionText, Text: `{cell("Manager")}`, Columns: []job.Column{{Name: "Manager", Hidden: true}},
		},
		`"Before" is no column that is shown`: {
			Kind: job.SectionFigures, Columns: []job.Column{{Name: "Cars", Before: "Before"}},
		},
		`every column is hidden`: {Columns: []job.Column{
			{
				Name:   "Port",
				Hidden: true,
			},
			{Name: "Route", Hidden: true},
			{Name: "Cars", Hidden: true},
			{Name: "Metres", Hidden: true},
			{Name: "Manager", Hidden: true},
		}},
	} {
		_, err := shape.Fit(s, job.FormWhole, columns)
		assert.ErrorContains(t, err, want)
	}
	_, err := shape.Fit(job.Section{Name: "Flat"}, job.FormSummary, columns)
	assert.ErrorContains(t, err, "this one has no groups")
}

func TestTotalsOfEachKind(t *testing.T) {
	one := []rows.Column{{Name: "N", Kind: rows.Number}}
	for total, want := range map[job.Total]string{
		job.TotalSum: "total 1000000000000000000000.3", job.TotalMost: "total 1e21", job.TotalLeast: "total -0.1",
		job.TotalCount: "total 3",
	} {
		laid, _ := lay(t, job.Section{Name: "N", Columns: []job.Column{{Name: "N", Total: total}}}, job.FormWhole, one,
			[][]string{{"0.4"}, {"-0.1"}, {"NULL"}, {"1e21"}})
		assert.Contains(t, laid, want)
	}
	laid, _ := lay(t, job.Section{Name: "N", Columns: []job.Column{{Name: "N", Total: job.TotalSum}}}, job.FormWhole,
		one, [][]string{{"1"}, {"NaN"}})
	assert.Contains(t, laid, "total NaN", "a sum of something that is no number is none")
	days, _ := lay(t, job.Section{Name: "D", Columns: []job.Column{{Name: "D", Total: job.TotalMost}}}, job.FormWhole,
		[]rows.Column{{Name: "D", Kind: rows.Date}}, [][]string{{"2026-03-01"}, {"2026-11-02"}})
	assert.Contains(t, days, "total 2026-11-02")
}

// However numbers come, their sum is exact.
func TestSumsAreExact(t *testing.T) {
	one := []rows.Column{{Name: "N", Kind: rows.Number}}
	rapid.Check(t, func(r *rapid.T) {
		want := new(big.Rat)
		given := make([][]string, rapid.IntRange(1, 40).Draw(r, "n"))
		finest := 0
		for i := range given {
			scale := rapid.IntRange(0, 14).Draw(r, "scale")
			digits := rapid.Int64().Draw(r, "digits")
			text := new(big.Rat).SetFrac(big.NewInt(digits),
				new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(scale)), nil)).FloatString(scale)
			n, _ := new(big.Rat).SetString(text)
			want.Add(want, n)
			given[i], finest = []string{text}, max(finest, scale)
		}
		plan, err := shape.Fit(job.Section{Name: "N", Columns: []job.Column{{Name: "N", Total: job.TotalSum}}},
			job.FormWhole, one)
		if err != nil {
			r.Fatal(err)
		}
		var to told
		s, err := shape.NewShaper(plan, []shape.Sink{&to}, nil)
		if err != nil {
			r.Fatal(err)
		}
		for _, row := range given {
			if err := s.Row(rows.Row{{Text: []byte(row[0])}}); err != nil {
				r.Fatal(err)
			}
		}
		if _, err := s.End(); err != nil {
			r.Fatal(err)
		}
		said := strings.TrimPrefix(to.lines[len(to.lines)-2], "total ")
		got, ok := new(big.Rat).SetString(said)
		if !ok || got.Cmp(want) != 0 {
			r.Fatalf("%v add up to %s, not to %s", given, want.FloatString(finest), said)
		}
	})
}

func ExampleFit() {
	plan, err := shape.Fit(job.Section{
		Name: "Ports", Columns: []job.Column{{Name: "code", Hidden: true}, {Name: "name", Label: "Port"}},
	}, job.FormWhole,
		[]rows.Column{{Name: "code", Kind: rows.Text}, {Name: "name", Kind: rows.Text}})
	fmt.Println(len(plan.Columns), plan.Columns[0].Head(), err)
	// Output: 1 Port <nil>
}
