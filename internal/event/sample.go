package event

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/rows"
)

// checkSample tells what is wrong with what is asked of an event of ours, by one as it will be. What only its values
// could decide is not held against it.
func checkSample(k *Checking, where, onlyIf, of string, data map[string]any) {
	if onlyIf == "" {
		return
	}
	if _, err := holding(onlyIf); err != nil {
		return // which alone has told
	}
	text, err := json.Marshal(data)
	if err != nil {
		return // it is made of texts, numbers and truths
	}
	facts, err := Facts(job.Event{ID: "1", Time: time.Unix(0, 0).UTC(), Data: text})
	if err != nil {
		return
	}
	if _, err := hold(onlyIf, facts); err != nil && expr.IsMisfit(err) {
		k.V.Add(where+".only_if", "of %s %s. It has %s", of, err, fieldsOf(data))
	}
}

// sampleFile is what is told of a file.
func sampleFile(f job.FileWatch) map[string]any {
	data := map[string]any{
		"path": "in/gauge-07.csv", "name": "gauge-07.csv", "folder": "in", "size": int64(375),
		"modified": "2026-11-30T06:00:00Z", "destination": f.Destination, "replaced": false,
	}
	if f.SameContent == job.SamePassOver {
		data["sha256"] = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08"
	}
	return data
}

// sampleAnswer is what is told of an answer with some columns.
func sampleAnswer(q job.QueryWatch, columns []rows.Column) map[string]any {
	row := make(map[string]any, len(columns))
	var first, mark any = "", ""
	for i, c := range columns {
		var value any = "2026-11-30"
		switch {
		case c.Kind == rows.YesNo:
			value = true
		case c.Kind.Numeric():
			value = float64(1)
		}
		if row[c.Name] = value; i == 0 {
			first = value
		}
		if c.Name == q.Mark {
			mark = value
		}
	}
	data := map[string]any{"source": q.Source, "rows": int64(1), "row": row}
	switch {
	case q.When != job.QueryNewRows:
		data["value"], data["before"] = first, first
	case q.Rows == job.RowsTogether:
		data["mark"], data["all"] = mark, []any{row}
	default:
		data["mark"] = mark
	}
	return data
}

// fieldsOf lists what an event's data has.
func fieldsOf(data map[string]any) string {
	names := make([]string, 0, len(data))
	for name, value := range data {
		if row, ok := value.(map[string]any); ok {
			for column := range row {
				names = append(names, fmt.Sprintf("event.data.%s.%s", name, column))
			}
			continue
		}
		names = append(names, "event.data."+name)
	}
	slices.Sort(names)
	return phrase.Few(names)
}
