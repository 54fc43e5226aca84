package wire

import (
	"time"

	"ironbell/internal/core/job"
)

// ReportRequest is what is said of a report when it is saved.
type ReportRequest struct {
	Owner  string `json:"owner,omitempty" doc:"sign-in name; who saves it first when left out"`
	Anyway bool   `json:"anyway,omitempty" doc:"save it although jobs would no longer fit; their next runs fail and say why"`
	job.ReportDefinition
	Given

	Jobs any `json:"jobs,omitempty" doc:"given by the service; what is sent is ignored"`
}

// ReportCheck is what a look at a report found before it is saved.
type ReportCheck struct {
	OK       bool            `json:"ok" doc:"it can be saved, and every job that uses it still fits"`
	Wrong    []Wrong         `json:"wrong" doc:"what keeps it from being saved"`
	Sections []job.Described `json:"sections" doc:"what its queries give"`
	Jobs     []JobTrouble    `json:"jobs" doc:"jobs that would no longer fit"`

	Workbooks []job.WorkbookPlan `json:"workbooks" doc:"what its workbooks take"`
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
	Unfit  []Unfit        `json:"unfit,omitempty" doc:"outputs that cannot hold it; the others were made"`
}

// Unfit is an output that cannot hold a report.
type Unfit struct {
	Format string `json:"format"`
	Why    string `json:"why"`
	Advice string `json:"advice" doc:"what fits better"`
}
