package event

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"mime"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
)

// The media types of CloudEvents 1.0 in the JSON event format: of one event, and of a batch.
const (
	MediaType  = "application/cloudevents+json"
	BatchMedia = "application/cloudevents-batch+json"
)

// Bounds of what arrives at once.
const (
	MaxEvent = 256 << 10 // bytes of an event; CloudEvents 1.0 asks for at least 64 KB
	MaxBatch = 1000      // events of a batch
	maxDepth = 100       // lists and objects within each other
)

// Bounds of an event's time, held against the clock of the service: one further ahead comes from a
// clock that is wrong.
const maxAhead = 24 * time.Hour

// MediaError says that a body is in a form that is not read.
type MediaError struct{ Media string }

func (e *MediaError) Error() string {
	return fmt.Sprintf("%q is not read here: send %s or %s in UTF-8, or an event in the binary mode, with ce- headers", e.Media,
		MediaType, BatchMedia)
}

// TooLarge says that more arrived at once than is taken.
type TooLarge struct{ Sentence string }

func (e *TooLarge) Error() string { return e.Sentence }

// Arrived reads what a request brings: one event in the structured or in the binary mode, or a
// batch, by the rules of the HTTP binding of CloudEvents 1.0 (section 3). plain is true when it
// is none of them: a request without any attribute. The error is a *fault.Invalid that names each
// attribute, a *MediaError or a *TooLarge.
func Arrived(header http.Header, body []byte, now time.Time) (events []job.Event, plain bool, err error) {
	media, params, err := mime.ParseMediaType(header.Get("Content-Type"))
	if err != nil && header.Get("Content-Type") != "" {
		return nil, false, &MediaError{Media: header.Get("Content-Type")}
	}
	binary := isBinary(header)
	switch {
	case media == BatchMedia || media == MediaType || !binary && media == "application/json" && says(body, "specversion"):
		if set := params["charset"]; set != "" && !strings.EqualFold(set, "utf-8") && !strings.EqualFold(set, "us-ascii") {
			return nil, false, &MediaError{Media: header.Get("Content-Type")}
		}
	case strings.HasPrefix(media, "application/cloudevents"):
		return nil, false, &MediaError{Media: media}
	case binary:
		e, err := ofHeaders(header, media, body, now)
		return []job.Event{e}, false, err
	default:
		return nil, true, nil
	}
	if media == BatchMedia {
		events, err = ofBatch(body, now)
		return events, false, err
	}
	if len(body) > MaxEvent {
		return nil, false, tooLong
	}
	e, err := Read(body, now)
	return []job.Event{e}, false, err
}

var tooLong = &TooLarge{fmt.Sprintf("An event may have %d KB; send a reference to what is larger.", MaxEvent>>10)}

// isBinary tells whether a request is in the binary mode.
func isBinary(header http.Header) bool {
	for name := range header {
		if len(name) > 3 && strings.EqualFold(name[:3], "ce-") {
			return true
		}
	}
	return false
}

// says tells whether a JSON object has a member, so that one in the structured mode is read which
// calls itself plain JSON.
func says(body []byte, name string) bool {
	var all map[string]json.RawMessage
	if len(body) > MaxEvent || json.Unmarshal(body, &all) != nil {
		return false
	}
	_, ok := all[name]
	return ok
}

// ofBatch reads a batch (JSON event format, section 4). All of it is taken, or none.
func ofBatch(body []byte, now time.Time) ([]job.Event, error) {
	wrong := &fault.Invalid{What: "the batch"}
	var all []json.RawMessage
	if err := json.Unmarshal(body, &all); err != nil {
		wrong.Add("", "it is no JSON list of events: %s", err)
		return nil, wrong
	}
	if all == nil {
		wrong.Add("", "it is no JSON list of events but null")
		return nil, wrong
	}
	if len(all) > MaxBatch {
		return nil, &TooLarge{fmt.Sprintf("A batch may have %d events, and this one has %d; send them in several.", MaxBatch,
			len(all))}
	}
	events := make([]job.Event, 0, len(all))
	for i, text := range all {
		if len(text) > MaxEvent {
			return nil, tooLong
		}
		e, err := Read(text, now)
		wrong.Within(strconv.Itoa(i), err)
		events = append(events, e)
	}
	return events, wrong.Err()
}

// ofHeaders reads an event in the binary mode (HTTP binding, section 3.1).
func ofHeaders(header http.Header, media string, body []byte, now time.Time) (job.Event, error) {
	wrong := &fault.Invalid{What: "the event"}
	if len(body) > MaxEvent {
		return job.Event{}, tooLong
	}
	said := map[string]any{}
	for name, values := range header {
		if len(name) <= 3 || !strings.EqualFold(name[:3], "ce-") {
			continue
		}
		attribute := strings.ToLower(name[3:])
		if len(values) > 1 {
			wrong.Add(attribute, "it is given %d times", len(values))
			continue
		}
		text, err := unescape(values[0])
		if err != nil {
			wrong.Add(attribute, "%s", err)
			continue
		}
		said[attribute] = text
	}
	for _, name := range []string{"datacontenttype", "data", "data_base64"} {
		if _, ok := said[name]; ok {
			wrong.Add(name, "it is no header: the data stand in the body, and their media type in Content-Type")
		}
	}
	if len(wrong.Wrong) > 0 {
		return job.Event{}, wrong
	}
	e := ofAttributes(said, now, wrong)
	e.Data, e.Media = dataOf(media, header.Get("Content-Type"), body, wrong)
	return e, wrong.Err()
}

// A percent sign without two hexadecimal digits stands for itself: libraries send it so, although they should not.
var percentSign = regexp.MustCompile(`%[0-9A-Fa-f]{2}`)

// unescape gives the attribute that a header's value says (HTTP binding, section 3.1.3.2).
func unescape(value string) (string, error) {
	if len(value) >= 2 && value[0] == '"' && value[len(value)-1] == '"' {
		var out strings.Builder
		inside := value[1 : len(value)-1]
		for i := 0; i < len(inside); i++ {
			if inside[i] == '\\' && i+1 < len(inside) {
				i++
			}
			out.WriteByte(inside[i])
		}
		value = out.String()
	}
	plain := percentSign.ReplaceAllStringFunc(value, func(code string) string {
		n, err := strconv.ParseUint(code[1:], 16, 8)
		if err != nil {
			return code // it is two hexadecimal digits
		}
		return string([]byte{byte(n)})
	})
	if !utf8.ValidString(plain) {
		return "", fmt.Errorf("it is no UTF-8")
	}
	return plain, nil
}

// dataOf gives data that stand in a body by themselves, as JSON: text and bytes as a string.
func dataOf(media, contentType string, body []byte, wrong *fault.Invalid) (data json.RawMessage, kept string) {
	switch {
	case len(body) == 0:
		return nil, contentType
	case media == "application/json" || strings.HasSuffix(media, "+json"):
		checkJSON(body, "data", wrong)
		if media == "application/json" {
			contentType = ""
		}
		return body, contentType
	case utf8.Valid(body) && (strings.HasPrefix(media, "text/") || strings.HasSuffix(media, "xml")):
		if bytes.IndexByte(body, 0) >= 0 {
			wrong.Add("data", "it holds a zero character, which no database takes")
			return nil, contentType
		}
		return quoted(string(body)), contentType
	}
	if contentType == "" {
		contentType = "application/octet-stream"
	}
	return quoted(base64.StdEncoding.EncodeToString(body)), contentType
}

func quoted(text string) json.RawMessage {
	out, err := json.Marshal(text)
	if err != nil {
		return nil // a text can always be written
	}
	return out
}

// Read reads an event in the structured mode of CloudEvents 1.0 (JSON event
// format, section 3). An event without a time happened now. The error is a
// *fault.Invalid that names each attribute.
func Read(text []byte, now time.Time) (job.Event, error) {
	wrong := &fault.Invalid{What: "the event"}
	if !utf8.Valid(text) {
		wrong.Add("", "it is no UTF-8")
		return job.Event{}, wrong
	}
	var all map[string]json.RawMessage
	if err := json.Unmarshal(text, &all); err != nil {
		wrong.Add("", "it is no JSON object: %s", err)
		return job.Event{}, wrong
	}
	if all == nil {
		wrong.Add("", "it is no JSON object but null")
		return job.Event{}, wrong
	}
	said := map[string]any{}
	for name, raw := range all {
		if name == "data" || name == "data_base64" || string(raw) == "null" {
			continue
		}
		var value any
		decoder := json.NewDecoder(bytes.NewReader(raw))
		decoder.UseNumber()
		if err := decoder.Decode(&value); err != nil {
			wrong.Add(name, "it cannot be read: %s", err)
			continue
		}
		said[name] = value
	}
	media, _ := said["datacontenttype"].(string)
	delete(said, "datacontenttype")
	e := ofAttributes(said, now, wrong)
	e.Media = media
	bounded(media, "datacontenttype", 200, wrong)
	if data, ok := all["data"]; ok && string(data) != "null" {
		checkJSON(data, "data", wrong)
		e.Data = data
	}
	if coded, ok := all["data_base64"]; ok && string(coded) != "null" {
		var bytes []byte
		switch err := json.Unmarshal(coded, &bytes); {
		case err != nil:
			wrong.Add("data_base64", "it is no text in base64")
		case e.Data != nil:
			wrong.Add("data_base64", "the event has data, too; it has one or the other")
		default:
			kind, _, _ := mime.ParseMediaType(media) // one that cannot be read is bytes
			e.Data, e.Media = dataOf(kind, media, bytes, wrong)
		}
	}
	return e, wrong.Err()
}

// bounded refuses a text that is too long or that cannot be kept and shown.
func bounded(value, name string, longest int, wrong *fault.Invalid) {
	switch {
	case utf8.RuneCountInString(value) > longest:
		wrong.Add(name, "it is longer than %d characters", longest)
	case strings.ContainsFunc(value, func(r rune) bool { return r < 0x20 || r >= 0x7f && r <= 0x9f }):
		wrong.Add(name, "it holds control characters")
	}
}

// ofAttributes reads the attributes of an event, in whichever mode it came.
func ofAttributes(said map[string]any, now time.Time, wrong *fault.Invalid) job.Event {
	e := job.Event{Time: now, Received: now}
	get := func(name string, required bool, longest int) string {
		raw, ok := said[name]
		delete(said, name)
		value, isText := raw.(string)
		switch {
		case !ok && required:
			wrong.Add(name, "the attribute is missing; CloudEvents 1.0 asks for specversion, id, source and type")
		case ok && !isText:
			wrong.Add(name, "it is no text")
		case ok && value == "":
			wrong.Add(name, "it is empty")
		}
		bounded(value, name, longest, wrong)
		return value
	}
	if v := get("specversion", true, 10); v != "" && v != "1.0" {
		wrong.Add("specversion", "%q is not read here; send 1.0", v)
	}
	e.ID, e.Source, e.Type = get("id", true, 500), get("source", true, 500), get("type", true, 200)
	e.Subject = get("subject", false, 500)
	if _, err := url.Parse(e.Source); err != nil {
		wrong.Add("source", "%q is no URI reference", e.Source)
	}
	if t := get("time", false, 50); t != "" {
		e.Time = timeOf(t, now, wrong)
	}
	for name, value := range said {
		switch v := value.(type) {
		case string:
			bounded(v, name, 500, wrong)
		case bool:
		case json.Number:
			n, err := strconv.ParseInt(v.String(), 10, 32)
			if err != nil {
				wrong.Add(name, "%s is no whole number of 32 bits, which is what attributes can be", v)
			}
			said[name] = n
		default:
			wrong.Add(name, "it is no text, number or truth value, which is what attributes can be")
		}
		if !isAttribute(name) {
			wrong.Add(name, "attributes have names of small letters and digits")
		}
	}
	if len(said) > 50 {
		wrong.Add("", "it has more than 50 attributes of its own")
	}
	if len(said) > 0 {
		e.Extensions = said
	}
	return e
}

func isAttribute(name string) bool {
	return name != "" && len(name) <= 50 &&
		!strings.ContainsFunc(name, func(r rune) bool { return (r < 'a' || r > 'z') && (r < '0' || r > '9') })
}

// timeOf reads a time as RFC 3339 has it, which lets t and z be small letters and a minute have a second 60.
func timeOf(text string, now time.Time, wrong *fault.Invalid) time.Time {
	plain := strings.ToUpper(text)
	if len(plain) > 19 && plain[16:19] == ":60" {
		plain = plain[:16] + ":59" + plain[19:]
	}
	at, err := time.Parse(time.RFC3339Nano, plain)
	switch {
	case err != nil:
		wrong.Add("time", "%q is no time; write it as 2026-11-23T06:15:00Z", text)
		return now
	case at.After(now.Add(maxAhead)):
		wrong.Add("time", "%s is more than a day ahead of %s, which it is here; a clock is wrong", text,
			now.UTC().Format(time.RFC3339))
	case at.Year() < 1970:
		wrong.Add("time", "%s is before 1970; a clock is wrong", text)
	}
	return at
}

// checkJSON refuses JSON that cannot be read, kept or compared: what one reader takes and another does not.
func checkJSON(text []byte, name string, wrong *fault.Invalid) {
	if !utf8.Valid(text) {
		wrong.Add(name, "it is no UTF-8")
		return
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	for depth := 0; ; {
		token, err := decoder.Token()
		if err != nil {
			break
		}
		switch v := token.(type) {
		case json.Delim:
			if v == '[' || v == '{' {
				depth++
			} else {
				depth--
			}
			if depth > maxDepth {
				wrong.Add(name, "it has more than %d lists and objects within each other", maxDepth)
				return
			}
		case json.Number:
			if f, err := v.Float64(); err != nil || f == 0 && strings.ContainsAny(mantissa(v.String()), "123456789") ||
				math.IsInf(f, 0) {
				wrong.Add(name, "the number %.40s is too large or too small", v)
				return
			}
		case string:
			if strings.ContainsRune(v, 0) {
				wrong.Add(name, "it holds a zero character, which no database takes")
				return
			}
		}
	}
	if halves(text) {
		wrong.Add(name, `it holds half of a pair, such as \ud83d alone, which is no character`)
		return
	}
	if !json.Valid(text) {
		wrong.Add(name, "it is no JSON")
	}
}

func mantissa(number string) string {
	before, _, _ := strings.Cut(strings.ToLower(number), "e")
	return before
}

// halves tells whether a JSON text escapes half of a surrogate pair alone.
func halves(text []byte) bool {
	for i := 0; i+1 < len(text); i++ {
		if text[i] != '\\' {
			continue
		}
		i++
		unit, ok := escaped(text, i)
		if !ok {
			continue
		}
		i += 4
		switch {
		case unit >= 0xdc00 && unit < 0xe000:
			return true
		case unit >= 0xd800 && unit < 0xdc00:
			if i+1 >= len(text) || text[i+1] != '\\' {
				return true
			}
			low, ok := escaped(text, i+2)
			if !ok || low < 0xdc00 || low >= 0xe000 {
				return true
			}
			i += 6
		}
	}
	return false
}

// escaped reads uXXXX at a place.
func escaped(text []byte, at int) (uint64, bool) {
	if at+5 > len(text) || text[at] != 'u' {
		return 0, false
	}
	unit, err := strconv.ParseUint(string(text[at+1:at+5]), 16, 32)
	return unit, err == nil
}

// Facts is what texts may speak of as event. Attributes of its own stand beside the others.
func Facts(e job.Event) (job.Facts, error) {
	facts := job.Facts{}
	for name, value := range e.Extensions {
		facts[name] = value
	}
	for name, value := range map[string]any{
		"id": e.ID, "type": e.Type, "source": e.Source, "subject": e.Subject, "time": e.Time.Format(time.RFC3339),
	} {
		facts[name] = value
	}
	facts["data"] = map[string]any{}
	if len(e.Data) == 0 {
		return facts, nil
	}
	data, err := job.Exact(e.Data)
	if err != nil {
		return nil, fmt.Errorf("read the event's data: %w", err)
	}
	facts["data"] = data
	return facts, nil
}
