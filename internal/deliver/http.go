package deliver

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"
)

// HTTPSettings are the settings of a destination of the protocol http. Its
// password is the key that calls are signed with.
type HTTPSettings struct {
	URL     string            `json:"url"`
	Headers map[string]string `json:"headers,omitempty"`
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

// longestAnswer is how much of an answer is kept, in bytes.
const longestAnswer = 2000

type httpPlace struct {
	name     string
	settings HTTPSettings
	key      []byte
	guard    *outgoing.Guard
}

func openHTTP(name string, settings json.RawMessage, password string, guard *outgoing.Guard) (Destination, error) {
	doing := fmt.Sprintf("open destination %q", name)
	h := &httpPlace{name: name, guard: guard}
	if err := json.Unmarshal(settings, &h.settings); err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Destination, doing, "Save its settings again.")
	}
	if err := outgoing.CheckURL(h.settings.URL); err != nil {
		return nil, fault.Wrap(err, fault.Lasting, fault.Destination, doing, "")
	}
	h.key = []byte(password)
	if coded, ok := strings.CutPrefix(password, "whsec_"); ok {
		key, err := base64.StdEncoding.DecodeString(coded)
		if err != nil {
			return nil, fault.New(fault.Destination, doing, "the signing key begins with whsec_ and goes on with what is no base64", "Save its password again.")
		}
		h.key = key
	}
	return h, nil
}

func (h *httpPlace) doing() string { return fmt.Sprintf("call destination %q", h.name) }

// Call sends a request, signed as the Standard Webhooks specification says
// (headers webhook-id, webhook-timestamp, webhook-signature) when there is a
// key, and with an Idempotency-Key.
func (h *httpPlace) Call(ctx context.Context, c Call) (string, error) {
	address := h.settings.URL
	if c.Path != "" {
		address = strings.TrimSuffix(address, "/") + "/" + strings.TrimPrefix(c.Path, "/")
	}
	r, err := http.NewRequestWithContext(ctx, c.Method, address, bytes.NewReader(c.Body))
	if err != nil {
		return "", fault.Wrap(err, fault.Lasting, fault.Task, h.doing(), "Check the path of the call.")
	}
	for name, value := range h.settings.Headers {
		r.Header.Set(name, value)
	}
	r.Header.Set("Content-Type", c.MediaType)
	r.Header.Set("Idempotency-Key", strconv.Quote(c.ID))
	r.Header.Set("Webhook-Id", c.ID)
	at := strconv.FormatInt(c.Now.Unix(), 10)
	r.Header.Set("Webhook-Timestamp", at)
	if len(h.key) > 0 {
		sum := hmac.New(sha256.New, h.key)
		sum.Write([]byte(c.ID + "." + at + "."))
		sum.Write(c.Body)
		r.Header.Set("Webhook-Signature", "v1,"+base64.StdEncoding.EncodeToString(sum.Sum(nil)))
	}
	res, err := h.guard.Do(r, h.doing())
	if err != nil {
		return "", err
	}
	defer func() { _ = res.Body.Close() }() // only read from
	text, err := io.ReadAll(io.LimitReader(res.Body, longestAnswer))
	if err != nil {
		return "", fault.Wrap(err, fault.Passing, fault.Task, h.doing(), "")
	}
	answer := strings.TrimSpace(res.Status + " " + strings.ToValidUTF8(string(text), "?"))
	if err := outgoing.Refusal(res, h.doing()); err != nil {
		f := fault.Of(err)
		return answer, fault.Wrap(fmt.Errorf("the server answered %s", answer), f.Class, fault.Task, h.doing(), "")
	}
	return answer, nil
}

// Open refuses: messages go to mail servers.
func (h *httpPlace) Open(context.Context) (Line, error) {
	return nil, fault.New(fault.Destination, fmt.Sprintf("send to destination %q", h.name), "it takes calls, not messages", "Name a mail server, or use a task of the kind call.")
}

func (h *httpPlace) From() string            { return "" }
func (h *httpPlace) ReturnPath(int64) string { return "" }

// Test asks the address for its head, which changes nothing.
func (h *httpPlace) Test(ctx context.Context) (string, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodHead, h.settings.URL, http.NoBody)
	if err != nil {
		return "", fault.Wrap(err, fault.Lasting, fault.Destination, h.doing(), "")
	}
	res, err := h.guard.Do(r, h.doing())
	if err != nil {
		return "", err
	}
	_ = res.Body.Close() // a head has none
	return "the server answered " + res.Status, nil
}
