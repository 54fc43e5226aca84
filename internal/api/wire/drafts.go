package wire

import (
	"time"

	"ironbell/internal/core/job"
)

// DraftLine is one of the drafts of whoever is signed in.
type DraftLine struct {
	Kind   string    `json:"kind" enum:"job,report"`
	Key    string    `json:"key"`
	Record string    `json:"record,omitempty" doc:"name of the record that it changes; left out for a new one"`
	KeptAt time.Time `json:"kept_at"`
}

// DraftPage is a draft, and who else writes.
type DraftPage struct {
	Draft  *job.Draft   `json:"draft,omitempty" doc:"left out when there is none"`
	Others []job.Writer `json:"others" doc:"who else has had a draft of the record in the last day"`
}

// DraftRequest is a draft that is to be kept.
type DraftRequest struct {
	Record  string         `json:"record,omitempty" maxLength:"200" doc:"name of the record that it changes; left out for a new one"`
	Began   int64          `json:"began,omitempty" minimum:"0" doc:"revision of the record from which it began"`
	Content map[string]any `json:"content" doc:"as the editor keeps it"`
	Kept    *int64         `json:"kept,omitempty" minimum:"0" doc:"the number that the draft had when you read or kept it, 0 for none; one that was kept since, in another window, is then not written over. Left out, it is"`
}

// DraftKept says that a draft is kept.
type DraftKept struct {
	KeptAt time.Time    `json:"kept_at"`
	Kept   int64        `json:"kept" doc:"its number now"`
	Others []job.Writer `json:"others"`
}
