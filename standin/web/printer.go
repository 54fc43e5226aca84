package web

import (
	"bytes"
	"encoding/binary"
	"io"
	"net/http"
	"sync"
	"time"

	"ironbell/standin/gate"
)

// Printed is a document that was printed.
type Printed struct {
	At      time.Time `json:"at"`
	Job     int       `json:"job"`
	Name    string    `json:"name"`
	Format  string    `json:"format"`
	User    string    `json:"user"`
	Copies  int       `json:"copies"`
	Size    int       `json:"size"`
	Content []byte    `json:"-"`
	Mode    gate.Mode `json:"mode"` // in which it was taken
}

const maxPrinted = 500

// Printer speaks the Internet Printing Protocol (RFC 8010, RFC 8011) and keeps
// its pages. It prints PDF, PNG and plain text, and what is sent without saying
// what it is.
type Printer struct {
	*gate.Gate
	mu  sync.Mutex
	all []Printed
}

// StartPrinter starts a printer.
func StartPrinter(name, address string) (*Printer, error) {
	p := &Printer{}
	var err error
	p.Gate, err = gate.Open(name, address, serve(http.HandlerFunc(p.take)))
	return p, err
}

// Modes are the ways in which it can behave.
func (p *Printer) Modes() []gate.Mode {
	return []gate.Mode{
		gate.Accept, gate.Slow, gate.Refuse, gate.Busy, gate.Expired, gate.Drop, gate.Hold, gate.Abort,
		gate.Closed, gate.Away,
	}
}

// All lists what was printed, the oldest first.
func (p *Printer) All() []Printed {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]Printed{}, p.all...)
}

// Status codes and operations (RFC 8011 appendix B and section 5.4.15).
const (
	printJob          = 0x0002
	getJob            = 0x0009
	getJobs           = 0x000A
	getPrinter        = 0x000B
	statusOK          = 0x0000
	statusBad         = 0x0400
	statusForbidden   = 0x0401
	statusNoFormat    = 0x040A
	statusNoOperation = 0x0501
	statusClosed      = 0x0506
	statusBusy        = 0x0507
)

func (p *Printer) take(w http.ResponseWriter, q *http.Request) {
	b := p.Behaviour()
	raw, err := io.ReadAll(io.LimitReader(q.Body, 64<<20))
	if err != nil || len(raw) < 9 || q.Header.Get("Content-Type") != "application/ipp" {
		http.Error(w, "This is a printer.", http.StatusBadRequest)
		return
	}
	if b.Mode == gate.Expired {
		http.Error(w, "Who are you?", http.StatusUnauthorized)
		return
	}
	attributes, document, ok := readRequest(raw[8:])
	operation := int(binary.BigEndian.Uint16(raw[2:]))
	status, extra := statusOK, []byte{}
	switch {
	case !ok:
		status = statusBad
	case operation == getPrinter:
		extra = printerAttributes(b.Mode != gate.Closed)
	case operation == getJob, operation == getJobs:
		extra = p.jobs(operation, attributes)
	case operation != printJob:
		status = statusNoOperation
	case b.Mode == gate.Closed:
		status = statusClosed
	case b.Mode == gate.Refuse:
		status = statusForbidden
	case b.Mode == gate.Busy:
		status = statusBusy
	default:
		b.Pause()
		status, extra = p.print(attributes, document, b.Mode)
	}
	if b.Mode == gate.Drop && operation == printJob {
		p.Break()
		return
	}
	var out bytes.Buffer
	out.Write([]byte{1, 1})
	out.Write(binary.BigEndian.AppendUint16(nil, uint16(status)))
	out.Write(raw[4:8])
	out.WriteByte(0x01)
	attribute(&out, 0x47, "attributes-charset", []byte("utf-8"))
	attribute(&out, 0x48, "attributes-natural-language", []byte("en"))
	out.Write(extra)
	out.WriteByte(0x03)
	w.Header().Set("Content-Type", "application/ipp")
	_, _ = w.Write(out.Bytes()) // a client that left needs no answer
}

func (p *Printer) print(attributes map[string]string, document []byte, mode gate.Mode) (status int, extra []byte) {
	format := attributes["document-format"]
	switch format {
	case "application/pdf", "image/png", "text/plain", "application/octet-stream":
	default:
		return statusNoFormat, nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	done := Printed{
		At: time.Now(), Job: len(p.all) + 1, Name: attributes["job-name"], Format: format,
		User: attributes["requesting-user-name"], Copies: 1, Size: len(document), Content: document, Mode: mode,
	}
	if c := attributes["copies"]; len(c) == 4 {
		done.Copies = int(binary.BigEndian.Uint32([]byte(c)))
	}
	if len(p.all) < maxPrinted {
		p.all = append(p.all, done)
	}
	return statusOK, p.jobAttributes(done)
}

// jobAttributes are what is said of a job: it is printed at once, unless it came while
// the printer let jobs stand still, and still does, or broke them off.
func (p *Printer) jobAttributes(j Printed) []byte {
	state, reason := uint32(9), "job-completed-successfully"
	switch now := p.Behaviour().Mode; {
	case j.Mode == gate.Hold && now == gate.Hold:
		state, reason = 3, "printer-stopped"
	case j.Mode == gate.Abort && time.Since(j.At) < 500*time.Millisecond:
		state, reason = 5, "job-printing"
	case j.Mode == gate.Abort:
		state, reason = 8, "document-format-error"
	}
	var out bytes.Buffer
	out.WriteByte(0x02)
	attribute(&out, 0x21, "job-id", binary.BigEndian.AppendUint32(nil, uint32(j.Job))) //nolint:gosec // it is counted
	attribute(&out, 0x42, "job-name", []byte(j.Name))
	attribute(&out, 0x42, "job-originating-user-name", []byte(j.User))
	attribute(&out, 0x23, "job-state", binary.BigEndian.AppendUint32(nil, state))
	attribute(&out, 0x44, "job-state-reasons", []byte(reason))
	return out.Bytes()
}

// jobs answers those who ask for one job, or for all.
func (p *Printer) jobs(operation int, attributes map[string]string) []byte {
	var out []byte
	for _, j := range p.All() {
		if operation == getJobs || attributes["job-id"] == string(binary.BigEndian.AppendUint32(nil, uint32(j.Job))) { //nolint:gosec // it is counted
			out = append(out, p.jobAttributes(j)...)
		}
	}
	return out
}

func printerAttributes(accepting bool) []byte {
	var out bytes.Buffer
	out.WriteByte(0x04)
	attribute(&out, 0x41, "printer-make-and-model", []byte("Stand-in Printer"))
	attribute(&out, 0x23, "printer-state", binary.BigEndian.AppendUint32(nil, 3))
	attribute(&out, 0x44, "printer-state-reasons", []byte("none"))
	attribute(&out, 0x22, "printer-is-accepting-jobs", map[bool][]byte{true: {1}, false: {0}}[accepting])
	attribute(&out, 0x49, "document-format-supported", []byte("application/pdf"))
	attribute(&out, 0x49, "", []byte("image/png"))
	attribute(&out, 0x49, "", []byte("text/plain"))
	attribute(&out, 0x49, "", []byte("application/octet-stream"))
	for i, o := range []uint32{printJob, getJob, getJobs, getPrinter} {
		attribute(&out, 0x23, map[bool]string{true: "operations-supported"}[i == 0],
			binary.BigEndian.AppendUint32(nil, o))
	}
	return out.Bytes()
}

func attribute(out *bytes.Buffer, tag byte, name string, value []byte) {
	out.WriteByte(tag)
	out.Write(binary.BigEndian.AppendUint16(nil, uint16(len(name)))) //nolint:gosec // short
	out.WriteString(name)
	out.Write(binary.BigEndian.AppendUint16(nil, uint16(len(value)))) //nolint:gosec // short
	out.Write(value)
}

// readRequest reads the attributes of a request and what comes after them.
func readRequest(rest []byte) (attributes map[string]string, document []byte, ok bool) {
	attributes = map[string]string{}
	take := func() (string, bool) {
		if len(rest) < 2 {
			return "", false
		}
		n := int(binary.BigEndian.Uint16(rest))
		if len(rest) < 2+n {
			return "", false
		}
		text := string(rest[2 : 2+n])
		rest = rest[2+n:]
		return text, true
	}
	for len(rest) > 0 {
		tag := rest[0]
		rest = rest[1:]
		if tag == 0x03 {
			return attributes, rest, true
		}
		if tag < 0x10 {
			continue
		}
		name, fine := take()
		value, also := take()
		if !fine || !also {
			return attributes, nil, false
		}
		attributes[name] = value
	}
	return attributes, nil, false
}
