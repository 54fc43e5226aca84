package service

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"ironbell/internal/access"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/store"
	"ironbell/internal/store/db"
	"ironbell/internal/store/records"
	"ironbell/internal/task/recipients"
)

// Schedule saves an own schedule of whoever asks: a new one when name is empty, otherwise the
// one of that name, which stays on or off as it is. The report must be open to them.
func (js *Jobs) Schedule(ctx context.Context, who job.Person, name string, o job.OwnSchedule) (job.Job, error) {
	report, err := js.store.Report(ctx, o.Report)
	if err != nil {
		return job.Job{}, err
	}
	o.Report = report.Name
	destination, err := js.mailServer(ctx)
	if err != nil {
		return job.Job{}, err
	}
	d := o.Definition(who.Login, who.Zone, destination)
	if name == "" {
		return js.newSchedule(ctx, who, fmt.Sprintf("%s for %s", report.Name, who.Name), d)
	}
	j, err := js.store.Job(ctx, name)
	if err != nil {
		return job.Job{}, err
	}
	if !j.Personal || j.Owner != who.Login {
		return job.Job{}, &access.Denied{
			Act: access.Write, Person: who, What: "change the job " + j.Name + " as an own schedule", Ask: "its owner, " + j.Owner,
		}
	}
	return js.Save(ctx, who, j.Name, who.Login, j.On, d)
}

// mailServer is the one over which the service itself speaks to people, or the first.
func (js *Jobs) mailServer(ctx context.Context) (string, error) {
	var s job.AlertSettings
	if _, err := js.store.Setting(ctx, db.AlertSetting, &s); err != nil {
		return "", err
	}
	if s.Destination != "" {
		return s.Destination, nil
	}
	all, err := js.store.Places(ctx, records.Destination)
	if err != nil {
		return "", err
	}
	for _, p := range all {
		if p.Protocol == "smtp" {
			return p.Name, nil
		}
	}
	return "", fault.New(fault.Task, "find a mail server", "there is no destination that takes mails",
		"An administrator adds one under Destinations.")
}

// scheduled says that somebody has an own schedule that says the same.
type scheduled struct{ job job.Job }

func (e *scheduled) Error() string {
	return fmt.Sprintf("there is an own schedule that says the same, %q", e.job.Name)
}

// Unwrap makes it something that was written wrong, to whoever saves the job itself.
func (e *scheduled) Unwrap() error {
	return &fault.Invalid{What: "the own schedule", Wrong: []fault.Wrong{{Sentence: e.Error()}}}
}

// once refuses an own schedule that its owner has already, or that would be one too many. Those
// of one person are saved one after the other.
func once(ctx context.Context, t *store.Tx, owner job.Person, d job.Definition) error {
	if err := t.LockSetting(ctx, "own schedules of "+owner.Login); err != nil {
		return err
	}
	own, err := t.JobsOwned(ctx, owner.ID, maxOwned)
	if err != nil {
		return err
	}
	n := 0
	for _, j := range own {
		if !j.Personal {
			continue
		}
		if job.SaySame(j.Definition, d) {
			return &scheduled{j}
		}
		n++
	}
	v := &fault.Invalid{What: "the own schedule"}
	if n >= job.MaxOwnSchedules {
		v.Add("", "%s has %d own schedules already, which is the most; remove one first", owner.Name, n)
	}
	return v.Err()
}

// newSchedule saves a new own schedule under a name, or the first of it with a number that no
// job has or had. One that says the same is not made twice: whoever lost an answer asks again.
func (js *Jobs) newSchedule(ctx context.Context, who job.Person, name string, d job.Definition) (job.Job, error) {
	ctx = db.Expecting(ctx, db.Precondition{Kind: "job", Absent: true})
	if len(name) > maxName-4 {
		name = strings.ToValidUTF8(name[:maxName-4], "")
	}
	for n := 1; ; n++ {
		try := name
		if n > 1 {
			try += " " + strconv.Itoa(n)
		}
		j, err := js.Save(ctx, who, try, who.Login, true, d)
		var same *scheduled
		if errors.As(err, &same) {
			return js.Described(same.job), nil
		}
		var taken *db.Taken
		var stale *db.Stale
		if n < maxOwned && (errors.As(err, &taken) || errors.As(err, &stale)) {
			continue
		}
		return j, err
	}
}

// Bounds of the names of own schedules, and of the jobs among which one is looked for.
const (
	maxName  = 200
	maxOwned = 1000
)

// checkOwn looks an own schedule through: that its report is open to its owner, and
// that it does not come too often.
func (ck *checks) checkOwn(ctx context.Context, v *fault.Invalid, owner job.Person, d job.Definition) error {
	o, _ := job.OwnOf(d, owner.Login)
	if owner.Mail == "" {
		v.Add("owner", "%s has no mail address to which it could come", owner.Name)
	}
	place, err := ck.store.Place(ctx, records.Destination, d.Tasks[1].Deliver.Destination)
	if err == nil && place.Protocol != "smtp" {
		v.Add("personal", "an own schedule comes by mail, and %s takes none", place.Name)
	}
	report, err := ck.store.Report(ctx, o.Report)
	if db.IsMissing(err) {
		return nil // it is told of where it stands
	}
	if err != nil {
		return err
	}
	open, err := recipients.Named(ctx, ck.store, report.Schedulers)
	if err != nil {
		return err
	}
	if !open[owner.ID] {
		v.Add("report", "%s", notOpen(report, owner))
	}
	if place, err := zone.Load(d.Zone); err == nil {
		r, ok := d.Triggers[0].Read(&fault.Invalid{}, "", place, nil)
		if ok && r.Most() > job.MaxOwnRings {
			v.Add("when", "it would come up to %d times a day; own schedules come %d times a day at most", r.Most(), job.MaxOwnRings)
		}
	}
	return nil
}

func notOpen(r job.Report, p job.Person) string {
	return fmt.Sprintf("the report %q is not open to own schedules of %s; ask its owner, %s", r.Name, p.Name, r.Owner)
}
