package history

import (
	"context"
	"crypto/sha256"
	"slices"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

// NewLink is a link to be kept with what it leads to.
type NewLink struct {
	Hash     []byte
	RunID    job.RunID
	Part     int
	Task     string
	Files    []string // keys of artifacts
	Audience string   // job.LinkNamed or job.LinkHouse
	Named    []string // addresses in small letters
	People   []int64  // who was meant by name, whatever their addresses
	Archive  bool     // it leads to what earlier runs made as well
	EndsAt   time.Time
}

// LinkHash is what is kept of a link's token.
func LinkHash(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// AddLink keeps a link. It is bound to the people who were meant, and to those whose
// addresses were written and are on record by an administrator's word, not by their own.
func (t *Tx) AddLink(ctx context.Context, l NewLink) error {
	_, err := t.Ext.ExecContext(ctx, `INSERT INTO links (hash, run_id, part, task, files, audience, named, archive,
		ends_at, people) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9,
			ARRAY(SELECT id FROM people WHERE id = ANY($10::bigint[]) OR NOT mail_own AND mail <> ''
			AND lower(mail) = ANY($7)))`,
		l.Hash, l.RunID, l.Part, l.Task, db.Emptied(l.Files), l.Audience, db.Emptied(l.Named), l.Archive, l.EndsAt,
		l.People)
	return db.Wrap(err, "keep the link")
}

// Link is a link that is kept.
type Link struct {
	ID          int64                 `db:"id"`
	RunID       job.RunID             `db:"run_id"`
	Part        int                   `db:"part"`
	Task        string                `db:"task"`
	Job         string                `db:"job_name"`
	JobID       int64                 `db:"job_id"`
	Audience    string                `db:"audience"`
	Files       db.Document[[]string] `db:"files"`
	Named       db.Document[[]string] `db:"named"`
	People      db.Document[[]int64]  `db:"people"`
	Archive     bool                  `db:"archive"`
	EndsAt      time.Time             `db:"ends_at"`
	CreatedAt   time.Time             `db:"created_at"`
	WithdrawnAt *time.Time            `db:"withdrawn_at"`
	WithdrawnBy string                `db:"withdrawn_by"`
	Follows     int                   `db:"follows"`
	LastAt      *time.Time            `db:"last_at"`
	Ended       bool                  `db:"ended"`
}

// For tells whether a person is among those whom the link is for.
func (l Link) For(p job.Person) bool {
	return l.Audience != job.LinkNamed || slices.Contains(l.People.V, p.ID)
}

// Open tells whether the link leads anywhere.
func (l Link) Open() bool { return l.WithdrawnAt == nil && !l.Ended }

const linkColumns = `l.id, l.run_id, l.part, l.task, r.job_name, r.job_id, l.audience, to_jsonb(l.files) AS files,
	to_jsonb(l.named) AS named, to_jsonb(l.people) AS people, l.archive, l.ends_at, l.created_at, l.withdrawn_at,
	l.withdrawn_by,
	l.ends_at <= bell_now() AS ended, (SELECT count(*) FROM link_uses u WHERE u.link_id = l.id
	AND u.what = 'followed') AS follows, (SELECT max(u.at) FROM link_uses u WHERE u.link_id = l.id
	AND u.what = 'followed') AS last_at
	FROM links l JOIN runs r ON r.id = l.run_id`

// LinkByHash finds a link by its token's hash.
func (q Q) LinkByHash(ctx context.Context, hash []byte) (Link, error) {
	var l Link
	err := sqlx.GetContext(ctx, q.Ext, &l, `SELECT `+linkColumns+` WHERE l.hash = $1`, hash)
	return l, db.Found(err, "link", "")
}

// LinkByID finds a link.
func (q Q) LinkByID(ctx context.Context, id int64) (Link, error) {
	var l Link
	err := sqlx.GetContext(ctx, q.Ext, &l, `SELECT `+linkColumns+` WHERE l.id = $1`, id)
	return l, db.Found(err, "link", "")
}

// LinksOfRun lists the links to a run's files, at most 1,000.
func (q Q) LinksOfRun(ctx context.Context, run job.RunID) ([]Link, error) {
	links := []Link{}
	err := sqlx.SelectContext(ctx, q.Ext, &links, `SELECT `+linkColumns+` WHERE l.run_id = $1 ORDER BY l.id LIMIT 1000`,
		run)
	return links, db.Wrap(err, "list the run's links")
}

// LinkFiles lists the files that a link leads to and that are still kept.
func (q Q) LinkFiles(ctx context.Context, l Link) ([]job.Artifact, error) {
	all, err := q.Artifacts(ctx, l.RunID, l.Part)
	wanted := map[string]bool{}
	for _, key := range l.Files.V {
		wanted[key] = true
	}
	out := []job.Artifact{}
	for _, a := range all {
		if wanted[a.Key] {
			out = append(out, a)
		}
	}
	return out, err
}

// Earlier is what an earlier run made of the files that a link leads to.
type Earlier struct {
	RunID job.RunID `db:"id"`
	Due   time.Time `db:"due"`
	Zone  string    `db:"zone"`
	Files []job.Artifact
}

// The bounds of what a link to the archive shows.
const (
	maxEarlier      = 200
	maxEarlierFiles = 1000
)

// EarlierFiles lists what the runs of the job before a link's run made of the same
// files, of the same part, the newest first: what is still kept, and was not
// withdrawn. Later runs are left out: whoever a link is for may not be among those
// that get them.
func (q Q) EarlierFiles(ctx context.Context, l Link) ([]Earlier, error) {
	now, err := q.LinkFiles(ctx, l)
	if err != nil {
		return nil, err
	}
	var tasks, formats []string
	for _, f := range now {
		tasks, formats = append(tasks, f.Task), append(formats, f.Format)
	}
	earlier := []Earlier{}
	if err := sqlx.SelectContext(ctx, q.Ext, &earlier, `SELECT r.id, r.due, r.zone FROM runs r WHERE r.job_id = $1
		AND r.id < $2 AND NOT r.rehearsal
		AND NOT EXISTS (SELECT 1 FROM links w WHERE w.run_id = r.id AND w.withdrawn_at IS NOT NULL) ORDER BY r.id DESC
		LIMIT $3`, l.JobID, l.RunID, maxEarlier); err != nil {
		return nil, db.Wrap(err, "list the earlier runs")
	}
	ids, at := make([]int64, len(earlier)), map[job.RunID]int{}
	for i, e := range earlier {
		ids[i], at[e.RunID] = int64(e.RunID), i
	}
	var files []job.Artifact
	if err := sqlx.SelectContext(ctx, q.Ext, &files, `SELECT `+artifactColumns+` FROM artifacts a
		WHERE a.run_id = ANY($1) AND a.removed_at IS NULL AND a.task = ANY($2) AND a.format = ANY($3)
			AND EXISTS (SELECT 1 FROM parts p WHERE p.run_id = a.run_id AND p.part = a.part
			AND p.name = (SELECT name FROM parts WHERE run_id = $4 AND part = $5))
			AND EXISTS (SELECT 1 FROM attempts t WHERE t.run_id = a.run_id AND t.part = a.part AND t.task = a.task
			AND t.try = a.try AND t.state = 'done')
		ORDER BY a.run_id DESC, a.id
		LIMIT $6`, ids, db.Emptied(tasks), db.Emptied(formats), l.RunID, l.Part, maxEarlierFiles); err != nil {
		return nil, db.Wrap(err, "list the earlier files")
	}
	for _, f := range files {
		earlier[at[f.RunID]].Files = append(earlier[at[f.RunID]].Files, f)
	}
	return slices.DeleteFunc(earlier, func(e Earlier) bool { return len(e.Files) == 0 }), nil
}

// WithdrawLinks ends links of a run, or one of them, and tells how many.
func (q Q) WithdrawLinks(ctx context.Context, run job.RunID, id int64, who string) (int64, error) {
	res, err := q.Ext.ExecContext(ctx, `UPDATE links SET withdrawn_at = bell_now(), withdrawn_by = $3 WHERE run_id = $1
		AND ($2 = 0 OR id = $2) AND withdrawn_at IS NULL`, run, id, who)
	if err != nil {
		return 0, db.Wrap(err, "withdraw the links")
	}
	n, err := res.RowsAffected()
	return n, db.Wrap(err, "withdraw the links")
}

// LinkUse is one following of a link.
type LinkUse struct {
	At   time.Time `db:"at"`
	Who  string    `db:"who"`
	What string    `db:"what"` // followed, refused, ended or withdrawn; or the name of a file that was fetched
}

// NoteLinkUse records that somebody followed a link.
func (q Q) NoteLinkUse(ctx context.Context, id int64, who, what string) error {
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO link_uses (link_id, who, what) VALUES ($1, $2, $3)`, id, who,
		db.Bounded(what))
	return db.Wrap(err, "record that a link was followed")
}

// LinkUses lists who followed a link, the latest first.
func (q Q) LinkUses(ctx context.Context, id int64, limit int) ([]LinkUse, error) {
	uses := []LinkUse{}
	err := sqlx.SelectContext(ctx, q.Ext, &uses, `SELECT at, who, what FROM link_uses WHERE link_id = $1
		ORDER BY id DESC LIMIT $2`, id, limit)
	return uses, db.Wrap(err, "list who followed the link")
}
