package wire

import (
	"ironbell/internal/core/job"
)

// Heard is the answer to an event that was reported.
type Heard struct {
	Fresh   bool        `json:"fresh" doc:"no: an event of this source and id was reported before, and nothing was started again"`
	Started []job.RunID `json:"started" doc:"runs that it started or let begin"`
}

// Event is an event that was recorded.
type Event struct {
	job.Event
	Run     *job.RunID  `json:"run,omitempty" doc:"that raised it, when it did not come from outside"`
	Started []job.RunID `json:"started"`
}
