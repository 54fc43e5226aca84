package event

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/job"
)

// samples are data of each type that we publish, as they can be at most: whatever has no value is null.
var samples = map[string]string{
	job.PublishedRun: `{"run":"2701-12","job":"Fuel burn by vessel","version":3,"state":"failed","reason":"","why":"rule",
		"due":"2027-01-11T06:00:00+00:00","zone":"Europe/London","started_at":null,"ended_at":"2027-01-11T06:02:10+00:00",
		"repeats":null}`,
	job.PublishedDelivery: `{"delivery":270100000031,"run":"2701-12","job":"Fuel burn by vessel","destination":"Post room",
		"address":"bridge@tarnwick.example","state":"failed","tries":4,"answer":"550 no such mailbox","advice":""}`,
	job.PublishedAlertOpened: `{"alert":7,"kind":"delivery failed","cause":"delivery:3:1:lasting","name":"Fuel burn by vessel",
		"run":null,"owner":null,"happened":"","for_whom":"","advice":"","count":1,"opened_at":"2027-01-11T06:02:10+00:00",
		"closed_at":null}`,
	job.PublishedAlertClosed: `{"alert":7,"kind":"delivery failed","cause":"delivery:3:1:lasting","name":"Fuel burn by vessel",
		"run":null,"owner":null,"happened":"","for_whom":"","advice":"","count":1,"opened_at":"2027-01-11T06:02:10+00:00",
		"closed_at":"2027-01-11T07:00:00+00:00"}`,
	job.PublishedCalendar: `{"calendar":"Harbour holidays","version":4,"change":"changed","before":null}`,
}

// PublishedTypes lists the types of what we publish.
func PublishedTypes() []string {
	return []string{
		job.PublishedRun, job.PublishedDelivery, job.PublishedAlertOpened, job.PublishedAlertClosed, job.PublishedCalendar,
	}
}

// CheckPublished holds a condition against a sample of each type that it is put to.
func CheckPublished(onlyIf string, wants func(kind string) bool) error {
	if onlyIf == "" {
		return nil
	}
	if _, err := holding(onlyIf); err != nil {
		return err
	}
	for _, kind := range PublishedTypes() {
		if !wants(kind) {
			continue
		}
		p := job.Published{Type: kind, Subject: "jobs/Fuel burn by vessel", At: time.Unix(0, 0), Data: json.RawMessage(samples[kind])}
		if _, err := PublishedHolds(onlyIf, p); err != nil {
			return fmt.Errorf("of %s %w. Of a field that some of the types lack, write has(event.data.state) && "+
				"event.data.state == 'failed'", kind, err)
		}
	}
	return nil
}

// PublishedHolds tells whether a condition holds of an event of ours. Everything holds of an empty one.
func PublishedHolds(onlyIf string, p job.Published) (bool, error) {
	if onlyIf == "" {
		return true, nil
	}
	facts, err := Facts(job.Event{Type: p.Type, Subject: p.Subject, Time: p.At, Data: p.Data})
	if err != nil {
		return false, err
	}
	return hold(onlyIf, facts)
}

// Structured writes an event of ours as CloudEvents 1.0 has it in JSON (JSON Event Format, section 3). Its
// source is the address of this service, and link leads to what it is about. The number goes along by the
// extension "sequence" (CloudEvents, Sequence extension): of one subject the greater one is the later one.
func Structured(id, base string, p job.Published) ([]byte, error) {
	data := map[string]json.RawMessage{}
	if err := json.Unmarshal(p.Data, &data); err != nil {
		return nil, fmt.Errorf("read the event's data: %w", err)
	}
	if link := linkTo(base, p, data); link != "" {
		text, err := json.Marshal(link)
		if err != nil {
			return nil, err
		}
		data["link"] = text
	}
	return json.Marshal(struct {
		SpecVersion string                     `json:"specversion"`
		ID          string                     `json:"id"`
		Source      string                     `json:"source"`
		Type        string                     `json:"type"`
		Subject     string                     `json:"subject"`
		Time        string                     `json:"time"`
		Sequence    string                     `json:"sequence"`
		Media       string                     `json:"datacontenttype"`
		Data        map[string]json.RawMessage `json:"data"`
	}{
		"1.0", id, base, p.Type, p.Subject, p.At.UTC().Format(time.RFC3339Nano), fmt.Sprintf("%020d", p.No),
		"application/json", data,
	})
}

func linkTo(base string, p job.Published, data map[string]json.RawMessage) string {
	var run string
	_ = json.Unmarshal(data["run"], &run) // null, or not there: it is about no run
	switch {
	case strings.HasPrefix(p.Subject, "alerts/"):
		return base + "/" + p.Subject
	case run != "":
		return base + "/runs/" + run
	}
	return ""
}
