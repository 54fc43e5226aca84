package deliver

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/textproto"
	"regexp"
	"strconv"
	"strings"

	"github.com/emersion/go-message"
	"github.com/emersion/go-message/mail"
)

// Returned is what a mail in the mailbox for bounces says.
type Returned struct {
	Kind ReturnKind
	// from the address that it came back to, or the field of the mail that came back; 0 when neither names one
	Delivery  int64
	Seal      string // that stands with it
	Recipient string // whom it could not be delivered to; may be empty
	Status    string // such as 5.1.1 (RFC 3463)
	Words     string // what the other side said
}

// ReturnKind is what a mail that came back is.
type ReturnKind string

// The kinds.
const (
	ReturnFailed  ReturnKind = "failed"  // it was not delivered, and will not be
	ReturnDelayed ReturnKind = "delayed" // it is still being tried
	ReturnArrived ReturnKind = "arrived" // it was delivered, or handed on
	ReturnAnswer  ReturnKind = "answer"  // somebody's automatic answer, such as that they are away
	ReturnOther   ReturnKind = "other"   // a mail that is none of these
)

// TagField is the field of a mail's header that names its delivery, as the mailbox
// for bounces does behind its plus: some servers return to the plain mailbox.
const TagField = "Iron-Bell-Delivery"

// boxForm finds the tag of a delivery in the mailbox that a mail came back to
// (RFC 5233), fieldForm in the field of the mail that came back.
var (
	boxForm   = regexp.MustCompile(`\+d([0-9]{1,18})(?:-([a-z0-9]+))?@`)
	fieldForm = regexp.MustCompile(`^\s*d([0-9]{1,18})-([a-z0-9]+)\s*$`)
)

// tagged takes the first tag that is found.
func (r *Returned) tagged(form *regexp.Regexp, text string) {
	if found := form.FindStringSubmatch(strings.ToLower(text)); found != nil && r.Delivery == 0 {
		r.Delivery, _ = strconv.ParseInt(found[1], 10, 64) // it is digits, and few of them
		r.Seal = found[2]
	}
}

// ReadReturned reads a mail of the mailbox for bounces: a delivery status
// notification (RFC 3464) within a multipart/report (RFC 6522), or something else.
func ReadReturned(raw io.Reader) (Returned, error) {
	out := Returned{Kind: ReturnOther}
	e, err := message.Read(raw)
	if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
		return out, fmt.Errorf("read the mail: %w", err)
	}
	for _, name := range []string{"To", "Delivered-To", "X-Original-To", "Envelope-To"} {
		for f := e.Header.FieldsByKey(name); f.Next(); {
			out.tagged(boxForm, f.Value())
		}
	}
	kind, params, err := e.Header.ContentType()
	if err != nil || kind != "multipart/report" || !strings.EqualFold(params["report-type"], "delivery-status") {
		// RFC 3834 section 5: what is not "no" was made by a program.
		auto := strings.ToLower(e.Header.Get("Auto-Submitted"))
		if auto != "" && auto != "no" || e.Header.Get("X-Autoreply") != "" ||
			strings.EqualFold(e.Header.Get("Precedence"), "auto_reply") {
			out.Kind = ReturnAnswer
		}
		return out, nil
	}
	parts := e.MultipartReader()
	if parts == nil {
		return out, errors.New("read the mail: it says that it has parts, and has none")
	}
	for range maxParts {
		p, err := parts.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
			return out, fmt.Errorf("read a part of the mail: %w", err)
		}
		body, err := io.ReadAll(io.LimitReader(p.Body, maxReturned))
		if err != nil {
			return out, fmt.Errorf("read a part of the mail: %w", err)
		}
		kind, _, _ := p.Header.ContentType() // one without a type is none that we look for
		switch kind {
		case "message/delivery-status", "message/global-delivery-status":
			out.status(body)
		case "text/rfc822-headers", "message/rfc822", "message/global", "message/global-headers":
			h, err := mail.CreateReader(bytes.NewReader(append(body, "\r\n\r\n"...)))
			if err == nil {
				out.tagged(fieldForm, h.Header.Get(TagField))
			}
		}
	}
	return out, nil
}

const (
	maxParts    = 20
	maxReturned = 256 << 10 // bytes of one part that are read
)

// status reads the fields of a notification: one block for the message, and one
// for each recipient. The worst counts.
func (r *Returned) status(body []byte) {
	blocks := bytes.Split(bytes.ReplaceAll(body, []byte("\r\n"), []byte("\n")), []byte("\n\n"))
	for _, block := range blocks {
		fields := fieldsOf(block)
		action := strings.ToLower(strings.TrimSpace(fields.Get("Action")))
		kind := map[string]ReturnKind{
			"failed": ReturnFailed, "delayed": ReturnDelayed, "delivered": ReturnArrived, "relayed": ReturnArrived,
			"expanded": ReturnArrived,
		}[action]
		if kind == "" || r.Kind == ReturnFailed {
			continue
		}
		r.Kind = kind
		r.Status = strings.TrimSpace(fields.Get("Status"))
		r.Recipient = typed(fields.Get("Original-Recipient"))
		if r.Recipient == "" {
			r.Recipient = typed(fields.Get("Final-Recipient"))
		}
		r.Words = typed(fields.Get("Diagnostic-Code"))
		if r.Words == "" {
			r.Words = "status " + r.Status
		}
	}
}

// typed is what stands after the type of a field: "rfc822; a@b.example".
func typed(text string) string {
	if _, after, found := strings.Cut(text, ";"); found {
		text = after
	}
	text = strings.Join(strings.Fields(text), " ")
	if plain, err := new(mime.WordDecoder).DecodeHeader(text); err == nil {
		text = plain
	}
	return text
}

// fieldsOf reads the fields of one block, with their continued lines.
func fieldsOf(block []byte) textproto.MIMEHeader {
	h := textproto.MIMEHeader{}
	last := ""
	for _, line := range strings.Split(string(block), "\n") {
		if line != "" && (line[0] == ' ' || line[0] == '\t') && last != "" {
			h.Set(last, h.Get(last)+" "+strings.TrimSpace(line))
			continue
		}
		name, value, found := strings.Cut(line, ":")
		if !found {
			continue
		}
		last = textproto.CanonicalMIMEHeaderKey(strings.TrimSpace(name))
		h.Set(last, strings.TrimSpace(value))
	}
	return h
}
