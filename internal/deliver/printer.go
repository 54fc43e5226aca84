package deliver

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"

	"ironbell/internal/core/fault"
	"ironbell/internal/outgoing"
	"ironbell/internal/release"
)

// PrinterSettings are the settings of a destination of the protocol ipp: a
// printer that speaks the Internet Printing Protocol (RFC 8010, RFC 8011).
type PrinterSettings struct {
	URL    string `json:"url" doc:"ipp://host/ipp/print, ipps:// or http(s)://"`
	User   string `json:"user,omitempty" doc:"sign-in name; nobody signs in when left out"`
	Copies int    `json:"copies,omitempty" doc:"1 when left out" few:"y"`
	Sides  string `json:"sides,omitempty" enum:"one-sided,two-sided-long-edge,two-sided-short-edge" doc:"the printer's own when left out" few:"y"`
	CA     string `json:"ca,omitempty" form:"block" doc:"certificates to trust, in PEM; those of the machine when left out" few:"y"`
}

type printerPlace struct {
	Place
	settings PrinterSettings
	uri      string // as the printer knows itself
	http     string // where requests go
	guard    *outgoing.Guard
	client   *http.Client
	requests atomic.Uint32
}

const maxCopies = 100

func openPrinter(p Place, a Allowed) (Destination, error) {
	t := &printerPlace{Place: p, guard: a.Guard}
	if err := p.read(&t.settings); err != nil {
		return nil, err
	}
	u, err := url.Parse(t.settings.URL)
	if err != nil || u.Host == "" {
		return nil,
			p.wrong(fmt.Sprintf("%q is no address of a printer", t.settings.URL),
				"Write it as ipp://printer.company.example/ipp/print.")
	}
	schemes := map[string]string{"ipp": "http", "ipps": "https", "http": "http", "https": "https"}
	scheme, ok := schemes[u.Scheme]
	if !ok {
		return nil,
			p.wrong(fmt.Sprintf("%q is no address of a printer", t.settings.URL), "It begins with ipp:// or ipps://.")
	}
	if u.Port() == "" && (u.Scheme == "ipp" || u.Scheme == "ipps") {
		u.Host += ":631" // RFC 3510 section 4.1
	}
	if t.settings.Copies < 0 || t.settings.Copies > maxCopies {
		return nil,
			p.wrong(fmt.Sprintf("it is to print %d copies", t.settings.Copies), fmt.Sprintf("Set 1 to %d.", maxCopies))
	}
	web, ipp := *u, *u
	web.Scheme = scheme
	ipp.Scheme = map[string]string{"http": "ipp", "https": "ipps"}[scheme]
	t.http, t.uri = web.String(), ipp.String()
	transport, err := p.transport(a.Guard, t.settings.CA)
	if err != nil {
		return nil, err
	}
	t.client = &http.Client{Transport: transport, CheckRedirect: outgoing.Stay}
	return t, nil
}

// Tags and operations (RFC 8010 section 3.5, RFC 8011 section 5.4.15).
const (
	ippOperationGroup = 0x01
	ippJobGroup       = 0x02
	ippEnd            = 0x03
	ippInteger        = 0x21
	ippEnum           = 0x23
	ippKeyword        = 0x44
	ippName           = 0x42
	ippURI            = 0x45
	ippCharset        = 0x47
	ippLanguage       = 0x48
	ippMimeType       = 0x49

	ippBoolean              = 0x22
	ippPrintJob             = 0x0002
	ippGetJobAttributes     = 0x0009
	ippGetPrinterAttributes = 0x000B
)

// ippRequest writes a request's head.
type ippRequest struct{ bytes.Buffer }

func (r *ippRequest) number(n int) {
	_ = binary.Write(&r.Buffer, binary.BigEndian, uint16(n)) //nolint:gosec // lengths of what is bounded; a buffer takes all
}

func (r *ippRequest) attribute(tag byte, name, value string) {
	if len(value) > 1023 {
		value = strings.ToValidUTF8(value[:1023], "")
	}
	_ = r.WriteByte(tag) // a buffer takes all
	r.number(len(name))
	_, _ = r.WriteString(name)
	r.number(len(value))
	_, _ = r.WriteString(value)
}

func (t *printerPlace) request(operation int) *ippRequest {
	r := &ippRequest{}
	r.number(0x0101) // version 1.1, which all of them know
	r.number(operation)
	_ = binary.Write(&r.Buffer, binary.BigEndian, t.requests.Add(1)) // a buffer takes all
	_ = r.WriteByte(ippOperationGroup)
	r.attribute(ippCharset, "attributes-charset", "utf-8")
	r.attribute(ippLanguage, "attributes-natural-language", "en")
	r.attribute(ippURI, "printer-uri", t.uri)
	user := t.settings.User
	if user == "" {
		user = "ironbell"
	}
	r.attribute(ippName, "requesting-user-name", user)
	return r
}

// ippAnswer is what came back.
type ippAnswer struct {
	status     int
	attributes map[string][]string
}

// maxIPPAnswer bounds an answer, in bytes.
const maxIPPAnswer = 1 << 20

// ask sends a request; err is about the way, not about what the printer says.
func (t *printerPlace) ask(ctx context.Context, body io.Reader, size int64, doing string) (ippAnswer, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, t.http, body)
	if err != nil {
		return ippAnswer{}, fault.Wrap(err, fault.Lasting, fault.Destination, doing, "")
	}
	r.ContentLength = size
	r.Header.Set("Content-Type", "application/ipp")
	r.Header.Set("User-Agent", release.Agent())
	if t.settings.User != "" && t.Secret != "" {
		r.SetBasicAuth(t.settings.User, t.Secret)
	}
	res, err := t.client.Do(r)
	if err != nil {
		return ippAnswer{}, t.guard.Explain(err, doing)
	}
	defer func() { _ = res.Body.Close() }() // only read from
	if res.StatusCode != http.StatusOK {
		f := refusedByStatus(t.settings.URL, res.StatusCode, doing)
		if res.StatusCode == http.StatusNotFound {
			f.Advice = "There is no printer at this path: check the url of the destination."
		}
		if f.Scope == fault.Recipient {
			f.Scope = fault.Destination
		}
		return ippAnswer{status: -1}, f
	}
	raw, err := io.ReadAll(io.LimitReader(res.Body, maxIPPAnswer))
	if err != nil {
		return ippAnswer{}, t.guard.Explain(err, doing)
	}
	a, err := readIPP(raw)
	if err != nil {
		return a,
			fault.Wrap(err, fault.Passing, fault.Destination, doing, "Check that the address is that of a printer.")
	}
	return a, nil
}

var errNoIPP = errors.New("what came back is no answer of a printer")

// readIPP reads an answer (RFC 8010 section 3.1).
func readIPP(raw []byte) (ippAnswer, error) {
	a := ippAnswer{attributes: map[string][]string{}}
	if len(raw) < 9 {
		return a, errNoIPP
	}
	a.status = int(binary.BigEndian.Uint16(raw[2:]))
	rest := raw[8:]
	take := func() ([]byte, bool) {
		if len(rest) < 2 {
			return nil, false
		}
		n := int(binary.BigEndian.Uint16(rest))
		if len(rest) < 2+n {
			return nil, false
		}
		out := rest[2 : 2+n]
		rest = rest[2+n:]
		return out, true
	}
	name := ""
	for len(rest) > 0 {
		tag := rest[0]
		rest = rest[1:]
		if tag == ippEnd {
			return a, nil
		}
		if tag < 0x10 { // the next group
			continue
		}
		n, ok := take()
		v, also := take()
		if !ok || !also {
			return a, errNoIPP
		}
		if len(n) > 0 { // a further value of the same attribute has no name
			name = string(n)
		}
		text := string(v)
		if tag == ippBoolean && len(v) == 1 {
			text = fmt.Sprint(v[0])
		}
		if (tag == ippInteger || tag == ippEnum) && len(v) == 4 {
			text = fmt.Sprint(int32(binary.BigEndian.Uint32(v))) //nolint:gosec // it is one
		}
		a.attributes[name] = append(a.attributes[name], text)
	}
	return a, errNoIPP
}

// first is the first value of an attribute.
func (a ippAnswer) first(name string) string {
	if all := a.attributes[name]; len(all) > 0 {
		return all[0]
	}
	return ""
}

// refused explains what a printer says when it does not print (RFC 8011 appendix B).
func (a ippAnswer) refused(doing string) error {
	said := fmt.Errorf("the printer answered %#04x %s", a.status, a.first("status-message"))
	switch a.status {
	case 0x0401, 0x0402, 0x0403: // forbidden, not authenticated, not authorized
		return fault.Wrap(said, fault.Lasting, fault.Destination, doing, "Check user and password of the destination.")
	case 0x0406, 0x0407: // not found, gone
		return fault.Wrap(said, fault.Lasting, fault.Destination, doing, "Check the address of the printer.")
	case 0x040A: // document format not supported
		return fault.Wrap(said, fault.Lasting, fault.Message, doing,
			"The printer cannot print this format; a PDF is the usual one.")
	case 0x0500, 0x0501, 0x0503: // internal error, operation not supported, version not supported
		return fault.Wrap(said, fault.Lasting, fault.Destination, doing, "Check that the address is that of a printer.")
	case 0x0502, 0x0504, 0x0505, 0x0506, 0x0507: // unavailable, device error, temporary, not accepting, busy
		return fault.Wrap(said, fault.Passing, fault.Destination, doing,
			"See what the printer shows: paper, jam, or switched off.")
	}
	if a.status >= 0x0500 {
		return fault.Wrap(said, fault.Passing, fault.Destination, doing, "See what the printer shows.")
	}
	return fault.Wrap(said, fault.Lasting, fault.Message, doing, "")
}

// Open implements Destination. Each print is a request of its own.
func (t *printerPlace) Open(context.Context) (Line, error) { return &printerLine{t}, nil }

type printerLine struct{ place *printerPlace }

func (l *printerLine) Fit() bool { return true }
func (l *printerLine) Close()    {}

// Send implements Line. A printer accepts at the end of the request.
func (l *printerLine) Send(ctx context.Context, h Handover, offer func(context.Context) error) (Result, error) {
	var res Result
	t := l.place
	doing := fmt.Sprintf("print %s at printer %q", h.Name, t.Name)
	if h.Size == 0 {
		return res, fault.New(fault.Message, doing, "the file is empty", "")
	}
	r := t.request(ippPrintJob)
	r.attribute(ippName, "job-name", h.Name)
	r.attribute(ippMimeType, "document-format", strings.TrimSpace(strings.Split(h.MediaType, ";")[0]))
	if t.settings.Copies > 1 || t.settings.Sides != "" {
		_ = r.WriteByte(ippJobGroup)
		if t.settings.Copies > 1 {
			r.attribute(ippInteger, "copies", string(binary.BigEndian.AppendUint32(nil, uint32(t.settings.Copies)))) //nolint:gosec // checked
		}
		if t.settings.Sides != "" {
			r.attribute(ippKeyword, "sides", t.settings.Sides)
		}
	}
	_ = r.WriteByte(ippEnd)
	body := &offering{ctx: ctx, from: h.Content, left: h.Size, offer: offer}
	head := int64(r.Len())
	a, err := t.ask(ctx, io.MultiReader(&r.Buffer, body), head+h.Size, doing)
	res.Offered = body.done
	if body.err != nil {
		return res, body.err
	}
	if err != nil {
		res.Answered = a.status == -1
		return res, err
	}
	res.Answered = true
	if a.status >= 0x0400 {
		return res, a.refused(doing)
	}
	res.Answer = fmt.Sprintf("the printer took it as its job %s", a.first("job-id"))
	p := progressOf(a)
	switch {
	case p.Failed != nil:
		return res, p.Failed
	case !p.Done && a.first("job-id") != "":
		res.Taken = a.first("job-id")
	case p.Said != "":
		res.Answer += ": " + p.Said
	}
	return res, nil
}

// progressOf reads how far a printer is with a job (RFC 8011 section 5.3.7). One that
// does not say is believed to print.
func progressOf(a ippAnswer) Progress {
	reasons := strings.Join(a.attributes["job-state-reasons"], ", ")
	if reasons == "none" {
		reasons = ""
	}
	with := func(text string) string {
		if reasons != "" {
			text += " (" + reasons + ")"
		}
		if said := a.first("job-state-message"); said != "" {
			text += ": " + said
		}
		return text
	}
	const doing = "print"
	switch a.first("job-state") {
	case "9", "":
		return Progress{Done: true, Said: with("printed")}
	case "7":
		return Progress{Failed: fault.New(fault.Message, doing, with("the job was cancelled at the printer"),
			"Ask who cancelled it, then send it again.")}
	case "8":
		return Progress{Failed: fault.New(fault.Message, doing, with("the printer aborted the job"),
			"See what the printer shows, then send it again.")}
	case "4":
		return Progress{Said: with("held at the printer")}
	case "6":
		return Progress{Said: with("stopped at the printer")}
	case "5":
		return Progress{Said: with("printing")}
	}
	return Progress{Said: with("waiting in the printer's queue")}
}

// jobGone is what a printer answers that has forgotten a job.
const jobGone = 0x0406

// Ask implements Asker.
func (t *printerPlace) Ask(ctx context.Context, taken string) (Progress, error) {
	doing := fmt.Sprintf("ask printer %q about its job %s", t.Name, taken)
	id, err := strconv.ParseUint(taken, 10, 32)
	if err != nil {
		return Progress{}, fault.Wrap(err, fault.Lasting, fault.Message, doing, "")
	}
	r := t.request(ippGetJobAttributes)
	r.attribute(ippInteger, "job-id", string(binary.BigEndian.AppendUint32(nil, uint32(id))))
	_ = r.WriteByte(ippEnd)
	a, err := t.ask(ctx, &r.Buffer, int64(r.Len()), doing)
	switch {
	case err != nil:
		return Progress{}, err
	case a.status == jobGone:
		return Progress{Said: "the printer has forgotten its job " + taken}, nil
	case a.status >= 0x0400:
		return Progress{}, a.refused(doing)
	case a.first("job-state") == "":
		return Progress{Said: "the printer says nothing of its job " + taken}, nil
	}
	return progressOf(a), nil
}

// probe looks whether the printer takes jobs.
func (t *printerPlace) probe(ctx context.Context) error {
	a, err := t.attributes(ctx)
	if err != nil {
		return err
	}
	if a.first("printer-is-accepting-jobs") == "0" {
		return fault.Wrap(errors.New("the printer takes no jobs"), fault.Passing, fault.Destination,
			fmt.Sprintf("look at printer %q", t.Name), "Let its queue take jobs again.")
	}
	return nil
}

// attributes asks the printer for itself.
func (t *printerPlace) attributes(ctx context.Context) (ippAnswer, error) {
	doing := fmt.Sprintf("ask printer %q", t.Name)
	r := t.request(ippGetPrinterAttributes)
	r.attribute(ippKeyword, "requested-attributes", "all")
	_ = r.WriteByte(ippEnd)
	a, err := t.ask(ctx, &r.Buffer, int64(r.Len()), doing)
	if err == nil && a.status >= 0x0400 {
		err = a.refused(doing)
	}
	return a, err
}

// Test implements Destination. It prints nothing: it asks the printer for itself.
func (t *printerPlace) Test(ctx context.Context) (Tested, error) {
	a, err := t.attributes(ctx)
	if err != nil {
		return Tested{}, err
	}
	if a.first("printer-is-accepting-jobs") == "0" {
		return Tested{Said: []string{"reached " + t.uri}}, t.probe(ctx)
	}
	state := map[string]string{"3": "idle", "4": "printing", "5": "stopped"}[a.first("printer-state")]
	said := []string{"reached " + t.uri, fmt.Sprintf("it is %s, %s", a.first("printer-make-and-model"), state)}
	if reasons := a.attributes["printer-state-reasons"]; len(reasons) > 0 && reasons[0] != "none" {
		said = append(said, "it says "+strings.Join(reasons, ", "))
	}
	if formats := a.attributes["document-format-supported"]; len(formats) > 0 {
		said = append(said, "it prints "+strings.Join(formats, ", "))
	}
	return Tested{Said: append(said, "printed nothing")}, nil
}
