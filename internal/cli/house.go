package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/jedib0t/go-pretty/v6/table"
)

func houseCommand(f *flag.FlagSet) runner {
	send := f.String("send", "", "`file` of a logo (PNG, SVG) or a typeface (TTF, OTF) to be sent; its number is printed")
	asJSON := jsonFlag(f)
	return func(ctx context.Context, i IO, _ []string) (int, error) {
		c := i.connect()
		if *send != "" {
			data, err := os.ReadFile(*send)
			if err != nil {
				return 0, fmt.Errorf("the file cannot be read: %w", err)
			}
			sent, err := c.AddHouseFile(ctx, filepath.Base(*send), data)
			if err != nil {
				return 0, err
			}
			return show(i, *asJSON, sent, func(i IO, f job.HouseFile) {
				fmt.Fprintf(i.Out, "%s\n%s. Name this number in a style within a day: ironbell edit setting house\n", f.ID, about(f))
			})
		}
		page, err := c.House(ctx)
		if err != nil {
			return 0, err
		}
		return show(i, *asJSON, page, showHouse)
	}
}

func showHouse(i IO, page wire.HousePage) {
	if len(page.Styles) == 0 {
		fmt.Fprintln(i.Out, "There is no house style; everything looks as the service does by itself.")
	}
	names := map[string]string{}
	for _, f := range page.Files {
		names[f.ID] = about(f)
	}
	for n, s := range page.Styles {
		where := "chosen by reports"
		if n == 0 {
			where = "wherever a report chooses none, and of the service's own mails"
		}
		fmt.Fprintf(i.Out, "%s, %s\n", s.Name, where)
		t := newTable(i)
		for _, line := range []struct{ label, text string }{
			{"Logo", names[s.Logo]},
			{"Accent", s.Accent},
			{"Letters", s.Ink},
			{"Series of charts", strings.Join(s.Series, " ")},
			{"Typeface of files", names[s.Regular]},
			{"Its bold form", names[s.Bold]},
			{"Typeface of readers", s.Typeface},
			{"Foot", s.Footer},
			{"Small print", s.Legal},
		} {
			if line.text != "" {
				t.AppendRow(table.Row{line.label, line.text})
			}
		}
		t.Render()
		if n < len(page.Says) {
			for _, said := range page.Says[n] {
				fmt.Fprintln(i.Out, said)
			}
		}
	}
}

// about says what a file of a house style is.
func about(f job.HouseFile) string {
	if f.Kind == "logo" {
		return fmt.Sprintf("%s, a logo of %d by %d dots", f.Name, f.Width, f.Height)
	}
	weight := ""
	if f.Bold {
		weight = ", bold"
	}
	return fmt.Sprintf("%s%s, a typeface with %d letters", f.Family, weight, f.Letters)
}
