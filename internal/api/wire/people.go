package wire

import (
	"time"

	"ironbell/internal/core/job"
)

// Whom is whom some recipients come to now.
type Whom struct {
	Addresses []string `json:"addresses"`
	Notes     []string `json:"notes,omitempty" doc:"who gets nothing now, or in whose place somebody else does"`
	Wrong     []Wrong  `json:"wrong,omitempty"`
}

// WhomRequest asks whom some recipients come to.
type WhomRequest struct {
	To []string `json:"to" maxItems:"1000"`
}

// Receives is a job that sends to a person.
type Receives struct {
	Job      string     `json:"job"`
	JobID    int64      `json:"job_id"`
	Sent     int        `json:"sent"`
	LastAt   *time.Time `json:"last_at,omitempty"`
	Last     string     `json:"last" doc:"state of the latest delivery"`
	Left     bool       `json:"left" doc:"they took themselves off its list"`
	MayLeave bool       `json:"may_leave"`
}

// GroupRequest saves a group.
type GroupRequest struct {
	Members []string `json:"members" maxItems:"10000" doc:"addresses, person:login, group:name, post:name, under:name; several in one text separated by commas, semicolons or lines"`
}

// PostRequest saves a post.
type PostRequest struct {
	Under   string   `json:"under,omitempty" maxLength:"200" doc:"the post that it stands under"`
	Holders []string `json:"holders" maxItems:"100" doc:"sign-in names of the people who hold it"`
}

// PersonRequest is what is said of a person when they are saved.
type PersonRequest struct {
	Name     string `json:"name" minLength:"1" maxLength:"200"`
	Mail     string `json:"mail" maxLength:"254" doc:"mail address"`
	Role     string `json:"role" enum:"administrator,owner,reader"`
	Zone     string `json:"zone" doc:"time zone, such as Europe/London"`
	Password string `json:"password,omitempty" maxLength:"1000" doc:"kept as it is when left out; at least 10 characters"`
}

// Mine is what concerns the signed-in person: what they get, what they may get, what waits for
// their word. What they own is found by their sign-in name.
type Mine struct {
	Receives   []Receives        `json:"receives" doc:"jobs that sent to them in the last 30 days"`
	Open       []OpenJob         `json:"open" doc:"jobs whose mails are open to them, with whether they joined"`
	Schedules  []OwnScheduleLine `json:"schedules" doc:"own schedules"`
	ToSchedule []OpenReport      `json:"to_schedule" doc:"reports that are open to own schedules of theirs"`
	Alerts     []job.Alert       `json:"alerts" doc:"alerts of theirs that are not closed"`
	Unknown    []Asking          `json:"unknown" doc:"deliveries of their jobs of which nobody knows whether they arrived, at most 200"`
	Consents   []Asking          `json:"consents" doc:"deliveries that wait for a second person's yes, which they may give, at most 200"`
	Jobs       []JobLine         `json:"jobs" doc:"jobs that they own, beside own schedules"`
	Reports    []string          `json:"reports" doc:"names of the reports that they own"`
}

// OpenJob is a job whose mails somebody may join.
type OpenJob struct {
	JobID  int64  `json:"job_id"`
	Job    string `json:"job"`
	Owner  string `json:"owner" doc:"name of its owner"`
	Says   string `json:"says" doc:"when it rings, in words"`
	On     bool   `json:"on"`
	Joined bool   `json:"joined"`
}

// Asking is a delivery that waits for a person's word.
type Asking struct {
	Delivery int64     `json:"delivery"`
	Run      job.RunID `json:"run"`
	JobID    int64     `json:"job_id"`
	Job      string    `json:"job"`
	Address  string    `json:"address"`
	Since    time.Time `json:"since"`
}

// OwnScheduleLine is an own schedule in a list.
type OwnScheduleLine struct {
	JobLine
	job.OwnSchedule
}

// OpenReport is a report that somebody may have sent to themselves.
type OpenReport struct {
	Report string `json:"report"`
	Title  string `json:"title"`
	Owner  string `json:"owner" doc:"sign-in name"`
	Asks   int    `json:"asks" doc:"how many values it asks for"`
}
