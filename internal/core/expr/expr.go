// Package expr fills moving parts into texts (file names, subjects, bodies) and
// decides conditions.
//
// A moving part stands in braces, "{report} {date:%Y-%m}.csv": a CEL
// expression (github.com/google/cel-spec) over the declared names and, for
// times, a strftime form after a colon. Two braces stand for one. Everything is
// checked when the text is read: an unknown name is an error at saving and not
// at night. A condition (condition.go) is a CEL expression that says yes or no.
// Texts and conditions are immutable and may be used by several goroutines.
package expr

import (
	"errors"
	"fmt"
	"math"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ironbell/internal/core/locale"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// maxResult bounds what one text may grow to, in bytes.
const maxResult = 200_000

// Names are what a text or a condition may speak of, beside job, report, run,
// rows, date and due.
type Names struct {
	Values []string // names of parameters, spoken of as value.name
	Tasks  []string // tasks that have ended: outcome("task"), rows("task"), file("task")
	Event  bool     // an event, spoken of as event.type, event.data.port and so on

	Columns []string // of the row at hand, or of the tasks before, spoken of as cell("column")
	AnyCell bool     // nobody knows which Columns there will be: any name will do

	TotalsKnown bool     // whether Totals are all there are; otherwise any name will do
	Totals      []string // columns with a total, spoken of as total("column")
}

func (n Names) key() string {
	values, tasks := slices.Sorted(slices.Values(n.Values)), slices.Sorted(slices.Values(n.Tasks))
	return fmt.Sprintf("%q %q %t %q %t %t %q", values, tasks, n.Event, slices.Sorted(slices.Values(n.Columns)),
		n.AnyCell, n.TotalsKnown, slices.Sorted(slices.Values(n.Totals)))
}

// known lists the names for people.
func (n Names) known() string {
	known := []string{"job", "report", "run", "rows", "date", "due"}
	for _, v := range n.Values {
		known = append(known, "value."+v)
	}
	if len(n.Tasks) > 0 {
		known = append(known, `outcome("task")`, `rows("task")`, `file("task")`, `total("column")`)
	}
	if n.AnyCell {
		known = append(known, `cell("column")`)
	}
	for _, c := range n.Columns {
		known = append(known, fmt.Sprintf("cell(%q)", c))
	}
	if n.Event {
		known = append(known, "event.type", "event.source", "event.subject", "event.data")
	}
	return strings.Join(known, ", ")
}

// Facts give the names their values at the time of a run.
type Facts struct {
	Job, Report, Run string
	Rows             int64
	Date             time.Time // the nominal date, in the job's zone
	Due              time.Time // the instant at which it rang
	Values           map[string]string

	Outcomes map[string]string  // of the tasks, by name
	RowsOf   map[string]int64   // of the tasks, by name
	Totals   map[string]float64 // of the columns that Totals asked for
	Files    map[string]string  // first file of the tasks, by name
	Event    map[string]any
	Locale   *locale.Locale // whose names months and days have; English when nil
	Blanks   bool           // a cell that holds nothing is written as nothing; without it is an error
	Cells    map[string]any // of the row at hand, or of the first rows of the tasks before, by column; see Cell
}

// vars gives the facts to CEL.
func (f Facts) vars(values []string) map[string]any {
	known := map[string]any{
		"job": f.Job, "report": f.Report, "run": f.Run, "rows": f.Rows, "date": f.Date, "due": f.Due,
		"outcomes": f.Outcomes, "rowsof": f.RowsOf, "totals": f.Totals, "files": f.Files, "event": f.Event,
		"cells": f.Cells,
	}
	for _, name := range values {
		known["value."+name] = f.Values[name]
	}
	return known
}

// Text is a text with moving parts.
type Text struct {
	parts []part
	names []string
}

type part struct {
	literal string
	program cel.Program
	source  string
	form    *locale.DateForm
}

// envs keeps one checked environment for each set of names; making one takes
// far longer than using it. It is emptied when it has grown to its bound.
var envs = struct {
	sync.Mutex
	by map[string]*cel.Env
}{by: map[string]*cel.Env{}}

const maxEnvs = 1000

// Bounds of an expression: how deep it nests, how long it is in characters, and how many
// macros such as exists stand within each other.
const (
	maxNested = 40
	maxSource = 4000
	maxMacros = 2
)

func environment(names Names) (*cel.Env, error) {
	key := names.key()
	envs.Lock()
	defer envs.Unlock()
	if env, ok := envs.by[key]; ok {
		return env, nil
	}
	options := []cel.EnvOption{
		cel.CrossTypeNumericComparisons(true), // total("litres") > 5000 needs no point
		// What nests takes the checker long, so that it is bounded before it is checked.
		cel.ParserRecursionLimit(maxNested), cel.ParserExpressionSizeLimit(maxSource),
		cel.ASTValidators(cel.ValidateComprehensionNestingLimit(maxMacros)),
		cel.Variable("job", cel.StringType),
		cel.Variable("report", cel.StringType),
		cel.Variable("run", cel.StringType),
		cel.Variable("rows", cel.IntType),
		cel.Variable("date", cel.TimestampType),
		cel.Variable("due", cel.TimestampType),
		cel.Variable("outcomes", cel.MapType(cel.StringType, cel.StringType)),
		cel.Variable("rowsof", cel.MapType(cel.StringType, cel.IntType)),
		cel.Variable("totals", cel.MapType(cel.StringType, cel.DoubleType)),
		cel.Variable("files", cel.MapType(cel.StringType, cel.StringType)),
		ofTask("outcome", "outcomes", names.Tasks),
		ofTask("rows", "rowsof", names.Tasks),
		ofTask("file", "files", names.Tasks),
		ofTask(totalWord(names.TotalsKnown), "totals", names.Totals),
		cel.Variable("cells", cel.MapType(cel.StringType, cel.DynType)),
		ofTask(cellWord(names.AnyCell), "cells", names.Columns),
	}
	if names.Event {
		options = append(options, cel.Variable("event", cel.MapType(cel.StringType, cel.DynType)))
	}
	for _, name := range names.Values {
		options = append(options, cel.Variable("value."+name, cel.StringType))
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		return nil, fmt.Errorf("declare names: %w", err)
	}
	if len(envs.by) >= maxEnvs {
		clear(envs.by)
	}
	envs.by[key] = env
	return env, nil
}

// Parse reads and checks a text. The error names the moving part and, for a
// name that is not known, those that are.
func Parse(text string, names Names) (Text, error) {
	t := Text{names: names.Values}
	var literal strings.Builder
	flush := func() {
		if literal.Len() > 0 {
			t.parts = append(t.parts, part{literal: literal.String()})
			literal.Reset()
		}
	}
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case (c == '{' || c == '}') && i+1 < len(text) && text[i+1] == c:
			literal.WriteByte(c)
			i++
		case c == '}':
			return Text{}, fmt.Errorf("column %d: a closing brace without an opening one; write }} for a brace", i+1)
		case c == '{':
			end := closing(text, i+1)
			if end < 0 {
				return Text{}, fmt.Errorf("column %d: the brace is not closed; write {{ for a brace", i+1)
			}
			flush()
			p, err := compile(text[i+1:end], names)
			if err != nil {
				return Text{}, fmt.Errorf("column %d: %w", i+1, err)
			}
			t.parts = append(t.parts, p)
			i = end
		default:
			literal.WriteByte(c)
		}
	}
	flush()
	return t, nil
}

// closing finds the brace that ends a moving part, passing over quoted text.
func closing(text string, from int) int {
	var quote byte
	for i := from; i < len(text); i++ {
		switch c := text[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '}':
			return i
		}
	}
	return -1
}

func compile(source string, names Names) (part, error) {
	p := part{source: source}
	code := source
	if colon := strings.Index(source, ":%"); colon >= 0 {
		form, err := locale.ReadDate(source[colon+1:])
		if err != nil {
			return p,
				fmt.Errorf("the time form %q in {%s} is not known; use forms such as %%Y-%%m-%%d", source[colon+1:],
					source)
		}
		p.form, code = form, source[:colon]
	}
	env, err := environment(names)
	if err != nil {
		return p, err
	}
	ast, issues := env.Compile(code)
	if issues.Err() != nil {
		return p, plain(source, issues, names)
	}
	if p.form != nil && !ast.OutputType().IsExactType(cel.TimestampType) {
		return p, fmt.Errorf("{%s} gives a time form to something that is no time; only date and due are times", source)
	}
	program, err := env.Program(ast, cel.CostLimit(100_000))
	if err != nil {
		return p, fmt.Errorf("{%s} cannot be used: %w", source, err)
	}
	p.program = program
	return p, nil
}

// plain says what the checker found in one sentence.
func plain(source string, issues *cel.Issues, names Names) error {
	message := "it cannot be read"
	if all := issues.Errors(); len(all) > 0 {
		message = all[0].Message
	}
	if name, ok := strings.CutPrefix(message, "undeclared reference to '"); ok {
		name, _, _ = strings.Cut(name, "'")
		if name == "value" {
			name = source
		}
		return fmt.Errorf("{%s} speaks of %q, which is not known here; known are %s", source, name, names.known())
	}
	for _, bound := range []string{"recursion limit", "nesting limit", "size exceeds limit", "size limit"} {
		if strings.Contains(message, bound) {
			return fmt.Errorf("{%s} is too long or nests too deeply: at most %d characters, %d levels, and %d macros "+
				"within each other", shortened(source), maxSource, maxNested, maxMacros)
		}
	}
	return fmt.Errorf("{%s}: %s", source, message)
}

// shortened is the beginning of a long text.
func shortened(text string) string {
	const most = 80
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "..."
	}
	return text
}

// Fill gives the text with its moving parts filled in.
func (t Text) Fill(f Facts) (string, error) {
	known := f.vars(t.names)
	var out strings.Builder
	for _, p := range t.parts {
		if p.program == nil {
			out.WriteString(p.literal)
			continue
		}
		value, _, err := p.program.Eval(known)
		if err != nil {
			return "", fmt.Errorf("{%s}: %w", p.source, err)
		}
		// CEL keeps instants in UTC; a text speaks in the zone of the job.
		text, err := p.say(value, f.Date.Location(), f.Locale, f.Blanks)
		if err != nil {
			return "", fmt.Errorf("{%s}: %w", p.source, err)
		}
		out.WriteString(text)
		if out.Len() > maxResult {
			return "", errors.New("the filled text is longer than 200,000 bytes")
		}
	}
	return out.String(), nil
}

func (p part) say(value ref.Val, zone *time.Location, names *locale.Locale, blanks bool) (string, error) {
	if t, ok := value.(types.Timestamp); ok {
		if p.form != nil {
			return p.form.Text(names, t.In(zone)), nil
		}
		return t.In(zone).Format("2006-01-02 15.04"), nil
	}
	if value.Type() == types.NullType {
		if blanks {
			return "", nil
		}
		return "", errors.New("it holds nothing")
	}
	if number, ok := value.(types.Double); ok {
		return digits(float64(number)), nil
	}
	text := value.ConvertToType(types.StringType)
	if types.IsError(text) {
		return "", fmt.Errorf("a %s cannot be written as text", value.Type().TypeName())
	}
	return fmt.Sprint(text.Value()), nil
}

// digits writes a number as people do, without a power of ten unless it is very large or very small: a total
// of twelve million is 12345678.
func digits(f float64) string {
	if size := math.Abs(f); size != 0 && (size < 1e-6 || size >= 1e21) {
		return strconv.FormatFloat(f, 'g', -1, 64)
	}
	return strconv.FormatFloat(f, 'f', -1, 64)
}

// FileName makes a text safe as the name of one file: separators, control
// characters and the characters that common file systems refuse become "-",
// leading dots and trailing dots and blanks go, names that mean a device get a "-"
// in front, and it is cut to 200 bytes with its ending kept. What has nothing left
// becomes the given name.
func FileName(text, otherwise string) string {
	text = strings.ToValidUTF8(text, "-")
	text = strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f || strings.ContainsRune(`/\:*?"<>|`, r) || r == '\u202e' {
			return '-'
		}
		return r
	}, text)
	text = strings.TrimRight(strings.TrimLeft(text, ". "), ". ")
	const longest = 200
	if len(text) > longest {
		ending := ""
		if dot := strings.LastIndexByte(text, '.'); dot > 0 && len(text)-dot <= 10 {
			ending = text[dot:]
		}
		text = strings.ToValidUTF8(text[:longest-len(ending)], "") + ending
	}
	if strings.Trim(text, "-. ") == "" {
		return otherwise
	}
	if stem, _, _ := strings.Cut(text, "."); device.MatchString(strings.TrimSpace(stem)) {
		text = "-" + text
	}
	return text
}

// device matches names that mean a device on some systems, with any ending.
var device = regexp.MustCompile(`(?i)^(con|prn|aux|nul|com[0-9]|lpt[0-9])$`)

// Levels takes the text of a folder apart at the slashes that stand outside of
// moving parts: what those bring never adds a level.
func Levels(text string) []string {
	var out []string
	from, depth := 0, 0
	for i := range len(text) {
		switch text[i] {
		case '{':
			depth++
		case '}':
			depth--
		case '/':
			if depth <= 0 {
				out, from = append(out, text[from:i]), i+1
			}
		}
	}
	return append(out, text[from:])
}

// BeforeEnding puts a text before the ending of a file's name, which may stand
// behind its folders.
func BeforeEnding(name, text string) string {
	ending := path.Ext(path.Base(name))
	if ending == path.Base(name) {
		ending = "" // the name of a hidden file is no ending
	}
	return strings.TrimSuffix(name, ending) + text + ending
}

// HeaderLine makes a text safe as one line of a mail header: line ends and what
// stands around them become one space.
func HeaderLine(text string) string {
	lines := strings.FieldsFunc(text, func(r rune) bool { return r == '\r' || r == '\n' || r == 0 })
	for i, l := range lines {
		lines[i] = strings.TrimSpace(l)
	}
	return strings.TrimSpace(strings.Join(lines, " "))
}
