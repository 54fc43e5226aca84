package civil_test

import (
	"testing"
	"time"

	"ironbell/internal/core/civil"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestDatesAgreeWithTheStandardLibrary(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		serial := rapid.Int64Range(-800_000, 2_900_000).Draw(t, "serial")
		want := time.Unix(serial*86400, 0).UTC()
		y, m, d := civil.Date(serial)
		if y != want.Year() || m != int(want.Month()) || d != want.Day() {
			t.Fatalf("day %d is %d-%d-%d, expected %s", serial, y, m, d, want.Format(time.DateOnly))
		}
		if civil.Serial(y, m, d) != serial {
			t.Fatalf("%d-%d-%d is not day %d again", y, m, d, serial)
		}
		if civil.Weekday(serial) != int(want.Weekday()) {
			t.Fatalf("day %d is weekday %d", serial, civil.Weekday(serial))
		}
		if length := time.Date(y, time.Month(m)+1, 0, 0, 0, 0, 0, time.UTC).Day(); length != civil.Length(y, m) {
			t.Fatalf("%d-%d has %d days", y, m, length)
		}
	})
}

func TestSets(t *testing.T) {
	m := civil.Mask(1<<3 | 1<<10 | 1<<31)
	assert.Equal(t, []int{3, 31, 3}, []int{m.First(), m.Last(), m.Count()})
	assert.Equal(t, []int{3, 10, 31, 0, 0}, []int{m.Nth(1), m.Nth(2), m.Nth(3), m.Nth(4), m.Nth(0)})
	assert.Equal(t, []int{31, 10, 3, 0}, []int{m.Nth(-1), m.Nth(-2), m.Nth(-3), m.Nth(-4)})
	assert.Equal(t, civil.Mask(1<<10|1<<31), m.From(4))
	assert.Equal(t, civil.Mask(1<<3), m.Before(10))
	for length := 28; length <= 31; length++ {
		assert.Equal(t, civil.Mask(1<<length|1<<(length-2)), civil.FromEnd(1<<1|1<<3, length), length)
		assert.Equal(t, civil.Mask(1<<1), civil.FromEnd(1<<length, length), length)
	}
	assert.Zero(t, civil.FromEnd(1<<31, 30), "a month of 30 days has no 31st from the end")
	november := civil.Weekday(civil.Serial(2026, 11, 1)) // a Sunday
	assert.Equal(t, civil.Mask(1<<2|1<<9|1<<16|1<<23|1<<30), civil.Spread(1<<1, november)&civil.Month(2026, 11))
}
