package job_test

import (
	"testing"
	"time"

	"ironbell/internal/core/job"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestListsOfRecipientsAreTakenApart(t *testing.T) {
	for text, want := range map[string][]string{
		"a@b.example, c@d.example;e@f.example\ng@h.example": {
			"a@b.example", "c@d.example", "e@f.example",
			"g@h.example",
		},
		`"Quay, Desk" <quay@b.example>; x@y.example`:   {`"Quay, Desk" <quay@b.example>`, "x@y.example"},
		`"a \" b, c" <d@e.example>,f@g.example`:        {`"a \" b, c" <d@e.example>`, "f@g.example"},
		" ,;\r\n, ":                                    {},
		`"never closed, a@b.example` + "\nc@d.example": {`"never closed, a@b.example`, "c@d.example"},
		"group:Port masters;under:Engineering":         {"group:Port masters", "under:Engineering"},
	} {
		assert.Equal(t, want, append([]string{}, job.SplitRecipients(text)...), text)
	}
	for text, want := range map[string]job.Recipient{
		"Group: Port masters": {Kind: job.ToGroup, Name: "Port masters"},
		"person:mara":         {Kind: job.ToPerson, Name: "mara"},
		"a@b.example":         {Kind: job.ToAddress, Name: "a@b.example"},
		"mailto:a@b.example":  {Kind: job.ToAddress, Name: "mailto:a@b.example"},
	} {
		got, err := job.ReadRecipient(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "  ", "group:", "post: "} {
		_, err := job.ReadRecipient(text)
		assert.Error(t, err, text)
	}
}

func TestQuietHours(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	night := job.Wishes{QuietFrom: "22:00", QuietTo: "06:30"}
	for at, until := range map[string]string{
		"2026-11-23 21:59": "", "2026-11-23 22:00": "2026-11-24 06:30", "2026-11-24 03:00": "2026-11-24 06:30",
		"2026-11-24 06:30": "",
		"2026-03-29 00:30": "2026-03-29 06:30", // the night that the clocks go forward
	} {
		now, err := time.ParseInLocation("2006-01-02 15:04", at, london)
		require.NoError(t, err)
		got, quiet := night.Quiet(now)
		assert.Equal(t, until != "", quiet, at)
		if quiet {
			assert.Equal(t, until, got.Format("2006-01-02 15:04"), at)
		}
	}
	noon := job.Wishes{QuietFrom: "12:00", QuietTo: "13:00"}
	_, quiet := noon.Quiet(time.Date(2026, 11, 23, 12, 30, 0, 0, london))
	assert.True(t, quiet)
	_, quiet = job.Wishes{}.Quiet(time.Now())
	assert.False(t, quiet)
}

func TestWhereMailMayGo(t *testing.T) {
	house := job.MailSettings{Domains: []string{"tarnwick.example", "@harbour.test"}}
	for address, may := range map[string]bool{
		"a@tarnwick.example": true, "a@TARNWICK.example": true, "a@ops.tarnwick.example": true,
		"a@nottarnwick.example": false, "a@tarnwick.example.else.test": false, "a@harbour.test": true,
		`"x@tarnwick.example"@else.test`: false,
	} {
		assert.Equal(t, may, house.MayReceive(address), address)
	}
	assert.True(t, job.MailSettings{}.MayReceive("a@else.test"), "without a list it goes anywhere")
}
