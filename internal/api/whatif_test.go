package api

import (
	"testing"
	"time"

	"ironbell/internal/core/forecast"
	"ironbell/internal/core/job"
	"ironbell/internal/service"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A clash that ends is one of the jobs as they are, of which there may be more than there will be.
func TestAClashThatEndsNamesTheJobsAsTheyAre(t *testing.T) {
	board, sheet := job.Job{ID: 1, Name: "Quay board"}, job.Job{ID: 2, Name: "Day sheet"}
	w := service.WhatIf{Was: service.Foreseen{Jobs: []job.Job{board, sheet}}, Will: service.Foreseen{Jobs: []job.Job{sheet}}}
	w.Clashes = []forecast.ClashChange{
		{Clash: forecast.Clash{Most: 2, Entries: []int{0, 1}}, Was: 2, Ends: true},
		{Clash: forecast.Clash{Most: 3, Entries: []int{0}}, Was: 2},
	}
	out := whatIfOf(w, time.UTC, 1)
	require.Len(t, out.Clashes, 2)
	assert.Equal(t, []string{"Quay board", "Day sheet"}, out.Clashes[0].Jobs)
	assert.Equal(t, []string{"Day sheet"}, out.Clashes[1].Jobs)
	assert.Equal(t, []string{"ends", "worse"}, []string{out.Clashes[0].What, out.Clashes[1].What})
}
