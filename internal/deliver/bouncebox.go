package deliver

import "ironbell/internal/core/job"

// BounceRecord is what the password of the mailbox for bounces is sealed for.
const BounceRecord = "mailbox for bounces"

// Bounces are the settings of the mailbox for bounces.
type Bounces struct {
	Mailbox
	Every job.Duration `json:"every,omitempty" doc:"between two looks; 1m when left out"`
}

// KeptBounces are these settings as they are kept.
type KeptBounces struct {
	Bounces
	Secret string `json:"secret,omitempty"` // sealed, in base64
}
