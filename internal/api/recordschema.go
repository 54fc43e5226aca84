package api

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"sort"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/recordfile"

	"github.com/danielgtaylor/huma/v2"
)

// recordSchemas says which fields each kind of record has, and holds files against it.
type recordSchemas struct {
	registry huma.Registry
	kinds    []recordKind
	bodies   []*huma.Schema
}

// durationText is a job.Duration to those who write one.
type durationText struct{}

// Schema gives the form of a length of time.
func (durationText) Schema(huma.Registry) *huma.Schema {
	s := &huma.Schema{
		Type: huma.TypeString, Pattern: `^([0-9]+(\.[0-9]+)?(ms|s|m|h))+$`,
		PatternDescription: "a length of time, such as 90s, 10m or 1h30m, at most 720h",
	}
	s.PrecomputeMessages()
	return s
}

// given are the fields of records that the service gives, and that no file says.
var given = map[string][]string{
	"Trigger": {"id", "reading", "next_due"}, "ReportTask": {"takes"}, "Wishes": {"mail_wanted"},
	"MailSettings": {"wanted_domains", "wanted_by"},
}

func newRecordSchemas(kinds []recordKind) *recordSchemas {
	r := &recordSchemas{registry: huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer), kinds: kinds}
	r.registry.RegisterTypeAlias(reflect.TypeFor[job.Duration](), reflect.TypeFor[durationText]())
	for _, k := range kinds {
		r.bodies = append(r.bodies, r.registry.Schema(k.body, true, k.kind))
	}
	for name, fields := range given {
		if s := r.registry.Map()[name]; s != nil {
			for _, f := range fields {
				delete(s.Properties, f)
			}
			s.PrecomputeMessages()
		}
	}
	return r
}

// kind finds a kind by the head of a file; nil when there is none.
func (r *recordSchemas) kind(kind, name string) (*recordKind, *huma.Schema) {
	for i, k := range r.kinds {
		if k.kind == kind && (k.only == "" || k.only == name) {
			return &r.kinds[i], r.bodies[i]
		}
	}
	return nil, nil
}

// words are the kinds, and the names of the settings.
func (r *recordSchemas) words() (kinds, settings []string) {
	for _, k := range r.kinds {
		if !slices.Contains(kinds, k.kind) {
			kinds = append(kinds, k.kind)
		}
		if k.only != "" {
			settings = append(settings, k.only)
		}
	}
	return kinds, settings
}

// misfits tells what is wrong with the body of a file, field by field.
func (r *recordSchemas) misfits(s *huma.Schema, body []byte) []recordfile.Wrong {
	var said any
	if err := json.Unmarshal(body, &said); err != nil {
		return []recordfile.Wrong{{Sentence: err.Error()}}
	}
	res := huma.ValidateResult{}
	huma.Validate(r.registry, s, huma.NewPathBuffer(nil, 0), huma.ModeWriteToServer, said, &res)
	out := r.blanks(s, said, "")
	for _, err := range res.Errors {
		d, ok := err.(*huma.ErrorDetail) //nolint:errorlint // never wrapped
		if !ok {
			out = append(out, recordfile.Wrong{Sentence: err.Error()})
			continue
		}
		out = append(out, recordfile.Wrong{Where: d.Location, Sentence: r.sentence(s, d)})
	}
	return out
}

// blanks tells of fields with nothing behind them: a reader could take them for left out or for
// empty, which may be the opposite.
func (r *recordSchemas) blanks(s *huma.Schema, said any, where string) []recordfile.Wrong {
	s = r.deref(s)
	if s == nil {
		return nil
	}
	var out []recordfile.Wrong
	switch v := said.(type) {
	case nil:
		if s.Type != "" && !s.Nullable {
			return []recordfile.Wrong{{
				Where: where, Sentence: "nothing stands behind it; leave the field out, or say what it is",
			}}
		}
	case []any:
		for i, item := range v {
			out = append(out, r.blanks(s.Items, item, fmt.Sprintf("%s[%d]", where, i))...)
		}
	case map[string]any:
		names := make([]string, 0, len(v))
		for name := range v {
			names = append(names, name)
		}
		sort.Strings(names)
		for _, name := range names {
			below := name
			if where != "" {
				below = where + "." + name
			}
			out = append(out, r.blanks(s.Properties[name], v[name], below)...)
		}
	}
	return out
}

// sentence says in the words of a file what the schema found.
func (r *recordSchemas) sentence(s *huma.Schema, d *huma.ErrorDetail) string {
	what := map[bool]string{true: "nothing stands here", false: ""}[d.Value == nil]
	switch d.Value.(type) {
	case string:
		what = "a text stands here"
	case bool:
		what = "true or false stands here"
	case float64:
		what = "a number stands here"
	case []any:
		what = "a list stands here"
	case map[string]any:
		what = "fields stand here"
	}
	quoted := func() string { _, q, _ := strings.Cut(d.Message, `"`); return strings.TrimSuffix(q, `"`) }
	word := func(n int) string { return strings.Fields(d.Message)[n] }
	switch m := d.Message; {
	case m == "unexpected property":
		parent, name := parentOf(d.Location)
		fields := r.fieldsAt(s, parent)
		text := "there is no field " + name + " here"
		if near := phrase.Near(name, fields); near != "" {
			return text + "; is " + near + " meant?"
		}
		if len(fields) > 0 && len(fields) <= 60 {
			text += "; there are " + strings.Join(fields, ", ")
		}
		return text
	case strings.HasPrefix(m, "expected required property"):
		return "the field " + word(3) + " is missing"
	case m == "expected string":
		return what + "; a text is expected: put it in quotes"
	case m == "expected boolean":
		return what + "; true or false is expected"
	case m == "expected integer":
		return what + "; a whole number is expected"
	case m == "expected number":
		return what + "; a number is expected"
	case m == "expected array":
		return what + "; a list is expected: a line for each, with - before it"
	case m == "expected object":
		return what + "; fields are expected, each with a colon behind its name"
	case strings.HasPrefix(m, "expected value to be one of"):
		return "write one of " + quoted()
	case strings.HasPrefix(m, "expected number >="):
		return "a number of at least " + word(3) + " is expected"
	case strings.HasPrefix(m, "expected number <="):
		return "a number of at most " + word(3) + " is expected"
	case m == "expected length >= 1":
		return "it is empty, and a text is expected"
	case strings.HasPrefix(m, "expected length <="):
		return "it is longer than " + word(3) + " characters"
	case m == "expected array length >= 1":
		return "the list is empty; write at least one entry, or leave the field out where it may be"
	case strings.HasPrefix(m, "expected array length <="):
		return "the list has more than " + word(4) + " entries"
	case strings.HasPrefix(m, "expected string to be "):
		return "write " + strings.TrimPrefix(m, "expected string to be ")
	}
	return d.Message
}

// parentOf parts a place into the one that holds it and the last name.
func parentOf(where string) (parent, name string) {
	at := strings.LastIndexByte(where, '.')
	if at < 0 {
		return "", where
	}
	return where[:at], where[at+1:]
}

// fieldsAt lists the fields that may stand at a place, by name.
func (r *recordSchemas) fieldsAt(s *huma.Schema, where string) []string {
	for _, step := range strings.FieldsFunc(where, func(c rune) bool { return c == '.' || c == '[' || c == ']' }) {
		for s != nil && s.Ref != "" {
			s = r.registry.SchemaFromRef(s.Ref)
		}
		switch {
		case s == nil:
			return nil
		case s.Type == huma.TypeArray:
			s = s.Items
		default:
			s = s.Properties[step]
		}
	}
	for s != nil && s.Ref != "" {
		s = r.registry.SchemaFromRef(s.Ref)
	}
	if s == nil {
		return nil
	}
	names := make([]string, 0, len(s.Properties))
	for name := range s.Properties {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// document is the JSON Schema (draft 2020-12) of a file, as a whole.
func (r *recordSchemas) document() ([]byte, error) {
	defs := map[string]any{}
	for name, s := range r.registry.Map() {
		defs[name] = s
	}
	var one []any
	for i, k := range r.kinds {
		s := r.bodies[i]
		for s.Ref != "" {
			s = r.registry.SchemaFromRef(s.Ref)
		}
		text, err := json.Marshal(s)
		if err != nil {
			return nil, fmt.Errorf("write the schema of %s: %w", k.kind, err)
		}
		file := map[string]any{}
		if err := json.Unmarshal(text, &file); err != nil {
			return nil, fmt.Errorf("write the schema of %s: %w", k.kind, err)
		}
		fields, _ := file["properties"].(map[string]any)
		if fields == nil {
			fields = map[string]any{}
		}
		head := map[string]any{"type": "string", "pattern": "^" + k.kind + " ", "description": k.kind + " and name"}
		label := k.kind
		if k.only != "" {
			label += " " + k.only
			head = map[string]any{"const": label}
		}
		fields["ironbell"] = map[string]any{"const": recordfile.Form, "description": "number of the form"}
		fields["record"] = head
		fields["revision"] = map[string]any{
			"type": "integer", "minimum": 0,
			"description": "the record is saved only while it has this revision; whatever it has when left out",
		}
		required, _ := file["required"].([]any)
		file["title"], file["description"], file["properties"] = label, k.says, fields
		file["required"] = append([]any{"ironbell", "record"}, required...)
		name := "File " + label
		defs[name] = file
		one = append(one, map[string]any{"$ref": "#/$defs/" + strings.ReplaceAll(name, " ", "%20")})
	}
	text, err := json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "A record of Iron Bell in a file",
		"type": "object", "required": []string{"ironbell", "record"}, "oneOf": one, "$defs": defs,
	}, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("write the schema: %w", err)
	}
	return text, nil
}
