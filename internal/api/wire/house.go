package wire

import "ironbell/internal/core/job"

// HousePage are the styles of the house with the files that they may use.
type HousePage struct {
	job.HouseStyles

	Files []job.HouseFile `json:"files" doc:"that were uploaded"`
	Says  [][]string      `json:"says" doc:"of each style, which of its colours some readers will not make out"`
}

// HouseSays is what is to be said of a house style.
type HouseSays struct {
	Says []string `json:"says" doc:"which of its colours some readers will not make out"`
}
