package rule

import (
	"errors"
	"slices"
	"strings"
	"time"
)

// The words that a worded rule may go on with, by where they come: at its beginning, within
// a clause, when days are said and a time is wanted, and behind a rule that is whole. Which
// of them fit is asked of the reader itself; see Complete.
var (
	toBegin = []string{
		"every day", "on weekdays", "on open days", "every hour", "every 15 minutes", "on the first", "on the last",
		"on day 1", "every month", "every quarter", "every year", "once on",
	}
	toFill = []string{
		"day", "open day", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday", "weekday",
		"weekdays", "weekends", "open days", "closed days", "15 minutes", "hour", "minute", "second", "week", "2 weeks",
		"every month", "every quarter", "every year", "month", "quarter", "year", "first", "second", "third", "fourth",
		"last", "minutes", "hours", "days", "weeks", "months", "years", "rings", "january", "february", "march", "april",
		"may", "june", "july", "august", "september", "october", "november", "december", "and", "to", "06:00", "18:00",
		"1", "15", "13th", "closed", "begin on", "elapsed", "of every month",
	}
	toTime = []string{
		"at 06:00", "at 18:00", "of every month", "of every quarter", "of every year", "between 06:00 and 22:00",
		"every 15 minutes", "every hour", "at :05", "and", "to", "or on", "if", "in",
	}
	toEnd = []string{
		"skip closed days", "before closed days", "after closed days", "from", "until", "ending after 10 rings",
		"except on", "also on", "in", "of every month", "and", "only the first", "weeks begin on", "every", "at",
		"between", "within",
	}
	// joining are words behind which another of them makes no sense.
	joining = []string{
		"every", "on", "at", "in", "and", "to", "of", "between", "within", "from", "until", "by", "the", "if", "except",
		"also",
	}
)

// maxCompletions is how many ways to go on are told.
const maxCompletions = 10

// Completion is a way to go on with a rule that is being written.
type Completion struct {
	Text string // the text up to the new place of the caret
	Word string // what is offered
}

// Complete says how a worded rule may go on behind what is written before the caret: a part of
// a word that stands there is completed, else a word follows. Each offer is one with which the
// text is a rule, or the beginning of one. Rules in cron and iCalendar have none.
func (o Options) Complete(before string) []Completion {
	if len(before) > maxText || notationOf(before) != Words {
		return nil
	}
	if o.Zone == nil {
		o.Zone = time.UTC
	}
	part := before[strings.LastIndexAny(before, " \t\r\n,;")+1:]
	head := before[:len(before)-len(part)]
	if part != "" && o.begins(before) {
		return o.following(before+" ", "") // the word is a whole one
	}
	return o.following(head, part)
}

// following are the words behind a text that begin with a part and fit there.
func (o Options) following(head, part string) []Completion {
	var lists [][]string
	_, err := o.Parse(head)
	var wrong *Error
	switch {
	case strings.TrimSpace(head) == "":
		lists = [][]string{toBegin, toFill, toTime, toEnd}
	case err == nil:
		lists = [][]string{toEnd, toTime, toFill}
	case errors.As(err, &wrong) && wrong.Expected == wantsTime:
		lists = [][]string{toTime, toEnd, toFill}
	default:
		lists = [][]string{toFill, toTime}
	}
	last := ""
	if words := strings.Fields(head); len(words) > 0 {
		last = strings.ToLower(words[len(words)-1])
	}
	var out []Completion
	for _, word := range slices.Concat(lists...) {
		if len(out) == maxCompletions {
			break
		}
		first, _, _ := strings.Cut(word, " ")
		if !strings.HasPrefix(word, strings.ToLower(part)) || strings.EqualFold(word, part) || first == last ||
			slices.Contains(joining, first) && slices.Contains(joining, last) && (last != "of" || first != "every") ||
			slices.ContainsFunc(out, func(c Completion) bool { return c.Word == word }) {
			continue
		}
		if o.begins(head + word) {
			out = append(out, Completion{Text: head + word, Word: word})
		}
	}
	return out
}

// begins tells whether a text is a rule, or may become one when more is written behind it.
func (o Options) begins(text string) bool {
	_, err := o.Parse(text)
	if err == nil {
		return true
	}
	var wrong *Error
	return errors.As(err, &wrong) && wrong.Found == "" && wrong.Column > len(text) && len(wrong.Offers) == 0
}
