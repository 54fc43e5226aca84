package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
)

// worse is by how much a ratio may become worse against the one that is kept before it is told: a fifth.
const worse = 1.2

// figure is one thing that was measured, with its floor of the same run.
type figure struct {
	name        string
	ours, floor float64
	unit        string
	ratio       float64 // ours to floor
	fast        bool    // the more the better, as of a rate; otherwise the less, as of a time
	wanted      string
}

// took is a figure that is the better the less it is.
func (b *bench) took(name string, ours, floor float64, unit, wanted string) {
	b.figures = append(b.figures, figure{name, ours, floor, unit, ours / floor, false, wanted})
}

// made is a figure that is the better the more it is.
func (b *bench) made(name string, ours, floor float64, unit, wanted string) {
	b.figures = append(b.figures, figure{name, ours, floor, unit, ours / floor, true, wanted})
}

// held is a figure without a floor, which is held against a bound.
func (b *bench) held(name string, ours float64, unit, wanted string) {
	b.figures = append(b.figures, figure{name: name, ours: ours, unit: unit, wanted: wanted})
}

// kept are the ratios of the last state that was landed, by the names of their figures.
type kept map[string]float64

func readKept(path string) (kept, error) {
	k := kept{}
	text, err := os.ReadFile(path) //nolint:gosec // a file of the repository
	if errors.Is(err, fs.ErrNotExist) {
		return k, nil
	}
	if err != nil {
		return nil, err
	}
	return k, json.Unmarshal(text, &k)
}

func (b *bench) keep(path string) error {
	k := kept{}
	for _, f := range b.figures {
		if f.floor != 0 {
			k[f.name] = float64(int(100*f.ratio+0.5)) / 100
		}
	}
	text, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append(text, '\n'), 0o644) //nolint:gosec // a file of the repository
}

// than tells how a ratio stands to the one that is kept.
func (f figure) than(k kept) string {
	was, ok := k[f.name]
	if !ok || was == 0 || f.ratio == 0 {
		return ""
	}
	change := f.ratio / was
	if f.fast {
		change = was / f.ratio
	}
	switch {
	case change > worse:
		return fmt.Sprintf("worse by %.0f %%", 100*(change-1))
	case change < 1/worse:
		return fmt.Sprintf("better by %.0f %%", 100*(1/change-1))
	}
	return "as before"
}

// tell prints all figures as one table, beside those that are kept when there are any, and says how many became
// worse by more than a fifth.
func (b *bench) tell(k kept) (slower int) {
	t := table.NewWriter()
	t.SetStyle(table.StyleLight)
	head := table.Row{"Figure", "Ours", "Floor", "Ratio", "Wanted"}
	if len(k) > 0 {
		head = append(head, "Kept", "")
	}
	t.AppendHeader(head)
	for _, f := range b.figures {
		row := table.Row{f.name, number(f.ours) + " " + f.unit, "", "", f.wanted}
		if f.floor != 0 {
			row[2], row[3] = number(f.floor)+" "+f.unit, fmt.Sprintf("%.2f", f.ratio)
		}
		if len(k) > 0 {
			was := ""
			if r, ok := k[f.name]; ok {
				was = fmt.Sprintf("%.2f", r)
			}
			than := f.than(k)
			if strings.HasPrefix(than, "worse") {
				slower++
			}
			row = append(row, was, than)
		}
		t.AppendRow(row)
	}
	fmt.Printf("\n%s\n", t.Render())
	return slower
}

// number writes a figure with as many digits as mean something.
func number(n float64) string {
	switch {
	case n >= 100:
		return fmt.Sprintf("%.0f", n)
	case n >= 10:
		return fmt.Sprintf("%.1f", n)
	}
	return fmt.Sprintf("%.2f", n)
}

// The marks between which the table stands in the documentation.
const (
	tableBegins = "<!-- the figures of make bench begin -->\n"
	tableEnds   = "<!-- the figures of make bench end -->\n"
)

// document writes the table into a page of the documentation, between its marks.
func (b *bench) document(path string) error {
	text, err := os.ReadFile(path) //nolint:gosec // a file of the repository
	if err != nil {
		return err
	}
	before, rest, ok := bytes.Cut(text, []byte(tableBegins))
	_, after, ok2 := bytes.Cut(rest, []byte(tableEnds))
	if !ok || !ok2 {
		return fmt.Errorf("%s has no place for the figures: it needs %s and %s", path, strings.TrimSpace(tableBegins), strings.TrimSpace(tableEnds))
	}
	var page bytes.Buffer
	page.Write(before)
	page.WriteString(tableBegins + "| figure | ours | floor | ratio | wanted |\n|---|---|---|---|---|\n")
	for _, f := range b.figures {
		floor, ratio := "", ""
		if f.floor != 0 {
			floor, ratio = number(f.floor)+" "+f.unit, fmt.Sprintf("%.2f", f.ratio)
		}
		fmt.Fprintf(&page, "| %s | %s %s | %s | %s | %s |\n", f.name, number(f.ours), f.unit, floor, ratio, f.wanted)
	}
	page.WriteString(tableEnds)
	page.Write(after)
	return os.WriteFile(path, page.Bytes(), 0o644) //nolint:gosec // a page of the documentation
}
