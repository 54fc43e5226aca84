// Package deliver hands messages and files over: one file for each protocol. A
// way to hand over knows nothing of our records; it is told when to commit the
// offer and gives back what the other side said.
package deliver

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/outgoing"
)

// Handover is what is handed over to one recipient or to one place.
type Handover struct {
	ID        int64         // of the delivery: names temporary files, and repeats for those who can tell them
	To        string        // a mail address; or a path below the place's root, with / between
	From      string        // of a mail: the envelope's sender, which names the delivery, so that a bounce finds it
	MessageID string        // of a mail: with its angle brackets
	Headers   []string      // of a mail: lines that this recipient's copy has beside the others
	Name      string        // of a file
	MediaType string        // of a file
	Size      int64         // in bytes
	SHA256    string        // in hexadecimal digits
	Try       int           // which try it is; from 1 on
	IfExists  job.IfExists  // of a file
	Stamp     string        // what goes into the name of a file that is to be stamped
	Content   io.ReadSeeker // at its start

	// Alone waits until nobody else, on any node, is alone with this name at the
	// destination, and keeps it so until release is called. Nil where nobody else
	// hands over.
	Alone func(ctx context.Context, name string) (release func(), err error)
}

// numbered is what freeName puts behind a name that is taken.
var numbered = regexp.MustCompile(`( \(\d+\))+(\.[^./]*)?$`)

// alone keeps others from the name, and from all that freeName would make of it.
func (h Handover) alone(ctx context.Context) (release func(), err error) {
	if h.Alone == nil {
		return func() {}, nil
	}
	return h.Alone(ctx, numbered.ReplaceAllString(h.To, "$2"))
}

// Line is an open line to a destination. It belongs to one goroutine.
type Line interface {
	// Send hands over. It calls offer just before the other side could accept,
	// and stops when offer fails. It may call it again, to see whether it still
	// holds. When the result is offered and not answered, nobody knows whether it
	// was accepted.
	Send(ctx context.Context, h Handover, offer func(context.Context) error) (Result, error)
	// Fit tells whether a line that was idle may be used again.
	Fit() bool
	Close()
}

// Result is how a hand-over went.
type Result struct {
	Answer   string // what the other side said at the end
	To       string // where a file went in the end, when that is not where it was meant to go
	Offered  bool   // the other side may have accepted
	Answered bool   // and it has said whether it did
	Taken    string // what it calls what it took and is not done with; see Asker
}

// Asker is a destination that takes things before they are done, and can be asked
// about them.
type Asker interface {
	// Ask tells how far it is with what it took. The error is about the way there.
	Ask(ctx context.Context, taken string) (Progress, error)
}

// Progress is how far a destination is with what it took.
type Progress struct {
	Done   bool
	Failed *fault.Fault // why it will not be done
	Said   string       // in its own words
}

// Destination is a place that something can be handed to. It may be used by
// several goroutines.
type Destination interface {
	// Open opens a line, which lives until ctx ends or it is closed.
	Open(ctx context.Context) (Line, error)
	// Test tries the place and tells what the other side answered to each step.
	Test(ctx context.Context) (Tested, error)
}

// Tested is what came out of a test.
type Tested struct {
	Said []string // what was done and answered, step by step
	Pin  string   // a host key that was seen for the first time, to be kept
}

// Mailer is a destination that takes mails.
type Mailer interface {
	Destination
	// From is the address that stands as sender in a mail.
	From() string
	// ReturnPath is the envelope's sender with a tag that names the delivery.
	ReturnPath(tag string) string
	// Largest is the size of the largest message that the server takes, in bytes;
	// 0 when it is not known.
	Largest() int64
	// Pause is the least time between two messages; 0 for none.
	Pause() time.Duration
}

// Caller is a destination that takes calls.
type Caller interface {
	// Call sends one request and gives what the other side answered.
	Call(ctx context.Context, c Call) (string, error)
}

// Signer is a destination that may sign what it is given, so that the other side can tell who sent it.
type Signer interface {
	// Signs tells whether it has a key to sign with, and lacks whether it would sign if it had one.
	Signs() (signs, lacks bool)
}

// WhyUnsigned tells why nothing that must be signed can go to a destination; it is empty when it can. May is true when it
// can as soon as the destination has its key.
func WhyUnsigned(d Destination, name string) (why string, may bool) {
	signs, lacks := false, false
	if signer, ok := d.(Signer); ok {
		signs, lacks = signer.Signs()
	}
	switch {
	case signs:
		return "", true
	case lacks:
		return fmt.Sprintf("the destination %q has no key to sign with; give it one as its password", name), true
	}
	return fmt.Sprintf("the destination %q signs nothing: events go to an address of the protocol http whose password is "+
		"a key, and no header says {password}", name), false
}

// Place is what is known of a destination.
type Place struct {
	Protocol string
	Name     string
	Settings json.RawMessage
	Secret   string // password or key
	Pin      string // the host key that it showed at its first test
}

// read reads the settings into to.
func (p Place) read(to any) error {
	if err := json.Unmarshal(p.Settings, to); err != nil {
		return fault.Wrap(err, fault.Lasting, fault.Destination, p.opening(), "Save its settings again.")
	}
	return nil
}

func (p Place) opening() string { return fmt.Sprintf("open destination %q", p.Name) }

// wrong says what is wrong with the settings.
func (p Place) wrong(sentence, advice string) error {
	return fault.New(fault.Destination, p.opening(), sentence, advice)
}

// Allowed is what operators allow on this machine.
type Allowed struct {
	Folders []string // in which, or below which, folders may lie
	Guard   *outgoing.Guard
}

// Kind tells what goes to the destinations of a protocol.
type Kind string

// The kinds.
const (
	Mails Kind = "mail"
	Files Kind = "files"
)

// protocol is one way to hand over.
type protocol struct {
	title    string // for people
	kind     Kind
	settings any          // of the type that its settings are read into
	secret   *job.Setting // what its password is; nil when it has none
	open     func(p Place, a Allowed) (Destination, error)
}

// protocols is the table of them.
var protocols = map[string]protocol{
	"smtp": {
		"Mail server (SMTP)", Mails,
		MailSettings{},
		password("of the sign-in name; for xoauth2 the token, or the client's secret"), openMail,
	},
	"http": {
		"HTTP address", Files,
		HTTPSettings{},
		password("key that requests are signed with (Standard Webhooks), or what stands for {password} in a header"),
		openHTTP,
	},
	"folder": {"Folder on this machine", Files, FolderSettings{}, nil, openFolder},
	"smb":    {"Shared folder (SMB 2 or 3)", Files, SMBSettings{}, password("of the sign-in name"), openSMB},
	"ftp":    {"FTP server", Files, FTPSettings{}, password("of the sign-in name"), openFTP},
	"sftp":   {"SFTP server", Files, SFTPSettings{}, key("of the sign-in name, or a private key in PEM"), openSFTP},
	"webdav": {"WebDAV folder", Files, WebDAVSettings{}, password("of the sign-in name"), openWebDAV},
	"s3":     {"Object store (S3)", Files, ObjectSettings{}, password("secret of the access key"), openObjects},
	"ipp":    {"Printer (IPP)", Files, PrinterSettings{}, password("of the sign-in name"), openPrinter},
}

// Protocols lists the names of the protocols.
func Protocols() []string { return slices.Sorted(maps.Keys(protocols)) }

// KindOf tells what goes to the destinations of a protocol.
func KindOf(name string) Kind { return protocols[name].kind }

// Open reads the settings of a destination.
func Open(p Place, a Allowed) (Destination, error) {
	way, ok := protocols[p.Protocol]
	if !ok {
		return nil,
			p.wrong(fmt.Sprintf("there is no protocol %q; there are %s", p.Protocol, strings.Join(Protocols(), ", ")),
				"")
	}
	if a.Guard == nil {
		a.Guard = outgoing.New(nil)
	}
	d, err := way.open(p, a)
	if err != nil {
		return nil, fault.NewBlotter(p.Secret).Err(err)
	}
	if l, ok := d.(Looker); ok && !slices.Contains([]Taking{TakingNo, TakingCopy, TakingMove}, l.Taking()) {
		return nil, p.wrong(fmt.Sprintf("there is no taking %q", l.Taking()), "Choose no, copy or move.")
	}
	return hush(d, p.Secret), nil
}

// requester is a destination whose lines are made by the first request.
type requester interface{ byRequest() }

func (*httpPlace) byRequest()    {}
func (*webdavPlace) byRequest()  {}
func (*objectPlace) byRequest()  {}
func (*printerPlace) byRequest() {}

// prober is a destination that does more of what a hand-over does than to open a line,
// as far as it harms nothing.
type prober interface {
	probe(ctx context.Context) error
}

// Probe looks whether a destination works: whether a line can be had, and where
// one is only made by the first request, whether a test passes.
func Probe(ctx context.Context, d Destination) error {
	if p, ok := d.(prober); ok {
		return p.probe(ctx)
	}
	if _, ok := d.(requester); ok {
		_, err := d.Test(ctx)
		return err
	}
	l, err := d.Open(ctx)
	if err == nil {
		l.Close()
	}
	return err
}
