package job

import (
	"encoding/json"
	"time"
)

// Draft is what somebody has begun to write of a job or a report and not saved. It is
// its author's alone.
type Draft struct {
	Kind    string          `json:"kind" db:"kind" enum:"job,report"`
	Key     string          `json:"key" db:"key" doc:"which of your drafts: the record's name, or a word of your own for a new one"`
	Record  string          `json:"record,omitempty" db:"record" required:"false" doc:"name of the record that it changes; left out for a new one"`
	Began   int64           `json:"began,omitempty" db:"began" required:"false" doc:"revision of the record from which it began"`
	Content json.RawMessage `json:"content" db:"content" doc:"as the editor keeps it"`
	KeptAt  time.Time       `json:"kept_at" db:"kept_at"`
	Kept    int64           `json:"kept" db:"kept" doc:"how often it was kept; give it back when you keep it again"`
}

// Writer is somebody else who has a draft of a record.
type Writer struct {
	Name   string    `json:"name" db:"name"`
	KeptAt time.Time `json:"kept_at" db:"kept_at" doc:"when they last wrote"`
}

// Bounds of drafts.
const (
	MostDrafts = 100 // of one person
	DraftDays  = 60  // for which one is kept that nobody touches
)
