package api

import (
	"context"
	"net/http"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/calendar"
	"ironbell/internal/store/records"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) calendars(a huma.API) {
	tags := subject("calendars")
	huma.Register(a, tags.get("list-calendars", "/api/calendars", "List the calendars of open and closed days"),
		s.listCalendars)
	huma.Register(a,
		tags.get("show-calendar", "/api/calendars/{calendar}", "Show a calendar and the jobs that go by it"),
		s.showCalendar)
	huma.Register(a,
		tags.put("save-calendar", "/api/calendars/{calendar}", "Add a calendar, or change the one of this name",
			refuses(403, 422), upTo(maxBody),
			says("The next rings of the jobs that go by it are reckoned anew, at once; one that now lies in the past "+
				"rings at once. With try nothing is saved; what-if tells what would become of the rings.")), s.saveCalendar)
	huma.Register(a,
		tags.delete("remove-calendar", "/api/calendars/{calendar}", "Remove a calendar that no job goes by; it can be brought back for 30 days",
			answers(http.StatusNoContent)), s.removeCalendar)
	huma.Register(a,
		tags.post("read-icalendar", "/api/icalendar",
			"Read the whole-day events of an iCalendar file as entries of a calendar", upTo(6<<20)), s.readIcalendar)
}

func (s *server) listCalendars(ctx context.Context, _ *struct{}) (*struct{ Body []wire.Calendar }, error) {
	all, err := s.Store.Calendars(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	out := make([]wire.Calendar, len(all))
	for i, c := range all {
		if out[i], err = calendarOf(c, s.Now()); err != nil {
			return nil, s.problem(err)
		}
	}
	return &struct{ Body []wire.Calendar }{out}, nil
}

func (s *server) showCalendar(ctx context.Context, in *CalendarPath) (*struct{ Body wire.CalendarPage }, error) {
	c, err := s.Store.Calendar(ctx, in.Calendar)
	if err != nil {
		return nil, s.problem(err)
	}
	page := wire.CalendarPage{UsedBy: []string{}}
	if page.Calendar, err = calendarOf(c, s.Now()); err != nil {
		return nil, s.problem(err)
	}
	jobs, err := s.Store.JobsUsing(ctx, "calendar", c.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	for _, j := range jobs {
		page.UsedBy = append(page.UsedBy, j.Name)
	}
	return &struct{ Body wire.CalendarPage }{page}, nil
}

func (s *server) saveCalendar(ctx context.Context, in *struct {
	CalendarPath
	Try  bool `query:"try" doc:"save nothing, and tell what would be refused"`
	Body calendar.Definition
},
) (*struct{ Body wire.CalendarSaved }, error) {
	who, _ := person(ctx)
	c, err := s.Service.Calendars.Save(ctx, who, in.Calendar, in.Body, in.Try)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.CalendarSaved{Saved: !in.Try}
	if out.Calendar, err = calendarOf(c, s.Now()); err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.CalendarSaved }{out}, nil
}

func (s *server) removeCalendar(ctx context.Context, in *CalendarPath) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.removed(ctx, who, "calendar", in.Calendar)
}

func (s *server) readIcalendar(ctx context.Context,
	in *struct{ Body wire.ICSRequest },
) (*struct{ Body wire.ICSRead }, error) {
	entries, notes, err := calendar.ReadICS([]byte(in.Body.Text))
	if err != nil {
		return nil, huma.NewError(http.StatusUnprocessableEntity, err.Error())
	}
	var had []calendar.Entry
	if in.Body.Calendar != "" {
		c, err := s.Store.Calendar(ctx, in.Body.Calendar)
		if err != nil && !isNotFound(err) {
			return nil, s.problem(err)
		}
		had = c.Definition.Closed
	}
	merged, added, missing := calendar.Merge(had, entries)
	all := func(e []calendar.Entry) []calendar.Entry { return append([]calendar.Entry{}, e...) }
	out := wire.ICSRead{
		Entries: all(entries), Notes: append([]string{}, notes...), Merged: all(merged), Added: all(added),
		Missing: all(missing),
	}
	return &struct{ Body wire.ICSRead }{out}, nil
}

const maxClosings = 200

// CalendarPath names a calendar in an address.
type CalendarPath struct {
	Calendar string `path:"calendar" maxLength:"200"`
}

func calendarOf(c records.Calendar, now time.Time) (wire.Calendar, error) {
	out := wire.Calendar{
		Name: c.Name, Version: c.Version, Revision: c.Revision, UpdatedAt: c.UpdatedAt, Jobs: c.Jobs,
		Definition: c.Definition,
	}
	laid, err := calendar.Compile(c.Name, c.Definition)
	if err != nil {
		return out, err
	}
	out.Closings = laid.Closings(now, now.AddDate(1, 0, 0), maxClosings)
	if last, ok := laid.Last(); ok && last.Year() < 2100 {
		out.Last = last.Format(time.DateOnly)
	}
	return out, nil
}
