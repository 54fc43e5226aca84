// Package assemble puts a node together: the engine, and over its rooms the service that people
// ask. Only programs and tests do that.
package assemble

import (
	"ironbell/internal/artifact"
	"ironbell/internal/deliver"
	"ironbell/internal/engine"
	"ironbell/internal/report"
	"ironbell/internal/service"
	"ironbell/internal/store"
)

// Node makes both; the engine's Run starts it.
func Node(s *store.Store, sources *report.Sources, destinations *deliver.Destinations, files *artifact.Folder,
	o engine.Options,
) (*engine.Engine, *service.Service) {
	e := engine.New(s, sources, destinations, files, o)
	return e, service.New(service.Needs{
		Store: e.Store, Files: e.Files, Sources: e.Sources, Destinations: e.Destinations, Reports: e.Reports,
		Kinds: e.Kinds, Times: e.Times,
		Links: e.Links, Installation: e.Installation, Runs: e.Runs, Waits: e.Waits, Looks: e.Watcher, Notify: e.Notify, Settle: e.Settle,
		Rests: e.Rests,
		Now:   e.Node.Now, Log: e.Node.Log,
	})
}
