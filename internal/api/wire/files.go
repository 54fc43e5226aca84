package wire

import (
	"time"

	"ironbell/internal/core/job"
)

// What stands in a file of a record, below its head. The same fields as in the requests that
// save it, without what the service gives.

// JobFile is what a job's file says.
type JobFile struct {
	Owner string `json:"owner" doc:"sign-in name of the person who is told of failures" required:"false"`
	On    bool   `json:"on" doc:"whether its triggers ring" required:"false"`
	job.Definition
}

// ReportFile is what a report's file says.
type ReportFile struct {
	Owner string `json:"owner" doc:"sign-in name; who saves it first when left out" required:"false"`
	job.ReportDefinition
}

// SourceFile is what a source's file says. The identities have files of their own.
type SourceFile struct {
	Driver   string         `json:"driver" enum:"postgres,mysql,sqlite,sqlserver,folder,http"`
	Settings map[string]any `json:"settings" doc:"as the driver takes them"`
	Password *string        `json:"password,omitempty" maxLength:"10000" doc:"kept as it is when left out, and never shown"`
}

// DestinationFile is what a destination's file says.
type DestinationFile struct {
	Protocol string         `json:"protocol" enum:"smtp,http,folder,smb,ftp,sftp,webdav,s3,ipp"`
	Settings map[string]any `json:"settings" doc:"as the protocol takes them"`
	Password *string        `json:"password,omitempty" maxLength:"10000" doc:"kept as it is when left out, and never shown"`
}

// PersonFile is what a person's file says; the record's name is their sign-in name.
type PersonFile struct {
	Name     string   `json:"name" minLength:"1" maxLength:"200"`
	Mail     string   `json:"mail,omitempty" maxLength:"254" doc:"mail address"`
	Role     job.Role `json:"role" enum:"administrator,owner,reader"`
	Zone     string   `json:"zone" doc:"time zone, such as Europe/London"`
	Password string   `json:"password,omitempty" maxLength:"1000" doc:"kept as it is when left out, and never shown; at least 10 characters"`
}

// RecordName names a record.
type RecordName struct {
	Kind string `json:"kind" doc:"job, report, calendar, source, identity, destination, person, wishes, group, post or setting"`
	Name string `json:"name"`
}

// RecordSaved is what became of a record that was saved from a file, or would.
type RecordSaved struct {
	RecordName
	What    string        `json:"what" enum:"new,changed,unchanged" doc:"unchanged: the file says what was so already, and nothing was saved"`
	Saved   bool          `json:"saved" doc:"false when it was only tried"`
	Changes []FieldChange `json:"changes" doc:"of a record that is changed: the fields that differ, at most 200"`
}

// FieldChange is a field of a record that is another one.
type FieldChange struct {
	Where string `json:"where" doc:"place in the record, such as tasks[0].report.report"`
	Was   string `json:"was,omitempty" doc:"as it would stand in a file; left out when there was none"`
	Now   string `json:"now,omitempty" doc:"left out when there is none any more"`
}

// RecordsRequest names records that are to be removed or brought back.
type RecordsRequest struct {
	Records []RecordName `json:"records" minItems:"1" maxItems:"500"`
	Try     bool         `json:"try,omitempty" doc:"of a removal: do nothing, and tell what it would mean"`
}

// Removal is what the removal of a record means.
type Removal struct {
	RecordName
	Needs []Dependent `json:"needs" doc:"records that need it, at most 100; as long as there are some it stays, unless they are removed with it"`
	Ends  []string    `json:"ends" doc:"what ends with it, in sentences"`
}

// Dependent is a record that needs another one.
type Dependent struct {
	RecordName
	How string `json:"how" doc:"such as: runs it"`
}

// RemovedRecord is a record that was removed and can be brought back.
type RemovedRecord struct {
	RecordName
	At    time.Time `json:"at"`
	By    string    `json:"by"`
	Until time.Time `json:"until" doc:"when it is gone for good, and its name is free"`
}

// Returned is what became of records that were brought back.
type Returned struct {
	Notes []string `json:"notes" doc:"what is not as it was, such as a job that came back switched off"`
}

// RenameRequest gives a record another name, or makes a copy of that name.
type RenameRequest struct {
	RecordName
	To  string `json:"to" minLength:"1" maxLength:"200"`
	Try bool   `json:"try,omitempty" doc:"of a new name: change nothing, and tell what would be rewritten"`
}

// Renamed is what was rewritten for a new name, or would be.
type Renamed struct {
	Changed []RecordName `json:"changed" doc:"records that speak of it, in which the name was rewritten"`
}

// FormerRequest names a former name of a record.
type FormerRequest struct {
	RecordName
	Former string `json:"former" minLength:"1" maxLength:"200"`
}
