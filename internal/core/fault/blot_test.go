package fault_test

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"testing"

	"ironbell/internal/core/fault"

	"github.com/stretchr/testify/assert"
)

func TestSecretsAreBlotted(t *testing.T) {
	const secret = `slip&way "lantern"/+7`
	b := fault.NewBlotter(secret, "", "abc", "-----BEGIN KEY-----\nMIIEvQIBADANBg\n-----END KEY-----")
	for _, text := range []string{
		secret, "you sent " + secret + "!", url.QueryEscape(secret), url.PathEscape(secret), fmt.Sprintf("%q", secret),
		hex.EncodeToString([]byte(secret)),
		"MIIEvQIBADANBg", "slip&amp;way &#34;lantern&#34;/+7",
	} {
		said := b.Text(text)
		assert.Contains(t, said, fault.Blotted, text)
		assert.NotContains(t, said, "lantern", text)
	}
	for _, user := range []string{"", "a", "ab", "abc", "bell"} {
		for _, coding := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding} {
			said := b.Text("Basic " + coding.EncodeToString([]byte(user+":"+secret+":more")))
			assert.Contains(t, said, fault.Blotted, user)
			assert.NotContains(t, said, base64.StdEncoding.EncodeToString([]byte("lantern"))[:6])
		}
	}
	assert.Equal(t, "abc stays: too short to be told from a word",
		b.Text("abc stays: too short to be told from a word"))
	cause := errors.Join(context.DeadlineExceeded, errors.New("it answered "+secret))
	err := b.Err(fault.Wrap(cause, fault.Passing, fault.Destination, "send to "+secret, "look at "+secret))
	f := fault.Of(fmt.Errorf("round it: %w", err))
	assert.NotContains(t, fmt.Sprintf("%v %+v %s %s %s", f, f, f.Doing, f.Advice, f.Cause), "lantern")
	assert.Equal(t, []any{fault.Passing, fault.Destination}, []any{f.Class, f.Scope})
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	for e := err; e != nil; e = errors.Unwrap(e) {
		assert.NotContains(t, e.Error(), "lantern", "however far it is unwrapped")
	}
	plain := errors.New("refused")
	assert.Same(t, plain, b.Err(plain))
	assert.NoError(t, b.Err(nil))
	assert.Equal(t, secret, fault.Blotter{}.Text(secret))
}
