package deliver

import (
	"context"

	"ironbell/internal/core/fault"
)

// What the other side answers may hold what it was sent: a server that echoes headers, or
// that says which password it did not take. Whatever a destination says, and each of its
// faults, is blotted here before anybody keeps, shows or logs it.

type hushed struct {
	d    Destination
	blot fault.Blotter
}

// hush hushes a destination that has a secret.
func hush(d Destination, secret string) Destination {
	if secret == "" {
		return d
	}
	h := hushed{d, fault.NewBlotter(secret)}
	switch is := d.(type) {
	case Mailer:
		return &hushedMailer{hushed: h, Mailer: is}
	case Caller:
		return &hushedCaller{hushed: h, caller: is}
	case Asker:
		return &hushedAsker{hushed: h, asker: is}
	}
	return &h
}

func (h *hushed) Open(ctx context.Context) (Line, error) {
	l, err := h.d.Open(ctx)
	if err != nil {
		return nil, h.blot.Err(err)
	}
	return &hushedLine{l, h.blot}, nil
}

func (h *hushed) Test(ctx context.Context) (Tested, error) {
	t, err := h.d.Test(ctx)
	for i, said := range t.Said {
		t.Said[i] = h.blot.Text(said)
	}
	return t, h.blot.Err(err)
}

func (h *hushed) probe(ctx context.Context) error { return h.blot.Err(Probe(ctx, h.d)) }

type hushedMailer struct {
	hushed
	Mailer
}

func (h *hushedMailer) Open(ctx context.Context) (Line, error)   { return h.hushed.Open(ctx) }
func (h *hushedMailer) Test(ctx context.Context) (Tested, error) { return h.hushed.Test(ctx) }

type hushedCaller struct {
	hushed
	caller Caller
}

func (h *hushedCaller) Call(ctx context.Context, c Call) (string, error) {
	said, err := h.caller.Call(ctx, c)
	return h.blot.Text(said), h.blot.Err(err)
}

// Signs implements Signer.
func (h *hushedCaller) Signs() (signs, lacks bool) {
	if s, ok := h.caller.(Signer); ok {
		return s.Signs()
	}
	return false, false
}

type hushedAsker struct {
	hushed
	asker Asker
}

func (h *hushedAsker) Ask(ctx context.Context, taken string) (Progress, error) {
	p, err := h.asker.Ask(ctx, taken)
	p.Said = h.blot.Text(p.Said)
	if p.Failed != nil {
		p.Failed = fault.Of(h.blot.Err(p.Failed))
	}
	return p, h.blot.Err(err)
}

type hushedLine struct {
	Line
	blot fault.Blotter
}

func (l *hushedLine) Send(ctx context.Context, h Handover, offer func(context.Context) error) (Result, error) {
	res, err := l.Line.Send(ctx, h, offer)
	res.Answer = l.blot.Text(res.Answer)
	return res, l.blot.Err(err)
}
