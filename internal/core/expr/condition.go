package expr

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ironbell/internal/core/rows"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
)

// Condition is a CEL expression that says yes or no: rows >= 10,
// total("litres") > 5000.0, outcome("import") == "done".
type Condition struct {
	program cel.Program
	source  string
	names   []string
}

// ParseCondition reads and checks a condition. The error says what is wrong and
// which names are known.
func ParseCondition(text string, names Names) (Condition, error) {
	c := Condition{source: text, names: names.Values}
	env, err := environment(names)
	if err != nil {
		return c, err
	}
	checked, issues := env.Compile(text)
	if issues.Err() != nil {
		return c, plain(text, issues, names)
	}
	// A cell alone may be one of yes or no; that is seen when it is there.
	if of := checked.OutputType(); !of.IsExactType(cel.BoolType) &&
		(!of.IsExactType(cel.DynType) || names.Columns == nil) {
		return c,
			fmt.Errorf("{%s} is no condition: it gives a %s, not yes or no; compare it with something, such "+
				"as rows >= 10", text, checked.OutputType())
	}
	if c.program, err = env.Program(checked, cel.CostLimit(100_000)); err != nil {
		return c, fmt.Errorf("{%s} cannot be used: %w", text, err)
	}
	return c, nil
}

// Holds decides the condition.
func (c Condition) Holds(f Facts) (bool, error) {
	value, _, err := c.program.Eval(f.vars(c.names))
	if err != nil {
		return false, fmt.Errorf("the condition %s cannot be decided: %w", c.source, err)
	}
	return value == types.True, nil
}

// IsMisfit tells whether a condition could not be decided since what it speaks of is not there, or is of another
// kind than it takes it for: with other values of the same kinds it cannot be decided either.
func IsMisfit(err error) bool {
	// The library has no kinds of errors for it (cel-go, common/types and interpreter).
	return slices.ContainsFunc([]string{"no such key", "no such attribute", "no such overload"}, func(what string) bool {
		return strings.Contains(err.Error(), what)
	})
}

// HoldsFor decides a condition that speaks of the cells of one row alone. What
// cannot be compared, such as a cell without a value, does not hold.
func (c Condition) HoldsFor(cells map[string]any) bool {
	value, _, err := c.program.Eval(map[string]any{"cells": cells})
	return err == nil && value == types.True
}

// Cell gives a cell the value by which conditions and texts speak of it:
// numbers, yes or no, and text; dates and times are text as 2026-11-23.
func Cell(kind rows.Kind, c rows.Cell) any {
	if c.Null {
		return nil
	}
	text := string(c.Text)
	switch kind {
	case rows.Whole:
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n
		}
	case rows.Number:
		if n, err := strconv.ParseFloat(text, 64); err == nil {
			return n
		}
	case rows.YesNo:
		return c.True()
	}
	return text
}

// Cells lists the columns whose cells a text speaks of, each once.
func Cells(text string) []string { return namesIn(cell, text) }

// Totals lists the columns whose totals the condition asks for.
func (c Condition) Totals() []string { return TotalsOf(c.source) }

// A total in a text, also in one that stands in JSON.
var (
	total = regexp.MustCompile(`\btotal\(\s*\\?["']([^"'\\]+)\\?["']\s*\)`)
	cell  = regexp.MustCompile(`\bcell\(\s*\\?["']([^"'\\]+)\\?["']\s*\)`)
)

// TotalsOf lists the columns whose totals a text asks for, each once.
func TotalsOf(text string) []string { return namesIn(total, text) }

func namesIn(form *regexp.Regexp, text string) []string {
	var names []string
	for _, found := range form.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(names, found[1]) {
			names = append(names, found[1])
		}
	}
	return names
}

// ofTask reads function("name") as table["name"]. With tasks, the name must be
// one of them; without, any text will do.
func ofTask(function, table string, tasks []string) cel.EnvOption {
	known := function != anyTotal && function != anyCell
	switch function {
	case anyTotal:
		function = "total"
	case anyCell:
		function = "cell"
	}
	return cel.Macros(cel.GlobalMacro(function, 1,
		func(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *common.Error) {
			name, ok := "", false
			if args[0].Kind() == ast.LiteralKind {
				name, ok = args[0].AsLiteral().Value().(string)
			}
			switch {
			case !ok:
				return nil,
					f.NewError(args[0].ID(),
						fmt.Sprintf("%s() takes a name in quotes, such as %s(\"%s\")", function, function,
							orElse(tasks, "import")))
			case function == "cell" && known && !slices.Contains(tasks, name):
				return nil,
					f.NewError(args[0].ID(),
						fmt.Sprintf("cell(%q) speaks of a column that is not there; there are %s", name,
							orElse([]string{strings.Join(tasks, ", ")}, "none")))
			case function == "total" && known && !slices.Contains(tasks, name):
				return nil,
					f.NewError(args[0].ID(),
						fmt.Sprintf("total(%q) speaks of a column that no report before it adds up; there are %s", name,
							orElse([]string{strings.Join(tasks, ", ")}, "none, since none has a column of numbers")))
			case function != "total" && function != "cell" && !slices.Contains(tasks, name):
				return nil,
					f.NewError(args[0].ID(),
						fmt.Sprintf("%s(%q) speaks of a task that does not come before; those before are %s", function,
							name, orElse([]string{strings.Join(tasks, ", ")}, "none")))
			}
			return f.NewCall(operators.Index, f.NewIdent(table), args[0]), nil
		}))
}

// anyTotal and anyCell stand for total and cell when nobody knows which columns there will be.
const (
	anyTotal = "any total"
	anyCell  = "any cell"
)

func cellWord(any bool) string {
	if any {
		return anyCell
	}
	return "cell"
}

func totalWord(known bool) string {
	if known {
		return "total"
	}
	return anyTotal
}

func orElse(names []string, otherwise string) string {
	if len(names) == 0 || names[0] == "" {
		return otherwise
	}
	return names[0]
}
