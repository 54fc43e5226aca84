package job

import "time"

// Looked is what is seen right now of what a trigger waits for. Nothing is started by it.
type Looked struct {
	Sentence string       `json:"sentence" doc:"what is there, and what it would do"`
	Failing  bool         `json:"failing,omitempty" doc:"it cannot be seen right now, as the sentence says"`
	Files    []LookedFile `json:"files,omitempty" doc:"the newest files that are meant, at most 20"`
	Columns  []string     `json:"columns,omitempty" doc:"of the answer"`
	Rows     [][]string   `json:"rows,omitempty" doc:"of the answer, at most 20"`
	Number   int64        `json:"number,omitempty" doc:"of the last such event, by which it can be played again; its attributes are the row"`
}

// LookedFile is a file that lies at a place.
type LookedFile struct {
	Path    string    `json:"path"`
	Size    int64     `json:"size"`
	Changed time.Time `json:"changed"`
}

// Waiting is a trigger that waits for what happens, and how far it has come.
type Waiting struct {
	Job        string             `json:"job"`
	Owner      string             `json:"owner"`
	On         bool               `json:"on" doc:"it would start now"`
	Zone       string             `json:"zone"`
	Rule       string             `json:"rule,omitempty" doc:"the rule by which its runs ring that then wait"`
	Sentence   string             `json:"sentence" doc:"how far it has come, such as: 2 of 3: waits for event ledger.closed since 17:40 GMT"`
	Runs       []RunID            `json:"runs,omitempty" doc:"runs that wait for it"`
	Starts     *time.Time         `json:"starts,omitempty" doc:"when what was gathered starts its run, if nothing more comes"`
	Conditions []WaitingCondition `json:"conditions"`
}

// WaitingCondition is one condition of a trigger.
type WaitingCondition struct {
	Reading string     `json:"reading" doc:"in words"`
	Came    *time.Time `json:"came,omitempty" doc:"when it came about; it counts still"`
	What    string     `json:"what,omitempty" doc:"what came about"`
	Looked  *time.Time `json:"looked,omitempty" doc:"when it was looked at last"`
	Next    *time.Time `json:"next,omitempty" doc:"when it is looked at next"`
	Failing string     `json:"failing,omitempty" doc:"why it cannot be seen"`
	Since   *time.Time `json:"since,omitempty" doc:"since when it cannot be seen"`
	Note    string     `json:"note,omitempty" doc:"what was passed over at the last look"`
	Usual   *time.Time `json:"usual,omitempty" doc:"by when it is usually there today, by its own past"`
	Late    *time.Time `json:"late,omitempty" doc:"from when on it is late by its own past"`
	Last    *time.Time `json:"last,omitempty" doc:"the last day on which it came, and when it did so first"`
	Missed  bool       `json:"missed,omitempty" doc:"it is late: it has not come today"`
}

// Expected is something that jobs wait for, on a day on which it usually is there.
type Expected struct {
	JobID   int64      `json:"job_id"`
	Job     string     `json:"job" doc:"that it starts, or whose runs it lets go"`
	Reading string     `json:"reading" doc:"what is waited for, in words"`
	By      time.Time  `json:"by" doc:"by then it is usually there"`
	Late    *time.Time `json:"late,omitempty" doc:"from then on it is late by its own past; none when the day ends before"`
	Why     string     `json:"why" doc:"what is gone by, in words"`
	Came    *time.Time `json:"came,omitempty" doc:"when it came, when the day is today and it did"`
}
