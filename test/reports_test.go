package test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

func TestAReportIsLookedAtBeforeItIsScheduled(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	require.NoError(t, world.LoadDemo(ctx, w))
	all, err := w.C.Jobs(ctx, "")
	require.NoError(t, err)
	for _, j := range all {
		_, err := w.C.Switch(ctx, j.Name, false) // what rings by itself meanwhile would leave files of its own
		require.NoError(t, err)
	}
	mara, joren := w.As("mara"), w.As("joren")

	offers, err := mara.Choices(ctx, "Vehicle-deck load", wire.LookRequest{Values: job.Values{"port": []string{"GS"}}})
	require.NoError(t, err)
	require.Len(t, offers, 3)
	assert.Equal(t, job.Choice{Value: "EH", Label: "Ellerhaven"}, offers[0].Offers[0])
	assert.Equal(t, "Grey Skerry", offers[0].Bound.Shown)
	assert.Equal(t, "start of last month", offers[1].Bound.From)

	values := job.Values{"from": "start of last 2 weeks", "to": "end of last 2 weeks", "port": []string{"GS", "EH"}}
	p, err := mara.Preview(ctx, "Vehicle-deck load", wire.PreviewRequest{
		LookRequest: wire.LookRequest{Values: values}, Rows: 3,
	})
	require.NoError(t, err)
	require.Len(t, p.Sections, 3)
	assert.Equal(t, "tarnwick_reports at tarnwick", p.ReadAs)
	assert.True(t, p.Sections[0].More)
	assert.Len(t, p.Sections[0].Lines, 3)
	assert.Contains(t, p.Sections[0].Drawing, "<svg")
	last := p.Sections[1].Lines[len(p.Sections[1].Lines)-1]
	assert.True(t, last.Total)
	assert.Equal(t, "Total", last.Cells[0])
	assert.Contains(t, p.Sections[2].Text, "A car takes 4.5 metres")

	_, err = mara.Preview(ctx, "Vehicle-deck load",
		wire.PreviewRequest{LookRequest: wire.LookRequest{Values: job.Values{"port": "Atlantis", "from": "whenever"}}})
	require.ErrorContains(t, err, "not accepted")
	var problem *client.Problem
	require.ErrorAs(t, err, &problem)
	said, err := json.Marshal(problem)
	require.NoError(t, err)
	assert.Contains(t, string(said), `Ports takes one of EH, FM, GS, PE, TQ, not \"Atlantis\"`)
	assert.Contains(t, string(said), "From takes a date")

	// A preview that nobody waits for any more ends its query.
	slow := job.ReportDefinition{
		Source: "tarnwick", Sections: []job.Section{{Name: "Slow", SQL: "SELECT pg_sleep(60) AS slow"}},
	}
	hurry, stop := context.WithTimeout(ctx, 300*time.Millisecond)
	defer stop()
	_, err = mara.Preview(hurry, "not saved", wire.PreviewRequest{LookRequest: wire.LookRequest{Definition: &slow}})
	require.Error(t, err)
	w.Until("the query ended", func() bool {
		busy := job.ReportDefinition{
			Source: "tarnwick",
			Sections: []job.Section{{
				Name: "Busy",
				SQL: "SELECT count(*) AS n FROM pg_stat_activity WHERE state = 'active' AND query LIKE 'SELECT " +
					"pg_sleep(60)%'",
			}},
		}
		p, err := mara.Preview(ctx, "not saved", wire.PreviewRequest{LookRequest: wire.LookRequest{Definition: &busy}})
		require.NoError(t, err)
		return p.Sections[0].Lines[0].Cells[0] == "0"
	})

	// Who may read as another identity is decided by the identity.
	as := func(c *client.Client) ([]string, error) {
		r, err := c.Render(ctx, "Port day sheet", wire.RenderRequest{
			LookRequest: wire.LookRequest{Identity: "Grey Skerry"},
			Output:      job.Output{Format: "csv", Sections: []job.Chosen{{Section: "Sailings"}}},
		})
		if err != nil {
			return nil, err
		}
		defer func() { _ = r.Content.Close() }()
		lines, err := csv.NewReader(r.Content).ReadAll()
		require.NoError(t, err)
		var ports []string
		for _, line := range lines[1:] {
			ports = append(ports, line[0])
		}
		return ports, nil
	}
	ports, err := as(mara)
	require.NoError(t, err)
	require.NotEmpty(t, ports)
	for _, port := range ports {
		assert.Equal(t, "Grey Skerry", port)
	}
	_, err = as(joren)
	require.ErrorContains(t, err, `may not choose the identity "Grey Skerry"`)
	_, err = w.As("aldous").Preview(ctx, "Port day sheet", wire.PreviewRequest{})
	require.ErrorContains(t, err, "may not look at reports")
	_, err = joren.SaveIdentity(ctx, "tarnwick", "mine", wire.IdentityRequest{Login: "postgres"})
	require.Error(t, err, "only administrators add identities")
	wrong := "nothing"
	_, err = w.C.SaveIdentity(ctx, "tarnwick", "mine", wire.IdentityRequest{Login: "tarnwick_tq", Password: &wrong})
	require.ErrorContains(t, err, "password authentication failed")
	// Nor by the way of a report that has the identity already.
	skerry := wire.ReportRequest{
		Owner: "joren",
		ReportDefinition: job.ReportDefinition{
			Source: "tarnwick", Identity: "Grey Skerry",
			Sections: []job.Section{{Name: "Sailings", SQL: "SELECT count(*) AS n FROM sailings"}},
		},
	}
	_, err = w.C.SaveReport(ctx, "Skerry sailings", skerry)
	require.NoError(t, err)
	_, err = joren.Preview(ctx, "Skerry sailings", wire.PreviewRequest{})
	require.ErrorContains(t, err, "may not choose the identity")
	skerry.Title = "All sailings of the skerry"
	_, err = joren.SaveReport(ctx, "Skerry sailings", skerry)
	require.NoError(t, err, "its title asks nothing")
	skerry.Sections[0].SQL = "SELECT * FROM sailings"
	_, err = joren.SaveReport(ctx, "Skerry sailings", skerry)
	require.ErrorContains(t, err, "may not choose the identity")

	own := world.Definition("Port day sheet", "company mail", []string{"csv"}, "tavish.rook@tarnwick.example")
	// An identity that comes to nothing is not the report's own login.
	own.Tasks[0].Report.Identity = "{value.place}"
	own.Split = job.Split{
		Each: "port", Query: &job.ListQuery{Source: "tarnwick", SQL: "SELECT 'TQ' AS port, '' AS place"},
	}
	_, err = w.C.SaveJob(ctx, "Nobody's day sheet", wire.JobRequest{Owner: "sefa", On: true, Definition: own})
	require.NoError(t, err)
	nobody := w.Ring("Nobody's day sheet")
	assert.Equal(t, job.RunFailed, nobody.State)
	assert.Contains(t, fmt.Sprint(nobody.Attempts), "comes to nothing for this part")
	own.Split = job.Split{}
	own.Tasks[0].Report.Identity = "Grey Skerry"
	_, err = joren.SaveJob(ctx, "Skerry day sheet", wire.JobRequest{Owner: "joren", Definition: own})
	require.ErrorContains(t, err, "may not choose the identity")
	_, err = mara.SaveJob(ctx, "Skerry day sheet", wire.JobRequest{Owner: "mara", On: true, Definition: own})
	require.NoError(t, err)
	shown, err := mara.Job(ctx, "Skerry day sheet")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"report": "Grey Skerry of tarnwick"}, shown.ReadAs, "the job shows who will read")
	page := w.Ring("Skerry day sheet")
	assert.Equal(t, job.RunDone, page.State, page.Reason)
	assert.Contains(t, page.Attempts[0].Note, "read as tarnwick_gs at tarnwick", "the run shows who read")

	lost := world.Definition("Port day sheet", "company mail", []string{"csv"}, "tavish.rook@tarnwick.example")
	lost.Values = job.Values{"port": []string{"ATL"}}
	_, err = mara.SaveJob(ctx, "Lost day sheet", wire.JobRequest{Owner: "mara", On: true, Definition: lost})
	require.ErrorContains(t, err, `Ports takes one of EH, FM, GS, PE, TQ, not "ATL"`)

	kept := func() []string {
		files, err := filepath.Glob(filepath.Join(w.Dir, "artifacts", "*", "*"))
		require.NoError(t, err)
		return files
	}
	w.Until("what failed is told, which leaves a mail", func() bool { return len(w.Inbox("sefa.orlin@tarnwick.example")) > 0 })
	before := kept()
	assert.NotEmpty(t, before)

	// Each format comes whole, and is what it says it is.
	for format, magic := range map[string]string{
		"pdf": "%PDF-", "xlsx": "PK\x03\x04", "pptx": "PK\x03\x04", "html": "<!doctype html>",
		"json": `{"report":"Vehicle-deck load"`, "html-mail": "<p",
	} {
		r, err := mara.Render(ctx, "Vehicle-deck load", wire.RenderRequest{
			LookRequest: wire.LookRequest{Values: values}, Output: job.Output{Format: format},
		})
		require.NoError(t, err, format)
		text, err := io.ReadAll(r.Content)
		require.NoError(t, err)
		_ = r.Content.Close()
		assert.True(t, bytes.HasPrefix(text, []byte(magic)), "%s begins with %.20q", format, text)
		assert.EqualValues(t, r.Size, len(text))
		assert.Len(t, r.SHA256, 64)
		assert.NotEmpty(t, r.Name)
	}
	out, errs, status := w.Ironbell("render", "-as", "xlsx", "-cost", "Vehicle-deck load")
	assert.Zero(t, status, errs)
	assert.Contains(t, out, "nothing was kept")
	path := filepath.Join(w.Dir, "load.csv")
	out, errs, status = w.Ironbell("render", "-as", "csv", "-locale", "de", "-section", "By port and route", "-form",
		"summary", "-o", path, "Vehicle-deck load")
	assert.Zero(t, status, errs)
	assert.Contains(t, out, "5 rows")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(text), "Port;Sailings;Cars;Freight;Deck used\r\nEllerhaven;"), string(text))
	_, errs, status = w.Ironbell("render", "-as", "csv", "Vehicle-deck load")
	assert.NotZero(t, status)
	assert.Contains(t, errs, "name one section")
	assert.Equal(t, before, kept(), "of what was looked at nothing stays")
}

func TestAChangedReportNamesTheJobsThatNoLongerFit(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	day := job.Parameter{Name: "day", Label: "Day", Type: job.TypeDate, Default: "yesterday"}
	w.Report("Sailings",
		`SELECT r.from_port AS port, count(*) AS n FROM sailings s JOIN routes r ON r.id = s.route_id WHERE s.due >= :day GROUP BY 1`, day)
	d := world.Definition("Sailings", "company mail", []string{"csv"}, "mara.quill@tarnwick.example")
	d.Values = job.Values{"day": "today - 3 days"}
	d.Tasks[0].Report.Outputs[0].Name = "to {value.day}"
	w.Job("Three days", d)
	next := job.ReportDefinition{
		Source: "tarnwick", Parameters: []job.Parameter{{Name: "from", Type: job.TypeDate, Required: true}},
		Sections: []job.Section{{
			Name: "By port", Columns: []job.Column{{Name: "n", Total: job.TotalSum}},
			SQL: `SELECT r.from_port AS port, count(*) AS n FROM sailings s JOIN routes r ON r.id = s.route_id WHERE s.due >= :from GROUP BY 1`,
		}},
	}
	check, err := w.C.CheckReport(ctx, "Sailings", wire.ReportRequest{ReportDefinition: next})
	require.NoError(t, err)
	assert.False(t, check.OK)
	assert.Empty(t, check.Wrong)
	assert.Equal(t, []job.PreviewColumn{{Name: "port", Kind: "text"}, {Name: "n", Kind: "whole"}},
		check.Sections[0].Columns)
	require.Len(t, check.Jobs, 1)
	assert.Equal(t, "Three days", check.Jobs[0].Job)
	said, err := json.Marshal(check.Jobs[0].Wrong)
	require.NoError(t, err)
	for _, want := range []string{`there is no parameter \"day\"`, `value.day`} {
		assert.Contains(t, string(said), want)
	}
	_, err = w.C.SaveReport(ctx, "Sailings", wire.ReportRequest{ReportDefinition: next})
	require.ErrorContains(t, err, "not accepted")
	page, err := w.C.ShowReport(ctx, "Sailings")
	require.NoError(t, err)
	assert.Equal(t, 1, page.Version, "nothing was changed")
	assert.Equal(t, []wire.ReportUse{{Job: "Three days", Owner: "mara", On: true}}, page.Jobs)
	saved, err := w.C.SaveReport(ctx, "Sailings", wire.ReportRequest{ReportDefinition: next, Anyway: true})
	require.NoError(t, err)
	assert.Equal(t, 2, saved.Version)
	_, err = w.C.Ring(ctx, "Three days", nil)
	require.ErrorContains(t, err, "from needs a value", "nobody is there to answer a prompt")
	d.Values, d.Tasks[0].Report.Outputs[0].Name = nil, ""
	_, err = w.C.SaveJob(ctx, "Three days", wire.JobRequest{Owner: "mara", On: true, Definition: d})
	require.ErrorContains(t, err, "from needs a value", "a job without a required value cannot be switched on")
	for want, s := range map[string]job.Section{
		`the query gives no column \"gone\"`: {
			Name: "A", SQL: "SELECT 1 AS n", Columns: []job.Column{{Name: "gone"}},
		},
		`column \"gone\" does not exist`: {Name: "A", SQL: "SELECT gone FROM sailings"},
		"the date form \\\"%Q\\\" is not known": {
			Name: "A", SQL: "SELECT now() AS n", Columns: []job.Column{{Name: "n", Date: "%Q"}},
		},
		"speaks of a column that is not there": {
			Name: "A", SQL: "SELECT 1 AS n",
			Columns: []job.Column{{Name: "n", Emphasis: []job.Emphasis{{If: `cell("m") > 1`, As: job.MarkBad}}}},
		},
		`{value.nobody} speaks of`:       {Name: "A", Kind: job.SectionText, Text: "{value.nobody}"},
		"what is asked here is a SELECT": {Name: "A", SQL: "SET ROLE postgres"},
	} {
		check, err := w.C.CheckReport(ctx, "Wrong",
			wire.ReportRequest{ReportDefinition: job.ReportDefinition{Source: "tarnwick", Sections: []job.Section{s}}})
		require.NoError(t, err)
		said, err := json.Marshal(check.Wrong)
		require.NoError(t, err)
		assert.Contains(t, strings.ReplaceAll(string(said), `\u003e`, ">"), want)
	}
}

func TestBadInputEndsWithAClearOutcome(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	many := make([]string, 500)
	for i := range many {
		many[i] = "1 AS c" + string(rune('a'+i/26/26)) + string(rune('a'+i/26%26)) + string(rune('a'+i%26))
	}
	for _, c := range []struct {
		name, sql, format string
		state             job.RunState
		want              string
	}{
		{"Division", "SELECT 1 / (id - id) AS n FROM ports_seen", "csv", job.RunFailed, "division by zero"},
		{"Wide page", "SELECT " + strings.Join(many, ", "), "pdf", job.RunFailed, "the section has 500 columns"},
		{"Wide sheet", "SELECT " + strings.Join(many, ", "), "xlsx", job.RunDone, ""},
		{"Long page", "SELECT generate_series(1, 20001) AS n", "pdf", job.RunFailed, "it holds at most 20,000 rows"},
		{
			"Odd types",
			`SELECT '\x00ff'::bytea AS bytes, ARRAY[1, NULL, 3] AS list, '{"a": [1]}'::jsonb AS doc, interval '1 day 2:03' AS span, 'infinity'::timestamptz AS never, 'NaN'::float8 AS nan, '-infinity'::date AS long_ago, '(1,2)'::point AS spot`, "json", job.RunDone, "",
		},
		{"Nothing", "SELECT 1 AS n WHERE false", "xlsx", job.RunBlank, ""},
		{
			"Long text", "SELECT repeat('long ', 20000) AS text", "xlsx", job.RunDone,
			"texts longer than 32767 characters are cut short",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			w.T = t
			sql := strings.ReplaceAll(c.sql, "ports_seen", "(SELECT 1 AS id) p")
			w.Report(c.name, sql)
			d := world.Definition(c.name, "company mail", []string{c.format}, "mara.quill@tarnwick.example")
			d.Retry = job.Retry{}
			d.Tasks[0].Report.Outputs[0].Name = "{report == 'x' ? 'y' : '...'}" // comes to nothing
			w.Job(c.name, d)
			page := w.Ring(c.name)
			require.Equal(t, c.state, page.State, page.Reason)
			log, err := w.C.Log(context.Background(), page.ID, 0)
			require.NoError(t, err)
			said, err := json.Marshal(log)
			require.NoError(t, err)
			assert.Contains(t, string(said), c.want)
			if c.state == job.RunFailed {
				assert.Empty(t, page.Artifacts, "never half a file")
				assert.Empty(t, w.Inbox("mara.quill@tarnwick.example"))
				return
			}
			require.Len(t, page.Artifacts, 1)
			assert.Equal(t, "report."+c.format, page.Artifacts[0].Name, "a name that comes to nothing gets another")
			content, err := w.C.File(context.Background(), page.Artifacts[0].ID)
			require.NoError(t, err)
			text, err := io.ReadAll(content)
			require.NoError(t, err)
			_ = content.Close()
			switch c.name {
			case "Wide sheet":
				f, err := excelize.OpenReader(bytes.NewReader(text))
				require.NoError(t, err)
				got, err := f.GetRows("Rows")
				require.NoError(t, err)
				assert.Len(t, got[4], 500)
				_ = f.Close()
			case "Odd types":
				var got struct {
					Sections []struct{ Rows []map[string]string }
				}
				require.NoError(t, json.Unmarshal(text, &got))
				assert.Equal(t,
					map[string]string{
						"bytes": `\x00ff`, "list": "{1,NULL,3}", "doc": `{"a": [1]}`, "span": "P1DT2H3M",
						"never": "infinity", "nan": "NaN", "long_ago": "-infinity", "spot": "(1,2)",
					}, got.Sections[0].Rows[0])
			}
			if c.state == job.RunDone {
				for _, l := range w.Inbox("mara.quill@tarnwick.example") {
					assert.NotEmpty(t, w.Attachment(l, 0))
				}
			}
		})
		w.T = t
		_, err := deleteMessages(w.Out.Inbox)
		require.NoError(t, err)
	}
}

func TestTwoRunsAreComparedAndAMailCarriesItsChart(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	_, err := w.C.SaveReport(ctx, "Fuel", wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{
		Source: "tarnwick", Parameters: []job.Parameter{{Name: "least", Type: job.TypeWhole, Default: 0.0}},
		Sections: []job.Section{
			{
				Name: "Litres", Kind: job.SectionChart,
				Chart: &job.Chart{Form: job.ChartBar, Series: []string{"Litres"}},
				SQL:   "SELECT v.name AS vessel, 100 * v.id + :least AS \"Litres\" FROM vessels v ORDER BY v.id",
			},
			{
				Name: "Vessels", Key: []string{"vessel"}, Columns: []job.Column{{Name: "built", Hidden: true}},
				SQL: "SELECT v.name AS vessel, v.built, 100 * v.id + CASE WHEN v.id = 3 THEN :least ELSE 0 END AS " +
					"litres FROM vessels v WHERE v.id > :least ORDER BY v.id",
			},
		},
	}})
	require.NoError(t, err)
	d := world.Definition("Fuel", "company mail", []string{"html-mail", "png"}, "mara.quill@tarnwick.example")
	d.Tasks[0].Report.Outputs[1].Sections = []job.Chosen{{Section: "Litres"}}
	w.Job("Fuel", d)
	first := w.Ring("Fuel")
	require.Equal(t, job.RunDone, first.State, first.Reason)
	assert.True(t, first.Comparable)
	require.Len(t, first.Artifacts, 2, "the kept rows are no file of the run")
	run, err := w.C.Ring(ctx, "Fuel", job.Values{"least": 1})
	require.NoError(t, err)
	second, err := w.C.Follow(ctx, run.ID, func(wire.RunPage) error { return nil })
	require.NoError(t, err)
	c, err := w.C.Compare(ctx, second.ID, 0, "")
	require.NoError(t, err)
	assert.Equal(t, first.ID, c.Before.ID)
	require.Len(t, c.Sections, 2)
	vessels := c.Sections[1]
	assert.Equal(t, []int{6, 5, 1, 1, 0},
		[]int{vessels.Before, vessels.After, vessels.Went, vessels.Changed, vessels.Came})
	assert.Equal(t, "300", vessels.Cells[0].Before)
	assert.Equal(t, "301", vessels.Cells[0].After)
	assert.NotContains(t, vessels.Heads, "built")
	out, errs, status := w.Ironbell("compare", second.ID.String())
	assert.Zero(t, status, errs)
	assert.Contains(t, out, "5 rows, before 6: 0 came, 1 went, 1 changed, 4 are the same")
	_, errs, status = w.Ironbell("compare", first.ID.String())
	assert.NotZero(t, status)
	assert.Contains(t, errs, "no good run of Fuel came before this one")

	letters := w.Inbox("mara.quill@tarnwick.example")
	require.NotEmpty(t, letters)
	raw := string(w.Get(w.Out.Inbox + "/messages/" + strconv.Itoa(letters[0].ID) + "/raw"))
	assert.Contains(t, raw, "Content-Id: <chart-1@ironbell>")
	decoded := strings.ReplaceAll(strings.ReplaceAll(raw, "=\r\n", ""), "=3D", "=")
	assert.Contains(t, decoded, `src="cid:chart-1@ironbell"`)
	assert.NotContains(t, decoded, "data:image", "mail programs do not show data addresses")
	part := regexp.MustCompile(`(?s)Content-Id: <chart-1@ironbell>.*?\r\n\r\n([A-Za-z0-9+/=\r\n]+)\r\n--`).FindStringSubmatch(raw)
	require.NotNil(t, part)
	picture, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(part[1], "\r\n", ""))
	require.NoError(t, err)
	_, err = png.Decode(bytes.NewReader(picture))
	require.NoError(t, err)
}

// deleteMessages empties the inbox.
func deleteMessages(inbox string) (*http.Response, error) {
	req, err := http.NewRequest(http.MethodDelete, inbox+"/api/messages", nil)
	if err != nil {
		return nil, err
	}
	res, err := http.DefaultClient.Do(req)
	if err == nil {
		_ = res.Body.Close()
	}
	return res, err
}

// Before a report runs by night it is known what its outputs cannot hold, and what fits better.
func TestWhatAReportComesToTellsWhatFitsBetter(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Report("Many", "SELECT generate_series(1, 300) AS n")
	w.Report("Nearly", "SELECT generate_series(1, 170) AS n")
	outputs := []job.Output{{Format: "csv"}, {Format: "png"}}
	c, err := w.C.Cost(ctx, "Many", wire.CostRequest{Outputs: outputs})
	require.NoError(t, err)
	require.Len(t, c.Files, 1)
	assert.EqualValues(t, 300, c.Files[0].Rows)
	require.Len(t, c.Unfit, 1)
	assert.Equal(t, "png", c.Unfit[0].Format)
	assert.Contains(t, c.Unfit[0].Why, "at most 200 rows")
	assert.Contains(t, c.Unfit[0].Advice, "Choose pdf, xlsx or csv")
	c, err = w.C.Cost(ctx, "Nearly", wire.CostRequest{Outputs: outputs})
	require.NoError(t, err)
	require.Len(t, c.Files, 2)
	assert.Contains(t, strings.Join(c.Says, "\n"), "png: it has 170 of the 200 rows that it holds at most; choose xlsx or csv")
	_, err = w.C.Cost(ctx, "Many", wire.CostRequest{Outputs: outputs[1:]})
	assert.ErrorContains(t, err, "at most 200 rows")
}
