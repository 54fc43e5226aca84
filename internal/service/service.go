// Package service is what people and programs ask for, one type for each subject: who may do it is
// asked, what is wrong is said in sentences at its place, and what is done is one transaction
// with its record in the audit trail.
//
// It asks the engine's rooms that make runs, settle them and tell people, never the loops. The
// API is its only caller beside tests.
package service

import (
	"context"
	"log/slog"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/artifact"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/notify"
	"ironbell/internal/engine/rests"
	"ironbell/internal/engine/runs"
	"ironbell/internal/engine/settle"
	"ironbell/internal/engine/waits"
	"ironbell/internal/installation"
	"ironbell/internal/report"
	"ironbell/internal/store"
	"ironbell/internal/task"
	"ironbell/internal/timetable"
)

// Needs are what the service works with.
type Needs struct {
	Store        *store.Store
	Files        *artifact.Folder
	Sources      *report.Sources
	Destinations *deliver.Destinations
	Reports      *task.Report
	Kinds        map[job.TaskKind]task.Kind
	Times        *timetable.Timetable
	Links        access.Links
	Installation *installation.Keeper
	Runs         *runs.Runs
	Waits        *waits.Waits
	Looks        looks
	Notify       *notify.Notifier
	Settle       *settle.Settler
	Rests        *rests.Rests
	Now          func() time.Time // the clock that rings are held against
	Log          *slog.Logger
}

// Service has one part for each subject. They may be used by several goroutines.
type Service struct {
	Alerts        *Alerts
	Calendars     *Calendars
	Deliveries    *Deliveries
	Events        *Events
	Foresight     *Foresight
	Freezes       *Freezes
	Installation  *Installation
	Jobs          *Jobs
	People        *People
	Places        *Places
	Records       *Records
	Reports       *Reports
	Runs          *Runs
	Senders       *Senders
	Settings      *Settings
	Subscriptions *Subscriptions
}

// New puts the service together.
func New(n Needs) *Service {
	ck := &checks{store: n.Store, sources: n.Sources, destinations: n.Destinations, kinds: n.Kinds, times: n.Times, now: n.Now}
	s := &Service{
		Alerts:        &Alerts{store: n.Store, links: n.Links},
		Calendars:     &Calendars{store: n.Store, times: n.Times, runs: n.Runs, now: n.Now, log: n.Log},
		Deliveries:    &Deliveries{store: n.Store, notify: n.Notify, settle: n.Settle, now: n.Now},
		Events:        &Events{store: n.Store, waits: n.Waits, installation: n.Installation, now: n.Now},
		Senders:       &Senders{store: n.Store, now: n.Now},
		Subscriptions: &Subscriptions{store: n.Store, destinations: n.Destinations},
		Freezes:       &Freezes{store: n.Store, now: n.Now},
		People:        &People{store: n.Store, links: n.Links, now: n.Now},
		Places: &Places{
			store: n.Store, sources: n.Sources, destinations: n.Destinations, notify: n.Notify, rests: n.Rests,
			now: n.Now, log: n.Log,
		},
		Reports: &Reports{
			store: n.Store, sources: n.Sources, times: n.Times, reports: n.Reports, checks: ck, now: n.Now,
		},
		Runs: &Runs{
			store: n.Store, files: n.Files, times: n.Times, runs: n.Runs, waits: n.Waits, settle: n.Settle, checks: ck,
			now: n.Now,
		},
		Settings: &Settings{store: n.Store},
	}
	s.Jobs = &Jobs{
		store: n.Store, sources: n.Sources, kinds: n.Kinds, times: n.Times, runs: n.Runs, asked: s.Runs, reports: s.Reports, checks: ck,
		looks: n.Looks,
		now:   n.Now,
	}
	s.Foresight = &Foresight{
		store: n.Store, times: n.Times, jobs: s.Jobs, calendars: s.Calendars, freezes: s.Freezes, now: n.Now,
		turns: make(chan struct{}, whatIfAtOnce),
	}
	s.Records = &Records{
		store: n.Store, times: n.Times, jobs: s.Jobs, reports: s.Reports, people: s.People, places: s.Places,
		calendars: s.Calendars, senders: s.Senders, subscriptions: s.Subscriptions, now: n.Now,
	}
	s.Installation = &Installation{
		store: n.Store, files: n.Files, installation: n.Installation, settings: s.Settings, now: n.Now,
	}
	return s
}

// Alerts are acknowledged and closed.
type Alerts struct {
	store alertsStore
	links access.Links
}

// Calendars are saved and removed, and rules read by them.
type Calendars struct {
	store calendarsStore
	times *timetable.Timetable
	runs  *runs.Runs
	now   func() time.Time
	log   *slog.Logger
}

// Foresight tells the rings to come, and what a change would do to them.
type Foresight struct {
	store     foresightStore
	times     *timetable.Timetable
	jobs      *Jobs
	calendars *Calendars
	freezes   *Freezes
	now       func() time.Time
	turns     chan struct{} // of questions what would change, which take memory
}

// Records are renamed, copied, removed and brought back, whatever their kind.
type Records struct {
	store         *store.Store
	times         *timetable.Timetable
	jobs          *Jobs
	reports       *Reports
	people        *People
	places        *Places
	senders       *Senders
	subscriptions *Subscriptions
	calendars     *Calendars
	now           func() time.Time
}

// Deliveries are settled, allowed and let go.
type Deliveries struct {
	store  changes
	notify *notify.Notifier
	settle *settle.Settler
	now    func() time.Time
}

// Events are reported from outside.
type Events struct {
	store        eventsStore
	waits        *waits.Waits
	installation *installation.Keeper
	now          func() time.Time
	paces        paces
	refusals     refusals
}

// Senders are the programs outside that report events.
type Senders struct {
	store sendersStore
	now   func() time.Time
}

// Subscriptions hand the service's own events on.
type Subscriptions struct {
	store        sendersStore
	destinations *deliver.Destinations
}

// Freezes hold rings and deliveries back; limits bound what goes on at once.
type Freezes struct {
	store freezesStore
	now   func() time.Time
}

// Installation is what this installation is, and its nodes.
type Installation struct {
	store        installationStore
	files        *artifact.Folder
	installation *installation.Keeper
	settings     *Settings
	now          func() time.Time
}

// looks sees what jobs wait for, as it is now.
type looks interface {
	FilesNow(ctx context.Context, f job.FileWatch) (job.Looked, error)
	AnswerNow(ctx context.Context, q job.QueryWatch) (job.Looked, error)
}

// Jobs are saved, switched, looked ahead at, and explained.
type Jobs struct {
	store   jobsStore
	sources *report.Sources
	kinds   map[job.TaskKind]task.Kind
	times   *timetable.Timetable
	runs    *runs.Runs
	asked   *Runs
	reports *Reports
	checks  *checks
	looks   looks
	now     func() time.Time
}

// People are saved with their groups and posts, and what each wants for their mails.
type People struct {
	store peopleStore
	links access.Links
	now   func() time.Time
}

// Places are sources and destinations, with the identities that reports are run under.
type Places struct {
	store        placesStore
	sources      *report.Sources
	destinations *deliver.Destinations
	notify       *notify.Notifier
	rests        *rests.Rests
	now          func() time.Time
	log          *slog.Logger
}

// Reports are saved, checked and looked at.
type Reports struct {
	store   *store.Store
	sources *report.Sources
	times   *timetable.Timetable
	reports *task.Report
	checks  *checks
	now     func() time.Time
}

// Runs are asked for, made again, cancelled and compared.
type Runs struct {
	store  runsStore
	files  *artifact.Folder
	times  *timetable.Timetable
	runs   *runs.Runs
	waits  *waits.Waits
	settle *settle.Settler
	checks *checks
	now    func() time.Time
}

// Settings of the whole installation.
type Settings struct{ store settingsStore }

// checks look whether records hold together before they are saved.
type checks struct {
	store   *store.Store
	sources *report.Sources
	kinds   map[job.TaskKind]task.Kind
	times   *timetable.Timetable
	now     func() time.Time

	destinations *deliver.Destinations
}
