package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/job"

	"github.com/jedib0t/go-pretty/v6/table"
)

func peopleCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, args []string) (int, error) {
		all, err := i.connect().People(ctx)
		if err != nil {
			return 0, err
		}
		part := strings.ToLower(strings.Join(args, " "))
		all = slices.DeleteFunc(all, func(p job.Person) bool {
			return !strings.Contains(strings.ToLower(p.Login+" "+p.Name+" "+p.Mail), part)
		})
		return show(i, *asJSON, all, func(i IO, all []job.Person) {
			if len(all) == 0 {
				fmt.Fprintln(i.Out, "There is nobody of that name.")
				return
			}
			t := newTable(i, "Sign-in name", "Name", "Mail", "Role", "Time zone", "")
			for _, p := range all {
				away := ""
				if until := p.Wishes.PausedUntil; until != nil {
					away = "no reports until " + i.wall(*until)
				}
				t.AppendRow(table.Row{p.Login, p.Name, p.Mail, p.Role, p.Zone, away})
			}
			t.Render()
		})
	}
}

func groupsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		all, err := i.connect().Groups(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, all, func(i IO, all []job.Group) {
			if len(all) == 0 {
				fmt.Fprintln(i.Out, "There is no group yet. A group names several recipients once, for all jobs;\n"+
					"save one from a file: ironbell help save shows how.")
				return
			}
			for _, g := range all {
				fmt.Fprintf(i.Out, "group:%s\n", g.Name)
				for _, m := range g.Members {
					fmt.Fprintf(i.Out, "  %s\n", m)
				}
			}
		})
	}
}

func postsCommand(f *flag.FlagSet) runner {
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		all, err := i.connect().Posts(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, all, func(i IO, all []job.Post) {
			if len(all) == 0 {
				fmt.Fprintln(i.Out, "There is no post yet. A post is a position in the organisation; who holds it changes,\n"+
					"jobs need not. Save one from a file: ironbell help save shows how.")
				return
			}
			drawPosts(i, all, "", "")
		})
	}
}

// drawPosts draws the posts that stand under one, each with those under it.
func drawPosts(i IO, all []job.Post, under, before string) {
	var here []job.Post
	for _, p := range all {
		if p.Under == under {
			here = append(here, p)
		}
	}
	for n, p := range here {
		branch, below := "├─ ", "│  "
		if n == len(here)-1 {
			branch, below = "└─ ", "   "
		}
		if under == "" {
			branch, below = "", ""
		}
		holders := strings.Join(p.Holders, ", ")
		if holders == "" {
			holders = "held by nobody"
		}
		fmt.Fprintf(i.Out, "%s%s%s: %s\n", before, branch, p.Name, holders)
		drawPosts(i, all, p.Name, before+below)
	}
}
