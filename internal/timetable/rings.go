package timetable

import (
	"fmt"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rule"
	"ironbell/internal/store/records"
)

// First is the next ring of a rule after an instant, or the next that is
// passed over, which is decided on, too.
func First(r rule.Rule, after time.Time) *records.NextRing {
	ring, ok := r.Step(after)
	if !ok {
		return nil
	}
	return &records.NextRing{Due: ring.Due, Nominal: ring.Nominal}
}

// Again reckons when a trigger rings next by a rule that has changed under it,
// given the ring that it waited for. Dates from that one on are still to come, or
// from a little before it when slack says that its date may have moved; one that
// now lies in the past rings at once, the latest of several.
func Again(r rule.Rule, waited records.NextRing, now time.Time, slack time.Duration) *records.NextRing {
	// Closed days move rings that come once a day or less often, and no farther than this.
	farthest := slack
	if r.Moves() {
		farthest = 800 * 24 * time.Hour
	}
	first := waited.Nominal.Add(-slack)
	var past *records.NextRing
	for at := waited.Nominal.Add(-farthest).Add(-time.Second); ; {
		ring, ok := r.Step(at)
		if !ok {
			return past
		}
		at = ring.Due
		if ring.Nominal.Before(first) {
			continue
		}
		if ring.Due.After(now) {
			if past != nil {
				return past
			}
			return &records.NextRing{Due: ring.Due, Nominal: ring.Nominal}
		}
		if !ring.Passed {
			past = &records.NextRing{Due: now.Truncate(time.Second), Nominal: ring.Nominal}
		}
	}
}

// Slack is how far new zone data may move a ring of a rule: zones change their
// offset by three hours at most, and two rings of a day are not taken for one.
func Slack(r rule.Rule) time.Duration {
	const most = 3*time.Hour + time.Minute
	return min(most, r.Spacing()/2)
}

// Reckon reckons the next rings of jobs anew and tells which have moved. Triggers that can
// no longer be read keep theirs; unread hears of them.
func (t *Timetable) Reckon(jobs []job.Job, now time.Time,
	unread func(j job.Job, rule string, err error),
) (next map[int64]*records.NextRing, moved []string) {
	next = map[int64]*records.NextRing{}
	for _, j := range jobs {
		for _, trigger := range j.Triggers {
			if !j.On || trigger.NextDue == nil {
				continue
			}
			r, err := t.Rule(trigger.Timing, j.Zone, j.Calendars)
			if err != nil {
				unread(j, trigger.Rule, err)
				continue
			}
			waited := records.NextRing{Due: *trigger.NextDue, Nominal: *trigger.NextDue}
			if trigger.NextNominal != nil {
				waited.Nominal = *trigger.NextNominal
			}
			ring := Again(r, waited, now, 0)
			if ring != nil && ring.Due.Equal(waited.Due) && ring.Nominal.Equal(waited.Nominal) {
				continue
			}
			next[trigger.ID] = ring
			moved = append(moved, sayMoved(j.Name, r, waited.Due, ring))
		}
	}
	return next, moved
}

// sayMoved says from when to when a ring moved.
func sayMoved(name string, r rule.Rule, was time.Time, ring *records.NextRing) string {
	const form = "Mon 2 Jan 2006 15:04 MST"
	to := "none"
	if ring != nil {
		to = ring.Due.In(r.Location()).Format(form)
	}
	return fmt.Sprintf("%s: %s becomes %s", name, was.In(r.Location()).Format(form), to)
}
