package cli

import (
	"context"
	"flag"
	"fmt"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/phrase"
)

// refs takes pairs of a kind and a name: several records, the kind said for each.
func refs(args []string) ([]wire.RecordName, error) {
	if len(args) == 0 || len(args)%2 != 0 {
		return nil, &Usage{`it takes a kind and a name for each record, such as job "Open defects"; put a name with blanks in quotes`}
	}
	out := make([]wire.RecordName, 0, len(args)/2)
	for n := 0; n < len(args); n += 2 {
		out = append(out, wire.RecordName{Kind: args[n], Name: args[n+1]})
	}
	return out, nil
}

func removeCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	try := f.Bool("try", false, "remove nothing, and tell what would keep it and what would end with it")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		all, err := refs(args)
		if err != nil {
			return 0, err
		}
		removed, err := i.connect().RemoveRecords(ctx, all, *try)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, removed, func(i IO, all []wire.Removal) {
			for _, r := range all {
				printRemoval(i, r, *try)
			}
			if !*try {
				fmt.Fprintln(i.Out, "For 30 days ironbell bring-back brings back what was removed.")
			}
		})
	}
}

func printRemoval(i IO, r wire.Removal, try bool) {
	word := "removed"
	switch {
	case try && len(r.Needs) > 0:
		word = "cannot be removed alone"
	case try:
		word = "would be removed"
	}
	fmt.Fprintf(i.Out, "%s %s: %s\n", r.Kind, r.Name, word)
	for _, d := range r.Needs {
		fmt.Fprintf(i.Out, "  needed by %s %s, which %s\n", d.Kind, d.Name, d.How)
	}
	for _, e := range r.Ends {
		fmt.Fprintf(i.Out, "  %s\n", e)
	}
}

func bringBackCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		c := i.connect()
		if len(args) == 0 {
			all, err := c.RemovedRecords(ctx)
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, all, printRemoved)
		}
		all, err := refs(args)
		if err != nil {
			return 0, err
		}
		back, err := c.ReturnRecords(ctx, all)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, back, func(i IO, r wire.Returned) {
			for _, n := range all {
				fmt.Fprintf(i.Out, "%s %s is back.\n", n.Kind, n.Name)
			}
			for _, n := range r.Notes {
				fmt.Fprintf(i.Out, "  ! %s\n", n)
			}
		})
	}
}

func printRemoved(i IO, all []wire.RemovedRecord) {
	if len(all) == 0 {
		fmt.Fprintln(i.Out, "Nothing was removed in the last 30 days.")
		return
	}
	t := newTable(i, "Kind", "Name", "Removed", "By", "Gone for good")
	for _, r := range all {
		t.AppendRow([]any{r.Kind, r.Name, i.wall(r.At), r.By, i.wall(r.Until)})
	}
	t.Render()
}

func renameCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	try := f.Bool("try", false, "change nothing, and tell what would be rewritten")
	free := f.Bool("free", false, "free the former name that is given last, so that another record may take it")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) != 3 {
			return 0, &Usage{"it takes a kind, the name and the new name; put a name with blanks in quotes"}
		}
		c := i.connect()
		if *free {
			if err := c.FreeName(ctx, args[0], args[1], args[2]); err != nil {
				return 0, err
			}
			fmt.Fprintf(i.Out, "The name %s is free.\n", args[2])
			return exitOK, nil
		}
		r, err := c.RenameRecord(ctx, args[0], args[1], args[2], *try)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, r, func(i IO, r wire.Renamed) {
			if *try {
				fmt.Fprintf(i.Out, "%s %s would be called %s.\n", args[0], args[1], args[2])
			} else {
				fmt.Fprintf(i.Out, "%s %s is called %s now. The old name still finds it.\n", args[0], args[1], args[2])
			}
			for _, n := range r.Changed {
				fmt.Fprintf(i.Out, "  rewritten in %s %s\n", n.Kind, n.Name)
			}
			if n := len(r.Changed); n > 0 && *try {
				fmt.Fprintf(i.Out, "%s in all; nothing was changed.\n", phrase.Count(n, "record"))
			}
		})
	}
}

func copyRecordCommand(*flag.FlagSet) runner {
	return func(ctx context.Context, i IO, args []string) (int, error) {
		if len(args) != 3 {
			return 0, &Usage{"it takes a kind, the name and the name of the copy; put a name with blanks in quotes"}
		}
		if err := i.connect().CopyRecord(ctx, args[0], args[1], args[2]); err != nil {
			return 0, err
		}
		note := map[string]string{
			"job": " It is off: ironbell on switches it on.", "person": " It has neither address nor password.",
		}[args[0]]
		fmt.Fprintf(i.Out, "%s %s says what %s says.%s\n", args[0], args[2], args[1], note)
		return exitOK, nil
	}
}
