package wire

import (
	"ironbell/internal/core/compare"
	"ironbell/internal/core/job"
)

// AgainRequest asks for more of a run.
type AgainRequest struct {
	Whole  bool       `json:"whole,omitempty" doc:"make a new run from the start; otherwise this one goes on where it failed or was held"`
	Values job.Values `json:"values,omitempty" doc:"for a whole run, in place of those that were given"`
	Anyway bool       `json:"anyway,omitempty" doc:"send what is blank or unusual as it is"`

	Correction string `json:"correction,omitempty" maxLength:"2000" doc:"what was wrong with the run: a new one goes to those whom it reached, and its links end"`
}

// RunPage is all that a run's page shows.
type RunPage struct {
	job.Run
	Attempts       []job.Attempt             `json:"attempts" doc:"at most 1,000"`
	Comparable     bool                      `json:"comparable,omitempty" doc:"its rows were kept and can be compared with those of another run"`
	Artifacts      []job.Artifact            `json:"artifacts"`
	Deliveries     []job.Delivery            `json:"deliveries" doc:"at most 1,000, those that went wrong first"`
	DeliveryCounts map[job.DeliveryState]int `json:"delivery_counts" doc:"all its deliveries, by state"`
	Parts          []job.PartLine            `json:"parts,omitempty" doc:"of a run that is split: its parts, those that went wrong first, at most 500"`
	PartCount      int                       `json:"part_count" doc:"how many parts there are"`
	Links          []Link                    `json:"links,omitempty" doc:"links to its files"`
	Alerts         []job.Alert               `json:"alerts"`
	Values         job.Values                `json:"values" doc:"what the job gives its reports in the version that was run"`
	Tasks          []TaskLine                `json:"tasks" doc:"the job's tasks in order, in the version that was run"`
	Missing        []string                  `json:"missing,omitempty" doc:"what it still waits for"`
	Usual          *float64                  `json:"usual_seconds,omitempty"`
}

// TaskLine is a task in its chain.
type TaskLine struct {
	Name   string       `json:"name"`
	Kind   job.TaskKind `json:"kind" enum:"report,collect,fetch,convert,query,program,deliver,call,emit"`
	Report string       `json:"report,omitempty" doc:"report that it runs"`
	After  []string     `json:"after" doc:"tasks that it follows"`
	OnlyIf string       `json:"only_if,omitempty"`
}

// Compared is how the rows of two runs of one job differ.
type Compared struct {
	Before   job.Run              `json:"before"`
	After    job.Run              `json:"after"`
	Task     string               `json:"task"`
	Sections []compare.Difference `json:"sections"`
}
