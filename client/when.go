package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
)

// When says what a rule means: its reading, warnings and next rings. A rule that
// is wrong is answered, too.
func (c *Client) When(ctx context.Context, r wire.WhenRequest) (w wire.When, err error) {
	return w, c.do(ctx, http.MethodPost, "/api/when", r, &w)
}

// Moment reckons a moving date or a range for a due time.
func (c *Client) Moment(ctx context.Context, text string, at time.Time, zone string,
	calendars ...string,
) (m wire.Moment, err error) {
	q := url.Values{"text": {text}, "zone": {zone}}
	if !at.IsZero() {
		q.Set("at", at.Format(time.RFC3339))
	}
	for _, name := range calendars {
		q.Add("calendar", name)
	}
	return m, c.do(ctx, http.MethodGet, "/api/moment?"+q.Encode(), nil, &m)
}

// ForecastFilter chooses the rings of a forecast. Zero fields choose the
// service's defaults: from now, for seven days, in one's own zone, all jobs.
type ForecastFilter struct {
	From, To time.Time
	Zone     string
	Job      string // a part of the name
	Limit    int
}

// Forecast tells the rings to come, their load and clashes.
func (c *Client) Forecast(ctx context.Context, f ForecastFilter) (out wire.Forecast, err error) {
	q := url.Values{}
	for name, at := range map[string]time.Time{"from": f.From, "to": f.To} {
		if !at.IsZero() {
			q.Set(name, at.Format(time.RFC3339))
		}
	}
	for name, text := range map[string]string{"zone": f.Zone, "job": f.Job} {
		if text != "" {
			q.Set(name, text)
		}
	}
	if f.Limit > 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	return out, c.do(ctx, http.MethodGet, "/api/forecast?"+q.Encode(), nil, &out)
}

// WhatIf says what a change would do to the rings to come. Nothing is changed.
func (c *Client) WhatIf(ctx context.Context, r wire.WhatIfRequest) (w wire.WhatIf, err error) {
	return w, c.do(ctx, http.MethodPost, "/api/what-if", r, &w)
}

// MakeFeed makes a personal link to the forecast; the one before ends.
func (c *Client) MakeFeed(ctx context.Context) (f wire.Feed, err error) {
	return f, c.do(ctx, http.MethodPost, "/api/session/feed", nil, &f)
}

// EndFeed ends the personal link to the forecast.
func (c *Client) EndFeed(ctx context.Context) error {
	return c.do(ctx, http.MethodDelete, "/api/session/feed", nil, nil)
}

// Calendars lists the calendars by name.
func (c *Client) Calendars(ctx context.Context) (all []wire.Calendar, err error) {
	return all, c.do(ctx, http.MethodGet, "/api/calendars", nil, &all)
}

// Calendar shows a calendar and the jobs that go by it.
func (c *Client) Calendar(ctx context.Context, name string) (page wire.CalendarPage, err error) {
	return page, c.do(ctx, http.MethodGet, "/api/calendars/"+segment(name), nil, &page)
}

// SaveCalendar adds or changes a calendar. With try nothing is saved.
func (c *Client) SaveCalendar(ctx context.Context, name string, d calendar.Definition,
	try bool,
) (saved wire.CalendarSaved, err error) {
	path := "/api/calendars/" + segment(name)
	if try {
		path += "?try=true"
	}
	return saved, c.do(ctx, http.MethodPut, path, d, &saved)
}

// RemoveCalendar removes a calendar that no job goes by.
func (c *Client) RemoveCalendar(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/calendars/"+segment(name), nil, nil)
}

// ReadICS reads the whole-day events of an iCalendar file.
func (c *Client) ReadICS(ctx context.Context, text, calendar string) (read wire.ICSRead, err error) {
	return read, c.do(ctx, http.MethodPost, "/api/icalendar", wire.ICSRequest{Text: text, Calendar: calendar}, &read)
}

// WhenSettings shows what holds for all rules.
func (c *Client) WhenSettings(ctx context.Context) (s job.WhenSettings, err error) {
	return s, c.do(ctx, http.MethodGet, "/api/settings/when", nil, &s)
}

// SaveWhenSettings says what holds for all rules.
func (c *Client) SaveWhenSettings(ctx context.Context, s job.WhenSettings) (out job.WhenSettings, err error) {
	return out, c.do(ctx, http.MethodPut, "/api/settings/when", s, &out)
}
