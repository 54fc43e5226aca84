package demo

import (
	"context"
	_ "embed"
	"fmt"

	"ironbell/client"
	"ironbell/internal/core/job"
)

//go:embed house.svg
var logo []byte

// dress lets all that leaves the house look like the company's.
func dress(ctx context.Context, c *client.Client) error {
	f, err := c.AddHouseFile(ctx, "tarnwick-sound.svg", logo)
	if err == nil {
		_, err = c.SaveHouse(ctx, job.HouseStyles{Styles: []job.HouseStyle{{
			Name: "Tarnwick Sound Ferries", Logo: f.ID, Accent: "#0f4c75", Ink: "#1b262c", Series: []string{"#0f4c75", "#d9822b", "#5b8c6a"},
			Footer: "Tarnwick Sound Ferries, Quay House, Tarnwick", Legal: "Times are those of the harbour clock at Tarnwick Quay.",
		}}})
	}
	if err != nil {
		return fmt.Errorf("dress what leaves the house: %w", err)
	}
	return nil
}
