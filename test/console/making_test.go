package console

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ironbell/internal/api/wire"
	"ironbell/internal/recordfile"
	"ironbell/internal/report"

	"ironbell/internal/core/job"
	"ironbell/test/browser"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever the API can be told about a record has its place on screen: the whole company is made
// once more from nothing by the console alone, in another installation, and its records are then
// the same, file by file.
func TestTheWholeCompanyIsMadeOnScreen(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	w.LoadCompany()
	first, second := t.TempDir(), t.TempDir()
	_, errs, code := w.Ironbell("show", "-into", first)
	require.Zero(t, code, errs)
	e := world.OpenEmpty(t)
	require.NoError(t, os.Mkdir(filepath.Join(e.Dir, "folders", "company"), 0o755))
	p := e.ConsoleAs("sefa")
	m := maker{t, w, e, p}
	m.people()
	m.calendars()
	m.places()
	m.senders()
	m.subscriptions()
	m.settings()
	m.house()
	m.reportsAndJobs()
	_, errs, code = e.Ironbell("show", "-into", second)
	require.Zero(t, code, errs)
	files, again := world.Files(t, first), world.Files(t, second)
	for path, text := range files {
		assert.Equal(t, strings.ReplaceAll(text, w.Dir, e.Dir), again[path], path)
	}
	assert.Len(t, again, len(files))
}

// A maker makes the records of one world in the console of another.
type maker struct {
	t    *testing.T
	from *world.World
	to   *world.World
	p    world.Page
}

func (m maker) opens(page, says string) {
	m.t.Helper()
	m.p.Do(chromedp.Navigate("http://" + m.to.Listen + page))
	m.p.Sees(says)
}

func (m maker) people() {
	ctx := m.t.Context()
	people, err := m.from.C.People(ctx)
	require.NoError(m.t, err)
	m.opens("/people", "Everybody")
	for _, one := range people {
		if one.Login == "sefa" {
			continue // the first administrator is there
		}
		m.p.Press("//main", "Add a person")
		m.p.Fill("Sign-in name *", one.Login)
		m.p.Fill("Name *", one.Name)
		m.p.Fill("Mail", one.Mail)
		m.p.Fill("Role", string(one.Role))
		m.p.Fill("Time zone", one.Zone)
		m.p.Press("//main", "Add the person")
		m.p.Sees(one.Mail + ", " + string(one.Role))
	}
	posts, err := m.from.C.Posts(ctx)
	require.NoError(m.t, err)
	slices.SortStableFunc(posts, func(a, b job.Post) int { return len(a.Under) - len(b.Under) })
	for _, one := range posts {
		m.p.Press("//main", "Add a post")
		m.p.Fill("Name", one.Name)
		m.p.Fill("Stands under", one.Under)
		for _, login := range one.Holders {
			m.p.Fill("Held by", login)
		}
		m.p.Press("//main", "Save the post")
		m.p.Sees(one.Name)
		m.to.Until("the post is saved", func() bool {
			all, err := m.to.C.Posts(ctx)
			return err == nil && slices.ContainsFunc(all, func(p job.Post) bool { return p.Name == one.Name })
		})
	}
	groups, err := m.from.C.Groups(ctx)
	require.NoError(m.t, err)
	for _, one := range groups {
		m.p.Press("//main", "Add a group")
		m.p.Fill("Name", one.Name)
		m.p.Fill("Members", strings.Join(one.Members, "\n"))
		m.p.Press("//main", "Save the group")
		m.p.Sees("group:" + one.Name)
	}
}

func (m maker) calendars() {
	all, err := m.from.C.Calendars(m.t.Context())
	require.NoError(m.t, err)
	for _, c := range all {
		m.opens("/calendars/"+url.PathEscape(c.Name), "new, not saved yet")
		for _, day := range []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"} {
			open := slices.Contains(c.Week, day) || len(c.Week) == 0 && day != "sat" && day != "sun"
			if weekday := day != "sat" && day != "sun"; open != weekday {
				m.p.Press("//main", day)
			}
		}
		for _, entry := range c.Closed {
			m.p.Fill("Name of the day", entry.Label)
			m.p.Fill("Date", entry.Date)
			m.p.Fill("or a rule", entry.Rule)
			press := "Close this day"
			if entry.Days > 1 {
				m.p.Fill("Days in a row", fmt.Sprint(entry.Days))
				press = "Close these days"
			}
			m.p.Press("//main", press)
			m.p.Sees(entry.Label)
		}
		m.p.Press("//main", "Save")
		m.p.Sees("Saved. The rings of the jobs that go by it were reckoned anew")
	}
}

// fill writes the settings of a place into their fields.
func (m maker) fill(described []job.Setting, settings json.RawMessage) {
	m.t.Helper()
	var said map[string]any
	require.NoError(m.t, json.Unmarshal(settings, &said))
	for _, s := range described {
		value, ok := said[s.Name]
		if !ok || value == "" {
			continue
		}
		label := strings.ToUpper(s.Name[:1]) + strings.ReplaceAll(s.Name[1:], "_", " ")
		if slices.Contains([]string{"url", "ca", "tls"}, s.Name) {
			label = strings.ToUpper(s.Name)
		}
		if s.Needed {
			label += " *"
		}
		text := strings.ReplaceAll(fmt.Sprint(value), m.from.Dir, m.to.Dir)
		if number, is := value.(float64); is {
			text = fmt.Sprint(int(number))
		}
		m.p.Fill(label, text)
	}
}

// subscriptions adds the programs that are told of what happens, and replays to one.
func (m maker) subscriptions() {
	ctx := m.t.Context()
	all, err := m.from.C.Subscriptions(ctx)
	require.NoError(m.t, err)
	require.NotEmpty(m.t, all)
	m.opens("/events", "No program is told of what happens here yet.")
	for _, s := range all {
		m.p.Press("//main", "Add a subscription")
		m.p.Fill("Name *", s.Name)
		m.p.Fill("What it is", s.Note)
		m.p.Fill("Goes to *", s.Destination)
		for _, kind := range []string{job.PublishedRun, job.PublishedDelivery, job.PublishedAlertOpened, job.PublishedAlertClosed, job.PublishedCalendar} {
			if s.Wants(kind) {
				_, err := browser.Get(m.p.Tab, world.Patience,
					chromedp.Evaluate[bool](`document.querySelector('input[name=types][value="`+kind+`"]').click() || true`))
				require.NoError(m.t, err)
			}
		}
		m.p.Fill("Only if", s.OnlyIf)
		m.p.Press("//main", "Add the subscription")
		m.p.Sees(s.Name)
		m.to.Until("the form is closed", func() bool { return !strings.Contains(m.p.Text(), "Do not add it") })
	}
	m.p.Press("//section[@aria-label='"+all[0].Name+"']", "Replay")
	m.p.Fill("Since *", m.to.Now().AddDate(0, 1, 0).Format("2006-01-02T15:04"))
	m.p.Press("//section[@aria-label='"+all[0].Name+"']", "Hand it on again")
	m.p.Sees("Nothing was published since then")
}

// senders adds the programs that report events, each with a token that is shown and a key that is ended.
func (m maker) senders() {
	ctx := m.t.Context()
	senders, err := m.from.C.Senders(ctx)
	require.NoError(m.t, err)
	require.NotEmpty(m.t, senders)
	m.opens("/events", "No program reports events yet.")
	for _, s := range senders {
		m.p.Press("//main", "Add a sender")
		m.p.Fill("Name *", s.Name)
		m.p.Fill("What it is", s.Note)
		lines := make([]string, len(s.Sends))
		for i, g := range s.Sends {
			lines[i] = g.Type + " " + g.Source
		}
		m.p.Fill("May send *", strings.Join(lines, "\n"))
		m.p.Fill("Else its type", s.Type)
		if s.Pace != 0 {
			m.p.Fill("At most a minute", strconv.Itoa(s.Pace))
		}
		m.p.Press("//main", "Add the sender")
		m.p.Sees(s.Name)
		m.to.Until("the form is closed", func() bool { return !strings.Contains(m.p.Text(), "Do not add it") })
	}
	first := "//section[@aria-label='" + senders[0].Name + "']"
	m.p.Press(first, "Make a token")
	m.p.Sees("It is shown this once; copy it now")
	m.to.Until("its token is there", func() bool {
		one, err := m.to.C.Sender(ctx, senders[0].Name)
		return err == nil && len(one.Keys) == 1
	})
	m.p.Press(first, "End it now")
	m.to.Until("its token is ended", func() bool {
		one, err := m.to.C.Sender(ctx, senders[0].Name)
		return err == nil && len(one.Keys) == 0
	})
}

func (m maker) places() {
	ctx := m.t.Context()
	sources, err := m.from.C.Sources(ctx)
	require.NoError(m.t, err)
	m.opens("/sources", "There is no source yet.")
	for _, s := range sources {
		m.p.Press("//main", "Add a source")
		m.p.Fill("Driver", s.Protocol)
		m.p.Fill("Name", s.Name)
		i := slices.IndexFunc(report.Describe(), func(d job.Driver) bool { return d.Name == s.Protocol })
		m.fill(report.Describe()[i].Settings, s.Settings)
		m.p.Fill("Password", "reports")
		m.p.Press("//main", "Save and test it")
		m.p.Sees("PostgreSQL 1")
		identities, err := m.from.C.Identities(ctx, s.Name)
		require.NoError(m.t, err)
		for _, one := range identities {
			m.p.Press("//main", "Add an identity")
			m.p.Fill("Name", one.Name)
			m.p.Fill("Login *", one.Login)
			m.p.Fill("Password", "reports")
			for _, login := range one.Choosers {
				m.p.Fill("May be chosen by", login)
			}
			m.p.Press("//main", "Save the identity")
			m.p.Sees(one.Login)
			m.to.Until("the form is closed", func() bool { return !strings.Contains(m.p.Text(), "Save the identity") })
		}
	}
	protocols, err := m.from.C.Protocols(ctx)
	require.NoError(m.t, err)
	destinations, err := m.from.C.Destinations(ctx)
	require.NoError(m.t, err)
	m.opens("/destinations", "There is no destination yet.")
	for _, d := range destinations {
		m.p.Press("//main", "Add a destination")
		m.p.Fill("Protocol", d.Protocol)
		m.p.Fill("Name", d.Name)
		i := slices.IndexFunc(protocols, func(p job.Protocol) bool { return p.Name == d.Protocol })
		m.fill(protocols[i].Settings, d.Settings)
		if d.Sealed {
			m.p.Fill("Password", m.from.Out.Password)
		}
		m.p.Press("//main", "Save and test it")
		m.p.Sees(d.Name)
		m.to.Until(d.Name+" is tested", func() bool {
			got, err := m.to.C.Destination(ctx, d.Name)
			return err == nil && got.Tested != nil
		})
	}
}

func (m maker) settings() {
	ctx := m.t.Context()
	alerts := alertSettings(m.t, m.from)
	m.opens("/settings", "Second owner after")
	m.p.Fill("Mail server", alerts.Destination)
	m.p.Fill("Standby", alerts.Standby)
	m.p.Fill("Call", alerts.Call)
	m.p.Press("//main//form[@aria-label='Alerts']", "Save")
	host, port := m.from.HostPort(m.from.Out.Mailbox)
	for label, value := range map[string]string{
		"Host": host, "Port": fmt.Sprint(port), "User": m.from.Out.User, "Password": m.from.Out.Password,
		"Security": "none", "Look every": "10s",
	} {
		m.p.Fill(label, value)
	}
	m.p.Press("//main//form[@aria-label='Bounces']", "Save")
	m.to.Until("alerts are set", func() bool { return alertSettings(m.t, m.to).Call == alerts.Call })
	m.to.Until("bounces are", func() bool {
		all, err := m.to.C.Records(ctx, "setting")
		return err == nil && slices.Contains(all, wire.RecordName{Kind: "setting", Name: "bounces"})
	})
}

// house makes the house style, whose logo is sent from a file.
func (m maker) house() {
	ctx := m.t.Context()
	page, err := m.from.C.House(ctx)
	require.NoError(m.t, err)
	require.Len(m.t, page.Styles, 1)
	s := page.Styles[0]
	record, err := m.from.C.RecordFile(ctx, "setting", "house", false)
	require.NoError(m.t, err)
	logo, err := base64.StdEncoding.DecodeString(regexp.MustCompile(`data: (\S+)`).FindStringSubmatch(string(record))[1])
	require.NoError(m.t, err)
	path := filepath.Join(m.t.TempDir(), page.Files[0].Name)
	require.NoError(m.t, os.WriteFile(path, logo, 0o600))
	m.opens("/settings/house", "There is none")
	m.p.Press("//main", "Add a style")
	for label, value := range map[string]string{
		"Name": s.Name, "Accent": s.Accent, "Letters": s.Ink, "Series of charts": strings.Join(s.Series, " "), "Foot": s.Footer,
		"Small print": s.Legal,
	} {
		m.p.Fill(label, value)
	}
	m.p.Do(chromedp.SetUploadFiles(chromedp.CSS("input[aria-label='Send a file: Logo']"), []string{path}))
	m.to.Until("the logo is there", func() bool {
		page, err := m.to.C.House(ctx)
		return err == nil && len(page.Files) == 1
	})
	m.p.Sees("1600 by 388")
	m.p.Press("//main//form[@aria-label='House style']", "Save")
	m.to.Until("the house style is saved", func() bool {
		page, err := m.to.C.House(ctx)
		return err == nil && len(page.Styles) == 1 && page.Styles[0].Logo == s.Logo
	})
}

func (m maker) reportsAndJobs() {
	ctx := m.t.Context()
	reports, err := m.from.C.Reports(ctx)
	require.NoError(m.t, err)
	for _, r := range reports {
		m.t.Run("report "+r.Name, func(t *testing.T) {
			for i, b := range r.Workbooks {
				content, err := m.from.C.Workbook(ctx, r.Name, b.Name)
				require.NoError(t, err)
				r.Workbooks[i].Data, err = io.ReadAll(content)
				require.NoError(t, err)
				require.NoError(t, content.Close())
			}
			made := plainly(t, r.ReportDefinition)
			made["owner"] = r.Owner
			m.p.In(t).Make("/new/report", "report", r.Name, made, "Save the report", "/reports/")
		})
	}
	names, err := m.from.C.Records(ctx, "job")
	require.NoError(m.t, err)
	files := []recordfile.File{}
	for _, n := range names {
		text, err := m.from.C.RecordFile(ctx, "job", n.Name, false)
		require.NoError(m.t, err)
		f, err := recordfile.Read(text)
		require.NoError(m.t, err)
		files = append(files, f)
	}
	for _, f := range recordfile.Order(files) {
		m.t.Run("job "+f.Name, func(t *testing.T) {
			j, err := m.from.C.Job(ctx, f.Name)
			require.NoError(t, err)
			made := plainly(t, said(j.Definition))
			made["owner"] = j.Owner
			m.p.In(t).Make("/new/job", "job", f.Name, made, "Save and switch on", "/jobs/")
		})
	}
}

// said is a job without what the service adds to it.
func said(d job.Definition) job.Definition {
	for i := range d.Triggers {
		t := &d.Triggers[i]
		t.ID, t.Reading, t.NextDue, t.NextNominal = 0, "", nil, nil
	}
	for i := range d.Tasks {
		if r := d.Tasks[i].Report; r != nil {
			r.Takes = nil
		}
	}
	return d
}

// plainly is a record as its JSON has it.
func plainly(t *testing.T, of any) map[string]any {
	t.Helper()
	text, err := json.Marshal(of)
	require.NoError(t, err)
	var out map[string]any
	require.NoError(t, json.Unmarshal(text, &out))
	return out
}
