package task_test

import (
	"context"
	"encoding/json"
	"io"
	"io/fs"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/internal/artifact"
	"ironbell/internal/confined"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/localpg/pgtest"
	"ironbell/internal/render"
	"ironbell/internal/report"
	"ironbell/internal/secret"
	"ironbell/internal/store"
	"ironbell/internal/store/records"
	"ironbell/internal/task"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	confined.Main() // the test program looks after the programs of its tasks
	pgtest.Main(m)
}

// room is what tasks work with: a store with a source and a destination, and a folder.
type room struct {
	store   *store.Store
	report  *task.Report
	deliver *task.Deliver
	files   *artifact.Folder
	found   job.Report
}

func enter(t *testing.T, found job.ReportDefinition) *room {
	t.Helper()
	ctx := context.Background()
	dsn := pgtest.New(t, "task", func(ctx context.Context, dsn string) error {
		s, err := store.Open(ctx, dsn, store.Options{Conns: 2})
		if err != nil {
			return err
		}
		defer s.Close()
		if err := s.Migrate(ctx); err != nil {
			return err
		}
		conn, err := pgx.Connect(ctx, dsn)
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close(ctx) }()
		_, err = conn.Exec(ctx,
			`CREATE TABLE ports AS SELECT * FROM (VALUES ('TQ', 'Tarnwick Quay'), ('EH', 'Ellerhaven')) p(code, name)`)
		return err
	})
	r := &room{found: job.Report{Name: "Ports: all", Version: 3, ReportDefinition: found}}
	var err error
	r.store, err = store.Open(ctx, dsn, store.Options{Conns: 4})
	require.NoError(t, err)
	t.Cleanup(r.store.Close)
	u, err := url.Parse(pgtest.Login(t, dsn, pgtest.Reader))
	require.NoError(t, err)
	port, err := strconv.Atoi(u.Port())
	require.NoError(t, err)
	password, _ := u.User.Password()
	vault, err := secret.New(make([]byte, 32))
	require.NoError(t, err)
	sealed, err := vault.Seal("source:here", password)
	require.NoError(t, err)
	settings, err := json.Marshal(report.PostgresSettings{
		Host: u.Hostname(), Port: port, Database: strings.TrimPrefix(u.Path, "/"), User: u.User.Username(),
		TLS: "disable",
	})
	require.NoError(t, err)
	_, err = r.store.PutPlace(ctx, records.Source, records.Place{
		Name: "here", Protocol: "postgres", Settings: settings, Secret: sealed,
	})
	require.NoError(t, err)
	_, err = r.store.PutPlace(ctx, records.Destination, records.Place{
		Name: "company mail", Protocol: "smtp",
		Settings: []byte(`{"host":"mail.tarnwick.example","from":"Iron Bell <bell@tarnwick.example>"}`),
	})
	require.NoError(t, err)
	r.files, err = artifact.OpenFolder(t.TempDir())
	require.NoError(t, err)
	sources := report.NewSources(r.store, vault, report.Allowed{})
	t.Cleanup(sources.Close)
	r.report = &task.Report{
		Find: func(context.Context, string) (job.Report, error) { return r.found, nil }, Sources: sources,
		Files: r.files,
	}
	r.deliver = &task.Deliver{
		Store: r.store, Sources: sources, Destinations: deliver.NewDestinations(r.store, vault, deliver.Allowed{}),
		Files: r.files, Now: time.Now,
	}
	return r
}

func work(t *testing.T) task.Work {
	t.Helper()
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	at := time.Date(2026, 7, 1, 6, 15, 0, 0, london)
	return task.Work{
		RunID: 26070000000009, Part: 1, Job: "Board", Nominal: at, Due: at, Values: job.Values{},
		Def: job.Definition{}.WithDefaults(), Limit: time.Minute, Log: func(string, string) {},
		Params: func(context.Context) ([]job.Parameter, error) { return nil, nil },
	}
}

func reportTask(outputs ...job.Output) job.Task {
	return job.Task{
		Name: "report", Kind: job.KindReport, Report: &job.ReportTask{Report: "Ports: all", Outputs: outputs},
	}
}

// shown files the rows out that are kept beside the files.
func shown(files []job.Artifact) []job.Artifact {
	return slices.DeleteFunc(slices.Clone(files), func(f job.Artifact) bool { return f.Format == render.RowsKept })
}

func (r *room) text(t *testing.T, key string) string {
	t.Helper()
	in, err := r.files.Open(context.Background(), key)
	require.NoError(t, err)
	defer func() { _ = in.Close() }()
	text, err := io.ReadAll(in)
	require.NoError(t, err)
	return string(text)
}

var sections = []job.Section{{
	Name: "Ports", SQL: "SELECT code FROM ports WHERE code = :code OR :code IS NULL ORDER BY code",
}, {Name: "Na/mes", SQL: "SELECT name FROM ports ORDER BY name"}}

func TestAReportMakesAllItsFilesFromOnePass(t *testing.T) {
	r := enter(t, job.ReportDefinition{
		Source: "here", Parameters: []job.Parameter{{Name: "code", Type: job.TypeText}}, Sections: sections,
	})
	res, err := r.report.Run(context.Background(), work(t),
		reportTask(job.Output{Format: "html-mail"}, job.Output{Format: "csv"},
			job.Output{Format: "xlsx", Name: "{report} {rows}"}, job.Output{Format: "xlsx", Name: "PORTS- ALL 4.xlsx"}))
	require.NoError(t, err)
	assert.Equal(t, int64(4), res.Rows)
	assert.False(t, res.Blank)
	assert.Regexp(t, `^report "Ports: all" version 3, read as task_[\d_]+ at here: Ports 2, Na/mes 2$`, res.Note)
	names := map[string]string{}
	for _, f := range shown(res.Files) {
		names[f.Name] = f.Key
		assert.Positive(t, f.Size)
	}
	require.Len(t, names, 5, "a CSV file for each section, and no name twice")
	assert.Equal(t, "code\r\nEH\r\nTQ\r\n", r.text(t, names["Ports- all 2026-07-01 - Ports.csv"]))
	assert.Equal(t, "name\r\nEllerhaven\r\nTarnwick Quay\r\n", r.text(t, names["Ports- all 2026-07-01 - Na-mes.csv"]))
	assert.Contains(t, names, "Ports- all 4.xlsx")
	assert.Contains(t, names, "PORTS- ALL 4 (2).xlsx")
}

func TestABlankReportAndOneThatFails(t *testing.T) {
	r := enter(t, job.ReportDefinition{
		Source: "here", Parameters: []job.Parameter{{Name: "code", Type: job.TypeText, Required: true}},
		Sections: sections[:1],
	})
	w := work(t)
	_, err := r.report.Run(context.Background(), w, reportTask(job.Output{Format: "csv"}))
	f := fault.Of(err)
	assert.Equal(t, fault.Lasting, f.Class)
	assert.Contains(t, f.Error(), "code needs a value (text)")
	w.Values = job.Values{"code": "XX"}
	res, err := r.report.Run(context.Background(), w, reportTask(job.Output{Format: "csv"}))
	require.NoError(t, err)
	assert.True(t, res.Blank)
	assert.Len(t, shown(res.Files), 1)
	r.found.Source = "elsewhere"
	_, err = r.report.Run(context.Background(), w, reportTask(job.Output{Format: "csv"}))
	assert.ErrorContains(t, err, `open source "elsewhere": there is no such source`)
	r.found.Source = "here"
	_, err = r.report.Run(context.Background(), w, reportTask(job.Output{Format: "csv", Name: "{nobody}"}))
	assert.ErrorContains(t, err, "which is not known here")
}

func TestALetterCarriesTablesAndFiles(t *testing.T) {
	r := enter(t, job.ReportDefinition{
		Source: "here", Parameters: []job.Parameter{{Name: "code", Type: job.TypeText}}, Sections: sections,
	})
	w := work(t)
	made, err := r.report.Run(context.Background(), w,
		reportTask(job.Output{Format: "html-mail"}, job.Output{Format: "xlsx", Name: "Ports"}))
	require.NoError(t, err)
	w.Files, w.RowsOf = shown(made.Files), map[string]int64{"report": made.Rows}
	send := job.Task{
		Name: "mail", Kind: job.KindDeliver,
		Deliver: &job.DeliverTask{
			Destination: "company mail",
			To:          []string{"Mara Quill <mara.quill@tarnwick.example>", "oren.hask@tarnwick.example"},
			Subject:     "{job} of {date:%d.%m.%Y}: {rows}",
		},
	}
	res, err := r.deliver.Run(context.Background(), w, send)
	require.NoError(t, err)
	assert.Equal(t, "Board of 01.07.2026: 4", res.Messages[0].Subject)
	assert.Equal(t, []string{"mara.quill@tarnwick.example", "oren.hask@tarnwick.example"}, addressesOf(res))
	assert.Regexp(t, `^<[a-z0-9]{26}@tarnwick\.example>$`, res.Messages[0].MessageID)
	text := r.text(t, res.Messages[0].Key)
	assert.Len(t, text, int(res.Messages[0].Size))
	for _, want := range []string{
		"Subject: Board of 01.07.2026: 4", `filename="Ports.xlsx"`, "Tarnwick Quay",
		"Auto-Submitted: auto-generated", "run 2607-9, due Wed 1 Jul 2026 06:15 BST",
	} {
		assert.Contains(t, text, want)
	}
	send.Deliver.Subject, send.Deliver.Locale, send.Deliver.FirstLine = "{date:%A, %e. %B %Y}", "de", "{rows} Häfen\n am {date:%d. %b} "+strings.Repeat("und weiter ", 100)
	res, err = r.deliver.Run(context.Background(), w, send)
	require.NoError(t, err)
	assert.Equal(t, "Mittwoch,  1. Juli 2026", res.Messages[0].Subject)
	text = r.text(t, res.Messages[0].Key)
	assert.Contains(t, text, `<html lang=3D"de">`)
	assert.Contains(t, text, "Iron Bell, Lauf 2607-9, f=C3=A4llig 01.07.2026 06:15 BST")
	assert.Contains(t, text, "4 H=C3=A4fen am 01. Juli und weiter", "it is one line")
	assert.Less(t, strings.Count(strings.ReplaceAll(text, "=\r\n", ""), "weiter"), 60, "and no longer than is shown")
	send.Deliver.Subject, send.Deliver.Locale, send.Deliver.FirstLine = "", "", ""
	w.Notes = []string{"Nothing was found this time by task report."}
	res, err = r.deliver.Run(context.Background(), w, send)
	require.NoError(t, err)
	assert.Contains(t, r.text(t, res.Messages[0].Key), "Nothing was found this time")
	send.Deliver.Destination = "nowhere"
	_, err = r.deliver.Run(context.Background(), w, send)
	assert.ErrorContains(t, err, "there is no such destination")
}

// A column that vanished since the report was laid out is named.
func TestAColumnThatVanishedIsNamed(t *testing.T) {
	r := enter(t, job.ReportDefinition{
		Source: "here",
		Sections: []job.Section{{
			Name: "Ports", SQL: "SELECT * FROM ports", Columns: []job.Column{{Name: "berths", Total: job.TotalSum}},
		}},
	})
	_, err := r.report.Run(context.Background(), work(t), reportTask(job.Output{Format: "csv"}))
	f := fault.Of(err)
	assert.Equal(t, fault.Lasting, f.Class)
	assert.Contains(t, f.Error(), `the query gives no column "berths"; it gives code, name`)
	assert.Contains(t, f.Advice, "no longer gives what the section lays out")
}

// A disk that is full ends a try with a fault that may pass, and files nothing.
func TestADiskThatIsFullIsSaidAndLeavesNoHalfFile(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=256k"); err != nil {
		t.Skipf("a small disk cannot be made by this user: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	r := enter(t, job.ReportDefinition{
		Source: "here",
		Sections: []job.Section{{
			Name: "Much", SQL: "SELECT repeat(md5(n::text), 20) AS text FROM generate_series(1, 5000) n",
		}},
	})
	var err error
	r.files, err = artifact.OpenFolder(dir)
	require.NoError(t, err)
	r.report.Files = r.files
	for _, format := range []string{"csv", "json", "xlsx"} {
		_, err = r.report.Run(context.Background(), work(t), reportTask(job.Output{Format: format}))
		require.Error(t, err, format)
		f := fault.Of(err)
		assert.Equal(t, fault.Passing, f.Class, "%s: %s", format, f)
		assert.Contains(t, f.Advice, "is full: make room")
		left := 0
		require.NoError(t, filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				left++
			}
			return err
		}))
		assert.Zero(t, left, format)
	}
}

func addressesOf(res task.Result) []string {
	var out []string
	for _, to := range res.Messages[0].To {
		out = append(out, to.Address)
	}
	return out
}
