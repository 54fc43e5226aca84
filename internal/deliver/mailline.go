package deliver

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/mail"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"

	"github.com/emersion/go-smtp"
)

// mailLine is one connection; several messages go over it one after another.
type mailLine struct {
	server  *mailServer
	client  *smtp.Client
	unwatch func() bool
	cut     func() // breaks it off
	gone    bool   // of no further use
	in      *bufio.Reader
	blot    fault.Blotter // of an access token that was had for this line
}

// Fit implements Line: it asks whether the server is still there.
func (l *mailLine) Fit() bool { return !l.gone && l.client.Noop() == nil }

func (l *mailLine) Close() {
	if err := l.client.Quit(); err != nil {
		_ = l.client.Close() // it is gone already
	}
	l.unwatch()
}

// Send implements Line.
func (l *mailLine) Send(ctx context.Context, h Handover, offer func(context.Context) error) (Result, error) {
	about := fmt.Sprintf("hand over to %s at mail server %q", h.To, l.server.Name)
	var res Result
	defer context.AfterFunc(ctx, l.cut)()
	options := &smtp.MailOptions{Size: h.Size}
	if _, says := l.client.MaxMessageSize(); !says {
		options.Size = 0
	}
	// Addresses beyond ASCII (RFC 6531) stand in the envelope or in the header.
	if wide, err := l.wide(h); err != nil {
		return res, fault.Wrap(err, fault.Passing, fault.Message, about, "")
	} else if wide || !ascii(h.To) {
		options.UTF8, _ = l.client.Extension("SMTPUTF8")
		if !options.UTF8 && !ascii(h.To) {
			return res,
				fault.New(fault.Recipient, about, "the mail server takes no addresses with letters beyond ASCII",
					"Use another address of theirs.")
		}
	}
	if err := l.client.Mail(h.From, options); err != nil {
		return res, l.refused(err, about+": sender", fault.Message)
	}
	if err := l.client.Rcpt(h.To, &smtp.RcptOptions{}); err != nil {
		return res, l.refused(err, about, fault.Recipient)
	}
	data, err := l.client.Data()
	if err != nil {
		return res, l.refused(err, about, fault.Message)
	}
	o := early{ctx: ctx, offer: offer, out: data, left: h.Size}
	if err := l.copyMessage(&o, h, options.UTF8); err != nil {
		// Without the final dot nothing is accepted; the line is of no use now.
		_ = o.wait() // it did not go out, whatever was recorded
		l.gone = true
		_ = l.client.Close()
		return res, fault.Wrap(err, fault.Passing, fault.Destination, about, "")
	}
	if err := o.holds(); err != nil {
		l.gone = true
		_ = l.client.Close() // the final dot must not go out
		return res, err
	}
	res.Offered = true
	reply, err := data.CloseWithResponse()
	if err != nil {
		var said *smtp.SMTPError
		if !errors.As(err, &said) {
			l.gone = true
			return res,
				fault.Wrap(errors.New(fault.Reason(err)), fault.Passing, fault.Message, about+": the answer was lost",
					"")
		}
		f := l.refused(err, about, fault.Message)
		switch said.Code / 100 {
		case 4, 5:
			res.Answered = true
			return res, f
		case 2: // another word for yes (RFC 5321 section 4.3.2)
			res.Answered, res.Answer = true, fmt.Sprintf("%d %s", said.Code, l.words(said.Message))
			return res, nil
		}
		// A code that no standard knows says neither yes nor no.
		l.gone = true
		return res, f
	}
	res.Answered = true
	res.Answer = "250 " + l.words(reply.StatusText)
	return res, nil
}

func ascii(text string) bool {
	for i := range len(text) {
		if text[i] >= 0x80 {
			return false
		}
	}
	return true
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// words are what the server said, on one line.
func (l *mailLine) words(text string) string { return l.blot.Text(oneLine(text)) }

// refused explains an error and readies the line for the next message.
func (l *mailLine) refused(err error, doing string, scope fault.Scope) *fault.Fault {
	var said *smtp.SMTPError
	if !errors.As(err, &said) || l.client.Reset() != nil {
		l.gone = true
	}
	return l.explain(err, doing, scope)
}

// explain tells passing from lasting by the reply's first digit (RFC 5321 4.2.1).
func (l *mailLine) explain(err error, doing string, scope fault.Scope) *fault.Fault {
	var said *smtp.SMTPError
	if !errors.As(err, &said) {
		return broken(err, doing)
	}
	text := fmt.Sprintf("the server answered: %d", said.Code)
	if said.EnhancedCode != (smtp.EnhancedCode{}) && said.EnhancedCode != smtp.NoEnhancedCode {
		text += fmt.Sprintf(" %d.%d.%d", said.EnhancedCode[0], said.EnhancedCode[1], said.EnhancedCode[2])
	}
	text += " " + l.words(said.Message)
	class, advice := fault.Lasting, "Ask the administrator of the mail server what it means."
	switch {
	case said.Code == 530 && strings.Contains(strings.ToUpper(said.Message), "STARTTLS"): // RFC 3207 section 4
		scope, advice = fault.Destination, "The server wants TLS first: set security to starttls."
	case said.Code == 530 && l.server.settings.User == "":
		scope, advice = fault.Destination, "The server wants a sign-in first: set user and password."
	case said.Code == 538, said.Code == 504 && scope == fault.Destination: // RFC 4954 sections 4 and 6
		scope, advice = fault.Destination,
			"The server takes this way of signing in only over TLS, or not at all: set security to starttls or tls, "+
				"or ask its administrator."
	case said.Code == 530 || said.Code == 534 || said.Code == 535 || said.Code == 538: // RFC 4954 section 6
		scope, advice = fault.Destination, "Check user and password of the destination."
	case said.Code/100 != 5:
		// A code that no standard knows may be another one the next time.
		class, advice = fault.Passing, ""
	case said.Code == 552 && scope == fault.Message, said.EnhancedCode == smtp.EnhancedCode{5, 3, 4}:
		scope, advice = fault.Message, "The message is too large for the server: let the job split it, or send a link."
	case scope == fault.Recipient:
		advice = "Check the address; take it out of the job or correct it."
	}
	if said.Code == 421 {
		scope = fault.Destination
	}
	return fault.Wrap(errors.New(text), class, scope, doing, advice)
}

// secure explains why a secured line could not be had.
func (l *mailLine) secure(err error, doing string) *fault.Fault {
	var said *smtp.SMTPError
	var plain tls.RecordHeaderError
	security := l.server.settings.Security
	if no := outgoing.Insecure(err, fault.Destination, doing); no != nil {
		if errors.As(err, &plain) && security == "tls" {
			no.Advice = "The server greets without TLS: set security to starttls, with the port for it, which is " +
				"usually 587; or check the port."
		}
		return no
	}
	switch {
	case errors.As(err, &said):
		return l.explain(err, doing, fault.Destination)
	case strings.Contains(err.Error(), "doesn't support STARTTLS"):
		return fault.Wrap(err, fault.Lasting, fault.Destination, doing,
			"The server offers no STARTTLS: set security to none when the way there is safe, or to tls with the port "+
				"for it, which is usually 465.")
	case security != "tls" && (timedOut(err) || errors.Is(err, io.EOF)):
		// A port for TLS waits for the client to begin, or breaks off.
		return fault.Wrap(errors.New("the server did not greet: "+fault.Reason(err)), fault.Passing, fault.Destination,
			doing, "Check that a mail server runs there. When TLS is spoken from the start at this port, as usually "+
				"at 465, set security to tls.")
	}
	return fault.Wrap(errors.New(fault.Reason(err)), fault.Passing, fault.Destination, doing,
		"Check that the mail server runs and can be reached.")
}

// timedOut tells whether a time limit ended it.
func timedOut(err error) bool {
	var n net.Error
	return errors.As(err, &n) && n.Timeout()
}

const (
	chunk      = 16 << 10  // bytes of a message that are written at a time
	earlyBytes = 2 * chunk // how many are still to go out when the offer is asked for
)

// early passes a message on, and asks for the offer while its last bytes go out:
// recording it takes as long as they do.
type early struct {
	ctx   context.Context //nolint:containedctx // of one hand-over, as it is itself
	offer func(context.Context) error
	out   io.Writer
	left  int64
	asked chan error
}

// Write implements io.Writer.
func (o *early) Write(b []byte) (int, error) {
	if o.asked == nil && o.left <= earlyBytes {
		o.asked = make(chan error, 1)
		go func() { o.asked <- o.offer(o.ctx) }()
	}
	o.left -= int64(len(b))
	return o.out.Write(b)
}

// wait lets an offer that is under way come to its end.
func (o *early) wait() error {
	if o.asked == nil {
		return nil
	}
	return <-o.asked
}

// holds tells whether the offer is recorded, and still holds.
func (o *early) holds() error {
	if err := o.wait(); err != nil {
		return err
	}
	return o.offer(o.ctx)
}

// wide tells whether a message's header holds letters beyond ASCII, as addresses may.
func (l *mailLine) wide(h Handover) (bool, error) {
	l.read(h)
	for {
		line, err := l.in.ReadSlice('\n')
		if !ascii(string(line)) {
			break
		}
		if err != nil || len(bytes.TrimSpace(line)) == 0 {
			_, err = h.Content.Seek(0, io.SeekStart)
			return false, err
		}
	}
	_, err := h.Content.Seek(0, io.SeekStart)
	return true, err
}

// read begins to read a message.
func (l *mailLine) read(h Handover) {
	if l.in == nil {
		l.in = bufio.NewReaderSize(nil, chunk)
	}
	l.in.Reset(h.Content)
}

// narrow is a field of the header without letters beyond ASCII, for a server that takes
// none: an address that has some becomes a group of its name without members, which
// everybody can read and nobody answers to (RFC 6857 section 3.1.8).
func narrow(field []byte) []byte {
	if ascii(string(field)) {
		return field
	}
	name, value, _ := strings.Cut(string(field), ":")
	parser := mail.AddressParser{WordDecoder: new(mime.WordDecoder)}
	addresses, err := parser.ParseList(strings.NewReplacer("\r", "", "\n", "").Replace(value))
	if err != nil { // no addresses
		return []byte(name + ": " + mime.QEncoding.Encode("utf-8", oneLine(value)) + "\r\n")
	}
	written := make([]string, len(addresses))
	for i, a := range addresses {
		if written[i] = a.String(); !ascii(a.Address) {
			// not Q, in which an @ would stand bare
			written[i] = mime.BEncoding.Encode("utf-8", strings.TrimSpace(a.Name+" "+a.Address)) + ":;"
		}
	}
	return []byte(name + ": " + strings.Join(written, ",\r\n ") + "\r\n")
}

// field reads a field of the header with its further lines, or the blank line at its end.
func (l *mailLine) field() ([]byte, error) {
	var field []byte
	for {
		line, err := l.in.ReadBytes('\n')
		field = append(field, line...)
		if err != nil || len(bytes.TrimSpace(line)) == 0 {
			return field, err
		}
		// What is wrong here is told by the next look.
		if next, _ := l.in.Peek(1); len(next) == 0 || next[0] != ' ' && next[0] != '\t' {
			return field, nil
		}
	}
}

// copyMessage copies a stored message and puts its own id in its header in place
// of the one that it was stored with, with what this copy has beside.
func (l *mailLine) copyMessage(w io.Writer, h Handover, wide bool) error {
	l.read(h)
	for {
		line, err := l.field()
		if err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("read the message: %w", err)
		}
		if len(line) > 11 && strings.EqualFold(string(line[:11]), "message-id:") {
			line = []byte("Message-ID: " + h.MessageID + "\r\n")
			for _, header := range h.Headers {
				line = append(line, header+"\r\n"...)
			}
		}
		if !wide {
			line = narrow(line)
		}
		if _, err := w.Write(line); err != nil {
			return fmt.Errorf("write the message: %w", err)
		}
		if len(bytes.TrimSpace(line)) == 0 || err != nil {
			break
		}
	}
	for {
		_, err := l.in.Peek(1) // fills it
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read the message: %w", err)
		}
		part, _ := l.in.Peek(l.in.Buffered()) // it is there
		if _, err := w.Write(part); err != nil {
			return fmt.Errorf("write the message: %w", err)
		}
		_, _ = l.in.Discard(len(part)) // likewise
	}
}
