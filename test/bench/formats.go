package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/render"
	"ironbell/internal/report"

	"github.com/jackc/pgx/v5"
	"github.com/xuri/excelize/v2"
)

// cost is what making one file took.
type cost struct {
	Seconds float64
	CPU     float64 // seconds of one core, of this process alone
	PeakMB  float64 // most resident memory
	Rows    int64
	Size    int64
}

// made are the files that are measured, with how often. Each is made by a process of its own, so
// that its memory is its own.
var made = []struct {
	name   string
	output job.Output
	few    bool // 5,000 rows
}{
	{"copy", job.Output{}, false},
	{"csv", job.Output{Format: "csv"}, false},
	{"csv, localised", job.Output{Format: "csv", Locale: "de", Text: &job.TextForm{Encoding: "windows-1252"}}, false},
	{"json", job.Output{Format: "json"}, false},
	{"xlsx, bare library", job.Output{}, false},
	{"xlsx", job.Output{Format: "xlsx", DataOnly: true}, false},
	{"xlsx, laid out", job.Output{Format: "xlsx"}, false},
	{"pdf", job.Output{Format: "pdf"}, true},
	{"pdf, tagged", job.Output{Format: "pdf", Tagged: true}, true},
	{"html", job.Output{Format: "html"}, true},
	{"first preview rows", job.Output{}, false},
}

// formats measures files of many rows against the driver's own COPY to the same
// disk, and the spreadsheet against the library's bare streaming writer.
func (b *bench) formats(ctx context.Context, n int) error {
	if _, err := b.pool.Exec(ctx,
		`CREATE TABLE IF NOT EXISTS wide AS SELECT i AS sailing, 'Tarnwick Quay to Ellerhaven ' || i % 7 AS route, timestamptz '2024-11-23 05:00+00' + i * interval '1 minute' AS due,
		(date '2024-11-23' + i % 730) AS day, (i % 340) AS passengers, round((i % 9973) * 1.37, 2) AS litres, (i % 11) = 0 AS late, CASE WHEN i % 97 = 0 THEN 'storm, "swell" at the bar' END AS note
		FROM generate_series(1, $1::int) i`, n); err != nil {
		return err
	}
	if _, err := b.pool.Exec(ctx, `VACUUM ANALYZE wide`); err != nil {
		return err
	}
	fmt.Printf("\nfiles of %d rows of 8 mixed columns, medians of 3\n", n)
	var copied, bare cost
	for i, m := range made {
		all := make([]cost, 0, 3)
		for range 3 {
			c, err := b.apart(ctx, i, map[bool]int{true: 5000, false: n}[m.few])
			if err != nil {
				return fmt.Errorf("%s: %w", m.name, err)
			}
			all = append(all, c)
		}
		c := median(all)
		note := ""
		switch {
		case m.name == "copy":
			copied = c
		case m.name == "xlsx, bare library":
			bare = c
		case strings.HasPrefix(m.name, "xlsx"):
			b.took(m.name+", against the bare library", c.Seconds, bare.Seconds, "s", "1.25 or less")
			note = fmt.Sprintf("%.2f times the bare library's time (wanted at most 1.25), %+.0f MB (wanted at most +60)", c.Seconds/bare.Seconds, c.PeakMB-bare.PeakMB)
		case m.name == "first preview rows":
			b.held("first rows of a preview", c.Seconds, "s", "0.3 s or less")
			note = "the first 50 rows, of which the query itself took next to nothing (wanted under 0.3 s)"
		case m.few:
			wanted := map[string]string{"pdf": "1", "pdf, tagged": "25", "html": "0.5"}[m.name]
			b.held(m.name+" of 5,000 rows, of a core", c.CPU, "s", wanted+" s or less")
			note = fmt.Sprintf("5,000 rows in %.2f s of a core (wanted under %s s)", c.CPU, wanted)
		default:
			wanted := map[string]string{"csv": "0.7", "csv, localised": "0.4", "json": "0.5"}[m.name]
			b.made(m.name+", against COPY", float64(n)/c.Seconds, float64(n)/copied.Seconds, "rows a second", wanted+" or more")
			note = fmt.Sprintf("%.2f of COPY's rows a second (wanted %s)", copied.Seconds/c.Seconds, wanted)
		}
		fmt.Printf("  %-20s %6.2f s  %5.0f MB resident  %6.1f MB of file  %s\n", m.name, c.Seconds, c.PeakMB,
			float64(c.Size)/1e6, note)
	}
	return nil
}

func median(all []cost) cost {
	best := all[0]
	for _, c := range all {
		under := 0
		for _, o := range all {
			if o.Seconds < c.Seconds {
				under++
			}
		}
		if under == len(all)/2 {
			best = c
		}
	}
	return best
}

// apart makes one file in a process of its own.
func (b *bench) apart(ctx context.Context, which, n int) (cost, error) {
	self, err := os.Executable()
	if err != nil {
		return cost{}, err
	}
	cmd := exec.CommandContext(ctx, self, "-make", strconv.Itoa(which), "-dsn", b.dsn, "-rows", strconv.Itoa(n), "-file", filepath.Join(b.dir, "made")) //nolint:gosec // this program
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	if err := cmd.Run(); err != nil {
		return cost{}, fmt.Errorf("%w: %s", err, said.String())
	}
	var c cost
	if err := json.Unmarshal(out.Bytes(), &c); err != nil {
		return c, err
	}
	for _, line := range strings.Split(said.String(), "\n") {
		if line != "" {
			fmt.Println("   ", line)
		}
	}
	// What the browser did counts, too.
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		c.CPU = float64(usage.Utime.Sec+usage.Stime.Sec) + float64(usage.Utime.Usec+usage.Stime.Usec)/1e6
	}
	return c, nil
}

// makeOne makes one file and prints what it took.
func makeOne(ctx context.Context, which int, dsn, path string, n int) error {
	began := time.Now()
	out, err := os.Create(path) //nolint:gosec // in a folder of our own
	if err != nil {
		return err
	}
	var c cost
	switch made[which].name {
	case "copy":
		err = copyOut(ctx, dsn, out, n)
	case "xlsx, bare library":
		err = bareSheet(ctx, dsn, out, n)
	case "first preview rows":
		err = firstRows(ctx, dsn, out)
	default:
		c.Rows, err = makeFile(ctx, dsn, out, made[which].output, n)
	}
	if err == nil {
		err = out.Sync()
	}
	if closing := out.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return err
	}
	c.Seconds = time.Since(began).Seconds()
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return err
	}
	for _, line := range strings.Split(string(status), "\n") {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kb, err := strconv.Atoi(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(rest), "kB")))
			if err != nil {
				return err
			}
			c.PeakMB = float64(kb) / 1024
		}
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	c.Size = info.Size()
	return json.NewEncoder(os.Stdout).Encode(c)
}

const wide = `SELECT * FROM wide LIMIT `

func copyOut(ctx context.Context, dsn string, out io.Writer, n int) error {
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(ctx) }() // nothing is to stay
	buffered := bufio.NewWriterSize(out, 64<<10)
	if _, err := conn.PgConn().CopyTo(ctx, buffered,
		fmt.Sprintf("COPY (%s%d) TO STDOUT WITH (FORMAT csv, HEADER)", wide, n)); err != nil {
		return err
	}
	return buffered.Flush()
}

// open opens the database as a source of reports.
func open(dsn string) (report.Source, error) {
	config, err := pgx.ParseConfig(dsn)
	if err != nil {
		return nil, err
	}
	host := config.Host
	if u, err := url.Parse(dsn); err == nil && u.Hostname() != "" {
		host = u.Hostname()
	}
	settings, err := json.Marshal(report.PostgresSettings{
		Host: host, Port: int(config.Port), Database: config.Database, User: config.User, TLS: "disable",
	})
	if err != nil {
		return nil, err
	}
	return report.Allowed{}.Open("postgres", "bench", settings, config.Password)
}

// laid hands the rows of a source to a shaper.
type laid struct {
	writer render.Writer
	flat   bool
	shaper *shape.Shaper
}

func (l *laid) Columns(_ string, columns []rows.Column) error {
	plan, err := shape.Fit(job.Section{Name: "Sailings"}, job.FormWhole, columns)
	if err != nil {
		return err
	}
	to, flat := []shape.Sink{l.writer}, []shape.Sink(nil)
	if l.flat {
		to, flat = nil, to
	}
	l.shaper, err = shape.NewShaper(plan, to, flat)
	return err
}

func (l *laid) Row(r rows.Row) error { return l.shaper.Row(r) }

func makeFile(ctx context.Context, dsn string, out io.Writer, o job.Output, n int) (int64, error) {
	source, err := open(dsn)
	if err != nil {
		return 0, err
	}
	defer source.Close()
	style, err := render.Read(o)
	if err != nil {
		return 0, err
	}
	buffered := bufio.NewWriterSize(out, 64<<10)
	head := &render.Head{
		Report: "Sailings", Title: "Sailings", AsOf: time.Now(), Zone: time.UTC,
		Browser: render.Chromium(ctx, render.FindBrowser()),
	}
	w, err := style.Format.New(buffered, head, style)
	if err != nil {
		return 0, err
	}
	l := &laid{writer: w, flat: style.Format.FlatFor(o)}
	if _, err := source.Stream(ctx, report.Query{SQL: fmt.Sprint(wide, n), Zone: "UTC", Limit: time.Hour}, "Sailings",
		l); err != nil {
		return 0, err
	}
	rows, err := l.shaper.End()
	if err != nil {
		return rows, err
	}
	if err := w.Close(); err != nil {
		return rows, err
	}
	if o.Tagged && head.Browser == nil {
		fmt.Fprintln(os.Stderr, "no browser is installed: the plain writer made it")
	}
	return rows, buffered.Flush()
}

// bareSheet writes the same rows as the library's streaming writer does by itself.
func bareSheet(ctx context.Context, dsn string, out io.Writer, n int) error {
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(ctx) }() // nothing is to stay
	f := excelize.NewFile()
	defer func() { _ = f.Close() }() // removes its temporary files
	date := "yyyy-mm-dd"
	style, err := f.NewStyle(&excelize.Style{CustomNumFmt: &date})
	if err != nil {
		return err
	}
	sheet, err := f.NewStreamWriter("Sheet1")
	if err != nil {
		return err
	}
	result, err := conn.Query(ctx,
		fmt.Sprint(`SELECT sailing, route, extract(epoch FROM due)::float8, day - date '1899-12-30', passengers, litres::float8, late, note FROM wide LIMIT `, n))
	if err != nil {
		return err
	}
	defer result.Close()
	row := make([]any, 8)
	for at := 1; result.Next(); at++ {
		var sailing, passengers, day int64
		var route string
		var due, litres float64
		var late bool
		var note *string
		if err := result.Scan(&sailing, &route, &due, &day, &passengers, &litres, &late, &note); err != nil {
			return err
		}
		row[0], row[1], row[2], row[3], row[4], row[5], row[6], row[7] = sailing, route,
			excelize.Cell{StyleID: style, Value: due/86400 + 25569}, excelize.Cell{StyleID: style, Value: day},
			passengers, litres, late, nil
		if note != nil {
			row[7] = *note
		}
		if err := sheet.SetRow("A"+strconv.Itoa(at), row); err != nil {
			return err
		}
	}
	if err := errors.Join(result.Err(), sheet.Flush()); err != nil {
		return err
	}
	return f.Write(out)
}

// some keeps nothing.
type some struct{ n int }

func (*some) Columns(string, []rows.Column) error { return nil }
func (s *some) Row(rows.Row) error                { s.n++; return nil }

// firstRows asks a query of a million rows for its first ones.
func firstRows(ctx context.Context, dsn string, out io.Writer) error {
	source, err := open(dsn)
	if err != nil {
		return err
	}
	defer source.Close()
	s := &some{}
	if _, err := source.Stream(ctx, report.Query{SQL: "SELECT * FROM wide", Zone: "UTC", Limit: time.Minute, Rows: 50},
		"First", s); err != nil {
		return err
	}
	_, err = fmt.Fprintln(out, s.n)
	return err
}
