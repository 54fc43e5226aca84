// Package client speaks to the service's API.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/release"
)

// Client speaks to one service. It may be used by several goroutines.
type Client struct {
	base  string
	token string
	http  *http.Client
	zone  atomic.Pointer[string]
	of    atomic.Pointer[string] // what the service calls itself
}

const (
	callLimit  = time.Minute
	answerSize = 64 << 20 // bytes of an answer at most
)

// New makes a client for the service at base, such as http://127.0.0.1:8321.
// token may be empty for signing in.
func New(base, token string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), token: token, http: &http.Client{}}
}

// Problem is what the service answered when it did not do what was asked
// (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Location string `json:"location"`
		Message  string `json:"message"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, e := range p.Errors {
		line := e.Message
		if e.Location != "" {
			line = e.Location + ": " + line
		}
		if !strings.Contains(text, e.Message) {
			text += "\n  " + line
		}
	}
	return text
}

// Unreachable says that the service did not answer.
type Unreachable struct {
	Base  string
	Cause error
}

func (e *Unreachable) Error() string {
	cause := e.Cause
	var u *url.Error
	if errors.As(cause, &u) {
		cause = u.Err
	}
	return fmt.Sprintf("the service at %s does not answer: %v", e.Base, cause)
}

// Unwrap gives the cause.
func (e *Unreachable) Unwrap() error { return e.Cause }

type beganFrom struct{}

// BeganFrom gives a context in which a record is saved only when it still has the
// revision that the change began from: a *Problem with the status 412 says that
// somebody else changed it meanwhile (RFC 9110 section 13.1.1).
func BeganFrom(ctx context.Context, revision int64) context.Context {
	return context.WithValue(ctx, beganFrom{}, revision)
}

// ToBeNew gives a context in which a record is saved only when there is none of its name.
func ToBeNew(ctx context.Context) context.Context {
	return context.WithValue(ctx, beganFrom{}, int64(-1))
}

func (c *Client) request(ctx context.Context, method, path string, in any) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return nil, fmt.Errorf("write the request: %w", err)
		}
		body = bytes.NewReader(text)
	}
	return c.send(ctx, method, path, "application/json", body)
}

// send sends a body of a media type; nil when there is none.
func (c *Client) send(ctx context.Context, method, path, mediaType string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, fmt.Errorf("the address %q cannot be used: %w", c.base, err)
	}
	if body != nil {
		req.Header.Set("Content-Type", mediaType)
	}
	if revision, ok := ctx.Value(beganFrom{}).(int64); ok && method != http.MethodGet {
		if revision < 0 {
			req.Header.Set("If-None-Match", "*")
		} else {
			req.Header.Set("If-Match", fmt.Sprintf(`"%d"`, revision))
		}
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	req.Header.Set("User-Agent", release.Agent())
	res, err := c.http.Do(req)
	if err != nil {
		return nil, &Unreachable{Base: c.base, Cause: err}
	}
	if zone := res.Header.Get(wire.ReaderZone); zone != "" {
		c.zone.Store(&zone)
	}
	if agent := res.Header.Get("Server"); agent != "" {
		c.of.Store(&agent)
	}
	if res.StatusCode >= 400 {
		defer func() { _ = res.Body.Close() }() // only read from
		p := &Problem{Status: res.StatusCode}
		text, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		if err != nil || json.Unmarshal(text, p) != nil || p.Title == "" && p.Detail == "" {
			p.Title = res.Status
		}
		return nil, p
	}
	return res, nil
}

func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	ctx, stop := context.WithTimeout(ctx, callLimit)
	defer stop()
	return c.long(ctx, method, path, in, out)
}

// long is do for calls that wait for a source, as long as their caller likes.
func (c *Client) long(ctx context.Context, method, path string, in, out any) error {
	res, err := c.request(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }() // only read from
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, answerSize)).Decode(out); err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w", c.base, err)
	}
	return nil
}

// Zone is the time zone of the person who signed in, as the last answer names
// it; empty before any answer.
func (c *Client) Zone() string {
	if zone := c.zone.Load(); zone != nil {
		return *zone
	}
	return ""
}

// ServiceVersion is the version that the service's last answer named; empty before any answer, and from a service
// that names none.
func (c *Client) ServiceVersion() string {
	if agent := c.of.Load(); agent != nil {
		return release.FromAgent(*agent)
	}
	return ""
}

// Version asks for the version of the service. It needs no sign-in.
func (c *Client) Version(ctx context.Context) (v wire.Version, err error) {
	return v, c.do(ctx, http.MethodGet, "/api/version", nil, &v)
}

func segment(name string) string { return url.PathEscape(name) }

// MakeToken signs in and makes a token for later calls.
func (c *Client) MakeToken(ctx context.Context, login, password, name string) (t wire.Token, err error) {
	return t,
		c.do(ctx, http.MethodPost, "/api/tokens",
			wire.TokenRequest{Credentials: wire.Credentials{Login: login, Password: password}, Name: name}, &t)
}

// URL is the address of the service.
func (c *Client) URL() string { return c.base }

// Me tells who is signed in.
func (c *Client) Me(ctx context.Context) (me wire.Me, err error) {
	return me, c.do(ctx, http.MethodGet, "/api/session", nil, &me)
}

// SignOut ends the client's token.
func (c *Client) SignOut(ctx context.Context) error {
	return c.do(ctx, http.MethodDelete, "/api/session", nil, nil)
}

// ChangePassword gives whoever is signed in another password. All their sessions and
// tokens end with it, also the client's own, and their link to the forecast.
func (c *Client) ChangePassword(ctx context.Context, present, next string) error {
	return c.do(ctx, http.MethodPut, "/api/session/password", wire.PasswordRequest{Present: present, Next: next}, nil)
}

// SignIns lists the sessions and tokens that somebody has open; one's own when login is
// empty.
func (c *Client) SignIns(ctx context.Context, login string) (all []wire.SignIn, err error) {
	return all, c.do(ctx, http.MethodGet, "/api/sign-ins?login="+url.QueryEscape(login), nil, &all)
}

// EndSignIn ends a session or token.
func (c *Client) EndSignIn(ctx context.Context, id int64) error {
	return c.do(ctx, http.MethodDelete, "/api/sign-ins/"+strconv.FormatInt(id, 10), nil, nil)
}

// Jobs lists jobs whose name holds search.
func (c *Client) Jobs(ctx context.Context, search string) (jobs []wire.JobLine, err error) {
	return jobs, c.do(ctx, http.MethodGet, "/api/jobs?search="+url.QueryEscape(search), nil, &jobs)
}

// Job shows a job by name or id.
func (c *Client) Job(ctx context.Context, name string) (page wire.JobPage, err error) {
	return page, c.do(ctx, http.MethodGet, "/api/jobs/"+segment(name), nil, &page)
}

// SaveJob adds a job or changes the one of this name.
func (c *Client) SaveJob(ctx context.Context, name string, r wire.JobRequest) (j job.Job, err error) {
	return j, c.do(ctx, http.MethodPut, "/api/jobs/"+segment(name), r, &j)
}

// Switch turns a job on or off.
func (c *Client) Switch(ctx context.Context, name string, on bool) (j job.Job, err error) {
	return j, c.do(ctx, http.MethodPost, "/api/jobs/"+segment(name)+"/switch", wire.SwitchRequest{On: on}, &j)
}

// Ring makes a run of a job now.
func (c *Client) Ring(ctx context.Context, name string, values job.Values) (r job.Run, err error) {
	return r, c.do(ctx, http.MethodPost, "/api/jobs/"+segment(name)+"/ring", wire.RingRequest{Values: values}, &r)
}

// RunFilter chooses runs of a list. Zero fields do not restrict.
type RunFilter struct {
	Job    string
	States []string
	Limit  int
}

// Runs lists runs, newest first.
func (c *Client) Runs(ctx context.Context, f RunFilter) (runs []job.Run, err error) {
	q := url.Values{}
	if f.Job != "" {
		q.Set("job", f.Job)
	}
	if len(f.States) > 0 {
		q.Set("state", strings.Join(f.States, ","))
	}
	if f.Limit > 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	return runs, c.do(ctx, http.MethodGet, "/api/runs?"+q.Encode(), nil, &runs)
}

// Run shows a run.
func (c *Client) Run(ctx context.Context, id job.RunID) (page wire.RunPage, err error) {
	return page, c.do(ctx, http.MethodGet, "/api/runs/"+id.String(), nil, &page)
}

// Log reads a run's log after a line.
func (c *Client) Log(ctx context.Context, id job.RunID, after int64) (lines []job.LogLine, err error) {
	return lines,
		c.do(ctx, http.MethodGet, "/api/runs/"+id.String()+"/log?after="+strconv.FormatInt(after, 10), nil, &lines)
}

// File fetches a file that a run made. The caller closes it.
func (c *Client) File(ctx context.Context, id int64) (io.ReadCloser, error) {
	res, err := c.request(ctx, http.MethodGet, "/api/files/"+strconv.FormatInt(id, 10), nil)
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}

// Day shows a day of the tape; an empty date means today.
func (c *Client) Day(ctx context.Context, date, zone string) (d wire.Day, err error) {
	q := url.Values{}
	if date != "" {
		q.Set("date", date)
	}
	if zone != "" {
		q.Set("zone", zone)
	}
	return d, c.do(ctx, http.MethodGet, "/api/day?"+q.Encode(), nil, &d)
}

// Alerts lists what is open and acknowledged, or what is in the given states.
func (c *Client) Alerts(ctx context.Context, states ...string) (alerts []job.Alert, err error) {
	return alerts,
		c.do(ctx, http.MethodGet, "/api/alerts?state="+url.QueryEscape(strings.Join(states, ",")), nil, &alerts)
}

// Acknowledge takes an alert on.
func (c *Client) Acknowledge(ctx context.Context, id int64) (a job.Alert, err error) {
	return a, c.do(ctx, http.MethodPost, fmt.Sprintf("/api/alerts/%d/acknowledge", id), nil, &a)
}

// CloseAlert ends an alert.
func (c *Client) CloseAlert(ctx context.Context, id int64) (a job.Alert, err error) {
	return a, c.do(ctx, http.MethodPost, fmt.Sprintf("/api/alerts/%d/close", id), nil, &a)
}

// Deliveries lists deliveries in the given states, newest first.
func (c *Client) Deliveries(ctx context.Context, states ...string) (list []job.Delivery, err error) {
	return list,
		c.do(ctx, http.MethodGet, "/api/deliveries?state="+url.QueryEscape(strings.Join(states, ",")), nil, &list)
}

// Settle says what became of a delivery: sent, failed or resend.
func (c *Client) Settle(ctx context.Context, id int64, as string) (d job.Delivery, err error) {
	return d, c.do(ctx, http.MethodPost, fmt.Sprintf("/api/deliveries/%d/settle", id), wire.SettleRequest{As: as}, &d)
}

// Ahead says what a job will do when it rings next.
func (c *Client) Ahead(ctx context.Context, ref string) (a job.Ahead, err error) {
	return a, c.do(ctx, http.MethodGet, "/api/jobs/"+segment(ref)+"/ahead", nil, &a)
}

// TryJob says what a job would do, before it is saved.
func (c *Client) TryJob(ctx context.Context, name string, r wire.JobRequest) (a job.Ahead, err error) {
	return a, c.do(ctx, http.MethodPost, "/api/jobs/"+segment(name)+"/ahead", r, &a)
}

// Reports lists the reports.
func (c *Client) Reports(ctx context.Context) (reports []job.Report, err error) {
	return reports, c.do(ctx, http.MethodGet, "/api/reports", nil, &reports)
}

// SaveReport adds a report or saves a new version of the one of this name.
func (c *Client) SaveReport(ctx context.Context, name string, r wire.ReportRequest) (out job.Report, err error) {
	return out, c.do(ctx, http.MethodPut, "/api/reports/"+segment(name), r, &out)
}

// SaveSource adds or changes a source.
func (c *Client) SaveSource(ctx context.Context, name string, r wire.PlaceRequest) (p wire.Place, err error) {
	return p, c.do(ctx, http.MethodPut, "/api/sources/"+segment(name), r, &p)
}

// SaveDestination adds or changes a destination.
func (c *Client) SaveDestination(ctx context.Context, name string, r wire.PlaceRequest) (p wire.Place, err error) {
	return p, c.do(ctx, http.MethodPut, "/api/destinations/"+segment(name), r, &p)
}

// TestDestination asks a destination for an answer.
func (c *Client) TestDestination(ctx context.Context, name string) (a wire.Answer, err error) {
	return a, c.do(ctx, http.MethodPost, "/api/destinations/"+segment(name)+"/test", nil, &a)
}

// TestByMail asks a mail server for an answer, and sends a mail to who asks.
func (c *Client) TestByMail(ctx context.Context, name string) (a wire.Answer, err error) {
	return a, c.do(ctx, http.MethodPost, "/api/destinations/"+segment(name)+"/test?mail=true", nil, &a)
}

// TestSource asks a source for an answer.
func (c *Client) TestSource(ctx context.Context, name string) (a wire.Answer, err error) {
	return a, c.do(ctx, http.MethodPost, "/api/sources/"+segment(name)+"/test", nil, &a)
}

// People lists everybody.
func (c *Client) People(ctx context.Context) (all []job.Person, err error) {
	return all, c.do(ctx, http.MethodGet, "/api/people", nil, &all)
}

// SavePerson adds or changes a person.
func (c *Client) SavePerson(ctx context.Context, login string, r wire.PersonRequest) (p job.Person, err error) {
	return p, c.do(ctx, http.MethodPut, "/api/people/"+segment(login), r, &p)
}

// AlertSettings shows how alerts are sent.
func (c *Client) AlertSettings(ctx context.Context) (s job.AlertSettings, err error) {
	return s, c.do(ctx, http.MethodGet, "/api/settings/alerts", nil, &s)
}

// SaveAlertSettings says how alerts are sent.
func (c *Client) SaveAlertSettings(ctx context.Context, s job.AlertSettings) error {
	return c.do(ctx, http.MethodPut, "/api/settings/alerts", s, nil)
}

// Description fetches the OpenAPI description.
func (c *Client) Description(ctx context.Context) (text json.RawMessage, err error) {
	return text, c.do(ctx, http.MethodGet, "/api/openapi.json", nil, &text)
}

// Live calls heard for each notice about a run (all notices when id is 0) until
// ctx ends or the line breaks.
func (c *Client) Live(ctx context.Context, id job.RunID, heard func(job.Notice)) error {
	path := "/api/live"
	if id != 0 {
		path += "?run=" + id.String()
	}
	res, err := c.request(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }() // only read from
	lines := bufio.NewScanner(res.Body)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data:")
		if !ok {
			continue
		}
		var n job.Notice
		if err := json.Unmarshal([]byte(data), &n); err != nil {
			return fmt.Errorf("a notice of %s cannot be read: %w", c.base, err)
		}
		heard(n)
	}
	if err := lines.Err(); err != nil {
		return &Unreachable{Base: c.base, Cause: err}
	}
	return &Unreachable{Base: c.base, Cause: io.EOF}
}

// Follow calls seen with the state of a run whenever it changed, until it has
// ended, and gives the last. It polls when there are no notices.
func (c *Client) Follow(ctx context.Context, id job.RunID, seen func(wire.RunPage) error) (wire.RunPage, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	changed := make(chan struct{}, 1)
	listened := make(chan struct{})
	go func() {
		defer close(listened)
		for ctx.Err() == nil {
			_ = c.Live(ctx, id, func(job.Notice) { // polling goes on without it
				select {
				case changed <- struct{}{}:
				default:
				}
			})
			pause(ctx, time.Second)
		}
	}()
	defer func() { stop(); <-listened }()
	for {
		page, err := c.Run(ctx, id)
		if err != nil {
			return page, err
		}
		if err := seen(page); err != nil || page.State.Ended() {
			return page, err
		}
		select {
		case <-ctx.Done():
			return page, ctx.Err()
		case <-changed:
		case <-time.After(2 * time.Second):
		}
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Archive lists what a job made and is kept, the newest first: before a run, or from the newest
// on when it is empty.
func (c *Client) Archive(ctx context.Context, name, before string) (a wire.Archive, err error) {
	return a, c.do(ctx, http.MethodGet, "/api/jobs/"+segment(name)+"/archive?before="+url.QueryEscape(before), nil, &a)
}

// MakeLink makes a link to files of a run. Its address is given this once.
func (c *Client) MakeLink(ctx context.Context, run job.RunID, r wire.LinkRequest) (l wire.NewLink, err error) {
	return l, c.do(ctx, http.MethodPost, "/api/runs/"+run.String()+"/links", r, &l)
}
