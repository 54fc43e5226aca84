package job

import (
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/moment"
)

// All is the value that stands for each of a parameter's choices.
const All = "all"

const allEnding = "_all"

// maxSeveral bounds how many values one parameter takes.
const maxSeveral = 5000

// Bound is a value ready to be bound: canonical text of its type.
type Bound struct {
	Name  string    `json:"name"`
	Label string    `json:"label"`
	Type  ValueType `json:"type"`
	Text  string    `json:"text" doc:"canonical text of its type; of several values, all of them with commas between"`
	Texts []string  `json:"texts,omitempty" doc:"each of several values"`
	All   bool      `json:"all,omitempty" doc:"the word all was given; texts are the choices that there were"`
	Shown string    `json:"shown,omitempty" doc:"what people read, where it is not the text"`
	Null  bool      `json:"null,omitempty"`
	From  string    `json:"from,omitempty" doc:"the moment that it was reckoned from"`
}

// Reads is what people read of the value.
func (b Bound) Reads() string {
	switch {
	case b.Null:
		return "none"
	case b.Shown != "":
		return b.Shown
	case b.Type == TypeInstant && b.Texts == nil:
		if t, err := time.Parse(time.RFC3339, b.Text); err == nil {
			return t.Format("2006-01-02 15:04 -07:00")
		}
	}
	return b.Text
}

// Offer gives the choices of a parameter that come from a query. sofar are the
// values of the parameters before it.
type Offer func(p Parameter, sofar []Bound) ([]Choice, error)

// Bind checks given values by type and reckons moments from nominal, which is
// in the job's zone, within a frame. The error is a *fault.Invalid that names
// each parameter. Choices that come from a query are left alone.
func Bind(params []Parameter, given Values, nominal time.Time, f moment.Frame) ([]Bound, error) {
	return BindWith(params, given, nominal, f, nil)
}

// BindWith is Bind which looks choices up, too: a value must be one of them, is
// read by its label, and the word all stands for each of them. The error of
// offer is handed on as it is.
func BindWith(params []Parameter, given Values, nominal time.Time, f moment.Frame, offer Offer) ([]Bound, error) {
	wrong := &fault.Invalid{}
	bound := make([]Bound, 0, len(params))
	for _, p := range params {
		value, ok := given[p.Name]
		if !ok || value == nil {
			value = p.Default
		}
		if list, is := value.([]any); value == nil || value == "" && p.Type != TypeText || is && len(list) == 0 {
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
		choices, known := p.listed()
		if !known && p.Choices != nil && offer != nil {
			if choices, err = offer(p, bound); err != nil {
				return nil, err
			}
			known = true
		}
		if known {
			if err := b.choose(p, choices); err != nil {
				wrong.Add(p.Name, "%s", err)
				continue
			}
		}
		bound = append(bound, b)
	}
	return bound, wrong.Err()
}

// listed gives the choices that stand in a list.
func (p Parameter) listed() ([]Choice, bool) {
	if p.Choices == nil || p.Choices.SQL != "" {
		return nil, false
	}
	return p.Choices.List, true
}

// choose holds a value against the choices.
func (b *Bound) choose(p Parameter, choices []Choice) error {
	if b.All {
		b.Texts = make([]string, len(choices))
		for i, c := range choices {
			b.Texts[i] = c.Value
		}
		b.Shown = fmt.Sprintf("all (%d)", len(choices))
		return nil
	}
	texts := b.Texts
	if texts == nil {
		texts = []string{b.Text}
	}
	labels := make([]string, len(texts))
	for i, text := range texts {
		at := slices.IndexFunc(choices, func(c Choice) bool { return c.Value == text })
		if at < 0 {
			return fmt.Errorf("%s takes one of %s, not %q", p.Called(), someOf(choices), text)
		}
		if labels[i] = choices[at].Label; labels[i] == "" {
			labels[i] = text
		}
	}
	if shown := strings.Join(labels, ", "); shown != b.Text {
		b.Shown = shown
	}
	return nil
}

// someOf lists choices, the first ten of many.
func someOf(choices []Choice) string {
	if len(choices) == 0 {
		return "no choices at all"
	}
	const shown = 10
	texts := make([]string, 0, shown)
	for _, c := range choices[:min(len(choices), shown)] {
		texts = append(texts, c.Value)
	}
	text := strings.Join(texts, ", ")
	if n := len(choices) - shown; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
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

// NoParameter says that there is no parameter of a name, and which there are.
func NoParameter(params []Parameter, name string) string {
	known := make([]string, 0, len(params))
	for _, p := range params {
		if !slices.Contains(known, p.Name) {
			known = append(known, p.Name)
		}
	}
	if len(known) == 0 {
		return fmt.Sprintf("there is no parameter %q; there are none", name)
	}
	return fmt.Sprintf("there is no parameter %q; there are %s", name, strings.Join(known, ", "))
}

// Called is the label of the parameter, or its name.
func (p Parameter) Called() string {
	if p.Label != "" {
		return p.Label
	}
	return p.Name
}

// bind reads one value, a list of values, or the word all.
func (p Parameter) bind(value any, nominal time.Time, f moment.Frame) (Bound, error) {
	b := Bound{Name: p.Name, Label: p.Called(), Type: p.Type}
	if text, ok := value.(string); ok && p.All && strings.EqualFold(strings.TrimSpace(text), All) {
		b.Text, b.All = All, true
		return b, nil
	}
	if list, ok := value.([]string); ok {
		texts := make([]any, len(list))
		for i, text := range list {
			texts[i] = text
		}
		value = texts
	}
	list, isList := value.([]any)
	if !p.Several {
		if isList {
			return b, fmt.Errorf("%s takes one %s, not a list", p.Called(), p.Type)
		}
		var err error
		b.Text, b.From, err = p.text(value, nominal, f)
		return b, err
	}
	if !isList {
		list = []any{value}
	}
	if len(list) > maxSeveral {
		return b, fmt.Errorf("%s takes at most %d values, and there are %d", p.Called(), maxSeveral, len(list))
	}
	for _, one := range list {
		text, _, err := p.text(one, nominal, f)
		if err != nil {
			return b, err
		}
		if !slices.Contains(b.Texts, text) {
			b.Texts = append(b.Texts, text)
		}
	}
	b.Text = strings.Join(b.Texts, ", ")
	return b, nil
}

// text reads one value as canonical text of the parameter's type, and tells the
// moment that it was reckoned from.
func (p Parameter) text(value any, nominal time.Time, f moment.Frame) (text, from string, err error) {
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
		return "", "", fmt.Errorf("%s takes one %s, not a list or an object", p.Called(), p.Type)
	}
	if strings.ContainsRune(text, 0) {
		return "", "", fmt.Errorf("%s holds a zero character, which no database takes", p.Called())
	}
	switch p.Type {
	case TypeText:
		return text, "", nil
	case TypeWhole:
		n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
		if err != nil {
			return "", "", fmt.Errorf("%s takes a whole number, not %q", p.Called(), text)
		}
		return strconv.FormatInt(n, 10), "", nil
	case TypeNumber:
		text = strings.TrimSpace(text)
		if _, ok := new(big.Rat).SetString(text); !ok || strings.ContainsAny(text, "/_xXpP") || len(text) > 100 {
			return "", "", fmt.Errorf("%s takes a number such as 12.5, not %q", p.Called(), text)
		}
		return text, "", nil
	case TypeYesNo:
		switch strings.ToLower(text) {
		case "true", "yes":
			return "true", "", nil
		case "false", "no":
			return "false", "", nil
		}
		return "", "", fmt.Errorf("%s takes yes or no, not %q", p.Called(), text)
	case TypeDate, TypeInstant:
		if !isText {
			return "", "",
				fmt.Errorf("%s takes a date such as 2026-11-23 or a moment such as start of month, not %s", p.Called(),
					text)
		}
		t, from, err := p.when(text, nominal, f)
		if err != nil {
			return "", "", err
		}
		if p.Type == TypeDate {
			return t.Format(time.DateOnly), from, nil
		}
		return t.Format(time.RFC3339), from, nil
	}
	return "", "", fmt.Errorf("%s has the type %q, which there is not", p.Called(), p.Type)
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
