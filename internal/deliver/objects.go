package deliver

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strings"
	"sync/atomic"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/outgoing"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// ObjectSettings are the settings of a destination of the protocol s3: a store
// of objects that speaks its API. Its password is the secret key.
type ObjectSettings struct {
	URL    string `json:"url" doc:"of the store, without the bucket"`
	Bucket string `json:"bucket" doc:"that the objects go into"`
	Prefix string `json:"prefix,omitempty" doc:"what all names begin with"`
	Region string `json:"region,omitempty" doc:"us-east-1 when left out" few:"y"`
	User   string `json:"user" doc:"id of the access key"`
	CA     string `json:"ca,omitempty" form:"block" doc:"certificates to trust, in PEM; those of the machine when left out" few:"y"`
	FileTaking
}

type objectPlace struct {
	Place
	settings  ObjectSettings
	endpoint  *url.URL
	guard     *outgoing.Guard
	transport *http.Transport
	replaces  atomic.Bool // the store said, or showed, that it cannot refuse to replace
}

// maxObject is the largest object that one request may bring, in bytes.
const maxObject = 5 << 30

func openObjects(p Place, a Allowed) (Destination, error) {
	o := &objectPlace{Place: p, guard: a.Guard}
	if err := p.read(&o.settings); err != nil {
		return nil, err
	}
	err := outgoing.CheckURL(o.settings.URL)
	if err == nil {
		o.endpoint, err = url.Parse(o.settings.URL)
	}
	if err != nil {
		return nil, p.wrong(err.Error(), "")
	}
	if strings.Trim(o.endpoint.Path, "/") != "" || o.endpoint.RawQuery != "" {
		return nil,
			p.wrong(fmt.Sprintf("its url holds the path %s, and a store has none", o.endpoint.RequestURI()),
				"Write the url as far as the port, the bucket into bucket, and what all names begin with into prefix.")
	}
	if o.settings.Bucket == "" {
		return nil, p.wrong("it names no bucket", "Set the bucket.")
	}
	if o.settings.Region == "" {
		o.settings.Region = "us-east-1"
	}
	o.transport, err = p.transport(a.Guard, o.settings.CA)
	return o, err
}

func (o *objectPlace) client() (*objectLine, error) {
	c, err := minio.New(o.endpoint.Host, &minio.Options{
		Creds:  credentials.NewStaticV4(o.settings.User, o.Secret, ""),
		Secure: o.endpoint.Scheme == "https", Transport: o.transport, Region: o.settings.Region,
		BucketLookup: minio.BucketLookupPath, MaxRetries: 1,
	})
	if err != nil {
		return nil, o.wrong(err.Error(), "Check its settings.")
	}
	return &objectLine{place: o, client: c}, nil
}

// Open implements Destination. Each object is a request of its own.
func (o *objectPlace) Open(context.Context) (Line, error) { return o.client() }

// objectLine puts objects into a bucket. An object is there when its last byte
// came, or not at all: there is nothing to rename.
type objectLine struct {
	place  *objectPlace
	client *minio.Client
}

func (l *objectLine) Fit() bool { return true }
func (l *objectLine) Close()    {}

func (l *objectLine) key(file string) string {
	return strings.TrimPrefix(path.Join(l.place.settings.Prefix, file), "/")
}

func (l *objectLine) where() string { return fmt.Sprintf("bucket %s", l.place.settings.Bucket) }

// Send implements Line.
func (l *objectLine) Send(ctx context.Context, h Handover, offer func(context.Context) error) (Result, error) {
	var res Result
	doing := fmt.Sprintf("put %s into %s of destination %q", h.To, l.where(), l.place.Name)
	if err := CheckPath(h.To); err != nil {
		return res, fault.Wrap(err, fault.Lasting, fault.Recipient, doing, "Correct the folder or the name in the job.")
	}
	if h.Size > maxObject {
		return res,
			fault.New(fault.Recipient, doing,
				fmt.Sprintf("the file has %d bytes, and an object may have %d", h.Size, int64(maxObject)), "")
	}
	free := h.IfExists == job.ExistsOverwrite // to take any name
	alone := false
	var to string
	var put minio.UploadInfo
	for try := 1; ; try++ {
		var err error
		// The store itself is to refuse what came meanwhile.
		refuses := !free && !l.place.replaces.Load()
		if !free && !refuses && !alone {
			release, err := h.alone(ctx)
			if err != nil {
				res.Answered = res.Offered
				return res, err
			}
			defer release()
			alone = true
		}
		if to, err = freeName(h, func(name string) (int64, error) { return l.size(ctx, name) }); err != nil {
			res.Answered = res.Offered
			return res, l.explain(err, doing)
		}
		body := &offering{ctx: ctx, from: h.Content, left: h.Size, offer: offer}
		put, err = l.put(ctx, to, body, h.Size, h.MediaType, refuses)
		res.Offered = res.Offered || body.done
		if err == nil {
			break
		}
		if body.err != nil {
			res.Answered = res.Offered
			return res, body.err
		}
		said := minio.ToErrorResponse(err)
		unable := refuses && said.StatusCode == http.StatusNotImplemented
		if unable {
			l.place.replaces.Store(true)
		}
		if (unable || said.Code == codeTaken) && try < nameTries {
			if _, err = h.Content.Seek(0, io.SeekStart); err == nil {
				continue
			}
		}
		res.Answered = said.StatusCode != 0
		return res, l.explain(err, doing)
	}
	res.Answered = true
	if to != h.To {
		res.To = to
	}
	res.Answer = fmt.Sprintf("put into %s as %s, %d bytes, ETag %s", l.where(), l.key(to), h.Size, put.ETag)
	return res, nil
}

// put puts one object. The store is asked to refuse when there is one of the name.
func (l *objectLine) put(ctx context.Context, file string, body io.Reader, size int64, mediaType string,
	refuse bool,
) (minio.UploadInfo, error) {
	o := minio.PutObjectOptions{ContentType: mediaType, DisableMultipart: true, DisableContentSha256: true}
	if refuse {
		o.SetMatchETagExcept("*") // If-None-Match (RFC 9110 section 13.1.2)
	}
	return l.client.PutObject(ctx, l.place.settings.Bucket, l.key(file), body, size, o)
}

// codeTaken is the answer when an object has come that must not be there.
const codeTaken = "PreconditionFailed"

func (l *objectLine) size(ctx context.Context, name string) (int64, error) {
	info, err := l.client.StatObject(ctx, l.place.settings.Bucket, l.key(name), minio.StatObjectOptions{})
	if minio.ToErrorResponse(err).StatusCode == http.StatusNotFound {
		return 0, fs.ErrNotExist
	}
	return info.Size, err
}

// explain tells what the store answered.
func (l *objectLine) explain(err error, doing string) error {
	var own *fault.Fault
	if errors.As(err, &own) {
		return fault.Wrap(err, own.Class, own.Scope, doing, "")
	}
	said := minio.ToErrorResponse(err)
	if said.StatusCode == 0 {
		if strings.Contains(err.Error(), "Connection closed by foreign host") { // the library's words for it
			err = io.ErrUnexpectedEOF
		}
		return l.place.guard.Explain(err, doing)
	}
	answer := fmt.Errorf("the store answered %d %s: %s", said.StatusCode, said.Code, said.Message)
	switch said.Code {
	case "NoSuchBucket":
		return fault.Wrap(answer, fault.Lasting, fault.Destination, doing,
			"Make the bucket, or correct its name in the destination.")
	case "InvalidAccessKeyId", "SignatureDoesNotMatch", "ExpiredToken", "InvalidToken":
		return fault.Wrap(answer, fault.Lasting, fault.Destination, doing,
			"Check access key and secret key of the destination.")
	case "AuthorizationHeaderMalformed", "InvalidRegion", "PermanentRedirect", "IncorrectEndpoint",
		"IllegalLocationConstraintException":
		advice := "Set region of the destination to that of the bucket; its owner knows it."
		if said.Region != "" {
			advice = fmt.Sprintf("Set region of the destination to %s.", said.Region)
		}
		return fault.Wrap(answer, fault.Lasting, fault.Destination, doing, advice)
	case "EntityTooLarge":
		return fault.Wrap(answer, fault.Lasting, fault.Recipient, doing,
			"The file is larger than the store takes: pack or split it, or ask who keeps the store for a higher limit.")
	case "RequestTimeTooSkewed":
		return fault.Wrap(answer, fault.Lasting, fault.Destination, doing,
			"Set the clock of this machine: it differs too much from that of the store.")
	case codeTaken:
		return fault.Wrap(fmt.Errorf("an object of the name came meanwhile (%w)", answer), fault.Passing,
			fault.Recipient, doing, "")
	}
	f := refusedByStatus(l.place.settings.URL, said.StatusCode, doing)
	f.Cause = answer
	return f
}

// Test implements Destination.
func (o *objectPlace) Test(ctx context.Context) (Tested, error) {
	var out Tested
	l, err := o.client()
	if err != nil {
		return out, err
	}
	doing := fmt.Sprintf("test %s of destination %q", l.where(), o.Name)
	name := ".ironbell-test-" + strings.ToLower(rand.Text()[:8]) + ".txt"
	key := l.key(name)
	text := "Iron Bell tests this destination.\n"
	if _, err := l.put(ctx, name, strings.NewReader(text), int64(len(text)), "text/plain", false); err != nil {
		return out, l.explain(err, doing+": put "+key)
	}
	out.Said = append(out.Said, fmt.Sprintf("reached %s, bucket %s", o.settings.URL, o.settings.Bucket),
		fmt.Sprintf("put %s, %d bytes", key, len(text)))
	// gone already, when all went well
	defer func() { _ = l.client.RemoveObject(ctx, o.settings.Bucket, key, minio.RemoveObjectOptions{}) }()
	object, err := l.client.GetObject(ctx, o.settings.Bucket, key, minio.GetObjectOptions{})
	if err != nil {
		return out, l.explain(err, doing+": get "+key)
	}
	defer func() { _ = object.Close() }() // only read from
	back, err := io.ReadAll(io.LimitReader(object, 1000))
	if err != nil {
		return out, l.explain(err, doing+": get "+key)
	}
	if !bytes.Equal(back, []byte(text)) {
		return out,
			fault.New(fault.Destination, doing, fmt.Sprintf("what was read back is not what was put: %q", back),
				"Ask who keeps the store.")
	}
	out.Said = append(out.Said, "got it back, the same")
	_, err = l.put(ctx, name, strings.NewReader(text), int64(len(text)), "text/plain", true)
	switch said := minio.ToErrorResponse(err); {
	case err == nil, said.StatusCode == http.StatusNotImplemented:
		o.replaces.Store(true)
		out.Said = append(out.Said,
			"it does not refuse to replace an object (If-None-Match): files of one name go there one after another")
	case said.Code == codeTaken:
		o.replaces.Store(false)
	default:
		return out, l.explain(err, doing+": put "+key+" again")
	}
	if err := l.client.RemoveObject(ctx, o.settings.Bucket, key, minio.RemoveObjectOptions{}); err != nil {
		return out, l.explain(err, doing+": remove "+key)
	}
	out.Said = append(out.Said, "removed it")
	return out, nil
}
