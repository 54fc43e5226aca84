package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/civil"
	"ironbell/internal/core/forecast"
	"ironbell/internal/core/phrase"

	ics "github.com/arran4/golang-ical"
	"github.com/danielgtaylor/huma/v2"
)

func (s *server) showFeed(ctx context.Context, _ *struct{}) (*struct{ Body wire.Feed }, error) {
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
}

func (s *server) makeFeed(ctx context.Context, _ *struct{}) (*struct{ Body wire.Feed }, error) {
	who, _ := person(ctx)
	key, err := access.NewFeed(ctx, s.Store, who.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	now := s.Now()
	return &struct{ Body wire.Feed }{wire.Feed{Address: s.URL + "/api/forecast.ics?key=" + key, Since: &now}}, nil
}

func (s *server) endFeed(ctx context.Context, _ *struct{}) (*struct{}, error) {
	who, _ := person(ctx)
	if err := s.Store.PutFeed(ctx, who.ID, nil); err != nil {
		return nil, s.problem(err)
	}
	return nil, nil //nolint:nilnil // there is nothing to answer
}

// feeds registers the personal link, which needs no sign-in: the key in it says
// whose it is.
func (s *server) feeds(a huma.API) {
	huma.Register(a,
		subject("when").get("read-feed", "/api/forecast.ics",
			"The rings of the coming month as an iCalendar file, by personal link", refuses(404, 429),
			unsigned), s.readFeed)
}

func (s *server) readFeed(ctx context.Context, in *struct {
	Key string `query:"key" maxLength:"200" doc:"of the personal link"`
},
) (*feedAnswer, error) {
	if _, err := access.ByFeed(ctx, s.Store, in.Key); isNotFound(err) {
		return nil,
			huma.NewError(http.StatusNotFound,
				"There is no forecast behind this link. It was ended, or a newer one was made; the Forecast page of "+
					"the console makes links.")
	} else if err != nil {
		return nil, s.problem(err)
	}
	text, err := s.feed(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	return &feedAnswer{
		ContentType: "text/calendar; charset=utf-8", Disposition: `inline; filename="ironbell-forecast.ics"`,
		Body: text,
	}, nil
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
	f, err := s.Service.Foresight.Forecast(ctx, "", now, now.AddDate(0, 0, feedDays), 0)
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
	for ring := range forecast.Rings(f.Entries, now, now.AddDate(0, 0, feedDays)) {
		if ring.Passed {
			continue
		}
		entry := f.Entries[ring.Entry]
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
		j := f.Jobs[ring.Entry]
		e := c.AddEvent(fmt.Sprintf("%d-%d-%s@ironbell", j.ID, f.Triggers[ring.Entry],
			ring.Due.UTC().Format("20060102T150405Z")))
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
		text := phrase.Upper(f.Readings[ring.Entry]) + " (" + j.Zone + ")."
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
