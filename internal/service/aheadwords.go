package service

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
)

// inWords tells in one paragraph what a job will do. Of each task it tells what is
// known before it runs; told is what was found out about them.
func (js *Jobs) inWords(d job.Definition, owner string, told []job.AheadTask) string {
	var all []string
	all = append(all, js.whenInWords(d))
	if d.Split.Each != "" {
		all = append(all, fmt.Sprintf("It does so once for each %s.", d.Split.Each))
	}
	for _, t := range d.Tasks {
		at := slices.IndexFunc(told, func(a job.AheadTask) bool { return a.Task == t.Name })
		var a job.AheadTask
		if at >= 0 {
			a = told[at]
		}
		s := phrase.Upper(taskInWords(t, a))
		if t.OnlyIf != "" {
			s += ", only if " + t.OnlyIf
		}
		if t.IfFailed == job.FailedGoOn {
			s += "; if that fails, the rest goes on"
		}
		all = append(all, s+".")
	}
	return strings.Join(append(all, wrongInWords(d, owner)...), " ")
}

// WhenInWords tells when a job rings: "It rings every day at 06:00."
func (js *Jobs) WhenInWords(j job.Job) string {
	if !j.On {
		return "It is off."
	}
	return js.whenInWords(j.Definition)
}

// whenInWords tells when a job rings.
func (js *Jobs) whenInWords(d job.Definition) string {
	if len(d.Triggers) == 0 {
		return "It rings when somebody rings it."
	}
	var readings []string
	for _, t := range js.Described(job.Job{Definition: d}).Triggers {
		if t.Reading != "" {
			readings = append(readings, t.Reading)
		}
	}
	if len(readings) == 0 {
		return "When it rings is not said yet."
	}
	return fmt.Sprintf("It rings %s; dates and times are those of %s.", strings.Join(readings, ", and "), d.Zone)
}

// formatsInWords are the formats of outputs as people call them.
var formatsInWords = map[string]string{
	"csv": "a CSV file", "tsv": "a tab-separated file", "json": "a JSON file", "jsonl": "JSON Lines", "xlsx": "a spreadsheet",
	"pdf": "a PDF", "html": "an HTML page", "html-mail": "tables for the mail", "png": "pictures", "pptx": "slides",
}

// taskInWords tells what a task does.
func taskInWords(t job.Task, a job.AheadTask) string {
	switch {
	case t.Report != nil:
		return fmt.Sprintf("the report “%s” becomes %s", t.Report.Report, outputsInWords(t.Report.Outputs))
	case t.Collect != nil:
		which := map[job.Take]string{
			job.TakeAll: "all files %s are picked up from “%s”", job.TakeOne: "the one file %s is picked up from “%s”",
		}[t.Collect.Take]
		if which == "" {
			which = "the newest file %s is picked up from “%s”"
		}
		text := fmt.Sprintf(which, t.Collect.Pattern, cmp.Or(t.Collect.Destination, t.Collect.Source))
		switch t.Collect.Afterwards {
		case job.AfterwardsMove:
			text += ", and moved to " + t.Collect.Folder + " when the run is done"
		case job.AfterwardsRemove:
			text += ", and removed there when the run is done"
		}
		return text
	case t.Fetch != nil:
		return "a file is fetched from " + t.Fetch.URL
	case t.Convert != nil:
		return "the files become " + outputsInWords(t.Convert.Outputs)
	case t.Query != nil:
		return fmt.Sprintf("a statement is put to “%s”", t.Query.Source)
	case t.Program != nil:
		return fmt.Sprintf("the program %s is run", t.Program.Program)
	case t.Call != nil:
		return fmt.Sprintf("“%s” is called", t.Call.Destination)
	case t.Emit != nil:
		return fmt.Sprintf("the event %s is raised", t.Emit.Type)
	case t.Deliver != nil:
		return handedInWords(*t.Deliver, a)
	}
	return fmt.Sprintf("the task “%s” does nothing yet", t.Name)
}

func outputsInWords(outputs []job.Output) string {
	if len(outputs) == 0 {
		return "nothing yet"
	}
	var as []string
	for _, o := range outputs {
		as = append(as, formatsInWords[o.Format])
	}
	return phrase.Few(as)
}

// handedInWords tells whom a task hands over to.
func handedInWords(d job.DeliverTask, a job.AheadTask) string {
	given := len(d.To)+len(d.Cc)+len(d.Bcc) > 0 || d.ToQuery != nil
	switch {
	case a.Recipients > 0:
		return fmt.Sprintf("it is mailed over “%s” to %s", d.Destination, phrase.Count(a.Recipients, "recipient"))
	case given:
		return fmt.Sprintf("it is mailed over “%s”", d.Destination)
	case d.Destination == "":
		return "where it goes is not said yet"
	}
	return fmt.Sprintf("its files go to “%s”", d.Destination)
}

var blankInWords = map[job.IfBlank]string{
	job.BlankHold:  "If nothing is found, it is held and nothing is sent.",
	job.BlankSend:  "If nothing is found, it is sent with a note.",
	job.BlankRetry: "If nothing is found, it is tried again.",
	job.BlankFail:  "If nothing is found, that counts as a failure.",
}

// wrongInWords tells what happens when things go wrong.
func wrongInWords(d job.Definition, owner string) []string {
	told := owner + " is told"
	if owner == "" {
		told = "its owner is told"
	}
	if d.SecondOwner != "" {
		told += ", then " + d.SecondOwner
	}
	var all []string
	if d.Retry.Times > 0 {
		s := fmt.Sprintf("A failure is tried again %s, %s apart", phrase.Count(d.Retry.Times, "time"), d.Retry.Wait)
		if d.Retry.Until != "" {
			s += ", until " + d.Retry.Until
		}
		all = append(all, s+"; then "+told+".")
	} else {
		all = append(all, "If it fails, "+told+".")
	}
	if slices.ContainsFunc(d.Tasks, func(t job.Task) bool { return t.Kind.Makes() }) {
		all = append(all, blankInWords[job.IfBlank(orWord(d.IfBlank, job.BlankHold))])
	}
	switch {
	case d.Deadline.At != "":
		all = append(all, fmt.Sprintf("It must have arrived by %s.", d.Deadline.At))
	case d.Deadline.Within > 0:
		all = append(all, fmt.Sprintf("It must have arrived within %s.", d.Deadline.Within))
	}
	return all
}

func orWord[T ~string](given, otherwise T) string {
	if given == "" {
		return string(otherwise)
	}
	return string(given)
}
