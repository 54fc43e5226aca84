package fault

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"html"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// Blotted stands in a text for a secret of ours.
const Blotted = "[secret]"

// Blotter takes secrets out of what the other side said, which may give back what it was
// sent. It may be used by several goroutines; the zero value takes out nothing.
type Blotter struct{ forms *strings.Replacer }

// shortestSecret is how long a secret is at least that is taken out: what is shorter
// stands in words that have nothing to do with it.
const shortestSecret = 4

// NewBlotter makes a blotter of some secrets: as they are, in the forms of addresses, JSON,
// HTML, hexadecimal digits and base64, also amid other content. Of a secret of several
// lines each line is one.
func NewBlotter(secrets ...string) Blotter {
	var forms []string
	add := func(form string) {
		if len(form) >= shortestSecret && !slices.Contains(forms, form) {
			forms = append(forms, form)
		}
	}
	for _, secret := range secrets {
		for _, s := range append(strings.FieldsFunc(secret, func(r rune) bool { return r == '\n' || r == '\r' }),
			secret) {
			if len(s) < shortestSecret || strings.HasPrefix(s, "-----") {
				continue
			}
			add(s)
			add(url.QueryEscape(s))
			add(url.PathEscape(s))
			add(html.EscapeString(s))
			if quoted, err := json.Marshal(s); err == nil {
				add(strings.Trim(string(quoted), `"`))
			}
			add(strings.Trim(strconv.Quote(s), `"`))
			add(hex.EncodeToString([]byte(s)))
			add(strings.ToUpper(hex.EncodeToString([]byte(s))))
			for _, coding := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
				for before := range 3 { // bytes that stand before it and share its first sign
					coded := coding.EncodeToString(append(make([]byte, before), s...))
					from, to := (before*8+5)/6, (before+len(s))*8/6
					if to-from >= 2*shortestSecret {
						add(coded[from:to])
					}
				}
			}
		}
	}
	if len(forms) == 0 {
		return Blotter{}
	}
	// The longest first: a form that begins like another must not leave its end behind.
	slices.SortFunc(forms, func(a, b string) int { return len(b) - len(a) })
	pairs := make([]string, 0, 2*len(forms))
	for _, form := range forms {
		pairs = append(pairs, form, Blotted)
	}
	return Blotter{forms: strings.NewReplacer(pairs...)}
}

// Text is a text without the secrets.
func (b Blotter) Text(text string) string {
	if b.forms == nil {
		return text
	}
	return b.forms.Replace(text)
}

// Err is an error without the secrets in what it says. What kind of error it is stays; of
// a Fault its class, scope and advice do.
func (b Blotter) Err(err error) error {
	if err == nil || b.forms == nil {
		return err
	}
	var f *Fault
	if !errors.As(err, &f) {
		if text := b.Text(err.Error()); text != err.Error() {
			return &hushed{text: text, err: err}
		}
		return err
	}
	whole := Of(err)
	clean := &Fault{
		Doing: b.Text(whole.Doing), Class: whole.Class, Scope: whole.Scope, Advice: b.Text(whole.Advice),
		Cause: whole.Cause,
	}
	if text := b.Text(whole.Cause.Error()); text != whole.Cause.Error() {
		clean.Cause = &hushed{text: text, err: whole.Cause}
	} else if clean.Doing == whole.Doing && clean.Advice == whole.Advice {
		return err
	}
	return clean
}

// hushed is an error in other words. What it was is asked, and not unwrapped.
type hushed struct {
	text string
	err  error
}

func (h *hushed) Error() string { return h.text }

func (h *hushed) Is(target error) bool { return errors.Is(h.err, target) }

// Timeout tells whether it was a time limit that ran out.
func (h *hushed) Timeout() bool {
	return ByNetwork(h.err) || errors.Is(h.err, context.DeadlineExceeded)
}

// Temporary is part of net.Error.
func (h *hushed) Temporary() bool { return false }
