package client

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
)

// Which chooses deliveries of a list. Zero fields do not restrict.
type Which struct {
	States      []string
	Destination string
	Address     string // exactly
	KeptBack    string // rest, yes or silent
	Run         string
	Before      int64 // ids below this one
	Limit       int   // 100 when 0
}

// Record lists deliveries, newest first.
func (c *Client) Record(ctx context.Context, w Which) (list []job.Delivery, err error) {
	q := url.Values{}
	for name, text := range map[string]string{
		"state": strings.Join(w.States, ","), "destination": w.Destination, "address": w.Address,
		"kept_back": w.KeptBack, "run": w.Run,
	} {
		if text != "" {
			q.Set(name, text)
		}
	}
	if w.Before > 0 {
		q.Set("before", strconv.FormatInt(w.Before, 10))
	}
	if w.Limit > 0 {
		q.Set("limit", strconv.Itoa(w.Limit))
	}
	return list, c.do(ctx, "GET", "/api/deliveries?"+q.Encode(), nil, &list)
}

// Allow says yes or no to mail to an address outside the allowed domains. A yes holds for this message alone,
// or until a date for all that the job sends there; the zero time is no such date.
func (c *Client) Allow(ctx context.Context, id int64, yes bool, until time.Time) (d job.Delivery, err error) {
	return d,
		c.do(ctx, "POST", fmt.Sprintf("/api/deliveries/%d/allow", id), wire.AllowRequest{Yes: yes, Until: until}, &d)
}

// Resend sends again what a run could not deliver, and tells how many.
func (c *Client) Resend(ctx context.Context, id job.RunID) (n int64, err error) {
	var out wire.Count
	err = c.do(ctx, "POST", "/api/runs/"+id.String()+"/resend", nil, &out)
	return out.N, err
}

// Release sends or drops what was kept back since nothing left the installation.
func (c *Client) Release(ctx context.Context, send bool) (n int64, err error) {
	var out wire.Count
	err = c.do(ctx, "POST", "/api/deliveries/release", wire.ReleaseRequest{Send: send}, &out)
	return out.N, err
}

// Destinations lists the destinations.
func (c *Client) Destinations(ctx context.Context) (list []wire.Place, err error) {
	return list, c.do(ctx, "GET", "/api/destinations", nil, &list)
}

// Destination shows a destination and what goes there.
func (c *Client) Destination(ctx context.Context, name string) (p wire.DestinationPage, err error) {
	return p, c.do(ctx, "GET", "/api/destinations/"+segment(name), nil, &p)
}

// Protocols lists the protocols of destinations, with what each can be told.
func (c *Client) Protocols(ctx context.Context) (list []job.Protocol, err error) {
	return list, c.do(ctx, "GET", "/api/protocols", nil, &list)
}

// RemoveDestination removes a destination that nothing ever went to.
func (c *Client) RemoveDestination(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", "/api/destinations/"+segment(name), nil, nil)
}

// WithdrawLinks ends the links to a run's files, or one of them, and tells how many.
func (c *Client) WithdrawLinks(ctx context.Context, id job.RunID, link int64) (n int64, err error) {
	var out wire.Count
	err = c.do(ctx, "POST", "/api/runs/"+id.String()+"/links/withdraw", wire.WithdrawRequest{Link: link}, &out)
	return out.N, err
}

// FollowLink shows what a link leads to.
func (c *Client) FollowLink(ctx context.Context, token string) (p wire.LinkPage, err error) {
	return p, c.do(ctx, "GET", "/api/links/"+segment(token), nil, &p)
}

// Whom says whom some recipients come to now.
func (c *Client) Whom(ctx context.Context, to ...string) (w wire.Whom, err error) {
	return w, c.do(ctx, "POST", "/api/recipients", wire.WhomRequest{To: to}, &w)
}

// Groups lists the groups.
func (c *Client) Groups(ctx context.Context) (all []job.Group, err error) {
	return all, c.do(ctx, "GET", "/api/groups", nil, &all)
}

// SaveGroup adds or changes a group.
func (c *Client) SaveGroup(ctx context.Context, name string, members ...string) (g job.Group, err error) {
	return g, c.do(ctx, "PUT", "/api/groups/"+segment(name), wire.GroupRequest{Members: members}, &g)
}

// RemoveGroup removes a group.
func (c *Client) RemoveGroup(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", "/api/groups/"+segment(name), nil, nil)
}

// Posts lists the posts.
func (c *Client) Posts(ctx context.Context) (all []job.Post, err error) {
	return all, c.do(ctx, "GET", "/api/posts", nil, &all)
}

// SavePost adds or changes a post.
func (c *Client) SavePost(ctx context.Context, name, under string, holders ...string) (p job.Post, err error) {
	return p, c.do(ctx, "PUT", "/api/posts/"+segment(name), wire.PostRequest{Under: under, Holders: holders}, &p)
}

// RemovePost removes a post.
func (c *Client) RemovePost(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", "/api/posts/"+segment(name), nil, nil)
}

// SaveWishes says what a person wants for the mails that they get, and where and
// when they are reached.
func (c *Client) SaveWishes(ctx context.Context, login string, w job.OwnSettings) (p job.Person, err error) {
	return p, c.do(ctx, "PUT", "/api/people/"+segment(login)+"/wishes", w, &p)
}

// Receives lists the jobs that send to a person.
func (c *Client) Receives(ctx context.Context, login string) (all []wire.Receives, err error) {
	return all, c.do(ctx, "GET", "/api/people/"+segment(login)+"/receives", nil, &all)
}

// InRole says what follows when a person is given a role: nothing is changed.
func (c *Client) InRole(ctx context.Context, login string, role job.Role) (says []string, err error) {
	return says, c.do(ctx, "GET", "/api/people/"+segment(login)+"/roles/"+segment(string(role)), nil, &says)
}

// Mine shows what the signed-in person receives and may join, what they own, and what waits for
// their word.
func (c *Client) Mine(ctx context.Context) (m wire.Mine, err error) {
	return m, c.do(ctx, "GET", "/api/mine", nil, &m)
}

// Join lets the signed-in person get the mails of a job that is open to them, or ends that.
func (c *Client) Join(ctx context.Context, name string, join bool) error {
	word := map[bool]string{true: "join", false: "unjoin"}[join]
	return c.do(ctx, "POST", "/api/jobs/"+segment(name)+"/"+word, nil, nil)
}

// Schedule has a report sent to the signed-in person by a schedule of their own: a new one, or
// the changed one of a job's name.
func (c *Client) Schedule(ctx context.Context, name string, o job.OwnSchedule) (j job.Job, err error) {
	if name == "" {
		return j, c.do(ctx, "POST", "/api/own-schedules", o, &j)
	}
	return j, c.do(ctx, "PUT", "/api/own-schedules/"+segment(name), o, &j)
}

// Leave takes a person off a job's list, off all lists when name is empty, or puts
// them on again; it tells off how many.
func (c *Client) Leave(ctx context.Context, login, name string, leave bool) (n int64, err error) {
	word := map[bool]string{true: "leave", false: "return"}[leave]
	var out wire.Count
	err = c.do(ctx, "POST", "/api/people/"+segment(login)+"/"+word+"?"+url.Values{"job": {name}}.Encode(), nil, &out)
	return out.N, err
}

// MailSettings shows the house's own settings of mail.
func (c *Client) MailSettings(ctx context.Context) (s job.MailSettings, err error) {
	return s, c.do(ctx, "GET", "/api/settings/mail", nil, &s)
}

// SaveMailSettings saves them.
func (c *Client) SaveMailSettings(ctx context.Context, s job.MailSettings) error {
	return c.do(ctx, "PUT", "/api/settings/mail", s, nil)
}

// SaveBounces says which mailbox bounces come to: its settings, and its password.
func (c *Client) SaveBounces(ctx context.Context, settings map[string]any) error {
	return c.do(ctx, "PUT", "/api/settings/bounces", settings, nil)
}

// SaveHeartbeat says where a sign of life goes, and how often.
func (c *Client) SaveHeartbeat(ctx context.Context, address string, every job.Duration) error {
	return c.do(ctx, "PUT", "/api/settings/heartbeat", map[string]any{"url": address, "every": every}, nil)
}

// Copy tells whether the installation is a copy that nobody has spoken of.
func (c *Client) Copy(ctx context.Context) (out wire.Copy, err error) {
	return out, c.do(ctx, "GET", "/api/settings/copy", nil, &out)
}

// SayCopy says what a copy is: all, one address or none leaves it from now on. One for
// tests acts on nothing outside itself but what is named: labels such as
// destination:NAME.
func (c *Client) SayCopy(ctx context.Context, sending, onlyTo string, named ...string) error {
	return c.do(ctx, "POST", "/api/settings/copy", wire.CopyRequest{Sending: sending, OnlyTo: onlyTo, Named: named},
		nil)
}

// Keeping tells for how many days is kept what belongs to no single job.
func (c *Client) Keeping(ctx context.Context) (out job.KeepingSettings, err error) {
	return out, c.do(ctx, "GET", "/api/settings/keeping", nil, &out)
}

// SaveKeeping says for how many days it is kept; it needs an administrator.
func (c *Client) SaveKeeping(ctx context.Context, k job.KeepingSettings) error {
	return c.do(ctx, "PUT", "/api/settings/keeping", k, nil)
}

// State shows what an operator must know of the installation.
func (c *Client) State(ctx context.Context) (out job.ServiceState, err error) {
	return out, c.do(ctx, "GET", "/api/state", nil, &out)
}

// Nodes lists the nodes that live.
func (c *Client) Nodes(ctx context.Context) (out []wire.Node, err error) {
	return out, c.do(ctx, "GET", "/api/nodes", nil, &out)
}

// Finish lets a node finish what it has and take no more work, or work again.
func (c *Client) Finish(ctx context.Context, node string, work bool) error {
	return c.do(ctx, "POST", "/api/nodes/finish", wire.FinishRequest{Node: node, Work: work}, nil)
}

// Alert shows an alert.
func (c *Client) Alert(ctx context.Context, id int64) (a job.Alert, err error) {
	return a, c.do(ctx, "GET", fmt.Sprintf("/api/alerts/%d", id), nil, &a)
}
