// Package fault gives errors a cause, a class and a scope, so that what to do
// next is decided from facts and never from the text of a message.
//
// A fault is passing (the same step may well succeed later: connection refused,
// SMTP 4xx, a deadlock) or lasting (it will fail again until somebody changes
// something: bad SQL, SMTP 5xx). Only passing faults are retried by themselves.
// Its scope says how far it reaches: one recipient, one message, the whole
// destination, or the task.
package fault

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"
)

// Class tells whether a fault may pass by itself.
type Class string

// The classes.
const (
	Passing Class = "passing"
	Lasting Class = "lasting"
)

// Scope tells how far a fault reaches.
type Scope string

// The scopes.
const (
	Task        Scope = "task"
	Recipient   Scope = "recipient"
	Message     Scope = "message"
	Destination Scope = "destination"
	Source      Scope = "source"
	Store       Scope = "store of artifacts"
)

// Fault is an error that knows what was being done, how it went wrong, whether
// it may pass, and what a person can do about it.
type Fault struct {
	Doing  string // what was tried: `connect to source "tarnwick"`
	Class  Class
	Scope  Scope
	Advice string // what a person can do; may be empty
	Cause  error  // never nil
}

func (f *Fault) Error() string {
	if f.Doing == "" {
		return f.Cause.Error()
	}
	return f.Doing + ": " + f.Cause.Error()
}

// Unwrap gives the cause.
func (f *Fault) Unwrap() error { return f.Cause }

// New makes a lasting fault out of a sentence.
func New(scope Scope, doing, sentence, advice string) *Fault {
	return &Fault{Doing: doing, Class: Lasting, Scope: scope, Advice: advice, Cause: errors.New(sentence)}
}

// Wrap gives err a class and a scope. An err that is a Fault already keeps its
// own; only what was being done is put in front.
func Wrap(err error, class Class, scope Scope, doing, advice string) *Fault {
	var f *Fault
	if errors.As(err, &f) {
		kept := *f
		kept.Cause = err
		kept.Doing = doing
		if kept.Advice == "" {
			kept.Advice = advice
		}
		return &kept
	}
	return &Fault{Doing: doing, Class: class, Scope: scope, Advice: advice, Cause: err}
}

// Of reads any error as a Fault. One that carries no class is lasting, unless
// the network or a time limit caused it.
func Of(err error) *Fault {
	var f *Fault
	if errors.As(err, &f) {
		if f == err { //nolint:errorlint // the same value, not the same kind
			return f
		}
		whole := *f
		whole.Doing, whole.Cause = "", err
		return &whole
	}
	class := Lasting
	if ByNetwork(err) {
		class = Passing
	}
	return &Fault{Class: class, Scope: Task, Cause: err}
}

// ByNetwork tells whether the network, a closed line or a time limit caused
// err, which makes it passing.
func ByNetwork(err error) bool {
	var n net.Error
	return errors.As(err, &n) ||
		errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, syscall.ECONNREFUSED) ||
		errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE) ||
		errors.Is(err, net.ErrClosed)
}

// AfterBroken advises what to do when the other side ended a line that was open.
const AfterBroken = "Its server, or one between, ended the line: ask who keeps it whether it stopped."

// Broken tells whether the other side ended a line that was open.
func Broken(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE)
}

// Reason is what the network said, without the names of calls and addresses
// that Go puts in front: "connection refused".
func Reason(err error) string {
	var op *net.OpError
	if !errors.As(err, &op) {
		if err == io.EOF || err == io.ErrUnexpectedEOF { //nolint:errorlint // what stands around it says more
			return "the other side ended the line in the middle"
		}
		return err.Error()
	}
	var number syscall.Errno
	switch {
	case Broken(op.Err):
		return "the other side ended the line in the middle"
	case errors.As(op.Err, &number):
		return number.Error()
	case op.Timeout():
		return "no answer in time"
	}
	return op.Err.Error()
}

// Invalid collects everything that is wrong with something a person wrote, so
// that they hear of it all at once. The zero value is ready to use.
type Invalid struct {
	What  string // what was being checked: `job "Open defects"`
	Wrong []Wrong
}

// Wrong is one thing that is wrong: where, and a sentence that says what to do.
type Wrong struct {
	Where    string // a path into what was written: "tasks[0].outputs[1].format"
	Sentence string
}

// Add notes one thing that is wrong.
func (v *Invalid) Add(where, format string, args ...any) {
	v.Wrong = append(v.Wrong, Wrong{Where: where, Sentence: fmt.Sprintf(format, args...)})
}

// maxWithin bounds how much is told of what is wrong within many things.
const maxWithin = 50

// Within adds what is wrong with a part of it, which stands at where; another error stands as it is.
func (v *Invalid) Within(where string, err error) {
	if err == nil || len(v.Wrong) >= maxWithin {
		return
	}
	var of *Invalid
	if !errors.As(err, &of) {
		v.Add(where, "%s", err)
		return
	}
	for _, w := range of.Wrong {
		at := where
		if w.Where != "" {
			at += "." + w.Where
		}
		v.Wrong = append(v.Wrong, Wrong{Where: at, Sentence: w.Sentence})
	}
}

// WrongField says of one field of what was written that it is wrong.
func WrongField(what, where string, err error) error {
	v := &Invalid{What: what}
	v.Add(where, "%s", err)
	return v.Err()
}

// Err is v when something is wrong and nil otherwise.
func (v *Invalid) Err() error {
	if len(v.Wrong) == 0 {
		return nil
	}
	return v
}

func (v *Invalid) Error() string {
	parts := make([]string, 0, len(v.Wrong))
	for _, w := range v.Wrong {
		if w.Where == "" {
			parts = append(parts, w.Sentence)
			continue
		}
		parts = append(parts, w.Where+": "+w.Sentence)
	}
	if v.What == "" {
		return strings.Join(parts, "; ")
	}
	return v.What + ": " + strings.Join(parts, "; ")
}
