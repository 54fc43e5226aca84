package main

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbell/internal/core/job"
	"ironbell/internal/core/rows"
	"ironbell/internal/house"
)

// hard is a report that is hard to lay out.
type hard struct {
	name     string
	output   job.Output
	sections []section
	look     *house.Look // of the house; the service's own when nil
}

type section struct {
	job.Section

	form    job.Form
	columns []rows.Column
	rows    []rows.Row
}

// columns reads "Port Route:text Sailings:whole" and the like; words of a head are joined by _.
func columns(text string) (all []rows.Column) {
	for one := range strings.FieldsSeq(text) {
		name, kind, _ := strings.Cut(one, ":")
		if kind == "" {
			kind = string(rows.Text)
		}
		all = append(all, rows.Column{Name: strings.ReplaceAll(name, "_", " "), Kind: rows.Kind(kind)})
	}
	return all
}

func row(cells ...string) rows.Row {
	r := make(rows.Row, len(cells))
	for i, c := range cells {
		r[i] = rows.Cell{Text: []byte(c), Null: c == "NULL"}
	}
	return r
}

var routes = []string{
	"Tarnwick Quay to Ellerhaven", "Ellerhaven to Tarnwick Quay", "Tarnwick Quay to Grey Skerry", "Grey Skerry to Tarnwick Quay",
	"Tarnwick Quay to Pennold", "Pennold to Fennmouth", "Fennmouth to Tarnwick Quay",
}

var ports = []string{"Tarnwick Quay", "Ellerhaven", "Grey Skerry", "Pennold", "Fennmouth"}

// sailings is a table of n rows.
func sailings(name string, n int, change ...func(*section)) section {
	s := section{Section: job.Section{Name: name, Columns: []job.Column{
		{Name: "On time", Percent: true, Decimals: places(1), Emphasis: []job.Emphasis{{If: `cell("On time") < 0.6`, As: "bad"}}},
		{Name: "Fuel", Unit: "l"},
	}}, columns: columns("Port Route Day:date Passengers:whole Fuel:number On_time:number")}
	for i := range n {
		s.rows = append(s.rows, row(ports[i*len(ports)/max(n, 1)], routes[i%len(routes)],
			day(i%28), fmt.Sprint(1000+i*37%900), fmt.Sprintf("%.1f", 310.5+float64(i*71%400)), fmt.Sprintf("0.%03d", 500+i*97%500)))
	}
	for _, c := range change {
		c(&s)
	}
	return s
}

func places(n int) *int { return &n }

func day(n int) string { return time.Date(2026, 11, 1+n, 0, 0, 0, 0, time.UTC).Format(time.DateOnly) }

func grouped(levels ...string) func(*section) {
	return func(s *section) {
		s.Group = levels
		s.Columns = append(s.Columns, job.Column{Name: "Passengers", Total: job.TotalSum})
	}
}

func words(n int, word string) string { return strings.TrimSpace(strings.Repeat(word+" ", n)) }

// chart is a chart of series over n steps; value gives each number.
func chart(form job.ChartForm, n int, change func(*job.Chart), value func(series, step int) string, series ...string) section {
	c := &job.Chart{Form: form, Along: "Day", Series: series}
	if change != nil {
		change(c)
	}
	s := section{Section: job.Section{Name: "Fuel burn", Kind: job.SectionChart, Chart: c}}
	s.columns = columns("Day:date")
	for _, name := range series {
		s.columns = append(s.columns, rows.Column{Name: name, Kind: rows.Number})
	}
	for i := range n {
		cells := []string{day(i)}
		for k := range series {
			cells = append(cells, value(k, i))
		}
		s.rows = append(s.rows, row(cells...))
	}
	return s
}

func rising(series, step int) string { return fmt.Sprint(900 + 400*series + step*37*(1+series%2)) }

// split is a chart with one series for each of n vessels.
func split(form job.ChartForm, n, steps int, along string) section {
	s := section{
		Section: job.Section{Name: "By vessel", Kind: job.SectionChart, Chart: &job.Chart{
			Form: form, Along: "Along", Split: "Vessel", Series: []string{"Litres"},
		}},
		columns: columns("Along Vessel Litres:number"),
	}
	for i := range steps {
		for k := range n {
			s.rows = append(s.rows, row(fmt.Sprintf(along, i+1), fmt.Sprintf("Vessel %02d", k+1), fmt.Sprint(100*(k+1)+i*i)))
		}
	}
	return s
}

func figures(name string, cells ...string) section {
	s := section{Section: job.Section{Name: name, Kind: job.SectionFigures}}
	r := make([]string, 0, len(cells)/2)
	for pair := range slices.Chunk(cells, 2) {
		s.columns = append(s.columns, rows.Column{Name: pair[0], Kind: rows.Number})
		r = append(r, pair[len(pair)-1])
	}
	s.rows = []rows.Row{row(r...)}
	return s
}

func prose(text string) section {
	return section{Section: job.Section{Name: "Remarks", Kind: job.SectionText, Text: text}}
}

// table is a table of given rows, with columns as columns reads them.
func table(name, of string, all ...rows.Row) section {
	return section{Section: job.Section{Name: name}, columns: columns(of), rows: all}
}

// wide is a table of n columns of numbers.
func wide(n, high int, head string) section {
	s := section{Section: job.Section{Name: "Wide", Key: []string{"Vessel"}}, columns: columns("Vessel")}
	for i := range n {
		s.columns = append(s.columns, rows.Column{Name: fmt.Sprintf(head, i+1), Kind: rows.Number})
	}
	for r := range high {
		cells := []string{fmt.Sprintf("Kittiwake %d", r+1)}
		for i := range n {
			cells = append(cells, fmt.Sprint(1000*(r+1)+i*i*13))
		}
		s.rows = append(s.rows, row(cells...))
	}
	return s
}

// scripts are names as people write them.
var scripts = []string{
	"Ψαρομάλλης Αντώνιος", "Щербаков Юрий", "Nguyễn Thị Hạnh", "渡し船の時刻表", "渡轮时刻表", "여객선 시간표", "جدول العبّارات", "לוח המעבורות",
	"ตารางเรือข้ามฟาก", "नौका समय सारणी", "Þórarinn Ægisson", "படகு நேர அட்டவணை", "តារាងពេលវេលា", "ফেরি 2026 সময়সূচী", "لوح 2026 (Wren) المراسي", "e\u0301te\u0301 combined", "⛴ 🌊 👩‍✈️ ≤ 5 ₹",
}

func reports() []hard {
	var named []rows.Row
	for i, s := range scripts {
		named = append(named, row(s, fmt.Sprint(i)))
	}
	var twelve []section
	for i := range 12 {
		twelve = append(twelve, sailings(fmt.Sprintf("Part %d: %s", i+1, ports[i%len(ports)]), 9))
	}
	numbers := func(c *job.Chart) { c.Numbers = true }
	titled := func(c *job.Chart) {
		c.Patterns, c.Numbers, c.AlongTitle, c.ValueTitle = true, c.Form != job.ChartLine, "Day of sailing", "Litres of marine gas oil"
	}
	alone := func(c *job.Chart) { c.WithoutTable = true; c.Targets = []job.Target{{At: 1800, Label: "Bunker limit"}} }
	page := func(p job.Page) job.Output { return job.Output{Page: &p} }
	in := func(locale string) job.Output { return job.Output{Locale: locale} }
	week := []section{
		figures("The week", "Sailings", "560", "On time", "91.7"), chart(job.ChartBar, 7, numbers, rising, "Harrier", "Petrel", "Skipper"),
		sailings("Sailings", 30, grouped("Port")),
	}
	return append([]hard{
		{name: "House style", sections: week, look: ferries()},
		{name: "House style with a dark, wide logo", sections: week, look: dark()},
	}, []hard{
		{name: "One row", output: job.Output{}, sections: []section{sailings("Sailings", 1)}},
		{name: "No rows", output: job.Output{}, sections: []section{sailings("Sailings", 0)}},
		{name: "Forty rows", output: job.Output{}, sections: []section{sailings("Sailings", 40)}},
		{name: "Six hundred rows", output: job.Output{}, sections: []section{sailings("Sailings", 600)}},
		{name: "Groups with totals", output: job.Output{}, sections: []section{sailings("Sailings", 30, grouped("Port"))}},
		{name: "A summary", output: job.Output{}, sections: []section{sailings("Sailings", 30, grouped("Port"), func(s *section) { s.form = job.FormSummary })}},
		{name: "Long words", output: job.Output{}, sections: []section{table("Words", "Ship Remark Passengers:whole",
			row("Kittiwake", words(12, "Unladenfreightvehicleaccompanied"), "1240"), row("Guillemot", strings.Repeat("Donaudampfschiff", 9), "7"))}},
		{name: "Long texts", output: job.Output{}, sections: []section{table("Texts", "Ship Remark Passengers:whole",
			row("Kittiwake", words(60, "waits for the tide"), "1240"), row("Guillemot", words(25, "at the outer quay"), "96"))}},
		{name: "A text longer than a page", output: job.Output{}, sections: []section{table("Texts", "Ship Remark", row("Kittiwake", words(2500, "tide")))}},
		{name: "Lines within cells", output: job.Output{}, sections: []section{table("Lines", "Ship Remark", row("Kittiwake", "first\nsecond\nthird"), row("Fulmar", "one"))}},
		{name: "Long heads", output: job.Output{}, sections: []section{table("Heads", "Classification_of_unaccompanied_vehicles:whole Administrationonlyremark Total:whole Departurescancelled:whole Chargeableweight:number",
			row("1", "x", "2", "3", "4.5"), row("10000", "unaccompanied", "2", "3", "1234567.25"))}},
		{name: "Twelve columns", output: job.Output{}, sections: []section{wide(12, 20, "Passengers %d")}},
		{name: "Twenty-five columns", output: job.Output{}, sections: []section{wide(25, 20, "Measure %02d")}},
		{name: "Forty columns", output: job.Output{}, sections: []section{wide(39, 12, "M%02d")}},
		{name: "Forty columns, smaller", output: page(job.Page{Wide: job.WideSmaller}), sections: []section{wide(39, 12, "M%02d")}},
		{name: "Large numbers", output: job.Output{}, sections: []section{table("Numbers", "What Sum:number Count:whole",
			row("a", "123456789012345678.25", "9007199254740993"), row("b", "-0.000001", "-3"), row("c", "1e20", "0"), row("d", "NaN", "NULL"))}},
		{name: "Nothing and nothing more", output: job.Output{}, sections: []section{table("Nulls", "Port Day:date Sum:number Late:yes/no", row("NULL", "NULL", "NULL", "NULL"), row("", "2026-11-20", "0", "t"))}},
		{name: "Every script", output: job.Output{}, sections: []section{table("Names", "Name No:whole", named...)}},
		{name: "Marks of HTML and formulas", output: job.Output{}, sections: []section{table("Marks & <signs>", "Text No:whole", row(`<script>alert("x")</script>`, "1"), row(`=HYPERLINK("x")`, "2"), row(`"quoted" & 'so'`, "3"))}},
		{name: "Twelve sections", output: job.Output{}, sections: twelve},
		{name: "Twelve sections with contents", output: page(job.Page{Contents: true}), sections: twelve},
		{name: "One page", output: page(job.Page{OnePage: true}), sections: []section{figures("The week", "Sailings", "560", "On time", "91.7"), chart(job.ChartBar, 7, nil, rising, "Harrier", "Petrel"), sailings("Sailings", 30)}},
		{name: "A page on a grid", output: page(job.Page{OnePage: true, Grid: true}), sections: []section{
			figures("The week", "Sailings", "560", "On time", "91.7", "Passengers", "18240", "Late routes", "3"),
			chart(job.ChartBar, 7, nil, rising, "Harrier", "Petrel"), chart(job.ChartLine, 14, nil, rising, "Harrier", "Petrel", "Skipper"),
			sailings("Sailings", 14), table("Ports", "Port Sailings:whole", row("Tarnwick Quay", "212"), row("Ellerhaven", "140"), row("Pennold", "96")),
			prose("Two storms closed Grey Skerry. The winter timetable begins on Monday. All six vessels are in service."),
		}},
		{name: "A slide on a grid", output: page(job.Page{OnePage: true, Grid: true}), look: ferries(), sections: []section{
			figures("The week", "Sailings", "560", "On time", "91.7", "Passengers", "18240", "Late routes", "3"),
			chart(job.ChartBar, 7, nil, rising, "Harrier", "Petrel"), chart(job.ChartLine, 14, nil, rising, "Harrier", "Petrel", "Skipper"),
			prose("Two storms closed Grey Skerry.\nThe winter timetable begins on Monday.\nAll six vessels are in service."),
		}},
		{name: "In German", output: in("de"), sections: []section{sailings("Fahrten", 12, grouped("Port")), chart(job.ChartLine, 14, nil, rising, "Harrier")}},
		{name: "In French", output: in("fr"), sections: []section{sailings("Traversées", 12, grouped("Port"))}},
		{name: "In Greek", output: in("el"), sections: []section{sailings("Δρομολόγια", 5), figures("Σύνοψη", "Επιβάτες", "18240")}},
		{name: "One figure", output: job.Output{}, sections: []section{figures("Today", "Sailings", "42")}},
		{name: "Twenty figures", output: job.Output{}, sections: []section{figures("Many", strings.Fields(words(20, "Passengers_carried 1234567.5"))...)}},
		{name: "Long figures", output: job.Output{}, sections: []section{figures("Long", "A label that goes on for quite a while and then some more", "123456789012345.67", "B", "1")}},
		{name: "A line of many days", output: job.Output{}, sections: []section{chart(job.ChartLine, 300, nil, rising, "Harrier", "Petrel")}},
		{name: "A line of one day", output: job.Output{}, sections: []section{chart(job.ChartLine, 1, nil, rising, "Harrier")}},
		{name: "A chart of nothing", output: job.Output{}, sections: []section{chart(job.ChartLine, 0, nil, rising, "Harrier")}},
		{name: "Patterns and titles of axes", sections: []section{
			chart(job.ChartBar, 6, titled, rising, "Harrier", "Petrel", "Skipper", "Fulmar"), chart(job.ChartStacked, 7, titled, rising, "Harrier", "Petrel", "Skipper"),
			chart(job.ChartLine, 14, titled, rising, "Harrier", "Petrel", "Skipper"),
		}},
		{name: "Negative bars", output: job.Output{}, sections: []section{chart(job.ChartBar, 8, numbers, func(k, i int) string { return fmt.Sprint(120*(i-4) + 50*k) }, "Harrier", "Petrel")}},
		{name: "Stacked, with numbers", output: job.Output{}, sections: []section{chart(job.ChartStacked, 7, numbers, rising, "Harrier", "Petrel", "Skipper")}},
		{name: "A target, without the table", output: job.Output{}, sections: []section{chart(job.ChartLine, 20, alone, rising, "Harrier", "Petrel")}},
		{name: "Missing values", output: job.Output{}, sections: []section{chart(job.ChartLine, 20, nil, func(k, i int) string {
			if i%5 == 2 {
				return "NULL"
			}
			return rising(k, i)
		}, "Harrier", "Petrel")}},
		{name: "Thirty series", output: job.Output{}, sections: []section{split(job.ChartStacked, 30, 6, "Week %d")}},
		{name: "Shares", output: job.Output{}, sections: []section{split(job.ChartShare, 5, 8, "Week %d")}},
		{name: "Bars with long names", output: job.Output{}, sections: []section{split(job.ChartBar, 2, 7, "Tarnwick Quay to Grey Skerry by way of the inner sound %d")}},
		{name: "A hundred bars", output: job.Output{}, sections: []section{split(job.ChartBar, 1, 100, "Berth %d")}},
		{name: "A long remark", output: job.Output{}, sections: []section{prose(words(400, "Two storms closed Grey Skerry.") + "\n\n" + words(40, "Winter timetable."))}},
		{name: "A wide page", output: page(job.Page{Direction: "sideways", Size: "A5"}), sections: []section{sailings("Sailings", 25)}},
		{name: "A name that goes on and on, " + words(12, "and on") + ", with % & ? # / and “quotes”", output: job.Output{}, sections: []section{sailings(words(20, "Sailings"), 5)}},
	}...)
}
