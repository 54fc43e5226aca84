package event

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
)

// The headers of a signed request, as Standard Webhooks has them.
const (
	headerID        = "Webhook-Id"
	headerTime      = "Webhook-Timestamp"
	headerSignature = "Webhook-Signature"
)

// signedFor is how far the time of a signed request may be from the clock of the service: an older one may
// be an echo of somebody who listened.
const signedFor = 5 * time.Minute

// KeyPrefix begins a key that signs, as Standard Webhooks writes it.
const KeyPrefix = "whsec_"

// Bounds of a key that signs, in bytes (Standard Webhooks, Symmetric).
const (
	minKey = 24
	maxKey = 64
)

// KeyBytes reads a key that signs.
func KeyBytes(key string) ([]byte, error) {
	coded, ok := strings.CutPrefix(key, KeyPrefix)
	plain, err := base64.StdEncoding.DecodeString(coded)
	if !ok || err != nil || len(plain) < minKey || len(plain) > maxKey {
		return nil, fmt.Errorf("a key is %s followed by %d to %d bytes in base64", KeyPrefix, minKey, maxKey)
	}
	return plain, nil
}

// ErrUnsigned says why a request is not taken as signed by its sender.
var ErrUnsigned = errors.New("the request is not signed by this sender")

// IsSigned tells whether a request claims to be signed.
func IsSigned(header http.Header) bool { return header.Get(headerSignature) != "" }

// CheckSigned tells whether a request was signed by one of some keys, not long ago (Standard
// Webhooks, Verifying). The error wraps ErrUnsigned.
func CheckSigned(header http.Header, body []byte, keys [][]byte, now time.Time) error {
	id, stamp, given := header.Get(headerID), header.Get(headerTime), header.Get(headerSignature)
	for _, name := range []string{headerID, headerTime, headerSignature} {
		if len(header.Values(name)) != 1 || header.Get(name) == "" {
			return fmt.Errorf("%w: it needs the header %s, once", ErrUnsigned, strings.ToLower(name))
		}
	}
	seconds, err := strconv.ParseInt(stamp, 10, 64)
	if err != nil {
		return fmt.Errorf("%w: %s is no number of seconds since 1970", ErrUnsigned, strings.ToLower(headerTime))
	}
	if off := now.Sub(time.Unix(seconds, 0)); off > signedFor || off < -signedFor {
		return fmt.Errorf("%w: it was signed at %s, and here it is %s; more than %d minutes are not taken, since it may be an echo",
			ErrUnsigned, time.Unix(seconds, 0).UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339),
			int(signedFor.Minutes()))
	}
	for one := range strings.FieldsSeq(given) {
		coded, ok := strings.CutPrefix(one, "v1,")
		if !ok {
			continue // of another version
		}
		signature, err := base64.StdEncoding.DecodeString(coded)
		if err != nil {
			continue
		}
		for _, key := range keys {
			sum := hmac.New(sha256.New, key)
			_, _ = sum.Write([]byte(id + "." + stamp + ".")) // a hash takes all
			_, _ = sum.Write(body)
			if subtle.ConstantTimeCompare(sum.Sum(nil), signature) == 1 {
				return nil
			}
		}
	}
	return fmt.Errorf("%w: no signature of the version v1 fits one of its keys and this body", ErrUnsigned)
}

// Posted reads what a sender posts that is no CloudEvent: JSON, text or bytes. A JSON object with
// type and data, as Standard Webhooks advises, names its type, and its time as timestamp; all else
// is the data of an event of the sender's own type. Two posts with the same webhook-id are the same
// event; without one each is an event of its own, of the id that is given here.
func Posted(header http.Header, body []byte, from job.SenderDefinition, id string, now time.Time) (job.Event, error) {
	wrong := &fault.Invalid{What: "the event"}
	if len(body) > MaxEvent {
		return job.Event{}, tooLong
	}
	e := job.Event{ID: id, Type: from.Type, Time: now, Received: now}
	if given := header.Get(headerID); given != "" {
		e.ID = given
		bounded(given, strings.ToLower(headerID), 500, wrong)
		if !utf8.ValidString(given) {
			wrong.Add(strings.ToLower(headerID), "it is no UTF-8")
		}
	}
	var named struct {
		Type      string          `json:"type"`
		Timestamp string          `json:"timestamp"`
		Data      json.RawMessage `json:"data"`
	}
	contentType := header.Get("Content-Type")
	media, _, _ := strings.Cut(contentType, ";")
	media = strings.ToLower(strings.TrimSpace(media))
	if media == "" && json.Valid(body) {
		media = "application/json"
	}
	if media == "application/json" && json.Unmarshal(body, &named) == nil && named.Type != "" && named.Data != nil {
		e.Type = named.Type
		bounded(named.Type, "type", 200, wrong)
		if named.Timestamp != "" {
			e.Time = timeOf(named.Timestamp, now, wrong)
		}
		checkJSON(body, "data", wrong)
		if string(named.Data) != "null" {
			e.Data = named.Data
		}
	} else {
		e.Data, e.Media = dataOf(media, contentType, body, wrong)
	}
	if e.Type == "" {
		wrong.Add("type", "it names no type, and its sender has none of its own; say one in the sender, or send a CloudEvent")
	} else if e.Source = from.SourceOf(e.Type); e.Source == "" {
		wrong.Add("type", "its sender may not send events of the type %q", e.Type)
	}
	return e, wrong.Err()
}
