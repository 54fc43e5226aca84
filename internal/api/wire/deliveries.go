package wire

import (
	"time"

	"ironbell/internal/core/job"
)

// SettleRequest says what became of a delivery.
type SettleRequest struct {
	As string `json:"as" enum:"sent,failed,resend"`
}

// Link is a link to a run's files.
type Link struct {
	ID          int64      `json:"id"`
	RunID       job.RunID  `json:"run_id"`
	Job         string     `json:"job"`
	For         string     `json:"for" enum:"named,house"`
	Words       string     `json:"words" doc:"who may follow it, in words"`
	Named       []string   `json:"named,omitempty"`
	EndsAt      time.Time  `json:"ends_at"`
	CreatedAt   time.Time  `json:"created_at"`
	WithdrawnAt *time.Time `json:"withdrawn_at,omitempty"`
	WithdrawnBy string     `json:"withdrawn_by,omitempty"`
	Ended       bool       `json:"ended"`
	Follows     int        `json:"follows" doc:"how often it was followed"`
	LastAt      *time.Time `json:"last_at,omitempty"`
}

// LinkPage is what a link leads to.
type LinkPage struct {
	Link
	Files   []job.Artifact `json:"files"`
	Earlier []EarlierFiles `json:"earlier,omitempty" doc:"what earlier runs made, the newest first"`
}

// EarlierFiles is what an earlier run made of the files that a link leads to.
type EarlierFiles struct {
	RunID job.RunID      `json:"run_id"`
	Due   time.Time      `json:"due"`
	Zone  string         `json:"zone"`
	Files []job.Artifact `json:"files"`
}

// Count is how many something was done to.
type Count struct {
	N int64 `json:"n"`
}

// AllowRequest says yes or no to mail to addresses outside the allowed domains.
type AllowRequest struct {
	Yes   bool      `json:"yes"`
	Until time.Time `json:"until,omitzero" doc:"until when the yes holds for all that the job sends there, at most a year; for this message alone when left out"`
}

// WithdrawRequest ends links.
type WithdrawRequest struct {
	Link int64 `json:"link,omitempty" doc:"which one; all of the run when left out"`
}

// ReleaseRequest says what becomes of what was kept back since nothing left the
// installation.
type ReleaseRequest struct {
	Send bool `json:"send" doc:"it goes out; otherwise it is dropped"`
}
