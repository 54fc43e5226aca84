package job

import "time"

// StateLine is one thing that an operator must know of an installation.
type StateLine struct {
	What   string     `json:"what" doc:"installation, freeze, clock, alerts, mailbox, sign of life, disk, sources, destinations, nodes, schema"`
	Text   string     `json:"text"`
	Advice string     `json:"advice,omitempty"`
	Since  *time.Time `json:"since,omitempty"`
	N      int        `json:"n,omitempty" doc:"how many"`
	Needs  bool       `json:"needs,omitempty" doc:"somebody is needed"`
	Names  []string   `json:"names,omitempty" doc:"at most 20; only for those who are signed in"`
}

// ServiceState is what an operator must know of an installation as it is now.
type ServiceState struct {
	Needs  bool        `json:"needs" doc:"somebody is needed"`
	Silent bool        `json:"silent" doc:"it stands still, and gives no sign of life"`
	Lines  []StateLine `json:"lines"`
}
