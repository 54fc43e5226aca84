package job

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"path"
	"slices"
	"strings"
	"time"
)

// FileWatch says which files of a place a job waits for.
type FileWatch struct {
	Destination string       `json:"destination" maxLength:"200" doc:"whose files are looked at; its setting taking must let jobs do so"`
	Pattern     string       `json:"pattern" maxLength:"500" doc:"path below its root, with * and ? for parts of a name and ** for any folders, such as gauges/**/*.csv"`
	Happens     FileHappens  `json:"happens,omitempty" enum:"arrived,changed,gone" doc:"new and replaced files arrive, changed counts only those that are replaced; arrived when left out"`
	Complete    Completeness `json:"complete,omitempty" enum:"unchanged,marker,free" doc:"when a file is whole: unchanged for a while; marker: another file stands beside it; free: the server lets it be renamed, as servers of Windows do when nobody writes it; unchanged when left out"`
	Unchanged   Duration     `json:"unchanged_for,omitempty" doc:"5s when left out"`
	Marker      string       `json:"marker,omitempty" maxLength:"100" doc:"ending behind the whole name, such as .done, or the name of a file in the same folder"`
	SameContent SameContent  `json:"same_content,omitempty" enum:"take,pass over" doc:"whether a file counts that holds the same as one before; take when left out"`
	Every       Duration     `json:"every,omitempty" doc:"between two looks, where a folder does not tell by itself; 1m when left out"`
}

// FileHappens is what may happen to a file.
type FileHappens string

// What may happen to files; the first is the default.
const (
	FileArrived FileHappens = "arrived"
	FileChanged FileHappens = "changed"
	FileGone    FileHappens = "gone"
)

// Completeness says when a file is whole.
type Completeness string

// When files are whole; the first is the default.
const (
	CompleteUnchanged Completeness = "unchanged"
	CompleteMarker    Completeness = "marker"
	CompleteFree      Completeness = "free"
)

// SameContent says whether a file counts that holds what another held.
type SameContent string

// The choices; the first is the default.
const (
	SameTake     SameContent = "take"
	SamePassOver SameContent = "pass over"
)

// Types of the events that the service itself reports of what it looks at.
const (
	EventFileArrived = "ironbell.file.arrived"
	EventFileGone    = "ironbell.file.gone"
	EventAnswer      = "ironbell.query.answered"
	EventStarted     = "ironbell.node.started"
)

// NodesSource is the source of events about nodes, which nobody else may report; those of destinations and
// sources begin with what follows, and with the name of their place after it.
const (
	NodesSource        = HouseSource + "nodes"
	DestinationsSource = HouseSource + "destinations/"
	SourcesSource      = HouseSource + "sources/"
)

// WithDefaults fills in what was left out.
func (f FileWatch) WithDefaults() FileWatch {
	f.Happens, f.Complete = orElse(f.Happens, FileArrived), orElse(f.Complete, CompleteUnchanged)
	f.SameContent = orElse(f.SameContent, SameTake)
	if f.Unchanged == 0 {
		f.Unchanged = Duration(5 * time.Second)
	}
	if f.Every == 0 {
		f.Every = Duration(time.Minute)
	}
	return f
}

// Base is the folder below which all lies that the pattern means; empty for the root.
func (f FileWatch) Base() string {
	parts := strings.Split(f.Pattern, "/")
	n := 0
	for n < len(parts)-1 && !strings.ContainsAny(parts[n], "*?") {
		n++
	}
	return strings.Join(parts[:n], "/")
}

// Deep tells whether files below folders of the base are meant, too.
func (f FileWatch) Deep() bool {
	return strings.Contains(strings.TrimPrefix(strings.TrimPrefix(f.Pattern, f.Base()), "/"), "/")
}

// PathMatches tells whether a path is meant by a pattern: * stands for any letters of a name and ? for one,
// ** for any folders, also none. Every other letter stands for itself.
func PathMatches(pattern, file string) bool {
	return foldersMatch(strings.Split(pattern, "/"), strings.Split(file, "/"))
}

// foldersMatch walks as nameMatches does, over the names of a path.
func foldersMatch(pattern, file []string) bool {
	p, f, star, from := 0, 0, -1, 0
	for f < len(file) {
		switch {
		case p < len(pattern) && pattern[p] == "**":
			star, from = p, f
			p++
		case p < len(pattern) && nameMatches([]rune(pattern[p]), []rune(file[f])):
			p++
			f++
		case star >= 0:
			from++
			p, f = star+1, from
		default:
			return false
		}
	}
	for p < len(pattern) && pattern[p] == "**" {
		p++
	}
	return p == len(pattern)
}

// nameMatches goes back to the last star only: more would take time that grows with each further star.
func nameMatches(pattern, name []rune) bool {
	p, n, star, from := 0, 0, -1, 0
	for n < len(name) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, from = p, n
			p++
		case p < len(pattern) && (pattern[p] == '?' || pattern[p] == name[n]):
			p++
			n++
		case star >= 0:
			from++
			p, n = star+1, from
		default:
			return false
		}
	}
	for p < len(pattern) && pattern[p] == '*' {
		p++
	}
	return p == len(pattern)
}

// MarkerOf is the file whose coming says that another one is whole.
func (f FileWatch) MarkerOf(file string) string {
	if strings.HasPrefix(f.Marker, ".") {
		return file + f.Marker
	}
	return path.Join(path.Dir(file), f.Marker)
}

// QueryWatch says which answer of a statement a job waits for.
type QueryWatch struct {
	Source   string    `json:"source" maxLength:"200" doc:"source that is asked"`
	Identity string    `json:"identity,omitempty" maxLength:"200" doc:"as whom; as the source's own sign-in when left out"`
	SQL      string    `json:"sql" form:"sql" maxLength:"20000" doc:"a statement that only reads"`
	When     QueryWhen `json:"when" enum:"ready,changed,passes,new rows" doc:"ready: it answers yes (its first value is true, not 0 and not empty); changed: it answers other than before; passes: its first value passes a limit; new rows: rows with a higher mark than before"`
	Over     *float64  `json:"over,omitempty" doc:"passes: the limit to rise above"`
	Under    *float64  `json:"under,omitempty" doc:"passes: the limit to fall below"`
	Back     *float64  `json:"back,omitempty" doc:"passes: where it must have come back to before it counts again; the limit itself when left out"`
	Mark     string    `json:"mark,omitempty" maxLength:"100" doc:"new rows: the column that grows; the statement may ask for what lies above :mark"`
	First    string    `json:"first_mark,omitempty" maxLength:"100" doc:"new rows: where to begin; when left out, with what is there then"`
	Rows     QueryRows `json:"rows,omitempty" enum:"each,together" doc:"new rows: whether each starts the job by itself, or all that came together; each when left out"`
	AtMost   int       `json:"at_most,omitempty" minimum:"0" maximum:"1000" doc:"new rows: how many are taken at one look, the others at the next; 100 when left out"`
	Every    Duration  `json:"every,omitempty" doc:"between two looks; 5m, and for ready 1m, when left out"`
}

// QueryWhen says which answer counts.
type QueryWhen string

// Which answers count.
const (
	QueryReady   QueryWhen = "ready"
	QueryChanged QueryWhen = "changed"
	QueryPasses  QueryWhen = "passes"
	QueryNewRows QueryWhen = "new rows"
)

// Gates tells whether a condition of a trigger is a state that is asked for when all else is there: when a run
// waits that a rule rang, or when the other conditions have come about. Other conditions happen once.
func (t Trigger) Gates(condition int) bool {
	if t.Wait == nil || condition >= len(t.Wait.For) || t.Wait.For[condition].Query == nil ||
		t.Wait.For[condition].Query.When != QueryReady {
		return false
	}
	return t.Rule != "" || len(t.Wait.For) > 1 && t.Wait.WithDefaults().Need == NeedAll
}

// QueryRows says how new rows start a job.
type QueryRows string

// How rows start a job; the first is the default.
const (
	RowsEach     QueryRows = "each"
	RowsTogether QueryRows = "together"
)

// MostRows is how many new rows are taken at one look when nothing is said.
const MostRows = 100

// WithDefaults fills in what was left out.
func (q QueryWatch) WithDefaults() QueryWatch {
	q.Rows = orElse(q.Rows, RowsEach)
	if q.AtMost == 0 {
		q.AtMost = MostRows
	}
	if q.Every == 0 {
		q.Every = Duration(5 * time.Minute)
		if q.When == QueryReady {
			q.Every = Duration(time.Minute)
		}
	}
	return q
}

// StartOf is a start of the service that a job may wait for.
type StartOf string

// Which starts.
const (
	StartAny   StartOf = "any node"
	StartFirst StartOf = "first node"
)

// GateKey ends the key of a watch that is looked at only while something waits for it; see Trigger.Gates.
const GateKey = "-gate"

// WatchKind is a kind of what is looked at.
type WatchKind string

// The kinds.
const (
	WatchFiles WatchKind = "files"
	WatchQuery WatchKind = "query"
)

// Watch is something that is looked at again and again, since triggers wait for what is seen there. Equal
// ones are looked at once for all triggers.
type Watch struct {
	Kind  WatchKind
	Key   string // tells it from others of its place
	Place string // name of the destination or source
	Every time.Duration
	Files FileWatch
	Query QueryWatch
}

// Watch is what must be looked at for a condition; nil when it is told otherwise.
func (c Condition) Watch() *Watch {
	switch {
	case c.Files != nil:
		f := c.Files.WithDefaults()
		w := &Watch{Kind: WatchFiles, Place: f.Destination, Every: time.Duration(f.Every), Files: f}
		f.Destination, f.Every = "", 0
		if f.Happens == FileChanged {
			f.Happens = FileArrived // which of them are new, the condition tells
		}
		if f.Complete != CompleteUnchanged {
			f.Unchanged = 0
		}
		w.Key = keyOf(f)
		return w
	case c.Query != nil:
		q := c.Query.WithDefaults()
		w := &Watch{Kind: WatchQuery, Place: q.Source, Every: time.Duration(q.Every), Query: q}
		q.Source, q.Every, q.SQL = "", 0, strings.TrimSpace(q.SQL)
		w.Key = keyOf(q)
		return w
	}
	return nil
}

func keyOf(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic("what is looked at cannot be written: " + err.Error()) // texts and numbers only
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:16])
}

// Watched are the destinations and sources at which triggers of a job look.
func (d Definition) Watched() (all []Watch) {
	for _, t := range d.Triggers {
		if t.Wait == nil {
			continue
		}
		for _, c := range t.Wait.For {
			if w := c.Watch(); w != nil && !slices.ContainsFunc(all, func(o Watch) bool {
				return o.Kind == w.Kind && o.Place == w.Place && o.Key == w.Key
			}) {
				all = append(all, *w)
			}
		}
	}
	return all
}
