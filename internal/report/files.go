package report

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/rows"
	"ironbell/internal/scratch"

	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/transform"
)

// Table is a file that queries read as a table.
type Table struct {
	// name with * and ?, of which the newest is read; of an HTTP source, what is added to its address
	File      string `json:"file"`
	Form      string `json:"form,omitempty"`      // csv, json or xlsx; by the ending when empty
	Delimiter string `json:"delimiter,omitempty"` // of csv; a comma when empty
	Encoding  string `json:"encoding,omitempty"`  // as the WHATWG names it; utf-8 when empty

	Text []string `json:"text,omitempty"` // columns that are text, whatever they hold
}

// files is a source whose tables are files. For each query the files that it
// speaks of are read into a database of their own on the disk, which is gone
// after it: memory does not grow with them, and the query is SQL as SQLite has it.
type files struct {
	name   string
	limits Limits
	tables map[string]Table
	open   func(ctx context.Context, t Table) (in io.ReadCloser, name string, err error)
}

// maxFileSize bounds what is read of one file.
const maxFileSize = 4 << 30

var tableName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

func (f *files) check(doing string) error {
	for name, t := range f.tables {
		switch {
		case !tableName.MatchString(name):
			return fault.New(fault.Source, doing, fmt.Sprintf("%q is no name of a table", name),
				"Use letters, digits and _.")
		case t.File == "":
			return fault.New(fault.Source, doing, fmt.Sprintf("the table %q names no file", name),
				"Name one, such as tide_*.csv.")
		case !slices.Contains([]string{"", "csv", "json", "xlsx"}, t.Form):
			return fault.New(fault.Source, doing,
				fmt.Sprintf("the form of table %q is csv, json or xlsx, not %q", name, t.Form), "")
		case len(t.Delimiter) > 1:
			return fault.New(fault.Source, doing, fmt.Sprintf("the delimiter of table %q is one character", name), "")
		}
		if t.Encoding != "" {
			if _, err := htmlindex.Get(t.Encoding); err != nil {
				return fault.New(fault.Source, doing,
					fmt.Sprintf("the encoding %q of table %q is not known", t.Encoding, name),
					"Use utf-8, windows-1252 or another name of the WHATWG.")
			}
		}
	}
	return nil
}

// OfFiles is a source whose tables are files that open opens, as the table's settings name
// them. Its tables have names of letters, digits and _.
func OfFiles(name string, tables map[string]Table,
	open func(ctx context.Context, t Table) (in io.ReadCloser, name string, err error),
) (Source, error) {
	f := &ofFiles{files{name: name, tables: tables, open: open}}
	return f, f.check("read " + name)
}

// ofFiles are files that nobody has to close.
type ofFiles struct{ files }

func (ofFiles) Close() {}

// Login is nobody's: files of our own are read as no one.
func (ofFiles) Login() string { return "" }

func (ofFiles) Test(context.Context) (string, error) { return "", nil }

func (f *files) Login() string { return f.name }

func (f *files) Describe(ctx context.Context, q Query) ([]rows.Column, error) {
	q.Rows, q.Values = 1, nil
	var found described
	_, err := f.Stream(ctx, q, "", &found)
	return found, err
}

func (f *files) Stream(ctx context.Context, q Query, section string, to rows.Sink) (int64, error) {
	doing := "read the files of source " + quote(f.name)
	names := f.spoken(q.SQL)
	if len(names) == 0 {
		known := "it has none yet"
		if len(f.tables) > 0 {
			var all []string
			for name := range f.tables {
				all = append(all, name)
			}
			slices.Sort(all)
			known = "it has " + strings.Join(all, ", ")
		}
		return 0,
			fault.New(fault.Task, "ask source "+quote(f.name), "the query speaks of none of its tables; "+known,
				"An administrator can name files as tables in the settings of the source.")
	}
	limited, stop := context.WithTimeout(ctx, f.limits.shorter(q.Limit))
	defer stop()
	made, err := scratch.Make("rows")
	if err != nil {
		return 0,
			fault.Wrap(err, fault.Passing, fault.Task, doing, "Check that the folder of temporary files is writable.")
	}
	defer made.Remove()
	path := filepath.Join(made.Path, "rows.db")
	if err := f.load(limited, path, names); err != nil {
		if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
			err = fault.New(fault.Task, doing,
				fmt.Sprintf("reading took longer than its limit of %s", f.limits.shorter(q.Limit)),
				"Make the job's time limit longer, or the files smaller.")
		}
		return 0, err
	}
	db, err := openSQLiteFile(path, true)
	if err != nil {
		return 0, fault.Wrap(err, fault.Lasting, fault.Task, doing, "")
	}
	d := &database{name: f.name, db: db, limits: f.limits, engine: sqliteEngine}
	defer d.Close()
	return d.Stream(ctx, q, section, to)
}

// spoken lists the tables that a query speaks of.
func (f *files) spoken(query string) []string {
	var names []string
	for _, word := range strings.FieldsFunc(query,
		func(r rune) bool { return r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		for name := range f.tables {
			if strings.EqualFold(name, word) && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	return names
}

// load reads tables into a fresh database.
func (f *files) load(ctx context.Context, path string, names []string) error {
	db, err := openSQLiteFile(path, false)
	if err != nil {
		return fault.Wrap(err, fault.Lasting, fault.Task, "read the files of source "+quote(f.name), "")
	}
	defer func() { _ = db.Close() }() // the error that counts is the first
	for _, pragma := range []string{"PRAGMA journal_mode=off", "PRAGMA synchronous=off"} {
		if _, err := db.ExecContext(ctx, pragma); err != nil {
			return fault.Wrap(err, fault.Passing, fault.Task, "prepare the rows", "")
		}
	}
	for _, name := range names {
		t := f.tables[name]
		in, file, err := f.open(ctx, t)
		if err != nil {
			return err
		}
		err = loadTable(ctx, db, name, file, t, in)
		_ = in.Close() // only read from
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fault.Wrap(err, fault.Lasting, fault.Source, fmt.Sprintf("read %q from source %q", file, f.name),
				"Look into the file, or correct the settings of its table.")
		}
	}
	return nil
}

// sampled is how many rows the types of columns are taken from.
const sampled = 2000

// sampleOf reads the first rows, from which the types of columns are taken.
func sampleOf(next func() ([]any, error)) ([][]any, error) {
	var sample [][]any
	for len(sample) < sampled {
		row, err := next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		sample = append(sample, row)
	}
	return sample, nil
}

// readTable reads the heads of a file and gives its rows, one at a time.
func readTable(file string, t Table, in io.Reader) (heads []string, next func() ([]any, error), err error) {
	if t.Encoding != "" {
		enc, err := htmlindex.Get(t.Encoding)
		if err != nil {
			return nil, nil, err
		}
		in = transform.NewReader(in, enc.NewDecoder())
	}
	form := t.Form
	if ending := strings.ToLower(filepath.Ext(file)); form == "" {
		form = strings.TrimPrefix(ending, ".")
		if ending == ".tsv" && t.Delimiter == "" {
			t.Delimiter = "\t"
		}
	}
	buffered := bufio.NewReaderSize(io.LimitReader(in, maxFileSize+1), 64<<10)
	if mark, err := buffered.Peek(3); err == nil && string(mark) == "\xef\xbb\xbf" {
		_, _ = buffered.Discard(3) // it was just looked at
	}
	read := readCSV
	switch form {
	case "json":
		read = readJSON
	case "xlsx":
		read = readXLSX
	}
	return read(buffered, t)
}

func loadTable(ctx context.Context, db *sql.DB, name, file string, t Table, in io.Reader) error {
	heads, next, err := readTable(file, t, in)
	if err != nil {
		return err
	}
	sample, err := sampleOf(next)
	if err != nil {
		return err
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // nothing after the commit
	columns, places, types := make([]string, len(heads)), make([]string, len(heads)), make([]string, len(heads))
	for i, head := range heads {
		if types[i] = typeOf(sample, i); slices.Contains(t.Text, head) {
			types[i] = "TEXT"
		}
		columns[i], places[i] = `"`+strings.ReplaceAll(head, `"`, `""`)+`" `+types[i], "?"
	}
	kept := func(n int, row []any) error {
		for i, v := range row {
			if s, ok := v.(string); ok && (types[i] == "INTEGER" || types[i] == "REAL") && !exact(s, types[i]) {
				return fmt.Errorf("row %d has %s in the column %q, which has more digits than a number keeps; name "+
					"the column under text of the table %q", n, s, heads[i], name)
			}
		}
		return nil
	}
	if _, err := tx.ExecContext(ctx, `CREATE TABLE "`+name+`" (`+strings.Join(columns, ", ")+`)`); err != nil {
		return err
	}
	//nolint:gosec // the name was checked, and the rest are question marks
	insert, err := tx.PrepareContext(ctx, `INSERT INTO "`+name+`" VALUES (`+strings.Join(places, ", ")+`)`)
	if err != nil {
		return err
	}
	defer func() { _ = insert.Close() }() // it ends with the transaction
	for _, row := range sample {
		if _, err := insert.ExecContext(ctx, row...); err != nil {
			return err
		}
	}
	for n := sampled + 1; len(sample) == sampled; n++ {
		row, err := next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil {
			err = kept(n, row)
		}
		if err != nil {
			return err
		}
		if _, err := insert.ExecContext(ctx, row...); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// maxFileColumns bounds the columns of a file.
const maxFileColumns = 1000

// readCSV reads the heads of a file and gives its rows, one at a time.
func readCSV(in io.Reader, t Table) ([]string, func() ([]any, error), error) {
	r := csv.NewReader(in)
	r.ReuseRecord, r.TrimLeadingSpace = true, false
	if t.Delimiter != "" {
		r.Comma = rune(t.Delimiter[0])
	}
	first, err := r.Read()
	if errors.Is(err, io.EOF) {
		return nil, nil, errors.New("the file is empty; its first line holds the heads of the columns")
	}
	if err != nil {
		return nil, nil, err
	}
	heads := unlikeHeads(slices.Clone(first))
	if len(heads) > maxFileColumns {
		return nil, nil, fmt.Errorf("the file has %d columns, and at most %d are read", len(heads), maxFileColumns)
	}
	return heads, func() ([]any, error) {
		record, err := r.Read()
		if err != nil {
			return nil, err
		}
		row := make([]any, len(heads))
		for i, text := range record {
			if text != "" {
				row[i] = text
			}
		}
		return row, nil
	}, nil
}

// unlikeHeads gives each column a name of its own, in any case of its letters.
func unlikeHeads(heads []string) []string {
	taken := map[string]bool{}
	for i, head := range heads {
		if head = strings.TrimSpace(head); head == "" {
			head = "column " + strconv.Itoa(i+1)
		}
		base := head
		for n := 2; taken[strings.ToLower(head)]; n++ {
			head = base + " " + strconv.Itoa(n)
		}
		taken[strings.ToLower(head)] = true
		heads[i] = head
	}
	return heads
}

// readJSON reads a list of objects, objects on lines of their own, or an object
// with one list of objects in it. Columns are the names in the first objects, in
// their order; what is nested stands as its JSON.
func readJSON(in io.Reader, _ Table) ([]string, func() ([]any, error), error) {
	d := json.NewDecoder(in)
	d.UseNumber()
	first, err := d.Token()
	if err != nil {
		return nil, nil, errors.New("the file is empty or holds no JSON")
	}
	list := first == json.Delim('[')
	var early []map[string]any
	var heads []string
	note := func(o map[string]any, order []string) {
		for _, name := range order {
			if !slices.Contains(heads, name) && len(heads) < maxFileColumns {
				heads = append(heads, name)
			}
		}
		early = append(early, o)
	}
	if !list {
		if first != json.Delim('{') {
			return nil, nil, errors.New("the file holds no list of objects")
		}
		// An object: either one row of many, or what holds the list.
		o, order, inner, err := readObject(d)
		if err != nil {
			return nil, nil, err
		}
		if list = inner; !inner {
			note(o, order)
		}
	}
	one := func() (map[string]any, []string, error) {
		if list && !d.More() {
			return nil, nil, io.EOF
		}
		t, err := d.Token()
		if err != nil {
			return nil, nil, err
		}
		if t != json.Delim('{') {
			return nil, nil, fmt.Errorf("after %d bytes stands something that is no object", d.InputOffset())
		}
		o, order, inner, err := readObject(d)
		if err == nil && inner {
			err = fmt.Errorf("after %d bytes a list stands in a list", d.InputOffset())
		}
		return o, order, err
	}
	for len(early) < sampled {
		o, order, err := one()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, err
		}
		note(o, order)
	}
	if len(heads) == 0 {
		return nil, nil, errors.New("the file holds no objects, and so no columns")
	}
	// What SQLite takes for one name are two in JSON when their letters differ in case.
	names := unlikeHeads(slices.Clone(heads))
	return names, func() ([]any, error) {
		var o map[string]any
		if len(early) > 0 {
			o, early = early[0], early[1:]
		} else {
			var err error
			if o, _, err = one(); err != nil {
				return nil, err
			}
		}
		row := make([]any, len(heads))
		for i, head := range heads {
			row[i] = o[head]
		}
		return row, nil
	}, nil
}

// readObject reads an object whose brace has been read. inner is true when it
// came upon a list of objects: the decoder stands in it then.
func readObject(d *json.Decoder) (o map[string]any, order []string, inner bool, err error) {
	o = map[string]any{}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return nil, nil, false, err
		}
		name, ok := key.(string)
		if !ok {
			return nil, nil, false, errors.New("an object has a name that is no text")
		}
		if name == "rows" || name == "data" || name == "items" {
			t, err := d.Token()
			if err != nil {
				return nil, nil, false, err
			}
			if t == json.Delim('[') {
				return nil, nil, true, nil
			}
			if _, nested := t.(json.Delim); nested {
				return nil, nil, false, fmt.Errorf("%q holds an object in place of a list", name)
			}
			o[name], order = plainValue(t), append(order, name)
			continue
		}
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return nil, nil, false, err
		}
		var v any
		inner := json.NewDecoder(strings.NewReader(string(raw)))
		inner.UseNumber()
		if err := inner.Decode(&v); err != nil {
			return nil, nil, false, err
		}
		switch v.(type) {
		case map[string]any, []any:
			v = string(raw)
		}
		o[name], order = plainValue(v), append(order, name)
	}
	_, err = d.Token() // the closing brace
	return o, order, false, err
}

func plainValue(v any) any {
	if n, ok := v.(json.Number); ok {
		return n.String()
	}
	return v
}

// exact tells whether a whole number stays what it is as an SQLite number, which has 64 bits
// as INTEGER, and 53 as REAL. Of a fraction nobody expects that.
func exact(s, as string) bool {
	digits := strings.TrimPrefix(s, "-")
	if digits == "" || strings.Trim(digits, "0123456789") != "" {
		return true
	}
	if as == "INTEGER" {
		if _, err := strconv.ParseInt(s, 10, 64); err == nil {
			return true
		}
	}
	f, err := strconv.ParseFloat(s, 64)
	return err == nil && strconv.FormatFloat(f, 'f', -1, 64) == s
}

// typeOf gives the type of a column by its values.
func typeOf(sample [][]any, i int) string {
	kinds := []struct {
		name string
		fits func(string) bool
	}{
		{"INTEGER", func(s string) bool {
			_, err := strconv.ParseInt(s, 10, 64)
			return err == nil && (s[0] != '0' || len(s) == 1) && s[0] != '+' // 007 is a name
		}},
		{"REAL", func(s string) bool {
			_, err := strconv.ParseFloat(s, 64)
			return err == nil && (s[0] != '0' || len(s) == 1 || s[1] == '.') && !strings.ContainsAny(s, "xXpPnN_") &&
				exact(s, "REAL")
		}},
		{"DATE", func(s string) bool { _, err := time.Parse(time.DateOnly, s); return err == nil }},
		{"TIMESTAMP", func(s string) bool { _, err := time.Parse(time.DateTime, s); return err == nil }},
	}
	best := 0
	seen, yesNo := false, true
	for _, row := range sample {
		switch v := row[i].(type) {
		case nil:
		case bool:
			seen = true
		case string:
			seen, yesNo = true, false
			for best < len(kinds) && !kinds[best].fits(v) {
				best++
			}
			// What does not fit a later kind from the start fits none of them.
			if best >= 1 && best < len(kinds) && !all(sample, i, kinds[best].fits) {
				best = len(kinds)
			}
		}
	}
	switch {
	case !seen || best == len(kinds):
		return "TEXT"
	case yesNo:
		return "BOOLEAN"
	}
	return kinds[best].name
}

func all(sample [][]any, i int, fits func(string) bool) bool {
	for _, row := range sample {
		if s, ok := row[i].(string); ok && !fits(s) {
			return false
		}
	}
	return true
}
