package job

// Task is one step of a job. It begins when the tasks that it follows have
// ended; package chain reads the order.
type Task struct {
	Name       string   `json:"name" minLength:"1" maxLength:"100"`
	Kind       TaskKind `json:"kind" enum:"report,collect,fetch,convert,query,program,deliver,call,emit"`
	After      []string `json:"after,omitzero" maxItems:"50" doc:"tasks that it follows; an empty list begins at once; the task before it in the list when left out"`
	OnlyIf     string   `json:"only_if,omitempty" maxLength:"2000" doc:"condition without which it is passed over, such as rows >= 10"`
	IfFailed   IfFailed `json:"if_failed,omitempty" enum:"stop,go on" doc:"what to do with the tasks after it when it fails; stop when left out"`
	Uses       []string `json:"uses,omitempty" maxItems:"50" doc:"tasks whose files it takes; all that come before it when left out"`
	TimeLimit  Duration `json:"time_limit,omitempty" doc:"longest time for this task; the job's when left out"`
	Repeatable bool     `json:"repeatable,omitempty" doc:"it may be done a second time when its node died in the middle, and in a rehearsal"`

	Report  *ReportTask  `json:"report,omitempty" doc:"for the kind report"`
	Collect *CollectTask `json:"collect,omitempty" doc:"for the kind collect"`
	Fetch   *FetchTask   `json:"fetch,omitempty" doc:"for the kind fetch"`
	Convert *ConvertTask `json:"convert,omitempty" doc:"for the kind convert"`
	Query   *QueryTask   `json:"query,omitempty" doc:"for the kind query"`
	Program *ProgramTask `json:"program,omitempty" doc:"for the kind program"`
	Deliver *DeliverTask `json:"deliver,omitempty" doc:"for the kind deliver"`
	Call    *CallTask    `json:"call,omitempty" doc:"for the kind call"`
	Emit    *EmitTask    `json:"emit,omitempty" doc:"for the kind emit"`
}

// TaskKind names a kind of task.
type TaskKind string

// The kinds.
const (
	KindReport  TaskKind = "report"
	KindCollect TaskKind = "collect"
	KindFetch   TaskKind = "fetch"
	KindConvert TaskKind = "convert"
	KindQuery   TaskKind = "query"
	KindProgram TaskKind = "program"
	KindDeliver TaskKind = "deliver"
	KindCall    TaskKind = "call"
	KindEmit    TaskKind = "emit"
)

// Makes tells whether tasks of this kind find something, so that they can come
// back blank. The others act on what was found, and are held when it is blank.
func (k TaskKind) Makes() bool {
	return k == KindReport || k == KindCollect || k == KindFetch || k == KindConvert
}

// Effects tells whether an interrupted task of this kind may have changed
// something outside, so that it is not repeated unseen.
func (k TaskKind) Effects() bool { return k == KindProgram || k == KindCall || k == KindQuery }

// IfFailed says what becomes of the tasks after one that failed.
type IfFailed string

// The choices; the first is the default.
const (
	FailedStop IfFailed = "stop"
	FailedGoOn IfFailed = "go on"
)

// Says tells which of the kinds' settings are given, by name.
func (t Task) Says() []TaskKind {
	var kinds []TaskKind
	for _, s := range []struct {
		kind  TaskKind
		given bool
	}{
		{KindReport, t.Report != nil},
		{KindCollect, t.Collect != nil},
		{KindFetch, t.Fetch != nil},
		{KindConvert, t.Convert != nil},
		{KindQuery, t.Query != nil},
		{KindProgram, t.Program != nil},
		{KindDeliver, t.Deliver != nil},
		{KindCall, t.Call != nil},
		{KindEmit, t.Emit != nil},
	} {
		if s.given {
			kinds = append(kinds, s.kind)
		}
	}
	return kinds
}

// ReportTask runs a report and makes a file of each output.
type ReportTask struct {
	Report   string   `json:"report" minLength:"1" doc:"name of the report"`
	Identity string   `json:"identity,omitempty" maxLength:"200" doc:"identity of the source as which its queries run, in place of the report's; with moving parts"`
	Outputs  []Output `json:"outputs" minItems:"1" maxItems:"20"`

	Values map[string]string `json:"values,omitempty" maxProperties:"100" doc:"values of its parameters for this task alone, in place of the job's, with moving parts, such as {cell(\"port\")} of the first row of a task before"`

	Counts  []string `json:"counts,omitempty" maxItems:"50" doc:"sections that count for being blank; tables and charts when left out"`
	BlankIf string   `json:"blank_if,omitempty" maxLength:"2000" doc:"condition under which the result is blank although it has rows, such as total(\"litres\") == 0.0"`
	Takes   []string `json:"takes,omitempty" doc:"parameters that the report had when the job was saved, given by the service" required:"false"`
	NoRows  bool     `json:"no_rows,omitempty" doc:"keep no rows beside the files, by which two runs are compared"`
}

// CollectTask picks files up from a source that is a folder.
type CollectTask struct {
	Source      string     `json:"source,omitempty" maxLength:"200" doc:"name of a source of the kind folder; or name a destination"`
	Destination string     `json:"destination,omitempty" maxLength:"200" doc:"name of a destination whose setting taking lets jobs collect: a folder, an SFTP, FTP, WebDAV or SMB server, an object store"`
	Pattern     string     `json:"pattern" minLength:"1" maxLength:"300" doc:"file name with * and ?, and moving parts, such as tide_{date:%Y%m%d}_*.csv; at a destination a path below its root, with ** for any folders"`
	Take        Take       `json:"take,omitempty" enum:"newest,all,one" doc:"newest, all, or one, which fails when there are several; newest when left out"`
	OnlyNew     bool       `json:"only_new,omitempty" doc:"of a destination: only what no good run of the job has collected before; a file of other size or time is new"`
	Settled     Duration   `json:"settled,omitempty" doc:"how long a file must be unchanged to be complete; 5s when left out"`
	Largest     int64      `json:"largest,omitempty" minimum:"0" doc:"bytes that a file may have; 1 GiB when left out"`
	Afterwards  Afterwards `json:"afterwards,omitempty" enum:"leave,move,remove" doc:"what becomes of the files there once the run is done; leave when left out"`
	Folder      string     `json:"folder,omitempty" maxLength:"300" doc:"folder below the destination's root that files are moved to, with moving parts, such as done/{date:%Y-%m}"`
}

// Afterwards says what becomes of files that were collected.
type Afterwards string

// The choices; the first is the default.
const (
	AfterwardsLeave  Afterwards = "leave"
	AfterwardsMove   Afterwards = "move"
	AfterwardsRemove Afterwards = "remove"
)

// Take says which of several files are picked up.
type Take string

// The choices; the first is the default.
const (
	TakeNewest Take = "newest"
	TakeAll    Take = "all"
	TakeOne    Take = "one"
)

// FetchTask downloads a file over HTTP.
type FetchTask struct {
	URL     string            `json:"url" minLength:"1" maxLength:"2000" doc:"address with moving parts; with a source a path below its address"`
	Source  string            `json:"source,omitempty" doc:"a source of the driver http, whose token is sent"`
	Headers map[string]string `json:"headers,omitempty" doc:"request headers, but for those that sign in: everybody reads a job"`
	Name    string            `json:"name,omitempty" maxLength:"300" doc:"file name with moving parts; as the address or the server says when left out"`
	Largest int64             `json:"largest,omitempty" minimum:"0" doc:"bytes that the file may have; 100 MiB when left out"`
}

// ConvertTask makes files of other forms out of files of tables.
type ConvertTask struct {
	Pattern   string   `json:"pattern,omitempty" maxLength:"300" doc:"file name with * and ?, and moving parts; every file of the tasks that it uses when left out"`
	Form      string   `json:"form,omitempty" enum:"csv,json,xlsx" doc:"how the files are written; by the endings of their names when left out"`
	Delimiter string   `json:"delimiter,omitempty" maxLength:"1" doc:"of csv; a comma when left out, and a tab in files that end in .tsv"`
	Encoding  string   `json:"encoding,omitempty" maxLength:"40" doc:"of csv and json, such as windows-1252; utf-8 when left out"`
	Text      []string `json:"text,omitempty" maxItems:"200" doc:"columns that are text, whatever they hold"`
	Together  bool     `json:"together,omitempty" doc:"one file of all of them, with a section for each"`
	Outputs   []Output `json:"outputs" minItems:"1" maxItems:"20" doc:"value.original in their names is the name of the file, without its ending"`
}

// QueryTask runs a statement on a source that allows it.
type QueryTask struct {
	Source     string      `json:"source" minLength:"1" doc:"name of a source whose settings allow statements"`
	SQL        string      `json:"sql" minLength:"1" maxLength:"200000" doc:"one statement; parameters stand in it as :name"`
	Parameters []Parameter `json:"parameters,omitempty" maxItems:"100"`
}

// ProgramTask runs a program that the operator allowed on this machine.
type ProgramTask struct {
	Program   string            `json:"program" minLength:"1" maxLength:"100" doc:"its file name in the folder of allowed programs"`
	Arguments []string          `json:"arguments,omitempty" maxItems:"100" doc:"with moving parts; file(\"task\") is the path of a file that the task made"`
	Input     string            `json:"input,omitempty" maxLength:"100000" doc:"text with moving parts that it reads as its standard input"`
	Variables map[string]string `json:"variables,omitempty" doc:"environment variables that the operator named for this program, with moving parts"`
}

// IfNobody says what to do when the recipients of a mail come to nobody.
type IfNobody string

// The choices; the first is the default.
const (
	NobodyFail     IfNobody = "fail"
	NobodyPassOver IfNobody = "pass over"
)

// DeliverTask hands the files of the tasks before it over: as a mail to
// recipients, or as files to a place.
type DeliverTask struct {
	Destination string   `json:"destination" minLength:"1" doc:"name of the destination"`
	IfNobody    IfNobody `json:"if_nobody,omitempty" enum:"fail,pass over" doc:"what to do when the recipients of a mail come to nobody; fail when left out. Where all have left the list or pause their mail it is passed over"`
	Formats     []string `json:"formats,omitempty" maxItems:"20" doc:"formats of the files that it takes, such as pdf; all when left out"`

	To       []string   `json:"to,omitempty" maxItems:"10000" doc:"of a mail: addresses, several in one text separated by commas, semicolons or lines; person:login, group:name, post:name, under:name (a post with all that stand under it); with moving parts"`
	Cc       []string   `json:"cc,omitempty" maxItems:"1000" doc:"as in to"`
	Bcc      []string   `json:"bcc,omitempty" maxItems:"10000" doc:"as in to; nobody sees them"`
	ToQuery  *ListQuery `json:"to_query,omitempty" doc:"a query whose first column gives further addresses for to"`
	ReplyTo  string     `json:"reply_to,omitempty" maxLength:"300" doc:"address that answers go to"`
	Priority string     `json:"priority,omitempty" enum:"high,normal,low" doc:"normal when left out"`
	Subject  string     `json:"subject,omitempty" maxLength:"500" doc:"with moving parts; the house's own, or the job's name and the date, when left out"`
	Body     string     `json:"body,omitempty" maxLength:"100000" doc:"plain text with moving parts"`

	Locale    string    `json:"locale,omitempty" maxLength:"20" doc:"of a mail: in which language the service writes its own texts, dates and numbers, such as de or en-GB; each recipient's own when left out"`
	FirstLine string    `json:"first_line,omitempty" maxLength:"300" doc:"what mail programs show beside the subject, with moving parts; the first figures of its tables when left out, such as: On time 91.2 %, Routes late 3"`
	Files     FilesAs   `json:"files,omitempty" enum:"attached,linked,both,none" doc:"how a mail brings the files; tables for the body are not among them; attached when left out"`
	Zip       string    `json:"zip,omitempty" maxLength:"300" doc:"name with moving parts of one archive that the attached files go into"`
	TooLarge  TooLarge  `json:"too_large,omitempty" enum:"split,link,fail" doc:"what to do when the mail is larger than the server takes: several mails, a link in place of the files, or nothing; split when left out"`
	Link      LinkTerms `json:"link,omitzero" doc:"who may follow links, and until when"`
	MayLeave  bool      `json:"may_leave,omitempty" doc:"recipients may take themselves off this job's list"`

	Folder   string   `json:"folder,omitempty" maxLength:"500" doc:"of a file: folder below the destination's, with moving parts and / between; the output's when left out"`
	Name     string   `json:"name,omitempty" maxLength:"300" doc:"of a file: its name with moving parts, without the ending; the output's when left out"`
	IfExists IfExists `json:"if_exists,omitempty" enum:"number,stamp,overwrite,refuse" doc:"of a file: what to do when there is one of its name; number when left out"`
}

// FilesAs says how a mail brings its files.
type FilesAs string

// The choices; the first is the default.
const (
	FilesAttached FilesAs = "attached"
	FilesLinked   FilesAs = "linked"
	FilesBoth     FilesAs = "both"
	FilesNone     FilesAs = "none"
)

// TooLarge says what to do with a mail that is larger than the server takes.
type TooLarge string

// The choices; the first is the default.
const (
	LargeSplit TooLarge = "split"
	LargeLink  TooLarge = "link"
	LargeFail  TooLarge = "fail"
)

// LinkTerms say who may follow a link, and until when. Whoever follows it signs in.
type LinkTerms struct {
	For  string `json:"for,omitempty" enum:"named,house" doc:"named: only those whom the mail went to; house: everybody who can sign in; named when left out"`
	Days int    `json:"days,omitempty" minimum:"0" maximum:"3660" doc:"days until it ends; 30 when left out"`

	Archive bool `json:"archive,omitempty" doc:"it leads to what earlier runs of the job made as well, as long as their files are kept"`
}

// Who may follow a link.
const (
	LinkNamed = "named"
	LinkHouse = "house"

	DefaultLinkDays = 30
)

// IfExists says what to do when there is a file of the name already.
type IfExists string

// The choices; the first is the default.
const (
	ExistsNumber    IfExists = "number"
	ExistsStamp     IfExists = "stamp"
	ExistsOverwrite IfExists = "overwrite"
	ExistsRefuse    IfExists = "refuse"
)

// CallTask sends an HTTP request to a destination of the protocol http.
type CallTask struct {
	Destination string `json:"destination" minLength:"1" doc:"name of a destination of the protocol http"`
	Path        string `json:"path,omitempty" maxLength:"2000" doc:"added to the destination's address, with moving parts"`
	Method      string `json:"method,omitempty" enum:"POST,PUT" doc:"POST when left out"`
	Body        string `json:"body,omitempty" maxLength:"100000" doc:"with moving parts; facts of the run as JSON when left out"`
	MediaType   string `json:"media_type,omitempty" maxLength:"100" doc:"of the body; application/json when left out"`
}

// EmitTask raises an event that other jobs may wait for.
type EmitTask struct {
	Type    string            `json:"type" minLength:"1" maxLength:"200" doc:"type of the event, such as example.tarnwick.tides.loaded"`
	Subject string            `json:"subject,omitempty" maxLength:"500" doc:"with moving parts"`
	Data    map[string]string `json:"data,omitempty" doc:"texts with moving parts, by name"`
}
