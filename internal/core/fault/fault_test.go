package fault_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"syscall"
	"testing"

	"ironbell/internal/core/fault"

	"github.com/stretchr/testify/assert"
)

func TestAFaultKeepsItsClassThroughWrapping(t *testing.T) {
	inner := fault.New(fault.Recipient, "hand over to x", "no such mailbox", "Check the address.")
	outer := fault.Of(fmt.Errorf("deliver: %w", inner))
	assert.Equal(t, fault.Lasting, outer.Class)
	assert.Equal(t, fault.Recipient, outer.Scope)
	assert.Equal(t, "Check the address.", outer.Advice)
	assert.Equal(t, "deliver: hand over to x: no such mailbox", outer.Error())
	assert.ErrorIs(t, outer, inner)
	again := fault.Wrap(inner, fault.Passing, fault.Task, "again", "Other advice.")
	assert.Equal(t, fault.Lasting, again.Class, "wrapping does not change what it is")
	assert.Equal(t, "Check the address.", again.Advice)
}

func TestTheNetworkPassesAndTheRestLasts(t *testing.T) {
	refused := &net.OpError{Op: "dial", Net: "tcp", Err: os.NewSyscallError("connect", syscall.ECONNREFUSED)}
	for _, err := range []error{
		refused, fmt.Errorf("x: %w", refused), context.DeadlineExceeded, syscall.EPIPE,
		net.ErrClosed,
	} {
		assert.Equal(t, fault.Passing, fault.Of(err).Class, err)
	}
	assert.Equal(t, fault.Lasting, fault.Of(errors.New("bad")).Class)
	assert.Equal(t, "connection refused", fault.Reason(fmt.Errorf("x: %w", refused)))
	assert.Equal(t, "bad", fault.Reason(errors.New("bad")))
}

func TestInvalidSaysAllAtOnce(t *testing.T) {
	v := &fault.Invalid{What: `job "Board"`}
	assert.NoError(t, v.Err())
	v.Add("zone", "there is no zone %q", "X")
	v.Add("", "it needs a name")
	assert.EqualError(t, v.Err(), `job "Board": zone: there is no zone "X"; it needs a name`)
}
