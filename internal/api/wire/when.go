package wire

import (
	"time"

	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
)

// WhenRequest asks what a rule means.
type WhenRequest struct {
	job.Timing
	Zone      string     `json:"zone,omitempty" doc:"the zone of the signed-in person when left out"`
	Calendars []string   `json:"calendars,omitempty" maxItems:"10"`
	From      *time.Time `json:"from,omitempty" doc:"now when left out"`
	Rings     int        `json:"rings,omitempty" minimum:"0" maximum:"500" doc:"how many rings are told; 10 when left out"`
	Caret     *int       `json:"caret,omitempty" minimum:"0" doc:"where somebody writes in the rule, in characters from its beginning; goes_on then says how it may go on"`
}

// When is what a rule means, or where it is wrong.
type When struct {
	Reading   string     `json:"reading,omitempty" doc:"the rule in words"`
	Notation  string     `json:"notation,omitempty" enum:"words,cron,icalendar"`
	Often     string     `json:"often,omitempty" doc:"how often it rings, in words"`
	Warnings  []string   `json:"warnings"`
	Fires     []Fire     `json:"fires" doc:"the next rings"`
	Zone      string     `json:"zone"`
	Cron      string     `json:"cron,omitempty" doc:"the rule as cron, when cron can say it"`
	ICalendar string     `json:"icalendar,omitempty" doc:"the rule as iCalendar, when RRULE can say it"`
	Days      []WhenDay  `json:"days" doc:"the days of the coming nine weeks on which it rings, or would but for a calendar"`
	Wrong     *WrongRule `json:"wrong,omitempty" doc:"what is wrong; all else but goes_on is empty then"`
	GoesOn    []GoesOn   `json:"goes_on" doc:"words that may follow at the caret, or complete the one before it"`
}

// GoesOn is a way to go on with a rule that is being written.
type GoesOn struct {
	Word string `json:"word" doc:"what is offered"`
	Text string `json:"text" doc:"the rule up to the caret with it, in place of what stands there"`
}

// WhenDay is what a rule does on one day.
type WhenDay struct {
	Date   string `json:"date"`
	Rings  int    `json:"rings"`
	Moved  int    `json:"moved,omitempty" doc:"of these, how many a closed day moved here"`
	Passed int    `json:"passed,omitempty" doc:"how many are passed over"`
	Reason string `json:"reason,omitempty"`
}

// Fire is a ring of a rule.
type Fire struct {
	At      time.Time  `json:"at"`
	Nominal *time.Time `json:"nominal,omitempty" doc:"the date that the rule named, when a closed day moved it"`
	Passed  bool       `json:"passed,omitempty" doc:"it does not ring: the day is closed, or the hour is not permitted"`
	Reason  string     `json:"reason,omitempty"`
}

// WrongRule says what is wrong with a rule, and where.
type WrongRule struct {
	Field    string `json:"field" doc:"rule, start, end, count, hours, closed, zone or calendars"`
	Column   int    `json:"column,omitempty" doc:"of the rule's text, counted from 1"`
	Sentence string `json:"sentence"`
	Meant    string `json:"meant,omitempty" doc:"a word that may have been meant"`

	Offers []string `json:"offers,omitempty" doc:"whole rules of which one may have been meant"`
}

// Forecast is the rings to come.
type Forecast struct {
	From    time.Time  `json:"from"`
	To      time.Time  `json:"to"`
	Zone    string     `json:"zone"`
	Rings   []Coming   `json:"rings" doc:"the first of them, as many as were asked for, with those that are passed over"`
	Total   int        `json:"total" doc:"how many ring"`
	Moved   int        `json:"moved" doc:"of these, how many a closed day moved"`
	Passed  int        `json:"passed" doc:"how many are passed over"`
	Joined  int        `json:"joined" doc:"of those that ring, rings that join a run which still waits"`
	Waiting int        `json:"waiting" doc:"runs that begin a minute later than they might, or later still"`
	Stuck   int        `json:"stuck" doc:"of these, runs that do not begin as far as can be seen"`
	Late    int        `json:"late" doc:"runs that miss their deadline"`
	Hours   []HourLoad `json:"hours" doc:"the load by hour"`
	Minutes []Busy     `json:"minutes" doc:"the busiest minutes, at most 20"`
	Clashes []Clash    `json:"clashes" doc:"where more runs are at work than the service works at once"`
	AtOnce  int        `json:"at_once" doc:"runs that all nodes together work at once"`

	Expected []job.Expected `json:"expected" doc:"what jobs wait for, by the hour by which it is usually there; with what should be there already, at most 1000"`
}

// HourLoad is what rings in an hour.
type HourLoad struct {
	At      time.Time `json:"at"`
	Rings   int       `json:"rings"`
	Busiest time.Time `json:"busiest" doc:"the minute with most rings"`
	Most    int       `json:"most" doc:"rings in that minute"`
	Working int       `json:"working" doc:"most runs at work at once, at their usual duration"`
}

// Busy is a minute with several rings.
type Busy struct {
	At    time.Time `json:"at"`
	Rings int       `json:"rings"`
}

// Clash is a stretch with more runs at work than the service works at once.
type Clash struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Most int       `json:"most"`
	Jobs []string  `json:"jobs"`
}

// Calendar is a calendar of open and closed days.
type Calendar struct {
	Name      string    `json:"name"`
	Version   int       `json:"version"`
	Revision  int64     `json:"revision,omitempty" doc:"rises with each change; give it back in If-Match when you save" required:"false"`
	UpdatedAt time.Time `json:"updated_at"`
	Jobs      int       `json:"jobs" doc:"how many jobs go by it"`
	calendar.Definition
	Closings []calendar.Closing `json:"closings" doc:"days of the coming year that it closes, weekends apart"`
	Last     string             `json:"last,omitempty" doc:"the last day that it names"`
}

// CalendarPage is a calendar with what depends on it.
type CalendarPage struct {
	Calendar
	UsedBy []string `json:"used_by" doc:"names of the jobs that go by it"`
}

// CalendarSaved is a calendar that was saved, or would be.
type CalendarSaved struct {
	Calendar Calendar `json:"calendar"`
	Saved    bool     `json:"saved"`
}

// ICSRequest is an iCalendar file to be read.
type ICSRequest struct {
	Text     string `json:"text" maxLength:"4194304" doc:"the file as it is"`
	Calendar string `json:"calendar,omitempty" maxLength:"200" doc:"the calendar that it is read for; merged and missing then say how it fits"`
}

// ICSRead is what was read from an iCalendar file.
type ICSRead struct {
	Entries []calendar.Entry `json:"entries"`
	Notes   []string         `json:"notes" doc:"what was left out"`
	Merged  []calendar.Entry `json:"merged" doc:"the closed days of the calendar with those of the file; those of the file alone when no calendar was named"`
	Added   []calendar.Entry `json:"added" doc:"those of them that are new"`
	Missing []calendar.Entry `json:"missing" doc:"closed days of the calendar that the file does not have; they are among merged"`
}

// Feed is a person's link to the forecast.
type Feed struct {
	Address string     `json:"address,omitempty" doc:"shown once, when it is made; whoever has it sees when jobs ring"`
	Since   *time.Time `json:"since,omitempty"`
}

// Moment is what a moving date gives.
type Moment struct {
	From    time.Time  `json:"from"`
	To      *time.Time `json:"to,omitempty" doc:"of a range"`
	Explain string     `json:"explain"`
}
