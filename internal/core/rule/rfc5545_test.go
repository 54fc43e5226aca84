package rule_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ironbell/internal/core/rule"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The worked examples of RFC 5545 section 3.8.5.3 with the dates that it gives.
// A list that goes on is cut where the RFC cuts it.
var workedExamples = []struct {
	what, start, rule string
	want              string // "1997 Sep 2,3; Oct 1": at the time of the start
	goesOn            bool
}{
	{"daily for 10 occurrences", "19970902T090000", "FREQ=DAILY;COUNT=10", "1997 Sep 2,3,4,5,6,7,8,9,10,11", false},
	{
		"every other day", "19970902T090000", "FREQ=DAILY;INTERVAL=2",
		"1997 Sep 2,4,6,8,10,12,14,16,18,20,22,24,26,28,30;Oct 2,4,6,8,10,12,14,16,18,20,22,24,26,28,30;Nov " +
			"1,3,5,7,9,11,13,15,17,19,21,23,25,27,29;Dec 1,3", true,
	},
	{
		"every 10 days, 5 occurrences", "19970902T090000", "FREQ=DAILY;INTERVAL=10;COUNT=5", "1997 Sep 2,12,22;Oct 2,12",
		false,
	},
	{
		"weekly for 10 occurrences", "19970902T090000", "FREQ=WEEKLY;COUNT=10",
		"1997 Sep 2,9,16,23,30;Oct 7,14,21,28;Nov 4", false,
	},
	{
		"weekly until December 24", "19970902T090000", "FREQ=WEEKLY;UNTIL=19971224T000000Z",
		"1997 Sep 2,9,16,23,30;Oct 7,14,21,28;Nov 4,11,18,25;Dec 2,9,16,23", false,
	},
	{
		"every other week", "19970902T090000", "FREQ=WEEKLY;INTERVAL=2;WKST=SU",
		"1997 Sep 2,16,30;Oct 14,28;Nov 11,25;Dec 9,23;1998 Jan 6,20;Feb 3,17", true,
	},
	{
		"weekly on Tuesday and Thursday for five weeks", "19970902T090000",
		"FREQ=WEEKLY;UNTIL=19971007T000000Z;WKST=SU;BYDAY=TU,TH", "1997 Sep 2,4,9,11,16,18,23,25,30;Oct 2", false,
	},
	{
		"the same by count", "19970902T090000", "FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH",
		"1997 Sep 2,4,9,11,16,18,23,25,30;Oct 2", false,
	},
	{
		"every other week on Monday, Wednesday and Friday", "19970901T090000",
		"FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000Z;WKST=SU;BYDAY=MO,WE,FR",
		"1997 Sep 1,3,5,15,17,19,29;Oct 1,3,13,15,17,27,29,31;Nov 10,12,14,24,26,28;Dec 8,10,12,22", false,
	},
	{
		"every other week on Tuesday and Thursday, 8 occurrences", "19970902T090000",
		"FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH", "1997 Sep 2,4,16,18,30;Oct 2,14,16", false,
	},
	{
		"monthly on the first Friday, 10 occurrences", "19970905T090000", "FREQ=MONTHLY;COUNT=10;BYDAY=1FR",
		"1997 Sep 5;Oct 3;Nov 7;Dec 5;1998 Jan 2;Feb 6;Mar 6;Apr 3;May 1;Jun 5", false,
	},
	{
		"monthly on the first Friday until December 24", "19970905T090000",
		"FREQ=MONTHLY;UNTIL=19971224T000000Z;BYDAY=1FR", "1997 Sep 5;Oct 3;Nov 7;Dec 5", false,
	},
	{
		"every other month on the first and last Sunday", "19970907T090000",
		"FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU", "1997 Sep 7,28;Nov 2,30;1998 Jan 4,25;Mar 1,29;May 3,31",
		false,
	},
	{
		"the second-to-last Monday", "19970922T090000", "FREQ=MONTHLY;COUNT=6;BYDAY=-2MO",
		"1997 Sep 22;Oct 20;Nov 17;Dec 22;1998 Jan 19;Feb 16", false,
	},
	{
		"the third-to-last day", "19970928T090000", "FREQ=MONTHLY;BYMONTHDAY=-3",
		"1997 Sep 28;Oct 29;Nov 28;Dec 29;1998 Jan 29;Feb 26", true,
	},
	{
		"the 2nd and 15th", "19970902T090000", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15",
		"1997 Sep 2,15;Oct 2,15;Nov 2,15;Dec 2,15;1998 Jan 2,15", false,
	},
	{
		"the first and last day", "19970930T090000", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1",
		"1997 Sep 30;Oct 1,31;Nov 1,30;Dec 1,31;1998 Jan 1,31;Feb 1", false,
	},
	{
		"every 18 months on the 10th to 15th", "19970910T090000",
		"FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15",
		"1997 Sep 10,11,12,13,14,15;1999 Mar 10,11,12,13", false,
	},
	{
		"every Tuesday, every other month", "19970902T090000", "FREQ=MONTHLY;INTERVAL=2;BYDAY=TU",
		"1997 Sep 2,9,16,23,30;Nov 4,11,18,25;1998 Jan 6,13,20,27;Mar 3,10,17,24,31", true,
	},
	{
		"yearly in June and July", "19970610T090000", "FREQ=YEARLY;COUNT=10;BYMONTH=6,7",
		"1997 Jun 10;Jul 10;1998 Jun 10;Jul 10;1999 Jun 10;Jul 10;2000 Jun 10;Jul 10;2001 Jun 10;Jul 10", false,
	},
	{
		"every other year in January, February and March", "19970310T090000",
		"FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3",
		"1997 Mar 10;1999 Jan 10;Feb 10;Mar 10;2001 Jan 10;Feb 10;Mar 10;2003 Jan 10;Feb 10;Mar 10", false,
	},
	{
		"every third year on the 1st, 100th and 200th day", "19970101T090000",
		"FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200",
		"1997 Jan 1;Apr 10;Jul 19;2000 Jan 1;Apr 9;Jul 18;2003 Jan 1;Apr 10;Jul 19;2006 Jan 1", false,
	},
	{
		"the 20th Monday of the year", "19970519T090000", "FREQ=YEARLY;BYDAY=20MO", "1997 May 19;1998 May 18;1999 May 17",
		true,
	},
	{
		"Monday of week 20", "19970512T090000", "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "1997 May 12;1998 May 11;1999 May 17",
		true,
	},
	{
		"every Thursday in March", "19970313T090000", "FREQ=YEARLY;BYMONTH=3;BYDAY=TH",
		"1997 Mar 13,20,27;1998 Mar 5,12,19,26;1999 Mar 4,11,18,25", true,
	},
	{
		"every Thursday in summer", "19970605T090000", "FREQ=YEARLY;BYDAY=TH;BYMONTH=6,7,8",
		"1997 Jun 5,12,19,26;Jul 3,10,17,24,31;Aug 7,14,21,28;1998 Jun 4,11,18,25;Jul 2,9,16,23,30;Aug " +
			"6,13,20,27;1999 Jun 3,10,17,24;Jul 1,8,15,22,29;Aug 5,12,19,26", true,
	},
	{
		"every Friday the 13th", "19970902T090000", "FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13",
		"1998 Feb 13;Mar 13;Nov 13;1999 Aug 13;2000 Oct 13", true,
	},
	{
		"the first Saturday after the first Sunday", "19970913T090000",
		"FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13",
		"1997 Sep 13;Oct 11;Nov 8;Dec 13;1998 Jan 10;Feb 7;Mar 7;Apr 11;May 9;Jun 13", true,
	},
	{
		"every four years, the first Tuesday after a Monday in November", "19961105T090000",
		"FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8", "1996 Nov 5;2000 Nov 7;2004 Nov 2",
		true,
	},
	{
		"the third of Tuesday, Wednesday or Thursday", "19970904T090000", "FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3",
		"1997 Sep 4;Oct 7;Nov 6", false,
	},
	{
		"the second-to-last weekday", "19970929T090000", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2",
		"1997 Sep 29;Oct 30;Nov 27;Dec 30;1998 Jan 29;Feb 26;Mar 30", true,
	},
	{
		"weeks that begin on Monday", "19970805T090000", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO",
		"1997 Aug 5,10,19,24", false,
	},
	{
		"weeks that begin on Sunday", "19970805T090000", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU",
		"1997 Aug 5,17,19,31", false,
	},
	{
		"days that a month lacks", "20070115T090000", "FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5",
		"2007 Jan 15,30;Feb 15;Mar 15,30", false,
	},
}

// dates spells the RFC's short lists out.
func dates(short string) []string {
	var out []string
	year := ""
	for _, month := range strings.Split(short, ";") {
		words := strings.Fields(month)
		if len(words) == 3 {
			year, words = words[0], words[1:]
		}
		for _, day := range strings.Split(words[1], ",") {
			out = append(out, fmt.Sprintf("%s %s %s", year, words[0], day))
		}
	}
	return out
}

func TestWorkedExamplesOfRFC5545(t *testing.T) {
	for _, c := range workedExamples {
		t.Run(c.what, func(t *testing.T) {
			r := parse(t, "DTSTART;TZID=America/New_York:"+c.start+"\nRRULE:"+c.rule, "Europe/London")
			assert.Equal(t, rule.ICalendar, r.Notation())
			want := dates(c.want)
			var got []string
			at := time.Date(1990, 1, 1, 0, 0, 0, 0, time.UTC)
			for range len(want) + 1 {
				next, ok := r.Next(at)
				if !ok {
					break
				}
				require.Equal(t, "09:00:00", next.Format(time.TimeOnly))
				got, at = append(got, next.Format("2006 Jan 2")), next
			}
			if c.goesOn {
				require.Len(t, got, len(want)+1, "it goes on")
				got = got[:len(want)]
			}
			assert.Equal(t, want, got)
		})
	}
}

// rings lists all rings, at most 2000.
func rings(t *testing.T, text, form string) []string {
	t.Helper()
	r := parse(t, text, "Europe/London")
	var out []string
	at := time.Date(1990, 1, 1, 0, 0, 0, 0, time.UTC)
	for range 2000 {
		next, ok := r.Next(at)
		if !ok {
			break
		}
		out, at = append(out, next.Format(form)), next
	}
	return out
}

const newYork = "DTSTART;TZID=America/New_York:19970902T090000\n"

func TestLongerWorkedExamplesOfRFC5545(t *testing.T) {
	daily := rings(t, newYork+"RRULE:FREQ=DAILY;UNTIL=19971224T000000Z", "Jan 2 15:04 MST")
	assert.Len(t, daily, 113)
	assert.Equal(t, []string{"Sep 2 09:00 EDT", "Oct 25 09:00 EDT", "Oct 26 09:00 EST", "Dec 23 09:00 EST"},
		[]string{daily[0], daily[53], daily[54], daily[112]})

	start := "DTSTART;TZID=America/New_York:19980101T090000\n"
	januaries := rings(t, start+"RRULE:FREQ=YEARLY;UNTIL=20000131T140000Z;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA",
		"2006 Jan 2")
	assert.Len(t, januaries, 93)
	assert.Equal(t, januaries, rings(t, start+"RRULE:FREQ=DAILY;UNTIL=20000131T140000Z;BYMONTH=1", "2006 Jan 2"))

	hours := "Jan 2 15:04"
	// The RFC lists 15:00 too, which its UNTIL of 17:00 UTC forbids (erratum 3883); 21:00 UTC is 17:00 in New York.
	assert.Equal(t, []string{"Sep 2 09:00", "Sep 2 12:00", "Sep 2 15:00"},
		rings(t, newYork+"RRULE:FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T210000Z", hours))
	assert.Equal(t, []string{"Sep 2 09:00", "Sep 2 12:00"},
		rings(t, newYork+"RRULE:FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T170000Z", hours))
	assert.Equal(t, []string{"Sep 2 09:00", "Sep 2 09:15", "Sep 2 09:30", "Sep 2 09:45", "Sep 2 10:00", "Sep 2 10:15"},
		rings(t, newYork+"RRULE:FREQ=MINUTELY;INTERVAL=15;COUNT=6", hours))
	assert.Equal(t, []string{"Sep 2 09:00", "Sep 2 10:30", "Sep 2 12:00", "Sep 2 13:30"},
		rings(t, newYork+"RRULE:FREQ=MINUTELY;INTERVAL=90;COUNT=4", hours))
	twenties := rings(t, newYork+"RRULE:FREQ=DAILY;BYHOUR=9,10,11,12,13,14,15,16;BYMINUTE=0,20,40;COUNT=48", hours)
	assert.Equal(t, []string{"Sep 2 09:00", "Sep 2 09:20", "Sep 2 16:40", "Sep 3 09:00"},
		[]string{twenties[0], twenties[1], twenties[23], twenties[24]})
	assert.Equal(t, twenties,
		rings(t, newYork+"RRULE:FREQ=MINUTELY;INTERVAL=20;BYHOUR=9,10,11,12,13,14,15,16;COUNT=48", hours))
}

func TestFormsOfICalendar(t *testing.T) {
	const form = "2006-01-02 15:04:05 MST"
	for text, want := range map[string][]string{
		"DTSTART:20261201T140000Z":                                                                         {"2026-12-01 14:00:00 UTC"},
		"DTSTART:20261201T140000":                                                                          {"2026-12-01 14:00:00 GMT"},
		"DTSTART;VALUE=DATE:20261201":                                                                      {"2026-12-01 00:00:00 GMT"},
		"dtstart:20261201T140000\r\nrrule:freq=daily;count=2":                                              {"2026-12-01 14:00:00 GMT", "2026-12-02 14:00:00 GMT"},
		"DTSTART:20261201T140000 RRULE:FREQ=DAILY;COUNT=1":                                                 {"2026-12-01 14:00:00 GMT"},
		`DTSTART:20261201T140000\nRRULE:FREQ=DAILY;COUNT=1`:                                                {"2026-12-01 14:00:00 GMT"},
		"DTSTART:20261201T140000\nRRULE:FREQ=DAI\n LY;COU\n NT=1":                                          {"2026-12-01 14:00:00 GMT"},
		"DTSTART:20261201T140000\nRRULE:FREQ=DAILY;COUNT=3\nEXDATE:20261202T140000\nRDATE:20261205T090000": {"2026-12-01 14:00:00 GMT", "2026-12-03 14:00:00 GMT", "2026-12-05 09:00:00 GMT"},
		"DTSTART:20261201T140000\nRRULE:FREQ=DAILY;COUNT=3\nEXDATE;VALUE=DATE:20261202":                    {"2026-12-01 14:00:00 GMT", "2026-12-03 14:00:00 GMT"},
		"DTSTART:20261201T140000\nRRULE:FREQ=DAILY;COUNT=2\nRDATE;VALUE=PERIOD:20261201T080000Z/PT1H":      {"2026-12-01 08:00:00 GMT", "2026-12-01 14:00:00 GMT", "2026-12-02 14:00:00 GMT"},
		"DTSTART:20261201T140030\nRRULE:FREQ=SECONDLY;INTERVAL=40;COUNT=3":                                 {"2026-12-01 14:00:30 GMT", "2026-12-01 14:01:10 GMT", "2026-12-01 14:01:50 GMT"},
		"DTSTART:20261201T140000\nRRULE:FREQ=MONTHLY;BYDAY=MO,TU;BYHOUR=9,15;BYSETPOS=1,-1;COUNT=4":        {"2026-12-29 15:00:00 GMT", "2027-01-04 09:00:00 GMT", "2027-01-26 15:00:00 GMT", "2027-02-01 09:00:00 GMT"},
		"DTSTART:20261201T000000\nRRULE:FREQ=HOURLY;INTERVAL=6;BYMINUTE=0,20,40;BYSETPOS=-1;COUNT=3":       {"2026-12-01 00:40:00 GMT", "2026-12-01 06:40:00 GMT", "2026-12-01 12:40:00 GMT"},
		"DTSTART:20261201T000000\nRRULE:FREQ=YEARLY;BYWEEKNO=1;BYDAY=MO;COUNT=2":                           {"2027-01-04 00:00:00 GMT", "2028-01-03 00:00:00 GMT"},
		"DTSTART:20261201T000000\nRRULE:FREQ=YEARLY;BYWEEKNO=-1;BYDAY=SU;COUNT=2":                          {"2027-01-03 00:00:00 GMT", "2028-01-02 00:00:00 GMT"},
		"DTSTART:20261024T013000\nRRULE:FREQ=HOURLY;INTERVAL=24;COUNT=3":                                   {"2026-10-24 01:30:00 BST", "2026-10-25 01:30:00 BST", "2026-10-26 00:30:00 GMT"},
		"DTSTART:20270328T003000\nRRULE:FREQ=MINUTELY;INTERVAL=30;COUNT=3":                                 {"2027-03-28 00:30:00 GMT", "2027-03-28 02:00:00 BST", "2027-03-28 02:30:00 BST"},
		"DTSTART;TZID=Pacific/Auckland:20261201T090000\nRRULE:FREQ=DAILY;UNTIL=20261202T200000Z":           {"2026-12-01 09:00:00 NZDT", "2026-12-02 09:00:00 NZDT", "2026-12-03 09:00:00 NZDT"},
		"DTSTART:20261201T090000\nRRULE:FREQ=DAILY;UNTIL=20261202":                                         {"2026-12-01 09:00:00 GMT", "2026-12-02 09:00:00 GMT"},
		"DTSTART:20261201T235960\nRRULE:FREQ=DAILY;COUNT=1":                                                nil,
		"DTSTART:20261201T235900\nRRULE:FREQ=DAILY;BYSECOND=60;COUNT=1":                                    {"2026-12-01 23:59:59 GMT"},
	} {
		if want == nil {
			_, err := rule.Parse(text, zoneNamed(t, "Europe/London"))
			assert.Error(t, err, text)
			continue
		}
		assert.Equal(t, want, rings(t, text, form), text)
	}
}

func TestICalendarThatCannotBeRead(t *testing.T) {
	const start = "DTSTART:20261201T140000\n"
	for text, want := range map[string]string{
		start + "RRULE:FREQ=FORTNIGHTLY":                     `column 36: found "FORTNIGHTLY", expected SECONDLY, MINUTELY`,
		start + "RRULE:FREQ=DAILY;BYDAY=XX":                  `column 48: found "XX", expected weekdays such as MO`,
		start + "RRULE:FREQ=WEEKLY;BYDAY=1MO":                `column 49: found "1MO", expected a weekday without a number`,
		start + "RRULE:FREQ=MONTHLY;BYMONTHDAY=0":            `expected a number from 1 to 31 or from -31 to -1`,
		start + "RRULE:FREQ=MONTHLY;BYMONTHDAY=1,32":         `column 57: found "32"`,
		start + "RRULE:FREQ=DAILY;BYWEEKNO=3":                "no BYWEEKNO with FREQ=DAILY",
		start + "RRULE:FREQ=WEEKLY;BYMONTHDAY=3":             "no BYMONTHDAY with FREQ=WEEKLY",
		start + "RRULE:FREQ=DAILY;COUNT=2;UNTIL=20270101":    "either COUNT or UNTIL",
		start + "RRULE:FREQ=DAILY;COUNT=0":                   "expected a number from 1 to 100000",
		start + "RRULE:FREQ=DAILY;INTERVAL=-1":               "expected a number from 1 to",
		start + "RRULE:FREQ=DAILY;COUNT=999999999":           "expected a number from 1 to 100000",
		start + "RRULE:FREQ=DAILY;BYSETPOS=1":                "another BY part",
		start + "RRULE:FREQ=DAILY;FREQ=DAILY":                "each part only once",
		start + "RRULE:FREQ=DAILY;SHAPE=ROUND":               `found "SHAPE"`,
		start + "RRULE:INTERVAL=2":                           "begins with FREQ=",
		start + "RRULE:FREQ=MONTHLY;BYMONTHDAY=31;BYMONTH=2": "this never rings: none of its months has a day 31",
		start + "RRULE:FREQ=DAILY;UNTIL=20260101":            "it ends before it begins",
		start + "RRULE:FREQ=DAILY\nRRULE:FREQ=DAILY":         "only one RRULE",
		start + "EXRULE:FREQ=DAILY":                          "EXDATE",
		start + "SUMMARY:Tide tables":                        `found "SUMMARY", expected DTSTART, RRULE, RDATE or EXDATE`,
		"DTSTART;TZID=Mars/Olympus:20261201T140000":          `found "Mars/Olympus", expected a time zone`,
		"DTSTART:2026-12-01":                                 "expected a date or time such as 20261201",
		"DTSTART":                                            "expected a colon",
		"RRULE:FREQ=DAILY;BYHOUR=9":                          "the minute is not said: put a DTSTART",
		"RRULE:FREQ=HOURLY":                                  "the start is not said",
		"EXDATE:20261201T140000":                             "a DTSTART or an RRULE is missing",
		// In UTC an even number of hours after 08:00 is never 09:00.
		"DTSTART:20261201T080000Z\nRRULE:FREQ=HOURLY;INTERVAL=2;BYHOUR=9": "none of its elapsed steps",
	} {
		_, err := rule.Parse(text, zoneNamed(t, "Europe/London"))
		var e *rule.Error
		if assert.ErrorAs(t, err, &e, text) {
			assert.Contains(t, e.Error(), want, text)
			assert.LessOrEqual(t, e.Column, len(text)+1, text)
		}
	}
}

// A DTSTART that its own RRULE does not match is no instance, with a warning.
func TestStartThatItsRuleDoesNotMatch(t *testing.T) {
	r := parse(t, "DTSTART:20261201T090000\nRRULE:FREQ=WEEKLY;BYDAY=FR;COUNT=2", "Europe/London") // a Tuesday
	assert.Equal(t, []string{"Fri 2026-12-04 09:00 +0000", "Fri 2026-12-11 09:00 +0000", "never"},
		next(t, r, "2026-11-23T00:00:00Z", 3))
	assert.Contains(t, strings.Join(r.Warnings(time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), 100), " "),
		"does not match its own rule")
}
