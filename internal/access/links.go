package access

import (
	"encoding/base64"
	"fmt"
	"strings"
)

// Signer signs texts for links that act without a sign-in, and knows its signatures again.
type Signer interface {
	Sign(text string) string
	Signed(text, signature string) bool
}

// Links are the addresses by which who gets a mail answers it without signing in, and the mark
// by which a mail that comes back is known. Each is signed for what it does and for whom. The
// zero value signs nothing, and knows no signature.
type Links struct {
	URL    string // address of the console, without a slash at its end
	Signer Signer
}

func acknowledging(alert, person int64) string { return fmt.Sprintf("take-on:%d:%d", alert, person) }

func leaving(jobID int64, address string) string {
	return fmt.Sprintf("leave:%d:%s", jobID, strings.ToLower(address))
}

// Acknowledge is the address at which a person acknowledges an alert: it shows on GET and
// acts on POST.
func (l Links) Acknowledge(alert, person int64) string {
	if l.Signer == nil {
		return fmt.Sprintf("%s/alerts/%d", l.URL, alert)
	}
	return fmt.Sprintf("%s/acknowledge/%d/%d/%s", l.URL, alert, person, l.Signer.Sign(acknowledging(alert, person)))
}

// MayAcknowledge tells whether such an address is one of ours.
func (l Links) MayAcknowledge(alert, person int64, signature string) bool {
	return l.Signer != nil && l.Signer.Signed(acknowledging(alert, person), signature)
}

// Leave is the address at which a recipient leaves a job's list with one click (RFC 2369,
// RFC 8058); empty when nothing can be signed.
func (l Links) Leave(jobID int64, address string) string {
	if l.Signer == nil {
		return ""
	}
	coded := base64.RawURLEncoding.EncodeToString([]byte(address))
	return fmt.Sprintf("%s/leave/%d/%s/%s", l.URL, jobID, coded, l.Signer.Sign(leaving(jobID, address)))
}

// WhoLeaves reads such an address: who leaves the job, and whether it is one of ours.
func (l Links) WhoLeaves(jobID int64, coded, signature string) (address string, ok bool) {
	text, err := base64.RawURLEncoding.DecodeString(coded)
	if err != nil || l.Signer == nil || !l.Signer.Signed(leaving(jobID, string(text)), signature) {
		return "", false
	}
	return string(text), true
}

// Mark names a delivery in the mailbox that a bounce comes back to. Its seal keeps others from
// making up bounces.
func (l Links) Mark(delivery int64) string {
	if seal := l.Seal(delivery); seal != "" {
		return fmt.Sprintf("d%d-%s", delivery, seal)
	}
	return fmt.Sprintf("d%d", delivery)
}

// Seal is what seals the mark of a delivery; empty when nothing can be signed.
func (l Links) Seal(delivery int64) string {
	if l.Signer == nil {
		return ""
	}
	return l.Signer.Sign(fmt.Sprintf("bounce:d%d", delivery))[:10]
}
