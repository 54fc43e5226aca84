package task

import (
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"ironbell/internal/artifact"
	"ironbell/internal/core/expr"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/render"
	"ironbell/internal/report"

	"golang.org/x/text/encoding/htmlindex"
)

// Convert is the task kind that makes files of other forms out of files of tables.
type Convert struct {
	Reports *Report
	Files   *artifact.Folder
}

const (
	original     = "original" // the value that names the file which is converted
	originalName = "{value." + original + "}"
	maxTogether  = 50 // files that become one
)

// Help implements Kind.
func (k *Convert) Help() Help {
	return Help{
		Kind: job.KindConvert, Summary: "make files of another form out of files",
		Text: "Reads CSV, tab-separated, JSON and XLSX files that tasks before it made or picked up, each as a table, and " +
			"writes them as any format that a report has: each file by itself, or all together in one. Of a workbook " +
			"the first sheet is read. When there is no file, or those that are hold no rows, the result is blank.",
		Example: job.Task{
			Name: "as workbook", Kind: job.KindConvert, Uses: []string{"readings"},
			Convert: &job.ConvertTask{
				Pattern: "tide_*.csv", Text: []string{"gauge"},
				Outputs: []job.Output{{Format: "xlsx", Name: "{value.original} {date:%Y-%m-%d}"}},
			},
		},
	}
}

// Check implements Kind.
func (k *Convert) Check(_ context.Context, c *Checking, where string, t job.Task) error {
	c.text(where+".pattern", t.Convert.Pattern)
	if _, err := path.Match(t.Convert.Pattern, ""); err != nil {
		c.V.Add(where+".pattern", "the pattern cannot be read: use * and ? only")
	}
	if t.Convert.Delimiter != "" && t.Convert.Delimiter[0] >= utf8.RuneSelf {
		c.V.Add(where+".delimiter", "a delimiter is one ASCII character")
	}
	if t.Convert.Encoding != "" {
		if _, err := htmlindex.Get(t.Convert.Encoding); err != nil {
			c.V.Add(where+".encoding", "the encoding %q is not known; write utf-8, windows-1252 or another name of the WHATWG",
				t.Convert.Encoding)
		}
	}
	if len(c.Names.Tasks) == 0 {
		c.V.Add(where, "no task comes before it whose files it could take; let it follow one that makes or picks up files")
	}
	if len(t.Convert.Outputs) == 0 {
		c.V.Add(where+".outputs", "it needs at least one output")
	}
	for i, o := range t.Convert.Outputs {
		at := fmt.Sprintf("%s.outputs[%d]", where, i)
		CheckOutput(c.V, at, job.Report{}, o, append(slices.Clone(c.Names.Values), original)...)
		if len(o.Sections) > 0 {
			c.V.Add(at+".sections", "a file that is converted has no sections to choose from; leave them out")
		}
	}
	return nil
}

// Run reads the files and writes them anew.
func (k *Convert) Run(ctx context.Context, w Work, t job.Task) (Result, error) {
	groups, err := k.groups(ctx, w, t)
	if err != nil {
		return Result{}, err
	}
	res := Result{Counted: true}
	if len(groups) == 0 {
		res.Blank, res.Note = true, "there is no file to convert"
		return res, nil
	}
	taken := map[string]bool{}
	for _, group := range groups {
		files, n, err := k.convert(ctx, w, t, group, taken)
		res.Files, res.Rows = append(res.Files, files...), res.Rows+n
		if err != nil {
			for _, f := range res.Files {
				_ = k.Files.Remove(f.Key) // what stays behind is reaped by its age
			}
			return Result{}, err
		}
	}
	res.Blank = res.Rows == 0
	res.Note = fmt.Sprintf("%s became %s", phrase.Count(len(slices.Concat(groups...)), "file"),
		phrase.Count(len(res.Files), "file"))
	return res, nil
}

// groups are the files that are taken, by the files that they become.
func (k *Convert) groups(ctx context.Context, w Work, t job.Task) ([][]job.Artifact, error) {
	pattern, err := w.fill(ctx, "the pattern", t.Convert.Pattern, nil)
	if err != nil {
		return nil, err
	}
	var taken []job.Artifact
	for _, f := range w.Files {
		if f.Format == render.MailTable || f.Format == render.RowsKept {
			continue
		}
		matched := pattern == ""
		if pattern != "" {
			if matched, err = path.Match(strings.ToLower(pattern), strings.ToLower(f.Name)); err != nil {
				return nil, fault.Wrap(err, fault.Lasting, fault.Task, "read the pattern "+pattern, "Correct the pattern.")
			}
		}
		if matched {
			taken = append(taken, f)
		}
	}
	if !t.Convert.Together {
		groups := make([][]job.Artifact, len(taken))
		for i, f := range taken {
			groups[i] = []job.Artifact{f}
		}
		return groups, nil
	}
	if len(taken) > maxTogether {
		return nil, fault.New(fault.Task, "convert the files",
			fmt.Sprintf("there are %d, and at most %d become one", len(taken), maxTogether),
			"Take fewer by a pattern, or convert each by itself.")
	}
	if len(taken) == 0 {
		return nil, nil
	}
	return [][]job.Artifact{taken}, nil
}

// readable are the endings of files whose form shows by them.
var readable = []string{".csv", ".tsv", ".txt", ".json", ".xlsx"}

// convert makes the outputs of a group.
func (k *Convert) convert(ctx context.Context, w Work, t job.Task, group []job.Artifact, taken map[string]bool,
) ([]job.Artifact, int64, error) {
	base := func(f job.Artifact) string { return strings.TrimSuffix(f.Name, path.Ext(f.Name)) }
	rep := job.Report{Name: base(group[0])}
	if len(group) > 1 {
		rep.Name = w.Job
	}
	tables, byTable := map[string]report.Table{}, map[string]job.Artifact{}
	titles := map[string]bool{}
	for i, f := range group {
		if t.Convert.Form == "" && !slices.Contains(readable, strings.ToLower(path.Ext(f.Name))) {
			return nil, 0, fault.New(fault.Task, fmt.Sprintf("read %q", f.Name), "nobody knows how it is written",
				"Say its form in the task, or take other files by a pattern.")
		}
		name := fmt.Sprintf("file_%d", i+1)
		tables[name] = report.Table{
			File: name, Form: t.Convert.Form, Delimiter: t.Convert.Delimiter, Encoding: t.Convert.Encoding,
			Text: t.Convert.Text,
		}
		byTable[name] = f
		rep.Sections = append(rep.Sections, job.Section{
			Name: unlike(base(f), titles), Kind: job.SectionTable, SQL: "SELECT * FROM " + name,
		})
	}
	source, err := report.OfFiles("files of the tasks before", tables,
		func(ctx context.Context, one report.Table) (io.ReadCloser, string, error) {
			in, err := k.Files.Open(ctx, byTable[one.File].Key)
			return in, byTable[one.File].Name, err
		})
	if err != nil {
		return nil, 0, err
	}
	names, facts, err := w.Facts(ctx)
	if err != nil {
		return nil, 0, err
	}
	names.Values = append(names.Values, original)
	facts.Report, facts.Values[original] = rep.Name, rep.Name
	s, err := k.Reports.fileSet(ctx, rep, w, source, nil, t.Convert.Outputs, nil,
		func(rows int64) expr.Facts { facts.Rows = rows; return facts })
	defer s.drop()
	if err != nil {
		return nil, 0, err
	}
	var rows int64
	for _, section := range rep.Sections {
		n, _, err := s.run(ctx, source, section, report.Query{Zone: w.Nominal.Location().String(), Limit: w.Limit}, true)
		if err != nil {
			return nil, 0, err
		}
		rows += n
	}
	facts.Rows = rows
	files, err := s.keep(t.Name, w.Part, func(o job.Output, section string) (string, string, error) {
		if o.Name == "" {
			o.Name = originalName
		}
		name, folder, err := fileName(o, section, names, facts)
		return unlike(name, taken), folder, err
	})
	for _, text := range s.said {
		w.Log("info", text)
	}
	return files, rows, err
}

// Ahead implements Seer.
func (k *Convert) Ahead(ctx context.Context, w Work, t job.Task) (job.AheadTask, []job.Artifact, error) {
	var out job.AheadTask
	groups, err := k.groups(ctx, w, t)
	if err != nil {
		return out, nil, err
	}
	names, facts, err := w.Facts(ctx)
	if err != nil {
		return out, nil, err
	}
	names.Values = append(names.Values, original)
	var files []job.Artifact
	for _, group := range groups {
		facts.Values[original] = strings.TrimSuffix(group[0].Name, path.Ext(group[0].Name))
		if len(group) > 1 {
			facts.Values[original] = w.Job
		}
		for _, o := range t.Convert.Outputs {
			f := job.Artifact{Task: t.Name, Format: o.Format}
			o.Name = orElse(o.Name, originalName)
			name, folder := hold(&o.Name), hold(&o.Folder)
			if f.Name, f.Folder, err = fileName(o, "", names, facts); err != nil {
				return out, nil, err
			}
			f.Name, f.Folder = name.back(f.Name), folder.back(f.Folder)
			files, out.Files = append(files, f), append(out.Files, path.Join(f.Folder, f.Name))
		}
	}
	if len(groups) == 0 {
		out.Notes = []string{"which files it makes shows when those before it are there"}
	}
	return out, files, nil
}
