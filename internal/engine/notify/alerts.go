// Package notify only tells: it takes open alerts step by step to those who must know, by mail and
// by a call, sends digests and mails of success, and asks a second person for a yes. It decides
// on no run and on no delivery.
//
// Each step is written in the transaction that freezes its mails, so that nobody is told twice.
package notify

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"ironbell/internal/access"
	"ironbell/internal/timetable"

	"ironbell/internal/alert"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/zone"
	"ironbell/internal/deliver"
	"ironbell/internal/engine/node"
	"ironbell/internal/store"
	"ironbell/internal/task"
)

// Notifier is the loop of one node. Its methods may be called by several goroutines.
type Notifier struct {
	node         *node.Node
	store        *store.Store
	times        *timetable.Timetable
	destinations *deliver.Destinations
	links        access.Links
	every        time.Duration // between two tries to tell an owner of an alert
}

// New makes the notifier of a node; every is the time between two tries to tell somebody.
func New(n *node.Node, s *store.Store, times *timetable.Timetable, d *deliver.Destinations, links access.Links, every time.Duration) *Notifier {
	return &Notifier{node: n, store: s, times: times, destinations: d, links: links, every: every}
}

const (
	// tellGiveUp is how long a mail about an alert waits for its mail server.
	tellGiveUp = 72 * time.Hour
	callLimit  = 20 * time.Second
)

// tellAtOnce is of how many alerts people are told in one transaction.
const tellAtOnce = 20

// Run sends open alerts to those who must know of them.
func (nr *Notifier) Run(ctx context.Context) {
	for ctx.Err() == nil {
		n, err := nr.tellDue(ctx)
		if err != nil {
			nr.node.Failed(ctx, "tell of alerts", err)
			continue
		}
		told, err := nr.tellSuccess(ctx)
		if err != nil {
			nr.node.Failed(ctx, "tell of success", err)
			continue
		}
		if n+told > 0 {
			continue
		}
		wait := nr.node.Poll
		if next, ok, err := nr.store.NextReady(ctx); err == nil && ok {
			wait = min(wait, next+5*time.Millisecond)
		}
		if !node.Sleep(ctx, nr.node.Tell, wait) {
			return
		}
	}
}

// tellDue takes the next steps with alerts that are due, and tells with how many. What
// cannot be told is tried again later: no alert holds up another.
func (nr *Notifier) tellDue(ctx context.Context) (int, error) {
	var at job.Alert
	take := func(limit int) (int, error) {
		at = job.Alert{}
		return nr.tellSome(ctx, limit, func(a job.Alert) { at = a })
	}
	return nr.node.InBatch(ctx, tellAtOnce, take, func(why error) (bool, error) {
		if at.ID == 0 {
			return false, nil
		}
		nr.node.Log.Error("an alert cannot be told", "alert", at.ID, "job", at.Job, "error", why)
		return true, nr.store.Do(ctx, func(t *store.Tx) error { return t.Unreached(ctx, at.ID, "cannot be told: "+why.Error(), nr.every*10) })
	})
}

// tellSome takes the next steps with at most so many alerts; with names each before.
func (nr *Notifier) tellSome(ctx context.Context, limit int, with func(job.Alert)) (n int, err error) {
	var calls []job.Alert
	err = nr.store.Do(ctx, func(t *store.Tx) error {
		calls = nil
		s, _, err := nr.Settings(ctx, t)
		if err != nil {
			return err
		}
		alerts, err := t.AlertsToTell(ctx, limit)
		if n = len(alerts); err != nil {
			return err
		}
		for _, a := range alerts {
			with(a)
			call, err := nr.tellOne(ctx, t, a, s)
			if err != nil {
				return err
			}
			if call {
				calls = append(calls, a)
			}
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	var all sync.WaitGroup
	for _, a := range calls {
		all.Go(func() { nr.call(ctx, a) })
	}
	all.Wait()
	return n, nil
}

// tellOne takes one step with an alert: it composes the mails of those who are to
// be told now and freezes their deliveries, and sets when the following step is
// due. It tells whether the step is a call, which is made outside of the
// transaction.
func (nr *Notifier) tellOne(ctx context.Context, t *store.Tx, a job.Alert, s job.AlertSettings) (call bool, err error) {
	for step := a.Step; step < alert.StepNobody; step++ {
		after := nr.stepAfter(s, step)
		if step == alert.StepCall {
			if s.Call == "" {
				break
			}
			// It calls for what is urgent, or after the last of those who sleep could be told.
			if until, err := nr.lastQuiet(ctx, t, a); err != nil || !a.Urgent && until.After(nr.node.Now()) {
				return false, errors.Join(err, t.Told(ctx, a.ID, "the call waits for the end of quiet hours, "+until.Format("15:04 MST"), step, until.Sub(nr.node.Now())))
			}
			return true, t.Told(ctx, a.ID, "", alert.StepNobody, after)
		}
		people, sleeping, err := nr.recipients(ctx, t, a, step)
		if err != nil {
			return false, err
		}
		if len(people)+len(sleeping) == 0 {
			continue // there is nobody at this step
		}
		names, rests, err := nr.mailAlert(ctx, t, a, s, step, people, sleeping)
		var cannot *unsendable
		if errors.As(err, &cannot) {
			nr.node.Log.Error("an alert cannot be sent", "alert", a.ID, "error", err)
			a.Told = "cannot be sent: " + err.Error()
			continue
		}
		if err != nil {
			return false, err
		}
		if rests {
			// It goes out when the mail server is back; somebody else may be reached now.
			a.Told = "a mail to " + strings.Join(names, ", ") + " waits for the mail server"
			continue
		}
		return false, t.Told(ctx, a.ID, "a mail goes to "+strings.Join(names, ", "), step+1, after)
	}
	if a.Step == alert.StepNobody {
		// Everybody was told, and nobody has taken it on: all over again.
		return false, t.Told(ctx, a.ID, a.Told+"; nobody took it on, all are told again", 0, time.Second)
	}
	nr.node.Log.Error("nobody could be told of an alert", "alert", a.ID, "job", a.Job, "told", a.Told)
	return false, t.Unreached(ctx, a.ID, strings.TrimPrefix(a.Told+"; nobody could be told", "; "), nr.every*10)
}

// stepAfter is how long those of a step have before the following one is taken.
func (nr *Notifier) stepAfter(s job.AlertSettings, step int) time.Duration {
	switch step {
	case alert.StepOwner:
		return time.Duration(s.Second)
	case alert.StepSecond:
		return time.Duration(s.Administrators)
	case alert.StepAdministrators:
		if s.Call != "" {
			return time.Duration(s.CallAfter)
		}
	}
	return time.Duration(s.Repeat)
}

// unsendable says why no mail about an alert can be made, while our own records work.
type unsendable struct{ error }

func (u *unsendable) Unwrap() error { return u.error }

// mailAlert composes a mail for each of some people and freezes its delivery. It
// tells whether the mail server rests, so that the mails wait. Its error is *unsendable
// when the mail cannot be made.
func (nr *Notifier) mailAlert(ctx context.Context, t *store.Tx, a job.Alert, s job.AlertSettings, step int, people []job.Person, sleeping []sleeper) (names []string, rests bool, err error) {
	id, destination, rests, err := nr.alertDestination(ctx, t, s)
	if err != nil {
		return nil, false, &unsendable{err}
	}
	all := make([]sleeper, 0, len(people)+len(sleeping))
	for _, p := range people {
		all = append(all, sleeper{Person: p})
	}
	var failed error
	for _, p := range append(all, sleeping...) {
		waits, err := t.AlertMailWaits(ctx, a.ID, p.Mail)
		if err != nil {
			return nil, false, err
		}
		name := p.Name
		if !p.until.IsZero() {
			name += " after " + p.until.Format("15:04 MST")
		}
		if names = append(names, name); waits {
			rests = rests || p.until.IsZero() // one is enough
			continue
		}
		place, err := zone.Load(p.Zone)
		if err != nil {
			place = time.UTC
		}
		letter := alert.Letter(a, alert.Reader{Base: nr.links.URL, Zone: place, Locale: languageOf(p.Person), Step: step, TakeOn: nr.links.Acknowledge(a.ID, p.ID)})
		letter.To = []string{p.Mail}
		err = nr.freezeLetter(ctx, t, id, destination, letter, job.Message{AlertID: &a.ID}, []store.Recipient{{Address: p.Mail, PersonID: p.ID}}, p.until)
		var unfit *fault.Fault
		if errors.As(err, &unfit) { // no mail can be made for them; the others get theirs
			nr.node.Log.Error("an alert cannot be sent to a person", "alert", a.ID, "person", p.Login, "error", err)
			names, failed = names[:len(names)-1], err
			continue
		}
		if err != nil {
			return nil, false, err
		}
	}
	if len(names) == 0 {
		return nil, false, &unsendable{failed}
	}
	return names, rests, nil
}

// freezeLetter composes a letter of the service itself and freezes its deliveries, to
// go out at an instant, or at once when it is zero. It lies in the database: it must
// go out when the disk of the artifacts is full, too.
func (nr *Notifier) freezeLetter(ctx context.Context, t *store.Tx, id int64, destination deliver.Mailer, letter deliver.Letter, m job.Message, to []store.Recipient, at time.Time) error {
	now := nr.node.Now()
	letter.From, letter.Date, letter.MessageID = destination.From(), now, task.MessageID(task.DomainOf(destination.From()))
	var body bytes.Buffer
	if err := deliver.Compose(ctx, &body, letter); err != nil {
		return fault.Wrap(err, fault.Lasting, fault.Message, "compose the mail", "")
	}
	sum := sha256.Sum256(body.Bytes())
	giveUp := now.Add(tellGiveUp)
	m.MessageID, m.Subject, m.DestinationID, m.Size, m.SHA256 = "<"+letter.MessageID+">", letter.Subject, id, int64(body.Len()), hex.EncodeToString(sum[:])
	n := store.NewMessage{
		Message: m, To: to, Body: body.Bytes(), Retry: job.Retry{Times: int(tellGiveUp / nr.every), Wait: job.Duration(nr.every)}, GiveUpAt: &giveUp, IfUnknown: job.UnknownAsk,
	}
	if !at.IsZero() {
		n.ReadyAt = &at
	}
	_, err := t.Freeze(ctx, n)
	return err
}

// sleeper is a person who is to be told, and until when they are in quiet hours.
type sleeper struct {
	job.Person
	until time.Time
}

// recipients are the people of an alert's step: those who can be told now, and those
// who are told at the end of their quiet hours.
func (nr *Notifier) recipients(ctx context.Context, t *store.Tx, a job.Alert, step int) (people []job.Person, sleeping []sleeper, err error) {
	all, err := nr.stepPeople(ctx, t, a, step)
	if err != nil {
		return nil, nil, err
	}
	if a.Kind != job.AlertConsent { // what a person may say only themselves goes to nobody else
		if all, err = nr.standIns(ctx, t, all); err != nil {
			return nil, nil, err
		}
	}
	for _, p := range all {
		if p.Mail == "" {
			continue
		}
		if until, is := nr.quiet(p); is && !a.Urgent {
			sleeping = append(sleeping, sleeper{p, until})
			continue
		}
		people = append(people, p)
	}
	return people, sleeping, nil
}

// quiet tells until when a person is in quiet hours.
func (nr *Notifier) quiet(p job.Person) (until time.Time, is bool) {
	place, err := zone.Load(p.Zone)
	if err != nil {
		place = time.UTC
	}
	return p.Wishes.Quiet(nr.node.Now().In(place))
}

// lastQuiet is when the last of all who are told of an alert leaves quiet hours; zero
// when nobody is in any.
func (nr *Notifier) lastQuiet(ctx context.Context, t *store.Tx, a job.Alert) (last time.Time, err error) {
	for step := alert.StepOwner; step < alert.StepCall; step++ {
		_, sleeping, err := nr.recipients(ctx, t, a, step)
		if err != nil {
			return last, err
		}
		for _, p := range sleeping {
			if p.until.After(last) {
				last = p.until
			}
		}
	}
	return last, nil
}

// standIns puts those who stand in for people who are away in their place, as far as
// they name any.
func (nr *Notifier) standIns(ctx context.Context, t *store.Tx, people []job.Person) ([]job.Person, error) {
	const most = 3
	known := map[int64]bool{}
	var out []job.Person
	for _, p := range people {
		for range most {
			if !p.Wishes.Away(nr.node.Now()) || p.Wishes.StandIn == "" {
				break
			}
			in, _, err := t.PersonByLogin(ctx, p.Wishes.StandIn)
			if store.IsMissing(err) {
				break
			}
			if err != nil {
				return nil, err
			}
			p = in
		}
		if !known[p.ID] {
			known[p.ID] = true
			out = append(out, p)
		}
	}
	return out, nil
}

// stepPeople are all people of an alert's step. That of a destination belongs to
// the administrators and to the owners of what waits for it.
func (nr *Notifier) stepPeople(ctx context.Context, t *store.Tx, a job.Alert, step int) ([]job.Person, error) {
	known := map[int64]bool{}
	var out []job.Person
	add := func(p job.Person) {
		if !known[p.ID] {
			known[p.ID] = true
			out = append(out, p)
		}
	}
	if a.Kind == job.AlertConsent {
		if a.JobID == nil {
			// The address of a person, or the allowed domains.
			if step != alert.StepOwner {
				return nil, nil
			}
			return t.Administrators(ctx)
		}
		// The question goes to those who may answer it, and to nobody who had a hand in it.
		first, others, err := nr.mayConsent(ctx, t, a)
		switch step {
		case alert.StepOwner:
			return first, err
		case alert.StepSecond:
			return others, err
		}
		return nil, err
	}
	var second string
	var owner *job.Person
	if a.Owner != "" {
		p, _, err := t.PersonByLogin(ctx, a.Owner)
		if err != nil {
			return nil, err
		}
		owner = &p
	}
	if a.JobID != nil && step > alert.StepOwner {
		j, err := t.Job(ctx, fmt.Sprint(*a.JobID))
		if err != nil && !store.IsMissing(err) {
			return nil, err
		}
		second = j.SecondOwner
	}
	switch {
	case step == alert.StepOwner && owner != nil:
		add(*owner)
	case step == alert.StepSecond && second != "":
		p, _, err := t.PersonByLogin(ctx, second)
		if err != nil && !store.IsMissing(err) {
			return nil, err
		}
		if err == nil {
			add(p)
		}
	case step == alert.StepAdministrators || step == alert.StepOwner && a.Kind == job.AlertDown:
		all, err := t.Administrators(ctx)
		if err != nil {
			return nil, err
		}
		for _, p := range all {
			if owner == nil || p.ID != owner.ID {
				add(p)
			}
		}
		if a.Kind != job.AlertDown {
			break
		}
		if step != alert.StepOwner {
			return nil, nil // they were told in the first step
		}
		owners, err := t.OwnersWaiting(ctx, a.Cause)
		if err != nil {
			return nil, err
		}
		for _, p := range owners {
			add(p)
		}
	}
	return out, nil
}

// Settings are those of alerts, and whether alerts can be sent by them at all.
func (nr *Notifier) Settings(ctx context.Context, t *store.Tx) (job.AlertSettings, bool, error) {
	var s job.AlertSettings
	ok, err := t.Setting(ctx, store.AlertSetting, &s)
	return s.WithDefaults(), ok && s.Destination != "", err
}

// alertDestination is the mail server that alerts go over now: the first that
// does not rest.
func (nr *Notifier) alertDestination(ctx context.Context, t *store.Tx, s job.AlertSettings) (id int64, d deliver.Mailer, rests bool, err error) {
	if s.Destination == "" {
		return 0, nil, false, fmt.Errorf("no destination is set for alerts; an administrator must name one")
	}
	for _, name := range []string{s.Destination, s.Standby} {
		if name == "" {
			continue
		}
		p, missing := t.Place(ctx, store.Destination, name)
		if missing != nil {
			err = missing
			continue
		}
		nid, nd, opening := nr.destinations.ByName(ctx, name)
		mailer, ok := nd.(deliver.Mailer)
		if opening != nil || !ok {
			if err = opening; err == nil {
				err = fmt.Errorf("the destination %q takes no mails", name)
			}
			continue
		}
		if p.RestsSince == nil {
			return nid, mailer, false, nil
		}
		if d == nil {
			id, d, rests = nid, mailer, true
		}
	}
	if d != nil {
		return id, d, rests, nil
	}
	return 0, nil, false, err
}

// call tells of an alert over HTTP.
func (nr *Notifier) call(ctx context.Context, a job.Alert) {
	s := job.AlertSettings{}
	if _, err := nr.store.Setting(ctx, store.AlertSetting, &s); err != nil || s.Call == "" {
		return // it was changed just now
	}
	ctx, stop := context.WithTimeout(ctx, callLimit)
	defer stop()
	answer, err := func() (string, error) {
		_, d, err := nr.destinations.ByName(ctx, s.Call)
		if err != nil {
			return "", err
		}
		caller, ok := d.(deliver.Caller)
		if !ok {
			return "", fmt.Errorf("the destination %q takes no calls", s.Call)
		}
		n, err := nr.store.Calling(ctx, a.ID)
		if err != nil {
			return "", err
		}
		body, err := json.Marshal(map[string]any{
			"alert": a.ID, "kind": a.Kind, "about": a.Job, "run": a.RunID, "happened": a.Happened, "for_whom": a.ForWhom, "advice": a.Advice,
			"since": a.OpenedAt, "count": a.Count, "owner": a.Owner, "link": fmt.Sprintf("%s/alerts/%d", nr.links.URL, a.ID),
		})
		if err != nil {
			return "", err
		}
		return caller.Call(ctx, deliver.Call{ID: fmt.Sprintf("alert-%d-%d", a.ID, n), Method: "POST", MediaType: "application/json", Body: body, Now: nr.node.Now()})
	}()
	ending, end := node.Ending(ctx)
	defer end()
	if err := nr.store.Do(ending, func(t *store.Tx) error {
		if err != nil {
			return t.Unreached(ending, a.ID, fmt.Sprintf("the call to %q failed: %s", s.Call, err), nr.every*10)
		}
		return t.Reached(ending, a.ID, fmt.Sprintf("called %q, which answered %s", s.Call, answer), time.Duration(s.WithDefaults().Repeat))
	}); err != nil {
		nr.node.Log.Error("could not record how a call about an alert went", "alert", a.ID, "error", err)
	}
}
