// Package wire holds the bodies that go over the API, for the service and its
// client alike. They are data only.
package wire

// ReaderZone is the header of an answer that names the time zone, of the zone
// database, in which the person who asked reads times.
const ReaderZone = "Reader-Zone"

// Version is which version of the service answers.
type Version struct {
	Version string `json:"version" doc:"such as 2026.12.02.1430+a9c4426"`
}
