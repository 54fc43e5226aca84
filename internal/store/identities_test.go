package store_test

import (
	"context"
	"testing"

	"ironbell/internal/store/db"
	"ironbell/internal/store/records"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestIdentitiesBelongToTheirSource(t *testing.T) {
	s, _ := fresh(t)
	ctx := context.Background()
	for _, source := range []string{"tarnwick", "tides"} {
		_, err := s.PutPlace(ctx, records.Source, records.Place{
			Name: source, Protocol: "postgres", Settings: []byte(`{}`),
		})
		require.NoError(t, err)
	}
	put := func(i records.Identity) {
		require.NoError(t, s.PutIdentity(ctx, i))
	}
	put(records.Identity{
		Source: "tarnwick", Name: "Pennold", Login: "tarnwick_pe", Secret: []byte("sealed"), Choosers: []string{"mara"},
	})
	put(records.Identity{Source: "tarnwick", Name: "Ellerhaven", Login: "tarnwick_eh"})
	put(records.Identity{Source: "tides", Name: "Pennold", Login: "other"})
	list, err := s.Identities(ctx, "tarnwick")
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, []string{"Ellerhaven", "Pennold"}, []string{list[0].Name, list[1].Name})
	assert.Equal(t, []string{"mara"}, list[1].Choosers)
	before := list[1].UpdatedAt
	put(records.Identity{Source: "tarnwick", Name: "Pennold", Login: "tarnwick_pe2"})
	one, err := s.Identity(ctx, "tarnwick", "Pennold")
	require.NoError(t, err)
	assert.Equal(t, "tarnwick_pe2", one.Login)
	assert.Equal(t, []byte("sealed"), one.Secret, "no new password keeps the one that is there")
	assert.Empty(t, one.Choosers)
	assert.True(t, one.UpdatedAt.After(before), "an open pool is opened anew")
	_, err = s.Identity(ctx, "tides", "Ellerhaven")
	var missing *db.NotFound
	require.ErrorAs(t, err, &missing)
}
