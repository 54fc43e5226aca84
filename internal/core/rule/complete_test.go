package rule_test

import (
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/rule"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func words(list []rule.Completion) []string {
	out := make([]string, len(list))
	for i, c := range list {
		out[i] = c.Word
	}
	return out
}

func TestARuleIsCompletedWhileItIsWritten(t *testing.T) {
	o := rule.Options{Zone: time.UTC}
	for _, one := range []struct {
		text   string
		has    []string
		hasNot []string
	}{
		{"", []string{"every day", "on weekdays", "on the last"}, []string{"skip closed days", "at 06:00"}},
		{"on we", []string{"wednesday", "weekdays"}, []string{"monday", "at 06:00"}},
		{"ON WE", []string{"wednesday"}, nil},
		{"on weekdays", []string{"at 06:00", "every 15 minutes"}, []string{"weekdays", "on weekdays"}},
		{"every ", []string{"day", "monday"}, []string{"every", "on", "and"}},
		{"on the last open day", []string{"of every month", "at 06:00"}, []string{"days"}},
		{"on the last open day of ", []string{"every month", "every quarter", "january"}, []string{"at 06:00", "day"}},
		{"between 06:00 and ", []string{"18:00"}, []string{"and", "to"}},
		{"every day at 06:00", []string{"skip closed days", "until", "except on"}, []string{"at 06:00", "every hour"}},
		{"every day at 06:00 s", []string{"skip closed days"}, []string{"until"}},
		{"every quarter on ", []string{"day", "open day", "last"}, []string{"monday"}}, // which is refused
		{"at 9", nil, nil},
		{"qqq ", nil, nil},
		{"15 6 * * 1-5", nil, nil},
		{"FREQ=DAILY", nil, nil},
		{strings.Repeat("every day ", 1000), nil, nil},
	} {
		got := words(o.Complete(one.text))
		assert.Subset(t, got, one.has, one.text)
		for _, w := range one.hasNot {
			assert.NotContains(t, got, w, one.text)
		}
		if one.has == nil {
			assert.Empty(t, got, one.text)
		}
	}
	got := o.Complete("on the first mond")
	require.NotEmpty(t, got)
	assert.Equal(t, rule.Completion{Text: "on the first monday", Word: "monday"}, got[0])
}

// Whoever takes offer after offer always stands before more offers or has a rule, and comes to one.
func TestOffersLeadToARule(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		o, text := rule.Options{Zone: time.UTC}, ""
		for range 14 {
			offers := o.Complete(text)
			_, err := o.Parse(text)
			if len(offers) == 0 {
				// Only a number, a date or a name of one's own can be wanted here.
				var wrong *rule.Error
				if err != nil {
					require.ErrorAs(t, err, &wrong)
					require.Greater(t, wrong.Column, len(text), "%q: %v", text, err)
				}
				break
			}
			for _, c := range offers {
				require.True(t, strings.HasPrefix(c.Text, text), "%q goes on as %q", text, c.Text)
				require.True(t, strings.HasSuffix(c.Text, c.Word))
			}
			text = rapid.SampledFrom(offers).Draw(t, "offer").Text + " "
		}
	})
	o, text := rule.Options{Zone: time.UTC}, ""
	for range 4 { // the first offers make a rule
		if _, err := o.Parse(text); err == nil {
			return
		}
		offers := o.Complete(text)
		require.NotEmpty(t, offers, text)
		text = offers[0].Text
	}
	t.Fatalf("the first offers come to %q, which is no rule", text)
}
