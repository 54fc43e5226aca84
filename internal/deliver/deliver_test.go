package deliver_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/core/shape"
	"ironbell/internal/deliver"
	"ironbell/internal/outgoing"
	"ironbell/internal/render"
	"ironbell/standin/gate"
	standin "ironbell/standin/mail"

	gomessage "github.com/emersion/go-message"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	nethtml "golang.org/x/net/html"
)

type post struct {
	server *standin.Server
	inbox  *standin.Inbox
	ca     string
}

func start(t *testing.T, user string) post {
	t.Helper()
	cert, ca, err := gate.Certificate()
	require.NoError(t, err)
	inbox := &standin.Inbox{}
	s, err := standin.Start("mail", "127.0.0.1:0", user, "slipway", inbox, cert)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return post{server: s, inbox: inbox, ca: ca}
}

func (p post) destination(t *testing.T, change func(map[string]any), password string) deliver.Destination {
	t.Helper()
	host, portText, err := net.SplitHostPort(p.server.Address())
	require.NoError(t, err)
	port, err := strconv.Atoi(portText)
	require.NoError(t, err)
	settings := map[string]any{"host": host, "port": port, "from": "Iron Bell <bell@tarnwick.example>", "ca": p.ca}
	if change != nil {
		change(settings)
	}
	text, err := json.Marshal(settings)
	require.NoError(t, err)
	d, err := deliver.Open(deliver.Place{Protocol: "smtp", Name: "company mail", Settings: text, Secret: password},
		deliver.Allowed{})
	require.NoError(t, err)
	return d
}

const message = "From: bell@tarnwick.example\r\nTo: x@tarnwick.example\r\nMessage-ID: " +
	"<old@tarnwick.example>\r\nSubject: Board\r\n\r\n.\r\nMessage-ID: not a header\r\n"

func send(t *testing.T, d deliver.Destination, to string, offer func(context.Context) error) (deliver.Result, error) {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	line, err := d.Open(ctx)
	if err != nil {
		return deliver.Result{}, err
	}
	defer line.Close()
	if offer == nil {
		offer = func(context.Context) error { return nil }
	}
	return line.Send(ctx,
		deliver.Handover{
			ID: 7, From: d.(deliver.Mailer).ReturnPath("d7"), To: to, MessageID: "<new@tarnwick.example>",
			Size: int64(len(message)), Content: strings.NewReader(message),
		}, offer)
}

func TestMailArrivesWithItsOwnEnvelopeAndId(t *testing.T) {
	p := start(t, "bell")
	d := p.destination(t, func(s map[string]any) { s["user"] = "bell" }, "slipway")
	offered := 0
	res, err := send(t, d, "quay.desk@tarnwick.example", func(context.Context) error {
		offered++
		assert.Empty(t, p.inbox.All(), "nothing is accepted before the offer is written")
		return nil
	})
	require.NoError(t, err)
	assert.Positive(t, offered)
	assert.True(t, res.Offered && res.Answered)
	assert.Contains(t, res.Answer, "250")
	all := p.inbox.All()
	require.Len(t, all, 1)
	assert.Equal(t, "bell+d7@tarnwick.example", all[0].From)
	assert.Equal(t, []string{"quay.desk@tarnwick.example"}, all[0].To)
	assert.Equal(t, "<new@tarnwick.example>", all[0].MessageID)
	assert.Equal(t, ".\r\nMessage-ID: not a header\r\n", all[0].Plain)
}

// The offer is asked for while the last bytes of a large message go out, and
// again before its final dot: a node that was held up between is held back.
func TestAnOfferThatHoldsNoLongerIsNotGoneThroughWith(t *testing.T) {
	p := start(t, "")
	large := message + strings.Repeat("0123456789 Departures of Tarnwick Quay\r\n", 20_000)
	line, err := p.destination(t, nil, "").Open(context.Background())
	require.NoError(t, err)
	defer line.Close()
	over := errors.New("this node was held up")
	for _, holds := range []int{0, 1} { // how many times it is granted
		asked := 0
		res, err := line.Send(context.Background(),
			deliver.Handover{
				From: "bell@tarnwick.example", To: "a@tarnwick.example", MessageID: "<x@tarnwick.example>",
				Size: int64(len(large)), Content: strings.NewReader(large),
			}, func(context.Context) error {
				if asked++; asked > holds {
					return over
				}
				return nil
			})
		require.ErrorIs(t, err, over)
		assert.Equal(t, holds+1, asked)
		assert.False(t, res.Offered)
		line.Close()
		line, err = p.destination(t, nil, "").Open(context.Background())
		require.NoError(t, err)
	}
	assert.Empty(t, p.inbox.All())
}

func TestSeveralMessagesGoOverOneLine(t *testing.T) {
	p := start(t, "")
	line, err := p.destination(t, nil, "").Open(context.Background())
	require.NoError(t, err)
	defer line.Close()
	require.NoError(t, p.server.Behave(gate.Behaviour{Mode: gate.Refuse, Only: "gone@tarnwick.example"}))
	ok := func(context.Context) error { return nil }
	for _, to := range []string{"a@tarnwick.example", "gone@tarnwick.example", "b@tarnwick.example"} {
		_, err := line.Send(context.Background(),
			deliver.Handover{
				From: "bell@tarnwick.example", To: to, MessageID: "<x@tarnwick.example>",
				Content: strings.NewReader(message),
			}, ok)
		assert.Equal(t, to == "gone@tarnwick.example", err != nil, to)
	}
	assert.Len(t, p.inbox.All(), 2, "one refused recipient keeps no others from theirs")
}

func TestRefusalsKnowWhatTheyAre(t *testing.T) {
	for _, c := range []struct {
		mode  gate.Mode
		class fault.Class
		scope fault.Scope
		want  string
	}{
		{gate.Refuse, fault.Lasting, fault.Recipient, "the server answered: 550 5.1.1 No such mailbox"},
		{gate.Busy, fault.Passing, fault.Recipient, "the server answered: 451 4.3.2 Not now"},
		{gate.Away, fault.Passing, fault.Destination, "connection refused"},
	} {
		t.Run(string(c.mode), func(t *testing.T) {
			p := start(t, "")
			d := p.destination(t, nil, "")
			require.NoError(t, p.server.Behave(gate.Behaviour{Mode: c.mode}))
			res, err := send(t, d, "x@tarnwick.example", func(context.Context) error {
				t.Error("nothing may be offered")
				return nil
			})
			f := fault.Of(err)
			assert.Contains(t, f.Error(), c.want)
			assert.Equal(t, c.class, f.Class)
			assert.Equal(t, c.scope, f.Scope)
			assert.False(t, res.Offered)
		})
	}
}

func TestGreylistingPassesAtTheSecondTry(t *testing.T) {
	p := start(t, "")
	d := p.destination(t, nil, "")
	require.NoError(t, p.server.Behave(gate.Behaviour{Mode: gate.Greylist}))
	_, err := send(t, d, "x@tarnwick.example", nil)
	assert.Equal(t, fault.Passing, fault.Of(err).Class)
	_, err = send(t, d, "x@tarnwick.example", nil)
	assert.NoError(t, err)
}

func TestALineThatBreaksAfterTheOfferHasNoAnswer(t *testing.T) {
	p := start(t, "")
	d := p.destination(t, nil, "")
	require.NoError(t, p.server.Behave(gate.Behaviour{Mode: gate.Drop}))
	res, err := send(t, d, "x@tarnwick.example", nil)
	require.Error(t, err)
	assert.True(t, res.Offered)
	assert.False(t, res.Answered, "nobody knows")
	assert.Len(t, p.inbox.All(), 1, "and it had arrived")
}

func TestAnOfferThatFailsSendsNothing(t *testing.T) {
	p := start(t, "")
	lost := errors.New("the lease was lost")
	res, err := send(t, p.destination(t, nil, ""), "x@tarnwick.example", func(context.Context) error { return lost })
	require.ErrorIs(t, err, lost)
	assert.False(t, res.Offered)
	_, err = send(t, p.destination(t, nil, ""), "y@tarnwick.example", nil)
	require.NoError(t, err)
	all := p.inbox.All()
	require.Len(t, all, 1, "only what was offered has arrived")
	assert.Equal(t, []string{"y@tarnwick.example"}, all[0].To)
}

func TestSignInAndCertificatesAreChecked(t *testing.T) {
	p := start(t, "bell")
	for _, c := range []struct {
		name, password string
		change         func(map[string]any)
		want, advice   string
	}{
		{
			"wrong password", "wrong", func(s map[string]any) { s["user"] = "bell" }, "535 5.7.8",
			"Check user and password",
		},
		{
			"a certificate that nobody signed", "slipway", func(s map[string]any) { s["user"] = "bell"; delete(s, "ca") },
			"certificate", "put it into ca",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := send(t, p.destination(t, c.change, c.password), "x@tarnwick.example", nil)
			f := fault.Of(err)
			assert.Contains(t, f.Error(), c.want)
			assert.Contains(t, f.Advice, c.advice)
			assert.Equal(t, fault.Lasting, f.Class)
			assert.Equal(t, fault.Destination, f.Scope)
		})
	}
	_, err := send(t, p.destination(t, nil, ""), "x@tarnwick.example", nil)
	assert.ErrorContains(t, err, "530 5.7.0 Authentication required")
	said, err := p.destination(t, func(s map[string]any) { s["user"] = "bell" }, "slipway").Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(said.Said, "; "), "sign-in accepted")
}

func TestSignInByToken(t *testing.T) {
	p := start(t, "bell")
	byToken := func(s map[string]any) { s["user"], s["sign_in"] = "bell", "xoauth2" }
	_, err := send(t, p.destination(t, byToken, "slipway"), "x@tarnwick.example", nil)
	require.NoError(t, err)
	_, err = send(t, p.destination(t, byToken, "an old token"), "x@tarnwick.example", nil)
	f := fault.Of(err)
	assert.Contains(t, f.Error(), "535 5.7.8 The token is not accepted")
	assert.Equal(t, []any{fault.Lasting, fault.Destination, "Check user and token of the destination."},
		[]any{f.Class, f.Scope, f.Advice})

	// A token may be had where the settings say, and is asked for once.
	asked := 0
	desk := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		w.Header().Set("Content-Type", "application/json")
		if _, secret, _ := r.BasicAuth(); secret != "office-secret" && r.FormValue("client_secret") != "office-secret" {
			w.WriteHeader(http.StatusUnauthorized)
			_, _ = w.Write([]byte(`{"error":"invalid_client"}`))
			return
		}
		_, _ = w.Write([]byte(`{"access_token":"slipway","token_type":"Bearer","expires_in":3600}`))
	}))
	defer desk.Close()
	host, port := hostPort(t, p.server.Address())
	at := map[string]any{
		"host": host, "port": port, "from": "bell@tarnwick.example", "ca": p.ca, "user": "bell", "sign_in": "xoauth2",
		"token_url": desk.URL, "client_id": "ironbell",
	}
	allowed := deliver.Allowed{Guard: outgoing.New([]string{strings.TrimPrefix(desk.URL, "http://")})}
	d, err := deliver.Open(settings(t, "smtp", "office-secret", at), allowed)
	require.NoError(t, err)
	for range 2 {
		_, err = send(t, d, "x@tarnwick.example", nil)
		require.NoError(t, err)
	}
	assert.Equal(t, 1, asked)
	d, err = deliver.Open(settings(t, "smtp", "wrong", at), allowed)
	require.NoError(t, err)
	_, err = send(t, d, "x@tarnwick.example", nil)
	assert.Equal(t, fault.Lasting, fault.Of(err).Class)
	assert.Contains(t, fault.Of(err).Advice, "token_url")

	// Its server may have an authority of its own, beside the mail server's.
	cert, ca, err := gate.Certificate()
	require.NoError(t, err)
	secure := httptest.NewUnstartedServer(desk.Config.Handler)
	secure.TLS = &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	secure.StartTLS()
	defer secure.Close()
	at["token_url"], allowed.Guard = secure.URL, outgoing.New([]string{secure.Listener.Addr().String()})
	d, err = deliver.Open(settings(t, "smtp", "office-secret", at), allowed)
	require.NoError(t, err)
	_, err = send(t, d, "x@tarnwick.example", nil)
	assert.Equal(t, fault.Lasting, fault.Of(err).Class)
	assert.ErrorContains(t, err, "an authority that this machine does not trust")
	assert.Contains(t, fault.Of(err).Advice, "put it into ca")
	at["ca"] = p.ca + ca
	d, err = deliver.Open(settings(t, "smtp", "office-secret", at), allowed)
	require.NoError(t, err)
	_, err = send(t, d, "x@tarnwick.example", nil)
	require.NoError(t, err)
}

func TestAnotherServerStandsBy(t *testing.T) {
	first, second := start(t, ""), start(t, "")
	d := first.destination(t, func(s map[string]any) {
		s["standby"], s["ca"] = []string{second.server.Address()}, first.ca+second.ca
	}, "")
	require.NoError(t, first.server.Behave(gate.Behaviour{Mode: gate.Away}))
	_, err := send(t, d, "x@tarnwick.example", nil)
	require.NoError(t, err)
	assert.Len(t, second.inbox.All(), 1)
	tested, err := d.Test(context.Background())
	require.Error(t, err, "the first is down, and a test says so: %v", tested.Said)
}

func TestStrangeAnswersAreNeitherYesNorNo(t *testing.T) {
	p := start(t, "")
	require.NoError(t, p.server.Behave(gate.Behaviour{Mode: gate.Strange}))
	res, err := send(t, p.destination(t, nil, ""), "x@tarnwick.example", nil)
	require.Error(t, err)
	assert.True(t, res.Offered && !res.Answered)
	assert.Contains(t, err.Error(), "699 Perhaps")
	require.NoError(t, p.server.Behave(gate.Behaviour{Mode: gate.Full}))
	res, err = send(t, p.destination(t, nil, ""), "x@tarnwick.example", nil)
	f := fault.Of(err)
	assert.Contains(t, f.Error(), "552 5.2.2 The mailbox is over its quota")
	assert.Equal(t, []any{fault.Lasting, fault.Recipient, false}, []any{f.Class, f.Scope, res.Offered})
}

func TestSettingsThatCannotBeUsed(t *testing.T) {
	for settings, want := range map[string]string{
		`{`:                                "unexpected end",
		`{"host":"x"}`:                     "is no address of a sender",
		`{"from":"bell@tarnwick.example"}`: "it names no server",
		`{"from":"b@t.example","host":"x","ca":"no"}`: "are no PEM",
	} {
		_, err := deliver.Open(deliver.Place{
			Protocol: "smtp", Name: "company mail", Settings: json.RawMessage(settings),
		}, deliver.Allowed{})
		assert.ErrorContains(t, err, want, settings)
	}
	_, err := deliver.Open(deliver.Place{Protocol: "pigeon", Name: "p"}, deliver.Allowed{})
	assert.ErrorContains(t, err, `there is no protocol "pigeon"`)
}

type closer struct{ *strings.Reader }

func (closer) Close() error { return nil }

func TestComposeKeepsHeadersWhole(t *testing.T) {
	var out bytes.Buffer
	err := deliver.Compose(context.Background(), &out, deliver.Letter{
		MessageID: "a@tarnwick.example", From: "Iron Bell <bell@tarnwick.example>",
		To:      []string{"mara.quill@tarnwick.example"},
		Subject: "Board\r\nBcc: spy@else.test", Date: time.Date(2026, 11, 23, 6, 15, 0, 0, time.UTC),
		Plain:  "Grüße\n\n<b>not bold</b>\nSee https://bell.tarnwick.example/runs/2611-1.",
		Tables: []string{"<table><tr><td>1</td></tr></table>"}, Footer: "Iron Bell, run 2611-1",
		Attachments: []deliver.Attachment{{
			Name: "Fähren \"1\".csv", MediaType: "text/csv",
			Open: func(context.Context) (io.ReadSeekCloser, error) {
				return closer{strings.NewReader("a,b\r\n1,2\r\n")}, nil
			},
		}},
		Headers: map[string]string{"Auto-Submitted": "auto-generated"},
	})
	require.NoError(t, err)
	text := out.String()
	header, _, _ := strings.Cut(text, "\r\n\r\n")
	assert.NotContains(t, header, "\nBcc:")
	assert.Contains(t, header, "Message-ID: <a@tarnwick.example>")
	assert.Contains(t, header, "User-Agent: Iron-Bell/")
	assert.Contains(t, header, "Auto-Submitted: auto-generated")
	for _, never := range []string{"X-Mailer"} {
		assert.NotContains(t, header, never)
	}
	assert.Contains(t, text, "&lt;b&gt;not bold")
	assert.Contains(t, strings.ReplaceAll(text, "=\r\n", ""), `href=3D"https://bell.tarnwick.example/runs/2611-1"`)
}

// What mail programs show beside the subject is the first figures, or what the job says, and stands in both forms;
// tables keep their captions, scroll on narrow screens and are dark by night.
func TestMailsPreviewWell(t *testing.T) {
	figures := func(cells ...string) string {
		style, err := render.Read(job.Output{Format: render.MailTable})
		require.NoError(t, err)
		var out bytes.Buffer
		w, err := style.Open(&out, &render.Head{Title: "Punctuality"})
		require.NoError(t, err)
		columns := make([]rows.Column, len(cells)/2)
		row := make(rows.Row, len(cells)/2)
		for i := range columns {
			columns[i], row[i] = rows.Column{Name: cells[2*i], Kind: rows.Number}, rows.Cell{Text: []byte(cells[2*i+1])}
		}
		plan, err := shape.Fit(job.Section{Name: "The week", Kind: job.SectionFigures}, job.FormWhole, columns)
		require.NoError(t, err)
		s, err := shape.NewShaper(plan, []shape.Sink{w}, nil)
		require.NoError(t, err)
		require.NoError(t, s.Row(row))
		_, err = s.End()
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return out.String()
	}
	table := `<table style="color:#24272b"><caption>By route</caption><tr><th>Route</th><th>Late</th></tr><tr><td>Pennold</td><td>3</td></tr></table>`
	compose := func(l deliver.Letter) (plain, page string) {
		var out bytes.Buffer
		l.MessageID, l.From, l.To = "a@tarnwick.example", "bell@tarnwick.example", []string{"mara.quill@tarnwick.example"}
		require.NoError(t, deliver.Compose(context.Background(), &out, l))
		m, err := gomessage.Read(&out)
		require.NoError(t, err)
		require.NoError(t, m.Walk(func(_ []int, part *gomessage.Entity, err error) error {
			kind, _, _ := part.Header.ContentType()
			to := map[string]*string{"text/plain": &plain, "text/html": &page}[kind]
			if err != nil || to == nil {
				return err
			}
			text, err := io.ReadAll(part.Body)
			*to = string(text)
			return err
		}))
		return strings.ReplaceAll(plain, "\r\n", "\n"), page
	}
	plain, page := compose(deliver.Letter{Plain: "The week on one page.", Tables: []string{table, figures("On time", "91.2", "Routes late", "3", "Fares <GBP>", "7")}})
	const line = "On time 91.2, Routes late 3, Fares <GBP> 7"
	assert.True(t, strings.HasPrefix(plain, line+"\n\nThe week on one page.\n"), plain)
	assert.Contains(t, plain, "By route\n\nRoute    Late\n")
	assert.Regexp(t, `\nOn time +91.2\nRoutes late +3\n`, plain, "figures stand in columns")
	hidden := strings.Index(page, "On time 91.2, Routes late 3, Fares &lt;GBP&gt; 7")
	assert.Positive(t, hidden)
	assert.Less(t, hidden, strings.Index(page, "The week on one page."), "it stands before all else")
	assert.Contains(t, page, `<meta name="color-scheme" content="light dark">`)
	assert.Contains(t, page, `<div style="overflow-x:auto"><table`)
	_, err := nethtml.Parse(strings.NewReader(page))
	require.NoError(t, err)

	plain, page = compose(deliver.Letter{FirstLine: "All ships sailed", Plain: "The week.", Tables: []string{figures("On time", "91.2")}})
	assert.True(t, strings.HasPrefix(plain, "All ships sailed\n\nThe week.\n"), plain)
	assert.Contains(t, page, "All ships sailed")
	plain, page = compose(deliver.Letter{Plain: "The week.", Tables: []string{table}})
	assert.True(t, strings.HasPrefix(plain, "The week.\n"), plain)
	assert.NotContains(t, page, "display:none")
	long := make([]string, 0, 40)
	for i := range 20 {
		long = append(long, strings.Repeat("Sailings ", 3)+strconv.Itoa(i), "1")
	}
	plain, _ = compose(deliver.Letter{Plain: "x", Tables: []string{figures(long...)}})
	first, _, _ := strings.Cut(plain, "\n")
	assert.LessOrEqual(t, len([]rune(first)), 120)
	assert.True(t, strings.HasSuffix(first, " 1"), "no figure is cut: %s", first)
}

func TestAddresses(t *testing.T) {
	for text, want := range map[string]string{
		"mara.quill@tarnwick.example":              "mara.quill@tarnwick.example",
		"Mara Quill <mara.quill@tarnwick.example>": "mara.quill@tarnwick.example",
	} {
		got, err := deliver.CheckAddress(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{
		"", "mara", "mara@", "a@b.test, c@d.test", "a@b.test\r\nBcc: c@d.test",
		strings.Repeat("a", 260) + "@b.test",
	} {
		_, err := deliver.CheckAddress(text)
		assert.ErrorContains(t, err, "is no mail address", text)
	}
}

// A domain and the addresses in it come to one form, or mail to the house's own people
// would wait for a second person.
func TestDomainsHaveTheFormOfAddresses(t *testing.T) {
	for text, want := range map[string]string{
		"tarnwick.example": "tarnwick.example", " @Tarnwick.EXAMPLE.": "tarnwick.example",
		"quäle.example": "xn--qule-moa.example",
		"":              "", ".": "", "example": "", "*.test": "", "a b.test": "", "a@b.test": "", "a,b.test": "",
		"..":  "",
		"-.-": "",
	} {
		domain, err := deliver.CheckDomain(text)
		if want == "" {
			assert.ErrorContains(t, err, "is no domain", text)
			continue
		}
		require.NoError(t, err, text)
		assert.Equal(t, want, domain)
		address, err := deliver.CheckAddress("a@" + strings.Trim(text, " @."))
		require.NoError(t, err)
		assert.Equal(t, "a@"+domain, strings.ToLower(address))
	}
}

// A header may name addresses beyond ASCII, which most servers do not take: there they are
// readable groups, and the mail arrives.
func TestAddressesBeyondASCIIInTheHeader(t *testing.T) {
	p := start(t, "bell")
	var b bytes.Buffer
	require.NoError(t, deliver.Compose(context.Background(), &b, deliver.Letter{
		MessageID: "old@tarnwick.example", From: "Iron Bell <bell@tarnwick.example>",
		To: []string{"mara@tarnwick.example", "Jörg Öst <jörg@tarnwick.example>"},
		Cc: []string{"öse@tarnwick.example"}, ReplyTo: "ö@tarnwick.example", Subject: "Übersicht", Date: time.Now(),
		Plain: "Grüße",
	}))
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	line, err := p.destination(t, func(s map[string]any) { s["user"] = "bell" }, "slipway").Open(ctx)
	require.NoError(t, err)
	defer line.Close()
	for range 2 { // the content is read anew each time
		res, err := line.Send(ctx,
			deliver.Handover{
				ID: 7, From: "bell@tarnwick.example", To: "mara@tarnwick.example", MessageID: "<new@tarnwick.example>",
				Headers: []string{"X-Own: yes"}, Size: int64(b.Len()), Content: bytes.NewReader(b.Bytes()),
			}, func(context.Context) error { return nil })
		require.NoError(t, err)
		assert.True(t, res.Answered)
	}
	all := p.inbox.All()
	require.Len(t, all, 2)
	for _, m := range all {
		head, body, _ := strings.Cut(string(m.Raw()), "\r\n\r\n")
		for i := range len(head) {
			require.Less(t, head[i], byte(0x80), "the header is ASCII: %s", head)
		}
		assert.Contains(t, head, "Message-ID: <new@tarnwick.example>\r\nX-Own: yes\r\n")
		read, err := mail.ReadMessage(strings.NewReader(head + "\r\n\r\n" + body))
		require.NoError(t, err)
		to, err := read.Header.AddressList("To")
		require.NoError(t, err)
		require.Len(t, to, 1)
		assert.Equal(t, "mara@tarnwick.example", to[0].Address)
		shown, err := new(mime.WordDecoder).DecodeHeader(read.Header.Get("To"))
		require.NoError(t, err)
		assert.Contains(t, shown, "Jörg Öst jörg@tarnwick.example:;")
		assert.Contains(t, body, "Gr=C3=BC=C3=9Fe")
	}
	_, err = send(t, p.destination(t, func(s map[string]any) { s["user"] = "bell" }, "slipway"),
		"jörg@tarnwick.example", nil)
	assert.ErrorContains(t, err, "takes no addresses with letters beyond ASCII")
}
