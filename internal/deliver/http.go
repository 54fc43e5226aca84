package deliver

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"
)

// HTTPSettings are the settings of a destination of the protocol http. Its
// password is the key that requests are signed with.
type HTTPSettings struct {
	URL     string            `json:"url" doc:"address that is called"`
	Method  string            `json:"method,omitempty" enum:"POST,PUT" doc:"of files: POST to the address, when left out, or PUT below it"`
	Headers map[string]string `json:"headers,omitempty" doc:"further headers of each request; {password} stands for the password, which then signs nothing" few:"y"`
	CA      string            `json:"ca,omitempty" form:"block" doc:"certificates to trust, in PEM; those of the machine when left out" few:"y"`
}

// Call is a request to a destination.
type Call struct {
	ID        string // the same over retries, so that the other side can tell a repeat
	Path      string // added to the destination's address
	Method    string
	MediaType string
	Body      []byte
	Now       time.Time
}

// passwordHere stands in a header for the password of the destination.
const passwordHere = "{password}"

// longestAnswer is how much of an answer is kept, in bytes.
const longestAnswer = 2000

type httpPlace struct {
	Place
	settings HTTPSettings
	key      []byte
	guard    *outgoing.Guard
}

func openHTTP(p Place, a Allowed) (Destination, error) {
	h := &httpPlace{Place: p, guard: a.Guard}
	if err := p.read(&h.settings); err != nil {
		return nil, err
	}
	if err := outgoing.CheckURL(h.settings.URL); err != nil {
		return nil, p.wrong(err.Error(), "")
	}
	if h.settings.CA != "" {
		trust, err := p.trust("", h.settings.CA)
		if err != nil {
			return nil, err
		}
		h.guard = a.Guard.Trusting(trust.RootCAs)
	}
	switch h.settings.Method {
	case "":
		h.settings.Method = http.MethodPost
	case http.MethodPost, http.MethodPut:
	default:
		return nil, p.wrong(fmt.Sprintf("there is no method %q here", h.settings.Method), "Choose POST or PUT.")
	}
	signsIn := false // with the password, which then signs nothing
	for name, value := range h.settings.Headers {
		signsIn = signsIn || strings.Contains(value, passwordHere)
		value = strings.ReplaceAll(value, passwordHere, p.Secret)
		if name == "" || strings.ContainsAny(name, ": ") || strings.ContainsAny(name+value, "\r\n\x00") {
			return nil,
				p.wrong(fmt.Sprintf("%q is no header of a request, or its value or the password has more than one line",
					name), "Write it as Authorization: Bearer {password}.")
		}
	}
	if signsIn {
		return h, nil
	}
	h.key = []byte(p.Secret)
	if coded, ok := strings.CutPrefix(p.Secret, "whsec_"); ok {
		key, err := base64.StdEncoding.DecodeString(coded)
		if err != nil {
			return nil,
				p.wrong("the signing key begins with whsec_ and goes on with what is no base64",
					"Save its password again.")
		}
		h.key = key
	}
	return h, nil
}

func (h *httpPlace) doing() string { return fmt.Sprintf("call destination %q", h.Name) }

// sign gives a request its headers: an Idempotency-Key, and, when there is a key,
// the signature of the Standard Webhooks specification (headers webhook-id,
// webhook-timestamp, webhook-signature).
func (h *httpPlace) sign(r *http.Request, id, mediaType string, now time.Time, body io.Reader) error {
	for name, value := range h.settings.Headers {
		r.Header.Set(name, strings.ReplaceAll(value, passwordHere, h.Secret))
	}
	r.Header.Set("Content-Type", mediaType)
	r.Header.Set("Idempotency-Key", strconv.Quote(id))
	r.Header.Set("Webhook-Id", id)
	at := strconv.FormatInt(now.Unix(), 10)
	r.Header.Set("Webhook-Timestamp", at)
	if len(h.key) == 0 {
		return nil
	}
	sum := hmac.New(sha256.New, h.key)
	sum.Write([]byte(id + "." + at + "."))
	if _, err := io.Copy(sum, body); err != nil {
		return fault.Wrap(err, fault.Passing, fault.Message, h.doing()+": sign the content", "")
	}
	r.Header.Set("Webhook-Signature", "v1,"+base64.StdEncoding.EncodeToString(sum.Sum(nil)))
	return nil
}

// Call sends a request.
func (h *httpPlace) Call(ctx context.Context, c Call) (string, error) {
	address := h.settings.URL
	if c.Path != "" {
		address = strings.TrimSuffix(address, "/") + "/" + strings.TrimPrefix(c.Path, "/")
	}
	r, err := http.NewRequestWithContext(ctx, c.Method, address, bytes.NewReader(c.Body))
	if err != nil {
		return "", fault.Wrap(err, fault.Lasting, fault.Task, h.doing(), "Check the path of the call.")
	}
	if err := h.sign(r, c.ID, c.MediaType, c.Now, bytes.NewReader(c.Body)); err != nil {
		return "", err
	}
	return h.exchange(r, h.doing())
}

// exchange sends a request and gives what the other side answered; nothing when
// it did not answer.
func (h *httpPlace) exchange(r *http.Request, doing string) (string, error) {
	res, err := h.guard.Do(r, doing)
	if err != nil {
		return "", err
	}
	defer func() { _ = res.Body.Close() }() // only read from
	text, err := io.ReadAll(io.LimitReader(res.Body, longestAnswer))
	if err != nil {
		text = nil // the status is an answer, too
	}
	answer := strings.TrimSpace(res.Status + " " +
		strings.Join(strings.Fields(strings.ToValidUTF8(string(text), "?")), " "))
	if res.StatusCode >= 300 && res.StatusCode < 400 {
		return answer, moved(res, doing)
	}
	if err := outgoing.Refusal(res, doing); err != nil {
		f := refusedByStatus(h.settings.URL, res.StatusCode, doing)
		f.Cause = fmt.Errorf("the server answered %s", answer)
		return answer, f
	}
	return answer, nil
}

// moved is the fault of an answer that sends its asker on.
func moved(res *http.Response, doing string) *fault.Fault {
	said := "the server answered " + res.Status
	if to := outgoing.Moved(res); to != "" {
		said += " and sends on to " + to + ", where nothing is sent"
	}
	return fault.Wrap(errors.New(said), fault.Lasting, fault.Destination, doing,
		"When that is the right place, write its address into the destination; a page for signing in means that the "+
			"destination's credentials are missing or wrong.")
}

// Signs implements Signer.
func (h *httpPlace) Signs() (signs, lacks bool) { return len(h.key) > 0, h.Secret == "" }

// Open implements Destination. Each file is a request of its own.
func (h *httpPlace) Open(context.Context) (Line, error) { return &httpLine{h}, nil }

type httpLine struct{ place *httpPlace }

func (l *httpLine) Fit() bool { return true }
func (l *httpLine) Close()    {}

// Send implements Line. The other side may accept at the end of the body.
func (l *httpLine) Send(ctx context.Context, d Handover, offer func(context.Context) error) (Result, error) {
	var res Result
	h := l.place
	doing := fmt.Sprintf("send %s to destination %q", d.To, h.Name)
	address := h.settings.URL
	if h.settings.Method == http.MethodPut {
		if err := CheckPath(d.To); err != nil {
			return res,
				fault.Wrap(err, fault.Lasting, fault.Recipient, doing, "Correct the folder or the name in the job.")
		}
		address = below(address, d.To)
	}
	body := &offering{ctx: ctx, from: d.Content, left: d.Size, offer: offer}
	r, err := http.NewRequestWithContext(ctx, h.settings.Method, address, body)
	if err != nil {
		return res, fault.Wrap(err, fault.Lasting, fault.Recipient, doing, "")
	}
	if d.Size == 0 {
		r.Body = http.NoBody
	}
	r.ContentLength = d.Size
	if err := h.sign(r, strings.Trim(d.MessageID, "<>"), d.MediaType, time.Now(), d.Content); err != nil {
		return res, err
	}
	if _, err := d.Content.Seek(0, io.SeekStart); err != nil {
		return res, fault.Wrap(err, fault.Passing, fault.Message, doing, "")
	}
	r.Header.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": d.Name}))
	if d.Size == 0 {
		// There is no last byte to hold back.
		if err := offer(ctx); err != nil {
			return res, err
		}
		body.done = true
	}
	answer, err := h.exchange(r, doing)
	res.Offered = body.done
	if body.err != nil {
		return res, body.err
	}
	res.Answered = answer != ""
	if err != nil {
		f := fault.Of(err)
		if f.Scope == fault.Task {
			f.Scope = fault.Destination
		}
		return res, f
	}
	res.Answer = answer
	return res, nil
}

// Test asks the address for its head, which changes nothing.
func (h *httpPlace) Test(ctx context.Context) (Tested, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodHead, h.settings.URL, http.NoBody)
	if err != nil {
		return Tested{}, fault.Wrap(err, fault.Lasting, fault.Destination, h.doing(), "")
	}
	res, err := h.guard.Do(r, h.doing())
	if err != nil {
		return Tested{}, err
	}
	_ = res.Body.Close() // a head has none
	if res.StatusCode >= 300 && res.StatusCode < 400 {
		return Tested{}, moved(res, h.doing())
	}
	switch res.StatusCode {
	case http.StatusTooManyRequests, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		// Others may say no more than that nobody asks for a head here.
		return Tested{}, refusedByStatus(h.settings.URL, res.StatusCode, h.doing())
	}
	return Tested{Said: []string{
		"asked " + outgoing.Shown(h.settings.URL) + " for its head",
		"the server answered " + res.Status, "sent nothing",
	}}, nil
}
