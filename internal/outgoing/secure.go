package outgoing

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/fault"
)

// Insecure explains why no line over TLS came about, or gives nil when that is not what went
// wrong: a certificate that ran out, one for another name, one of an authority that nobody
// knows, a port that speaks no TLS, or one that speaks nothing else. All of these last.
func Insecure(err error, scope fault.Scope, doing string) *fault.Fault {
	why := func(advice, text string, args ...any) *fault.Fault {
		return fault.Wrap(fmt.Errorf(text, args...), fault.Lasting, scope, doing, advice)
	}
	var (
		invalid x509.CertificateInvalidError
		name    x509.HostnameError
		unknown x509.UnknownAuthorityError
		header  tls.RecordHeaderError
		failed  *tls.CertificateVerificationError
	)
	const day = "2 January 2006 15:04 MST"
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired && invalid.Cert != nil &&
		time.Now().Before(invalid.Cert.NotBefore):
		return why("Check the clock of this machine; otherwise whoever keeps the server used the certificate too early.", "the certificate of the server holds only from %s on", invalid.Cert.NotBefore.UTC().Format(day))
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired && invalid.Cert != nil:
		return why("Whoever keeps the server must renew its certificate. Nothing can be set here.",
			"the certificate of the server ran out on %s", invalid.Cert.NotAfter.UTC().Format(day))
	case errors.As(err, &name):
		return why("Correct the host in the settings, or let whoever keeps the server give its certificate that name.",
			"the certificate of the server is for %s and not for %s", namesOf(name.Certificate), name.Host)
	case errors.As(err, &unknown):
		return why("Ask whoever keeps the server for the certificate of its authority, and put it into ca, where the "+
			"settings have that, or let this machine trust it.",
			"the certificate of the server comes from %s, an authority that this machine does not trust",
			issuerOf(unknown.Cert))
	case errors.As(err, &failed):
		return why("Ask whoever keeps the server.", "the certificate of the server is not trusted: %w", failed.Err)
	case errors.As(err, &header), errors.Is(err, http.ErrSchemeMismatch):
		return why("Check the port, and whether TLS is to be spoken from the start there: the security of the "+
			"settings, or http in place of https.", "the server speaks no TLS at this port")
	case Alert(err) != "":
		return why("The server wants another way of TLS than ours (1.2 or 1.3), another name, or a certificate of "+
			"the client; ask whoever keeps it.", "the server broke TLS off: %s", Alert(err))
	// the record of an alert (RFC 8446 section 5.1)
	case strings.Contains(err.Error(), `malformed HTTP response "\x15\x03`):
		return why("Write the address with https.", "the server speaks TLS at this port, and was asked without")
	}
	return nil
}

// Alert is what the other side said when it broke TLS off (RFC 8446 section 6.2), in the words
// of crypto/tls; empty when it did not.
func Alert(err error) string {
	var op *net.OpError
	if !errors.As(err, &op) || op.Op != "remote error" || op.Err == nil {
		return ""
	}
	return strings.TrimPrefix(op.Err.Error(), "tls: ")
}

func namesOf(c *x509.Certificate) string {
	names := slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	if len(names) == 0 {
		return "no name"
	}
	const shown = 5
	if len(names) > shown {
		return strings.Join(names[:shown], ", ") + " and more"
	}
	return strings.Join(names, ", ")
}

func issuerOf(c *x509.Certificate) string {
	switch {
	case c == nil:
		return "somebody"
	case c.Issuer.String() == c.Subject.String():
		return fmt.Sprintf("%q, which signed it itself", c.Issuer.String())
	}
	return fmt.Sprintf("%q", c.Issuer.String())
}
