package cli

import (
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
)

// Reference writes the part of the reference that is about commands: each with its arguments,
// flags, defaults and an example, as help prints them.
func Reference(w io.Writer, name string, more ...Command) {
	all := slices.Concat(clientCommands, more)
	slices.SortFunc(all, func(a, b Command) int { return strings.Compare(a.Name, b.Name) })
	fmt.Fprintf(w, "## Commands\n\nFlags may stand before, between and behind the arguments. The service is found by "+
		"`IRONBELL_URL` and `IRONBELL_TOKEN`,\nor where `%s sign-in` has signed in. A command ends with 0 when it did "+
		"what was asked, 1 when it could not, 2 when it was\ncalled wrongly; `follow` and `ring -follow` tell the outcome "+
		"of the run.\n", name)
	for _, c := range all {
		fmt.Fprintf(w, "\n### %s\n\n%s.\n\n```\n%s\n```\n", strings.TrimSpace(c.Name+" "+c.Args),
			strings.ToUpper(c.Summary[:1])+c.Summary[1:], c.Example)
		flags := flag.NewFlagSet(c.Name, flag.ContinueOnError)
		c.Setup(flags)
		first := true
		flags.VisitAll(func(f *flag.Flag) {
			if first {
				fmt.Fprint(w, "\n| flag | what it does |\n|---|---|\n")
				first = false
			}
			what, usage := flag.UnquoteUsage(f)
			if what != "" {
				what = " " + what
			}
			if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" && f.DefValue != "0s" {
				usage += "; " + f.DefValue + " when left out"
			}
			fmt.Fprintf(w, "| `-%s%s` | %s |\n", f.Name, what, cell(usage))
		})
		if c.Was != "" {
			fmt.Fprintf(w, "\nIn versions before it was called `%s`, which works on.\n", c.Was)
		}
	}
}

// cell is a text as it stands in a table.
func cell(text string) string {
	return strings.ReplaceAll(strings.ReplaceAll(text, "|", `\|`), "\n", " ")
}
