package service

import (
	"context"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/policy"
	"ironbell/internal/house"
	"ironbell/internal/store"
	"ironbell/internal/store/history"
	"ironbell/internal/store/operation"
	"ironbell/internal/store/people"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/records"
	"ironbell/internal/store/rings"
	"ironbell/internal/task/recipients"
	"ironbell/internal/timetable"
)

// What each subject asks of the store; what a change needs is asked of its transaction.

// changes are made in a transaction.
type changes interface {
	Do(ctx context.Context, f func(*store.Tx) error) error
	// Called is the name under which a record is saved that somebody names.
	Called(ctx context.Context, kind, name string) (string, error)
}

// alertsStore is what alerts are read from.
type alertsStore interface {
	changes
	Alert(ctx context.Context, id int64) (job.Alert, error)
	Job(ctx context.Context, name string) (job.Job, error)
	PersonByID(ctx context.Context, id int64) (job.Person, error)
}

// calendarsStore is what calendars are read from, with the jobs that use them.
type calendarsStore interface {
	changes
	timetable.Records
	JobsUsing(ctx context.Context, kind string, id int64) ([]job.Job, error)
}

// foresightStore is what the time ahead is read from.
type foresightStore interface {
	timetable.Records
	Called(ctx context.Context, kind, name string) (string, error)
	Jobs(ctx context.Context, search string, limit int) ([]job.Job, error)
	LastRuns(ctx context.Context, jobs []int64) (map[int64]history.LastRun, error)
	Carriers(ctx context.Context, labels []string) (map[int64][]string, error)
	FreezeOver(ctx context.Context, from, to time.Time) ([]job.Freeze, error)
	Freezes(ctx context.Context, past bool) ([]job.Freeze, error)
	Expected(ctx context.Context, part string, now time.Time, limit int) ([]rings.Expecting, error)
}

// freezesStore is what freezes are checked against.
type freezesStore interface {
	changes
	Place(ctx context.Context, kind records.PlaceKind, name string) (records.Place, error)
	Setting(ctx context.Context, key string, to any) (bool, error)
}

// eventsStore is what events are read from.
type eventsStore interface {
	changes
	Event(ctx context.Context, row int64) (rings.EventRow, error)
	OwnsOneOf(ctx context.Context, person int64, runs []job.RunID) (bool, error)
	OwnersListening(ctx context.Context, eventType string, watch *int64) ([]string, error)
}

// sendersStore is what senders and subscriptions are saved in.
type sendersStore interface {
	changes
	Called(ctx context.Context, kind, name string) (string, error)
}

// installationStore is what an installation knows of itself and its nodes.
type installationStore interface {
	changes
	Place(ctx context.Context, kind records.PlaceKind, name string) (records.Place, error)
	DatabaseID(ctx context.Context) (string, error)
	MailSettings(ctx context.Context) (job.MailSettings, error)
	Nodes(ctx context.Context) ([]operation.Node, error)
}

// jobsStore is what jobs are read from, and what is said of them.
type jobsStore interface {
	changes
	WaitingTriggers(ctx context.Context, name string) ([]rings.WaitingTrigger, error)
	LastEvent(ctx context.Context, eventType, source, subject string) (rings.EventRow, error)
	timetable.Records
	Job(ctx context.Context, name string) (job.Job, error)
	Report(ctx context.Context, name string) (job.Report, error)
	Places(ctx context.Context, kind records.PlaceKind) ([]records.Place, error)
	Run(ctx context.Context, id job.RunID) (job.Run, error)
	Runs(ctx context.Context, f history.RunFilter) ([]job.Run, error)
	Rings(ctx context.Context, jobID int64, before time.Time, limit int) ([]job.Ring, error)
	Labels(ctx context.Context, jobID int64) ([]string, error)
	Carriers(ctx context.Context, labels []string) (map[int64][]string, error)
	FirstSaved(ctx context.Context, name string) (time.Time, error)
	LastSwitch(ctx context.Context, name string, before time.Time) (people.Switched, error)
	FreezeOver(ctx context.Context, from, to time.Time) ([]job.Freeze, error)
}

// peopleStore is what people, groups and posts are read from, with what they get.
type peopleStore interface {
	changes
	recipients.Records
	Job(ctx context.Context, name string) (job.Job, error)
	Belongings(ctx context.Context, p job.Person) (people.Belongings, error)
	GetsOf(ctx context.Context, address string, days int) ([]people.Gets, error)
	JobsSendingTo(ctx context.Context, kind, name string) ([]string, error)
	ReportsToSchedule(ctx context.Context) ([]job.Report, error)
	OpenJobs(ctx context.Context, p job.Person) ([]people.OpenJob, error)
	AskingOf(ctx context.Context, personID int64) (own, others []people.Asking, err error)
	AlertsFor(ctx context.Context, p job.Person, since time.Time) ([]job.Alert, error)
}

// placesStore is what sources and destinations are read from.
type placesStore interface {
	house.Store
	changes
	Place(ctx context.Context, kind records.PlaceKind, name string) (records.Place, error)
	PersonByLogin(ctx context.Context, login string) (p job.Person, hash string, err error)
	Identity(ctx context.Context, source, name string) (records.Identity, error)
	MailSettings(ctx context.Context) (job.MailSettings, error)
	PinDestination(ctx context.Context, id int64, pin string) error
	SourceWrites(ctx context.Context, id int64, writes string) error
}

// runsStore is what runs are read from, and what holds them back.
type runsStore interface {
	changes
	timetable.Records
	Run(ctx context.Context, id job.RunID) (job.Run, error)
	Job(ctx context.Context, name string) (job.Job, error)
	Artifacts(ctx context.Context, id job.RunID, part int) ([]job.Artifact, error)
	GoodRunBefore(ctx context.Context, jobID int64, before job.RunID) (job.RunID, error)
	LinksOfRun(ctx context.Context, run job.RunID) ([]history.Link, error)
	Waits(ctx context.Context, runs []job.RunID) (map[job.RunID]queue.Wait, error)
	Handing(ctx context.Context, runs []job.RunID) (map[job.RunID]policy.Tally, error)
	HeldDestinations(ctx context.Context, runs []job.RunID) (map[job.RunID]string, error)
	HappenedFor(ctx context.Context, run job.RunID) (*rings.HeldRun, []rings.Happened, error)
	TriggerWait(ctx context.Context, trigger int64) (*job.Wait, error)
	FreezeOver(ctx context.Context, from, to time.Time) ([]job.Freeze, error)
}

// settingsStore is what settings are read from.
type settingsStore interface {
	changes
	Place(ctx context.Context, kind records.PlaceKind, name string) (records.Place, error)
	Setting(ctx context.Context, key string, to any) (bool, error)
	LastTurn(ctx context.Context, name string) (operation.Turn, error)
	house.Store
}
