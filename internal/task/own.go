package task

import (
	"context"
	"fmt"
	"strconv"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/task/recipients"
)

// OwnRecords are what own schedules are looked up in.
type OwnRecords interface {
	recipients.Records
	Job(ctx context.Context, name string) (job.Job, error)
	Report(ctx context.Context, name string) (job.Report, error)
}

// OpenTo gives what a Report asks before it makes an own schedule: whether the report is open to
// the schedule's owner as things are now, whenever the schedule was made.
func OpenTo(s OwnRecords) func(ctx context.Context, jobID int64, report string) error {
	return func(ctx context.Context, jobID int64, name string) error {
		j, err := s.Job(ctx, strconv.FormatInt(jobID, 10))
		if err != nil {
			return err
		}
		owner, _, err := s.PersonByLogin(ctx, j.Owner)
		if err != nil {
			return err
		}
		r, err := s.Report(ctx, name)
		if err != nil {
			return err
		}
		open, err := recipients.Named(ctx, s, r.Schedulers)
		if err != nil || open[owner.ID] {
			return err
		}
		return fault.New(fault.Task, "make the report "+r.Name,
			fmt.Sprintf("it is no longer open to own schedules of %s", owner.Name),
			fmt.Sprintf("Ask its owner, %s, to open it, or remove the schedule.", r.Owner))
	}
}
