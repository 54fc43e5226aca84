package job

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/moment"
)

// Report is a saved query or queries with named parameters, sections and
// layout. Every save makes a new version.
type Report struct {
	ID        int64     `json:"id" db:"id"`
	Name      string    `json:"name" db:"name"`
	Owner     string    `json:"owner" db:"owner"`
	Version   int       `json:"version" db:"version"`
	UpdatedAt time.Time `json:"updated_at" db:"updated_at"`
	Revision  int64     `json:"revision,omitempty" db:"revision" doc:"rises with each change; give it back in If-Match when you save" required:"false"`

	RemovedAt *time.Time `json:"removed_at,omitempty" db:"removed_at" doc:"when it was removed; it can be brought back for 30 days" required:"false"`
	ReportDefinition
}

// ReportDefinition is the part of a report that is saved anew as a version.
type ReportDefinition struct {
	Title      string      `json:"title,omitempty" maxLength:"300" doc:"what stands above it, with moving parts; its name when left out"`
	Source     string      `json:"source" minLength:"1" doc:"name of the source that its queries are put to"`
	Identity   string      `json:"identity,omitempty" maxLength:"200" doc:"identity of the source as which its queries run; the source's own login when left out"`
	Parameters []Parameter `json:"parameters,omitempty" maxItems:"100"`
	Sections   []Section   `json:"sections" minItems:"1" maxItems:"50"`
	HouseStyle string      `json:"house_style,omitempty" maxLength:"60" doc:"how its pages, sheets, slides and pictures look; the first style of the house when left out"`
	Workbooks  []Workbook  `json:"workbooks,omitempty" maxItems:"10" doc:"spreadsheets of the owner's own, which outputs fill"`
	Schedulers []string    `json:"schedulers,omitempty" maxItems:"200" doc:"who may have it sent to themselves by a schedule of their own: person:login, group:name, post:name or under:name; nobody when left out"`
}

// Called is the title of the report, or its name.
func (r Report) Called() string {
	if r.Title != "" {
		return r.Title
	}
	return r.Name
}

// Section finds a section by its name.
func (d ReportDefinition) Section(name string) (Section, bool) {
	i := slices.IndexFunc(d.Sections, func(s Section) bool { return s.Name == name })
	if i < 0 {
		return Section{}, false
	}
	return d.Sections[i], true
}

// Section is one part of a report: one page, sheet or slide.
type Section struct {
	Name    string      `json:"name" minLength:"1" maxLength:"100"`
	Kind    SectionKind `json:"kind,omitempty" enum:"table,figures,chart,text" doc:"table when left out"`
	Title   string      `json:"title,omitempty" maxLength:"300" doc:"what stands above it; its name when left out"`
	SQL     string      `json:"sql,omitempty" maxLength:"200000" doc:"one statement; parameters stand in it as :name; a text may do without"`
	Columns []Column    `json:"columns,omitempty" maxItems:"500" doc:"how columns look; those that are not named here look plain"`
	Group   []string    `json:"group,omitempty" maxItems:"5" doc:"columns by which the rows of a table are grouped, the widest group first; the query must give them in this order"`
	Key     []string    `json:"key,omitempty" maxItems:"5" doc:"columns that tell the rows of a table apart, to compare two runs by"`
	Chart   *Chart      `json:"chart,omitempty" doc:"for the kind chart"`
	Text    string      `json:"text,omitempty" maxLength:"20000" doc:"for the kind text, with moving parts; cell(\"column\") is a cell of the first row"`
	Detail  *Detail     `json:"detail,omitempty" doc:"the underlying rows, for outputs that ask for them"`
}

// Called is the title of the section, or its name.
func (s Section) Called() string {
	if s.Title != "" {
		return s.Title
	}
	return s.Name
}

// SectionKind names a kind of section.
type SectionKind string

// The kinds; the first is the default.
const (
	SectionTable   SectionKind = "table"
	SectionFigures SectionKind = "figures"
	SectionChart   SectionKind = "chart"
	SectionText    SectionKind = "text"
)

// Detail is the underlying rows of a section.
type Detail struct {
	Title   string   `json:"title,omitempty" maxLength:"300" doc:"the section's with the word detail when left out"`
	SQL     string   `json:"sql" minLength:"1" maxLength:"200000"`
	Columns []Column `json:"columns,omitempty" maxItems:"500"`
	Key     []string `json:"key,omitempty" maxItems:"5"`
}

// Column says how a column looks.
type Column struct {
	Name      string     `json:"name" minLength:"1" maxLength:"200" doc:"as the query gives it"`
	Label     string     `json:"label,omitempty" maxLength:"200" doc:"its head; its name when left out"`
	Hidden    bool       `json:"hidden,omitempty" doc:"conditions and texts may speak of it, and it reaches no file"`
	Width     int        `json:"width,omitempty" minimum:"0" maximum:"200" doc:"characters; as its rows need when left out"`
	Decimals  *int       `json:"decimals,omitempty" minimum:"0" maximum:"12" doc:"digits behind the decimal mark; as many as the number has when left out"`
	Percent   bool       `json:"percent,omitempty" doc:"0.25 is shown as 25 %"`
	Ungrouped bool       `json:"ungrouped,omitempty" doc:"digits stand without marks between thousands, as in a year"`
	Unit      string     `json:"unit,omitempty" maxLength:"20" doc:"stands behind the number"`
	UnitFirst bool       `json:"unit_first,omitempty" doc:"the unit stands before the number"`
	Date      string     `json:"date,omitempty" maxLength:"60" doc:"form of a date or time, such as %d %B %Y; as the output's locale has it when left out"`
	Total     Total      `json:"total,omitempty" enum:"sum,mean,least,most,count" doc:"what stands below it, for each group and for all"`
	Emphasis  []Emphasis `json:"emphasis,omitempty" maxItems:"10" doc:"the first whose condition holds"`
	Before    string     `json:"before,omitempty" maxLength:"200" doc:"in figures: the column with the earlier number, for the change"`
	Better    Better     `json:"better,omitempty" enum:"more,less" doc:"in figures: which change is good"`
}

// Total says what stands below a column.
type Total string

// The totals.
const (
	TotalSum   Total = "sum"
	TotalMean  Total = "mean"
	TotalLeast Total = "least"
	TotalMost  Total = "most"
	TotalCount Total = "count"
)

// Better says which change of a figure is good.
type Better string

// The directions.
const (
	BetterMore Better = "more"
	BetterLess Better = "less"
)

// Emphasis marks the cells of a column for which a condition holds.
type Emphasis struct {
	If string `json:"if" minLength:"1" maxLength:"1000" doc:"such as cell(\"late\") > 5"`
	As Mark   `json:"as" enum:"good,warning,bad,strong,faint"`
}

// Mark is how a cell is emphasised.
type Mark string

// The marks.
const (
	MarkNone    Mark = ""
	MarkGood    Mark = "good"
	MarkWarning Mark = "warning"
	MarkBad     Mark = "bad"
	MarkStrong  Mark = "strong"
	MarkFaint   Mark = "faint"
)

// Chart says what a chart draws. The table of its rows always stands behind it.
type Chart struct {
	Form   ChartForm `json:"form" enum:"line,bar,stacked,share"`
	Along  string    `json:"along,omitempty" maxLength:"200" doc:"column along the axis; the first when left out"`
	Series []string  `json:"series,omitempty" maxItems:"12" doc:"columns that are drawn; all numbers when left out"`
	Split  string    `json:"split,omitempty" maxLength:"200" doc:"column whose values make one series each, of the one column in series"`

	Targets      []Target `json:"targets,omitempty" maxItems:"5" doc:"lines across the chart at values that are aimed at"`
	AlongTitle   string   `json:"along_title,omitempty" maxLength:"80" doc:"what stands below the axis"`
	ValueTitle   string   `json:"value_title,omitempty" maxLength:"80" doc:"what stands beside the axis of numbers, such as litres"`
	Patterns     bool     `json:"patterns,omitempty" doc:"series are told apart by hatches and broken lines, too, for who prints in black or sees few colours"`
	Numbers      bool     `json:"numbers,omitempty" doc:"of bars: each has its number on it, where there is room"`
	WithoutTable bool     `json:"without_table,omitempty" doc:"pages, slides, pictures and mails show the chart without its rows; sheets and text files have them all the same"`
}

// Target is a value that is aimed at.
type Target struct {
	At    float64 `json:"at" doc:"on the axis of numbers: 0.95 for 95 %"`
	Label string  `json:"label,omitempty" maxLength:"60" doc:"its name; the value when left out"`
}

// ChartForm is a form of chart.
type ChartForm string

// The forms.
const (
	ChartLine    ChartForm = "line"
	ChartBar     ChartForm = "bar"
	ChartStacked ChartForm = "stacked"
	ChartShare   ChartForm = "share"
)

// Parameter is what a report asks for.
type Parameter struct {
	Name     string    `json:"name" minLength:"1" maxLength:"60"`
	Label    string    `json:"label,omitempty" maxLength:"200"`
	Help     string    `json:"help,omitempty" maxLength:"1000" doc:"what somebody who gives the value should know"`
	Type     ValueType `json:"type" enum:"text,whole,number,date,instant,yes/no"`
	Choices  *Choices  `json:"choices,omitempty" doc:"the values that may be chosen; any when left out"`
	Several  bool      `json:"several,omitempty" doc:"takes a list of values; the query says IN (:name)"`
	All      bool      `json:"all,omitempty" doc:"takes the word all, too, for each of its choices; the query may ask :name_all"`
	Default  any       `json:"default,omitempty"`
	Required bool      `json:"required,omitempty"`
}

// Choices are the values that a parameter may take, from a list or a query.
type Choices struct {
	List []Choice `json:"list,omitempty" maxItems:"1000"`
	SQL  string   `json:"sql,omitempty" maxLength:"20000" doc:"gives a value and, in a second column, its label; may speak of the parameters before this one"`
}

// Choice is a value that may be chosen.
type Choice struct {
	Value string `json:"value" maxLength:"500"`
	Label string `json:"label,omitempty" maxLength:"500"`
}

// MaxChoices bounds how many choices a query may give.
const MaxChoices = 5000

// ValueType is the type of a parameter.
type ValueType string

// The types.
const (
	TypeText    ValueType = "text"
	TypeWhole   ValueType = "whole"
	TypeNumber  ValueType = "number"
	TypeDate    ValueType = "date"
	TypeInstant ValueType = "instant"
	TypeYesNo   ValueType = "yes/no"
)

var parameterName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// Check tells everything that is wrong with a report definition by itself.
func (d ReportDefinition) Check(v *fault.Invalid) {
	CheckParameters(v, "parameters", d.Parameters)
	if len(d.Sections) == 0 {
		v.Add("sections", "a report needs at least one section")
	}
	names := map[string]bool{}
	for i, s := range d.Sections {
		where := fmt.Sprintf("sections[%d]", i)
		if strings.TrimSpace(s.Name) == "" {
			v.Add(where+".name",
				"the section needs a name; it becomes the title of its table and the name of its sheet")
		}
		if names[s.Name] {
			v.Add(where+".name", "there are two sections %q; give one another name", s.Name)
		}
		names[s.Name] = true
		s.check(v, where)
	}
}

// CheckParameters tells what is wrong with a list of parameters.
func CheckParameters(v *fault.Invalid, at string, params []Parameter) {
	seen := map[string]bool{}
	for i, p := range params {
		where := fmt.Sprintf("%s[%d]", at, i)
		if !parameterName.MatchString(p.Name) {
			v.Add(where+".name", "%q is no parameter name; use small letters, digits and _, beginning with a letter",
				p.Name)
		}
		if seen[p.Name] {
			v.Add(where+".name", "there are two parameters %q; give one another name", p.Name)
		}
		seen[p.Name] = true
		if p.All {
			seen[p.Name+allEnding] = true // what a query asks for everything by
		}
		p.check(v, where)
	}
}

func (p Parameter) check(v *fault.Invalid, where string) {
	if p.All && p.Choices == nil {
		v.Add(where+".all", "all stands for each of the choices, and there are none; add choices")
	}
	if c := p.Choices; c != nil {
		if (len(c.List) > 0) == (c.SQL != "") {
			v.Add(where+".choices", "choices come from a list or from a query: give one of them")
		}
		given := map[string]bool{}
		for n, choice := range c.List {
			at := fmt.Sprintf("%s.choices.list[%d]", where, n)
			if p.All && choice.Value == All {
				v.Add(at, "the word all stands for each of the choices and cannot be one of them")
			}
			if given[choice.Value] {
				v.Add(at, "%q is listed twice", choice.Value)
			}
			given[choice.Value] = true
			if _, _, err := p.text(choice.Value, aDay, moment.DefaultFrame); err != nil {
				v.Add(at, "%s", err)
			}
		}
	}
	if p.Default != nil {
		if _, err := p.bind(p.Default, aDay, moment.DefaultFrame); err != nil {
			v.Add(where+".default", "%s", err)
		}
	}
}

// aDay is the nominal date by which texts are tried.
var aDay = time.Date(2026, 1, 15, 6, 0, 0, 0, time.UTC)

// check tells what is wrong with a section by itself. What its query gives is
// looked at by Fits.
func (s Section) check(v *fault.Invalid, where string) {
	kind := s.Kind
	if kind == "" {
		kind = SectionTable
	}
	if strings.TrimSpace(s.SQL) == "" && kind != SectionText {
		v.Add(where+".sql", "the section %q has no query", s.Name)
	}
	for _, c := range []struct {
		given bool
		of    SectionKind
		field string
	}{
		{s.Chart != nil, SectionChart, "chart"},
		{s.Text != "", SectionText, "text"},
		{len(s.Group) > 0, SectionTable, "group"},
		{len(s.Key) > 0, SectionTable, "key"},
	} {
		if c.given && kind != c.of {
			v.Add(where+"."+c.field, "%s belongs to a section of the kind %s; this is a %s", c.field, c.of, kind)
		}
	}
	if kind == SectionText && strings.TrimSpace(s.Text) == "" {
		v.Add(where+".text", "the section %q has no text", s.Name)
	}
	if kind == SectionChart && s.Chart == nil {
		v.Add(where+".chart", "say what the chart draws, such as line")
	}
	if s.Chart != nil && s.Chart.Split != "" && len(s.Chart.Series) != 1 {
		v.Add(where+".chart.series", "with split, one column is drawn: name it")
	}
	checkColumns(v, where, s.Columns)
	if s.Detail != nil {
		checkColumns(v, where+".detail", s.Detail.Columns)
	}
}

func checkColumns(v *fault.Invalid, where string, columns []Column) {
	seen := map[string]bool{}
	for i, c := range columns {
		if seen[c.Name] {
			v.Add(fmt.Sprintf("%s.columns[%d]", where, i), "the column %q is laid out twice", c.Name)
		}
		seen[c.Name] = true
	}
}

// Hides tells whether the section keeps a column out of all that is made of it.
func (s Section) Hides(column string) bool {
	return slices.ContainsFunc(s.Columns, func(c Column) bool { return c.Hidden && c.Name == column })
}

// InForm gives the section as one form of it is queried and laid out.
func (s Section) InForm(f Form) Section {
	if f != FormDetail {
		return s
	}
	out := Section{
		Name: s.Name, Kind: SectionTable, Title: s.Called() + ", detail", SQL: s.SQL, Columns: s.Columns, Key: s.Key,
	}
	if d := s.Detail; d != nil {
		out.SQL, out.Columns, out.Key = d.SQL, d.Columns, d.Key
		if d.Title != "" {
			out.Title = d.Title
		}
	}
	return out
}

// Form says which rows of a section an output takes.
type Form string

// The forms: rows as the section lays them out, with subtotals; the subtotals
// alone; or the underlying rows, without any.
const (
	FormWhole   Form = ""
	FormSummary Form = "summary"
	FormDetail  Form = "detail"
)

// Chosen is a section that an output takes.
type Chosen struct {
	Section string `json:"section" minLength:"1" maxLength:"100"`
	Form    Form   `json:"form,omitempty" enum:"summary,detail" doc:"summary: the subtotals of a grouped table alone; detail: the underlying rows; as it is laid out when left out"`
	Title   string `json:"title,omitempty" maxLength:"300" doc:"in place of its own title, also as name of its sheet"`

	Direction string `json:"direction,omitempty" enum:"upright,sideways" doc:"of the pages of a PDF that show it; as it needs when left out"`
}
