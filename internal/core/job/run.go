package job

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// RunID numbers a run. It is made of the month in which the run was made and a
// count: 2611-48211 is a run of November 2026. The store keeps runs by month,
// so that a run's number also tells where it lies.
type RunID int64

// idMonth is the room that one month has in an id.
const idMonth = 10_000_000_000

func (id RunID) String() string {
	return strconv.FormatInt(int64(id)/idMonth, 10) + "-" + strconv.FormatInt(int64(id)%idMonth, 10)
}

// ParseRunID reads a run's number as String writes it.
func ParseRunID(text string) (RunID, bool) {
	month, count, ok := strings.Cut(strings.TrimSpace(text), "-")
	m, err := strconv.ParseInt(month, 10, 64)
	n, err2 := strconv.ParseInt(count, 10, 64)
	if !ok || err != nil || err2 != nil || m < 0 || m > 9912 || n < 0 || n >= idMonth {
		return 0, false
	}
	return RunID(m*idMonth + n), true
}

// MarshalText writes the number as people read it.
func (id RunID) MarshalText() ([]byte, error) { return []byte(id.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (id *RunID) UnmarshalText(text []byte) error {
	v, ok := ParseRunID(string(text))
	if !ok {
		return &strconv.NumError{Func: "ParseRunID", Num: string(text), Err: strconv.ErrSyntax}
	}
	*id = v
	return nil
}

// Run is one execution of a job.
type Run struct {
	ID         RunID      `json:"id" db:"id" doc:"such as 2611-48211"`
	JobID      int64      `json:"job_id" db:"job_id"`
	Job        string     `json:"job" db:"job_name" doc:"the job's name when the run was made"`
	JobVersion int        `json:"job_version" db:"job_version"`
	TriggerID  *int64     `json:"trigger_id,omitempty" db:"trigger_id"`
	Why        string     `json:"why" db:"why" doc:"one sentence: what caused the run"`
	Nominal    time.Time  `json:"nominal" db:"nominal" doc:"the date that the rule named"`
	Due        time.Time  `json:"due" db:"due"`
	Zone       string     `json:"zone" db:"zone"`
	Given      Values     `json:"given,omitempty" db:"-" doc:"values that were given to this run and go before the job's"`
	Rehearsal  bool       `json:"rehearsal,omitempty" db:"rehearsal" doc:"its results go only to the one who asked for it"`
	Again      *RunID     `json:"again,omitempty" db:"again" doc:"the run that it repeats"`
	Correction string     `json:"correction,omitempty" db:"correction" doc:"what was wrong with that, when this one corrects it"`
	Parts      int        `json:"parts,omitempty" db:"part_count" doc:"how many parts it is divided over; 1 when it is not"`
	Deadline   *time.Time `json:"deadline,omitempty" db:"deadline" doc:"when it must have arrived"`
	State      RunState   `json:"state" db:"state" enum:"waiting,running,delivering,done,partly,blank,failed,cancelled,passed over"`
	Reason     string     `json:"reason" db:"reason" doc:"one sentence: why it is in this state"`
	CreatedAt  time.Time  `json:"created_at" db:"created_at"`
	StartedAt  *time.Time `json:"started_at,omitempty" db:"started_at"`
	EndedAt    *time.Time `json:"ended_at,omitempty" db:"ended_at"`
}

// Attempt is one try of one task of one part.
type Attempt struct {
	RunID     RunID        `json:"-" db:"run_id"`
	Part      int          `json:"part" db:"part"`
	Task      string       `json:"task" db:"task"`
	Try       int          `json:"try" db:"try"`
	State     AttemptState `json:"state" db:"state" enum:"running,done,blank,failed,lost,unknown,passed over"`
	StartedAt time.Time    `json:"started_at" db:"started_at"`
	EndedAt   *time.Time   `json:"ended_at,omitempty" db:"ended_at"`
	Rows      *int64       `json:"rows,omitempty" db:"rows"`
	Note      string       `json:"note,omitempty" db:"note" doc:"what it did, or what went wrong"`
	Class     string       `json:"class,omitempty" db:"class" doc:"passing or lasting, when it failed"`
	Advice    string       `json:"advice,omitempty" db:"advice" doc:"what a person can do, when it failed"`
	Node      string       `json:"node" db:"node"`
}

// Artifact is a file that a task made.
type Artifact struct {
	ID        int64      `json:"id" db:"id"`
	RunID     RunID      `json:"-" db:"run_id"`
	Part      int        `json:"part" db:"part"`
	Task      string     `json:"task" db:"task"`
	Try       int        `json:"try" db:"try"`
	RemovedAt *time.Time `json:"removed_at,omitempty" db:"removed_at" doc:"when the file was removed; its record stays with the run"`
	Format    string     `json:"format" db:"format"`
	Name      string     `json:"name" db:"name"`
	Folder    string     `json:"folder,omitempty" db:"folder" doc:"below the destination's"`
	Section   string     `json:"section,omitempty" db:"section" doc:"that it holds alone, where an output has a file for each"`
	MediaType string     `json:"media_type" db:"media_type"`
	Size      int64      `json:"size" db:"size"`
	SHA256    string     `json:"sha256" db:"sha256"`
	Rows      int64      `json:"rows" db:"row_count"`
	Key       string     `json:"-" db:"key"`
	CreatedAt time.Time  `json:"created_at" db:"created_at"`
}

// Cells are cells of the first rows that a task found, by column: text, numbers, yes or no, or
// nothing.
type Cells map[string]any

// UnmarshalJSON keeps whole numbers whole.
func (c *Cells) UnmarshalJSON(data []byte) error {
	read := json.NewDecoder(bytes.NewReader(data))
	read.UseNumber()
	var all map[string]any
	if err := read.Decode(&all); err != nil {
		return fmt.Errorf("read cells: %w", err)
	}
	for name, value := range all {
		number, ok := value.(json.Number)
		if !ok {
			continue
		}
		if whole, err := number.Int64(); err == nil {
			all[name] = whole
		} else if all[name], err = number.Float64(); err != nil {
			return fmt.Errorf("read the cell of %q: %w", name, err)
		}
	}
	*c = all
	return nil
}

// LogLine is one line of a run's log. A line with a State is a change of the
// run's state, with its reason as Text.
type LogLine struct {
	N     int64     `json:"n" db:"n"`
	At    time.Time `json:"at" db:"at"`
	Part  int       `json:"part" db:"part"`
	Task  string    `json:"task,omitempty" db:"task"`
	State RunState  `json:"state,omitempty" db:"state"`
	Level string    `json:"level" db:"level" enum:"info,warn,error"`
	Text  string    `json:"text" db:"text"`
}

// Ring is one due time of one trigger, with the decision taken on it.
type Ring struct {
	TriggerID int64        `json:"trigger_id" db:"trigger_id"`
	Due       time.Time    `json:"due" db:"due"`
	Nominal   time.Time    `json:"nominal" db:"nominal"`
	Decision  RingDecision `json:"decision" db:"decision" enum:"run,joined,passed over"`
	Reason    string       `json:"reason" db:"reason"`
	RunID     *RunID       `json:"run_id,omitempty" db:"run_id"`
	DecidedAt time.Time    `json:"decided_at" db:"decided_at"`
}
