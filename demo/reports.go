package demo

import "ironbell/internal/core/job"

type namedReport struct {
	name, owner string
	job.ReportDefinition
}

var (
	fromTo = []job.Parameter{
		{Name: "from", Label: "From", Type: job.TypeDate, Required: true, Default: "start of last month"},
		{Name: "to", Label: "To", Type: job.TypeDate, Required: true, Default: "end of last month"},
	}
	oneDay = []job.Parameter{{Name: "day", Label: "Day", Type: job.TypeDate, Required: true, Default: "yesterday"}}
	// somePorts can be chosen by name; all of them are, unless somebody does.
	somePorts = job.Parameter{
		Name: "port", Label: "Ports", Help: "Only departures from these ports.", Type: job.TypeText, Several: true,
		All: true, Required: true, Default: "all",
		Choices: &job.Choices{SQL: "SELECT code, name FROM ports ORDER BY name"},
	}
)

func digits(n int) *int { return &n }

func when(condition string, as job.Mark) []job.Emphasis {
	return []job.Emphasis{{If: condition, As: as}}
}

var reports = []namedReport{
	{"Sailing punctuality by route", "mara", job.ReportDefinition{
		Title:  "Sailing punctuality, {value.from} to {value.to}",
		Source: "tarnwick",
		Parameters: append([]job.Parameter{{
			Name: "tolerance", Label: "Minutes that still count as on time",
			Help: "A sailing that leaves later than this after its time is late.", Type: job.TypeWhole, Required: true,
			Default: 5.0,
		}}, fromTo...),
		Sections: []job.Section{
			{
				Name: "The period in figures", Kind: job.SectionFigures, Columns: []job.Column{
					{Name: "Sailings", Before: "Sailings before", Better: job.BetterMore},
					{
						Name: "On time", Percent: true, Decimals: digits(1), Before: "On time before",
						Better: job.BetterMore,
					},
					{Name: "Cancelled", Before: "Cancelled before", Better: job.BetterLess},
					{
						Name: "Mean delay", Unit: "min", Decimals: digits(1), Before: "Mean delay before",
						Better: job.BetterLess,
					},
				},
				SQL: `WITH both_periods AS (
  SELECT s.due >= :from AS now, s.left_at, s.due, s.cancelled FROM sailings s
  WHERE s.due >= :from - (:to - :from + 1) AND s.due < :to + 1)
SELECT count(*) FILTER (WHERE now) AS "Sailings", count(*) FILTER (WHERE NOT now) AS "Sailings before",
  avg((left_at <= due + make_interval(mins => :tolerance::int))::int) FILTER (WHERE now AND left_at IS NOT NULL) AS "On time",
  avg((left_at <= due + make_interval(mins => :tolerance::int))::int) FILTER (WHERE NOT now AND left_at IS NOT NULL) AS "On time before",
  count(cancelled) FILTER (WHERE now) AS "Cancelled", count(cancelled) FILTER (WHERE NOT now) AS "Cancelled before",
  avg(extract(epoch FROM left_at - due) / 60) FILTER (WHERE now) AS "Mean delay", avg(extract(epoch FROM left_at - due) / 60) FILTER (WHERE NOT now) AS "Mean delay before"
FROM both_periods`,
			},
			{
				Name: "On time by day", Kind: job.SectionChart,
				Chart: &job.Chart{Form: job.ChartLine, Series: []string{"On time"}},
				Columns: []job.Column{
					{Name: "Day", Date: "%-d %b"},
					{Name: "On time", Percent: true, Decimals: digits(0)},
				},
				SQL: `SELECT s.due::date AS "Day", avg((s.left_at <= s.due + make_interval(mins => :tolerance::int))::int) AS "On time", count(*) AS "Sailings"
FROM sailings s WHERE s.due >= :from AND s.due < :to + 1 AND s.left_at IS NOT NULL GROUP BY 1 ORDER BY 1`,
			},
			{
				Name: "By route", Title: "Punctuality by route", Key: []string{"Route"},
				Columns: []job.Column{
					{Name: "Sailings", Total: job.TotalSum},
					{Name: "Cancelled", Total: job.TotalSum, Emphasis: when(`cell("Cancelled") > 10`, job.MarkWarning)},
					{Name: "Left on time", Total: job.TotalSum},
					{
						Name: "On time", Percent: true, Decimals: digits(1),
						Emphasis: []job.Emphasis{
							{If: `cell("On time") < 0.8`, As: job.MarkBad},
							{If: `cell("On time") >= 0.95`, As: job.MarkGood},
						},
					},
					{Name: "Mean delay", Unit: "min", Decimals: digits(1)},
				},
				SQL: `SELECT r.name AS "Route", count(*) AS "Sailings", count(s.cancelled) AS "Cancelled",
  count(*) FILTER (WHERE s.left_at <= s.due + make_interval(mins => :tolerance::int)) AS "Left on time",
  avg((s.left_at <= s.due + make_interval(mins => :tolerance::int))::int) AS "On time",
  avg(extract(epoch FROM s.left_at - s.due) / 60) AS "Mean delay"
FROM sailings s JOIN routes r ON r.id = s.route_id
WHERE s.due >= :from AND s.due < :to + 1
GROUP BY r.id, r.name ORDER BY r.id`,
			},
		},
	}},
	{"Port day sheet", "mara", job.ReportDefinition{
		Title: "Port day sheet, {value.day}", Source: "tarnwick",
		Parameters: append([]job.Parameter{somePorts}, oneDay...),
		Sections: []job.Section{
			{
				Name: "By port", Key: []string{"Port"},
				Columns: []job.Column{
					{Name: "Departures", Total: job.TotalSum},
					{Name: "Cancelled", Total: job.TotalSum, Emphasis: when(`cell("Cancelled") > 0`, job.MarkWarning)},
					{Name: "Passengers", Total: job.TotalSum},
					{Name: "Cars", Total: job.TotalSum},
					{Name: "Freight", Unit: "m", Decimals: digits(1), Total: job.TotalSum},
				},
				SQL: `SELECT p.name AS "Port", count(*) AS "Departures", count(s.cancelled) AS "Cancelled",
  coalesce(sum(l.passengers), 0) AS "Passengers", coalesce(sum(l.cars), 0) AS "Cars", coalesce(sum(l.freight_metres), 0) AS "Freight"
FROM sailings s JOIN routes r ON r.id = s.route_id JOIN ports p ON p.code = r.from_port LEFT JOIN loads l ON l.sailing_id = s.id
WHERE s.due >= :day AND s.due < :day + 1 AND p.code IN (:port) GROUP BY p.name ORDER BY p.name`,
			},
			{
				Name: "Sailings", Group: []string{"Port"}, Key: []string{"Number"},
				Columns: []job.Column{
					{Name: "Number", Ungrouped: true},
					{Name: "Due", Date: "%H:%M"},
					{Name: "Left", Date: "%H:%M", Emphasis: when(`cell("Late") == true`, job.MarkBad)},
					{Name: "Arrived", Date: "%H:%M"},
					{Name: "Late", Hidden: true},
					{Name: "Passengers", Total: job.TotalSum},
					{Name: "Cars", Total: job.TotalSum},
					{Name: "Freight", Unit: "m", Decimals: digits(1), Total: job.TotalSum},
					{Name: "Cancelled for", Emphasis: when(`cell("Cancelled for") != ""`, job.MarkWarning)},
				},
				SQL: `SELECT p.name AS "Port", s.id AS "Number", s.due AS "Due", s.left_at AS "Left", s.arrived_at AS "Arrived", r.name AS "Route", v.name AS "Vessel",
  l.passengers AS "Passengers", l.cars AS "Cars", l.freight_metres AS "Freight", s.cancelled AS "Cancelled for", s.left_at > s.due + interval '5 minutes' AS "Late"
FROM sailings s JOIN routes r ON r.id = s.route_id JOIN ports p ON p.code = r.from_port JOIN vessels v ON v.id = s.vessel_id LEFT JOIN loads l ON l.sailing_id = s.id
WHERE s.due >= :day AND s.due < :day + 1 AND p.code IN (:port) ORDER BY p.name, s.due`,
			},
		},
	}},
	{"Vehicle-deck load", "mara", job.ReportDefinition{
		Title: "Vehicle-deck load, {value.from} to {value.to}", Source: "tarnwick",
		Schedulers: []string{"under:Managing director"},
		Parameters: append([]job.Parameter{somePorts}, fromTo...),
		Sections: []job.Section{
			{
				Name: "Freight by weekday", Kind: job.SectionChart,
				Chart: &job.Chart{Form: job.ChartStacked, Series: []string{"Metres"}, Split: "Port"},
				Columns: []job.Column{
					{Name: "Day", Date: "%a %-d %b"},
					{Name: "Metres", Unit: "m", Decimals: digits(0)},
				},
				SQL: `SELECT s.due::date AS "Day", p.name AS "Port", sum(l.freight_metres) AS "Metres"
FROM sailings s JOIN loads l ON l.sailing_id = s.id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.code = r.from_port
WHERE s.due >= :from AND s.due < :to + 1 AND p.code IN (:port) GROUP BY 1, 2 ORDER BY 1, 2`,
			},
			{
				Name: "By port and route", Group: []string{"Port"}, Key: []string{"Port", "Route"},
				Columns: []job.Column{
					{Name: "Sailings", Total: job.TotalSum},
					{Name: "Cars", Total: job.TotalSum},
					{Name: "Freight", Unit: "m", Decimals: digits(0), Total: job.TotalSum},
					{
						Name: "Deck used", Percent: true, Decimals: digits(0), Total: job.TotalMean,
						Emphasis: []job.Emphasis{
							{If: `cell("Deck used") > 0.9`, As: job.MarkBad},
							{If: `cell("Deck used") < 0.2`, As: job.MarkFaint},
						},
					},
				},
				SQL: `SELECT p.name AS "Port", r.name AS "Route", count(*) AS "Sailings", sum(l.cars) AS "Cars", sum(l.freight_metres) AS "Freight",
  avg((l.freight_metres + 4.5 * l.cars) / v.lane_metres) AS "Deck used"
FROM sailings s JOIN loads l ON l.sailing_id = s.id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.code = r.from_port JOIN vessels v ON v.id = s.vessel_id
WHERE s.due >= :from AND s.due < :to + 1 AND p.code IN (:port) GROUP BY p.name, r.id, r.name ORDER BY p.name, r.id`,
				Detail: &job.Detail{
					Title: "Sailings behind the deck load", Key: []string{"Number"},
					Columns: []job.Column{
						{Name: "Number", Ungrouped: true},
						{Name: "Freight", Unit: "m"},
						{Name: "Deck used", Percent: true, Decimals: digits(0)},
					},
					SQL: `SELECT s.id AS "Number", s.due AS "Due", p.name AS "Port", r.name AS "Route", v.name AS "Vessel", l.cars AS "Cars", l.freight_metres AS "Freight",
  round((l.freight_metres + 4.5 * l.cars) / v.lane_metres, 4) AS "Deck used"
FROM sailings s JOIN loads l ON l.sailing_id = s.id JOIN routes r ON r.id = s.route_id JOIN ports p ON p.code = r.from_port JOIN vessels v ON v.id = s.vessel_id
WHERE s.due >= :from AND s.due < :to + 1 AND p.code IN (:port) ORDER BY s.due, s.id`,
				},
			},
			{
				Name: "How to read it", Kind: job.SectionText,
				Text: "A car takes 4.5 metres of a lane. Deck used is the part of all lane metres that cars and " +
					"freight took, as the mean of all sailings of {value.from} to {value.to}. Above 90 % the next " +
					"booking is refused at the quay.",
			},
		},
	}},
	{fuelReport, "joren", job.ReportDefinition{
		Title: "Fuel burn by vessel, {value.from} to {value.to}", Source: "tarnwick", Parameters: fromTo,
		Sections: []job.Section{
			{
				Name: "Litres a sailing", Kind: job.SectionChart,
				Chart: &job.Chart{Form: job.ChartLine, Series: []string{"Litres a sailing"}, Split: "Vessel"},
				Columns: []job.Column{
					{Name: "Week from", Date: "%-d %b"},
					{Name: "Litres a sailing", Unit: "l", Decimals: digits(1)},
				},
				SQL: `SELECT date_trunc('week', s.due)::date AS "Week from", v.name AS "Vessel", sum(f.litres) / count(*) AS "Litres a sailing"
FROM fuel f JOIN sailings s ON s.id = f.sailing_id JOIN vessels v ON v.id = s.vessel_id
WHERE s.due >= :from AND s.due < :to + 1 GROUP BY 1, v.name ORDER BY 1, v.name`,
			},
			{
				Name: "Fuel by week", Group: []string{"Vessel"}, Key: []string{"Vessel", "Week from"},
				Columns: []job.Column{
					{Name: "Sailings", Total: job.TotalSum},
					{Name: "Litres", Decimals: digits(0), Total: job.TotalSum},
					{Name: "Litres a sailing", Decimals: digits(1)},
				},
				SQL: `SELECT v.name AS "Vessel", date_trunc('week', s.due)::date AS "Week from", count(*) AS "Sailings", sum(f.litres) AS "Litres",
  round(sum(f.litres) / count(*), 1) AS "Litres a sailing"
FROM fuel f JOIN sailings s ON s.id = f.sailing_id JOIN vessels v ON v.id = s.vessel_id
WHERE s.due >= :from AND s.due < :to + 1 GROUP BY v.name, 2 ORDER BY v.name, 2`,
			},
		},
	}},
	{"Crew rest breaches", "ilse", job.ReportDefinition{
		Source: "tarnwick",
		Parameters: append([]job.Parameter{{
			Name: "hours", Label: "Hours of rest at least", Type: job.TypeNumber, Required: true, Default: 10.0,
		}}, oneDay...),
		Sections: []job.Section{{
			Name: "Too little rest",
			SQL: `SELECT c.name AS "Name", c.rank AS "Rank", v.name AS "Vessel", d.day AS "Day", d.rest_hours AS "Hours of rest"
FROM crew_duty d JOIN crew c ON c.id = d.crew_id JOIN vessels v ON v.id = c.vessel_id
WHERE d.day = :day AND d.rest_hours < :hours ORDER BY d.rest_hours`,
		}},
	}},
	{"Open defects", "joren", job.ReportDefinition{
		Source: "tarnwick",
		Sections: []job.Section{{
			Name: "Open defects",
			Columns: []job.Column{
				{Name: "Critical", Emphasis: when(`cell("Critical")`, job.MarkBad)},
				{Name: "Days open", Emphasis: when(`cell("Days open") > 60`, job.MarkWarning)},
			},
			SQL: `SELECT v.name AS "Vessel", d.found AS "Found", current_date - d.found AS "Days open", d.critical AS "Critical", d.what AS "Defect"
FROM defects d JOIN vessels v ON v.id = d.vessel_id WHERE d.closed IS NULL ORDER BY d.critical DESC, d.found`,
		}},
	}},
	{"Passenger manifest file", "mara", job.ReportDefinition{
		Source: "tarnwick", Parameters: oneDay,
		Sections: []job.Section{{
			Name: "Manifest", Key: []string{"sailing"},
			SQL: `SELECT s.id AS sailing, r.from_port, r.to_port, to_char(s.due, 'YYYY-MM-DD HH24:MI') AS due, v.name AS vessel, l.passengers
FROM sailings s JOIN routes r ON r.id = s.route_id JOIN vessels v ON v.id = s.vessel_id JOIN loads l ON l.sailing_id = s.id
WHERE s.due >= :day AND s.due < :day + 1 ORDER BY s.due, s.id`,
		}},
	}},
}
