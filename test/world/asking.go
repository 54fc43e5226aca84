package world

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironbell/client"
	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Status is the status of an answer.
func (w *World) Status(c *http.Client, path string) int {
	w.T.Helper()
	res, err := c.Get("http://" + w.Listen + path)
	require.NoError(w.T, err)
	_ = res.Body.Close()
	return res.StatusCode
}

// Load saves a report that shows all that a page of a report can show.
func (w *World) Load() {
	w.T.Helper()
	tenth := 1
	_, err := w.C.SaveReport(context.Background(), "Load",
		wire.ReportRequest{Owner: "mara", ReportDefinition: job.ReportDefinition{
			Source: "tarnwick",
			Parameters: []job.Parameter{
				{
					Name: "port", Label: "Ports", Type: job.TypeText, Several: true, All: true, Required: true,
					Default: "all", Choices: &job.Choices{SQL: "SELECT code, name FROM ports ORDER BY name"},
				},
				{
					Name: "day", Label: "Day", Help: "The day that is looked at.", Type: job.TypeDate, Required: true,
					Default: "yesterday",
				},
				{Name: "open", Label: "Open ones", Type: job.TypeYesNo},
				{
					Name: "one", Label: "One of them", Type: job.TypeText,
					Choices: &job.Choices{List: []job.Choice{{Value: "a", Label: "First"}, {Value: "b"}}},
				},
			},
			Sections: []job.Section{
				{
					Name: "Figures", Kind: job.SectionFigures,
					Columns: []job.Column{
						{Name: "n", Label: "Ports", Before: "m", Better: job.BetterMore},
						{Name: "k", Label: "Closed", Before: "m", Better: job.BetterMore},
					},
					SQL: "SELECT 5 AS n, 4 AS m, 1 AS k",
				},
				{
					Name: "Drawing", Kind: job.SectionChart, Chart: &job.Chart{Form: job.ChartBar},
					SQL: "SELECT code, length(name) AS letters FROM ports WHERE code IN (:port) ORDER BY code",
				},
				{
					Name: "Table", Group: []string{"port"},
					SQL: "SELECT r.from_port AS port, r.name, r.minutes FROM routes r WHERE r.from_port IN (:port) " +
						"AND :day IS NOT NULL ORDER BY 1, 2", Columns: []job.Column{
						{
							Name: "minutes", Label: "Minutes at sea", Unit: "min", Decimals: &tenth,
							Total: job.TotalSum,
							Emphasis: []job.Emphasis{
								{If: `cell("minutes") > 70`, As: job.MarkBad},
								{If: `cell("minutes") > 45`, As: job.MarkWarning},
								{If: `cell("minutes") > 30`, As: job.MarkGood},
								{If: `cell("minutes") < 30`, As: job.MarkFaint},
							},
						},
					},
				},
				{Name: "Words", Kind: job.SectionText, Text: "All of {value.day}."},
			},
		}})
	require.NoError(w.T, err)
}

// Stopped stops the service in order.
func (w *World) Stopped() {
	w.T.Helper()
	w.Service.Stop(syscall.SIGTERM, 20*time.Second, syscall.SIGKILL)
}

// State asks the address of those who watch from outside.
func (w *World) State() (status int, text string) {
	w.T.Helper()
	res, err := http.Get("http://" + w.Listen + "/state")
	require.NoError(w.T, err)
	defer func() { _ = res.Body.Close() }()
	all, err := io.ReadAll(res.Body)
	require.NoError(w.T, err)
	return res.StatusCode, string(all)
}

// Person saves a person who cannot sign in.
func (w *World) Person(login, name string) {
	w.T.Helper()
	_, err := w.C.SavePerson(context.Background(), login, wire.PersonRequest{
		Name: name, Mail: login + "@tarnwick.example", Role: "reader", Zone: "Europe/London",
	})
	require.NoError(w.T, err)
}

// Raw is a letter as it came.
func (w *World) Raw(l Letter) string {
	return string(w.Get(fmt.Sprintf("%s/messages/%d/raw", w.Out.Inbox, l.ID)))
}

// As signs somebody in.
func (w *World) As(login string) *client.Client {
	w.T.Helper()
	token, err := w.C.MakeToken(context.Background(), login, Password, "test")
	require.NoError(w.T, err)
	return client.New("http://"+w.Listen, token.Token)
}

// NotFound looks for secrets in answers, in all that the service wrote to its folders, in its
// log, and in every table.
func (w *World) NotFound(answers []string, secrets ...string) {
	w.T.Helper()
	ctx := context.Background()
	require.NoError(w.T, filepath.WalkDir(w.Dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		text, err := os.ReadFile(path)
		answers = append(answers, path+": "+string(text))
		return err
	}))
	conn := Connect(w.T, w.Db)
	rows, err := conn.Query(ctx,
		`SELECT c.oid::regclass::text FROM pg_class c WHERE relkind = 'r' AND relnamespace = current_schema()::regnamespace`)
	require.NoError(w.T, err)
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(w.T, err)
	require.Greater(w.T, len(tables), 30)
	for _, secret := range secrets {
		forms := []string{secret, url.QueryEscape(secret), hex.EncodeToString([]byte(secret))}
		if lines := strings.Split(secret, "\n"); len(lines) > 1 {
			forms = lines[1:3] // of a key each line is one
		} else {
			// base64 begins at another bit behind each of three lengths; whole threes of it are the same
			for skip := range 3 {
				forms = append(forms, base64.RawStdEncoding.EncodeToString([]byte(secret)[skip:skip+18]))
			}
		}
		for _, form := range forms {
			for _, a := range answers {
				if at := strings.Index(a, form); at >= 0 {
					w.T.Errorf("%q is found: ...%s", form, a[max(0, at-200):min(len(a), at+100)])
				}
			}
			for _, table := range tables {
				var n int
				// Of a job's own words, which somebody wrote and everybody reads, an address may hold anything.
				require.NoError(w.T,
					conn.QueryRow(ctx,
						"SELECT count(*) FROM "+table+
							" t WHERE position($1 in t::text) > 0 AND $2 NOT IN ('job_versions', 'audit')", form,
						table).Scan(&n))
				assert.Zero(w.T, n, "%s in %s", form, table)
			}
		}
	}
}

// Seen waits until the state that is seen from outside has a status and says something.
func (w *World) Seen(status int, says string) (text string) {
	w.T.Helper()
	w.Until("from outside is seen: "+says, func() bool {
		is, said := w.State()
		text = said
		return is == status && strings.Contains(said, says)
	})
	return text
}

// TokenOf signs somebody in.
func (w *World) TokenOf(login string) string {
	w.T.Helper()
	token, err := client.New("http://"+w.Listen, "").MakeToken(context.Background(), login, Password, "a test")
	require.NoError(w.T, err)
	return token.Token
}

// Get reads an address as mara.
func (w *World) Get(address string) []byte {
	w.T.Helper()
	res, err := http.Get(address)
	require.NoError(w.T, err)
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	require.NoError(w.T, err)
	require.Equal(w.T, http.StatusOK, res.StatusCode, string(text))
	return text
}

// ClientWhich chooses the deliveries of a run that are kept back for a reason.
func ClientWhich(run job.RunID, keptBack string) client.Which {
	return client.Which{Run: run.String(), KeptBack: keptBack, Limit: 1000}
}

// Call makes one request and gives status, content type and body.
func Call(t *testing.T, c *http.Client, method, address, token, body string) (int, string, string) {
	t.Helper()
	req, err := http.NewRequest(method, address, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	res, err := c.Do(req)
	require.NoError(t, err)
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	require.NoError(t, err)
	return res.StatusCode, res.Header.Get("Content-Type"), string(text)
}

// Put puts a JSON document to a stand-in.
func Put(t *testing.T, address, text string) {
	t.Helper()
	req, err := http.NewRequest(http.MethodPut, address, bytes.NewReader([]byte(text)))
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	_ = res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
}
