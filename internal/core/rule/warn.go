package rule

import (
	"fmt"
	"math/bits"
	"strings"
	"time"

	"ironbell/internal/core/civil"
)

// Warnings says where the rule may mean something other than it seems, as of an
// instant. A rule that rings on more than perDay times in a day is warned of.
func (r Rule) Warnings(at time.Time, perDay int) []string {
	if r.plan == nil {
		return nil
	}
	out := append([]string{}, r.remarks...)
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	p := r.plan
	if r.notation == Cron {
		p.warnCron(r.text, add)
	}
	p.warnLongDays(add)
	p.warnSeam(at, add)
	if n := p.mostInADay(); n > perDay {
		add("It rings up to %d times a day.", n)
	}
	if p.defaultCalendar && p.usesCalendar() {
		add("No calendar is named: Monday to Friday count as open, holidays too.")
	}
	if _, ok := r.Next(at); !ok {
		if end, ends := r.Ends(); ends && !end.After(at) {
			add("It rings no more: it ended on %s.", end.Format("Mon 2 January 2006 15:04 MST"))
		} else {
			add("It does not ring in the next forty years.")
		}
	}
	return out
}

// Most is the largest number of rings that one day can have.
func (r Rule) Most() int {
	if r.plan == nil {
		return 0
	}
	return r.plan.mostInADay()
}

// Spacing is the shortest time that the rule leaves between two rings of a day,
// or over midnight; a day when it rings once a day at most.
func (r Rule) Spacing() time.Duration {
	if r.plan == nil {
		return 0
	}
	return time.Duration(r.plan.times.spacing()) * time.Second
}

func (p *plan) mostInADay() int {
	t := &p.times
	switch {
	case t.kind == running && t.chosen == nil && t.width == 1 && !t.passing:
		return int(civil.Day / t.period)
	case t.kind == running && t.chosen != nil:
		return len(t.chosen)
	case t.kind == running:
		return bits.OnesCount32(t.hours) * bits.OnesCount64(t.minutes) * bits.OnesCount64(t.seconds)
	default:
		return t.count
	}
}

// warnCron says what a cron text means beside what it seems to mean.
func (p *plan) warnCron(text string, add func(string, ...any)) {
	f := strings.Fields(text)
	if len(f) != 5 {
		return
	}
	if f[0] == "*" && f[1] != "*" {
		hours := bits.OnesCount32(p.times.hours)
		what := "that hour"
		if hours > 1 {
			what = fmt.Sprintf("each of its %d hours", hours)
		}
		add("The minute is a star, so it rings every minute of %s, %d times a day. Write 0 as the minute to ring "+
			"once an hour.", what, 60*hours)
	}
	if len(p.terms) == 2 {
		add("Day of the month and weekday are both set, so a day that matches either of them rings.")
	}
	for i, size := range []int{60, 24} {
		_, step, ok := strings.Cut(f[i], "*/")
		n := 0
		if _, err := fmt.Sscanf(step, "%d", &n); ok && err == nil && n > 0 && size%n != 0 && n < size {
			add("The %s step %d does not divide %d, so the last gap before the turn is shorter.", cronFields[i].name, n,
				size)
		}
	}
}

// warnLongDays names the months that lack a day of the rule.
func (p *plan) warnLongDays(add func(string, ...any)) {
	for _, t := range p.terms {
		if t.dates == 0 || t.dates&(1<<28|1<<27|1<<1) != 0 && t.dates.Count() > 3 {
			continue
		}
		for d := 29; d <= 31; d++ {
			if !t.dates.Has(d) {
				continue
			}
			var lacking []string
			for m := 1; m <= 12; m++ {
				if (t.months == 0 || t.months>>m&1 == 1) && civil.Length(2001, m) < d {
					name := monthNames[m]
					if m == 2 && d == 29 {
						name += " outside leap years"
					}
					lacking = append(lacking, name)
				}
			}
			if len(lacking) > 0 {
				add("Day %d is passed over in %s. For the end of each month write the last day.", d, join(lacking))
			}
		}
	}
}

// warnSeam names times that the next change of clocks skips or repeats.
func (p *plan) warnSeam(at time.Time, add func(string, ...any)) {
	if p.times.kind != wallTimes {
		return
	}
	p.spans.Seams(at.Unix(), at.Unix()+yearSeconds, func(s spanSeam) bool {
		gap := s.Offset - s.Before
		low, high := s.Start+s.Before, s.Start+s.Offset
		if gap < 0 {
			low, high = high, low
		}
		wall, ok := p.wall(low, high)
		if !ok {
			return true
		}
		instant := p.spans.Instant(wall)
		if instant < p.from || instant > p.end() || p.leftOut(instant) {
			return true
		}
		day := time.Unix(low, 0).UTC().Format("Mon 2 January 2006")
		_, sec := civil.Split(wall)
		if moved := instant + s.Offset; gap > 0 {
			if w, ok := p.wall(moved, moved+1); ok && w == moved {
				return false // it rings then anyway
			}
			add("On %s the clocks go forward and %s does not exist: it rings at %s instead.", day, sayClock(sec),
				time.Unix(instant, 0).In(p.zone).Format("15:04 MST"))
		} else {
			add("On %s the clocks go back and %s comes twice: it rings at the first, %s.", day, sayClock(sec),
				time.Unix(instant, 0).In(p.zone).Format("15:04 MST"))
		}
		return false
	})
}

// mostCounted bounds how many rings are counted to say how often a rule rings.
const mostCounted = 3000

// Often says how often the rule rings after an instant, in words.
func (r Rule) Often(after time.Time) string {
	if _, ok := r.Next(after); !ok {
		return "no more"
	}
	year := after.AddDate(1, 0, 0)
	n, at := 0, after
	for n < mostCounted {
		next, ok := r.Next(at)
		if !ok || next.After(year) {
			break
		}
		n, at = n+1, next
	}
	if _, more := r.Next(at); !more {
		if n == 1 {
			return "once"
		}
		return fmt.Sprintf("%d times in all", n)
	}
	say := func(n float64, what string) string {
		switch rounded := int(n + 0.5); {
		case n != float64(rounded):
			return fmt.Sprintf("about %.1f %s", n, what)
		case rounded == 1 && strings.HasPrefix(what, "times"):
			return "once" + strings.TrimPrefix(what, "times")
		default:
			return fmt.Sprintf("%d %s", rounded, what)
		}
	}
	days := 365.0
	if n == mostCounted {
		days = at.Sub(after).Hours() / 24
	}
	most := float64(r.plan.mostInADay())
	perDay := float64(n) / days
	if n == mostCounted && perDay > 0.95*most && perDay < 1.05*most {
		perDay = most // the first and the last day were counted in part
	}
	ringing := round(float64(n) / most / days * 7) // days of a week on which it rings
	switch {
	case n == 0:
		return "less than once a year"
	case perDay >= 1 && ringing >= 6.9:
		return say(round(perDay), "times a day")
	case most > 1 && ringing >= 1:
		text := say(most, "times a day") + " on " + say(ringing, "days a week")
		return strings.Replace(text, " on 1 days", " on 1 day", 1)
	}
	for _, u := range []struct {
		days float64
		name string
	}{{7, "week"}, {365.0 / 12, "month"}} {
		if per := round(perDay * u.days); per >= 1 && per == float64(int(per)) {
			return say(per, "times a "+u.name)
		}
	}
	if n < 40 {
		return say(float64(n), "times a year")
	}
	return say(round(perDay*7), "times a week")
}

// round takes a number that is all but whole for whole.
func round(n float64) float64 {
	if whole := float64(int(n + 0.5)); n-whole < 0.06 && whole-n < 0.06 {
		return whole
	}
	return n
}
