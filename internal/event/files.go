package event

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/job"
)

// files are files of a place that come, are replaced, or go.
type files struct{}

func (files) Says(c job.Condition) bool { return c.Files != nil }

const (
	leastEvery = job.Duration(time.Second)
	mostEvery  = job.Duration(24 * time.Hour)
	mostStill  = job.Duration(24 * time.Hour)
)

func (files) Check(ctx context.Context, k *Checking, where string, c job.Condition) error {
	alone(k, where, c)
	f := *c.Files
	at := where + ".files"
	checkPattern(k, at+".pattern", f.Pattern)
	if !slices.Contains([]job.FileHappens{"", job.FileArrived, job.FileChanged, job.FileGone}, f.Happens) {
		k.V.Add(at+".happens", "%q does not happen to files; use arrived, changed or gone", f.Happens)
	}
	if !slices.Contains([]job.SameContent{"", job.SameTake, job.SamePassOver}, f.SameContent) {
		k.V.Add(at+".same_content", "%q is neither take nor pass over", f.SameContent)
	}
	checkComplete(k, at, f)
	checkEvery(k, at+".every", f.Every)
	checkSample(k, where, c.OnlyIf, "a file", sampleFile(f))
	return k.Files(ctx, at, f)
}

func checkComplete(k *Checking, at string, f job.FileWatch) {
	switch f.Complete {
	case "", job.CompleteUnchanged:
		if f.Unchanged < 0 || f.Unchanged > mostStill {
			k.V.Add(at+".unchanged_for", "%s is no time to wait for a file; use up to 24h", f.Unchanged)
		}
		if f.Marker != "" {
			k.V.Add(at+".marker", "say complete: marker, too, or take it out")
		}
	case job.CompleteMarker:
		if f.Marker == "" || strings.ContainsAny(f.Marker, `/\*?`) || f.Marker == "." || f.Marker == ".." {
			k.V.Add(at+".marker", "name the ending of the file that stands beside, such as .done, or its whole name")
		}
	case job.CompleteFree:
	default:
		k.V.Add(at+".complete", "%q is no sign that a file is whole; use unchanged, marker or free", f.Complete)
	}
}

// checkPattern tells what is wrong with a pattern of paths.
func checkPattern(k *Checking, where, pattern string) {
	switch {
	case strings.TrimSpace(pattern) == "":
		k.V.Add(where, "say which files are meant, such as gauges/*.csv; **/*.csv means those in folders below, too")
		return
	case strings.HasPrefix(pattern, "/"), strings.Contains(pattern, `\`):
		k.V.Add(where, "it is a path below the place's root: write it without a / at its beginning, and with / between")
	}
	for name := range strings.SplitSeq(pattern, "/") {
		if name == "" || name == "." || name == ".." {
			k.V.Add(where, "%q is no path; take empty names, . and .. out", pattern)
			return
		}
		if name != "**" && strings.Contains(name, "**") {
			k.V.Add(where, "** stands for folders and is written alone between two /, as in in/**/*.csv")
			return
		}
	}
	if strings.HasSuffix(pattern, "**") {
		k.V.Add(where, "it ends with folders; write **/* to mean all files below")
	}
}

func checkEvery(k *Checking, where string, d job.Duration) {
	if d != 0 && (d < leastEvery || d > mostEvery) {
		k.V.Add(where, "%s is no time between two looks; use 1s to 24h", d)
	}
}

// alone tells what else a condition says that belongs to another kind.
func alone(k *Checking, where string, c job.Condition) {
	if len(c.Ends) > 0 {
		k.V.Add(where+".ends", "outcomes belong to a job")
	}
	if c.Source != "" || c.Subject != "" {
		k.V.Add(where, "source and subject belong to an event that is reported")
	}
	if c.OnlyIf != "" {
		if _, err := holding(c.OnlyIf); err != nil {
			k.V.Add(where+".only_if", "%s", err)
		}
	}
}

func (files) Reading(c job.Condition) string {
	f := c.Files.WithDefaults()
	text := map[job.FileHappens]string{
		job.FileArrived: "a file %s at %s", job.FileChanged: "a file %s replaced at %s",
		job.FileGone: "a file %s gone from %s",
	}[f.Happens]
	return withOnlyIf(fmt.Sprintf(text, f.Pattern, f.Destination), c)
}

func withOnlyIf(text string, c job.Condition) string {
	if c.OnlyIf != "" {
		text += ", only if " + c.OnlyIf
	}
	return text
}

func (files) Matches(c job.Condition, h Happening) (matches bool, why string) {
	if h.Event == nil {
		return false, ""
	}
	replaced := false
	if data, ok := h.Facts["data"].(map[string]any); ok {
		replaced, _ = data["replaced"].(bool)
	}
	happens := job.FileArrived
	switch {
	case h.Event.Type == job.EventFileGone:
		happens = job.FileGone
	case replaced && c.Files.Happens == job.FileChanged:
		happens = job.FileChanged
	}
	if c.Files.WithDefaults().Happens != happens {
		return false, ""
	}
	return onlyIf(c, h)
}

// onlyIf tells whether what else is asked of an event holds.
func onlyIf(c job.Condition, h Happening) (holds bool, why string) {
	if c.OnlyIf == "" {
		return true, ""
	}
	ok, err := hold(c.OnlyIf, h.Facts)
	switch {
	case err != nil:
		return false, fmt.Sprintf("does not take it: %s", err)
	case !ok:
		return false, "takes it only if " + c.OnlyIf
	}
	return true, ""
}
