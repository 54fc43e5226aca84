package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/civil"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/forecast"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
	"ironbell/internal/core/phrase"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"

	ics "github.com/arran4/golang-ical"
	"github.com/danielgtaylor/huma/v2"
)

const (
	maxForecast  = 5000 // rings told at once
	forecastDays = 92   // looked ahead at most
	feedDays     = 31   // that a feed tells
	maxFeed      = 5000 // events of a feed
	whenDays     = 63   // of which the editor's month view is made
	whenSteps    = 100_000
	oftenADay    = 24              // rings a day from which a feed tells one event for the day
	usualFeed    = 5 * time.Minute // an event's length when nobody knows
	feedRefresh  = "PT1H"          // how often a calendar program should ask
)

func (s *server) when(a huma.API) {
	tags := []string{"when"}
	huma.Register(a, huma.Operation{OperationID: "read-rule", Method: http.MethodPost, Path: "/api/when", Summary: "Say what a rule means: its reading, warnings and next rings", Description: "A rule that is wrong is answered, too: wrong says what and where.", Tags: tags},
		func(ctx context.Context, in *struct{ Body wire.WhenRequest }) (*struct{ Body wire.When }, error) {
			who, _ := person(ctx)
			if in.Body.Zone == "" {
				in.Body.Zone = who.Zone
			}
			said, err := s.readRule(ctx, in.Body)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body wire.When }{said}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "read-moment", Method: http.MethodGet, Path: "/api/moment", Summary: "Reckon a moving date or a range for a due time, and explain it", Tags: tags},
		func(ctx context.Context, in *struct {
			Text      string    `query:"text" required:"true" maxLength:"300" doc:"such as start of month - 1 month, or last 8 weeks"`
			At        time.Time `query:"at" doc:"the due time; now when left out"`
			Zone      string    `query:"zone" doc:"the zone of the signed-in person when left out"`
			Calendars []string  `query:"calendar" maxItems:"10"`
		},
		) (*struct{ Body wire.Moment }, error) {
			who, _ := person(ctx)
			if err := known(in.At); err != nil {
				return nil, err
			}
			said, err := s.readMoment(ctx, in.Text, in.At, cmp.Or(in.Zone, who.Zone), in.Calendars)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body wire.Moment }{said}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "list-zones", Method: http.MethodGet, Path: "/api/zones", Summary: "List the time zones", Tags: tags},
		func(context.Context, *struct{}) (*struct{ Body []string }, error) {
			return &struct{ Body []string }{zone.Names()}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "forecast", Method: http.MethodGet, Path: "/api/forecast", Summary: "The rings to come, their load and clashes", Tags: tags},
		func(ctx context.Context, in *struct {
			From  time.Time `query:"from" doc:"now when left out"`
			To    time.Time `query:"to" doc:"seven days later when left out; at most 92 days"`
			Zone  string    `query:"zone" doc:"the zone of the signed-in person when left out"`
			Job   string    `query:"job" maxLength:"200" doc:"a part of the job's name"`
			Limit int       `query:"limit" minimum:"0" maximum:"5000" default:"1000"`
		},
		) (*struct{ Body wire.Forecast }, error) {
			who, _ := person(ctx)
			if err := known(in.From, in.To); err != nil {
				return nil, err
			}
			f, err := s.forecast(ctx, in.From, in.To, cmp.Or(in.Zone, who.Zone), in.Job, in.Limit)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body wire.Forecast }{f}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "show-feed", Method: http.MethodGet, Path: "/api/session/feed", Summary: "Tell whether the signed-in person has a link to the forecast", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*struct{ Body wire.Feed }, error) {
			who, _ := person(ctx)
			since, ok, err := s.Store.FeedSince(ctx, who.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			feed := wire.Feed{}
			if ok {
				feed.Since = &since
			}
			return &struct{ Body wire.Feed }{feed}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "make-feed", Method: http.MethodPost, Path: "/api/session/feed", Summary: "Make a personal link by which a calendar program sees the forecast", Description: "The link before it ends. Whoever has the link sees the jobs' names and when they ring.", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*struct{ Body wire.Feed }, error) {
			who, _ := person(ctx)
			key, err := access.NewFeed(ctx, s.Store, who.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			now := s.Now()
			return &struct{ Body wire.Feed }{wire.Feed{Address: s.URL + "/api/forecast.ics?key=" + key, Since: &now}}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "end-feed", Method: http.MethodDelete, Path: "/api/session/feed", Summary: "End the personal link to the forecast", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, _ *struct{}) (*struct{}, error) {
			who, _ := person(ctx)
			if err := s.Store.PutFeed(ctx, who.ID, nil); err != nil {
				return nil, s.problem(err)
			}
			return nil, nil //nolint:nilnil // there is nothing to answer
		})
	huma.Register(a, huma.Operation{OperationID: "show-when-settings", Method: http.MethodGet, Path: "/api/settings/when", Summary: "Show what holds for all rules", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*struct{ Body job.WhenSettings }, error) {
			if _, err := s.Service.Calendars.Frame(ctx, nil); err != nil { // reads the settings anew
				return nil, s.problem(err)
			}
			return &struct{ Body job.WhenSettings }{s.Service.Calendars.When()}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "save-when-settings", Method: http.MethodPut, Path: "/api/settings/when", Summary: "Say what holds for all rules: the floor, when the editor warns, the first day of the week", Tags: tags, Errors: []int{403, 422}},
		func(ctx context.Context, in *struct{ Body job.WhenSettings }) (*struct{ Body job.WhenSettings }, error) {
			who, _ := person(ctx)
			saved, err := s.Service.Calendars.SaveWhen(ctx, who, in.Body)
			if err != nil {
				return nil, s.problem(err)
			}
			return &struct{ Body job.WhenSettings }{saved}, nil
		})
}

// readRule says what a rule means. What is wrong with it is an answer, too.
func (s *server) readRule(ctx context.Context, in wire.WhenRequest) (wire.When, error) {
	out := wire.When{Warnings: []string{}, Fires: []wire.Fire{}, Days: []wire.WhenDay{}, Zone: in.Zone}
	r, err := s.Service.Calendars.Rule(ctx, in.Timing, in.Zone, in.Calendars)
	var invalid *fault.Invalid
	if errors.As(err, &invalid) {
		w := invalid.Wrong[0]
		out.Wrong = &wire.WrongRule{Field: w.Where, Sentence: w.Sentence}
		if w.Where == "rule" {
			s.column(&out, in)
		}
		return out, nil
	}
	if err != nil {
		return out, err
	}
	from := s.Now()
	if in.From != nil {
		if err := known(*in.From); err != nil {
			return out, err
		}
		from = *in.From
	}
	settings := s.Service.Calendars.When()
	v := &fault.Invalid{}
	if settings.Floored(v, "", r); len(v.Wrong) > 0 {
		out.Warnings = append(out.Warnings, "A job cannot be saved with it: "+v.Wrong[0].Sentence+".")
	}
	out.Reading, out.Notation, out.Often, out.Zone = r.Reading(), string(r.Notation()), r.Often(from), r.Location().String()
	out.Warnings = append(out.Warnings, r.Warnings(from, settings.Many)...)
	out.Cron, _ = r.Cron()
	out.ICalendar, _ = r.ICalendar(from)
	if in.Rings == 0 {
		in.Rings = 10
	}
	rings := 0
	for at := from; rings < in.Rings && len(out.Fires) < 2*in.Rings; {
		ring, ok := r.Step(at)
		if !ok {
			break
		}
		at = ring.Due
		if !ring.Passed {
			rings++
		}
		out.Fires = append(out.Fires, fireOf(r, ring))
	}
	out.Days = daysOf(r, from)
	return out, nil
}

// daysOf sums the coming weeks up by day.
func daysOf(r rule.Rule, from time.Time) []wire.WhenDay {
	days := []wire.WhenDay{}
	until := from.AddDate(0, 0, whenDays)
	at := from
	for range whenSteps {
		ring, ok := r.Step(at)
		if !ok || ring.Due.After(until) {
			break
		}
		at = ring.Due
		date := ring.Due.Format(time.DateOnly)
		if n := len(days); n == 0 || days[n-1].Date != date {
			days = append(days, wire.WhenDay{Date: date})
		}
		d := &days[len(days)-1]
		switch {
		case ring.Passed:
			d.Passed++
		default:
			d.Rings++
		}
		if ring.Moved() {
			d.Moved++
		}
		if d.Reason == "" {
			d.Reason = r.Reason(ring)
		}
	}
	return days
}

func fireOf(r rule.Rule, ring rule.Ring) wire.Fire {
	f := wire.Fire{At: ring.Due, Passed: ring.Passed, Reason: r.Reason(ring)}
	if ring.Moved() {
		f.Nominal = &ring.Nominal
	}
	return f
}

// column finds the place of an error in the text of a rule.
func (s *server) column(out *wire.When, in wire.WhenRequest) {
	z, err := zone.Load(in.Zone)
	if err != nil {
		return
	}
	var wrong *rule.Error
	if _, err := rule.Parse(in.Rule, z); errors.As(err, &wrong) {
		out.Wrong.Column, out.Wrong.Meant = wrong.Column, wrong.Meant
		out.Wrong.Sentence = strings.TrimPrefix(wrong.Error(), fmt.Sprintf("column %d: ", wrong.Column))
	}
}

func (s *server) readMoment(ctx context.Context, text string, at time.Time, zoneName string, calendars []string) (wire.Moment, error) {
	z, err := zone.Load(zoneName)
	if err != nil {
		return wire.Moment{}, huma.NewError(http.StatusUnprocessableEntity, err.Error())
	}
	frame, err := s.Service.Calendars.Frame(ctx, calendars)
	if err != nil {
		return wire.Moment{}, err
	}
	if at.IsZero() {
		at = s.Now()
	}
	at = at.In(z)
	m, err := moment.Parse(text)
	if err == nil {
		return wire.Moment{From: m.At(at, frame), Explain: m.Explain(at, frame)}, nil
	}
	r, rangeErr := moment.ParseRange(text)
	if rangeErr != nil {
		if !strings.Contains(text, " to ") {
			rangeErr = err
		}
		return wire.Moment{}, huma.NewError(http.StatusUnprocessableEntity, rangeErr.Error())
	}
	from, to := r.At(at, frame)
	return wire.Moment{From: from, To: &to, Explain: r.Explain(at, frame)}, nil
}

// foreseen are the triggers to look ahead for, beside what is told of their jobs.
type foreseen struct {
	entries  []forecast.Entry
	jobs     []job.Job // of each entry
	triggers []int64
	readings []string
}

// foresee gathers the triggers of the jobs that are on.
func (s *server) foresee(ctx context.Context, search string, from, to time.Time) (foreseen, error) {
	var f foreseen
	passing, err := s.Service.Jobs.Passing(ctx, from, to)
	if err != nil {
		return f, err
	}
	jobs, err := s.Store.Jobs(ctx, search, 200_000)
	if err != nil {
		return f, err
	}
	var on []job.Job
	var ids []int64
	for _, j := range jobs {
		if j.On && len(j.Triggers) > 0 {
			on, ids = append(on, j), append(ids, j.ID)
		}
	}
	last, err := s.Store.LastRuns(ctx, ids)
	if err != nil {
		return f, err
	}
	for _, j := range on {
		_, usual := lastOf(last, j.ID)
		for i, r := range s.Service.Jobs.Rules(j) {
			if r.Notation() == "" {
				continue // it can no longer be read
			}
			e := forecast.Entry{Rule: r}
			if passing.Any() {
				e.Over = func(due time.Time) string { return passing.Over(j.ID, due) }
			}
			if usual != nil {
				e.Usual = time.Duration(*usual * float64(time.Second))
			}
			f.entries, f.jobs, f.readings = append(f.entries, e), append(f.jobs, j), append(f.readings, r.Reading())
			f.triggers = append(f.triggers, j.Triggers[i].ID)
		}
	}
	return f, nil
}

func (f foreseen) coming(r forecast.Ring) wire.Coming {
	j, e := f.jobs[r.Entry], f.entries[r.Entry]
	c := wire.Coming{JobID: j.ID, Job: j.Name, At: r.Due, Reading: f.readings[r.Entry], Passed: r.Passed, Reason: cmp.Or(r.Over, e.Rule.Reason(r.Ring))}
	if e.Usual > 0 {
		usual := e.Usual.Seconds()
		c.Usual = &usual
	}
	if r.Moved() {
		nominal := r.Nominal
		c.Nominal = &nominal
	}
	return c
}

func (s *server) forecast(ctx context.Context, from, to time.Time, zoneName, search string, limit int) (wire.Forecast, error) {
	out := wire.Forecast{Rings: []wire.Coming{}, Hours: []wire.HourLoad{}, Minutes: []wire.Busy{}, Clashes: []wire.Clash{}, Zone: zoneName, AtOnce: s.Node.Workers()}
	z, err := zone.Load(zoneName)
	if err != nil {
		return out, huma.NewError(http.StatusUnprocessableEntity, err.Error())
	}
	if from.IsZero() {
		from = s.Now()
	}
	if to.IsZero() {
		to = from.AddDate(0, 0, 7)
	}
	if !to.After(from) || to.Sub(from) > forecastDays*24*time.Hour+time.Hour {
		return out, huma.NewError(http.StatusUnprocessableEntity, fmt.Sprintf("A forecast ends after it begins, and tells at most %d days.", forecastDays))
	}
	out.From, out.To = from.In(z), to.In(z)
	f, err := s.foresee(ctx, search, from, to)
	if err != nil {
		return out, err
	}
	sum := forecast.Look(f.entries, from, to, out.AtOnce, limit)
	out.Total, out.Moved, out.Passed = sum.Total, sum.Moved, sum.Passed
	for _, r := range sum.Rings {
		out.Rings = append(out.Rings, f.coming(r))
	}
	for _, h := range sum.Hours {
		out.Hours = append(out.Hours, wire.HourLoad{At: h.At.In(z), Rings: h.Rings, Busiest: h.Busiest.In(z), Most: h.Most, Working: h.Working})
	}
	for _, m := range sum.Minutes {
		out.Minutes = append(out.Minutes, wire.Busy{At: m.At.In(z), Rings: m.Rings})
	}
	for _, c := range sum.Clashes {
		clash := wire.Clash{From: c.From.In(z), To: c.To.In(z), Most: c.Most, Jobs: []string{}}
		for _, i := range c.Entries {
			clash.Jobs = append(clash.Jobs, f.jobs[i].Name)
		}
		out.Clashes = append(out.Clashes, clash)
	}
	return out, nil
}

// feeds registers the personal link, which needs no sign-in: the key in it says
// whose it is.
func (s *server) feeds(a huma.API) {
	huma.Register(a, huma.Operation{OperationID: "read-feed", Method: http.MethodGet, Path: "/api/forecast.ics", Summary: "The rings of the coming month as an iCalendar file, by personal link", Tags: []string{"when"}, Security: []map[string][]string{}, Errors: []int{404, 429}},
		func(ctx context.Context, in *struct {
			Key string `query:"key" maxLength:"200" doc:"of the personal link"`
		},
		) (*feedAnswer, error) {
			if _, err := access.ByFeed(ctx, s.Store, in.Key); isNotFound(err) {
				return nil, huma.NewError(http.StatusNotFound, "There is no forecast behind this link. It was ended, or a newer one was made; the Forecast page of the console makes links.")
			} else if err != nil {
				return nil, s.problem(err)
			}
			text, err := s.feed(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			return &feedAnswer{ContentType: "text/calendar; charset=utf-8", Disposition: `inline; filename="ironbell-forecast.ics"`, Body: text}, nil
		})
}

type feedAnswer struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

// feed writes the forecast as an iCalendar file (RFC 5545; the name and refresh
// of RFC 7986).
func (s *server) feed(ctx context.Context) ([]byte, error) {
	now := s.Now()
	f, err := s.foresee(ctx, "", now, now.AddDate(0, 0, feedDays))
	if err != nil {
		return nil, err
	}
	c := ics.NewCalendar()
	c.SetProductId("-//Iron Bell//Forecast//EN")
	c.SetMethod(ics.MethodPublish)
	c.SetName("Iron Bell forecast")
	c.SetXWRCalName("Iron Bell forecast")
	c.SetRefreshInterval(feedRefresh)
	n := 0
	days := map[[2]int64]int{} // rings of triggers that ring often, by trigger and day
	for ring := range forecast.Rings(f.entries, now, now.AddDate(0, 0, feedDays)) {
		if ring.Passed {
			continue
		}
		entry := f.entries[ring.Entry]
		day, often := ring.Due.Format(time.DateOnly), entry.Rule.Most() > oftenADay
		if often {
			key := [2]int64{int64(ring.Entry), dayNumber(ring.Due)}
			if days[key]++; days[key] > 1 {
				continue
			}
		}
		if n++; n > maxFeed {
			break
		}
		j := f.jobs[ring.Entry]
		e := c.AddEvent(fmt.Sprintf("%d-%d-%s@ironbell", j.ID, f.triggers[ring.Entry], ring.Due.UTC().Format("20060102T150405Z")))
		e.SetDtStampTime(now)
		if often {
			// One event for the day: hundreds would bury all others.
			e.SetProperty(ics.ComponentPropertyDtStart, strings.ReplaceAll(day, "-", ""), ics.WithValue("DATE"))
		} else {
			e.SetStartAt(ring.Due)
			length := entry.Usual
			if length <= 0 {
				length = usualFeed
			}
			e.SetEndAt(ring.Due.Add(max(length, time.Minute)))
		}
		e.SetSummary(j.Name)
		text := phrase.Upper(f.readings[ring.Entry]) + " (" + j.Zone + ")."
		if reason := entry.Rule.Reason(ring.Ring); reason != "" {
			text += "\n" + phrase.Upper(reason) + "."
		}
		e.SetDescription(text)
		e.SetURL(fmt.Sprintf("%s/jobs/%d", s.URL, j.ID))
		e.SetTimeTransparency(ics.TransparencyTransparent)
	}
	return []byte(c.Serialize(ics.WithNewLineWindows)), nil
}

// dayNumber numbers the date of a time in its own zone.
func dayNumber(t time.Time) int64 {
	y, m, d := t.Date()
	return civil.Serial(y, int(m), d)
}
