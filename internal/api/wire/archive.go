package wire

import (
	"time"

	"ironbell/internal/core/job"
)

// Archive is what is kept of what a job made.
type Archive struct {
	Job  string     `json:"job"`
	Days int        `json:"days" doc:"for how long the job keeps its files"`
	Runs []Archived `json:"runs" doc:"with files that are kept, the newest first"`
	More bool       `json:"more" doc:"there are older ones; ask with before"`
}

// Archived is a run of which files are kept.
type Archived struct {
	Run       job.RunID        `json:"run"`
	Nominal   time.Time        `json:"nominal" doc:"the date that it was for"`
	Due       time.Time        `json:"due"`
	Zone      string           `json:"zone"`
	State     job.RunState     `json:"state"`
	Version   int              `json:"version" doc:"of the job"`
	Reports   []ArchivedReport `json:"reports" doc:"with the versions that it took"`
	Open      int              `json:"open_links"`
	Withdrawn bool             `json:"withdrawn" doc:"a link to its files was withdrawn: they may be wrong"`
	Files     []ArchivedFile   `json:"files"`
}

// ArchivedReport is a report with the version that a run took.
type ArchivedReport struct {
	Name    string `json:"name"`
	Version int    `json:"version"`
}

// ArchivedFile is a file that is kept.
type ArchivedFile struct {
	job.Artifact
	PartName string    `json:"part_name,omitempty" doc:"of a run that is divided"`
	Until    time.Time `json:"until" doc:"when it is removed"`
}

// LinkRequest asks for a link to files of a run.
type LinkRequest struct {
	Files []int64  `json:"files" minItems:"1" maxItems:"100" doc:"their numbers"`
	For   string   `json:"for" enum:"named,house" doc:"named: only those who are named; house: everybody who can sign in"`
	Named []string `json:"named,omitempty" maxItems:"1000" doc:"addresses, person:login, group:name, post:name, under:name"`
	Days  int      `json:"days,omitempty" minimum:"0" maximum:"3660" doc:"days until it ends; 30 when left out"`
}

// NewLink is a link that was made.
type NewLink struct {
	Link
	Address string `json:"address" doc:"shown this once"`
}
