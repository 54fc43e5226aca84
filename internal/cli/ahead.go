package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/zone"
)

func aheadCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		name, err := only(args, "job")
		if err != nil {
			return 0, err
		}
		a, err := i.connect().Ahead(ctx, name)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, a, printAhead)
	}
}

func printAhead(i IO, a job.Ahead) {
	for _, w := range a.Wrong {
		fmt.Fprintf(i.Out, "%s %s\n", glyph("failed"), strings.TrimPrefix(w.Where+": "+w.Sentence, ": "))
	}
	if a.Says != "" {
		fmt.Fprintf(i.Out, "%s\n\n", a.Says)
	}
	for _, c := range a.Covered {
		fmt.Fprintf(i.Out, "! %s\n", c.Says)
	}
	place, err := zone.Load(a.Zone)
	if err != nil {
		place = time.Local
	}
	if len(a.Next) == 0 {
		fmt.Fprintln(i.Out, "It rings at no time of its own.")
	}
	several := slices.ContainsFunc(a.Next, func(r job.AheadRing) bool { return r.Reading != a.Next[0].Reading })
	for n, r := range a.Next {
		fmt.Fprintf(i.Out, "%-7s %s", map[bool]string{true: "Rings"}[n == 0],
			r.Due.In(place).Format("Mon 2 Jan 2006 15:04 MST"))
		if day := r.Nominal.In(place).Format("Mon 2 Jan"); day != r.Due.In(place).Format("Mon 2 Jan") {
			fmt.Fprintf(i.Out, ", for %s", day)
		}
		if several {
			fmt.Fprintf(i.Out, "  %s", r.Reading)
		}
		fmt.Fprintln(i.Out)
	}
	if a.Parts > 0 {
		names := make([]string, len(a.Each))
		for n, p := range a.Each {
			names[n] = p.Name
		}
		fmt.Fprintf(i.Out, "One run with %s: %s. This is the first, %s:\n", phrase.Count(a.Parts, "part"), phrase.Few(names),
			a.Part)
	}
	for _, t := range a.Tasks {
		fmt.Fprintf(i.Out, "\n%s, %s", t.Task, t.Kind)
		if t.Destination != "" {
			fmt.Fprintf(i.Out, ` over "%s"`, t.Destination)
		}
		fmt.Fprintln(i.Out)
		line := func(label string, texts ...string) {
			for _, text := range texts {
				if text != "" {
					fmt.Fprintf(i.Out, "  %-8s %s\n", label, text)
					label = ""
				}
			}
		}
		line("subject", t.Subject)
		line("text", strings.Split(t.Body, "\n")...)
		line("files", t.Files...)
		const most = 20
		line("to", t.To[:min(len(t.To), most)]...)
		if t.Recipients > most {
			line("", fmt.Sprintf("and %d more", t.Recipients-most))
		}
		line("seen by", t.Seen)
		line("note", t.Notes...)
		line(glyph("failed"), t.Wrong)
	}
}
