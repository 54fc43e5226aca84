package job

import "time"

// Message is what is sent: its bytes are made once and never change.
type Message struct {
	ID            int64     `json:"id" db:"id"`
	RunID         *RunID    `json:"run_id,omitempty" db:"run_id"`
	AlertID       *int64    `json:"alert_id,omitempty" db:"alert_id"`
	Part          int       `json:"part" db:"part"`
	Task          string    `json:"task" db:"task"`
	MessageID     string    `json:"message_id" db:"message_id"`
	Subject       string    `json:"subject" db:"subject"`
	DestinationID int64     `json:"destination_id" db:"destination_id"`
	Key           string    `json:"-" db:"key"`
	Size          int64     `json:"size" db:"size"`
	SHA256        string    `json:"sha256" db:"sha256"`
	CreatedAt     time.Time `json:"created_at" db:"created_at"`
}

// Delivery is the handing over of a message to one recipient, with a state and
// tries of its own.
type Delivery struct {
	ID            int64         `json:"id" db:"id"`
	MessageID     int64         `json:"message_id" db:"message_id"`
	RunID         *RunID        `json:"run_id,omitempty" db:"run_id"`
	AlertID       *int64        `json:"alert_id,omitempty" db:"alert_id"`
	JobID         *int64        `json:"job_id,omitempty" db:"job_id"`
	DestinationID int64         `json:"destination_id" db:"destination_id"`
	Destination   string        `json:"destination" db:"destination"`
	Address       string        `json:"address" db:"address"`
	Subject       string        `json:"subject" db:"subject"`
	MailID        string        `json:"mail_id" db:"mail_id" doc:"Message-ID of the mail"`
	State         DeliveryState `json:"state" db:"state" enum:"waiting,sending,offered,sent,failed,bounced,unknown"`
	Tries         int           `json:"tries" db:"tries"`
	ReadyAt       time.Time     `json:"ready_at" db:"ready_at" doc:"when it may be tried next"`
	Answer        string        `json:"answer,omitempty" db:"answer" doc:"what the other side said"`
	Advice        string        `json:"advice,omitempty" db:"advice"`
	Class         string        `json:"class,omitempty" db:"class"`
	OfferedAt     *time.Time    `json:"offered_at,omitempty" db:"offered_at"`
	SettledAt     *time.Time    `json:"settled_at,omitempty" db:"settled_at"`
	CreatedAt     time.Time     `json:"created_at" db:"created_at"`
}

// Alert is something that its owner must know.
type Alert struct {
	ID             int64      `json:"id" db:"id"`
	Kind           AlertKind  `json:"kind" db:"kind" enum:"run failed,delivery failed,delivery unknown,blank,unusual,late,missed"`
	Cause          string     `json:"cause" db:"cause" doc:"equal for what has one cause: one open alert, which grows"`
	State          AlertState `json:"state" db:"state" enum:"open,acknowledged,closed"`
	JobID          *int64     `json:"job_id,omitempty" db:"job_id"`
	Job            string     `json:"job" db:"job_name"`
	RunID          *RunID     `json:"run_id,omitempty" db:"run_id" doc:"the latest run"`
	Owner          string     `json:"owner" db:"owner"`
	Happened       string     `json:"happened" db:"happened" doc:"what happened"`
	ForWhom        string     `json:"for_whom,omitempty" db:"for_whom"`
	Tried          string     `json:"tried,omitempty" db:"tried"`
	Advice         string     `json:"advice,omitempty" db:"advice"`
	Count          int        `json:"count" db:"count" doc:"how often it happened"`
	OpenedAt       time.Time  `json:"opened_at" db:"opened_at"`
	LastAt         time.Time  `json:"last_at" db:"last_at"`
	AcknowledgedBy string     `json:"acknowledged_by,omitempty" db:"acknowledged_by"`
	AcknowledgedAt *time.Time `json:"acknowledged_at,omitempty" db:"acknowledged_at"`
	ClosedAt       *time.Time `json:"closed_at,omitempty" db:"closed_at"`
	Step           int        `json:"step" db:"step" doc:"0 the owner, 1 the administrators"`
	Told           string     `json:"told,omitempty" db:"told" doc:"who was told, and how that went"`
}

// AlertKind names a kind of alert.
type AlertKind string

// The kinds.
const (
	AlertRunFailed       AlertKind = "run failed"
	AlertDeliveryFailed  AlertKind = "delivery failed"
	AlertDeliveryUnknown AlertKind = "delivery unknown"
	AlertBlank           AlertKind = "blank"
	AlertUnusual         AlertKind = "unusual"
	AlertLate            AlertKind = "late"   // a deadline is near or past
	AlertMissed          AlertKind = "missed" // what a run waited for did not come
)

// Person is somebody who signs in or receives.
type Person struct {
	ID    int64  `json:"id" db:"id"`
	Login string `json:"login" db:"login"`
	Name  string `json:"name" db:"name"`
	Mail  string `json:"mail" db:"mail"`
	Role  Role   `json:"role" db:"role" enum:"administrator,owner,reader"`
	Zone  string `json:"zone" db:"zone"`
}

// Role is what a signed-in person may do.
type Role string

// The roles.
const (
	RoleAdministrator Role = "administrator" // everything
	RoleOwner         Role = "owner"         // reads everything, changes what is theirs
	RoleReader        Role = "reader"        // reads
)

// AlertSettings say how alerts are sent.
type AlertSettings struct {
	Destination string `json:"destination" minLength:"1" doc:"name of the destination that alert mails go over"`
}

// Notice is word of a change, to shorten a wait: what it is about and which.
type Notice struct {
	Kind string `json:"kind"` // jobs, parts, deliveries, alerts, or run
	ID   string `json:"id"`
}
