package watcher

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/big"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/rows"
	"ironbell/internal/engine/crash"
	"ironbell/internal/event"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
)

const (
	mostAnswered = 10_000    // rows of one answer
	longestShown = 200       // letters of a value that is told of
	mostData     = 256 << 10 // bytes of an event, as of one that is reported
)

// answered is what a look at a source leaves for the next one.
type answered struct {
	Print string `json:"print,omitempty"` // of a whole answer
	Value string `json:"value,omitempty"` // its first value
	Side  string `json:"side,omitempty"`  // "yes" or "no": whether it is ready, or beyond the limit
	Mark  string `json:"mark,omitempty"`  // the highest that was seen
	At    string `json:"at,omitempty"`    // when it last changed, which makes events of equal answers two
}

const yes, no = "yes", "no"

// ask puts the statements of some watches on one source; equal ones once.
func (w *Watcher) ask(ctx context.Context, all []rings.Watching) (out []looked) {
	p, err := w.store.PlaceByID(ctx, records.Source, all[0].PlaceID)
	if err != nil {
		for _, one := range all {
			out = append(out, looked{one, err})
		}
		return out
	}
	type asked struct {
		answer report.Listing
		err    error
	}
	answers := map[string]asked{}
	var pass []int64
	began := time.Now()
	for i, one := range all {
		if i > 0 && time.Since(began) > lookLimit/2 {
			w.release(ctx, all[i:])
			break
		}
		q := one.Spec.V.Query.WithDefaults()
		if one.Gate && !one.Held {
			pass = append(pass, one.ID) // no run waits for it
			continue
		}
		var before answered
		if one.Mark != nil {
			if err := unmarshal(*one.Mark, &before); err != nil {
				out = append(out, looked{one, err})
				continue
			}
		} else {
			before.Mark = q.First
		}
		key := fmt.Sprintf("%s\x00%s\x00%t", q.Identity, strings.TrimSpace(q.SQL), oneRow(q))
		if event.AsksMark(q) {
			key += "\x00" + before.Mark
		}
		had, ok := answers[key]
		if !ok {
			had.answer, had.err = w.put(ctx, p.Name, q, before.Mark)
			answers[key] = had
		}
		err := had.err
		if err == nil {
			err = w.judge(ctx, one, p.Name, q, before, had.answer)
		}
		out = append(out, looked{one, err})
	}
	if len(pass) > 0 {
		if err := w.store.Do(ctx, func(t *store.Tx) error { return t.PassWatches(ctx, pass) }); err != nil {
			w.node.Failed(ctx, "pass a look over", err)
		}
	}
	return out
}

// oneRow tells whether only the first row of an answer counts.
func oneRow(q job.QueryWatch) bool { return q.When == job.QueryReady || q.When == job.QueryPasses }

// put asks a source. What exceeds the rows that are taken of one answer is not read, and a fault where the
// whole of it counts.
func (w *Watcher) put(ctx context.Context, name string, q job.QueryWatch, mark string) (report.Listing, error) {
	source, err := w.sources.Get(ctx, name, q.Identity)
	if err != nil {
		return report.Listing{}, err
	}
	query := report.Query{SQL: q.SQL, Zone: "UTC", Limit: lookLimit}
	switch {
	case event.AsksMark(q):
		query.Params = []job.Parameter{event.MarkOf(mark)}
		query.Values = []job.Bound{{Name: event.MarkName, Type: query.Params[0].Type, Text: mark}}
	case oneRow(q):
		query.Rows = 1
	}
	return report.List(ctx, source, query, mostAnswered)
}

// judge holds an answer against the one before, notes it, and starts what waits for it.
func (w *Watcher) judge(ctx context.Context, one rings.Watching, name string, q job.QueryWatch, before answered,
	answer report.Listing,
) error {
	after, facts, err := w.changes(one, q, before, answer)
	if err != nil {
		return err
	}
	events := make([]job.Event, 0, len(facts))
	for _, f := range facts {
		events = append(events, w.answer(one, name, before, f))
	}
	more := len(facts) > 0 && q.When == job.QueryNewRows && len(facts) >= q.AtMost
	next := every(one)
	if more {
		next = time.Second
	}
	err = w.store.Do(ctx, func(t *store.Tx) error {
		if err := t.HoldWatch(ctx, one); err != nil {
			return err
		}
		if len(events) > 0 {
			if _, err := w.waits.Raise(ctx, t, events, rings.From{All: true, Watch: &one.ID}); err != nil {
				return err
			}
		}
		if err := w.seen(ctx, t, one, after, next, ""); err != nil {
			return err
		}
		if len(events) > 0 {
			w.node.Crash(crash.Seen)
		}
		return nil
	})
	if err == nil && len(events) > 0 {
		w.node.Crash(crash.Noted)
	}
	return err
}

// said is one thing that an answer tells.
type said struct {
	text  string // in words
	id    string // tells it from others of the watch
	facts map[string]any
}

// changes tells what is new of an answer, and what to remember of it.
func (w *Watcher) changes(one rings.Watching, q job.QueryWatch, before answered, answer report.Listing) (after answered,
	all []said, err error,
) {
	now := w.node.Now().UTC().Format(time.RFC3339Nano)
	after = before
	value, there := first(answer)
	tell := func(text string) {
		facts := map[string]any{"rows": len(answer.Rows), "value": fact(shown(value), kindOf(answer, 0)), "before": fact(before.Value, kindOf(answer, 0))}
		if len(answer.Rows) > 0 {
			facts["row"] = row(answer, 0)
		}
		after.At = now
		all = append(all, said{text: text, id: before.At, facts: facts})
	}
	switch q.When {
	case job.QueryReady:
		after.Value, after.Side = shown(value), no
		if isYes(value) {
			after.Side = yes
		}
		// What waits for it is told at each look, since it asks anew.
		if after.Side == yes && (before.Side != yes || one.Gate) {
			tell("yes")
		}
	case job.QueryChanged:
		after.Print, after.Value = printed(answer), shown(value)
		if one.Mark != nil && after.Print != before.Print {
			text := shown(value)
			if len(answer.Rows) != 1 || len(answer.Columns) != 1 {
				text = phrase.Count(len(answer.Rows), "row") + " otherwise than before"
			}
			tell(text)
		}
	case job.QueryPasses:
		after.Value = shown(value)
		beyond, err := side(q, value, there, before.Side)
		if err != nil {
			return before, nil, err
		}
		after.Side = beyond
		if one.Mark != nil && beyond == yes && before.Side != yes {
			tell(shown(value))
		}
	default:
		return newRows(one, q, before, answer, now)
	}
	return after, all, nil
}

// newRows tells which rows lie above the mark, in the order of their marks.
func newRows(one rings.Watching, q job.QueryWatch, before answered, answer report.Listing, now string) (after answered,
	all []said, err error,
) {
	at := -1
	for i, c := range answer.Columns {
		if strings.EqualFold(c, q.Mark) {
			at = i
		}
	}
	doing := "look for new rows"
	if at < 0 {
		return before, nil, fault.New(fault.Task, doing, fmt.Sprintf("the answer has no column %q", q.Mark),
			"Name one of "+strings.Join(answer.Columns, ", ")+".")
	}
	after = before
	begin := one.Mark == nil && q.First == ""
	type line struct {
		mark string
		no   int
	}
	var fresh []line
	for i, r := range answer.Rows {
		switch {
		case r[at] == "":
			continue // it has no mark yet
		case begin:
			if after.Mark == "" || above(r[at], after.Mark) {
				after.Mark = r[at]
			}
		case before.Mark == "" || above(r[at], before.Mark):
			fresh = append(fresh, line{r[at], i})
		}
	}
	if begin {
		return after, nil, nil
	}
	slices.SortStableFunc(fresh, func(a, b line) int {
		switch {
		case above(a.mark, b.mark):
			return 1
		case above(b.mark, a.mark):
			return -1
		}
		return 0
	})
	if len(fresh) > q.AtMost {
		// Rows of one mark stay together: the mark cannot stand between them.
		end := q.AtMost
		for end < len(fresh) && fresh[end].mark == fresh[end-1].mark {
			end++
		}
		fresh = fresh[:end]
	}
	if len(fresh) == 0 {
		return after, nil, nil
	}
	after.Mark, after.At = fresh[len(fresh)-1].mark, now
	if q.Rows == job.RowsTogether {
		all := make([]any, 0, len(fresh))
		for _, l := range fresh {
			all = append(all, row(answer, l.no))
		}
		return after, []said{{
			text: phrase.Count(len(fresh), "new row"), id: after.Mark,
			facts: map[string]any{"rows": len(fresh), "all": all, "row": all[len(all)-1], "mark": fact(after.Mark, kindOf(answer, at))},
		}}, nil
	}
	for i, l := range fresh {
		all = append(all, said{
			text: "a new row, " + q.Mark + " " + shown(l.mark), id: fmt.Sprintf("%s\x00%d", l.mark, i),
			facts: map[string]any{"rows": 1, "row": row(answer, l.no), "mark": fact(l.mark, kindOf(answer, at))},
		})
	}
	return after, all, nil
}

// answer makes an event of what an answer tells. One of equal source, watch and words is another as long as
// the answer was another in between.
func (w *Watcher) answer(one rings.Watching, name string, before answered, s said) job.Event {
	s.facts["source"] = name
	id := sha256.Sum256(fmt.Appendf(nil, "%d\x00%s\x00%s\x00%d", one.ID, s.id, before.Mark, one.Lease))
	text := data(s.facts)
	if len(text) > mostData {
		// What takes a value of it fails with its name, rather than that the event is as large as its source pleases.
		delete(s.facts, "all")
		delete(s.facts, "row")
		s.facts["too_large"] = true
		text = data(s.facts)
	}
	return job.Event{
		ID: base64.RawURLEncoding.EncodeToString(id[:18]), Source: job.SourcesSource + url.PathEscape(name),
		Type: job.EventAnswer, Subject: s.text, Time: w.node.Now(), Data: text,
	}
}

// first is the first value of an answer; there is false for no row and for null.
func first(l report.Listing) (value string, there bool) {
	if len(l.Rows) == 0 || len(l.Rows[0]) == 0 {
		return "", false
	}
	return l.Rows[0][0], l.Rows[0][0] != ""
}

func kindOf(l report.Listing, column int) rows.Kind {
	if column >= len(l.Kinds) {
		return rows.Text
	}
	return l.Kinds[column]
}

// row is a row by the names of its columns.
func row(l report.Listing, no int) map[string]any {
	out := make(map[string]any, len(l.Columns))
	for i, c := range l.Columns {
		out[c] = fact(l.Rows[no][i], l.Kinds[i])
	}
	return out
}

// fact is a value as an event says it: a number or a truth where its column is one, null where there is none,
// and otherwise its text, so that a code of 007 stays one.
func fact(text string, kind rows.Kind) any {
	const exact = 15 // digits that a number of JSON keeps with every reader
	switch {
	case kind == rows.YesNo && text != "":
		return isYes(text)
	case kind.Numeric() && text == "", kind == rows.YesNo:
		return nil
	case kind.Numeric() && len(text) <= exact && json.Valid([]byte(text)):
		return json.Number(text)
	}
	return text
}

func shown(text string) string {
	runes := []rune(text)
	if len(runes) > longestShown {
		return string(runes[:longestShown-1]) + "…"
	}
	return text
}

// isYes tells whether a value says yes: it is true, not 0 and not empty.
func isYes(value string) bool {
	switch strings.ToLower(strings.TrimSpace(value)) {
	case "", "0", "f", "false", "n", "no", "off":
		return false
	}
	n, err := strconv.ParseFloat(strings.TrimSpace(value), 64)
	return err != nil || n != 0
}

// side tells whether a value lies beyond the limit; between the limit and the way back it stays where it was.
func side(q job.QueryWatch, value string, there bool, before string) (string, error) {
	if !there {
		return before, nil // nothing is neither above nor below
	}
	n, err := strconv.ParseFloat(strings.TrimSpace(value), 64)
	if err != nil {
		return before, fault.New(fault.Task, "hold an answer against its limit",
			fmt.Sprintf("%.60q is no number", value), "Let the first column of the statement be the number that counts.")
	}
	limit, sign := q.Over, 1.0
	if limit == nil {
		limit, sign = q.Under, -1
	}
	back := limit
	if q.Back != nil {
		back = q.Back
	}
	switch {
	case sign*n > sign**limit:
		return yes, nil
	case before == yes && sign*n > sign**back:
		return yes, nil
	}
	return no, nil
}

// above tells whether one mark is higher than another: as numbers, when both are, whatever their size, and
// otherwise as texts.
func above(a, b string) bool {
	x, isNumber := new(big.Rat).SetString(a)
	y, other := new(big.Rat).SetString(b)
	const longest = 60 // letters of a number that is reckoned with
	if isNumber && other && len(a) <= longest && len(b) <= longest && !strings.ContainsAny(a+b, "eEpPxX/_") {
		return x.Cmp(y) > 0
	}
	return a > b
}

// printed is a fingerprint of a whole answer.
func printed(l report.Listing) string {
	hash := sha256.New()
	write := func(fields []string) {
		for _, f := range fields {
			_, _ = fmt.Fprintf(hash, "%d:%s", len(f), f) // a hash takes all
		}
		_, _ = hash.Write([]byte{'\n'})
	}
	write(l.Columns)
	for _, r := range l.Rows {
		write(r)
	}
	return base64.RawURLEncoding.EncodeToString(hash.Sum(nil)[:18])
}

func unmarshal(text json.RawMessage, to any) error {
	if err := json.Unmarshal(text, to); err != nil {
		return fmt.Errorf("read what was seen before: %w", err)
	}
	return nil
}
