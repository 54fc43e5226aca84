package people

import (
	"context"
	"database/sql"
	"fmt"
	"regexp"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/store/db"

	"github.com/jmoiron/sqlx"
)

type groupRow struct {
	job.Group
	Members db.Document[[]string] `db:"members"`
}

func (r groupRow) group() job.Group {
	r.Group.Members = r.Members.V
	if r.Group.Members == nil {
		r.Group.Members = []string{}
	}
	return r.Group
}

// Groups lists the groups by name, at most 1,000.
func (q Q) Groups(ctx context.Context) ([]job.Group, error) {
	var rows []groupRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows,
		`SELECT id, name, members, `+db.RevisionOf("group", "groups.name")+` FROM groups WHERE removed_at IS NULL
			ORDER BY lower(name)
			LIMIT 1000`)
	out := make([]job.Group, len(rows))
	for i, r := range rows {
		out[i] = r.group()
	}
	return out, db.Wrap(err, "list the groups")
}

// Group finds a group by name.
func (q Q) Group(ctx context.Context, name string) (job.Group, error) {
	var r groupRow
	err := sqlx.GetContext(ctx, q.Ext, &r,
		`SELECT id, name, members, `+db.RevisionOf("group", "groups.name")+` FROM groups
			WHERE id = record_id('group', $1) AND removed_at IS NULL`, name)
	return r.group(), q.Found(ctx, err, "group", name)
}

// PutGroup adds or changes a group by name.
func (q Q) PutGroup(ctx context.Context, g job.Group) error {
	name, err := q.Called(ctx, "group", g.Name)
	if err != nil {
		return err
	}
	_, err = q.Ext.ExecContext(ctx, `INSERT INTO groups (name, members) VALUES ($1, $2)
		ON CONFLICT (lower(name)) DO UPDATE SET members = excluded.members, updated_at = bell_now()`,
		name, db.Document[[]string]{V: g.Members})
	return db.Unique(err, "group", g.Name)
}

type postRow struct {
	job.Post
	Holders db.Document[[]string] `db:"holders"`
}

func (r postRow) post() job.Post {
	r.Post.Holders = r.Holders.V
	if r.Post.Holders == nil {
		r.Post.Holders = []string{}
	}
	return r.Post
}

var postColumns = `p.id, p.name, p.holders, coalesce(u.name, '') AS under, ` + db.RevisionOf("post", "p.name") +
	` FROM posts p LEFT JOIN posts u ON u.id = above(p.under_id)`

// Posts lists the posts by name, at most 5,000.
func (q Q) Posts(ctx context.Context) ([]job.Post, error) {
	var rows []postRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `SELECT `+postColumns+` WHERE p.removed_at IS NULL
		ORDER BY lower(p.name) LIMIT 5000`)
	out := make([]job.Post, len(rows))
	for i, r := range rows {
		out[i] = r.post()
	}
	return out, db.Wrap(err, "list the posts")
}

// Post finds a post by name.
func (q Q) Post(ctx context.Context, name string) (job.Post, error) {
	var r postRow
	err := sqlx.GetContext(ctx, q.Ext, &r, `SELECT `+postColumns+` WHERE p.id = record_id('post', $1)
		AND p.removed_at IS NULL`, name)
	return r.post(), q.Found(ctx, err, "post", name)
}

// PostsUnder lists a post with all that stand under it.
func (q Q) PostsUnder(ctx context.Context, name string) ([]job.Post, error) {
	var rows []postRow
	err := sqlx.SelectContext(ctx, q.Ext, &rows, `WITH RECURSIVE below AS (
			SELECT id FROM posts WHERE id = record_id('post', $1) AND removed_at IS NULL UNION SELECT p.id FROM posts p
			JOIN below b ON p.under_id = b.id)
		SELECT `+postColumns+` WHERE p.id IN (SELECT id FROM below) AND p.removed_at IS NULL ORDER BY p.id LIMIT 5000`, name)
	if err == nil && len(rows) == 0 {
		return nil, q.Found(ctx, sql.ErrNoRows, "post", name)
	}
	out := make([]job.Post, len(rows))
	for i, r := range rows {
		out[i] = r.post()
	}
	return out, db.Wrap(err, "list the posts under "+name)
}

// PutPost adds or changes a post by name. The post that it stands under is there.
func (q Q) PutPost(ctx context.Context, p job.Post) error {
	name, err := q.Called(ctx, "post", p.Name)
	if err != nil {
		return err
	}
	_, err = q.Ext.ExecContext(ctx, `INSERT INTO posts (name, under_id, holders)
		VALUES ($1, (SELECT id FROM posts WHERE id = record_id('post', $2) AND removed_at IS NULL), $3)
		ON CONFLICT (lower(name)) DO UPDATE SET under_id = excluded.under_id, holders = excluded.holders,
		updated_at = bell_now()`, name, p.Under, db.Document[[]string]{V: p.Holders})
	return db.Unique(err, "post", p.Name)
}

// JobsSendingTo lists the jobs that name a group or post among their recipients, at
// most 100.
func (q Q) JobsSendingTo(ctx context.Context, kind, name string) ([]string, error) {
	if kind == "post" {
		kind = "(post|under)"
	}
	// As a text of the definition ends it, or a list within that text goes on.
	written := kind + `:` + regexp.QuoteMeta(strings.ToLower(name)) + `\s*(["\\,;]|$)`
	jobs := []string{}
	err := sqlx.SelectContext(ctx, q.Ext, &jobs, `SELECT j.name FROM jobs j JOIN job_versions v ON v.job_id = j.id
		AND v.version = j.version
		WHERE j.removed_at IS NULL AND lower(v.definition::text) ~ $1 ORDER BY j.name LIMIT 100`, written)
	return jobs, db.Wrap(err, "find the jobs that send to the "+kind)
}

// GroupsHolding lists the groups that hold a group or post, at most 100.
func (q Q) GroupsHolding(ctx context.Context, kind, name string) ([]string, error) {
	if kind == "post" {
		kind = "(post|under)"
	}
	groups := []string{}
	err := sqlx.SelectContext(ctx, q.Ext, &groups, `SELECT name FROM groups g WHERE removed_at IS NULL
		AND EXISTS (SELECT 1 FROM jsonb_array_elements_text(g.members) m WHERE lower(m) ~ $1) ORDER BY name LIMIT 100`,
		`^\s*`+kind+`:\s*`+regexp.QuoteMeta(strings.ToLower(name))+`\s*$`)
	return groups, db.Wrap(err, "find the groups that hold the "+kind)
}

// PutStandIn says who stands in for a person.
func (q Q) PutStandIn(ctx context.Context, id int64, login string) error {
	_, err := q.Ext.ExecContext(ctx, `UPDATE people SET wishes = jsonb_set(wishes, '{stand_in}', to_jsonb($2::text))
		WHERE id = $1`, id, login)
	return db.Wrap(err, "say who stands in")
}

// Leave takes an address off a job's list.
func (q Q) Leave(ctx context.Context, jobID int64, address, how string) error {
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO left_jobs (job_id, address, how) VALUES ($1, lower($2), $3)
		ON CONFLICT DO NOTHING`, jobID, address, how)
	return db.Wrap(err, "leave the job's list")
}

// ComeBack puts an address on a job's list again.
func (q Q) ComeBack(ctx context.Context, jobID int64, address string) error {
	_, err := q.Ext.ExecContext(ctx, `DELETE FROM left_jobs WHERE job_id = $1 AND address = lower($2)`, jobID, address)
	return db.Wrap(err, "come back to the job's list")
}

// Left lists which of some addresses left a job's list, in small letters.
func (q Q) Left(ctx context.Context, jobID int64, addresses []string) (map[string]bool, error) {
	var left []string
	err := sqlx.SelectContext(ctx, q.Ext, &left, `SELECT address FROM left_jobs WHERE job_id = $1
		AND address = ANY(SELECT lower(a) FROM unnest($2::text[]) a)`, jobID, addresses)
	out := make(map[string]bool, len(left))
	for _, a := range left {
		out[a] = true
	}
	return out, db.Wrap(err, "see who left the job's list")
}

// PeopleByLogins finds people by their sign-in names.
func (q Q) PeopleByLogins(ctx context.Context, logins []string) ([]job.Person, error) {
	people := []job.Person{}
	err := sqlx.SelectContext(ctx, q.Ext, &people, `SELECT `+PersonColumns+` FROM people p
		WHERE p.removed_at IS NULL AND p.id = ANY(SELECT record_id('person', l) FROM unnest($1::text[]) l) ORDER BY p.id`, logins)
	return people, db.Wrap(err, "find the people")
}

// LanguagesOf are the languages that some people wish, by their ids; who wishes none is not among them.
func (q Q) LanguagesOf(ctx context.Context, ids []int64) (map[int64]string, error) {
	var all []struct {
		ID       int64  `db:"id"`
		Language string `db:"language"`
	}
	err := sqlx.SelectContext(ctx, q.Ext, &all, `SELECT id, wishes->>'language' AS language FROM people
		WHERE id = ANY($1) AND wishes->>'language' <> ''`, ids)
	out := make(map[int64]string, len(all))
	for _, one := range all {
		out[one.ID] = one.Language
	}
	return out, db.Wrap(err, "find the people's languages")
}

// PeopleByMail finds people by their addresses, as an administrator gave them: an address
// that somebody took for themselves makes nobody else's mail theirs.
func (q Q) PeopleByMail(ctx context.Context, addresses []string) ([]job.Person, error) {
	people := []job.Person{}
	err := sqlx.SelectContext(ctx, q.Ext, &people, `SELECT `+PersonColumns+` FROM people p WHERE NOT p.mail_own AND p.removed_at IS NULL
		AND lower(p.mail) = ANY(SELECT lower(a) FROM unnest($1::text[]) a) ORDER BY p.id LIMIT 20000`, addresses)
	return people, db.Wrap(err, "find the people")
}

// Gets is a job that sends to an address.
type Gets struct {
	JobID    int64      `db:"job_id"`
	Job      string     `db:"job"`
	Sent     int        `db:"sent"`
	LastAt   *time.Time `db:"last_at"`
	LastWord string     `db:"last_state"`
	Left     bool       `db:"has_left"`
	MayLeave bool       `db:"may_leave"`
}

// GetsOf lists the jobs that sent to an address in the last days.
func (q Q) GetsOf(ctx context.Context, address string, days int) ([]Gets, error) {
	gets := []Gets{}
	err := sqlx.SelectContext(ctx, q.Ext, &gets, `SELECT j.id AS job_id, j.name AS job, g.sent, g.last_at, g.last_state,
		l.at IS NOT NULL AS has_left, g.may_leave
		FROM (SELECT d.job_id, count(*) FILTER (WHERE d.state = 'sent') AS sent, max(d.settled_at) AS last_at,
		(array_agg(d.state ORDER BY d.id DESC))[1] AS last_state,
				(array_agg(m.may_leave ORDER BY d.id DESC))[1] AS may_leave
			FROM deliveries d JOIN messages m ON m.id = d.message_id
			WHERE lower(d.address) = lower($1) AND d.job_id IS NOT NULL AND NOT d.rehearsal
			AND d.created_at > bell_now() - make_interval(days => $2) AND d.id >= month_end($2 + 31)
			GROUP BY d.job_id) g
		JOIN jobs j ON j.id = g.job_id AND j.removed_at IS NULL LEFT JOIN left_jobs l ON l.job_id = j.id AND l.address = lower($1)
		ORDER BY j.name LIMIT 500`, address, days)
	return gets, db.Wrap(err, fmt.Sprintf("list what %s receives", address))
}

// Join lets a person get the mails of a job.
func (q Q) Join(ctx context.Context, jobID, personID int64) error {
	_, err := q.Ext.ExecContext(ctx, `INSERT INTO joined_jobs (job_id, person_id) VALUES ($1, $2)
		ON CONFLICT DO NOTHING`, jobID, personID)
	return db.Wrap(err, "join the job")
}

// Unjoin ends that; ok tells whether they had joined.
func (q Q) Unjoin(ctx context.Context, jobID, personID int64) (ok bool, err error) {
	res, err := q.Ext.ExecContext(ctx, `DELETE FROM joined_jobs WHERE job_id = $1 AND person_id = $2`, jobID, personID)
	if err != nil {
		return false, db.Wrap(err, "leave the job")
	}
	n, err := res.RowsAffected()
	return n > 0, db.Wrap(err, "leave the job")
}

// Joined lists who joined a job and is not removed, at most 20,000.
func (q Q) Joined(ctx context.Context, jobID int64) ([]job.Person, error) {
	people := []job.Person{}
	err := sqlx.SelectContext(ctx, q.Ext, &people, `SELECT `+PersonColumns+` FROM people p
		WHERE p.removed_at IS NULL AND p.id IN (SELECT person_id FROM joined_jobs WHERE job_id = $1)
		ORDER BY p.id LIMIT 20000`, jobID)
	return people, db.Wrap(err, "see who joined the job")
}

// OpenJob is a job that some people may join.
type OpenJob struct {
	ID      int64                 `db:"id"`
	Name    string                `db:"name"`
	Owner   string                `db:"owner"`
	On      bool                  `db:"is_on"`
	Joiners db.Document[[]string] `db:"joiners"`
	Joined  bool                  `db:"joined"`
	Left    bool                  `db:"has_left"`
}

// OpenJobs lists the jobs that some people may join, with whether a person has; at most 1,000.
func (q Q) OpenJobs(ctx context.Context, p job.Person) ([]OpenJob, error) {
	open := []OpenJob{}
	err := sqlx.SelectContext(ctx, q.Ext, &open, `SELECT j.id, j.name, o.name AS owner, j.is_on,
			v.definition -> 'joiners' AS joiners, g.job_id IS NOT NULL AS joined, l.job_id IS NOT NULL AS has_left
		FROM job_versions v JOIN jobs j ON j.id = v.job_id AND j.version = v.version AND j.removed_at IS NULL
		JOIN people o ON o.id = j.owner_id
		LEFT JOIN joined_jobs g ON g.job_id = j.id AND g.person_id = $1
		LEFT JOIN left_jobs l ON l.job_id = j.id AND l.address = lower($2)
		WHERE v.definition ? 'joiners' ORDER BY j.name LIMIT 1000`, p.ID, p.Mail)
	return open, db.Wrap(err, "list the jobs that can be joined")
}

// Asking is a delivery that waits for somebody's word.
type Asking struct {
	ID      int64     `db:"id"`
	RunID   job.RunID `db:"run_id"`
	JobID   int64     `db:"job_id"`
	Job     string    `db:"job"`
	Owner   string    `db:"owner"` // sign-in name
	Address string    `db:"address"`
	State   string    `db:"state"`
	Since   time.Time `db:"created_at"`
}

// AskingOf lists deliveries that wait for a word: those of a person's jobs of which nobody
// knows whether they arrived, and those of others' jobs to which a second person has to say
// yes; the newest 200 of each.
func (q Q) AskingOf(ctx context.Context, personID int64) (own, others []Asking, err error) {
	const columns = `SELECT d.id, d.run_id, d.job_id, j.name AS job, o.login AS owner, d.address, d.state, d.created_at
		FROM deliveries d JOIN jobs j ON j.id = d.job_id JOIN people o ON o.id = j.owner_id
		WHERE d.run_id IS NOT NULL AND `
	own, others = []Asking{}, []Asking{}
	if err = sqlx.SelectContext(ctx, q.Ext, &own, columns+`d.job_id IN (SELECT id FROM jobs WHERE owner_id = $1)
		AND d.state = 'unknown' ORDER BY d.id DESC LIMIT 200`, personID); err != nil {
		return nil, nil, db.Wrap(err, "list what nobody knows of")
	}
	err = sqlx.SelectContext(ctx, q.Ext, &others, columns+`d.state = 'waiting' AND d.kept_back = 'yes'
		AND j.owner_id <> $1 ORDER BY d.id DESC LIMIT 200`, personID)
	return own, others, db.Wrap(err, "list what waits for a yes")
}
