package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"

	"ironbell/client"
	"ironbell/internal/core/job"
)

// clientCommands is the table of the commands that speak to a service.
var clientCommands = []Command{
	{
		Name: "jobs", Args: "[PART OF NAME]", Summary: "list jobs with their next ring and last outcome",
		Example: "ironbell jobs fuel", Setup: jobsCommand,
	},
	{
		Name: "job", Args: "JOB", Summary: "show one job: when, what, to whom, and how it went",
		Example: `ironbell job "Fuel burn by vessel"`, Setup: jobCommand,
	},
	{
		Name: "ring", Args: "JOB", Summary: "ring a job now",
		Example: `ironbell ring -follow -value from=2026-11-01 "Fuel burn by vessel"`, Setup: ringCommand,
	},
	{
		Name: "ahead", Args: "JOB",
		Summary: "say what a job will do when it rings next: dates, files, recipients, and what is missing",
		Example: `ironbell ahead "Port day sheet"`, Setup: aheadCommand,
	},
	{
		Name: "again", Args: "RUN", Summary: "let a run go on where it failed or was held, or make it again",
		Example: "ironbell again 2611-42\nironbell again -whole -value day=2026-11-02 2611-42", Setup: againCommand,
	},
	{Name: "cancel", Args: "RUN", Summary: "cancel a run", Example: "ironbell cancel 2611-42", Setup: cancelCommand},
	{
		Name: "why", Args: "JOB", Summary: "say why a job ran, or did not",
		Example: `ironbell why -at 2026-12-25 "Monthly board pack"`, Setup: whyCommand,
	},
	{
		Name: "on", Args: "JOB", Summary: "switch a job on, at once", Example: `ironbell on "Open defects"`,
		Setup: switchCommand(true),
	},
	{
		Name: "off", Args: "JOB", Summary: "switch a job off, at once; every setting is kept",
		Example: `ironbell off "Open defects"`, Setup: switchCommand(false),
	},
	{
		Name: "runs", Args: "", Summary: "list runs, newest first",
		Example: `ironbell runs -job "Open defects" -state failed,partly`, Setup: runsCommand,
	},
	{
		Name: "run", Args: "RUN", Summary: "show one run: why, attempts, files, deliveries",
		Example: "ironbell run 2611-42", Setup: runCommand,
	},
	{
		Name: "follow", Args: "RUN", Summary: "follow a run until its outcome; the exit status tells it",
		Example: "ironbell follow 2611-42\n" + exitHelp, Setup: followCommand,
	},
	{
		Name: "when", Args: `-- "RULE"`, Summary: "say what a rule means and when it rings; needs no service",
		Example: `ironbell when -zone Europe/London -- "on the last open day of every month at 18:00"`,
		Setup:   whenCommand,
	},
	{
		Name: "forecast", Args: "", Summary: "the rings to come, what moves them, and where they clash",
		Example: "ironbell forecast -days 3 -job fuel", Setup: forecastCommand,
	},
	{
		Name: "calendars", Args: "", Summary: "list the calendars of open and closed days",
		Example: "ironbell calendars", Setup: calendarsCommand,
	},
	{
		Name: "calendar", Args: "CALENDAR", Summary: "show a calendar, or take its closed days from an iCalendar file",
		Example: "ironbell calendar Harbour\nironbell calendar -read harbour.ics -try Harbour", Setup: calendarCommand,
	},
	{
		Name: "feed", Args: "", Summary: "make a personal link by which a calendar program shows the forecast",
		Example: "ironbell feed", Setup: feedCommand,
	},
	{
		Name: "queue", Args: "", Summary: "what works and what waits, and why", Example: "ironbell queue",
		Setup: queueCommand,
	},
	{
		Name: "limits", Args: "[LABEL=N...]", Summary: "show or set how much may work at once",
		Example: "ironbell limits source:tarnwick=2 tag:nightly=none", Setup: limitsCommand,
	},
	{
		Name: "freeze", Args: "LABEL", Summary: "hold back everything (service), a source, a destination or a tag",
		Example: `ironbell freeze -to "2026-12-27 08:00" -reason "the mail server moves" "destination:company mail"` +
			"\nironbell freeze -try -to \"2026-12-27 08:00\" tag:nightly",
		Setup: freezeCommand,
	},
	{Name: "freezes", Args: "", Summary: "list what is frozen", Example: "ironbell freezes", Setup: freezesCommand},
	{Name: "lift", Args: "FREEZE", Summary: "end a freeze now", Example: "ironbell lift 3", Setup: liftCommand},
	{
		Name: "event", Args: "TYPE", Summary: "report an event that jobs wait for",
		Example: "ironbell event -data port=Pennold example.tarnwick.ledger.closed", Setup: eventCommand,
	},
	{
		Name: "events", Args: "", Summary: "list the events that were reported, with what each started; -play one again",
		Example: "ironbell events -type example.tarnwick.ledger.closed\nironbell events -play 41", Setup: eventsCommand,
	},
	{
		Name: "waiting", Args: "[JOB]",
		Summary: "list what jobs wait for beside the time, and how far each has come; -look at it now, and start nothing",
		Example: "ironbell waiting\nironbell waiting -look \"Tide gauges\"", Setup: waitingCommand,
	},
	{
		Name: "senders", Args: "", Summary: "list the programs outside that report events, with what they sent lately",
		Example: "ironbell senders", Setup: sendersCommand,
	},
	{
		Name: "sender", Args: "SENDER", Summary: "show a program that reports events, add or change it, make its token or key",
		Example: `ironbell sender -sends "/gauges/7=example.tarnwick.tide.*" -pace 600 -token "Tide gauge 7"` + "\n" +
			`ironbell sender -key -overlap 24 "Tide gauge 7"`, Setup: senderCommand,
	},
	{
		Name: "subscriptions", Args: "", Summary: "list the addresses that the service's own events go to, and how far each is",
		Example: "ironbell subscriptions", Setup: subscriptionsCommand,
	},
	{
		Name: "subscription", Args: "SUBSCRIPTION",
		Summary: "show where events of the service go, add or change it; -replay them from a point",
		Example: `ironbell subscription -type ironbell.run.ended -type "ironbell.alert.*" -to "Duty screen" "Duty office"` + "\n" +
			`ironbell subscription -replay "2027-01-11 06:00" "Duty office"`, Setup: subscriptionCommand,
	},
	{
		Name: "published", Args: "", Summary: "list the events that the service told of itself",
		Example: "ironbell published -type ironbell.run.ended", Setup: publishedCommand,
	},
	{
		Name: "house", Args: "", Summary: "show how what leaves the house looks; -send a logo or a typeface for it",
		Example: "ironbell house\nironbell house -send quay-house.svg", Setup: houseCommand,
	},
	{
		Name: "workbooks", Args: "REPORT", Summary: "show what the workbooks of a report take; -send one, -get one back",
		Example: "ironbell workbooks \"Fuel burn by vessel\"\nironbell workbooks -send fuel-book.xlsx \"Fuel burn by vessel\"", Setup: workbooksCommand,
	},
	{
		Name: "kinds", Args: "[KIND]", Summary: "say what the kinds of task are for, with an example of one",
		Example: "ironbell kinds collect", Setup: kindsCommand,
	},
	{
		Name: "reports", Args: "[PART OF NAME]", Summary: "list reports", Example: "ironbell reports fuel",
		Setup: reportsCommand,
	},
	{
		Name: "report", Args: "REPORT",
		Summary: "show one report: what it asks for, its sections, the jobs that use it",
		Example: `ironbell report "Vehicle-deck load"`, Setup: reportCommand,
	},
	{
		Name: "preview", Args: "REPORT", Summary: "show the first rows of a report; Ctrl-C ends its queries",
		Example: `ironbell preview -value from="start of month" -value port=GS -value port=EH "Vehicle-deck load"`,
		Setup:   previewCommand,
	},
	{
		Name: "render", Args: "REPORT", Summary: "make a file of a report now, outside of any job",
		Example: `ironbell render -as pdf -o load.pdf "Vehicle-deck load"` + "\n" +
			`ironbell render -as xlsx -cost "Vehicle-deck load"`, Setup: renderCommand,
	},
	{
		Name: "compare", Args: "RUN [EARLIER RUN]", Summary: "compare the rows of two runs of a job",
		Example: "ironbell compare 2611-57 2611-42", Setup: compareCommand,
	},
	{
		Name: "sources", Args: "[SOURCE]",
		Summary: "list sources, or show one with its identities; -test asks it for an answer",
		Example: "ironbell sources -test tarnwick", Setup: sourcesCommand,
	},
	{Name: "alerts", Args: "", Summary: "list what needs somebody", Example: "ironbell alerts", Setup: alertsCommand},
	{
		Name: "acknowledge", Was: "take", Args: "ALERT", Summary: "acknowledge an alert, or close it",
		Example: "ironbell acknowledge 7\nironbell acknowledge -close 7", Setup: acknowledgeCommand,
	},
	{
		Name: "settle", Args: "DELIVERY",
		Summary: "say what became of a delivery whose answer was lost, or send a failed one again",
		Example: "ironbell settle -as sent 26110000000031", Setup: settleCommand,
	},
	{
		Name: "deliveries", Args: "", Summary: "list deliveries: to whom, over what, and what the other side said",
		Example: "ironbell deliveries -state failed,unknown\nironbell deliveries -kept-back rest",
		Setup:   deliveriesCommand,
	},
	{
		Name: "resend", Args: "RUN", Summary: "send again what a run could not deliver",
		Example: "ironbell resend 2611-42", Setup: resendCommand,
	},
	{
		Name: "correct", Args: "RUN",
		Summary: "a wrong report went out: send the right one to the same people, and withdraw its links",
		Example: `ironbell correct -wrong "The loads of Pennold were missing." 2611-42`, Setup: correctCommand,
	},
	{
		Name: "withdraw", Args: "RUN", Summary: "withdraw the links to a run's files",
		Example: "ironbell withdraw 2611-42", Setup: withdrawCommand,
	},
	{
		Name: "allow", Args: "DELIVERY", Summary: "say yes, or no, to mail to an address outside the allowed domains",
		Example: "ironbell allow 26110000000031\nironbell allow -no 26110000000031", Setup: allowCommand,
	},
	{
		Name: "destinations", Args: "[DESTINATION]",
		Summary: "list destinations, show what goes to one, try it, add or change it",
		Example: `ironbell destinations -test "company mail"` + "\n" +
			`ironbell destinations -protocol sftp -set host=files.harbour.example -set user=ferries -password-from - -test "Harbour authority files"`, Setup: destinationsCommand,
	},
	{
		Name: "people", Args: "[PART OF NAME]", Summary: "list the people: how they sign in, their mail and role",
		Example: "ironbell people mara", Setup: peopleCommand,
	},
	{
		Name: "groups", Args: "", Summary: "list the groups with their members", Example: "ironbell groups",
		Setup: groupsCommand,
	},
	{
		Name: "posts", Args: "", Summary: "draw the posts of the organisation, with who holds them",
		Example: "ironbell posts", Setup: postsCommand,
	},
	{
		Name: "whom", Args: "RECIPIENT...", Summary: "say whom some recipients come to now",
		Example: `ironbell whom "group:Port masters" "under:Engineering superintendent"`, Setup: whomCommand,
	},
	{
		Name: "mine", Args: "", Summary: "show what you receive, may join and own, and what waits for you",
		Example: "ironbell mine\nironbell mine -join \"Port day sheet\"", Setup: mineCommand,
	},
	{
		Name: "schedule", Args: "REPORT RULE", Summary: "have a report that is open to you sent to yourself",
		Example: `ironbell schedule -form xlsx "Vehicle-deck load" "on friday at 16:30"`, Setup: scheduleCommand,
	},
	{
		Name: "receives", Args: "LOGIN", Summary: "list what a person receives; take them off a list, or off all",
		Example: "ironbell receives oren\nironbell receives -leave all oren", Setup: receivesCommand,
	},
	{
		Name: "records", Args: "[KIND]", Summary: "list every record that people edit, by kind and name",
		Example: "ironbell records destination", Setup: recordsCommand,
	},
	{
		Name: "show", Args: "KIND NAME", Summary: "show a record as a file, or write all of them into a folder",
		Example: "ironbell show job \"Port day sheet\" > sheet.yaml\nironbell show -into tarnwick",
		Setup:   showCommand,
	},
	{
		Name: "save", Args: "FILE...", Summary: "save records from files or folders, each after those that it speaks of",
		Example: "ironbell save -try sheet.yaml\nironbell save -passwords passwords.yaml tarnwick", Setup: saveCommand,
	},
	{
		Name: "edit", Args: "KIND NAME", Summary: "open a record as a file in your EDITOR, and save what you change",
		Example: `ironbell edit group "Port masters"`, Setup: editCommand,
	},
	{
		Name: "rename", Args: "KIND NAME NEW-NAME", Summary: "give a record another name; whatever speaks of it is rewritten",
		Example: `ironbell rename -try group "Port masters" "Harbour masters"`, Setup: renameCommand,
	},
	{
		Name: "duplicate", Args: "KIND NAME NEW-NAME", Summary: "make a copy of a record under another name",
		Example: `ironbell duplicate job "Port day sheet" "Port week sheet"`, Setup: copyRecordCommand,
	},
	{
		Name: "remove", Args: "KIND NAME...", Summary: "remove records, all or none; for 30 days they can be brought back",
		Example: `ironbell remove -try report "Open defects"` + "\n" +
			`ironbell remove job "Open defects" report "Open defects"`, Setup: removeCommand,
	},
	{
		Name: "bring-back", Args: "[KIND NAME...]", Summary: "list what was removed, or bring it back",
		Example: `ironbell bring-back job "Open defects"`, Setup: bringBackCommand,
	},
	{
		Name: "schema", Args: "", Summary: "print the JSON Schema of a record's file, for editors",
		Example: "ironbell schema > ironbell-record.schema.json", Setup: schemaCommand,
	},
	{
		Name: "copy", Args: "", Summary: "tell whether this installation is a restored copy, and say what it is",
		Example: "ironbell copy\nironbell copy -send test.desk@tarnwick.example -name \"destination:test share\"",
		Setup:   copyCommand,
	},
	{
		Name: "state", Args: "",
		Summary: "show what an operator must know: what stands still, rests, fills up, or can tell nobody",
		Example: "ironbell state", Setup: stateCommand,
	},
	{
		Name: "nodes", Args: "", Summary: "list the nodes, or let one finish what it has and take no more work",
		Example: "ironbell nodes\nironbell nodes -finish quay-2 -wait 10m", Setup: nodesCommand,
	},
	{
		Name: "sign-in", Args: "", Summary: "sign in at a service and keep a token for later calls",
		Example: "ironbell sign-in -url https://bell.tarnwick.example -login mara", Setup: signInCommand,
	},
	{
		Name: "sign-out", Args: "", Summary: "end the token that is kept, and forget it", Example: "ironbell sign-out",
		Setup: signOutCommand,
	},
	{
		Name: "sign-ins", Args: "", Summary: "list the sessions and tokens that you have open, or -end one",
		Example: "ironbell sign-ins -of mara", Setup: signInsCommand,
	},
	{
		Name: "password", Args: "", Summary: "change your own password; all your other sessions and tokens end",
		Example: "ironbell password", Setup: passwordCommand,
	},
	{
		Name: "version", Args: "", Summary: "print the versions of this client and of the service, and how they differ",
		Example: "ironbell version", Setup: versionOf,
	},
}

type runner = func(ctx context.Context, i IO, args []string) (int, error)

func jsonFlag(f *flag.FlagSet) *bool { return f.Bool("json", false, "print JSON for programs") }

// only takes the one argument that a command needs.
func only(args []string, what string) (string, error) {
	if len(args) != 1 {
		return "", &Usage{fmt.Sprintf("it takes one %s; put a name with blanks in quotes", what)}
	}
	return args[0], nil
}

// show prints an answer as JSON or by a printer for people.
func show[T any](i IO, asJSON bool, v T, print func(IO, T)) (int, error) {
	if asJSON {
		return exitOK, printJSON(i.Out, v)
	}
	print(i, v)
	return exitOK, nil
}

func jobsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		jobs, err := i.connect().Jobs(ctx, strings.Join(args, " "))
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, jobs, printJobs)
	}
}

func jobCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name, err := only(args, "job")
		if err != nil {
			return 0, err
		}
		page, err := i.connect().Job(ctx, name)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, page, printJob)
	}
}

// valueFlag reads -value name=text, as often as wanted; a name that comes again
// makes a list.
type valueFlag job.Values

func (v valueFlag) String() string { return "" }

func (v valueFlag) Set(text string) error {
	name, value, ok := strings.Cut(text, "=")
	if !ok || name == "" {
		return fmt.Errorf("write it as name=value")
	}
	switch had := v[name].(type) {
	case nil:
		v[name] = value
	case []string:
		v[name] = append(had, value)
	default:
		v[name] = []string{fmt.Sprint(had), value}
	}
	return nil
}

func ringCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	follow := f.Bool("follow", false, "follow the run until its outcome")
	rehearse := f.Bool("rehearse", false, "everything runs for real, and the results go only to you")
	from := f.String("for", "", "a past `date` for which it runs as if it had rung then, such as 2026-11-03")
	to := f.String("to", "", "the last `date` of a range that begins with -for")
	values := valueFlag{}
	f.Var(values, "value", "a value that goes before the job's, as `name=value`; may be given several times")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name, err := only(args, "job")
		if err != nil {
			return 0, err
		}
		c := i.connect()
		runs, err := ask(ctx, c, name, job.Values(values), *rehearse, *from, *to)
		if err != nil {
			return 0, err
		}
		if *follow && len(runs) == 1 {
			return followRun(ctx, i, c, runs[0].ID, *asJSON)
		}
		if *asJSON && *from == "" {
			return exitOK, printJSON(i.Out, runs[0])
		}
		return show(i, *asJSON, runs, func(i IO, runs []job.Run) {
			for _, r := range runs {
				what := r.Reason
				if r.Rehearsal {
					what += " (a rehearsal: its results go only to you)"
				}
				if *from != "" {
					what += ", for " + wall(r.Nominal, zoneOf(r.Zone))
				}
				fmt.Fprintf(i.Out, "Run %s of %s waits %s. Follow it with: ironbell follow %s\n", r.ID, r.Job, what,
					r.ID)
			}
		})
	}
}

func switchCommand(on bool) func(*flag.FlagSet) runner {
	return func(f *flag.FlagSet) runner {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, i IO, args []string) (int, error) {
			name, err := only(args, "job")
			if err != nil {
				return 0, err
			}
			j, err := i.connect().Switch(ctx, name, on)
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, j, printSwitched)
		}
	}
}

func runsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	jobName := f.String("job", "", "only runs of this `job`")
	state := f.String("state", "", "only runs in these `states`, separated by commas")
	limit := f.Int("limit", 30, "how many at most, up to 1000")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) > 0 {
			return 0, &Usage{"it takes no arguments; name a job with -job"}
		}
		filter := client.RunFilter{Job: *jobName, Limit: *limit}
		if *state != "" {
			filter.States = strings.Split(*state, ",")
		}
		runs, err := i.connect().Runs(ctx, filter)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, runs, printRuns)
	}
}

func runArgument(args []string) (job.RunID, error) {
	text, err := only(args, "run")
	if err != nil {
		return 0, err
	}
	id, ok := job.ParseRunID(text)
	if !ok {
		return 0, &Usage{fmt.Sprintf("%q is no number of a run; write it as 2611-42", text)}
	}
	return id, nil
}

func runCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	withLog := f.Bool("log", false, "show the log, too")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		id, err := runArgument(args)
		if err != nil {
			return 0, err
		}
		c := i.connect()
		page, err := c.Run(ctx, id)
		if err != nil {
			return 0, err
		}
		if *asJSON {
			return exitOK, printJSON(i.Out, page)
		}
		printRun(i, page)
		if *withLog {
			heading(i, "Log")
			for last, more := int64(0), true; more; {
				lines, err := c.Log(ctx, id, last)
				if err != nil {
					return 0, err
				}
				for _, l := range lines {
					printLine(i, l, zoneOf(page.Zone))
					last = l.N
				}
				more = len(lines) > 0
			}
		}
		return exitOK, nil
	}
}

func followCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		id, err := runArgument(args)
		if err != nil {
			return 0, err
		}
		return followRun(ctx, i, i.connect(), id, *asJSON)
	}
}

func alertsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	all := f.Bool("all", false, "those that are closed, too")
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		states := []string{"open", "acknowledged"}
		if *all {
			states = append(states, "closed")
		}
		alerts, err := i.connect().Alerts(ctx, states...)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, alerts, printAlerts)
	}
}

func acknowledgeCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	end := f.Bool("close", false, "close it: it was put right")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		text, err := only(args, "alert")
		if err != nil {
			return 0, err
		}
		id, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return 0, &Usage{fmt.Sprintf("%q is no number of an alert; ironbell alerts lists them", text)}
		}
		c := i.connect()
		act := c.Acknowledge
		if *end {
			act = c.CloseAlert
		}
		a, err := act(ctx, id)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, a, func(i IO, a job.Alert) {
			fmt.Fprintf(i.Out, "Alert %d of %s is %s.\n", a.ID, a.Job, a.State)
		})
	}
}

func settleCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	as := f.String("as", "", "`sent` (it did arrive), failed (it did not) or resend")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		text, err := only(args, "delivery")
		if err != nil {
			return 0, err
		}
		id, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return 0, &Usage{fmt.Sprintf("%q is no number of a delivery; ironbell run RUN lists them", text)}
		}
		if *as == "" {
			return 0, &Usage{"say with -as what became of it: sent, failed or resend"}
		}
		d, err := i.connect().Settle(ctx, id, *as)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, d, func(i IO, d job.Delivery) {
			fmt.Fprintf(i.Out, "The delivery to %s is now %s.\n", d.Address, d.State)
		})
	}
}
