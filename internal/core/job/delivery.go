package job

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Message is what is sent, a mail or a file: its bytes are made once and never
// change.
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
	Name          string    `json:"name,omitempty" db:"name" doc:"of a file"`
	MediaType     string    `json:"media_type,omitempty" db:"media_type" doc:"of a file"`
	IfExists      IfExists  `json:"if_exists,omitempty" db:"if_exists" doc:"of a file"`
	Stamp         string    `json:"-" db:"stamp"`
	MayLeave      bool      `json:"-" db:"may_leave"`
	CreatedAt     time.Time `json:"created_at" db:"created_at"`
}

// KeptBack says why a delivery that waits is kept back.
type KeptBack string

// The reasons.
const (
	KeptForRest   KeptBack = "rest"   // its destination rests
	KeptForYes    KeptBack = "yes"    // a second person has to say yes
	KeptForSilent KeptBack = "silent" // the installation sends nothing
	KeptForTurn   KeptBack = "turn"   // an event about the same subject goes before it
)

// Delivery is the handing over of a message to one recipient, with a state and
// tries of its own.
type Delivery struct {
	ID            int64         `json:"id" db:"id"`
	MessageID     int64         `json:"message_id" db:"message_id"`
	RunID         *RunID        `json:"run_id,omitempty" db:"run_id"`
	AlertID       *int64        `json:"alert_id,omitempty" db:"alert_id"`
	Subscription  string        `json:"subscription,omitempty" db:"subscription" doc:"which it belongs to, when it is an event of ours"`
	JobID         *int64        `json:"job_id,omitempty" db:"job_id"`
	DestinationID int64         `json:"destination_id" db:"destination_id"`
	Destination   string        `json:"destination" db:"destination"`
	Part          int           `json:"part,omitempty" db:"part"`
	Address       string        `json:"address" db:"address" doc:"a mail address, or the path of a file below its destination"`
	WentTo        string        `json:"went_to,omitempty" db:"went_to" doc:"where a file went in the end, when there was one of its name"`
	MeantFor      string        `json:"meant_for,omitempty" db:"meant_for" doc:"whom it was meant for, when all mail goes to one address"`
	YesUntil      *time.Time    `json:"yes_until,omitempty" db:"yes_until" doc:"until when a second person may say yes"`
	TakenAs       string        `json:"taken_as,omitempty" db:"taken_as" doc:"what the other side calls what it took"`
	SHA256        string        `json:"sha256,omitempty" db:"sha256" doc:"of the bytes that are sent"`
	KeptBack      KeptBack      `json:"kept_back,omitempty" db:"kept_back" enum:"rest,yes,silent,turn" doc:"why it is kept back: its destination rests, a second person has to say yes, the installation sends nothing, or an event about the same subject goes before it"`
	Size          int64         `json:"size" db:"size"`
	Subject       string        `json:"subject" db:"subject"`
	MailID        string        `json:"mail_id" db:"mail_id" doc:"Message-ID of the mail"`
	State         DeliveryState `json:"state" db:"state" enum:"waiting,sending,offered,taken,sent,failed,bounced,unknown,declined"`
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
	Kind           AlertKind  `json:"kind" db:"kind" enum:"run failed,delivery failed,delivery unknown,bounced,blank,unusual,late,missed,down,set apart,consent wanted"`
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
	Next           string     `json:"next,omitempty" db:"next" doc:"what happens next"`
	Urgent         bool       `json:"urgent,omitempty" db:"urgent" doc:"quiet hours do not hold it back"`
	Unreached      bool       `json:"unreached,omitempty" db:"unreached" doc:"nobody could be told of it yet"`
	Count          int        `json:"count" db:"count" doc:"how often it happened"`
	OpenedAt       time.Time  `json:"opened_at" db:"opened_at"`
	LastAt         time.Time  `json:"last_at" db:"last_at"`
	AcknowledgedBy string     `json:"acknowledged_by,omitempty" db:"acknowledged_by"`
	AcknowledgedAt *time.Time `json:"acknowledged_at,omitempty" db:"acknowledged_at"`
	ClosedAt       *time.Time `json:"closed_at,omitempty" db:"closed_at"`
	Step           int        `json:"step" db:"step" doc:"who is told next: 0 the owner, 1 the second owner, 2 the administrators, 3 the call"`
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
	AlertBounced         AlertKind = "bounced"
	AlertDown            AlertKind = "down"           // a destination, a source, the store of artifacts, the mailbox
	AlertApart           AlertKind = "set apart"      // its rings cannot be decided on
	AlertConsent         AlertKind = "consent wanted" // a second person has to say yes
)

// Person is somebody who signs in or receives.
type Person struct {
	ID    int64  `json:"id" db:"id"`
	Login string `json:"login" db:"login"`
	Name  string `json:"name" db:"name"`
	Mail  string `json:"mail" db:"mail"`
	Role  Role   `json:"role" db:"role" enum:"administrator,owner,reader"`
	Zone  string `json:"zone" db:"zone"`

	Revision int64 `json:"revision,omitempty" db:"revision" doc:"rises with each change; give it back in If-Match when you save" required:"false"`

	Wishes Wishes `json:"wishes,omitzero" db:"wishes"`
}

// Wishes are what a person wants for the mails that they get. They set them
// themselves.
type Wishes struct {
	Language    string     `json:"language,omitempty" maxLength:"20" doc:"in which the service writes to them: its texts, dates and numbers in mails, alerts and digests, such as de or en-GB"`
	QuietFrom   string     `json:"quiet_from,omitempty" maxLength:"5" doc:"time of day in their zone from which alerts that are not urgent wait, such as 22:00"`
	QuietTo     string     `json:"quiet_to,omitempty" maxLength:"5" doc:"and until when, such as 06:30"`
	DigestAt    string     `json:"digest_at,omitempty" maxLength:"5" doc:"time of day in their zone at which a digest of what needs them comes; none when left out"`
	PausedFrom  *time.Time `json:"paused_from,omitempty" doc:"from when they get no reports; at once when left out"`
	PausedUntil *time.Time `json:"paused_until,omitempty" doc:"until when they get no reports"`
	MailWanted  string     `json:"mail_wanted,omitempty" maxLength:"320" doc:"own address outside the allowed domains that waits for an administrator, given by the service" required:"false"`
	StandIn     string     `json:"stand_in,omitempty" maxLength:"100" doc:"sign-in name of who gets their reports and alerts meanwhile; what they alone may say goes to nobody else"`
	TellSuccess bool       `json:"tell_success,omitempty" doc:"they are told once when a run of a job of theirs is done"`
}

// OwnSettings are what a person says about themselves: what they wish, and where
// and when they are reached. What is left out of the latter stays as it is.
type OwnSettings struct {
	Wishes
	Mail *string `json:"mail,omitempty" maxLength:"320" doc:"their own address"`
	Zone *string `json:"zone,omitempty" maxLength:"100" doc:"their own time zone, such as Europe/London"`
}

// Scan reads wishes from JSON.
func (w *Wishes) Scan(src any) error {
	switch text := src.(type) {
	case []byte:
		return json.Unmarshal(text, w)
	case string:
		return json.Unmarshal([]byte(text), w)
	}
	return fmt.Errorf("a %T holds no wishes", src)
}

// Away tells whether a person gets no reports at an instant.
func (w Wishes) Away(now time.Time) bool {
	return w.PausedUntil != nil && w.PausedUntil.After(now) && (w.PausedFrom == nil || !w.PausedFrom.After(now))
}

// Quiet tells until when alerts that are not urgent wait at an instant, which is
// given in the person's zone; ok is false when they need not.
func (w Wishes) Quiet(now time.Time) (until time.Time, ok bool) {
	if w.QuietFrom == "" || w.QuietTo == "" || w.QuietFrom == w.QuietTo {
		return time.Time{}, false
	}
	clock := now.Format("15:04")
	inside := clock >= w.QuietFrom && clock < w.QuietTo
	if w.QuietFrom > w.QuietTo { // over midnight
		inside = clock >= w.QuietFrom || clock < w.QuietTo
	}
	if !inside {
		return time.Time{}, false
	}
	return NextClock(w.QuietTo, now), true
}

// NextClock is the next instant after one at which a clock in its zone shows a
// time of day, given as 15:04.
func NextClock(clock string, after time.Time) time.Time {
	at, err := time.Parse("15:04", clock)
	if err != nil {
		return after.AddDate(0, 0, 1)
	}
	next := time.Date(after.Year(), after.Month(), after.Day(), at.Hour(), at.Minute(), 0, 0, after.Location())
	if !next.After(after) {
		next = time.Date(after.Year(), after.Month(), after.Day()+1, at.Hour(), at.Minute(), 0, 0, after.Location())
	}
	return next
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
	Destination    string   `json:"destination" minLength:"1" doc:"name of the mail server that alerts go over"`
	Standby        string   `json:"standby,omitempty" doc:"name of another mail server, for when the first one is down"`
	Call           string   `json:"call,omitempty" doc:"name of a destination of the protocol http that is called when nobody else has answered"`
	Second         Duration `json:"second_after,omitempty" doc:"how long the owner has to acknowledge an alert before the second owner is told; 15m when left out"`
	Administrators Duration `json:"administrators_after,omitempty" doc:"and how long those before until the administrators are told; 30m when left out"`
	CallAfter      Duration `json:"call_after,omitempty" doc:"and how long they until the call; 30m when left out"`
	Repeat         Duration `json:"repeat,omitempty" doc:"after how long all are told again while nobody acknowledges the alert; 4h when left out"`
}

// WithDefaults fills in what was left out.
func (s AlertSettings) WithDefaults() AlertSettings {
	for d, otherwise := range map[*Duration]time.Duration{
		&s.Second: 15 * time.Minute, &s.Administrators: 30 * time.Minute, &s.CallAfter: 30 * time.Minute,
		&s.Repeat: 4 * time.Hour,
	} {
		if *d == 0 {
			*d = Duration(otherwise)
		}
	}
	return s
}

// MailSettings are the house's own for all mails that jobs send.
type MailSettings struct {
	Subject  string   `json:"subject,omitempty" maxLength:"500" doc:"of mails whose job gives none, with moving parts"`
	Body     string   `json:"body,omitempty" maxLength:"100000" doc:"of mails whose job gives none, with moving parts"`
	ReplyTo  string   `json:"reply_to,omitempty" maxLength:"254" doc:"address that answers go to when the job names none"`
	Wanted   []string `json:"wanted_domains,omitempty" maxItems:"1000" doc:"domains that one administrator wants; they count once a second one saves the same, given by the service" required:"false"`
	WantedBy string   `json:"wanted_by,omitempty" maxLength:"100" doc:"sign-in name of who wants them, given by the service" required:"false"`
	Domains  []string `json:"domains,omitempty" maxItems:"1000" doc:"domains that mail goes to; what is for others waits for a second person's yes; all when left out"`

	Sending Sending `json:"sending,omitempty" enum:"all,one address,none" doc:"what leaves this installation: everything, all mails to one address, or nothing; all when left out"`
	OnlyTo  string  `json:"only_to,omitempty" maxLength:"254" doc:"the one address"`
}

// Sending says what leaves an installation.
type Sending string

// The choices; the first is the default.
const (
	SendAll  Sending = "all"
	SendOne  Sending = "one address"
	SendNone Sending = "none"
)

// TestCopy says that an installation is a copy for tests. It acts on nothing outside
// itself beyond what is named for it; mail goes by the settings of mail.
type TestCopy struct {
	Named []string `json:"named,omitempty"` // labels: destination:NAME, source:NAME, program:NAME, event:TYPE
	Files string   `json:"files,omitempty"` // the original's store of artifacts, of which nothing is removed
}

// Leaves tells whether a copy for tests acts on something; an installation that is
// none acts on everything.
func (c *TestCopy) Leaves(label string) bool {
	return c == nil || slices.ContainsFunc(c.Named, func(n string) bool { return strings.EqualFold(n, label) })
}

// MayReceive tells whether mail goes to an address without a second person's yes.
func (s MailSettings) MayReceive(address string) bool {
	if len(s.Domains) == 0 {
		return true
	}
	domain := strings.ToLower(address[strings.LastIndexByte(address, '@')+1:])
	for _, d := range s.Domains {
		d = strings.ToLower(strings.TrimPrefix(strings.TrimSpace(d), "@"))
		if domain == d || strings.HasSuffix(domain, "."+d) {
			return true
		}
	}
	return false
}
