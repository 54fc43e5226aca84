package wire

import (
	"time"

	"ironbell/internal/core/job"
)

// SwitchRequest turns a job on or off.
type SwitchRequest struct {
	On bool `json:"on"`
}

// RingRequest rings a job now.
type RingRequest struct {
	Values   job.Values `json:"values,omitempty" doc:"values that go before the job's"`
	Rehearse bool       `json:"rehearse,omitempty" doc:"everything runs for real, and the results go only to you"`
}

// PastRequest runs a job for past dates, as if it had rung then.
type PastRequest struct {
	RingRequest
	From string `json:"from" minLength:"1" maxLength:"10" doc:"first date, such as 2026-11-01"`
	To   string `json:"to,omitempty" maxLength:"10" doc:"last date, which is included; the first when left out"`
}

// Why is the answer to why a job ran, or did not.
type Why struct {
	Job     string   `json:"job"`
	Zone    string   `json:"zone"`
	Reasons []Reason `json:"reasons" doc:"the first one answers, the rest is what lies around it; at most 50"`
}

// Reason is one thing that happened to a job, did not, or will, with its cause.
type Reason struct {
	At       time.Time    `json:"at"`
	What     string       `json:"what" enum:"ring,run,coming,now" doc:"a decision on a due time, a run without one, a due time to come, or how things stand"`
	Sentence string       `json:"sentence"`
	Run      *job.RunID   `json:"run,omitempty"`
	State    job.RunState `json:"state,omitempty" doc:"of the run"`
}

// TaskKind says what a kind of task is for.
type TaskKind struct {
	Kind    job.TaskKind `json:"kind" enum:"report,collect,fetch,convert,query,program,deliver,call,emit"`
	Summary string       `json:"summary"`
	Text    string       `json:"text" doc:"what it does, what comes out, and what can go wrong"`
	Example job.Task     `json:"example"`
}

// JobLine is a job in a list, with how it stands.
type JobLine struct {
	ID       int64      `json:"id"`
	Name     string     `json:"name"`
	Owner    string     `json:"owner"`
	On       bool       `json:"on"`
	Zone     string     `json:"zone"`
	Readings []string   `json:"readings" doc:"each trigger's rule in words"`
	NextDue  *time.Time `json:"next_due,omitempty"`
	Last     *LastRun   `json:"last,omitempty"`
	Usual    *float64   `json:"usual_seconds,omitempty" doc:"how long its runs usually take"`
}

// LastRun is how the newest run of a job ended.
type LastRun struct {
	ID     job.RunID    `json:"id"`
	State  job.RunState `json:"state"`
	Reason string       `json:"reason"`
	Due    time.Time    `json:"due"`
}

// JobPage is all that a job's page shows.
type JobPage struct {
	job.Job
	Last     *LastRun    `json:"last,omitempty"`
	Usual    *float64    `json:"usual_seconds,omitempty"`
	Upcoming []time.Time `json:"upcoming" doc:"the next rings, at most 20, of the next 90 days"`
	Rings    []job.Ring  `json:"rings" doc:"the last decisions on its due times, newest first"`

	ReadAs map[string]string `json:"read_as,omitempty" doc:"as whom each report task reads, by task, such as Grey Skerry of tarnwick"`
}

// JobRequest is what is said of a job when it is saved.
type JobRequest struct {
	Owner string `json:"owner,omitempty" doc:"sign-in name; who saves it first when left out"`
	On    bool   `json:"on"`
	job.Definition
	Given

	Last         any `json:"last,omitempty" doc:"given by the service; what is sent is ignored"`
	UsualSeconds any `json:"usual_seconds,omitempty" doc:"given by the service; what is sent is ignored"`
	Upcoming     any `json:"upcoming,omitempty" doc:"given by the service; what is sent is ignored"`
	Rings        any `json:"rings,omitempty" doc:"given by the service; what is sent is ignored"`
	ReadAs       any `json:"read_as,omitempty" doc:"given by the service; what is sent is ignored"`
}

// Given is what the service gives of a record beside what is said of it. It may be sent back
// with it, so that what was read can be changed and saved, and is ignored.
type Given struct {
	ID        any `json:"id,omitempty" doc:"given by the service; what is sent is ignored"`
	Name      any `json:"name,omitempty" doc:"given by the service; what is sent is ignored"`
	Version   any `json:"version,omitempty" doc:"given by the service; what is sent is ignored"`
	UpdatedAt any `json:"updated_at,omitempty" doc:"given by the service; what is sent is ignored"`
	Revision  any `json:"revision,omitempty" doc:"given by the service; what is sent is ignored: If-Match says it"`
	RemovedAt any `json:"removed_at,omitempty" doc:"given by the service; what is sent is ignored"`
}

// AskedRequest asks which values a job takes.
type AskedRequest struct {
	Definition *JobRequest `json:"definition,omitempty" doc:"the job as it is being written; as it is saved when left out"`
	Trigger    *int        `json:"trigger,omitempty" minimum:"0" maximum:"50" doc:"place of the trigger that rings, from 0; none when left out"`
	Date       *time.Time  `json:"date,omitempty" doc:"the date that they are reckoned for; the trigger's next, or now, when left out"`
	Values     job.Values  `json:"values,omitempty" doc:"values that go before all others"`
}

// AskedValues are the values that a job takes for one ring.
type AskedValues struct {
	Zone    string    `json:"zone"`
	Nominal time.Time `json:"nominal" doc:"the date that they are reckoned for"`
	Values  []Asked   `json:"values"`
}

// Asked is a value that a job takes.
type Asked struct {
	job.Offered
	BySelf any    `json:"by_self,omitempty" doc:"what it is when nobody gives one"`
	From   string `json:"from" enum:"trigger,job,report,nothing" doc:"whose value that is"`
}
