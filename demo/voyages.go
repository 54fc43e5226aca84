package demo

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"
)

// weather makes a reading every six hours; storms come in winter.
func weather(r *rand.Rand, start time.Time) [][]any {
	rows := make([][]any, 0, Days*4)
	wind := 14.0
	for i := range Days * 4 {
		at := start.Add(time.Duration(i) * 6 * time.Hour)
		season := 9 + 7*math.Cos(2*math.Pi*float64(at.YearDay()-15)/365)
		wind = math.Max(2, wind+0.35*(season-wind)+r.NormFloat64()*4.5)
		rows = append(rows,
			[]any{
				at, tenth(wind), tenth(math.Max(0.1, wind*0.09+r.NormFloat64()*0.2)),
				math.Round((2.4+1.6*math.Sin(float64(i)*math.Pi/2.07)+r.NormFloat64()*0.05)*100) / 100,
			})
	}
	return rows
}

func tenth(f float64) float64 { return math.Round(f*10) / 10 }

// voyages makes the sailings of all days, with what they carried and burned.
func voyages(r *rand.Rand, start time.Time, sea [][]any) (sailings, loads, fuel [][]any) {
	id := 0
	for day := range Days {
		date := start.AddDate(0, 0, day)
		summer := date.Month() >= time.April && date.Month() <= time.September
		for n, rt := range routes {
			trips := rt.daily
			if !summer {
				trips = rt.daily * 9 / 10
			}
			for trip := range trips {
				id++
				due := time.Date(date.Year(), date.Month(), date.Day(), 5, 40+n*5, 0, 0,
					date.Location()).Add(time.Duration(trip*16*60/trips) * time.Minute)
				wind, _ := sea[min(day*4+due.Hour()/6, len(sea)-1)][1].(float64) // made so above
				vessel := (n*3+trip)%len(vessels) + 1
				if wind > 30 && r.Float64() < 0.75 || r.Float64() < 0.004 {
					reason := "engine"
					if wind > 30 {
						reason = "wind"
					}
					sailings = append(sailings, []any{id, n + 1, vessel, due, nil, nil, reason})
					continue
				}
				late := time.Duration(math.Max(-1,
					r.ExpFloat64()*2.2+(wind-14)*0.12) * float64(time.Minute)).Truncate(time.Second)
				left := due.Add(late)
				arrived := left.Add(time.Duration(rt.minutes)*time.Minute +
					time.Duration((wind-12)*6+r.NormFloat64()*70)*time.Second)
				sailings = append(sailings, []any{id, n + 1, vessel, due, left, arrived, nil})
				v := vessels[vessel-1]
				fill := math.Min(1,
					math.Max(0.05,
						0.32+0.25*r.NormFloat64()*0.6+map[bool]float64{true: 0.22, false: 0}[summer]+
							map[bool]float64{true: 0.12, false: 0}[due.Weekday() == time.Friday]))
				loads = append(loads,
					[]any{
						id, int(float64(v.passengers) * fill), int(float64(v.lane) * fill / 5.2),
						tenth(float64(v.lane) * fill * 0.3),
					})
				fuel = append(fuel,
					[]any{
						id,
						tenth(float64(rt.minutes) * (6 + float64(v.lane)/28) * (1 + wind/120) * (1 +
							r.NormFloat64()*0.04)),
					})
			}
		}
	}
	return sailings, loads, fuel
}

var givenNames = []string{
	"Aldan", "Brisa", "Corin", "Delwen", "Eskil", "Fenna", "Garrow", "Hesper", "Ivo", "Jessamy",
	"Kerrin", "Lowen",
}

var familyNames = []string{"Askrigg", "Bellow", "Carrow", "Dunmoor", "Eastray", "Farrish", "Gaunt", "Hollin"}

// crews makes the crew of each vessel and their duties. Rest below ten hours is
// rare, and there is none in the last days, so that the watch on it stays blank.
func crews(r *rand.Rand, start time.Time) (crew, duty [][]any) {
	ranks := []string{"master", "mate", "engineer", "deckhand", "deckhand"}
	id := 0
	for v := range vessels {
		for i := range 10 {
			id++
			crew = append(crew,
				[]any{
					id, givenNames[(id*5)%len(givenNames)] + " " + familyNames[(id*3)%len(familyNames)],
					ranks[i%len(ranks)], v + 1,
				})
			for day := range Days {
				if (day+id)%4 == 3 {
					continue // a day off
				}
				date := start.AddDate(0, 0, day)
				began := time.Date(date.Year(), date.Month(), date.Day(), 5, r.IntN(40), 0, 0, date.Location())
				rest := tenth(11 + r.Float64()*3)
				if r.Float64() < 0.0015 && day < Days-5 {
					rest = tenth(7 + r.Float64()*2.8)
				}
				duty = append(duty,
					[]any{id, date, began, began.Add(time.Duration(8*60+r.IntN(150)) * time.Minute), rest})
			}
		}
	}
	return crew, duty
}

// upkeep makes inspections and what they found.
func upkeep(r *rand.Rand, start time.Time) (inspections, defects [][]any) {
	for day := range Days {
		date := start.AddDate(0, 0, day)
		for v := range vessels {
			if (day+v*5)%14 == 0 {
				inspections = append(inspections,
					[]any{
						len(inspections) + 1, v + 1, date, fmt.Sprintf("%s %s", givenNames[v], familyNames[v]),
						r.Float64() > 0.06,
					})
			}
			if r.Float64() < 0.05 {
				var closed any
				if end := day + 3 + r.IntN(45); end < Days {
					closed = start.AddDate(0, 0, end)
				}
				defects = append(defects,
					[]any{
						len(defects) + 1, v + 1, date, closed, r.Float64() < 0.05,
						defectTexts[r.IntN(len(defectTexts))],
					})
			}
		}
	}
	return inspections, defects
}
