package forecast_test

import (
	"testing"

	"ironbell/internal/core/forecast"

	"github.com/stretchr/testify/assert"
)

func TestDaysThatComeIntoNoReportOrIntoSeveral(t *testing.T) {
	day := func(d int64) forecast.Span { return forecast.Span{From: d, To: d} }
	weeks := func(length int64, starts ...int64) (all []forecast.Span) {
		for _, s := range starts {
			all = append(all, forecast.Span{From: s, To: s + length - 1})
		}
		return all
	}
	for name, c := range map[string]struct {
		spans           []forecast.Span
		missed, several []int64
	}{
		"the day before, Monday to Friday": {[]forecast.Span{day(3), day(4), day(7), day(8)}, []int64{5, 6}, nil},
		"each day once":                    {weeks(7, 0, 7, 14), nil, nil},
		"a day too much each week":         {weeks(8, 0, 7, 14), nil, []int64{7, 14}},
		"eight weeks, every two":           {weeks(56, 0, 14, 28, 42), nil, nil},
		"nothing":                          {nil, nil, nil},
		"turned round":                     {[]forecast.Span{{From: 5, To: 4}}, nil, nil},
	} {
		missed, several := forecast.Covered(c.spans)
		assert.Equal(t, c.missed, missed, name)
		assert.Equal(t, c.several, several, name)
	}
}
