package faults

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/job"
	"ironbell/test/world"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBouncesComeHome(t *testing.T) {
	t.Parallel()
	w := world.Open(t)
	ctx := context.Background()
	w.Bounces()
	w.Report("Departures", "SELECT 1 AS n")
	w.Job("Departures",
		world.Definition("Departures", "company mail", []string{"csv"}, "contractor@tarnwick.example",
			"mara@tarnwick.example"))
	w.BehaveTo("mail", "bounce", "contractor@tarnwick.example", 200)
	run := w.Ring("Departures")
	w.Until("the delivery turns to bounced, and the run with it", func() bool {
		page, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return page.State == job.RunPartly
	})
	page, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	for _, d := range page.Deliveries {
		if d.Address == "contractor@tarnwick.example" {
			assert.Equal(t, job.DeliveryBounced, d.State)
			assert.Equal(t, "it came back: 5.1.1 550 5.1.1 No such mailbox here", d.Answer)
		} else {
			assert.Equal(t, job.DeliverySent, d.State)
		}
	}
	alerts, err := w.C.Alerts(ctx, "open")
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Equal(t, job.AlertBounced, alerts[0].Kind)
	assert.Contains(t, alerts[0].Happened, "to contractor@tarnwick.example came back")
	w.Until("the owner is told", func() bool {
		for _, l := range w.Inbox("mara@tarnwick.example") {
			if l.Subject == "Bounced: Departures" {
				return true
			}
		}
		return false
	})
	w.Ring("Departures")
	// A server that returns to the plain mailbox sends back what names it all the same.
	w.BehaveTo("mail", "stripped", "contractor@tarnwick.example", 200)
	w.Ring("Departures")
	w.Until("the address is marked", func() bool {
		out, _, _ := w.Ironbell("whom", "contractor@tarnwick.example")
		return strings.Contains(out, "came back 3 times lately")
	})

	// Whoever is on holiday has it all the same.
	w.BehaveTo("mail", "absent", "mara@tarnwick.example", 100)
	w.Job("Departures", world.Definition("Departures", "company mail", []string{"csv"}, "mara@tarnwick.example"))
	run = w.Ring("Departures")
	require.Equal(t, job.RunDone, run.State)
	// The mailbox is read in order: when what came after is known, so is this.
	w.BehaveTo("mail", "bounce", "contractor@tarnwick.example", 200)
	w.Job("Arrivals", world.Definition("Departures", "company mail", []string{"csv"}, "contractor@tarnwick.example"))
	later := w.Ring("Arrivals")
	w.Until("the bounce after it is known", func() bool {
		page, err := w.C.Run(ctx, later.ID)
		require.NoError(t, err)
		return page.Deliveries[0].State == job.DeliveryBounced
	})
	page, err = w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, job.RunDone, page.State, "an automatic answer is no bounce")
}

func TestADigestComesInTheMorning(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	_, err := w.C.SaveWishes(ctx, "mara",
		job.OwnSettings{Wishes: job.Wishes{DigestAt: "07:00", QuietFrom: "22:00", QuietTo: "25:00", Language: "xx"}})
	require.ErrorContains(t, err, "is no time of day")
	require.ErrorContains(t, err, `there is no locale "xx"`)
	_, err = w.As("joren").SaveWishes(ctx, "mara", job.OwnSettings{})
	require.ErrorContains(t, err, "it takes an administrator")
	// They say themselves where and when they are reached, and how dates are written.
	nowhere, mail, zone := "Nowhere/Harbour", "mara.quill@tarnwick.example", "Europe/Berlin"
	_, err = w.As("mara").SaveWishes(ctx, "mara", job.OwnSettings{Mail: &nowhere, Zone: &nowhere})
	require.ErrorContains(t, err, "no time zone")
	require.ErrorContains(t, err, "address")
	p, err := w.As("mara").SaveWishes(ctx, "mara", job.OwnSettings{
		Wishes: job.Wishes{DigestAt: "07:00", Language: "de"}, Mail: &mail, Zone: &zone,
	})
	require.NoError(t, err)
	assert.Equal(t, []string{mail, zone, "de"}, []string{p.Mail, p.Zone, p.Wishes.Language})
	conn := world.Connect(t, w.Db)
	_, err = conn.Exec(ctx, `UPDATE people SET digest_due = bell_now() WHERE login = 'mara'`)
	require.NoError(t, err)
	w.Until("it comes", func() bool { return len(w.Inbox(mail)) == 1 })
	l := w.Inbox(mail)[0]
	assert.Regexp(t, `^Iron Bell, \d\d\.\d\d\.\d{4}: `, l.Subject)
	assert.Contains(t, l.Subject, "nichts braucht Sie")
	var next time.Time
	require.NoError(t, conn.QueryRow(ctx, `SELECT digest_due FROM people WHERE login = 'mara'`).Scan(&next))
	assert.Equal(t, "07:00", next.In(mustZone(t, zone)).Format("15:04"), "and again the next morning")
}

func mustZone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func TestASignOfLifeGoesOut(t *testing.T) {
	w := world.Open(t)
	require.NoError(t,
		w.C.SaveHeartbeat(context.Background(), "http://"+w.Out.Receiver+"/alive", job.Duration(time.Second)))
	answer := func() string { return string(w.Get(w.Out.Inbox + "/api/beats")) }
	w.Until("it comes again and again", func() bool { return answer() >= "3" })
	assert.ErrorContains(t, w.C.SaveHeartbeat(context.Background(), "harbour", 0), "is no address")
}

// IRONBELL_PARTS runs it with as many parts; make torture does with ten thousand.
func TestAllPartsSettleOverAKill(t *testing.T) {
	w := world.Open(t)
	ctx := context.Background()
	parts := 300
	if text := os.Getenv("IRONBELL_PARTS"); text != "" {
		var err error
		parts, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	w.Report("Part", "SELECT :n AS n", job.Parameter{Name: "n", Type: job.TypeText})
	d := world.Definition("Part", "company mail", []string{"csv"}, "{value.mail}")
	d.Tasks[1].Deliver.Subject = "Part {value.n}"
	d.Split = job.Split{
		Each: "n",
		Query: &job.ListQuery{
			Source: "tarnwick",
			SQL: fmt.Sprintf("SELECT i::text AS n, 'reader' || i || '@tarnwick.example' AS mail FROM "+
				"generate_series(1, %d) i", parts),
		},
	}
	w.Job("Parts", d)
	run, err := w.C.Ring(ctx, "Parts", nil)
	require.NoError(t, err)
	conn := world.Connect(t, w.Db)
	count := func(sql string) (n int) {
		require.NoError(t, conn.QueryRow(ctx, sql, run.ID).Scan(&n))
		return n
	}
	w.Within(60*time.Second+time.Duration(parts)*25*time.Millisecond, "some parts are done",
		func() bool { return count(`SELECT count(*) FROM parts WHERE run_id = $1 AND state = 'done'`) > parts/5 })
	before := peak(t, w.Service.Process().Pid) >> 20
	w.Kill()
	w.Start()
	w.Within(150*time.Second+time.Duration(parts)*50*time.Millisecond, "all settle", func() bool {
		r, err := w.C.Run(ctx, run.ID)
		require.NoError(t, err)
		return r.State.Ended()
	})
	after := peak(t, w.Service.Process().Pid) >> 20
	t.Logf("%d parts: the service had %d MB at most before it was killed, %d after", parts, before, after)
	assert.Less(t, max(before, after), int64(150))
	assert.Equal(t, parts, count(`SELECT count(*) FROM parts WHERE run_id = $1 AND state = 'done'`))
	assert.Equal(t, parts, count(`SELECT count(*) FROM deliveries WHERE run_id = $1 AND state IN ('sent', 'unknown')`))
	assert.LessOrEqual(t, count(`SELECT count(*) FROM deliveries WHERE run_id = $1 AND state = 'unknown'`), 12,
		"only what was just being offered is unknown")
	page, err := w.C.Run(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, parts, page.PartCount)
	assert.Equal(t, min(parts, 500), len(page.Parts), "a page is bounded")
}
