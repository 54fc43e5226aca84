package event

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
)

// named is an event that is reported by its type, from outside or by a task.
type named struct{}

func (named) Says(c job.Condition) bool { return c.Event != "" }

func (named) Check(_ context.Context, k *Checking, where string, c job.Condition) error {
	if len(c.Ends) > 0 {
		k.V.Add(where+".ends", "outcomes belong to a job, not to an event")
	}
	return nil
}

func (named) Reading(c job.Condition) string {
	text := "event " + c.Event
	if c.Subject != "" {
		text += " about " + c.Subject
	}
	if c.Source != "" {
		text += " from " + c.Source
	}
	return text
}

func (named) Matches(c job.Condition, h Happening) bool {
	return h.Event != nil && h.Event.Type == c.Event && (c.Source == "" || c.Source == h.Event.Source) &&
		(c.Subject == "" || c.Subject == h.Event.Subject)
}

// MediaType is the form in which an event is reported: CloudEvents 1.0, JSON
// event format, structured mode.
const MediaType = "application/cloudevents+json"

// Read reads an event in the structured mode of CloudEvents 1.0 (JSON event
// format, section 3). An event without a time happened now. The error is a
// *fault.Invalid that names each attribute.
func Read(text []byte, now time.Time) (job.Event, error) {
	wrong := &fault.Invalid{What: "the event"}
	var all map[string]json.RawMessage
	if err := json.Unmarshal(text, &all); err != nil {
		wrong.Add("", "it is no JSON object: %s", err)
		return job.Event{}, wrong
	}
	e := job.Event{Time: now, Received: now}
	get := func(name string, required bool, longest int) string {
		var value string
		raw, ok := all[name]
		if !ok || string(raw) == "null" {
			if required {
				wrong.Add(name, "the attribute is missing; CloudEvents 1.0 asks for specversion, id, source and type")
			}
			return ""
		}
		switch err := json.Unmarshal(raw, &value); {
		case err != nil:
			wrong.Add(name, "it is no text")
		case value == "" && required:
			wrong.Add(name, "it is empty")
		case utf8.RuneCountInString(value) > longest:
			wrong.Add(name, "it is longer than %d characters", longest)
		case strings.ContainsFunc(value, func(r rune) bool { return r < 0x20 || r >= 0x7f && r <= 0x9f }):
			wrong.Add(name, "it holds control characters")
		}
		return value
	}
	if v := get("specversion", true, 10); v != "" && v != "1.0" {
		wrong.Add("specversion", "%q is not read here; send 1.0", v)
	}
	e.ID, e.Source, e.Type, e.Subject = get("id", true, 500), get("source", true, 500), get("type", true, 200),
		get("subject", false, 500)
	if _, err := url.Parse(e.Source); err != nil {
		wrong.Add("source", "%q is no URI reference", e.Source)
	}
	if t := get("time", false, 50); t != "" {
		at, err := time.Parse(time.RFC3339Nano, t)
		if err != nil {
			wrong.Add("time", "%q is no time; write it as 2026-11-23T06:15:00Z", t)
		}
		e.Time = at
	}
	if media := get("datacontenttype", false,
		200); media != "" && media != "application/json" && !strings.HasSuffix(media, "+json") &&
		!strings.HasPrefix(media, "text/") {
		wrong.Add("datacontenttype", "%q is not read here; send JSON or text", media)
	}
	if _, ok := all["data_base64"]; ok {
		wrong.Add("data_base64", "bytes are not read here; send JSON in data")
	}
	if data, ok := all["data"]; ok && string(data) != "null" {
		if strings.Contains(string(data), `\u0000`) {
			wrong.Add("data", "it holds a zero character, which no database takes")
		}
		e.Data = data
	}
	return e, wrong.Err()
}

// Facts is what texts may speak of as event.
func Facts(e job.Event) (map[string]any, error) {
	facts := map[string]any{
		"id": e.ID, "type": e.Type, "source": e.Source, "subject": e.Subject, "time": e.Time.Format(time.RFC3339),
		"data": map[string]any{},
	}
	if len(e.Data) == 0 {
		return facts, nil
	}
	var data any
	if err := json.Unmarshal(e.Data, &data); err != nil {
		return nil, fmt.Errorf("read the event's data: %w", err)
	}
	facts["data"] = data
	return facts, nil
}
