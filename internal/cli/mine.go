package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
)

func mineCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	join := f.String("join", "", "get the mails of this `job`, which is open to you")
	unjoin := f.String("unjoin", "", "no longer get the mails of this `job`, which you joined")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) > 0 {
			return 0, &Usage{"it takes no arguments"}
		}
		c := i.connect()
		if *join != "" {
			if err := c.Join(ctx, *join, true); err != nil {
				return 0, err
			}
		}
		if *unjoin != "" {
			if err := c.Join(ctx, *unjoin, false); err != nil {
				return 0, err
			}
		}
		mine, err := c.Mine(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, mine, printMine)
	}
}

func scheduleCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	form := f.String("form", "pdf", "as what it comes: pdf, xlsx, csv, html-mail or pptx")
	change := f.String("change", "", "change the own schedule that is this `job`, in place of a new one")
	values := valueFlag{}
	f.Var(values, "value", "a value of what the report asks for, as `name=value`; may be given several times")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) != 2 {
			return 0, &Usage{"it takes a report and a rule, each in quotes"}
		}
		j, err := i.connect().Schedule(ctx, *change, job.OwnSchedule{
			Report: args[0], When: args[1], Form: *form, Values: job.Values(values),
		})
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, j, func(i IO, j job.Job) {
			next := "it is off"
			if at := j.Triggers[0].NextDue; at != nil {
				next = "next on " + at.In(i.zone()).Format("Mon 2 Jan 2006 15:04 MST")
			}
			fmt.Fprintf(i.Out, "%s: %s, %s. ironbell off %s pauses it, ironbell remove job %s ends it.\n",
				j.Name, j.Triggers[0].Reading, next, quoted(j.Name), quoted(j.Name))
		})
	}
}

func printMine(i IO, m wire.Mine) {
	fmt.Fprintln(i.Out, "What waits for you")
	if len(m.Alerts)+len(m.Unknown)+len(m.Consents) == 0 {
		fmt.Fprintln(i.Out, "  Nothing.")
	}
	if len(m.Alerts) > 0 {
		printAlerts(i, m.Alerts)
	}
	for _, a := range m.Unknown {
		fmt.Fprintf(i.Out, "  Whether mail of %s to %s arrived, nobody knows: ironbell deliveries -run %s\n", a.Job, a.Address, a.Run)
	}
	for _, a := range m.Consents {
		fmt.Fprintf(i.Out, "  Mail of %s to %s waits for a second person's yes: ironbell deliveries -run %s\n", a.Job, a.Address, a.Run)
	}
	heading(i, "What you receive")
	for _, o := range m.Open {
		word := "open to you: ironbell mine -join " + quoted(o.Job)
		if o.Joined {
			word = "you joined; ironbell mine -unjoin " + quoted(o.Job) + " ends it"
		}
		fmt.Fprintf(i.Out, "  %s, of %s. %s\n    %s\n", o.Job, o.Owner, o.Says, word)
	}
	if len(m.Receives) > 0 {
		printReceives(i, m.Receives, "you left its list", "you may leave")
	} else if len(m.Open) == 0 {
		fmt.Fprintln(i.Out, "  No job sent anything to you in the last 30 days, and none is open to you.")
	}
	if len(m.Schedules)+len(m.ToSchedule) > 0 {
		heading(i, "What you schedule for yourself")
	}
	for _, s := range m.Schedules {
		next := "off"
		if s.NextDue != nil {
			next = "next " + i.wall(*s.NextDue)
		}
		fmt.Fprintf(i.Out, "  %s: %s, %s, as %s\n", s.Name, strings.Join(s.Readings, "; "), next, s.Form)
	}
	for _, r := range m.ToSchedule {
		fmt.Fprintf(i.Out, "  open to you: ironbell schedule %s \"every day at 07:00\"\n", quoted(r.Report))
	}
	heading(i, "What you own")
	if len(m.Jobs) > 0 {
		printJobs(i, m.Jobs)
	}
	if len(m.Reports) > 0 {
		fmt.Fprintf(i.Out, "  %s: %s\n", phrase.Count(len(m.Reports), "report"), strings.Join(m.Reports, ", "))
	}
	if len(m.Jobs)+len(m.Reports) == 0 {
		fmt.Fprintln(i.Out, "  No job and no report is yours.")
	}
}

func quoted(name string) string { return fmt.Sprintf("%q", name) }
