package event

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ironbell/internal/core/job"
)

// answer is what a statement answers.
type answer struct{}

func (answer) Says(c job.Condition) bool { return c.Query != nil }

// MarkName is what a statement calls the highest mark that was seen.
const MarkName = "mark"

var asksMark = regexp.MustCompile(`(^|[^:]):` + MarkName + `\b`)

// AsksMark tells whether a statement speaks of the highest mark that was seen.
func AsksMark(q job.QueryWatch) bool {
	return q.When == job.QueryNewRows && asksMark.MatchString(q.SQL)
}

// MarkOf is the parameter that a mark is for a statement: a number when it is one.
func MarkOf(mark string) job.Parameter {
	p := job.Parameter{Name: MarkName, Type: job.TypeText}
	if _, err := strconv.ParseFloat(mark, 64); err == nil {
		p.Type = job.TypeNumber
	}
	return p
}

func (answer) Check(ctx context.Context, k *Checking, where string, c job.Condition) error {
	alone(k, where, c)
	q := *c.Query
	at := where + ".query"
	if strings.TrimSpace(q.SQL) == "" {
		k.V.Add(at+".sql", "say which statement is asked")
		return nil
	}
	checkEvery(k, at+".every", q.Every)
	switch {
	case !slices.Contains([]job.QueryWhen{job.QueryReady, job.QueryChanged, job.QueryPasses, job.QueryNewRows}, q.When):
		k.V.Add(at+".when", "say which answer counts: ready, changed, passes or new rows")
	case q.When == job.QueryPasses:
		checkLimit(k, at, q)
	case q.Over != nil || q.Under != nil || q.Back != nil:
		k.V.Add(at, "over, under and back belong to when: passes")
	}
	if q.When == job.QueryNewRows {
		if q.Mark == "" {
			k.V.Add(at+".mark", "name the column that grows with each row, such as a number or the time of entry")
		}
		if AsksMark(q) && q.First == "" {
			k.V.Add(at+".first_mark", "the statement speaks of :mark; say with which it begins, such as 0 or 2026-11-01")
		}
		if q.AtMost < 0 || q.AtMost > 1000 {
			k.V.Add(at+".at_most", "at most 1,000 rows are taken at one look")
		}
	} else if q.Mark != "" || q.First != "" || q.Rows != "" || q.AtMost != 0 {
		k.V.Add(at, "mark, first_mark, rows and at_most belong to when: new rows")
	}
	columns, err := k.Answer(ctx, at, q)
	if err == nil && columns != nil {
		checkSample(k, where, c.OnlyIf, "this answer", sampleAnswer(q.WithDefaults(), columns))
	}
	return err
}

func checkLimit(k *Checking, at string, q job.QueryWatch) {
	switch {
	case (q.Over == nil) == (q.Under == nil):
		k.V.Add(at, "say the limit that is passed: over, or under")
	case q.Back == nil:
	case q.Over != nil && *q.Back > *q.Over:
		k.V.Add(at+".back", "it lies above the limit: the answer must come back to below %v", *q.Over)
	case q.Under != nil && *q.Back < *q.Under:
		k.V.Add(at+".back", "it lies below the limit: the answer must come back to above %v", *q.Under)
	}
}

const shownSQL = 60 // letters

func (answer) Reading(c job.Condition) string {
	q := c.Query.WithDefaults()
	sql := []rune(strings.Join(strings.Fields(q.SQL), " "))
	if len(sql) > shownSQL {
		sql = append(sql[:shownSQL-1], '…')
	}
	text := ""
	switch q.When {
	case job.QueryChanged:
		text = "a new answer of %s to %s"
	case job.QueryPasses:
		way, limit := "above", q.Over
		if limit == nil {
			way, limit = "below", q.Under
		}
		if limit == nil {
			break
		}
		text = fmt.Sprintf("an answer %s %v of %%s to %%s", way, *limit)
	case job.QueryNewRows:
		text = "new rows of %s: %s"
	default:
		text = "a yes of %s to %s"
	}
	return withOnlyIf(fmt.Sprintf(text, q.Source, string(sql)), c)
}

func (answer) Matches(c job.Condition, h Happening) (matches bool, why string) {
	if h.Event == nil || h.Event.Type != job.EventAnswer {
		return false, ""
	}
	return onlyIf(c, h)
}
