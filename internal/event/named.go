package event

import (
	"context"
	"sync"

	"ironbell/internal/core/expr"
	"ironbell/internal/core/job"
	"ironbell/internal/store/db"
)

// named is an event that is reported by its type, from outside or by a task.
type named struct{}

func (named) Says(c job.Condition) bool { return c.Event != "" }

func (named) Check(ctx context.Context, k *Checking, where string, c job.Condition) error {
	if len(c.Ends) > 0 {
		k.V.Add(where+".ends", "outcomes belong to a job, not to an event")
	}
	if c.OnlyIf == "" {
		return nil
	}
	if _, err := holding(c.OnlyIf); err != nil {
		k.V.Add(where+".only_if", "%s", err)
		return nil
	}
	// The last such event shows whether it can be held against one at all.
	last, err := k.Store.LastEvent(ctx, c.Event, c.Source, c.Subject)
	if db.IsMissing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	ev := last.Read()
	facts, err := Facts(ev)
	if err != nil {
		return err
	}
	if _, err := hold(c.OnlyIf, facts); err != nil {
		k.V.Add(where+".only_if", "by the last such event, no. %d, %s. Of a field that an event may lack, "+
			"write has(event.data.cm) && event.data.cm > 300", last.Row, err)
	}
	return nil
}

func (named) Reading(c job.Condition) string {
	text := "event " + c.Event
	if c.Subject != "" {
		text += " about " + c.Subject
	}
	if c.Source != "" {
		text += " from " + c.Source
	}
	return withOnlyIf(text, c)
}

func (named) Matches(c job.Condition, h Happening) (matches bool, why string) {
	if h.Event == nil || h.Event.Type != c.Event || c.Source != "" && c.Source != h.Event.Source ||
		c.Subject != "" && c.Subject != h.Event.Subject {
		return false, ""
	}
	return onlyIf(c, h)
}

// conditions are those that were read, since reading one takes longer than to hold it against an event.
var conditions struct {
	sync.Mutex
	read map[string]expr.Condition
}

const maxConditions = 1000 // that are kept

func holding(text string) (expr.Condition, error) {
	conditions.Lock()
	defer conditions.Unlock()
	if c, ok := conditions.read[text]; ok {
		return c, nil
	}
	c, err := expr.ParseCondition(text, expr.Names{Event: true})
	if err != nil {
		return c, err
	}
	if conditions.read == nil || len(conditions.read) >= maxConditions {
		conditions.read = map[string]expr.Condition{}
	}
	conditions.read[text] = c
	return c, nil
}

func hold(text string, facts job.Facts) (bool, error) {
	c, err := holding(text)
	if err != nil {
		return false, err
	}
	return c.Holds(expr.Facts{Event: facts})
}
