package job

import (
	"encoding/json"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/moment"
)

// Report is a saved query or queries with named parameters and sections. Every
// save makes a new version.
type Report struct {
	ID        int64     `json:"id" db:"id"`
	Name      string    `json:"name" db:"name"`
	Owner     string    `json:"owner" db:"owner"`
	Version   int       `json:"version" db:"version"`
	UpdatedAt time.Time `json:"updated_at" db:"updated_at"`
	ReportDefinition
}

// ReportDefinition is the part of a report that is saved anew as a version.
type ReportDefinition struct {
	Source     string      `json:"source" minLength:"1" doc:"name of the source that its queries are put to"`
	Parameters []Parameter `json:"parameters,omitempty" maxItems:"100"`
	Sections   []Section   `json:"sections" minItems:"1" maxItems:"50"`
}

// Section is one part of a report: a table made by one query.
type Section struct {
	Name string `json:"name" minLength:"1" maxLength:"100"`
	SQL  string `json:"sql" minLength:"1" maxLength:"200000" doc:"one statement; parameters stand in it as :name"`
}

// Parameter is what a report asks for.
type Parameter struct {
	Name     string    `json:"name" minLength:"1" maxLength:"60"`
	Label    string    `json:"label,omitempty" maxLength:"200"`
	Type     ValueType `json:"type" enum:"text,whole,number,date,instant,yes/no"`
	Default  any       `json:"default,omitempty"`
	Required bool      `json:"required,omitempty"`
}

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

// Bound is a value ready to be bound: canonical text of its type.
type Bound struct {
	Name  string    `json:"name"`
	Label string    `json:"label"`
	Type  ValueType `json:"type"`
	Text  string    `json:"text"`
	Null  bool      `json:"null,omitempty"`
	From  string    `json:"from,omitempty" doc:"the moment that it was reckoned from"`
}

var parameterName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// Check tells everything that is wrong with a report definition by itself.
func (d ReportDefinition) Check(v *fault.Invalid) {
	seen := map[string]bool{}
	for i, p := range d.Parameters {
		where := fmt.Sprintf("parameters[%d]", i)
		if !parameterName.MatchString(p.Name) {
			v.Add(where+".name", "%q is no parameter name; use small letters, digits and _, beginning with a letter", p.Name)
		}
		if seen[p.Name] {
			v.Add(where+".name", "there are two parameters %q; give one another name", p.Name)
		}
		seen[p.Name] = true
		if p.Default != nil {
			if _, err := p.bind(p.Default, time.Date(2026, 1, 15, 6, 0, 0, 0, time.UTC), moment.DefaultFrame); err != nil {
				v.Add(where+".default", "%s", err)
			}
		}
	}
	if len(d.Sections) == 0 {
		v.Add("sections", "a report needs at least one section with a query")
	}
	names := map[string]bool{}
	for i, s := range d.Sections {
		where := fmt.Sprintf("sections[%d]", i)
		if strings.TrimSpace(s.Name) == "" {
			v.Add(where+".name", "the section needs a name; it becomes the title of its table and the name of its sheet")
		}
		if names[s.Name] {
			v.Add(where+".name", "there are two sections %q; give one another name", s.Name)
		}
		names[s.Name] = true
		if strings.TrimSpace(s.SQL) == "" {
			v.Add(where+".sql", "the section %q has no query", s.Name)
		}
	}
}

// Bind checks given values by type and reckons moments from nominal, which is
// in the job's zone, within a frame. The error is a *fault.Invalid that names each parameter.
func Bind(params []Parameter, given Values, nominal time.Time, f moment.Frame) ([]Bound, error) {
	wrong := &fault.Invalid{}
	bound := make([]Bound, 0, len(params))
	for _, p := range params {
		value, ok := given[p.Name]
		if !ok || value == nil {
			value = p.Default
		}
		if value == nil || value == "" && p.Type != TypeText {
			if p.Required {
				wrong.Add(p.Name, "%s needs a value (%s)", p.Called(), p.Type)
			}
			bound = append(bound, Bound{Name: p.Name, Label: p.Called(), Type: p.Type, Null: true})
			continue
		}
		b, err := p.bind(value, nominal, f)
		if err != nil {
			wrong.Add(p.Name, "%s", err)
			continue
		}
		bound = append(bound, b)
	}
	return bound, wrong.Err()
}

// Unknown lists the names of given values that none of the parameters has.
func Unknown(params []Parameter, given Values) []string {
	var names []string
	for name := range given {
		if !slices.ContainsFunc(params, func(p Parameter) bool { return p.Name == name }) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// Called is the label of the parameter, or its name.
func (p Parameter) Called() string {
	if p.Label != "" {
		return p.Label
	}
	return p.Name
}

func (p Parameter) bind(value any, nominal time.Time, f moment.Frame) (Bound, error) {
	b := Bound{Name: p.Name, Label: p.Called(), Type: p.Type}
	text, isText := value.(string)
	switch v := value.(type) {
	case string:
	case bool:
		text = strconv.FormatBool(v)
	case float64:
		text = strconv.FormatFloat(v, 'f', -1, 64)
	case int:
		text = strconv.Itoa(v)
	case json.Number:
		text = v.String()
	default:
		return b, fmt.Errorf("%s takes one %s, not a list or an object", p.Called(), p.Type)
	}
	if strings.ContainsRune(text, 0) {
		return b, fmt.Errorf("%s holds a zero character, which no database takes", p.Called())
	}
	switch p.Type {
	case TypeText:
		b.Text = text
	case TypeWhole:
		n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
		if err != nil {
			return b, fmt.Errorf("%s takes a whole number, not %q", p.Called(), text)
		}
		b.Text = strconv.FormatInt(n, 10)
	case TypeNumber:
		text = strings.TrimSpace(text)
		if _, ok := new(big.Rat).SetString(text); !ok || strings.ContainsAny(text, "/_xXpP") || len(text) > 100 {
			return b, fmt.Errorf("%s takes a number such as 12.5, not %q", p.Called(), text)
		}
		b.Text = text
	case TypeYesNo:
		switch strings.ToLower(text) {
		case "true", "yes":
			b.Text = "true"
		case "false", "no":
			b.Text = "false"
		default:
			return b, fmt.Errorf("%s takes yes or no, not %q", p.Called(), text)
		}
	case TypeDate, TypeInstant:
		if !isText {
			return b, fmt.Errorf("%s takes a date such as 2026-11-23 or a moment such as start of month, not %s", p.Called(), text)
		}
		t, from, err := p.when(text, nominal, f)
		if err != nil {
			return b, err
		}
		b.From, b.Text = from, t.Format(time.RFC3339)
		if p.Type == TypeDate {
			b.Text = t.Format(time.DateOnly)
		}
	default:
		return b, fmt.Errorf("%s has the type %q, which there is not", p.Called(), p.Type)
	}
	return b, nil
}

func (p Parameter) when(text string, nominal time.Time, f moment.Frame) (t time.Time, from string, err error) {
	layouts := []string{time.DateOnly}
	if p.Type == TypeInstant {
		layouts = []string{time.RFC3339, "2006-01-02T15:04", "2006-01-02 15:04", time.DateOnly}
	}
	for _, layout := range layouts {
		if t, err = time.ParseInLocation(layout, strings.TrimSpace(text), nominal.Location()); err == nil {
			return t, "", nil
		}
	}
	if text != "" && text[0] >= '0' && text[0] <= '9' {
		return t, "", fmt.Errorf("%s takes a date such as 2026-11-23; %q is no date of the calendar", p.Called(), text)
	}
	m, err := moment.Parse(text)
	if err != nil {
		return t, "", fmt.Errorf("%s takes a date such as 2026-11-23 or a moment: %w", p.Called(), err)
	}
	return m.At(nominal, f), text, nil
}
