package wire

import (
	"time"

	"ironbell/internal/core/calendar"
)

// WhatIfRequest is a change that somebody thinks of: one thing, or several at once.
type WhatIfRequest struct {
	Job      *WhatIfJob      `json:"job,omitempty" doc:"a job as it would be saved"`
	Calendar *WhatIfCalendar `json:"calendar,omitempty" doc:"a calendar as it would be saved"`
	Limits   map[string]int  `json:"limits,omitzero" doc:"all limits as they would be; none when empty"`
	Freeze   *FreezeRequest  `json:"freeze,omitempty" doc:"a freeze as it would be"`
	Lift     int64           `json:"lift,omitempty" doc:"the number of a freeze that would end now"`

	From  *time.Time `json:"from,omitempty" doc:"now when left out"`
	To    *time.Time `json:"to,omitempty" doc:"92 days later when left out, for a calendar a year; at most 366 days"`
	Zone  string     `json:"zone,omitempty" doc:"the zone of the signed-in person when left out"`
	Limit *int       `json:"limit,omitempty" minimum:"0" maximum:"2000" doc:"changed rings that are told at most; 200 when left out"`
}

// WhatIfJob is a job as it would be saved.
type WhatIfJob struct {
	Name string `json:"name" minLength:"1" maxLength:"200"`
	JobRequest
}

// WhatIfCalendar is a calendar as it would be saved.
type WhatIfCalendar struct {
	Name string `json:"name" minLength:"1" maxLength:"200"`
	calendar.Definition
}

// WhatIf is what a change would do to the rings to come. Nothing has changed.
type WhatIf struct {
	From   time.Time    `json:"from"`
	To     time.Time    `json:"to" doc:"sooner than was asked when there are very many rings"`
	Zone   string       `json:"zone"`
	Says   string       `json:"says" doc:"what would change, in a sentence or a few"`
	Counts RingCounts   `json:"counts"`
	Before Load         `json:"before" doc:"the load as it is"`
	After  Load         `json:"after" doc:"the load as it would be"`
	Rings  []RingChange `json:"rings" doc:"rings that change, the first of them, by their time"`
	Jobs   []JobRings   `json:"jobs" doc:"the jobs of rings that change, by their first, at most 200"`

	Clashes []ClashChange `json:"clashes" doc:"clashes that change, at most 50"`
	AtOnce  int           `json:"at_once" doc:"runs that all nodes together work at once"`
	Notes   []string      `json:"notes" doc:"what should be known about the answer"`
}

// RingCounts are numbers of rings that change.
type RingCounts struct {
	Gone   int `json:"gone" doc:"rings that there are no more"`
	New    int `json:"new" doc:"rings that there were not"`
	Moved  int `json:"moved" doc:"rings at another time"`
	Later  int `json:"later" doc:"runs that begin a minute later or more, though they ring when they did"`
	Sooner int `json:"sooner" doc:"runs that begin a minute sooner or more, though they ring when they did"`
	Joined int `json:"joined" doc:"rings that join a run which still waits, and had one of their own"`
	Apart  int `json:"apart" doc:"rings that have a run of their own, and joined one"`
	Late   int `json:"late" doc:"runs that miss their deadline and did not; some of them are new, moved or later, too"`
	OnTime int `json:"on_time" doc:"runs that keep their deadline and did not"`
}

// Load is how much there is to do in a time.
type Load struct {
	Rings   int        `json:"rings"`
	Joined  int        `json:"joined" doc:"of these, rings that join a run which still waits"`
	Waiting int        `json:"waiting" doc:"runs that begin a minute later than they might, or later still"`
	Stuck   int        `json:"stuck" doc:"of these, runs that do not begin as far as can be seen"`
	Late    int        `json:"late" doc:"runs that miss their deadline"`
	Clashes int        `json:"clashes" doc:"stretches with more runs at work than the service works at once"`
	Hour    *time.Time `json:"hour,omitempty" doc:"the busiest hour"`
	Most    int        `json:"most" doc:"rings in it"`
	Working int        `json:"working" doc:"most runs at work at once, if each began when it rings"`
}

// RingChange is what becomes of one ring.
type RingChange struct {
	What   string  `json:"what" enum:"gone,new,moved,later,sooner,joined,apart,late,on time"`
	Was    *Coming `json:"was,omitempty" doc:"the ring as it is; passed, with the reason, when it is passed over"`
	Will   *Coming `json:"will,omitempty" doc:"the ring as it would be"`
	Late   bool    `json:"late,omitempty" doc:"it misses its deadline, and did not or did not ring"`
	OnTime bool    `json:"on_time,omitempty" doc:"it keeps its deadline, and did not"`
}

// JobRings are the rings of a job that change.
type JobRings struct {
	JobID  int64      `json:"job_id,omitempty" doc:"none when it is not saved yet"`
	Job    string     `json:"job"`
	Counts RingCounts `json:"counts"`
	First  RingChange `json:"first" doc:"the first of them"`
}

// ClashChange is a clash that is new, ends, or becomes worse or milder.
type ClashChange struct {
	Clash
	What string `json:"what" enum:"new,ends,worse,milder"`
	Was  int    `json:"was" doc:"most runs at work in it as it is"`
}
