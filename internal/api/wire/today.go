package wire

import (
	"time"

	"ironbell/internal/core/job"
)

// Day is a day of the tape: what ran, what is to come, and what needs somebody.
type Day struct {
	Date      string               `json:"date"`
	Zone      string               `json:"zone"`
	From      time.Time            `json:"from"`
	To        time.Time            `json:"to"`
	Now       time.Time            `json:"now"`
	Counts    map[job.RunState]int `json:"counts" doc:"runs of the day by state"`
	Runs      []Mark               `json:"runs" doc:"at most 3,000, the newest"`
	Upcoming  []Coming             `json:"upcoming" doc:"rings still to come today, at most 2,000"`
	Next      []Coming             `json:"next" doc:"the next rings, at most 8, of the next 7 days"`
	Attention []job.Alert          `json:"attention"`
	Running   []Mark               `json:"running"`
	Lateness  *float64             `json:"lateness_seconds,omitempty" doc:"median of start minus due of the day's runs that a rule rang"`
}

// Mark is a run on the tape.
type Mark struct {
	ID        job.RunID    `json:"id"`
	JobID     int64        `json:"job_id"`
	Job       string       `json:"job"`
	State     job.RunState `json:"state"`
	Reason    string       `json:"reason"`
	Due       time.Time    `json:"due"`
	StartedAt *time.Time   `json:"started_at,omitempty"`
	EndedAt   *time.Time   `json:"ended_at,omitempty"`
	Usual     *float64     `json:"usual_seconds,omitempty"`
}

// Coming is a ring to come.
type Coming struct {
	JobID   int64      `json:"job_id"`
	Job     string     `json:"job"`
	At      time.Time  `json:"at"`
	Usual   *float64   `json:"usual_seconds,omitempty"`
	Reading string     `json:"reading"`
	Nominal *time.Time `json:"nominal,omitempty" doc:"the date that the rule named, when a closed day moved it"`
	Passed  bool       `json:"passed,omitempty" doc:"it does not ring"`
	Reason  string     `json:"reason,omitempty" doc:"why it was moved or is passed over"`
	Begins  *time.Time `json:"begins,omitempty" doc:"when its run begins, when runs take as long as usual; none when it is not in sight; told by forecasts of all jobs"`
	Waits   string     `json:"waits,omitempty" doc:"why its run begins later than it might"`
	Joins   bool       `json:"joins,omitempty" doc:"it has no run of its own, and joins one that has not begun then"`
	Late    bool       `json:"late,omitempty" doc:"its run misses its deadline"`
}
