package api

import (
	"fmt"
	"log/slog"
	"slices"
	"sort"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/deliver"
	"ironbell/internal/report"
	"ironbell/internal/store/sending"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
)

// Reference is the part of the reference that is about records, places, roles, numbers and
// calls: made of what the service itself goes by, so that it cannot say anything else.
func Reference() string {
	var b strings.Builder
	s := &server{Parts: Parts{Log: slog.Default()}}
	r := newRecordSchemas(s.recordKinds())
	r.reference(&b)
	placesReference(&b)
	rolesReference(&b)
	numbersReference(&b)
	s.callsReference(&b)
	return b.String()
}

func (r *recordSchemas) reference(b *strings.Builder) {
	b.WriteString("## Records in files\n\n`ironbell show KIND NAME` shows a record as a file, `ironbell save FILE` saves " +
		"one; `ironbell schema` prints the JSON Schema.\nA file begins with `ironbell: 1` and `record: KIND NAME`; " +
		"`revision: N` may follow, and the record is then saved only while\nit has that revision. Fields that are " +
		"marked * cannot be left out.\n")
	for i, k := range r.kinds {
		title := k.kind
		if k.only != "" {
			title += " " + k.only
		}
		fmt.Fprintf(b, "\n### %s\n\n%s.\n", title, phrase.Upper(k.says))
		r.fields(b, r.deref(r.bodies[i]))
	}
	b.WriteString("\n### Parts of records\n")
	names := make([]string, 0, len(r.registry.Map()))
	for name := range r.registry.Map() {
		if !slices.ContainsFunc(r.bodies, func(s *huma.Schema) bool { return strings.HasSuffix(s.Ref, "/"+name) }) {
			names = append(names, name)
		}
	}
	sort.Strings(names)
	for _, name := range names {
		fmt.Fprintf(b, "\n#### %s\n", name)
		r.fields(b, r.registry.Map()[name])
	}
}

func (r *recordSchemas) deref(s *huma.Schema) *huma.Schema {
	for s != nil && s.Ref != "" {
		s = r.registry.SchemaFromRef(s.Ref)
	}
	return s
}

func (r *recordSchemas) fields(b *strings.Builder, s *huma.Schema) {
	if s == nil || len(s.Properties) == 0 {
		if s != nil && s.AdditionalProperties != nil {
			fmt.Fprintf(b, "\n%s.\n", phrase.Upper(r.word(s)))
		}
		return
	}
	b.WriteString("\n| field | takes | |\n|---|---|---|\n")
	names := make([]string, 0, len(s.Properties))
	for name := range s.Properties {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		p := s.Properties[name]
		mark := ""
		if slices.Contains(s.Required, name) {
			mark = " *"
		}
		fmt.Fprintf(b, "| `%s`%s | %s | %s |\n", name, mark, r.word(p), tableCell(p.Description))
	}
}

// word says what a value may be.
func (r *recordSchemas) word(s *huma.Schema) string {
	if s.Ref != "" {
		name := s.Ref[strings.LastIndexByte(s.Ref, '/')+1:]
		return "[" + name + "](#" + strings.ToLower(name) + ")"
	}
	switch s.Type {
	case huma.TypeArray:
		text := "list of " + r.word(s.Items)
		if s.MaxItems != nil {
			text += fmt.Sprintf(", at most %d", *s.MaxItems)
		}
		return text
	case huma.TypeObject:
		if items, ok := s.AdditionalProperties.(*huma.Schema); ok {
			return "names with a " + r.word(items) + " each"
		}
		return "names with a value each"
	case huma.TypeBoolean:
		return "true or false"
	case huma.TypeInteger, huma.TypeNumber:
		return "number" + bounds(s)
	case huma.TypeString:
		switch {
		case len(s.Enum) > 0:
			words := make([]string, len(s.Enum))
			for i, w := range s.Enum {
				words[i] = fmt.Sprintf("`%v`", w)
			}
			return strings.Join(words, ", ")
		case s.Pattern != "":
			return "length of time"
		case s.Format == "date-time":
			return "instant"
		}
		return "text"
	}
	return "any value"
}

func bounds(s *huma.Schema) string {
	switch {
	case s.Minimum != nil && s.Maximum != nil:
		return fmt.Sprintf(" of %v to %v", *s.Minimum, *s.Maximum)
	case s.Minimum != nil:
		return fmt.Sprintf(" of at least %v", *s.Minimum)
	case s.Maximum != nil:
		return fmt.Sprintf(" of at most %v", *s.Maximum)
	}
	return ""
}

func tableCell(text string) string {
	return strings.ReplaceAll(strings.ReplaceAll(text, "|", `\|`), "\n", " ")
}

func placesReference(b *strings.Builder) {
	b.WriteString("\n## Settings of sources, by driver\n")
	for _, d := range report.Describe() {
		fmt.Fprintf(b, "\n### %s: %s\n", d.Name, d.Title)
		if d.Note != "" {
			fmt.Fprintf(b, "\n%s.\n", strings.TrimSuffix(phrase.Upper(d.Note), "."))
		}
		settingsReference(b, d.Settings, d.Password)
	}
	b.WriteString("\n## Settings of destinations, by protocol\n")
	for _, p := range deliver.Describe() {
		fmt.Fprintf(b, "\n### %s: %s\n\nIt takes %s.\n", p.Name, p.Title, p.Takes)
		settingsReference(b, p.Settings, p.Password)
	}
}

func settingsReference(b *strings.Builder, settings []job.Setting, password *job.Setting) {
	b.WriteString("\n| setting | takes | |\n|---|---|---|\n")
	for _, s := range settings {
		takes, mark := string(s.Form), ""
		if len(s.Choices) > 0 {
			takes = "`" + strings.Join(s.Choices, "`, `") + "`"
		}
		if s.Needed {
			mark = " *"
		}
		fmt.Fprintf(b, "| `%s`%s | %s | %s |\n", s.Name, mark, takes, tableCell(s.Doc))
	}
	if password != nil {
		fmt.Fprintf(b, "| `password` | text | %s |\n", tableCell(password.Doc))
	}
}

func rolesReference(b *strings.Builder) {
	b.WriteString("\n## Roles\n\n| role | what is anybody's | what is their own |\n|---|---|---|\n")
	words := func(acts []access.Act) string {
		out := make([]string, len(acts))
		for i, a := range acts {
			out[i] = string(a)
		}
		return strings.Join(out, ", ")
	}
	for _, role := range []job.Role{job.RoleReader, job.RoleOwner, job.RoleAdministrator} {
		all, own := access.Acts(job.Person{Login: "somebody", Role: role})
		fmt.Fprintf(b, "| %s | %s | %s |\n", role, words(all), words(own))
	}
	b.WriteString("\nread: see jobs, reports, runs and their files. ring: run a job, switch it, acknowledge its alerts, settle " +
		"its deliveries.\nwrite: save, rename and remove a job or report. administer: sources, destinations, people, groups, " +
		"posts, calendars, settings.\n")
}

func numbersReference(b *strings.Builder) {
	b.WriteString("\n## Numbers for monitoring\n\nAt `/metrics`, in the text form of Prometheus. `/health` says that the " +
		"program lives, `/ready` that it can serve,\n`/state` in words what needs somebody.\n\n| number | |\n|---|---|\n")
	for _, line := range strings.Split(string(numbers("VERSION", sending.Watched{}, job.ServiceState{})), "\n") {
		if help, ok := strings.CutPrefix(line, "# HELP "); ok {
			name, says, _ := strings.Cut(help, " ")
			fmt.Fprintf(b, "| `%s` | %s |\n", name, tableCell(says))
		}
	}
}

func (s *server) callsReference(b *strings.Builder) {
	a := humachi.New(chi.NewRouter(), config("1"))
	s.signIn(a)
	s.password(a)
	s.feeds(a)
	s.operations(a)
	byTag := map[string][]string{}
	for path, item := range a.OpenAPI().Paths {
		for method, o := range map[string]*huma.Operation{
			"GET": item.Get, "POST": item.Post, "PUT": item.Put, "DELETE": item.Delete,
		} {
			if o == nil || o.Hidden || len(o.Tags) == 0 {
				continue
			}
			byTag[o.Tags[0]] = append(byTag[o.Tags[0]], fmt.Sprintf("| `%s %s` | %s |\n", method, path, tableCell(o.Summary)))
		}
	}
	tags := make([]string, 0, len(byTag))
	for tag := range byTag {
		tags = append(tags, tag)
	}
	sort.Strings(tags)
	b.WriteString("\n## Calls\n\nThe whole description, with every field and answer, is at `/api/openapi.json` (OpenAPI 3.1).\n")
	for _, tag := range tags {
		sort.Slice(byTag[tag], func(i, j int) bool {
			path := func(line string) string { _, p, _ := strings.Cut(line, " /"); return p }
			if a, b := path(byTag[tag][i]), path(byTag[tag][j]); a != b {
				return a < b
			}
			return byTag[tag][i] < byTag[tag][j]
		})
		fmt.Fprintf(b, "\n### %s\n\n| call | |\n|---|---|\n%s", tag, strings.Join(byTag[tag], ""))
	}
}
