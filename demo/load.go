package demo

import (
	"cmp"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
)

// Zone is where the company lives.
const Zone = "Europe/London"

// World is where the demo's database and mail servers are.
type World struct {
	DatabasePort     int
	Database         string // name of the company's database; tarnwick when empty
	ReportsPassword  string
	Mail             string // host:port
	MailUser         string
	MailPassword     string
	CA               string
	Authority        string // host:port
	Outside          Outside
	PeoplesPassword  string
	AdministratorsIn bool // leave the administrator, who is there already
	Programs         bool // the service runs those of LayPrograms
}

// Outside is where the other stand-ins are, each as host:port. Without them there
// is mail alone.
type Outside struct {
	SFTP, WebDAV, Objects, Printer, Receiver, Mailbox string
	User, Password                                    string
	Folder                                            string // that results may be brought to
}

// Connect tells Iron Bell where everything is. It is done at each start, since
// the ports change.
func Connect(ctx context.Context, c *client.Client, w World) error {
	if _, err := c.SaveSource(ctx, "tarnwick",
		wire.PlaceRequest{Protocol: "postgres", Password: &w.ReportsPassword, Settings: map[string]any{
			"host": "127.0.0.1", "port": w.DatabasePort, "database": cmp.Or(w.Database, "tarnwick"),
			"user": reportsLogin,
			"tls":  "disable",
		}}); err != nil {
		return fmt.Errorf("save the source: %w", err)
	}
	for _, d := range []struct{ name, address, user, password, from string }{
		{"company mail", w.Mail, w.MailUser, w.MailPassword, "Iron Bell <bell@tarnwick.example>"},
		{"harbour authority mail", w.Authority, "", "", "Tarnwick Sound Ferries <manifests@tarnwick.example>"},
	} {
		host, n, err := hostPort(d.address)
		if err != nil {
			return fmt.Errorf("%s: %w", d.name, err)
		}
		if _, err := c.SaveDestination(ctx, d.name,
			wire.PlaceRequest{Protocol: "smtp", Password: &d.password, Settings: map[string]any{
				"host": host, "port": n, "security": "starttls", "user": d.user, "from": d.from, "ca": w.CA,
			}}); err != nil {
			return fmt.Errorf("save the destination %s: %w", d.name, err)
		}
	}
	alerts := job.AlertSettings{Destination: "company mail", Standby: "harbour authority mail"}
	if w.Outside.SFTP != "" {
		if err := connectOutside(ctx, c, w.Outside); err != nil {
			return err
		}
		alerts.Call = "Ops desk"
	}
	if err := c.SaveAlertSettings(ctx, alerts); err != nil {
		return fmt.Errorf("say how alerts go: %w", err)
	}
	return nil
}

// connectOutside tells Iron Bell where results go beside mail, and which mailbox
// bounces come to.
func connectOutside(ctx context.Context, c *client.Client, o Outside) error {
	host, port, err := hostPort(o.SFTP)
	if err != nil {
		return err
	}
	none := ""
	for _, d := range []struct {
		name, protocol string
		password       *string
		settings       map[string]any
	}{
		{"Harbour authority files", "sftp", &o.Password, map[string]any{"host": host, "port": port, "user": o.User}},
		{
			"Gauge files", "webdav", &o.Password,
			map[string]any{"url": "http://" + o.WebDAV + "/gauges", "user": o.User, "taking": "move"},
		},
		{"Port folders", "folder", &none, map[string]any{"folder": o.Folder}},
		{"Board archive", "webdav", &o.Password, map[string]any{"url": "http://" + o.WebDAV + "/", "user": o.User}},
		{
			"Board store", "s3", &o.Password,
			map[string]any{"url": "http://" + o.Objects, "bucket": "reports", "prefix": "board", "user": o.User},
		},
		{"Quay printer", "ipp", &none, map[string]any{"url": "ipp://" + o.Printer + "/ipp/print"}},
		{"Ops desk", "http", &none, map[string]any{"url": "http://" + o.Receiver + "/alerts"}},
		{"Duty screen", "http", &o.Password, map[string]any{"url": "http://" + o.Receiver + "/events"}},
	} {
		if _, err := c.SaveDestination(ctx, d.name, wire.PlaceRequest{
			Protocol: d.protocol, Password: d.password, Settings: d.settings,
		}); err != nil {
			return fmt.Errorf("save the destination %s: %w", d.name, err)
		}
	}
	for name, d := range subscriptions {
		if _, err := c.SaveSubscription(ctx, name, d); err != nil {
			return fmt.Errorf("save the subscription %s: %w", name, err)
		}
	}
	// All are tested once; the first test pins a server's host key.
	all, err := c.Destinations(ctx)
	if err != nil {
		return err
	}
	for _, d := range all {
		if a, err := c.TestDestination(ctx, d.Name); err != nil || !a.OK {
			return fmt.Errorf("test the destination %s: %s: %w", d.Name, a.Said, err)
		}
	}
	if host, port, err = hostPort(o.Mailbox); err != nil {
		return err
	}
	if err := c.SaveBounces(ctx, map[string]any{
		"host": host, "port": port, "security": "none", "user": o.User, "password": o.Password, "every": "10s",
	}); err != nil {
		return fmt.Errorf("say where bounces come to: %w", err)
	}
	return nil
}

func hostPort(address string) (string, int, error) {
	host, text, err := net.SplitHostPort(address)
	if err != nil {
		return "", 0, fmt.Errorf("the address %q: %w", address, err)
	}
	port, err := strconv.Atoi(text)
	if err != nil {
		return "", 0, fmt.Errorf("the address %q: %w", address, err)
	}
	return host, port, nil
}

// Load saves the company's people, reports and jobs.
func Load(ctx context.Context, c *client.Client, w World) error {
	if err := dress(ctx, c); err != nil {
		return err
	}
	return load(ctx, c, w, nil, func(string) {})
}

// TakeUp adds what a company of another edition lacks, and leaves alone what it has, since somebody may have changed
// it, and what somebody has removed. It gives what was added, as kind and name.
func TakeUp(ctx context.Context, c *client.Client, w World) (added []string, err error) {
	all, err := c.RemovedRecords(ctx)
	if err != nil {
		return nil, fmt.Errorf("see what was removed: %w", err)
	}
	worn, err := c.House(ctx)
	if err != nil {
		return nil, fmt.Errorf("see the house style: %w", err)
	}
	if len(worn.Styles) == 0 { // a setting is never new, so that this one is asked for
		if err := dress(ctx, c); err != nil {
			return nil, err
		}
		added = append(added, "setting house")
	}
	removed := map[string]bool{}
	for _, r := range all {
		removed[r.Kind+" "+r.Name] = true
	}
	err = load(client.ToBeNew(ctx), c, w, removed, func(what string) { added = append(added, what) })
	return added, err
}

// Edition tells one company of the demo from another: it differs when what Load saves differs.
func Edition() string {
	sum := sha256.New()
	for _, part := range []any{len(people), len(posts), len(ports), senders, subscriptions, weekIsIn} {
		note(sum, part)
	}
	for _, r := range reports {
		note(sum, r.name, r.owner, r.ReportDefinition)
	}
	for _, j := range jobs {
		note(sum, j.name, j.owner, j.Definition)
	}
	return hex.EncodeToString(sum.Sum(nil)[:8])
}

func note(sum io.Writer, parts ...any) {
	for _, p := range parts {
		text, err := json.Marshal(p)
		if err != nil {
			panic(err) // they are records, which are written as JSON everywhere
		}
		_, _ = sum.Write(text) // a hash takes everything
	}
}

// load saves all records one after another, and tells of each that was saved. One that was removed, or is there
// already where the context wants it to be new, is left alone.
func load(ctx context.Context, c *client.Client, w World, removed map[string]bool, saved func(what string)) error {
	did := func(kind, name string, err error) error {
		var refused *client.Problem
		switch {
		case errors.As(err, &refused) && (refused.Status == http.StatusPreconditionFailed || removed[kind+" "+name]):
			return nil
		case err != nil:
			return fmt.Errorf("save the %s %s: %w", kind, name, err)
		}
		saved(kind + " " + name)
		return nil
	}
	for _, p := range people {
		r := wire.PersonRequest{Name: p.name, Mail: p.mail, Role: p.role, Zone: Zone}
		if p.signsIn {
			r.Password = w.PeoplesPassword
		}
		_, err := c.SavePerson(ctx, p.login, r)
		if err := did("person", p.name, err); err != nil {
			return err
		}
	}
	for _, p := range posts {
		_, err := c.SavePost(ctx, p.name, p.under, p.holders...)
		if err := did("post", p.name, err); err != nil {
			return err
		}
	}
	_, err := c.SaveGroup(ctx, "Board", "person:aldous, person:mara", "under:Engineering superintendent")
	if err := did("group", "Board", err); err != nil {
		return err
	}
	for _, p := range ports {
		_, err := c.SaveIdentity(ctx, "tarnwick", p.name, wire.IdentityRequest{
			Login: p.login(), Password: &w.ReportsPassword, Choosers: []string{"mara"},
		})
		if err := did("identity", p.name, err); err != nil {
			return err
		}
	}
	book, err := fuelBook()
	if err != nil {
		return fmt.Errorf("write the fuel book: %w", err)
	}
	sent, err := c.AddWorkbook(ctx, "fuel-book.xlsx", book)
	if err != nil {
		return fmt.Errorf("send the fuel book: %w", err)
	}
	for _, r := range reports {
		if r.name == fuelReport {
			r.Workbooks = []job.Workbook{{
				Name: "Fuel book", File: sent.ID,
				Tables: []job.FilledTable{{Table: "By_vessel", Section: "Fuel by week", Form: job.FormSummary}},
			}}
		}
		_, err := c.SaveReport(ctx, r.name, wire.ReportRequest{
			Owner: r.owner, ReportDefinition: r.ReportDefinition,
		})
		if err := did("report", r.name, err); err != nil {
			return err
		}
	}
	for name, d := range senders {
		_, err := c.SaveSender(ctx, name, d)
		if err := did("sender", name, err); err != nil {
			return err
		}
	}
	holidays, err := c.ReadICS(ctx, holidayFile, "")
	if err != nil {
		return fmt.Errorf("read the public holidays: %w", err)
	}
	for name, d := range map[string]calendar.Definition{
		"Public holidays": {Closed: holidays.Entries},
		"Harbour": {Week: []string{"mon", "tue", "wed", "thu", "fri", "sat"}, Closed: []calendar.Entry{
			{Label: "Grey Skerry's slipway is closed", Rule: "on the first tuesday of every month"},
			{Label: "Winter dredging at Pennold", Date: "2027-01-18", Days: 5},
		}},
	} {
		_, err := c.SaveCalendar(ctx, name, d, false)
		if err := did("calendar", name, err); err != nil {
			return err
		}
	}
	for _, j := range jobs {
		if slices.ContainsFunc(j.Tasks, func(t job.Task) bool {
			return w.Outside.SFTP == "" && (t.Deliver != nil && len(t.Deliver.To) == 0 || t.Collect != nil)
		}) {
			continue // there is no place for its files
		}
		d := j.Definition
		d.Zone = Zone
		if !w.Programs {
			d.Tasks = slices.DeleteFunc(slices.Clone(d.Tasks), func(t job.Task) bool { return t.Kind == job.KindProgram })
		}
		_, err := c.SaveJob(ctx, j.name, wire.JobRequest{Owner: j.owner, On: true, Definition: d})
		if err := did("job", j.name, err); err != nil {
			return err
		}
	}
	return nil
}

// holidayFile is the company's holidays as its calendar program exports them.
//
//go:embed holidays.ics
var holidayFile string

var people = []struct {
	login, name, mail, role string
	signsIn                 bool
}{
	{"mara", "Mara Quill", "mara.quill@tarnwick.example", "owner", true},
	{"joren", "Joren Tak", "joren.tak@tarnwick.example", "owner", true},
	{"ilse", "Ilse Brannoch", "ilse.brannoch@tarnwick.example", "owner", true},
	{"aldous", "Aldous Penhale", "aldous.penhale@tarnwick.example", "reader", true},
	{"oren", "Oren Hask", "oren.hask@tarnwick.example", "reader", false},
	{"brina", "Brina Colm", "brina.colm@tarnwick.example", "reader", false},
	{"tavish", "Tavish Rook", "tavish.rook@tarnwick.example", "reader", false},
	{"maeve", "Maeve Tarn", "maeve.tarn@tarnwick.example", "reader", false},
	{"idris", "Idris Vane", "idris.vane@tarnwick.example", "reader", false},
}

var posts = []struct {
	name, under string
	holders     []string
}{
	{"Managing director", "", []string{"aldous"}},
	{"Reporting lead", "Managing director", []string{"mara"}},
	{"Engineering superintendent", "Managing director", []string{"joren"}},
	{"Safety officer", "Managing director", []string{"ilse"}},
	{"Port masters", "Managing director", []string{"oren", "brina", "tavish", "maeve", "idris"}},
}

type namedJob struct {
	name, owner string
	job.Definition
}

func report(name string, outputs ...job.Output) job.Task {
	return job.Task{Name: "report", Kind: job.KindReport, Report: &job.ReportTask{Report: name, Outputs: outputs}}
}

func mail(subject, body string, to ...string) job.Task {
	return job.Task{
		Name: "mail", Kind: job.KindDeliver,
		Deliver: &job.DeliverTask{Destination: "company mail", To: to, Subject: subject, Body: body},
	}
}

// bring hands the files of some formats over to a place.
func bring(name, destination, folder string, formats ...string) job.Task {
	return job.Task{
		Name: name, Kind: job.KindDeliver,
		Deliver: &job.DeliverTask{
			Destination: destination, Folder: folder, Formats: formats, IfExists: job.ExistsStamp,
		},
	}
}

func named(name string, t job.Task) job.Task {
	t.Name = name
	return t
}

// chosen names the sections of an output.
func chosen(sections ...string) []job.Chosen {
	out := make([]job.Chosen, len(sections))
	for i, s := range sections {
		out[i] = job.Chosen{Section: s}
	}
	return out
}

func onlyIf(condition string, t job.Task) job.Task {
	t.OnlyIf = condition
	return t
}

// using lets a task take the files of some tasks only.
func using(t job.Task, tasks ...string) job.Task {
	t.Uses = tasks
	return t
}

func after(t job.Task, tasks ...string) job.Task {
	t.After = tasks
	return t
}

// atOnce lets a task begin without waiting for the one before it.
func atOnce(t job.Task) job.Task {
	t.After = []string{}
	return t
}

func retry(times int, wait time.Duration) job.Retry {
	return job.Retry{Times: times, Wait: job.Duration(wait)}
}

// weekIsIn says yes when every sailing of last week has left or is cancelled in the books, which end yesterday.
const weekIsIn = `SELECT count(*) FILTER (WHERE left_at IS NULL AND cancelled IS NULL) = 0
FROM sailings, (SELECT date_trunc('week', max(due) + interval '1 day') AS monday FROM sailings) this_week
WHERE due >= monday - interval '7 days' AND due < monday`

var jobs = []namedJob{
	{"Quay board", "mara", job.Definition{
		Triggers: []job.Trigger{{Timing: job.Timing{Rule: "*/2 * * * *"}}}, Retry: retry(3, 10*time.Second),
		Tasks: []job.Task{
			report("Port day sheet", job.Output{Format: "html-mail"}, job.Output{
				Format: "xlsx", Name: "Quay board {date:%Y-%m-%d %H.%M}",
			}),
			mail("Quay board, {date:%H:%M}", "Departures of all five ports yesterday. The sheet behind it is attached.",
				"quay.desk@tarnwick.example", "oren.hask@tarnwick.example"),
		},
	}},
	{"Crew rest watch", "ilse", job.Definition{
		Triggers: []job.Trigger{
			{Timing: job.Timing{Rule: "every 5 minutes between 00:01 and 23:56"}},
			{Timing: job.Timing{Rule: "0 7 * * *"}},
		}, Retry: retry(3, 30*time.Second), IfBlank: job.BlankHold,
		Priority: 10,
		Tasks: []job.Task{
			report("Crew rest breaches", job.Output{Format: "html-mail"}, job.Output{Format: "csv"}),
			mail("Urgent: rest breaches, {rows} people",
				"These people had less rest than the law asks for. Take them off duty today.",
				"ilse.brannoch@tarnwick.example", "joren.tak@tarnwick.example"),
		},
	}},
	{"Passenger manifest file", "mara", job.Definition{
		Triggers: []job.Trigger{{Timing: job.Timing{Rule: "5 * * * *"}}, {Timing: job.Timing{Rule: "*/10 * * * *"}}},
		Retry:    retry(2, 20*time.Second),
		// An hour that comes late is of no use to the authority.
		GiveUpAfter: job.Duration(40 * time.Second), SecondOwner: "joren", Urgent: true,
		Tasks: []job.Task{
			report("Passenger manifest file", job.Output{
				Format: "csv", Name: "manifest_{date:%Y%m%d_%H%M}.csv", ForSystem: true,
				Text: &job.TextForm{Delimiter: ";", Encoding: "windows-1252", Unfit: job.UnfitPlain},
			}),
			bring("hand over", "Harbour authority files", "{date:%Y-%m}"),
		},
	}},
	{"Sailing punctuality by route", "mara", job.Definition{
		Calendars: []string{"Public holidays"},
		Triggers: []job.Trigger{
			{
				Timing: job.Timing{Rule: "on weekdays at 06:15 skip closed days"},
				Values: job.Values{"from": "yesterday - 6 days", "to": "yesterday"},
			},
			{
				Timing: job.Timing{Rule: "on day 1 and 15 of every month at 06:15", Closed: "after"},
				Values: job.Values{"from": "start of month - 8 months", "to": "end of last month"},
			},
		},
		Retry: retry(3, 10*time.Minute),
		Tasks: []job.Task{
			report("Sailing punctuality by route",
				job.Output{Format: "html-mail", Sections: chosen("The period in figures", "By route")},
				job.Output{Format: "xlsx"}, job.Output{Format: "pdf"}),
			mail("", "Punctuality of all routes.", "mara.quill@tarnwick.example", "aldous.penhale@tarnwick.example"),
		},
	}},
	{"Vehicle-deck load", "mara", job.Definition{
		Triggers: []job.Trigger{{
			Timing: job.Timing{Rule: "on fri at 16:00"}, Values: job.Values{"from": "start of week", "to": "yesterday"},
		}}, Retry: retry(3, 10*time.Minute),
		Tasks: []job.Task{
			report("Vehicle-deck load", job.Output{Format: "pdf", Name: "Vehicle-deck load to {value.to}"},
				job.Output{Format: "xlsx", Name: "Vehicle-deck load to {value.to}", Sections: []job.Chosen{
					{Section: "By port and route"},
					{Section: "By port and route", Form: job.FormSummary, Title: "By port"},
					{Section: "By port and route", Form: job.FormDetail, Title: "Sailings"},
				}}, job.Output{
					Format: "html-mail", Sections: []job.Chosen{{Section: "By port and route", Form: job.FormSummary}},
				}),
			after(bring("print", "Quay printer", "", "pdf"), "report"),
			after(onlyIf(`total("Cars") > 500`,
				mail("Vehicle decks, {value.from} to {value.to}", "How full the vehicle decks were this week.",
					"mara.quill@tarnwick.example", "joren.tak@tarnwick.example")), "report"),
		},
	}},
	{fuelReport, "joren", job.Definition{
		Triggers: []job.Trigger{{
			Timing: job.Timing{Rule: "every 2 weeks on mon at 05:00 from 2026-01-05"},
			Values: job.Values{"from": "start of last 8 weeks", "to": "end of last 8 weeks"},
		}}, Retry: retry(3, 10*time.Minute),
		Tasks: []job.Task{
			report(fuelReport, job.Output{Format: "xlsx", Name: "Fuel burn to {value.to}"},
				job.Output{Format: "xlsx", Name: "Fuel book to {value.to}", Workbook: "Fuel book"},
				job.Output{Format: "html-mail"}),
			mail("", "Fuel of the last eight weeks.", "joren.tak@tarnwick.example", "yard@slipway-works.test"),
		},
	}},
	{"Open defects", "joren", job.Definition{
		Joiners:  []string{"post:Reporting lead", "post:Port masters"},
		Triggers: []job.Trigger{{Timing: job.Timing{Rule: "every 2 hours", Hours: []string{"06:00-22:00"}}}},
		Retry:    retry(3, 5*time.Minute),
		Tasks: []job.Task{
			report("Open defects", job.Output{Format: "html-mail"}),
			onlyIf("rows >= 10",
				mail("Open defects: {rows}", "Defects that are open on all vessels.",
					"under:Engineering superintendent")),
		},
	}},
	{"Monday page", "mara", job.Definition{
		Tags: []string{"board"},
		Triggers: []job.Trigger{{Wait: &job.Wait{For: []job.Condition{
			{Job: "Sailing punctuality by route"},
			{Job: fuelReport},
			{Query: &job.QueryWatch{Source: "tarnwick", SQL: weekIsIn, When: job.QueryReady}},
		}}}},
		Retry:    job.Retry{Times: 4, Wait: job.Duration(5 * time.Minute), Growth: 2, Until: "09:00"},
		Deadline: job.Deadline{At: "08:30"},
		Values:   job.Values{"from": "start of last week", "to": "end of last week"},
		Tasks: []job.Task{
			atOnce(named("punctuality",
				report("Sailing punctuality by route", job.Output{Format: "pptx", Name: "Punctuality to {value.to}"},
					job.Output{Format: "html-mail", Sections: chosen("The period in figures", "By route")}))),
			atOnce(named("fuel",
				report(fuelReport, job.Output{Format: "xlsx", Name: "Fuel to {value.to}"}))),
			after(mail("Monday page, week to {value.to}", "The week on one page; the sheets are attached.",
				"aldous.penhale@tarnwick.example"), "punctuality", "fuel"),
			{
				Name: "announce", Kind: job.KindEmit,
				Emit: &job.EmitTask{Type: "example.tarnwick.monday.sent", Subject: "{date:%Y-%m-%d}"},
			},
		},
	}},
	{"Tide-gauge readings", "joren", job.Definition{
		Triggers: []job.Trigger{{Wait: &job.Wait{
			For: []job.Condition{{Files: &job.FileWatch{
				Destination: "Gauge files", Pattern: "in/*.csv", Unchanged: job.Duration(2 * time.Second),
				Every: job.Duration(10 * time.Second),
			}}},
		}}},
		Retry: retry(3, 10*time.Second),
		Tasks: []job.Task{
			{Name: "readings", Kind: job.KindCollect, Collect: &job.CollectTask{
				Destination: "Gauge files", Pattern: "in/*.csv", Take: job.TakeAll, OnlyNew: true,
				Settled: job.Duration(time.Second), Afterwards: job.AfterwardsMove, Folder: "done/{date:%Y-%m}",
			}},
			{Name: "summary", Kind: job.KindProgram, Repeatable: true, Program: &job.ProgramTask{Program: tideProgram}},
			{Name: "sheet", Kind: job.KindConvert, Convert: &job.ConvertTask{Together: true, Outputs: []job.Output{
				{Format: "html-mail"}, {Format: "xlsx", Name: "Tide gauge {date:%Y-%m-%d %H.%M}"},
			}}},
			using(mail("Tide gauge, {date:%H:%M}", "What the tide gauge wrote down, checked and summed up.",
				"brina.colm@tarnwick.example"), "sheet"),
		},
	}},
	{"Month-end lock", "mara", job.Definition{
		Calendars: []string{"Public holidays"}, Tags: []string{"board"},
		Triggers: []job.Trigger{{
			Timing: job.Timing{Rule: "on the last open day of every month at 18:00"},
			Wait: &job.Wait{
				For:    []job.Condition{{Event: "example.tarnwick.ledger.closed", Source: "/ledger-office"}},
				Within: job.Duration(6 * time.Hour),
			},
			Values: job.Values{"from": "start of month", "to": "today"},
		}},
		Deadline: job.Deadline{Within: job.Duration(6 * time.Hour)}, Usual: job.Usual{Share: 0.5},
		Tasks: []job.Task{
			report(fuelReport, job.Output{Format: "csv", Name: "fuel_{date:%Y-%m}.csv"}),
			mail("Month {date:%B %Y} is locked", "The month's fuel, as the ledger office closed it.",
				"joren.tak@tarnwick.example"),
		},
	}},
	{"Monthly board pack", "mara", job.Definition{
		Calendars: []string{"Public holidays", "Harbour"},
		Triggers: []job.Trigger{{
			Timing: job.Timing{Rule: "on open day 3 of every month at 09:00"},
			Values: job.Values{"from": "start of last month", "to": "end of last month"},
		}}, Retry: retry(3, 10*time.Minute),
		Tasks: []job.Task{
			report("Sailing punctuality by route",
				job.Output{Format: "pdf", Name: "Board pack {date:%Y-%m}", Tagged: true},
				job.Output{Format: "html-mail", Sections: chosen("The period in figures")}),
			{Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{
				Destination: "company mail", To: []string{"group:Board"}, Subject: "Board pack {date:%B %Y}",
				Body: "The month in figures, for the board.", Files: job.FilesLinked,
				Link: job.LinkTerms{For: job.LinkHouse, Days: 60, Archive: true},
			}},
		},
	}},
	{"Port day sheet", "mara", job.Definition{
		Triggers: []job.Trigger{{Timing: job.Timing{Rule: "DTSTART;TZID=Europe/London:20260105T053000\nRRULE:FREQ=DAILY"}}}, Retry: retry(3, 10*time.Minute),
		Split: job.Split{
			Each: "port",
			Query: &job.ListQuery{
				Source: "tarnwick",
				SQL:    `SELECT p.code AS port, p.name AS place, s.mail FROM ports p JOIN port_staff s ON s.port = p.code AND s.post = 'port master' ORDER BY p.name`,
			},
		},
		Tasks: []job.Task{
			asPort(report("Port day sheet", job.Output{Format: "xlsx", Name: "Day sheet {value.place} {value.day}"},
				job.Output{Format: "html-mail"})),
			{Name: "mail", Kind: job.KindDeliver, Deliver: &job.DeliverTask{
				Destination: "company mail", To: []string{"{value.mail}"},
				Subject: "Day sheet {value.place}, {value.day}",
				Body:    "The sheet of the day before: your own departures.", MayLeave: true,
			}},
		},
	}},
	{"Port day sheet archive", "mara", job.Definition{
		Triggers: []job.Trigger{{Timing: job.Timing{Rule: "every day at 05:45"}}}, Retry: retry(3, 10*time.Minute),
		Tasks: []job.Task{
			report("Port day sheet", job.Output{Format: "xlsx", Name: "Day sheet {value.day}"},
				job.Output{Format: "pdf", Name: "Day sheet {value.day}"}),
			after(bring("folder", "Port folders", "{date:%Y-%m}"), "report"),
			after(bring("archive", "Board archive", "day sheets/{date:%Y}", "pdf"), "report"),
			after(bring("store", "Board store", "{date:%Y}/{date:%m}", "xlsx"), "report"),
		},
	}},
}

// asPort lets a report run as the identity of the part's port.
func asPort(t job.Task) job.Task {
	t.Report.Identity = "{value.place}"
	return t
}
