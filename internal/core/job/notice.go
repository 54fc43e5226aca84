package job

// NoticeKind is what a notice is about.
type NoticeKind string

// The kinds of notices.
const (
	NoticeJobs         NoticeKind = "jobs"         // jobs, or when they ring
	NoticeCalendars    NoticeKind = "calendars"    // calendars, or what is said of all rules
	NoticeWatches      NoticeKind = "watches"      // what is to be looked at now
	NoticeParts        NoticeKind = "parts"        // parts of runs that became ready, or may
	NoticeRun          NoticeKind = "run"          // one run; the id names it
	NoticeRuns         NoticeKind = "runs"         // many runs
	NoticeDeliveries   NoticeKind = "deliveries"   // deliveries that became ready
	NoticeDestinations NoticeKind = "destinations" // destinations that rest or work again
	NoticeAlerts       NoticeKind = "alerts"       // alerts
	NoticeSettings     NoticeKind = "settings"     // of what is done every so often
	NoticeNodes        NoticeKind = "nodes"        // what nodes are to do
	NoticeCancel       NoticeKind = "cancel"       // a run that was cancelled; the id names it
	NoticeAccess       NoticeKind = "access"       // sign-ins that ended
	NoticePublished    NoticeKind = "published"    // events of ours
	NoticePulse        NoticeKind = "pulse"        // nothing: the line lives
	NoticeEverything   NoticeKind = "everything"   // something was missed
)

// Notice is word of a change, to shorten a wait: what it is about and which. Whoever hears
// none finds the change by looking.
type Notice struct {
	Kind NoticeKind `json:"kind" enum:"jobs,calendars,parts,run,runs,deliveries,destinations,alerts,settings,nodes,cancel,access,published,pulse,everything"`
	ID   string     `json:"id" doc:"of the run, when it is about one"`
}
