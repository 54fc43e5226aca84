package api

import (
	"context"

	"ironbell/internal/core/job"
	"ironbell/internal/store/records"
)

// The names of the records of each kind.

func namesOf[T any](all []T, err error, name func(T) string) ([]string, error) {
	if err != nil {
		return nil, err
	}
	out := make([]string, len(all))
	for i, r := range all {
		out[i] = name(r)
	}
	return out, nil
}

func (s *server) namesOfPeople(ctx context.Context) ([]string, error) {
	all, err := s.Store.People(ctx)
	return namesOf(all, err, func(p job.Person) string { return p.Login })
}

// namesOfWishes leaves those out who wish nothing.
func (s *server) namesOfWishes(ctx context.Context) ([]string, error) {
	all, err := s.Store.People(ctx)
	wishing := []job.Person{}
	for _, p := range all {
		p.Wishes.MailWanted = ""
		if p.Wishes != (job.Wishes{}) {
			wishing = append(wishing, p)
		}
	}
	return namesOf(wishing, err, func(p job.Person) string { return p.Login })
}

func (s *server) namesOfPosts(ctx context.Context) ([]string, error) {
	all, err := s.Store.Posts(ctx)
	return namesOf(all, err, func(p job.Post) string { return p.Name })
}

func (s *server) namesOfGroups(ctx context.Context) ([]string, error) {
	all, err := s.Store.Groups(ctx)
	return namesOf(all, err, func(g job.Group) string { return g.Name })
}

func (s *server) namesOfSubscriptions(ctx context.Context) ([]string, error) {
	all, err := s.Store.Subscriptions(ctx)
	return namesOf(all, err, func(one job.Subscription) string { return one.Name })
}

func (s *server) namesOfSenders(ctx context.Context) ([]string, error) {
	all, err := s.Store.Senders(ctx)
	return namesOf(all, err, func(one job.Sender) string { return one.Name })
}

func (s *server) namesOfCalendars(ctx context.Context) ([]string, error) {
	all, err := s.Store.Calendars(ctx)
	return namesOf(all, err, func(c records.Calendar) string { return c.Name })
}

func (s *server) namesOfPlaces(kind records.PlaceKind) func(ctx context.Context) ([]string, error) {
	return func(ctx context.Context) ([]string, error) {
		all, err := s.Store.Places(ctx, kind)
		return namesOf(all, err, func(p records.Place) string { return p.Name })
	}
}

func (s *server) namesOfIdentities(ctx context.Context) ([]string, error) {
	sources, err := s.Store.Places(ctx, records.Source)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, p := range sources {
		all, err := s.Store.Identities(ctx, p.Name)
		if err != nil {
			return nil, err
		}
		for _, i := range all {
			names = append(names, i.Source+"/"+i.Name)
		}
	}
	return names, nil
}

const mostRecords = 100_000 // of one kind

func (s *server) namesOfReports(ctx context.Context) ([]string, error) {
	all, err := s.Store.Reports(ctx, mostRecords)
	return namesOf(all, err, func(r job.Report) string { return r.Name })
}

func (s *server) namesOfJobs(ctx context.Context) ([]string, error) {
	all, err := s.Store.Jobs(ctx, "", mostRecords)
	return namesOf(all, err, func(j job.Job) string { return j.Name })
}
