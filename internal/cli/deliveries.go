package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/jedib0t/go-pretty/v6/table"
)

func deliveriesCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	var w client.Which
	states := f.String("state", "",
		"only those in these `states`, separated by commas: waiting, sending, offered, sent, failed, bounced, unknown")
	f.StringVar(&w.Destination, "destination", "", "only those to this `destination`")
	f.StringVar(&w.Address, "to", "", "only those to this `address` or path")
	f.StringVar(&w.Run, "run", "", "only those of this `run`")
	f.StringVar(&w.KeptBack, "kept-back", "",
		"only those that are kept back: since their destination `rest`s, until a second person says yes, or since "+
			"the installation is silent")
	f.IntVar(&w.Limit, "n", 50, "how many")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) > 0 {
			return 0, &Usage{"it takes no arguments; use its options to choose"}
		}
		if *states != "" {
			w.States = strings.Split(*states, ",")
		}
		list, err := i.connect().Record(ctx, w)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, list, printDeliveries)
	}
}

func printDeliveries(i IO, list []job.Delivery) {
	if len(list) == 0 {
		fmt.Fprintln(i.Out, "No deliveries.")
		return
	}
	t := newTable(i, "Delivery", "At", "", "To", "Over", "Tries", "What the other side said")
	for _, d := range list {
		at := d.CreatedAt
		if d.SettledAt != nil {
			at = *d.SettledAt
		}
		to := d.Address
		if d.WentTo != "" {
			to = d.WentTo
		}
		t.AppendRow(table.Row{
			d.ID, i.wall(at), deliveryWord(d), ends(to, 50), shortened(d.Destination, 22),
			d.Tries, shortened(d.Answer, 64),
		})
	}
	t.Render()
}

// deliveryWord is the state of a delivery, and why it is kept back.
func deliveryWord(d job.Delivery) string {
	switch d.KeptBack {
	case job.KeptForRest:
		return glyph("waiting") + " waits for the destination"
	case job.KeptForYes:
		return glyph("waiting") + " waits for a yes"
	case job.KeptForSilent:
		return glyph("waiting") + " kept back, silent"
	case job.KeptForTurn:
		return glyph("waiting") + " waits for the one before"
	}
	return stateWord(d.State)
}

// ends leaves the middle of a long text out: the ends of paths tell them apart.
func ends(text string, most int) string {
	runes := []rune(text)
	if len(runes) <= most {
		return text
	}
	head := most / 3
	return string(runes[:head]) + "…" + string(runes[len(runes)-(most-head-1):])
}

func shortened(text string, most int) string {
	runes := []rune(text)
	if len(runes) <= most {
		return text
	}
	return string(runes[:most-1]) + "…"
}

func allowCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	no := f.Bool("no", false, "say no: it does not go out")
	until := f.String("until", "",
		"let all that the job sends there go out until this `date`, at most a year, while neither the job nor its "+
			"reports nor the destination are saved")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		text, err := only(args, "delivery")
		if err != nil {
			return 0, err
		}
		id, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return 0,
				&Usage{fmt.Sprintf("%q is no number of a delivery; ironbell deliveries -kept-back yes lists "+
					"those that wait", text)}
		}
		var last time.Time
		if *until != "" {
			here, err := i.askedZone(ctx)
			if err != nil {
				return 0, err
			}
			if last, err = time.ParseInLocation(time.DateOnly, *until, here); err != nil || *no {
				return 0, &Usage{"-until takes a date, such as 2027-03-31, and goes with a yes"}
			}
		}
		d, err := i.connect().Allow(ctx, id, !*no, last)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, d, func(i IO, d job.Delivery) {
			fmt.Fprintf(i.Out, "The delivery to %s: %s\n", d.Address, deliveryWord(d))
		})
	}
}

func resendCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		id, err := runArgument(args)
		if err != nil {
			return 0, err
		}
		n, err := i.connect().Resend(ctx, id)
		if err != nil {
			return 0, err
		}
		if *asJSON {
			return exitOK, printJSON(i.Out, wire.Count{N: n})
		}
		if n == 0 {
			fmt.Fprintf(i.Out, "Nothing of run %s had failed; nothing was sent.\n", id)
			return exitOK, nil
		}
		fmt.Fprintf(i.Out, "%d deliveries of run %s go out again. Who had it gets it no second time. "+
			"A destination that rests is looked at now.\n", n, id)
		return exitOK, nil
	}
}

func correctCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	wrong := f.String("wrong", "", "what was wrong, as a `sentence` for those who got it")
	values := valueFlag{}
	f.Var(values, "value", "a value of the new run, as `name=value`; may be given several times")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		id, err := runArgument(args)
		if err != nil {
			return 0, err
		}
		if strings.TrimSpace(*wrong) == "" {
			return 0, &Usage{"say with -wrong what was wrong; those who got it read it"}
		}
		run, err := i.connect().Again(ctx, id, wire.AgainRequest{
			Whole: true, Values: job.Values(values), Correction: *wrong,
		})
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, run, func(i IO, r job.Run) {
			fmt.Fprintf(i.Out,
				"Run %s corrects run %s: it goes to those whom that one reached, and that one's links are "+
					"withdrawn.\nFollow it with: ironbell follow %s\n", r.ID, id, r.ID)
		})
	}
}

func withdrawCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		id, err := runArgument(args)
		if err != nil {
			return 0, err
		}
		n, err := i.connect().WithdrawLinks(ctx, id, 0)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, wire.Count{N: n}, func(i IO, c wire.Count) {
			fmt.Fprintf(i.Out, "%d links to files of run %s were withdrawn.\n", c.N, id)
		})
	}
}

func whomCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) == 0 {
			return 0, &Usage{"name recipients: addresses, person:login, group:name, post:name, under:name"}
		}
		w, err := i.connect().Whom(ctx, args...)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, w, func(i IO, w wire.Whom) {
			for _, a := range w.Addresses {
				fmt.Fprintln(i.Out, a)
			}
			for _, n := range w.Notes {
				fmt.Fprintf(i.Out, "%s %s\n", glyph("passed over"), n)
			}
			for _, x := range w.Wrong {
				fmt.Fprintf(i.Out, "%s %s\n", glyph("failed"), x.Sentence)
			}
		})
	}
}

func receivesCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	leave := f.String("leave", "", "take them off the list of this `job`; all takes them off all lists")
	back := f.String("return", "", "put them on the list of this `job` again; all puts them on all")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		login, err := only(args, "sign-in name")
		if err != nil {
			return 0, err
		}
		c := i.connect()
		for text, off := range map[*string]bool{leave: true, back: false} {
			if *text == "" {
				continue
			}
			name := *text
			if name == "all" {
				name = ""
			}
			n, err := c.Leave(ctx, login, name, off)
			if err != nil {
				return 0, err
			}
			fmt.Fprintf(i.Out, "%s: %d lists changed.\n", login, n)
		}
		list, err := c.Receives(ctx, login)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, list, func(i IO, list []wire.Receives) {
			if len(list) == 0 {
				fmt.Fprintf(i.Out, "No job sent anything to %s in the last 30 days.\n", login)
				return
			}
			printReceives(i, list, "left its list", "may leave")
		})
	}
}

// printReceives lists what somebody receives; left and mayLeave are said of lists.
func printReceives(i IO, list []wire.Receives, left, mayLeave string) {
	t := newTable(i, "Job", "Sent in 30 days", "Last", "", "")
	for _, r := range list {
		last, word := "", ""
		if r.LastAt != nil {
			last = i.wall(*r.LastAt)
		}
		switch {
		case r.Left:
			word = left
		case r.MayLeave:
			word = mayLeave
		}
		t.AppendRow(table.Row{r.Job, r.Sent, last, stateWord(r.Last), word})
	}
	t.Render()
}

func copyCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	var named []string
	f.Func("name",
		"something that a copy for tests may act on, as `label`: destination:NAME, source:NAME (statements), "+
			"program:NAME or event:TYPE; may be given several times", func(s string) error {
			named = append(named, s)
			return nil
		})
	say := f.String("send", "",
		"say what the copy is and let it work: `all` when it goes on in place of the first one, none or an address "+
			"when it is for tests")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) > 0 {
			return 0, &Usage{"it takes no arguments"}
		}
		c := i.connect()
		switch *say {
		case "":
			copied, err := c.Copy(ctx)
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, copied, printCopy)
		case "all", "none":
			if err := c.SayCopy(ctx, *say, "", named...); err != nil {
				return 0, err
			}
		default:
			if err := c.SayCopy(ctx, string(job.SendOne), *say, named...); err != nil {
				return 0, err
			}
		}
		copied, err := c.Copy(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, copied, func(i IO, _ wire.Copy) { fmt.Fprintln(i.Out, "It works from now on.") })
	}
}

func printCopy(i IO, copied wire.Copy) {
	switch {
	case copied.Since == nil && copied.Test:
		acts := "nothing"
		if len(copied.Named) > 0 {
			acts = strings.Join(copied.Named, ", ")
		}
		fmt.Fprintf(i.Out,
			"This is a copy for tests. Outside itself it acts on %s; mail goes as the settings of mail say.\n", acts)
	case copied.Since == nil:
		fmt.Fprintln(i.Out, "Nothing shows that this installation is a copy.")
	default:
		fmt.Fprintf(i.Out, "%s This is a copy, known since %s. It stands still and sends nothing. Why: %s.\n",
			glyph("failed"), i.wall(*copied.Since), copied.Why)
		fmt.Fprintln(i.Out,
			"Say what it is: ironbell copy -send all, when it goes on in place of the first one; ironbell copy "+
				"-send none, or -send an address, when it is for tests. A copy for tests acts on nothing else "+
				"outside itself, unless it is named with -name.")
	}
}
