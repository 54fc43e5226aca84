// Package wire holds the bodies that go over the API, for the service and its
// client alike. They are data only.
package wire

import (
	"encoding/json"
	"time"

	"ironbell/internal/core/compare"
	"ironbell/internal/core/job"
)

// Credentials are what somebody signs in with.
type Credentials struct {
	Login    string `json:"login" minLength:"1" maxLength:"200"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// PasswordRequest gives whoever asks another password.
type PasswordRequest struct {
	Present string `json:"present" minLength:"1" maxLength:"1000"`
	Next    string `json:"next" minLength:"1" maxLength:"1000"`
}

// TokenRequest asks for an API token.
type TokenRequest struct {
	Credentials
	Name string `json:"name" minLength:"1" maxLength:"100" doc:"what the token is for"`
}

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

// AgainRequest asks for more of a run.
type AgainRequest struct {
	Whole  bool       `json:"whole,omitempty" doc:"make a new run from the start; otherwise this one goes on where it failed or was held"`
	Values job.Values `json:"values,omitempty" doc:"for a whole run, in place of those that were given"`
	Anyway bool       `json:"anyway,omitempty" doc:"send what is blank or unusual as it is"`

	Correction string `json:"correction,omitempty" maxLength:"2000" doc:"what was wrong with the run: a new one goes to those whom it reached, and its links end"`
}

// FreezeRequest holds back all that carries a label.
type FreezeRequest struct {
	Label  string     `json:"label" minLength:"1" maxLength:"250" doc:"service for everything, or source:name, destination:name, tag:name"`
	From   *time.Time `json:"from,omitempty" doc:"now when left out"`
	To     *time.Time `json:"to,omitempty" doc:"until it is lifted when left out"`
	Rings  string     `json:"rings,omitempty" enum:"wait,pass over" doc:"what becomes of rings meanwhile; wait when left out"`
	Reason string     `json:"reason,omitempty" maxLength:"500"`
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

// Queue is what works and what waits, on all nodes.
type Queue struct {
	Working []QueueLine    `json:"working"`
	Waiting []QueueLine    `json:"waiting" doc:"in the order of their turn, at most 500"`
	Waits   int            `json:"waits" doc:"how many wait in all"`
	Limits  map[string]int `json:"limits" doc:"how much may work at once, by label"`
	Freezes []Freeze       `json:"freezes" doc:"that hold or are to come"`
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
	ReadyAt   time.Time  `json:"ready_at" db:"ready_at" doc:"when it may begin; when it gives up, if it waits for something to happen"`
	StartedAt *time.Time `json:"started_at,omitempty"`
	Node      string     `json:"node,omitempty"`
	Reason    string     `json:"reason" db:"reason" doc:"why it waits, or what works on it"`
}

// Freeze is a time in which what carries a label does not begin.
type Freeze struct {
	ID        int64      `json:"id"`
	Label     string     `json:"label" doc:"service for everything, or source:name, destination:name, tag:name"`
	From      time.Time  `json:"from"`
	To        *time.Time `json:"to,omitempty" doc:"until it is lifted when left out"`
	Rings     string     `json:"rings" enum:"wait,pass over" doc:"what becomes of rings meanwhile"`
	Reason    string     `json:"reason,omitempty"`
	By        string     `json:"by"`
	CreatedAt time.Time  `json:"created_at"`
	LiftedAt  *time.Time `json:"lifted_at,omitempty"`
	LiftedBy  string     `json:"lifted_by,omitempty"`
}

// TaskKind says what a kind of task is for.
type TaskKind struct {
	Kind    job.TaskKind `json:"kind" enum:"report,collect,fetch,query,program,deliver,call,emit"`
	Summary string       `json:"summary"`
	Text    string       `json:"text" doc:"what it does, what comes out, and what can go wrong"`
	Example job.Task     `json:"example"`
}

// Heard is the answer to an event that was reported.
type Heard struct {
	Fresh   bool        `json:"fresh" doc:"no: an event of this source and id was reported before, and nothing was started again"`
	Started []job.RunID `json:"started" doc:"runs that it started or let begin"`
}

// Event is an event that was recorded.
type Event struct {
	job.Event
	Run     *job.RunID  `json:"run,omitempty" doc:"that raised it, when it did not come from outside"`
	Started []job.RunID `json:"started"`
}

// SettleRequest says what became of a delivery.
type SettleRequest struct {
	As string `json:"as" enum:"sent,failed,resend"`
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
	Kind   job.TaskKind `json:"kind" enum:"report,collect,fetch,query,program,deliver,call,emit"`
	Report string       `json:"report,omitempty" doc:"report that it runs"`
	After  []string     `json:"after" doc:"tasks that it follows"`
	OnlyIf string       `json:"only_if,omitempty"`
}

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
}

// ReportRequest is what is said of a report when it is saved.
type ReportRequest struct {
	Owner  string `json:"owner,omitempty" doc:"sign-in name; who saves it first when left out"`
	Anyway bool   `json:"anyway,omitempty" doc:"save it although jobs would no longer fit; their next runs fail and say why"`
	job.ReportDefinition
}

// ReportCheck is what a look at a report found before it is saved.
type ReportCheck struct {
	OK       bool            `json:"ok" doc:"it can be saved, and every job that uses it still fits"`
	Wrong    []Wrong         `json:"wrong" doc:"what keeps it from being saved"`
	Sections []job.Described `json:"sections" doc:"what its queries give"`
	Jobs     []JobTrouble    `json:"jobs" doc:"jobs that would no longer fit"`
}

// Wrong is one thing that is wrong.
type Wrong struct {
	Where    string `json:"where" doc:"such as sections[0].sql"`
	Sentence string `json:"sentence"`
}

// JobTrouble is a job that does not fit a changed report.
type JobTrouble struct {
	Job   string  `json:"job"`
	On    bool    `json:"on"`
	Wrong []Wrong `json:"wrong"`
}

// ReportPage is a report with what goes with it.
type ReportPage struct {
	job.Report
	Jobs []ReportUse `json:"jobs" doc:"jobs that use it"`
}

// ReportUse is a job that uses a report, with what it usually costs.
type ReportUse struct {
	Job   string `json:"job"`
	Owner string `json:"owner"`
	On    bool   `json:"on"`
}

// LookRequest says how somebody looks at a report: with which values, as whom.
type LookRequest struct {
	Definition *job.ReportDefinition `json:"definition,omitempty" doc:"a report that is being written, in place of the saved one"`
	Identity   string                `json:"identity,omitempty" doc:"in place of the report's"`
	Values     job.Values            `json:"values,omitempty"`
	Zone       string                `json:"zone,omitempty" doc:"in which moments are reckoned; your own when left out"`
	Date       *time.Time            `json:"date,omitempty" doc:"nominal date; now when left out"`
}

// PreviewRequest asks for the first rows of a report.
type PreviewRequest struct {
	LookRequest
	Sections []string `json:"sections,omitempty" maxItems:"50" doc:"all when left out"`
	Rows     int64    `json:"rows,omitempty" minimum:"1" maximum:"1000" doc:"of each section; 50 when left out"`
}

// RenderRequest asks for a report as a file.
type RenderRequest struct {
	LookRequest
	Output job.Output `json:"output"`
}

// CostRequest asks what outputs of a report would cost.
type CostRequest struct {
	LookRequest
	Outputs []job.Output `json:"outputs" minItems:"1" maxItems:"20"`
}

// Cost is what a report came to when it was made and thrown away.
type Cost struct {
	Rows   int64          `json:"rows"`
	TookMS int64          `json:"took_ms"`
	Files  []job.Artifact `json:"files" doc:"what they were called, and how large they were"`
	Says   []string       `json:"says,omitempty" doc:"what their readers should know"`
}

// Compared is how the rows of two runs of one job differ.
type Compared struct {
	Before   job.Run              `json:"before"`
	After    job.Run              `json:"after"`
	Task     string               `json:"task"`
	Sections []compare.Difference `json:"sections"`
}

// Identity is a login of a source as which reports may run. Its password is
// never shown.
type Identity struct {
	Source    string    `json:"source"`
	Name      string    `json:"name"`
	Login     string    `json:"login"`
	Choosers  []string  `json:"choosers" doc:"sign-in names of those who may choose it, beside administrators"`
	Sealed    bool      `json:"sealed" doc:"a password is kept"`
	UpdatedAt time.Time `json:"updated_at"`
}

// IdentityRequest is what is said of an identity when it is saved.
type IdentityRequest struct {
	Login    string   `json:"login" minLength:"1" maxLength:"200" doc:"its login at the source"`
	Choosers []string `json:"choosers,omitempty" maxItems:"500" doc:"sign-in names of those who may choose it, beside administrators"`
	Password *string  `json:"password,omitempty" maxLength:"1000" doc:"kept sealed; the one that is there when left out"`
}

// Place is a source or a destination. Its password is never shown.
type Place struct {
	ID        int64           `json:"id"`
	Name      string          `json:"name"`
	Protocol  string          `json:"protocol" doc:"postgres, mysql, sqlite, sqlserver, folder or http for a source, smtp, http, folder, smb, ftp, sftp, webdav, s3 or ipp for a destination"`
	Note      string          `json:"note,omitempty" doc:"what should be known of it, such as that its driver is untested"`
	Settings  json.RawMessage `json:"settings"`
	Sealed    bool            `json:"sealed" doc:"a password is kept, encrypted"`
	Pin       string          `json:"pin,omitempty" doc:"the host key that it showed at its first test; another one is refused"`
	Rests     *Rest           `json:"rests,omitempty" doc:"a destination that does not work: what waits for it is kept back until it does"`
	Revision  int64           `json:"revision,omitempty" doc:"rises with each change; give it back in If-Match when you save" required:"false"`
	Tested    *Tested         `json:"tested,omitempty" doc:"how the last test of a destination went; left out when it was not tested since it was saved"`
	UpdatedAt time.Time       `json:"updated_at"`
}

// Tested is how the last test of a destination went.
type Tested struct {
	At     time.Time `json:"at"`
	OK     bool      `json:"ok"`
	Answer string    `json:"answer,omitempty" doc:"what it answered when it failed"`
}

// Rest is why a destination rests.
type Rest struct {
	Since  time.Time  `json:"since"`
	Answer string     `json:"answer" doc:"what it answered last"`
	Advice string     `json:"advice,omitempty"`
	LookAt *time.Time `json:"look_at,omitempty" doc:"when it is looked at next"`
}

// DestinationPage is a destination with what goes there.
type DestinationPage struct {
	Place
	Kind    string           `json:"kind" enum:"mail,files" doc:"what goes there"`
	Waiting int              `json:"waiting" doc:"deliveries that are kept back while it rests"`
	Uses    []DestinationUse `json:"uses" doc:"jobs that send there, with what went in the last 30 days"`
	Latest  []job.Delivery   `json:"latest"`
}

// DestinationUse is a job that sends to a destination.
type DestinationUse struct {
	Job     string     `json:"job"`
	Owner   string     `json:"owner"`
	On      bool       `json:"on"`
	Sent    int        `json:"sent"`
	Waiting int        `json:"waiting"`
	Failed  int        `json:"failed" doc:"and bounced and unknown"`
	LastAt  *time.Time `json:"last_at,omitempty"`
}

// Link is a link to a run's files.
type Link struct {
	ID          int64      `json:"id"`
	RunID       job.RunID  `json:"run_id"`
	Job         string     `json:"job"`
	For         string     `json:"for" enum:"named,house"`
	Words       string     `json:"words" doc:"who may follow it, in words"`
	Named       []string   `json:"named,omitempty"`
	EndsAt      time.Time  `json:"ends_at"`
	CreatedAt   time.Time  `json:"created_at"`
	WithdrawnAt *time.Time `json:"withdrawn_at,omitempty"`
	WithdrawnBy string     `json:"withdrawn_by,omitempty"`
	Ended       bool       `json:"ended"`
	Follows     int        `json:"follows" doc:"how often it was followed"`
	LastAt      *time.Time `json:"last_at,omitempty"`
}

// LinkPage is what a link leads to.
type LinkPage struct {
	Link
	Files   []job.Artifact `json:"files"`
	Earlier []EarlierFiles `json:"earlier,omitempty" doc:"what earlier runs made, the newest first"`
}

// EarlierFiles is what an earlier run made of the files that a link leads to.
type EarlierFiles struct {
	RunID job.RunID      `json:"run_id"`
	Due   time.Time      `json:"due"`
	Zone  string         `json:"zone"`
	Files []job.Artifact `json:"files"`
}

// Count is how many something was done to.
type Count struct {
	N int64 `json:"n"`
}

// LastDone is when something was done last, and how that went.
type LastDone struct {
	At   *time.Time `json:"at,omitempty"`
	Word string     `json:"word,omitempty"`
}

// Copy tells whether this installation is a copy of another one.
type Copy struct {
	Since *time.Time `json:"since,omitempty" doc:"since when it stands still for that"`
	Why   string     `json:"why,omitempty" doc:"why it is taken for a copy"`
	Test  bool       `json:"test,omitempty" doc:"it is a copy for tests"`
	Named []string   `json:"named,omitempty" doc:"what a copy for tests acts on outside itself"`
}

// CopyRequest says what a copy is.
type CopyRequest struct {
	Sending string `json:"sending" enum:"all,one address,none" doc:"what leaves it from now on"`
	OnlyTo  string `json:"only_to,omitempty" maxLength:"254" doc:"the one address"`

	Named []string `json:"named,omitempty" maxItems:"200" doc:"what a copy for tests acts on: destination:NAME, source:NAME (statements), program:NAME, event:TYPE"`
}

// Node is a node of the service, as it says itself.
type Node struct {
	Name       string    `json:"name"`
	Version    string    `json:"version"`
	Zones      string    `json:"zones" doc:"version of its zone data"`
	StartedAt  time.Time `json:"started_at"`
	SeenAt     time.Time `json:"seen_at"`
	Finishing  bool      `json:"finishing,omitempty" doc:"it takes no more work"`
	Parts      int       `json:"parts" doc:"of runs, that it works on"`
	Deliveries int       `json:"deliveries" doc:"that it hands over"`
}

// FinishRequest lets a node finish, or work on.
type FinishRequest struct {
	Node string `json:"node" minLength:"1" maxLength:"200"`
	Work bool   `json:"work,omitempty" doc:"it takes work again"`
}

// AllowRequest says yes or no to mail that leaves the house.
type AllowRequest struct {
	Yes   bool      `json:"yes"`
	Until time.Time `json:"until,omitzero" doc:"until when the yes holds for all that the job sends there, at most a year; for this message alone when left out"`
}

// WithdrawRequest ends links.
type WithdrawRequest struct {
	Link int64 `json:"link,omitempty" doc:"which one; all of the run when left out"`
}

// ReleaseRequest says what becomes of what was kept back since nothing left the
// installation.
type ReleaseRequest struct {
	Send bool `json:"send" doc:"it goes out; otherwise it is dropped"`
}

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

// PlaceRequest is what is said of a source or destination when it is saved.
type PlaceRequest struct {
	Protocol string         `json:"protocol" enum:"postgres,mysql,sqlite,sqlserver,folder,http,smtp,smb,ftp,sftp,webdav,s3,ipp"`
	Settings map[string]any `json:"settings"`
	Password *string        `json:"password,omitempty" maxLength:"10000" doc:"kept as it is when left out"`
}

// Answer is what the other side of a test said.
type Answer struct {
	OK     bool     `json:"ok"`
	Said   string   `json:"said"`
	Advice string   `json:"advice,omitempty" doc:"what can be done when it refused"`
	Steps  []string `json:"steps,omitempty" doc:"what was done and answered, step by step"`
}

// Me is who is signed in.
type Me struct {
	job.Person
	Version string `json:"version" doc:"of the service"`
}

// Token is a new API token. Its text is shown once.
type Token struct {
	Token  string     `json:"token" doc:"send it as Authorization: Bearer"`
	Person job.Person `json:"person"`
	EndsAt time.Time  `json:"ends_at"`
}

// SignIn is a session or token that somebody has open.
type SignIn struct {
	job.SignIn
	This bool `json:"this" doc:"it is the one that asks"`
}

// EventTokenRequest asks for a token that only reports events.
type EventTokenRequest struct {
	Name  string           `json:"name" minLength:"1" maxLength:"100" doc:"what the token is for"`
	Days  int              `json:"days,omitempty" minimum:"1" maximum:"3660" default:"365" doc:"how long it holds"`
	Sends []job.EventGrant `json:"sends" minItems:"1" maxItems:"100" doc:"the events that it may report"`
}

// PersonRequest is what is said of a person when they are saved.
type PersonRequest struct {
	Name     string `json:"name" minLength:"1" maxLength:"200"`
	Mail     string `json:"mail" maxLength:"254" doc:"mail address"`
	Role     string `json:"role" enum:"administrator,owner,reader"`
	Zone     string `json:"zone" doc:"time zone, such as Europe/London"`
	Password string `json:"password,omitempty" maxLength:"1000" doc:"kept as it is when left out; at least 10 characters"`
}
