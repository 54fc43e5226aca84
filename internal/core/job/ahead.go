package job

import "time"

// Ahead is what a job would do when it rings next, told beforehand.
type Ahead struct {
	Zone  string       `json:"zone"`
	Says  string       `json:"says" doc:"in one paragraph, what it will do"`
	Next  []AheadRing  `json:"next" doc:"its next rings, at most 8; none when it has no rule"`
	Parts int          `json:"parts,omitempty" doc:"how many parts the run would have; left out when it is not divided"`
	Part  string       `json:"part,omitempty" doc:"the part whose files and recipients are told: the first"`
	Each  []AheadPart  `json:"each,omitempty" doc:"the parts, at most 200"`
	Tasks []AheadTask  `json:"tasks"`
	Wrong []AheadWrong `json:"wrong" doc:"what keeps it from being saved or switched on"`

	Covered []Covered `json:"covered,omitempty" doc:"triggers by whose rules and values days come into no report, or into two"`
}

// Covered tells which days of the coming three months come into no report of a trigger, or
// into several: its rule and its values looked at together.
type Covered struct {
	Trigger int      `json:"trigger" doc:"its place among the job's triggers, from 0"`
	Says    string   `json:"says" doc:"in a sentence"`
	Missed  []string `json:"missed" doc:"dates, at most 92"`
	Several []string `json:"several" doc:"dates, at most 92"`
}

// AheadRing is a ring to come.
type AheadRing struct {
	Due     time.Time `json:"due"`
	Nominal time.Time `json:"nominal" doc:"the date that its values go by"`
	Reading string    `json:"reading" doc:"its rule in words"`
}

// AheadPart is a part of a run that is divided.
type AheadPart struct {
	Name   string `json:"name"`
	Values Values `json:"values" doc:"its own"`
}

// AheadTask is what a task would make, or to whom it would hand over. Texts whose
// moving parts are known only when it runs stand as they are written.
type AheadTask struct {
	Task        string   `json:"task"`
	Kind        TaskKind `json:"kind"`
	Destination string   `json:"destination,omitempty"`
	Subject     string   `json:"subject,omitempty" doc:"of a mail"`
	FirstLine   string   `json:"first_line,omitempty" doc:"of a mail: what mail programs show beside the subject, where the job says it"`
	Body        string   `json:"body,omitempty" doc:"of a mail, as plain text; below it stand the tables that it shows"`
	Files       []string `json:"files,omitempty" doc:"names, with their folders"`
	To          []string `json:"to,omitempty" doc:"addresses, the first 200"`
	Recipients  int      `json:"recipients,omitempty" doc:"how many there are"`
	Seen        string   `json:"seen,omitempty" doc:"who will be able to see the result, in words"`
	Notes       []string `json:"notes,omitempty" doc:"who gets nothing, or in whose place somebody else gets it"`
	Wrong       string   `json:"wrong,omitempty" doc:"why nobody can tell, or what would fail"`
}

// AheadWrong is one thing that is wrong.
type AheadWrong struct {
	Where    string `json:"where,omitempty"`
	Sentence string `json:"sentence"`
}
