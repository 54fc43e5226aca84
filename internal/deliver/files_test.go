package deliver_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/deliver"
	"ironbell/internal/outgoing"
	"ironbell/standin/files"
	"ironbell/standin/gate"
	"ironbell/standin/web"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// steered is a stand-in that takes orders.
type steered interface {
	Address() string
	Behave(b gate.Behaviour) error
	Close()
}

// place is a destination for files with what stands behind it.
type place struct {
	place   deliver.Place
	allowed deliver.Allowed
	server  steered
	content func(t *testing.T, path string) (string, bool)
}

func (p place) open(t *testing.T) deliver.Destination {
	t.Helper()
	d, err := deliver.Open(p.place, p.allowed)
	require.NoError(t, err)
	return d
}

func hostPort(t *testing.T, address string) (string, int) {
	t.Helper()
	host, text, err := net.SplitHostPort(address)
	require.NoError(t, err)
	port, err := strconv.Atoi(text)
	require.NoError(t, err)
	return host, port
}

func settings(t *testing.T, protocol, secret string, s map[string]any) deliver.Place {
	t.Helper()
	text, err := json.Marshal(s)
	require.NoError(t, err)
	return deliver.Place{Protocol: protocol, Name: "harbour authority", Settings: text, Secret: secret}
}

func onDisk(dir string) func(t *testing.T, path string) (string, bool) {
	return func(t *testing.T, path string) (string, bool) {
		t.Helper()
		text, err := os.ReadFile(filepath.Join(dir, path))
		return string(text), err == nil
	}
}

// places starts one of each kind of place for files.
func places(t *testing.T) map[string]place {
	t.Helper()
	const user, password = "ironbell", "slipway"
	out := map[string]place{}
	dir := t.TempDir()
	out["folder"] = place{
		place:   settings(t, "folder", "", map[string]any{"folder": dir}),
		allowed: deliver.Allowed{Folders: []string{filepath.Dir(dir)}}, content: onDisk(dir),
	}
	cert, ca, err := gate.Certificate()
	require.NoError(t, err)

	dir = t.TempDir()
	sftp, err := files.StartSFTP("sftp", "127.0.0.1:0", dir, user, password)
	require.NoError(t, err)
	host, port := hostPort(t, sftp.Address())
	p := settings(t, "sftp", password, map[string]any{"host": host, "port": port, "user": user})
	d, err := deliver.Open(p, deliver.Allowed{})
	require.NoError(t, err)
	tested, err := d.Test(context.Background())
	require.NoError(t, err)
	require.Contains(t, tested.Pin, "SHA256:")
	p.Pin = tested.Pin
	out["sftp"] = place{place: p, server: sftp, content: onDisk(dir)}

	dir = t.TempDir()
	ftp, err := files.StartFTP("ftp", "127.0.0.1:0", dir, user, password, cert)
	require.NoError(t, err)
	host, port = hostPort(t, ftp.Address())
	out["ftp"] = place{
		place:  settings(t, "ftp", password, map[string]any{"host": host, "port": port, "user": user, "ca": ca}),
		server: ftp, content: onDisk(dir),
	}

	dir = t.TempDir()
	dav, err := files.StartWebDAV("webdav", "127.0.0.1:0", dir, user, password)
	require.NoError(t, err)
	out["webdav"] = place{
		place:  settings(t, "webdav", password, map[string]any{"url": "http://" + dav.Address() + "/", "user": user}),
		server: dav, content: onDisk(dir),
		allowed: deliver.Allowed{Guard: outgoing.New([]string{dav.Address()})},
	}

	objects, err := web.StartObjects("objects", "127.0.0.1:0", "reports")
	require.NoError(t, err)
	out["s3"] = place{
		place: settings(t, "s3", password, map[string]any{
			"url": "http://" + objects.Address(), "bucket": "reports", "prefix": "tarnwick", "user": user,
		}), server: objects,
		allowed: deliver.Allowed{Guard: outgoing.New([]string{objects.Address()})},
		content: func(_ *testing.T, path string) (string, bool) {
			text, ok := objects.Object("reports", "tarnwick/"+path)
			return string(text), ok
		},
	}
	for name, p := range out {
		if p.server != nil {
			t.Cleanup(p.server.Close)
			require.NotEmpty(t, p.server.Address(), name)
		}
	}
	return out
}

func handover(id int64, to, text string, e job.IfExists) deliver.Handover {
	return deliver.Handover{
		ID: id, To: to, Name: filepath.Base(to), MessageID: "<m" + strconv.FormatInt(id, 10) + "@tarnwick.example>",
		MediaType: "text/csv", Size: int64(len(text)), IfExists: e,
		Stamp: "2026-11-23 06.15.00", Content: strings.NewReader(text),
	}
}

// put hands one file over on a line of its own.
func put(t *testing.T, d deliver.Destination, h deliver.Handover) (deliver.Result, error) {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	line, err := d.Open(ctx)
	if err != nil {
		return deliver.Result{}, err
	}
	defer line.Close()
	return line.Send(ctx, h, func(context.Context) error { return nil })
}

func TestFilesArriveUnderTheirNames(t *testing.T) {
	for name, p := range places(t) {
		t.Run(name, func(t *testing.T) { arrive(t, p) })
	}
}

// arrive hands files over to a place in every way that there may be one of the
// name already.
func arrive(t *testing.T, p place) {
	t.Helper()
	d := p.open(t)
	long := strings.Repeat("Tarnwick Quay;1887\r\n", 20_000)
	offered := false
	line, err := d.Open(context.Background())
	require.NoError(t, err)
	defer line.Close()
	res, err := line.Send(context.Background(), handover(1, "2026-11/Grey Skerry/Fährplan.csv", long, job.ExistsNumber),
		func(context.Context) error {
			_, there := p.content(t, "2026-11/Grey Skerry/Fährplan.csv")
			assert.False(t, there, "nothing has the name before the offer is written")
			offered = true
			return nil
		})
	require.NoError(t, err)
	assert.True(t, offered && res.Offered && res.Answered)
	assert.Contains(t, res.Answer, "Fährplan.csv, 400000 bytes")
	got, _ := p.content(t, "2026-11/Grey Skerry/Fährplan.csv")
	assert.Equal(t, long, got)

	for _, c := range []struct {
		e        job.IfExists
		to, text string
	}{
		{job.ExistsNumber, "2026-11/Grey Skerry/Fährplan (2).csv", "second"},
		{job.ExistsNumber, "2026-11/Grey Skerry/Fährplan (3).csv", "third"},
		{job.ExistsStamp, "2026-11/Grey Skerry/Fährplan 2026-11-23 06.15.00.csv", "stamped"},
		{job.ExistsStamp, "2026-11/Grey Skerry/Fährplan 2026-11-23 06.15.00 (2).csv", "stamped again"},
		{job.ExistsOverwrite, "", "new"},
	} {
		res, err := line.Send(context.Background(), handover(2, "2026-11/Grey Skerry/Fährplan.csv", c.text, c.e),
			func(context.Context) error { return nil })
		require.NoError(t, err, c.e)
		assert.Equal(t, c.to, res.To)
		if c.to == "" {
			c.to = "2026-11/Grey Skerry/Fährplan.csv"
		}
		got, _ := p.content(t, c.to)
		assert.Equal(t, c.text, got)
	}
	res, err = line.Send(context.Background(),
		handover(3, "2026-11/Grey Skerry/Fährplan.csv", "never", job.ExistsRefuse), func(context.Context) error {
			t.Error("nothing may be offered")
			return nil
		})
	f := fault.Of(err)
	assert.Contains(t, f.Error(), "there is a file 2026-11/Grey Skerry/Fährplan.csv already")
	assert.Equal(t, []any{fault.Lasting, fault.Recipient, false}, []any{f.Class, f.Scope, res.Offered})
	looked(t, p)
}

func TestFilesOfOneNameThatComeAtOnceAllArrive(t *testing.T) {
	for name, p := range places(t) {
		t.Run(name, func(t *testing.T) { crowd(t, p.open(t), p) })
	}
}

// simple stands before a store of objects as one that does not know conditions
// (RFC 9110 section 13): it leaves them out, or says that it cannot.
func simple(t *testing.T, p place, says bool) place {
	t.Helper()
	var s map[string]any
	require.NoError(t, json.Unmarshal(p.place.Settings, &s))
	inner, err := url.Parse(s["url"].(string))
	require.NoError(t, err)
	through := httputil.NewSingleHostReverseProxy(inner)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if says && r.Header.Get("If-None-Match") != "" {
			w.WriteHeader(http.StatusNotImplemented)
			_, _ = io.WriteString(w,
				"<Error><Code>NotImplemented</Code><Message>A header is not implemented.</Message></Error>")
			return
		}
		r.Header.Del("If-None-Match")
		through.ServeHTTP(w, r)
	}))
	t.Cleanup(front.Close)
	s["url"] = front.URL
	p.place = settings(t, p.place.Protocol, p.place.Secret, s)
	p.allowed = deliver.Allowed{Guard: outgoing.New([]string{front.Listener.Addr().String()})}
	return p
}

func TestStoresThatReplaceGetFilesOfOneNameOneAfterAnother(t *testing.T) {
	const told = "it does not refuse to replace an object (If-None-Match): files of one name go there one after another"
	all := places(t)
	known, err := all["s3"].open(t).Test(context.Background())
	require.NoError(t, err)
	assert.NotContains(t, known.Said, told)

	p := simple(t, all["s3"], true)
	crowd(t, p.open(t), p) // it says so at the first file
	p = simple(t, places(t)["s3"], false)
	d := p.open(t)
	tested, err := d.Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, tested.Said, told)
	crowd(t, d, p)
}

// crowd hands files of one name over at once, each on a line of its own.
func crowd(t *testing.T, d deliver.Destination, p place) {
	t.Helper()
	const writers = 8
	var one sync.Mutex
	var all sync.WaitGroup
	var offers atomic.Int32
	got, errs := make([]deliver.Result, writers), make([]error, writers)
	ready := make(chan struct{})
	for i := range writers {
		all.Go(func() {
			to := "crowd/tides.csv"
			if i == 0 {
				to = "crowd/tides (2).csv" // what another may come to as well
			}
			h := handover(int64(100+i), to, fmt.Sprintf("writer %d", i), job.ExistsNumber)
			h.Alone = func(_ context.Context, name string) (func(), error) {
				assert.Equal(t, "crowd/tides.csv", name)
				one.Lock()
				return one.Unlock, nil
			}
			ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
			defer stop()
			line, err := d.Open(ctx)
			if errs[i] = err; err != nil {
				return
			}
			defer line.Close()
			<-ready
			first := true
			got[i], errs[i] = line.Send(ctx, h, func(context.Context) error {
				if first { // all have found a name by then, and for most it is the same
					first = false
					offers.Add(1)
					for n := 0; n < 20 && offers.Load() < writers; n++ {
						time.Sleep(5 * time.Millisecond)
					}
				}
				return nil
			})
		})
	}
	close(ready)
	all.Wait()
	seen := map[string]bool{}
	for i := range writers {
		require.NoError(t, errs[i])
		to := got[i].To
		switch {
		case to == "" && i == 0:
			to = "crowd/tides (2).csv"
		case to == "":
			to = "crowd/tides.csv"
		}
		assert.False(t, seen[to], "%s was told twice", to)
		seen[to] = true
		text, _ := p.content(t, to)
		assert.Equal(t, fmt.Sprintf("writer %d", i), text, to)
	}
}

func TestAnOfferThatFailsLeavesNoFile(t *testing.T) {
	for name, p := range places(t) {
		t.Run(name, func(t *testing.T) {
			line, err := p.open(t).Open(context.Background())
			require.NoError(t, err)
			defer line.Close()
			res, err := line.Send(context.Background(), handover(1, "a.csv", "text", job.ExistsNumber),
				func(context.Context) error { return assert.AnError })
			require.ErrorIs(t, err, assert.AnError)
			assert.False(t, res.Offered)
			_, there := p.content(t, "a.csv")
			assert.False(t, there)
			_, there = p.content(t, ".ironbell-1-0.part")
			assert.False(t, there, "nothing half stays behind")
		})
	}
}

func TestATestWritesReadsBackAndRemoves(t *testing.T) {
	for name, p := range places(t) {
		t.Run(name, func(t *testing.T) {
			tested, err := p.open(t).Test(context.Background())
			require.NoError(t, err)
			said := strings.Join(tested.Said, "; ")
			assert.Regexp(t,
				`(wrote|put) .*\.ironbell-test-\w+\.txt, 34 bytes; (read|got) it back, the same; removed it`, said)
			assert.Empty(t, tested.Pin, "what is pinned stays")
		})
	}
}

func TestPlacesThatFailSayWhatIsWrong(t *testing.T) {
	type want struct {
		class fault.Class
		scope fault.Scope
		text  string
	}
	cases := map[gate.Mode]map[string]want{
		gate.Away: {
			"sftp":   {fault.Passing, fault.Destination, "connection refused"},
			"ftp":    {fault.Passing, fault.Destination, "connection refused"},
			"webdav": {fault.Passing, fault.Destination, "connection refused"},
			"s3":     {fault.Passing, fault.Destination, "connection refused"},
		},
		gate.Expired: {
			"sftp":   {fault.Lasting, fault.Destination, "refused to sign us in"},
			"ftp":    {fault.Lasting, fault.Destination, "530"},
			"webdav": {fault.Lasting, fault.Destination, "401"},
			"s3":     {fault.Lasting, fault.Destination, "InvalidAccessKeyId"},
		},
		gate.Refuse: {
			"sftp": {fault.Lasting, fault.Recipient, "permission"}, "ftp": {fault.Lasting, fault.Recipient, "550"},
			"webdav": {fault.Lasting, fault.Recipient, "403"}, "s3": {fault.Lasting, fault.Recipient, "AccessDenied"},
		},
		gate.Full: {
			"sftp": {fault.Passing, fault.Recipient, "SSH_FX_FAILURE"},
			"ftp":  {fault.Passing, fault.Destination, "552"}, "webdav": {fault.Passing, fault.Destination, "507"},
		},
		gate.Busy: {"s3": {fault.Passing, fault.Destination, "SlowDown"}},
	}
	for name, p := range places(t) {
		for mode, wants := range cases {
			w, ok := wants[name]
			if !ok {
				continue
			}
			t.Run(name+" "+string(mode), func(t *testing.T) {
				require.NoError(t, p.server.Behave(gate.Behaviour{Mode: mode}))
				defer func() { require.NoError(t, p.server.Behave(gate.Behaviour{Mode: gate.Accept})) }()
				res, err := put(t, p.open(t), handover(1, "a.csv", strings.Repeat("text", 10_000), job.ExistsOverwrite))
				require.Error(t, err)
				f := fault.Of(err)
				assert.Contains(t, f.Error(), w.text)
				assert.Equal(t, []any{w.class, w.scope}, []any{f.Class, f.Scope}, f)
				assert.True(t, !res.Offered || res.Answered, "it is known that nothing was accepted")
				_, there := p.content(t, "a.csv")
				assert.False(t, there)
			})
		}
	}
}

func TestALineThatBreaksWhileAFileGetsItsNameHasNoAnswer(t *testing.T) {
	for name, p := range places(t) {
		if p.server == nil {
			continue
		}
		t.Run(name, func(t *testing.T) {
			require.NoError(t, p.server.Behave(gate.Behaviour{Mode: gate.Drop}))
			res, err := put(t, p.open(t), handover(1, "a.csv", "text", job.ExistsNumber))
			require.Error(t, err)
			assert.True(t, res.Offered)
			assert.False(t, res.Answered, "nobody knows: %v", err)
			got, _ := p.content(t, "a.csv")
			assert.Equal(t, "text", got, "and it had arrived")
		})
	}
}

func TestAnotherHostKeyIsRefused(t *testing.T) {
	p := places(t)["sftp"]
	server, ok := p.server.(*files.SFTP)
	require.True(t, ok)
	fresh := p.place
	fresh.Pin = ""
	d, err := deliver.Open(fresh, deliver.Allowed{})
	require.NoError(t, err)
	_, err = put(t, d, handover(1, "a.csv", "x", job.ExistsNumber))
	assert.ErrorContains(t, err, "was never confirmed")
	require.NoError(t, server.NewKey())
	_, err = put(t, p.open(t), handover(1, "a.csv", "x", job.ExistsNumber))
	f := fault.Of(err)
	assert.Contains(t, f.Error(), "and the one that was pinned is "+p.place.Pin)
	assert.Equal(t, []any{fault.Lasting, fault.Destination}, []any{f.Class, f.Scope})
	_, err = p.open(t).Test(context.Background())
	assert.ErrorContains(t, err, "the one that was pinned", "a test does not take another key for granted")
}

func TestAFolderThatVanished(t *testing.T) {
	p := places(t)["folder"]
	var s deliver.FolderSettings
	require.NoError(t, json.Unmarshal(p.place.Settings, &s))
	line, err := p.open(t).Open(context.Background())
	require.NoError(t, err)
	defer line.Close()
	require.NoError(t, os.RemoveAll(s.Folder))
	_, err = line.Send(context.Background(), handover(1, "a.csv", "x", job.ExistsNumber),
		func(context.Context) error { return nil })
	f := fault.Of(err)
	assert.Contains(t, f.Error(), "is not there any more")
	assert.Equal(t, []any{fault.Lasting, fault.Destination}, []any{f.Class, f.Scope})
	assert.False(t, line.Fit())
}

func TestNothingLeavesItsRoot(t *testing.T) {
	for name, p := range places(t) {
		d := p.open(t)
		for _, to := range []string{
			"../a.csv", "/etc/a.csv", "a/../../b.csv", "..", "", "a\\b.csv", "a\nb.csv",
			"./a.csv",
		} {
			_, err := put(t, d, handover(1, to, "x", job.ExistsOverwrite))
			require.Error(t, err, "%s %q", name, to)
			assert.Equal(t, fault.Lasting, fault.Of(err).Class)
		}
	}
	outside, inside := t.TempDir(), t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(inside, "way out")))
	d, err := deliver.Open(settings(t, "folder", "", map[string]any{"folder": inside}),
		deliver.Allowed{Folders: []string{inside}})
	require.NoError(t, err)
	_, err = put(t, d, handover(1, "way out/a.csv", "x", job.ExistsOverwrite))
	require.Error(t, err, "a link does not lead out either")
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, left)
	_, err = deliver.Open(settings(t, "folder", "", map[string]any{"folder": "/srv/other"}),
		deliver.Allowed{Folders: []string{inside}})
	assert.Contains(t, fault.Of(err).Advice, "-folders")
}

func TestAPrinterPrintsAndSaysWhyNot(t *testing.T) {
	printer, err := web.StartPrinter("printer", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(printer.Close)
	d, err := deliver.Open(settings(t, "ipp", "", map[string]any{
		"url": "ipp://" + printer.Address() + "/ipp/print", "copies": 2,
	}), deliver.Allowed{Guard: outgoing.New([]string{printer.Address()})})
	require.NoError(t, err)
	tested, err := d.Test(context.Background())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(tested.Said, "; "),
		"it is Stand-in Printer, idle; it prints application/pdf, image/png, text/plain, application/octet-stream; "+
			"printed nothing")
	page := bytes.Repeat([]byte("%PDF page "), 10_000)
	h := handover(1, "Day sheet.pdf", string(page), "")
	h.MediaType = "application/pdf"
	res, err := put(t, d, h)
	require.NoError(t, err)
	assert.Equal(t, "the printer took it as its job 1: printed (job-completed-successfully)", res.Answer)
	require.Len(t, printer.All(), 1)
	got := printer.All()[0]
	assert.Equal(t, []any{"Day sheet.pdf", "application/pdf", 2}, []any{got.Name, got.Format, got.Copies})
	assert.Equal(t, page, got.Content)

	h = handover(2, "rows.csv", "a;b", "")
	_, err = put(t, d, h)
	assert.ErrorContains(t, err, "0x040a")
	assert.Equal(t, fault.Message, fault.Of(err).Scope)
	for mode, want := range map[gate.Mode][]any{
		gate.Busy: {fault.Passing, fault.Destination}, gate.Refuse: {fault.Lasting, fault.Destination},
		gate.Expired: {fault.Lasting, fault.Destination},
	} {
		require.NoError(t, printer.Behave(gate.Behaviour{Mode: mode}))
		h.Content, h.MediaType = strings.NewReader("a;b"), "text/plain"
		res, err := put(t, d, h)
		f := fault.Of(err)
		assert.Equal(t, want, []any{f.Class, f.Scope}, "%s: %v", mode, err)
		assert.True(t, res.Answered)
	}
	require.NoError(t, printer.Behave(gate.Behaviour{Mode: gate.Drop}))
	h.Content = strings.NewReader("a;b")
	res, err = put(t, d, h)
	require.Error(t, err)
	assert.True(t, res.Offered && !res.Answered)
}

func TestAReceiverGetsSignedRequestsOnce(t *testing.T) {
	receiver, err := web.StartReceiver("receiver", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(receiver.Close)
	allowed := deliver.Allowed{Guard: outgoing.New([]string{receiver.Address()})}
	d, err := deliver.Open(settings(t, "http", "key of the ledger office", map[string]any{
		"url": "http://" + receiver.Address() + "/in", "method": "PUT",
	}), allowed)
	require.NoError(t, err)
	for range 2 { // a retry of one delivery is one to the other side
		res, err := put(t, d, handover(1, "2026/Fährplan.csv", "a;b", ""))
		require.NoError(t, err)
		assert.Equal(t, "202 Accepted taken", res.Answer)
	}
	all := receiver.All()
	require.Len(t, all, 1)
	assert.Equal(t, []string{"PUT", "/in/2026/Fährplan.csv", "a;b"}, []string{all[0].Method, all[0].Path, all[0].Body})
	assert.Equal(t, `"m1@tarnwick.example"`, all[0].Headers["Idempotency-Key"])
	assert.True(t, strings.HasPrefix(all[0].Headers["Webhook-Signature"], "v1,"))
	_, err = put(t, d, handover(2, "empty.csv", "", ""))
	require.NoError(t, err, "a file without content is a file")
	for mode, want := range map[gate.Mode][]any{
		gate.Busy: {fault.Passing, fault.Destination}, gate.Refuse: {fault.Lasting, fault.Recipient},
		gate.Expired: {fault.Lasting, fault.Destination},
	} {
		require.NoError(t, receiver.Behave(gate.Behaviour{Mode: mode}))
		_, err := put(t, d, handover(3, "a.csv", "x", ""))
		f := fault.Of(err)
		assert.Equal(t, want, []any{f.Class, f.Scope}, "%s: %v", mode, err)
	}
	require.NoError(t, receiver.Behave(gate.Behaviour{Mode: gate.Drop}))
	res, err := put(t, d, handover(4, "a.csv", "x", ""))
	require.Error(t, err)
	assert.True(t, res.Offered && !res.Answered)
	tested, err := d.Test(context.Background())
	_ = tested
	assert.Error(t, err)
}

func TestAReceiverIsSignedInToByAHeader(t *testing.T) {
	receiver, err := web.StartReceiver("receiver", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(receiver.Close)
	allowed := deliver.Allowed{Guard: outgoing.New([]string{receiver.Address()})}
	open := func(password string, headers map[string]string) (deliver.Destination, error) {
		return deliver.Open(settings(t, "http", password, map[string]any{
			"url": "http://" + receiver.Address() + "/in", "headers": headers,
		}), allowed)
	}
	d, err := open("harbour-lantern", map[string]string{"Authorization": "Bearer {password}", "X-Port": "GS"})
	require.NoError(t, err)
	_, err = put(t, d, handover(1, "a.csv", "x", ""))
	require.NoError(t, err)
	got := receiver.All()[0].Headers
	assert.Equal(t, []string{"Bearer harbour-lantern", "GS"}, []string{got["Authorization"], got["X-Port"]})
	assert.NotContains(t, got, "Webhook-Signature", "what signs in signs nothing")

	// Each header is looked at, whichever comes first.
	for range 20 {
		_, err = open("harbour-lantern", map[string]string{"Authorization": "Bearer {password}", "X Port": "GS"})
		require.ErrorContains(t, err, `"X Port" is no header`)
	}
	_, err = open("two\nlines", map[string]string{"Authorization": "Bearer {password}"})
	assert.ErrorContains(t, err, "more than one line")
	_, err = open("a key\nof two lines", map[string]string{"X-Port": "GS"})
	assert.NoError(t, err, "which stands in no header, and signs")
}

// What is sent on is not followed: neither the file nor what signs in reaches another
// address, and a page for signing in is no success.
func TestAReceiverThatSendsOnIsNotFollowed(t *testing.T) {
	var reached atomic.Int64
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached.Add(1) }))
	t.Cleanup(other.Close)
	for _, status := range []int{301, 302, 303, 307, 308} {
		first := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, other.URL+"/sign-in?token=harbour-lantern", status)
		}))
		t.Cleanup(first.Close)
		allowed := deliver.Allowed{Guard: outgoing.New([]string{
			first.Listener.Addr().String(),
			other.Listener.Addr().String(),
		})}
		d, err := deliver.Open(settings(t, "http", "harbour-lantern", map[string]any{
			"url": first.URL + "/in", "headers": map[string]string{"X-Key": "{password}"},
		}), allowed)
		require.NoError(t, err)
		_, err = put(t, d, handover(1, "a.csv", "x", ""))
		require.ErrorContains(t, err, "sends on to "+other.URL+"/sign-in, where nothing is sent")
		assert.NotContains(t, err.Error(), "harbour-lantern")
		assert.Equal(t, fault.Lasting, fault.Of(err).Class)
		_, err = d.Test(context.Background())
		require.ErrorContains(t, err, "sends on to")
	}
	assert.Zero(t, reached.Load())
}

// Some servers take a password only as the answer to a question.
func TestAPasswordIsTheAnswerToAQuestion(t *testing.T) {
	dir := t.TempDir()
	server, err := files.StartSFTP("sftp", "127.0.0.1:0", dir, "ironbell", "slipway")
	require.NoError(t, err)
	t.Cleanup(server.Close)
	host, port := hostPort(t, server.Address())
	for _, mode := range []gate.Mode{gate.Asks, gate.Accept} {
		require.NoError(t, server.Behave(gate.Behaviour{Mode: mode}))
		for secret, good := range map[string]bool{"slipway": true, "wrong": false} {
			d, err := deliver.Open(settings(t, "sftp", secret, map[string]any{
				"host": host, "port": port, "user": "ironbell",
			}), deliver.Allowed{})
			require.NoError(t, err)
			_, err = d.Test(context.Background())
			if good {
				require.NoError(t, err)
				continue
			}
			f := fault.Of(err)
			assert.Equal(t, []any{fault.Lasting, fault.Destination}, []any{f.Class, f.Scope}, "%v", err)
			assert.Contains(t, f.Error(), "the server refused to sign us in by")
			assert.Contains(t, f.Advice, "Check user and password")
		}
	}
}

// A line that breaks leaves a part of a file behind, which the next line removes: of this
// node, or of another one that tries again.
func TestPartsOfBrokenLinesAreRemoved(t *testing.T) {
	for name, p := range places(t) {
		if p.server == nil || name == "s3" { // an object is whole or not there
			continue
		}
		t.Run(name, func(t *testing.T) {
			d := p.open(t)
			left := func(id int64, try int) bool {
				_, there := p.content(t, fmt.Sprintf("in/.ironbell-%d-%d.part", id, try))
				return there
			}
			_, err := put(t, d, handover(8, "in/first.csv", "x", "overwrite")) // so that its folder is there
			require.NoError(t, err)
			broken := 0
			for id := range int64(3) {
				h := handover(id+1, "in/day sheet.csv", strings.Repeat("code\n", 1<<20), "overwrite")
				h.Try, h.Content = 1, &breaking{ReadSeeker: h.Content, cut: p.server.(interface{ Break() }).Break}
				_, err := put(t, d, h)
				require.Error(t, err)
				if left(id+1, 1) {
					broken++
				}
			}
			require.Positive(t, broken, "something was left behind")
			another := p.open(t) // as another node has it
			h := handover(1, "in/day sheet.csv", "code\nPEN\n", "overwrite")
			h.Try = 2
			_, err = put(t, another, h)
			require.NoError(t, err)
			assert.False(t, left(1, 1), "the try before left nothing")
			_, err = put(t, d, handover(9, "in/other.csv", "x", "overwrite"))
			require.NoError(t, err)
			for id := range int64(3) {
				assert.False(t, left(id+1, 1), "part %d", id+1)
			}
		})
	}
}

// breaking breaks the line from the middle of a file on: a server that has not taken it up yet
// has nothing to break.
type breaking struct {
	io.ReadSeeker
	read int
	cut  func()
}

// Read implements io.Reader.
func (b *breaking) Read(p []byte) (int, error) {
	n, err := b.ReadSeeker.Read(p[:min(len(p), 64<<10)])
	if b.read += n; b.read > 2<<20 {
		b.cut()
		time.Sleep(2 * time.Millisecond)
	}
	return n, err
}
