package job

import "ironbell/internal/core/fault"

// KeepingSettings say for how many days is kept what belongs to no single job; runs,
// logs and files are kept as their jobs say.
type KeepingSettings struct {
	Alerts int `json:"alerts,omitempty" minimum:"1" maximum:"36500" doc:"days after an alert was closed; 400 when left out"`
	Audit  int `json:"audit,omitempty" minimum:"90" maximum:"36500" doc:"days of the record of changes; 3660 when left out"`
	Links  int `json:"links,omitempty" minimum:"1" maximum:"36500" doc:"days after a link ended, with who followed it; 400 when left out"`
	Events int `json:"events,omitempty" minimum:"1" maximum:"36500" doc:"days of events that were reported; 365 when left out"`
}

// WithDefaults fills in what was left out.
func (k KeepingSettings) WithDefaults() KeepingSettings {
	for _, d := range []struct {
		of   *int
		days int
	}{{&k.Alerts, 400}, {&k.Audit, 3660}, {&k.Links, 400}, {&k.Events, 365}} {
		if *d.of == 0 {
			*d.of = d.days
		}
	}
	return k
}

// Check tells what is wrong with the settings.
func (k KeepingSettings) Check() error {
	v := &fault.Invalid{What: "what is kept"}
	for where, of := range map[string]struct{ days, least int }{
		"alerts": {k.Alerts, 1}, "audit": {k.Audit, 90}, "links": {k.Links, 1}, "events": {k.Events, 1},
	} {
		if of.days < of.least || of.days > 36500 {
			v.Add(where, "%d are no days to keep it; use %d to 36500", of.days, of.least)
		}
	}
	return v.Err()
}
