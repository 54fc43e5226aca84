package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
)

// exitNeeded is the exit status of a state in which somebody is needed.
const exitNeeded = 5

func stateCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		s, err := i.connect().State(ctx)
		if err != nil {
			return 0, err
		}
		status, err := show(i, *asJSON, s, printState)
		if err == nil && s.Needs {
			status = exitNeeded
		}
		return status, err
	}
}

func printState(i IO, s job.ServiceState) {
	switch {
	case s.Needs:
		fmt.Fprintf(i.Out, "%s Somebody is needed.\n", glyph("failed"))
	case s.Silent:
		fmt.Fprintf(i.Out, "%s It stands still.\n", glyph("waiting"))
	default:
		fmt.Fprintf(i.Out, "%s It works.\n", glyph("done"))
	}
	for _, l := range s.Lines {
		sign := "·"
		if l.Needs {
			sign = glyph("failed")
		}
		text := l.Text
		if l.Since != nil {
			text += " Since " + i.wall(*l.Since) + "."
		}
		if len(l.Names) > 0 {
			text += " " + strings.Join(l.Names, ", ") + "."
		}
		if l.Advice != "" {
			text += " " + l.Advice
		}
		fmt.Fprintf(i.Out, "%s %-13s %s\n", sign, l.What, text)
	}
}

func nodesCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	finish := f.String("finish", "", "let the node of this `name` finish what it has and take no more work")
	work := f.String("work", "", "let the node of this `name` take work again")
	wait := f.Duration("wait", 0, "with -finish, wait at most so long until it is empty")
	return func(ctx context.Context, i IO, args []string) (int, error) {
		c := i.connect()
		switch {
		case len(args) > 0 || *finish != "" && *work != "" || *wait != 0 && *finish == "":
			return 0, &Usage{"it takes -finish NAME, perhaps with -wait, or -work NAME, or nothing"}
		case *work != "":
			if err := c.Finish(ctx, *work, true); err != nil {
				return 0, err
			}
			fmt.Fprintf(i.Out, "%s takes work again.\n", *work)
			return exitOK, nil
		case *finish != "":
			if err := c.Finish(ctx, *finish, false); err != nil {
				return 0, err
			}
			fmt.Fprintf(i.Out, "%s takes no more work and finishes what it has.\n", *finish)
			if *wait == 0 {
				return exitOK, nil
			}
			return untilEmpty(ctx, i, *finish, *wait)
		}
		nodes, err := c.Nodes(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, nodes, printNodes)
	}
}

// untilEmpty waits until a node works on nothing, and says so.
func untilEmpty(ctx context.Context, i IO, name string, wait time.Duration) (int, error) {
	ctx, stop := context.WithTimeout(ctx, wait)
	defer stop()
	last := ""
	// A node hears of it when it next says what it works on, and is empty when it says so
	// at the next time after that.
	said := map[time.Time]bool{}
	for {
		nodes, err := i.connect().Nodes(ctx)
		if err != nil && ctx.Err() == nil {
			return 0, err
		}
		for _, n := range nodes {
			if n.Name != name {
				continue
			}
			said[n.SeenAt] = true
			if n.Parts == 0 && n.Deliveries == 0 && n.Finishing && len(said) > 2 {
				fmt.Fprintf(i.Out, "%s is empty.\n", name)
				return exitOK, nil
			}
			if doing := fmt.Sprintf("%s works on %s.", name, workOf(n)); doing != last {
				fmt.Fprintln(i.Out, doing)
				last = doing
			}
		}
		select {
		case <-ctx.Done():
			return 0,
				fmt.Errorf("%s is not empty after %s; it goes on finishing: ask again, or take work again with -work",
					name, wait)
		case <-time.After(2 * time.Second):
		}
	}
}

func workOf(n wire.Node) string {
	if n.Parts == 0 && n.Deliveries == 0 {
		return "nothing"
	}
	return fmt.Sprintf("%d of runs, %d deliveries", n.Parts, n.Deliveries)
}

func printNodes(i IO, nodes []wire.Node) {
	for _, n := range nodes {
		sign, doing := glyph("done"), "works on "+workOf(n)
		if n.Finishing {
			sign, doing = glyph("waiting"), "finishes; has "+workOf(n)
		}
		fmt.Fprintf(i.Out, "%s %s  %s; since %s, version %s, zone data %s\n", sign, n.Name, doing,
			i.wall(n.StartedAt), n.Version, n.Zones)
	}
}
