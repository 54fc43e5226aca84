package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/moment"
	"ironbell/internal/core/rule"
	"ironbell/internal/core/zone"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) when(a huma.API) {
	tags := subject("when")
	huma.Register(a,
		tags.post("read-rule", "/api/when", "Say what a rule means: its reading, warnings and next rings",
			says("A rule that is wrong is answered, too: wrong says what and where.")), s.readRuleOf)
	huma.Register(a,
		tags.get("read-moment", "/api/moment", "Reckon a moving date or a range for a due time, and explain it"),
		s.readMomentOf)
	huma.Register(a, tags.get("list-zones", "/api/zones", "List the time zones"), s.listZones)
	huma.Register(a, tags.get("forecast", "/api/forecast", "The rings to come, their load and clashes"), s.forecastOf)
	huma.Register(a,
		tags.post("what-if", "/api/what-if", "Say what a change would do to the rings to come", refuses(403, 422),
			upTo(maxBody),
			says("Of a job, a calendar, the limits or a freeze, before it is saved: which rings go, come, move, begin "+
				"later or miss their deadline, and where runs clash. It compares two forecasts, in which runs take as "+
				"long as they usually do; a run counts as one at work. Nothing is changed.")), s.whatIf)
	huma.Register(a,
		tags.get("show-feed", "/api/session/feed", "Tell whether the signed-in person has a link to the forecast"),
		s.showFeed)
	huma.Register(a,
		tags.post("make-feed", "/api/session/feed",
			"Make a personal link by which a calendar program sees the forecast",
			says("The link before it ends. Whoever has the link sees the jobs' names and when they ring.")), s.makeFeed)
	huma.Register(a,
		tags.delete("end-feed", "/api/session/feed", "End the personal link to the forecast",
			answers(http.StatusNoContent)), s.endFeed)
	huma.Register(a, tags.get("show-when-settings", "/api/settings/when", "Show what holds for all rules"),
		s.showWhenSettings)
	huma.Register(a,
		tags.put("save-when-settings", "/api/settings/when",
			"Say what holds for all rules: the floor, when the editor warns, the first day of the week",
			refuses(403, 422)), s.saveWhenSettings)
}

func (s *server) readRuleOf(ctx context.Context,
	in *struct{ Body wire.WhenRequest },
) (*struct{ Body wire.When }, error) {
	who, _ := person(ctx)
	if in.Body.Zone == "" {
		in.Body.Zone = who.Zone
	}
	said, err := s.readRule(ctx, in.Body)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.When }{said}, nil
}

func (s *server) readMomentOf(ctx context.Context, in *struct {
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
}

func (s *server) listZones(context.Context, *struct{}) (*struct{ Body []string }, error) {
	return &struct{ Body []string }{zone.Names()}, nil
}

func (s *server) showWhenSettings(ctx context.Context, _ *struct{}) (*struct{ Body job.WhenSettings }, error) {
	if _, err := s.Service.Calendars.Frame(ctx, nil); err != nil { // reads the settings anew
		return nil, s.problem(err)
	}
	return &struct{ Body job.WhenSettings }{s.Service.Calendars.When()}, nil
}

func (s *server) saveWhenSettings(ctx context.Context,
	in *struct{ Body job.WhenSettings },
) (*struct{ Body job.WhenSettings }, error) {
	who, _ := person(ctx)
	saved, err := s.Service.Calendars.SaveWhen(ctx, who, in.Body)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body job.WhenSettings }{saved}, nil
}

// goesOn is how a rule may go on where somebody writes.
func goesOn(in wire.WhenRequest) []wire.GoesOn {
	out := []wire.GoesOn{}
	if in.Caret == nil {
		return out
	}
	before := []rune(in.Rule)
	before = before[:min(*in.Caret, len(before))]
	for _, c := range (rule.Options{}).Complete(string(before)) {
		out = append(out, wire.GoesOn{Word: c.Word, Text: c.Text})
	}
	return out
}

// readRule says what a rule means. What is wrong with it is an answer, too.
func (s *server) readRule(ctx context.Context, in wire.WhenRequest) (wire.When, error) {
	out := wire.When{Warnings: []string{}, Fires: []wire.Fire{}, Days: []wire.WhenDay{}, Zone: in.Zone, GoesOn: goesOn(in)}
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
	out.Reading, out.Notation, out.Often, out.Zone = r.Reading(), string(r.Notation()), r.Often(from),
		r.Location().String()
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

// column finds the place of an error in the text of a rule.
func (s *server) column(out *wire.When, in wire.WhenRequest) {
	z, err := zone.Load(in.Zone)
	if err != nil {
		return
	}
	var wrong *rule.Error
	if _, err := rule.Parse(in.Rule, z); errors.As(err, &wrong) {
		out.Wrong.Column, out.Wrong.Meant = wrong.Column, wrong.Meant
		out.Wrong.Offers = wrong.Offers
		out.Wrong.Sentence = strings.TrimPrefix(wrong.Error(), fmt.Sprintf("column %d: ", wrong.Column))
	}
}

func (s *server) readMoment(ctx context.Context, text string, at time.Time, zoneName string,
	calendars []string,
) (wire.Moment, error) {
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

const (
	maxForecast = 5000 // rings told at once
	feedDays    = 31   // that a feed tells
	maxFeed     = 5000 // events of a feed
	whenDays    = 63   // of which the editor's month view is made
	whenSteps   = 100_000
	oftenADay   = 24              // rings a day from which a feed tells one event for the day
	usualFeed   = 5 * time.Minute // an event's length when nobody knows
	feedRefresh = "PT1H"          // how often a calendar program should ask
)

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
