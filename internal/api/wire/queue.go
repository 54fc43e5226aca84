package wire

import (
	"time"

	"ironbell/internal/core/job"
)

// FreezeRequest holds back all that carries a label.
type FreezeRequest struct {
	Label  string     `json:"label" minLength:"1" maxLength:"250" doc:"service for everything, or source:name, destination:name, tag:name"`
	From   *time.Time `json:"from,omitempty" doc:"now when left out"`
	To     *time.Time `json:"to,omitempty" doc:"until it is lifted when left out"`
	Rings  string     `json:"rings,omitempty" enum:"wait,pass over" doc:"what becomes of rings meanwhile; wait when left out"`
	Reason string     `json:"reason,omitempty" maxLength:"500"`
}

// Queue is what works and what waits, on all nodes.
type Queue struct {
	Working []QueueLine    `json:"working"`
	Waiting []QueueLine    `json:"waiting" doc:"in the order of their turn, at most 500"`
	Waits   int            `json:"waits" doc:"how many wait in all"`
	Limits  map[string]int `json:"limits" doc:"how much may work at once, by label"`
	Freezes []job.Freeze   `json:"freezes" doc:"that hold or are to come"`
}

// QueueLine is one part of a run in the queue.
type QueueLine struct {
	RunID     job.RunID  `json:"run"`
	Part      int        `json:"part"`
	JobID     int64      `json:"job_id"`
	Job       string     `json:"job"`
	Rehearsal bool       `json:"rehearsal,omitempty"`
	Priority  int        `json:"priority"`
	Due       time.Time  `json:"due"`
	ReadyAt   time.Time  `json:"ready_at" doc:"when it may begin; when it gives up, if it waits for something to happen"`
	StartedAt *time.Time `json:"started_at,omitempty"`
	Node      string     `json:"node,omitempty"`
	Reason    string     `json:"reason" doc:"why it waits, or what works on it"`
}
