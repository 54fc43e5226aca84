package job

import (
	"bytes"
	"encoding/json"
	"time"
)

// OwnSchedule is what somebody says who has a report sent to themselves: four things.
type OwnSchedule struct {
	Report string `json:"report" minLength:"1" maxLength:"200" doc:"name of a report that is open to own schedules"`
	When   string `json:"when" minLength:"1" maxLength:"2000" doc:"when it comes: in words, as five cron fields, or as iCalendar DTSTART and RRULE"`
	Form   string `json:"form,omitempty" enum:"pdf,xlsx,csv,html-mail,pptx" doc:"as what it comes; pdf when left out"`
	Values Values `json:"values,omitempty" doc:"values of what the report asks for; what it has by itself when left out"`
}

// Bounds of own schedules.
const (
	MaxOwnSchedules = 20 // of one person
	MaxOwnRings     = 24 // of one schedule, a day
)

// Definition is the job that an own schedule is: of a person, over a mail server.
func (o OwnSchedule) Definition(login, zone, destination string) Definition {
	form := o.Form
	if form == "" {
		form = "pdf"
	}
	return Definition{
		Zone: zone, Personal: true, Values: o.Values, Triggers: []Trigger{{Timing: Timing{Rule: o.When}}},
		Retry: Retry{Times: 3, Wait: Duration(10 * time.Minute)},
		Tasks: []Task{
			{
				Name: "report", Kind: KindReport,
				Report: &ReportTask{Report: o.Report, Outputs: []Output{{Format: form}}},
			},
			{
				Name: "mail", Kind: KindDeliver,
				Deliver: &DeliverTask{Destination: destination, To: []string{"person:" + login}},
			},
		},
	}.WithDefaults()
}

// OwnOf reads an own schedule back from its job; ok is false when the job says anything else.
func OwnOf(d Definition, login string) (o OwnSchedule, ok bool) {
	if !d.Personal || len(d.Triggers) != 1 || len(d.Tasks) != 2 || d.Tasks[0].Report == nil ||
		len(d.Tasks[0].Report.Outputs) != 1 || d.Tasks[1].Deliver == nil {
		return o, false
	}
	o = OwnSchedule{
		Report: d.Tasks[0].Report.Report, When: d.Triggers[0].Rule, Form: d.Tasks[0].Report.Outputs[0].Format,
		Values: d.Values,
	}
	return o, SaySame(o.Definition(login, d.Zone, d.Tasks[1].Deliver.Destination), d)
}

// SaySame tells whether two definitions say the same, beside what the service gives.
func SaySame(a, b Definition) bool {
	text := func(d Definition) []byte {
		d.Triggers = each(d.Triggers, func(t Trigger) Trigger {
			t.ID, t.Reading, t.NextDue, t.NextNominal = 0, "", nil, nil
			return t
		})
		d.Tasks = each(d.Tasks, func(t Task) Task {
			if t.Report != nil {
				r := *t.Report
				r.Takes = nil
				t.Report = &r
			}
			return t
		})
		out, err := json.Marshal(d.WithDefaults())
		if err != nil {
			return nil
		}
		return out
	}
	one := text(a)
	return one != nil && bytes.Equal(one, text(b))
}
