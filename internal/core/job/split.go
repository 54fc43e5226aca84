package job

// Split lets a job run once for each value of a list, or for each row of a query:
// one run with parts, each with its own values, files, recipients and outcome.
type Split struct {
	Each   string     `json:"each,omitempty" maxLength:"100" doc:"name of the value that each part has, such as port; the first column of the query is it"`
	Values []string   `json:"values,omitempty" maxItems:"20000" doc:"the values, when they are a list"`
	Query  *ListQuery `json:"query,omitempty" doc:"the query whose rows they come from; its other columns are values of the part, too, by their names"`
	Most   int        `json:"most,omitempty" minimum:"0" maximum:"100000" doc:"parts at most; more are a failure; 20000 when left out"`
}

// MostParts is how many parts a run has at most when its job says nothing.
const MostParts = 20_000

// ListQuery asks a source for a list.
type ListQuery struct {
	Source   string `json:"source" minLength:"1" doc:"name of the source"`
	Identity string `json:"identity,omitempty" maxLength:"200" doc:"identity of the source as which it is asked"`
	SQL      string `json:"sql" minLength:"1" maxLength:"200000" doc:"the query; parameters stand in it as :name"`

	Parameters []Parameter `json:"parameters,omitempty" maxItems:"100" doc:"its parameters; they get the job's values"`
}

// PartLine is one part of a run.
type PartLine struct {
	Part      int       `json:"part" db:"part"`
	Name      string    `json:"name" db:"name"`
	State     PartState `json:"state" db:"state" enum:"waiting,running,done,partly,blank,failed,cancelled"`
	Reason    string    `json:"reason,omitempty" db:"reason"`
	Sent      int       `json:"sent" db:"sent" doc:"deliveries that arrived"`
	Open      int       `json:"open" db:"open" doc:"deliveries that are still open"`
	NotSent   int       `json:"not_sent" db:"not_sent" doc:"deliveries that failed, bounced or are unknown"`
	Recipient string    `json:"recipient,omitempty" db:"recipient" doc:"one of those whom its deliveries go to"`
}
