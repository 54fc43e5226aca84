// Package deliver hands messages over: one file for each protocol. A way to
// hand over knows nothing of our records; it is told when to commit the offer
// and gives back what the other side said.
package deliver

import (
	"context"
	"encoding/json"
	"fmt"
	"io"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"
)

// Envelope says who hands over to whom.
type Envelope struct {
	From      string // names the delivery, so that a bounce finds it
	To        string
	MessageID string // with its angle brackets
}

// Line is an open line to a destination. It belongs to one goroutine.
type Line interface {
	// Send hands one message to one recipient. It calls offer just before the
	// other side could accept, and stops when offer fails. When offered is true
	// and err is not an answer of the other side, nobody knows whether it was
	// accepted: answered tells.
	Send(ctx context.Context, e Envelope, content io.Reader, offer func(context.Context) error) (Result, error)
	Close()
}

// Result is how a hand-over went.
type Result struct {
	Answer   string // what the other side said at the end
	Offered  bool   // the other side may have accepted
	Answered bool   // and it has said whether it did
}

// Destination is a place that messages can be handed to. It may be used by
// several goroutines.
type Destination interface {
	// Open opens a line.
	Open(ctx context.Context) (Line, error)
	// From is the address that stands as sender in a mail.
	From() string
	// ReturnPath is the envelope's sender for a delivery.
	ReturnPath(delivery int64) string
	// Test tells what the other side answers.
	Test(ctx context.Context) (string, error)
}

// Caller is a destination that takes calls.
type Caller interface {
	// Call sends one request and gives what the other side answered.
	Call(ctx context.Context, c Call) (string, error)
}

// protocols is the table of the kinds of destination.
var protocols = map[string]func(name string, settings json.RawMessage, password string, guard *outgoing.Guard) (Destination, error){
	"smtp": openMail,
	"http": openHTTP,
}

// Open reads the settings of a destination of a given protocol. Requests go
// through the guard.
func Open(protocol, name string, settings json.RawMessage, password string, guard *outgoing.Guard) (Destination, error) {
	open, ok := protocols[protocol]
	if !ok {
		return nil, fault.New(fault.Destination, "open destination "+fmt.Sprintf("%q", name), fmt.Sprintf("there is no protocol %q; there are smtp and http", protocol), "")
	}
	return open(name, settings, password, guard)
}
