package wire

import "ironbell/internal/core/job"

// JobVersion is what a job said in one version.
type JobVersion struct {
	Version    int        `json:"version"`
	Definition JobRequest `json:"definition"`
}

// ReportVersion is what a report said in one version.
type ReportVersion struct {
	Version    int                  `json:"version"`
	Definition job.ReportDefinition `json:"definition"`
}

// Table is a table or view of a source.
type Table struct {
	Schema  string        `json:"schema,omitempty"`
	Name    string        `json:"name"`
	Columns []TableColumn `json:"columns"`
}

// TableColumn is a column of a table.
type TableColumn struct {
	Name string `json:"name"`
	Type string `json:"type" doc:"as the database calls it"`
}
