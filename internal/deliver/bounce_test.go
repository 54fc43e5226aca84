package deliver_test

import (
	"strings"
	"testing"

	"ironbell/internal/deliver"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const notification = `From: postmaster@mail.test
To: bell+d26110000000042-k3j9x2ab7q@tarnwick.example
Subject: Undelivered
Auto-Submitted: auto-replied
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status; boundary=b

--b
Content-Type: text/plain

It did not work.
--b
Content-Type: message/delivery-status

Reporting-MTA: dns; mail.test

Final-Recipient: rfc822; yard@slipway-works.test
Action: ACTION
Status: 5.1.1
Diagnostic-Code: smtp; 550 5.1.1 No such
  mailbox

--b
Content-Type: text/rfc822-headers

Message-ID: <one@tarnwick.example>
Subject: Fuel
--b--
`

func returned(t *testing.T, text string) deliver.Returned {
	t.Helper()
	r, err := deliver.ReadReturned(strings.NewReader(strings.ReplaceAll(text, "\n", "\r\n")))
	require.NoError(t, err)
	return r
}

func TestNotificationsNameTheirDelivery(t *testing.T) {
	r := returned(t, strings.Replace(notification, "ACTION", "failed", 1))
	assert.Equal(t, deliver.Returned{
		Kind: deliver.ReturnFailed, Delivery: 26110000000042, Seal: "k3j9x2ab7q", Recipient: "yard@slipway-works.test",
		Status: "5.1.1", Words: "550 5.1.1 No such mailbox",
	}, r)
	for action, kind := range map[string]deliver.ReturnKind{
		"delayed": deliver.ReturnDelayed, "delivered": deliver.ReturnArrived, "relayed": deliver.ReturnArrived,
		"nonsense": deliver.ReturnOther,
	} {
		assert.Equal(t, kind, returned(t, strings.Replace(notification, "ACTION", action, 1)).Kind, action)
	}
}

// Some servers return to the mailbox without what stands behind its plus.
func TestNotificationsNameTheirDeliveryInWhatCameBack(t *testing.T) {
	plain := strings.Replace(strings.Replace(notification, "ACTION", "failed", 1), "+d26110000000042-k3j9x2ab7q", "", 1)
	assert.Zero(t, returned(t, plain).Delivery)
	for field, id := range map[string]int64{
		deliver.TagField + ": d26110000000042-k3j9x2ab7q":                    26110000000042,
		strings.ToLower(deliver.TagField) + ":\n d26110000000042-k3j9x2ab7q": 26110000000042,
		deliver.TagField + ": d26110000000042":                               0, deliver.TagField + ": d1-x d2-y": 0,
		deliver.TagField + ":": 0,
	} {
		assert.Equal(t, id, returned(t, strings.Replace(plain, "Subject: Fuel", field, 1)).Delivery, field)
	}
	// The mailbox has the first word.
	both := strings.Replace(strings.Replace(notification, "ACTION", "failed", 1), "Subject: Fuel",
		deliver.TagField+": d7-abc", 1)
	assert.EqualValues(t, 26110000000042, returned(t, both).Delivery)
}

func TestAnswersAreNoBounces(t *testing.T) {
	for text, kind := range map[string]deliver.ReturnKind{
		"To: bell+d1@tarnwick.example\nAuto-Submitted: auto-replied\nSubject: Out of the office\n\nI am at sea.\n": deliver.ReturnAnswer,
		"To: bell+d1@tarnwick.example\nSubject: Thanks\n\nGot it.\n":                                               deliver.ReturnOther,
		"To: bell+d1@tarnwick.example\nAuto-Submitted: no\nSubject: Undelivered mail\n\nNo.\n":                     deliver.ReturnOther,
	} {
		r := returned(t, text)
		assert.Equal(t, kind, r.Kind, text)
		assert.EqualValues(t, 1, r.Delivery)
	}
}

func TestHostileMailsAreRead(t *testing.T) {
	for _, text := range []string{
		"", "\r\n", "Content-Type: multipart/report; report-type=delivery-status\r\n\r\n",
		"To: bell+d99999999999999999999@x.test\r\n\r\n", strings.Repeat("A: b\r\n", 1000) + "\r\n",
		"Content-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n--b\r\nContent-Type: " +
			"message/delivery-status\r\n\r\n" + strings.Repeat(":\r\n", 10_000),
	} {
		r, err := deliver.ReadReturned(strings.NewReader(text))
		if err == nil {
			assert.NotEqual(t, deliver.ReturnFailed, r.Kind)
			assert.Zero(t, r.Delivery)
		}
	}
}

func TestABodyReadsWellWithoutHTML(t *testing.T) {
	got := deliver.PlainOf(`<style>td{color:red}</style><h2>By route</h2><table><tr><th>Route</th><th style="text-align:right">Sailings</th></tr><tr><td>Tarnwick Quay – Grey Skerry</td><td>12</td></tr><tr><td>Pennold &amp; back</td><td>3</td></tr></table><p>Two<br>lines</p><img alt="Delay by day" src="cid:x"><table><tr><td>Sailings<div>2,480</div></td><td>On time<div>91 %</div></td></tr></table>`)
	assert.Equal(t, `By route
--------

Route                        Sailings
---------------------------  --------
Tarnwick Quay – Grey Skerry        12
Pennold & back                      3

Two
lines

[Delay by day]

Sailings
2,480
On time
91 %`, got)
	many := deliver.PlainOf("<table>" + strings.Repeat("<tr><td>a</td><td>b</td></tr>", 5000) + "</table>")
	assert.Contains(t, many, "and 4899 more rows")
	assert.Empty(t, deliver.PlainOf("<script>alert(1)</script>"))
}
