package api

import (
	"context"
	"encoding/json"
	"reflect"
	"strings"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/calendar"
	"ironbell/internal/core/job"
	"ironbell/internal/recordfile"
	"ironbell/internal/store/db"
	"ironbell/internal/store/operation"
	"ironbell/internal/store/queue"
	"ironbell/internal/store/records"
	"ironbell/internal/timetable"
)

// A recordKind is a kind of record that stands in files: how one is shown, and how it is
// saved. Which fields it has is said by its type.
type recordKind struct {
	kind  string // the word in the head of a file
	only  string // of a setting: its name
	says  string // what it is, in the schema
	body  reflect.Type
	names func(ctx context.Context) ([]string, error)
	// show gives what a file says of the record.
	show func(ctx context.Context, name string) ([]byte, error)
	// plain gives what a file says that says the same in the shortest way.
	plain func(body []byte) ([]byte, error)
	save  func(ctx context.Context, who job.Person, name string, body []byte, try bool) error
}

// kindOf makes a kind whose files say what a T says. settled gives a T with all that is left
// out filled in and what the service gives taken away; what is then as in an empty T, settled,
// is not written.
func kindOf[T any](k recordKind, settled func(T) T, show func(ctx context.Context, name string) (T, error),
	save func(ctx context.Context, who job.Person, name string, said T, try bool) error,
) recordKind {
	if settled == nil {
		settled = func(said T) T { return said }
	}
	write := func(said T) ([]byte, error) {
		var none T
		return recordfile.Body(settled(said), settled(none))
	}
	read := func(body []byte) (said T, err error) {
		return said, json.Unmarshal(body, &said) //nolint:wrapcheck // told at its place in the file
	}
	k.body = reflect.TypeFor[T]()
	k.show = func(ctx context.Context, name string) ([]byte, error) {
		said, err := show(ctx, name)
		if err != nil {
			return nil, err
		}
		return write(said)
	}
	k.plain = func(body []byte) ([]byte, error) {
		said, err := read(body)
		if err != nil {
			return nil, err
		}
		return write(said)
	}
	k.save = func(ctx context.Context, who job.Person, name string, body []byte, try bool) error {
		said, err := read(body)
		if err != nil {
			return err
		}
		return save(ctx, who, name, said, try)
	}
	return k
}

// recordKinds are the kinds of records that stand in files.
func (s *server) recordKinds() []recordKind {
	return append(append(s.partyKinds(), s.placeKinds()...), s.settingKinds()...)
}

// partyKinds are those of people, and of calendars.
func (s *server) partyKinds() []recordKind {
	return []recordKind{
		kindOf(recordKind{kind: "person", says: "a person; the name is their sign-in name", names: s.namesOfPeople}, nil,
			func(ctx context.Context, login string) (wire.PersonFile, error) {
				p, _, err := s.Store.PersonByLogin(ctx, login)
				return wire.PersonFile{Name: p.Name, Mail: p.Mail, Role: p.Role, Zone: p.Zone}, err
			},
			func(ctx context.Context, who job.Person, login string, f wire.PersonFile, _ bool) error {
				_, err := s.Service.People.Save(ctx, who,
					job.Person{Login: login, Name: f.Name, Mail: f.Mail, Role: f.Role, Zone: f.Zone}, f.Password)
				return err
			}),
		kindOf(recordKind{
			kind: "wishes", says: "what a person wants for the mails that they get", names: s.namesOfWishes,
		}, func(w job.Wishes) job.Wishes { w.MailWanted = ""; return w },
			func(ctx context.Context, login string) (job.Wishes, error) {
				p, _, err := s.Store.PersonByLogin(ctx, login)
				return p.Wishes, err
			},
			func(ctx context.Context, who job.Person, login string, w job.Wishes, _ bool) error {
				_, err := s.Service.People.SaveWishes(ctx, who, login, job.OwnSettings{Wishes: w})
				return err
			}),
		kindOf(recordKind{kind: "post", says: "a position in the organisation", names: s.namesOfPosts}, nil,
			func(ctx context.Context, name string) (wire.PostRequest, error) {
				p, err := s.Store.Post(ctx, name)
				return wire.PostRequest{Under: p.Under, Holders: p.Holders}, err
			},
			func(ctx context.Context, who job.Person, name string, f wire.PostRequest, _ bool) error {
				_, err := s.Service.People.SavePost(ctx, who, job.Post{Name: name, Under: f.Under, Holders: f.Holders})
				return err
			}),
		kindOf(recordKind{kind: "group", says: "a list of recipients with a name", names: s.namesOfGroups}, nil,
			func(ctx context.Context, name string) (wire.GroupRequest, error) {
				g, err := s.Store.Group(ctx, name)
				return wire.GroupRequest{Members: g.Members}, err
			},
			func(ctx context.Context, who job.Person, name string, f wire.GroupRequest, _ bool) error {
				_, err := s.Service.People.SaveGroup(ctx, who, job.Group{Name: name, Members: f.Members})
				return err
			}),
		kindOf(recordKind{
			kind: "sender", says: "a program outside that reports events", names: s.namesOfSenders,
		}, nil,
			func(ctx context.Context, name string) (job.SenderDefinition, error) {
				one, err := s.Store.Sender(ctx, name)
				return one.SenderDefinition, err
			},
			func(ctx context.Context, who job.Person, name string, d job.SenderDefinition, _ bool) error {
				_, err := s.Service.Senders.Save(ctx, who, name, d)
				return err
			}),
		kindOf(recordKind{
			kind: "subscription", says: "an address that the service's own events go to", names: s.namesOfSubscriptions,
		}, nil,
			func(ctx context.Context, name string) (job.SubscriptionDefinition, error) {
				one, err := s.Store.Subscription(ctx, name)
				return one.SubscriptionDefinition, err
			},
			func(ctx context.Context, who job.Person, name string, d job.SubscriptionDefinition, _ bool) error {
				_, err := s.Service.Subscriptions.Save(ctx, who, name, d)
				return err
			}),
		kindOf(recordKind{kind: "calendar", says: "which days are open and closed", names: s.namesOfCalendars}, nil,
			func(ctx context.Context, name string) (calendar.Definition, error) {
				c, err := s.Store.Calendar(ctx, name)
				return c.Definition, err
			},
			func(ctx context.Context, who job.Person, name string, d calendar.Definition, try bool) error {
				_, err := s.Service.Calendars.Save(ctx, who, name, d, try)
				return err
			}),
	}
}

// placeKinds are those of sources and destinations, and of what goes between them.
func (s *server) placeKinds() []recordKind {
	return []recordKind{
		kindOf(recordKind{kind: "source", says: "a place that data comes from", names: s.namesOfPlaces(records.Source)},
			func(f wire.SourceFile) wire.SourceFile { f.Settings = said(f.Settings); return f },
			func(ctx context.Context, name string) (f wire.SourceFile, err error) {
				p, err := s.Store.Place(ctx, records.Source, name)
				if err != nil {
					return f, err
				}
				f.Driver = p.Protocol
				return f, json.Unmarshal(p.Settings, &f.Settings)
			},
			func(ctx context.Context, who job.Person, name string, f wire.SourceFile, _ bool) error {
				_, err := s.Service.Places.Save(ctx, who, records.Source, name, f.Driver, f.Settings, f.Password, s.Vault)
				return err
			}),
		kindOf(recordKind{
			kind: "identity", says: "a login of a source as which reports may run; the name is that of the source, a " +
				"slash, and its own", names: s.namesOfIdentities,
		}, func(f wire.IdentityRequest) wire.IdentityRequest {
			if f.Choosers == nil {
				f.Choosers = []string{}
			}
			return f
		},
			func(ctx context.Context, name string) (wire.IdentityRequest, error) {
				source, own := identityName(name)
				i, err := s.Store.Identity(ctx, source, own)
				return wire.IdentityRequest{Login: i.Login, Choosers: i.Choosers}, err
			},
			func(ctx context.Context, who job.Person, name string, f wire.IdentityRequest, _ bool) error {
				source, own := identityName(name)
				_, err := s.Service.Places.SaveIdentity(ctx, who, source, own, f.Login, f.Choosers, f.Password, s.Vault)
				return err
			}),
		kindOf(recordKind{
			kind: "destination", says: "a named place that results go to, with its protocol",
			names: s.namesOfPlaces(records.Destination),
		}, func(f wire.DestinationFile) wire.DestinationFile { f.Settings = said(f.Settings); return f },
			func(ctx context.Context, name string) (f wire.DestinationFile, err error) {
				p, err := s.Store.Place(ctx, records.Destination, name)
				if err != nil {
					return f, err
				}
				f.Protocol = p.Protocol
				return f, json.Unmarshal(p.Settings, &f.Settings)
			},
			func(ctx context.Context, who job.Person, name string, f wire.DestinationFile, _ bool) error {
				_, err := s.Service.Places.Save(ctx, who, records.Destination, name, f.Protocol, f.Settings, f.Password,
					s.Vault)
				return err
			}),
		kindOf(recordKind{
			kind: "report", says: "a saved query or queries with parameters, sections and layout",
			names: s.namesOfReports,
		}, nil,
			func(ctx context.Context, name string) (wire.ReportFile, error) {
				r, err := s.Store.Report(ctx, name)
				if err != nil {
					return wire.ReportFile{}, err
				}
				d, err := s.Service.Reports.InFile(ctx, r)
				return wire.ReportFile{Owner: r.Owner, ReportDefinition: d}, err
			},
			func(ctx context.Context, who job.Person, name string, f wire.ReportFile, _ bool) error {
				_, err := s.Service.Reports.Save(ctx, who, name, f.Owner, f.ReportDefinition, false)
				return err
			}),
		kindOf(recordKind{kind: "job", says: "what is to be done, and how it behaves", names: s.namesOfJobs}, settledJob,
			func(ctx context.Context, name string) (wire.JobFile, error) {
				j, err := s.Store.Job(ctx, name)
				return wire.JobFile{Owner: j.Owner, On: j.On, Definition: j.Definition}, err
			},
			func(ctx context.Context, who job.Person, name string, f wire.JobFile, _ bool) error {
				_, err := s.Service.Jobs.Save(ctx, who, name, f.Owner, f.On, f.Definition)
				return err
			}),
	}
}

// said are the settings of a place without those that say nothing.
func said(settings map[string]any) map[string]any {
	out := make(map[string]any, len(settings))
	for name, value := range settings {
		if value != "" && value != nil {
			out[name] = value
		}
	}
	return out
}

// identityName parts the name of an identity's file into its source's and its own.
func identityName(name string) (source, own string) {
	source, own, _ = strings.Cut(name, "/")
	return source, own
}

// settledJob takes away what the service gives of a job.
func settledJob(f wire.JobFile) wire.JobFile {
	f.Definition = f.WithDefaults()
	triggers := f.Triggers
	f.Triggers = nil
	for _, t := range triggers {
		f.Triggers = append(f.Triggers, job.Trigger{Timing: t.Timing, Wait: t.Wait, Values: t.Values})
	}
	tasks := f.Tasks
	f.Tasks = nil
	for _, t := range tasks {
		if t.Report != nil {
			with := *t.Report
			with.Takes = nil
			t.Report = &with
		}
		f.Tasks = append(f.Tasks, t)
	}
	return f
}

// settingKinds are the settings of the installation, each a record of its own.
func (s *server) settingKinds() []recordKind {
	return []recordKind{
		kindOf(recordKind{kind: "setting", only: db.AlertSetting, says: "over which destination alerts go, and when the next is told"},
			job.AlertSettings.WithDefaults,
			func(ctx context.Context, _ string) (a job.AlertSettings, err error) {
				_, err = s.Store.Setting(ctx, db.AlertSetting, &a)
				return a, err
			},
			func(ctx context.Context, who job.Person, _ string, a job.AlertSettings, _ bool) error {
				return s.Service.Settings.SaveAlerts(ctx, who, a)
			}),
		kindOf(recordKind{kind: "setting", only: db.MailSetting, says: "the house's own for all mails that jobs send"},
			func(m job.MailSettings) job.MailSettings { m.Wanted, m.WantedBy = nil, ""; return m },
			func(ctx context.Context, _ string) (job.MailSettings, error) { return s.Store.MailSettings(ctx) },
			func(ctx context.Context, who job.Person, _ string, m job.MailSettings, _ bool) error {
				return s.Service.Settings.SaveMail(ctx, who, m)
			}),
		kindOf(recordKind{kind: "setting", only: db.HouseSetting, says: "how what leaves the house looks"}, nil,
			func(ctx context.Context, _ string) (job.HouseRecord, error) { return s.Service.Settings.House(ctx) },
			func(ctx context.Context, who job.Person, _ string, h job.HouseRecord, _ bool) error {
				return s.Service.Settings.SaveHouse(ctx, who, h.HouseStyles, h.Files...)
			}),
		kindOf(recordKind{kind: "setting", only: db.BounceSetting, says: "which mailbox bounces come to"}, nil,
			func(ctx context.Context, _ string) (BounceRequest, error) {
				b, _, err := s.Service.Settings.Bounces(ctx)
				return BounceRequest{Bounces: b}, err
			},
			func(ctx context.Context, who job.Person, _ string, b BounceRequest, _ bool) error {
				return s.Service.Settings.SaveBounces(ctx, who, b.Bounces, b.Password, s.Vault)
			}),
		kindOf(recordKind{kind: "setting", only: db.BeatSetting, says: "where the sign of life goes"}, nil,
			func(ctx context.Context, _ string) (job.Heartbeat, error) {
				h, _, err := s.Service.Settings.Heartbeat(ctx)
				return h, err
			},
			func(ctx context.Context, who job.Person, _ string, h job.Heartbeat, _ bool) error {
				return s.Service.Settings.SaveHeartbeat(ctx, who, h)
			}),
		kindOf(recordKind{
			kind: "setting", only: operation.KeepingSetting, says: "for how many days is kept what belongs to no single job",
		}, job.KeepingSettings.WithDefaults,
			func(ctx context.Context, _ string) (job.KeepingSettings, error) { return s.Store.Keeping(ctx) },
			func(ctx context.Context, who job.Person, _ string, k job.KeepingSettings, _ bool) error {
				return s.Service.Settings.SaveKeeping(ctx, who, k)
			}),
		kindOf(recordKind{kind: "setting", only: timetable.WhenSetting, says: "what holds of all rules"},
			job.WhenSettings.WithDefaults,
			func(ctx context.Context, _ string) (w job.WhenSettings, err error) {
				_, err = s.Store.Setting(ctx, timetable.WhenSetting, &w)
				return w, err
			},
			func(ctx context.Context, who job.Person, _ string, w job.WhenSettings, _ bool) error {
				_, err := s.Service.Calendars.SaveWhen(ctx, who, w)
				return err
			}),
		kindOf(recordKind{kind: "setting", only: queue.LimitSetting, says: "how much may work at once, by label"}, nil,
			func(ctx context.Context, _ string) (map[string]int, error) { return s.Service.Freezes.Limits(ctx) },
			func(ctx context.Context, who job.Person, _ string, l map[string]int, _ bool) error {
				return s.Service.Freezes.SaveLimits(ctx, who, l)
			}),
	}
}
