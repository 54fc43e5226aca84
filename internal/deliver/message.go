package deliver

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/mail"
	"strings"
	"time"

	"ironbell/internal/core/expr"
	"ironbell/internal/house"
	"ironbell/internal/release"

	gomail "github.com/wneessen/go-mail"
	"golang.org/x/net/idna"
)

// Attachment is a file that goes with a message.
type Attachment struct {
	Name      string
	MediaType string
	Size      int64 // in bytes
	Open      func(context.Context) (io.ReadSeekCloser, error)
}

// Letter is a message as a person would describe it.
type Letter struct {
	MessageID   string // without angle brackets
	From        string
	To          []string // shown in the header; nobody is when both are empty
	Cc          []string
	ReplyTo     string
	Priority    string // high, normal or low
	Subject     string
	Date        time.Time
	Lang        string      // in which it is written, as BCP 47 has it; English when empty
	FirstLine   string      // what mail programs show beside the subject; the first figures of the tables when empty
	Plain       string      // the body as plain text
	Tables      []string    // HTML that stands below the text
	Footer      string      // one line of small print
	House       *house.Look // how it looks; the service's own way when nil
	Attachments []Attachment
	Headers     map[string]string // further headers, such as Auto-Submitted
}

// Compose writes a letter as a MIME message (RFC 5322, RFC 2045): plain text and
// HTML as alternatives, then the attachments. Attachments are streamed.
func Compose(ctx context.Context, w io.Writer, l Letter) error {
	m := gomail.NewMsg(gomail.WithNoDefaultUserAgent())
	m.SetMessageIDWithValue(l.MessageID)
	m.SetDateWithValue(l.Date)
	if err := m.From(l.From); err != nil {
		return fmt.Errorf("the sender %q: %w", l.From, err)
	}
	if err := address(m, l); err != nil {
		return err
	}
	m.SetGenHeader(gomail.HeaderUserAgent, release.Agent()) // RFC 5536 section 3.2.13, as mail programs use it
	m.Subject(expr.HeaderLine(l.Subject))
	for name, value := range l.Headers {
		m.SetGenHeader(gomail.Header(name), expr.HeaderLine(value))
	}
	if l.FirstLine == "" {
		l.FirstLine = figuresIn(l.Tables)
	}
	plain := strings.TrimRight(l.Plain, "\n") + "\n"
	if l.FirstLine != "" && !strings.HasPrefix(l.Plain, l.FirstLine) {
		plain = l.FirstLine + "\n\n" + plain
	}
	for _, t := range l.Tables {
		plain += "\n" + PlainOf(t) + "\n"
	}
	if l.Footer != "" {
		plain += "\n-- \n" + l.Footer + "\n"
		if l.House != nil {
			for _, line := range []string{l.House.Footer, l.House.Legal} {
				if line != "" {
					plain += line + "\n"
				}
			}
		}
	}
	m.SetBodyString(gomail.TypeTextPlain, plain)
	body, pictures, err := inline(Page(l))
	if err != nil {
		return err
	}
	m.AddAlternativeString(gomail.TypeTextHTML, body)
	for i, p := range pictures {
		if err := m.EmbedReader(fmt.Sprintf("chart-%d.png", i+1), bytes.NewReader(p),
			gomail.WithFileContentID("<"+pictureID(i)+">"), gomail.WithFileContentType("image/png")); err != nil {
			return fmt.Errorf("embed a picture: %w", err)
		}
	}
	for _, a := range l.Attachments {
		m.AttachReadSeeker(a.Name, &lazy{ctx: ctx, open: a.Open},
			gomail.WithFileContentType(gomail.ContentType(a.MediaType)))
	}
	if _, err := m.WriteTo(w); err != nil {
		return fmt.Errorf("compose the message: %w", err)
	}
	return nil
}

// address writes who sends and who gets a letter. Those who are seen by nobody
// stand in no header; a header must name somebody, so that it names a group
// without members (RFC 5322 section 3.4).
func address(m *gomail.Msg, l Letter) error {
	if len(l.To) > 0 {
		if err := m.To(l.To...); err != nil {
			return fmt.Errorf("the recipients: %w", err)
		}
	}
	if len(l.Cc) > 0 {
		if err := m.Cc(l.Cc...); err != nil {
			return fmt.Errorf("the recipients of copies: %w", err)
		}
	}
	if len(l.To)+len(l.Cc) == 0 {
		m.SetGenHeaderPreformatted("To", "undisclosed-recipients:;")
	}
	if l.ReplyTo != "" {
		if err := m.ReplyTo(l.ReplyTo); err != nil {
			return fmt.Errorf("the address for answers: %w", err)
		}
	}
	switch l.Priority {
	case "high":
		m.SetImportance(gomail.ImportanceHigh)
	case "low":
		m.SetImportance(gomail.ImportanceLow)
	}
	return nil
}

// pictureMark begins a picture in a table: base64 follows up to the quote.
const pictureMark = `src="data:image/png;base64,`

func pictureID(i int) string { return fmt.Sprintf("chart-%d@ironbell", i+1) }

// inline takes the pictures out of a body and names each by its content id (RFC
// 2392), since mail programs do not show data addresses.
func inline(body string) (string, [][]byte, error) {
	var out strings.Builder
	var pictures [][]byte
	for {
		before, rest, found := strings.Cut(body, pictureMark)
		out.WriteString(before)
		if !found {
			return out.String(), pictures, nil
		}
		data, after, _ := strings.Cut(rest, `"`)
		picture, err := base64.StdEncoding.DecodeString(data)
		if err != nil {
			return "", nil, fmt.Errorf("read a picture of the body: %w", err)
		}
		out.WriteString(`src="cid:` + pictureID(len(pictures)) + `"`)
		pictures, body = append(pictures, picture), after
	}
}

// lazy opens a file when it is first read, so that a message with many
// attachments holds one open at a time. It closes it at its end.
type lazy struct {
	ctx  context.Context //nolint:containedctx // lives as long as one call of Compose
	open func(context.Context) (io.ReadSeekCloser, error)
	file io.ReadSeekCloser
}

func (z *lazy) Read(p []byte) (int, error) {
	if z.file == nil {
		f, err := z.open(z.ctx)
		if err != nil {
			return 0, err
		}
		z.file = f
	}
	n, err := z.file.Read(p)
	if err != nil {
		_ = z.file.Close() // only read from
		if err != io.EOF { //nolint:errorlint // io.Reader gives it bare
			return n, fmt.Errorf("read the attachment: %w", err)
		}
	}
	return n, err
}

// Seek is asked for the start after the message was written; the next read
// opens the file anew.
func (z *lazy) Seek(offset int64, whence int) (int64, error) {
	if offset != 0 || whence != io.SeekStart {
		return 0, fmt.Errorf("an attachment can only be read from its start")
	}
	if z.file != nil {
		_ = z.file.Close() // only read from
	}
	z.file = nil
	return 0, nil
}

// CheckAddress tells whether a text is one mail address, and gives its bare form,
// with the domain as it stands in the DNS (RFC 5890).
func CheckAddress(text string) (string, error) {
	bad := func(why string) (string, error) {
		return "", fmt.Errorf("%q is no mail address%s; write it as name@company.example", text, why)
	}
	if strings.ContainsAny(text, "\r\n\x00") {
		return bad(": it holds the end of a line")
	}
	a, err := mail.ParseAddress(strings.TrimSpace(text))
	if err != nil {
		return bad("")
	}
	at := strings.LastIndexByte(a.Address, '@')
	local, domain := a.Address[:at], a.Address[at+1:]
	ascii, err := idna.Lookup.ToASCII(domain)
	if err != nil {
		return bad(": its domain cannot be looked up")
	}
	if len(local) > 64 || len(local)+1+len(ascii) > 254 { // RFC 5321 section 4.5.3.1
		return bad(": it is too long")
	}
	for _, r := range local {
		if r < 0x20 || r == 0x7f {
			return bad(": it holds a control character")
		}
	}
	// What only stands within quotes keeps them.
	bare := mail.Address{Address: local + "@" + ascii}
	return strings.Trim(bare.String(), "<>"), nil
}

// CheckDomain gives a domain in the form that addresses have after CheckAddress: in
// lower case, with the labels of other scripts in their ASCII form (RFC 5891).
func CheckDomain(text string) (string, error) {
	domain, err := idna.Lookup.ToASCII(strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(text), "@"), "."))
	if err != nil || !strings.Contains(strings.Trim(domain, "."), ".") {
		return "", fmt.Errorf("%q is no domain; write it as company.example", text)
	}
	return domain, nil
}
