package expr_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/expr"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	taskNames = expr.Names{Values: []string{"port"}, Tasks: []string{"import", "report"}}
	taskFacts = expr.Facts{
		Rows: 12, Date: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), Values: map[string]string{"port": "Pennold"},
		Outcomes: map[string]string{"import": "done", "report": "blank"}, RowsOf: map[string]int64{"import": 7},
		Totals: map[string]float64{"litres": 5000.5},
		Files:  map[string]string{"report": "/in/board.csv"},
	}
)

func TestConditions(t *testing.T) {
	for text, want := range map[string]bool{
		`rows >= 10`:               true,
		`rows("import") >= 10`:     false,
		`total("litres") > 5000.0`: true,
		`outcome("import") == "done" && outcome("report") != "done"`: true,
		`value.port == "Pennold" && date.getDayOfMonth() == 22`:      true,
	} {
		c, err := expr.ParseCondition(text, taskNames)
		require.NoError(t, err, text)
		got, err := c.Holds(taskFacts)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	c, err := expr.ParseCondition(`total("litres") > 1.0 || total("cars") > total("litres")`, taskNames)
	require.NoError(t, err)
	assert.Equal(t, []string{"litres", "cars"}, c.Totals())
	c, err = expr.ParseCondition(`total("cars") > 1.0`, taskNames)
	require.NoError(t, err)
	_, err = c.Holds(taskFacts)
	assert.ErrorContains(t, err, "no such key: cars")
}

func TestConditionsThatCannotBe(t *testing.T) {
	for text, want := range map[string]string{
		`rows`:                         "it gives a int, not yes or no",
		`lines > 3`:                    `speaks of "lines", which is not known here; known are job, report, run, rows, date, due, value.port, outcome("task")`,
		`outcome("load") == "done"`:    `outcome("load") speaks of a task that does not come before; those before are import, report`,
		`outcome(value.port) == "a"`:   `outcome() takes a name in quotes, such as outcome("import")`,
		`rows > "ten"`:                 "no matching overload",
		`rows >`:                       "Syntax error",
		`event.data.port == "Pennold"`: `speaks of "event"`,
	} {
		_, err := expr.ParseCondition(text, taskNames)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestTextsSpeakOfTasksAndEvents(t *testing.T) {
	text, err := expr.Parse(`{outcome("import")} {file("report")}`, taskNames)
	require.NoError(t, err)
	got, err := text.Fill(taskFacts)
	require.NoError(t, err)
	assert.Equal(t, "done /in/board.csv", got)
	text, err = expr.Parse("{event.data.port} {event.type}", expr.Names{Event: true})
	require.NoError(t, err)
	got, err = text.Fill(expr.Facts{Event: map[string]any{
		"type": "tides", "data": map[string]any{"port": "Fennmouth"},
	}})
	require.NoError(t, err)
	assert.Equal(t, "Fennmouth tides", got)
	text, err = expr.Parse("{event.data.port}", expr.Names{Event: true})
	require.NoError(t, err)
	_, err = text.Fill(expr.Facts{Event: map[string]any{"data": map[string]any{}}})
	assert.ErrorContains(t, err, "no such key: port")
}

// What would take the checker long is refused before it is checked, and reads well.
func TestWhatNestsTooDeeplyIsRefused(t *testing.T) {
	nested := func(n int) string { return "size(" + strings.Repeat("[", n) + strings.Repeat("]", n) + ") > 0" }
	macros := func(n int) string {
		s := "1"
		for i := range n {
			s = fmt.Sprintf("[1, 2].map(x%d, [%s])", i, s)
		}
		return "size(" + s + ") > 0"
	}
	for _, text := range []string{
		nested(60), nested(1500),
		strings.Repeat("(", 100) + "true" + strings.Repeat(")", 100),
		"size(" + strings.Repeat("{1: ", 60) + "1" + strings.Repeat("}", 60) + ") > 0", macros(3), macros(12),
		strings.Repeat("rows > 1 || ", 600) + "true",
	} {
		_, err := expr.ParseCondition(text, expr.Names{})
		require.ErrorContains(t, err, "is too long or nests too deeply")
		assert.Less(t, len(err.Error()), 300)
	}
	for _, text := range []string{
		nested(20), macros(2), strings.Repeat("(", 20) + "true" + strings.Repeat(")", 20),
		strings.Repeat("rows > 1 || ", 100) + "true", "[1, 2].exists(x, [3].exists(y, x == y))",
	} {
		_, err := expr.ParseCondition(text, expr.Names{})
		assert.NoError(t, err, text)
	}
}
