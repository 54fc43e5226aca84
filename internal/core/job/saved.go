package job

import "time"

// Saved says who saved a version of a job or a report, and when.
type Saved struct {
	Version int       `json:"version" db:"version"`
	Author  string    `json:"author,omitempty" db:"author" doc:"who saved it, where that is known"`
	SavedAt time.Time `json:"saved_at" db:"saved_at"`
}
