package db

import (
	"strings"

	"ironbell/internal/core/job"
)

// The states in which things are open, as SQL has lists.
var (
	DeliveriesOpen = list(job.OpenDeliveries)
	RunsOpen       = list(job.OpenRuns)
	PartsOpen      = list(job.OpenParts)
)

func list[S ~string](states []S) string {
	quoted := make([]string, len(states))
	for i, s := range states {
		quoted[i] = "'" + string(s) + "'"
	}
	return "(" + strings.Join(quoted, ", ") + ")"
}

// OpenDelivery finds the deliveries that are still to go out. Indexes know phases
// and no states: see 00006_sending.sql.
const OpenDelivery = `phase IN ('ready', 'kept back', 'leased', 'taken')`
