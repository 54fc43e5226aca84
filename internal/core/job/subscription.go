package job

import (
	"encoding/json"
	"strings"
	"time"
)

// Subscription hands the service's own events on to an address.
type Subscription struct {
	ID   int64  `json:"id" db:"id"`
	Name string `json:"name" db:"name"`
	SubscriptionDefinition
	UpdatedAt time.Time `json:"updated_at" db:"updated_at"`
	Revision  int64     `json:"revision" db:"revision"`

	Mark   int64      `json:"mark" db:"mark" doc:"the number of the last event that was looked at for it"`
	Behind int64      `json:"behind" db:"behind" doc:"events that were published since, whether or not it wants them; 10000 at most are counted"`
	Open   int        `json:"open" db:"open" doc:"events that are on their way"`
	Sent   int        `json:"sent" db:"sent" doc:"events that were taken in the last 24 hours"`
	Failed int        `json:"failed" db:"failed" doc:"events that were given up in the last 24 hours"`
	LastAt *time.Time `json:"last_at,omitempty" db:"last_at" doc:"when the last one was taken"`
	Stands string     `json:"stands,omitempty" db:"stands" doc:"why nothing is handed on now"`
}

// SubscriptionDefinition is what is said of a subscription.
type SubscriptionDefinition struct {
	Note        string   `json:"note,omitempty" maxLength:"500" doc:"which program receives them, and whose"`
	Destination string   `json:"destination" minLength:"1" maxLength:"200" doc:"of the protocol http, with a key that requests are signed with"`
	Types       []string `json:"types" minItems:"1" maxItems:"20" doc:"of events, such as ironbell.run.ended, or how they begin, followed by *"`
	OnlyIf      string   `json:"only_if,omitempty" maxLength:"1000" doc:"what must hold of an event, such as event.data.state == 'failed'; all of its types when left out"`
	Off         bool     `json:"off,omitempty" doc:"nothing is handed on; what is published meanwhile follows when it is on again"`
}

// Wants tells whether it is for events of a type.
func (d SubscriptionDefinition) Wants(kind string) bool {
	for _, t := range d.Types {
		if begin, all := strings.CutSuffix(t, "*"); t == kind || all && strings.HasPrefix(kind, begin) {
			return true
		}
	}
	return false
}

// Types of the events that the service publishes.
const (
	PublishedRun         = "ironbell.run.ended"
	PublishedDelivery    = "ironbell.delivery.failed"
	PublishedAlertOpened = "ironbell.alert.opened"
	PublishedAlertClosed = "ironbell.alert.closed"
	PublishedCalendar    = "ironbell.calendar.changed"
)

// Published is an event that the service tells of itself.
type Published struct {
	No      int64           `json:"no" db:"no" doc:"in the order in which they are handed on; 0 as long as it has none"`
	Type    string          `json:"type" db:"type"`
	Subject string          `json:"subject" db:"subject" doc:"what it is about; of one subject each goes after the one before was taken"`
	At      time.Time       `json:"at" db:"at"`
	Data    json.RawMessage `json:"data" db:"data"`
}

// Replayed tells what a replay hands on again.
type Replayed struct {
	First  int64 `json:"first" doc:"number of the first event that is looked at again; 0 when there is none"`
	Events int   `json:"events" doc:"how many are looked at again, whether or not the subscription wants them"`
}
