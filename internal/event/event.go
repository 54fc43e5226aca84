// Package event knows the kinds of things that a job may wait for: one file for
// each kind, in one table. A kind checks what a trigger says of it, says it in
// words, and tells whether something that happened is what the trigger meant.
package event

import (
	"context"
	"fmt"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
)

// Happening is something that has happened: an event, or the end of a run.
type Happening struct {
	Event *job.Event
	Facts job.Facts // of the event
	Run   *job.Run  // with its outcome as state
}

// Checking is what the check of a condition needs and notes.
type Checking struct {
	V     *fault.Invalid
	Store *store.Store
	Uses  *records.Uses
	Job   string // whose trigger it is

	// Files tells what is wrong with a destination whose files are to be looked at.
	Files func(ctx context.Context, where string, f job.FileWatch) error
	// Answer tells what is wrong with a statement, and whether it may be put. It gives the columns of its answer,
	// or none when they cannot be known now.
	Answer func(ctx context.Context, where string, q job.QueryWatch) ([]rows.Column, error)
}

// Kind is one kind of condition. It may be used by several goroutines.
type Kind interface {
	// Says tells whether a condition is of this kind.
	Says(c job.Condition) bool
	// Check tells what is wrong with a condition. Its error is about our own
	// records only.
	Check(ctx context.Context, k *Checking, where string, c job.Condition) error
	// Reading says a condition in words: "Fuel burn by vessel is done".
	Reading(c job.Condition) string
	// Matches tells whether what happened is what the condition means; why is told of what could have been.
	Matches(c job.Condition, h Happening) (matches bool, why string)
}

// kinds is the table.
var kinds = []Kind{named{}, outcome{}, files{}, answer{}, start{}}

// Of finds the kind of a condition; nil when it says nothing or too much.
func Of(c job.Condition) Kind {
	var found Kind
	for _, k := range kinds {
		if k.Says(c) {
			if found != nil {
				return nil
			}
			found = k
		}
	}
	return found
}

// Reading says a condition in words.
func Reading(c job.Condition) string {
	if k := Of(c); k != nil {
		return k.Reading(c)
	}
	return "nothing"
}

// Matches tells whether what happened is what a condition means; why is told of what could have been.
func Matches(c job.Condition, h Happening) (matches bool, why string) {
	k := Of(c)
	if k == nil {
		return false, ""
	}
	return k.Matches(c, h)
}

// Check tells what is wrong with what a trigger waits for.
func Check(ctx context.Context, k *Checking, where string, w job.Wait) error {
	if len(w.For) == 0 {
		k.V.Add(where+".for", "it waits for nothing; name an event, a job, files, a query or a start")
	}
	for i, c := range w.For {
		at := fmt.Sprintf("%s.for[%d]", where, i)
		kind := Of(c)
		if kind == nil {
			k.V.Add(at, "name one of an event, a job, files, a query or a start")
			continue
		}
		if err := kind.Check(ctx, k, at, c); err != nil {
			return err
		}
	}
	return nil
}
